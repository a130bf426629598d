// A dialog over the frames: the server draws it, its buttons do what the page says.

import { say } from '../app/api.js';
import { drawn } from '../app/parts.js';
import { showShares } from '../runs/shares.js';

const $ = (id) => document.getElementById(id);

/** A dialog that moves is asked for again after so many milliseconds. */
const AGAIN = 400;

/** Shows a dialog that the server has drawn; `acts` as below. */
export function showDialog(fresh, acts) {
  const dialog = $('paper');
  dialog.replaceChildren(...fresh.childNodes);
  dialog.setAttribute('aria-label', dialog.querySelector('h2').textContent);
  showShares(dialog);
  dialog.onclick = async (e) => {
    const button = e.target.closest('[data-act]');
    if (!button) return;
    if (button.dataset.act === 'close') {
      dialog.close();
      return;
    }
    try {
      if ((await acts[button.dataset.act](button, dialog)) !== false) dialog.close();
    } catch (error) {
      say(error.message);
    }
  };
  if (!dialog.open) dialog.showModal();
  (dialog.querySelector('[autofocus]') ?? dialog.querySelector('input, select, button')).focus();
  return dialog;
}

/**
 * Shows the dialog at `path`. A button with `data-act` does what `acts` has under that name, told the button and the dialog; the
 * dialog is closed after that unless it gives false. A dialog with something that moves is looked at again until that is over.
 */
export async function openDialog(path, acts = {}, body) {
  const dialog = $('paper');
  // Open at once: what is typed meanwhile is not for the frames behind it.
  if (!dialog.open) {
    dialog.replaceChildren();
    dialog.showModal();
  }
  try {
    const fresh = await drawn(path, body);
    // Closed while it came.
    if (!dialog.open) return null;
    showDialog(fresh, acts);
  } catch (e) {
    say(e.message);
    dialog.close();
    return null;
  }
  if (dialog.querySelector('[data-again]'))
    setTimeout(() => {
      if (dialog.open && dialog.querySelector('[data-again]')) openDialog(path, acts);
    }, AGAIN);
  return dialog;
}
