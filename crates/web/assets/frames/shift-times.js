// Capture times that were wrong are shifted: by so much, or so that one frame's time becomes the right one.

import { ask, json, say } from '../app/api.js';
import { forget, targets, view } from './desk.js';
import { openDialog } from './dialog.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

export async function shift() {
  const ids = targets();
  if (!ids.length) return;
  const dialog = await openDialog(
    '/frames/dialogs/shift',
    {
      go: async () => {
        const millis = Number($('shifted').querySelector('[data-millis]')?.dataset.millis ?? 0);
        if (!millis) {
          say(phrase('frames-nothing-would-be-moved'));
          return false;
        }
        await json('POST', '/api/change', { ids, change: { do: 'shift', millis } });
        forget(ids);
        view();
        return true;
      },
    },
    { ids },
  );
  if (!dialog) return;
  const parts = [...dialog.querySelectorAll('[data-seconds]')];
  const sign = dialog.querySelector('select');
  async function show(asked) {
    try {
      $('shifted').innerHTML = await (await ask('POST', '/frames/dialogs/shifted', { ids, ...asked })).text();
      $('shifted').classList.remove('is-wrong');
    } catch (e) {
      $('shifted').textContent = e.message;
      $('shifted').classList.add('is-wrong');
    }
  }
  const byParts = () => {
    const seconds = parts.reduce((sum, part) => sum + Number(part.value || 0) * Number(part.dataset.seconds), 0);
    show({ millis: Math.round(Number(sign.value) * seconds * 1000) });
  };
  for (const part of parts) part.oninput = byParts;
  sign.onchange = byParts;
  $('becomes').oninput = () => show({ frame: ids[0], becomes: $('becomes').value });
  byParts();
}
