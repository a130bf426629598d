// A factor that changes over a sequence, such as a clip's speed: a curve over its frames, from a tenth to ten times.

import { el } from '../../app/api.js';
import { curvePlot } from './curve.js';
import { phrase } from '../../app/words.js';

const round = (v) => Math.round(v * 100) / 100;
/** Half the height is factor one, the top ten times, the bottom a tenth. */
const height = (factor) => (1 + Math.log10(factor)) / 2;
const factor = (y) => Math.max(0.1, Math.min(10, round(10 ** (2 * y - 1))));
const begin = [
  [0, 1],
  [0.5, 2],
  [1, 1],
];

/** The plot of `param`, whose marks are `[at, factor]`; `put` is told them. */
export function coursePlot(param, marks, put) {
  const act = (label, to) =>
    el('button', { type: 'button', class: 'btn btn-sm btn-outline-dark', onclick: () => put(to, true) }, label);
  const name = el('span', { title: param.about }, param.name);
  if (!marks.length) return el('div', { class: 'shape' }, name, act(phrase('bench-let-it-change-on-the-way'), begin));
  const said = el('small', {});
  const tell = (all) => {
    said.textContent = all.map(([at, f]) => `${Math.round(at * 100)} %: ${f} ×`).join(', ');
  };
  tell(marks);
  const plot = curvePlot(
    marks.map(([at, f]) => [at, height(f)]),
    null,
    (points, done) => {
      const now = points.map(([at, y]) => [at, factor(y)]);
      tell(now);
      put(now, done);
    },
    {
      label: phrase('bench-drag-points-double-click-to-add', { name: param.name }),
      rest: 'M0 75H270',
      spoken: ([at, y]) => phrase('bench-times-at-of-the-frames', { factor: factor(y), at: Math.round(at * 100) }),
    },
  );
  return el('div', {}, el('div', { class: 'shape' }, name, act(phrase('bench-the-same-all-the-way'), [])), plot, said);
}
