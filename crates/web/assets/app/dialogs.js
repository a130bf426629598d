// Dialogs that the server draws and that stand by themselves until they are closed.

import { drawn } from './parts.js';

/** The dialog at `path`, open; a button with `data-act` does what `acts` has under that name. */
export async function dialogAt(path, acts = {}) {
  const dialog = (await drawn(path)).querySelector('dialog');
  dialog.addEventListener('click', ({ target }) => {
    const button = target.closest('[data-act]');
    if (!button) return;
    if (button.dataset.act === 'close') dialog.close();
    else acts[button.dataset.act]?.(button);
  });
  dialog.addEventListener('close', () => dialog.remove());
  dialog.addEventListener('keydown', (e) => e.stopPropagation());
  document.body.append(dialog);
  dialog.showModal();
  return dialog;
}
