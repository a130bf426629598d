// A slip of paper over the frames: a title, a body, and buttons.

import { el, say } from '../app/api.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** A slip with a title, a body and buttons; the first button is the way on. */
export function paper(title, body, buttons = []) {
  const dialog = $('paper');
  dialog.setAttribute('aria-label', title);
  $('paper-title').textContent = title;
  const foot = el(
    'div',
    { class: 'folder-foot' },
    el(
      'button',
      { class: 'btn btn-outline-secondary', type: 'button', onclick: () => dialog.close() },
      buttons.length ? phrase('frames-cancel') : phrase('any-close'),
    ),
    ...buttons.map(([label, run, id], i) =>
      el(
        'button',
        {
          class: i ? 'btn btn-outline-secondary' : 'btn btn-primary',
          type: 'button',
          id,
          onclick: async () => {
            try {
              if ((await run()) !== false) dialog.close();
            } catch (e) {
              say(e.message);
            }
          },
        },
        label,
      ),
    ),
  );
  $('paper-body').replaceChildren(...body, foot);
  if (!dialog.open) dialog.showModal();
}
