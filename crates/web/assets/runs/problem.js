// Something to be said before a run, with ways to mend it.

import { el } from '../app/api.js';
import { phrase } from '../app/words.js';

/** What it says; `mend(way)` is called when one of its ways is chosen. */
export function problem(p, mend) {
  const ways = p.mends.map((m) =>
    el('button', { type: 'button', class: 'btn btn-sm btn-outline-dark', onclick: () => mend(m) }, m.label),
  );
  return el(
    'div',
    { class: p.stops ? 'fail' : 'fail is-mild' },
    el('b', {}, p.stops ? phrase('runs-before-it-can-start') : phrase('runs-good-to-know')),
    ' ',
    p.message,
    ...(ways.length ? [el('span', { class: 'mends' }, ...ways)] : []),
  );
}
