// Words that can be pressed like a button.

import { el } from '../app/api.js';

/** What a line of the list says: a list's line is no button itself. */
export function inside(item) {
  const there = item.querySelector(':scope > .words');
  if (there) return there;
  const words = el('div', { class: 'words' }, ...item.childNodes);
  item.append(words);
  return words;
}

/** Lets an element be pressed, by mouse and by keys. */
export function button(item, act, label) {
  if (item.getAttribute('role') === 'button') return;
  item.setAttribute('role', 'button');
  item.tabIndex = 0;
  item.title = label;
  item.addEventListener('click', act);
  item.addEventListener('keydown', (e) => {
    if (e.key === 'Enter' || e.key === ' ') {
      e.preventDefault();
      e.stopPropagation();
      act();
    }
  });
}
