// Parts of a page that the server draws: what says something else is exchanged, the rest stays as it is.

import { ask } from './api.js';

const $ = (id) => document.getElementById(id);
/** What of the element itself may change. */
const OWN = ['hidden', 'aria-valuenow', 'data-pictures'];

/** Takes what a page was drawn with as what its parts say. */
export function begin(ids) {
  for (const id of ids) $(id).dataset.html = $(id).innerHTML;
}

/**
 * Lets an element say what a fresh one says; the element itself stays, and what is in it where it says the same. Whether it said
 * something else.
 */
export function follow(old, fresh) {
  for (const name of OWN) {
    if (fresh.hasAttribute(name)) old.setAttribute(name, fresh.getAttribute(name));
    else old.removeAttribute(name);
  }
  if (old.dataset.html === fresh.innerHTML) return false;
  old.dataset.html = fresh.innerHTML;
  const focused = old.contains(document.activeElement) ? document.activeElement : null;
  old.innerHTML = fresh.innerHTML;
  if (focused?.id) $(focused.id)?.focus();
  return true;
}

/** What the server answers at `path`, as an element; `body` is sent along where there is one. */
export async function drawn(path, body) {
  const answer = body ? await ask('POST', path, body) : await fetch(path);
  const text = await answer.text();
  if (!answer.ok) throw new Error(JSON.parse(text).detail);
  const fresh = document.createElement('div');
  fresh.innerHTML = text;
  return fresh;
}
