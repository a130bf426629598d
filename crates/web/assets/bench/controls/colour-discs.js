// Colour of shadows, midtones and highlights: which way it goes and how far, on a disc; how bright, on a bar beside it.

import { el, svg } from '../../app/api.js';
import { phrase } from '../../app/words.js';

/** Radius of the disc. */
const R = 38;
/** Where red, green and blue lie: a third of a turn from each other, red on top. */
const WAYS = [-90, 30, 150].map((a) => (a * Math.PI) / 180).map((a) => [Math.cos(a), Math.sin(a)]);
const NAMES = [phrase('bench-red'), phrase('bench-green'), phrase('bench-blue')];

/** Parameters that have a disc. */
export const hasDisc = (param) =>
  param.kind === 'triple' && ['shadows', 'midtones', 'highlights', 'lift', 'gamma', 'gain'].includes(param.name);

const mean = (v) => (v[0] + v[1] + v[2]) / 3;
/** How far a value may go from where it does nothing. */
const reach = (param) => Math.min(param.max - param.default[0], param.default[0] - param.min);

/** Where values lie on the disc, 1 being its rim. */
function place(param, value) {
  const m = mean(value);
  const at = [0, 1].map((k) => WAYS.reduce((sum, way, i) => sum + ((value[i] - m) * way[k] * 2) / 3, 0) / reach(param));
  const far = Math.hypot(...at);
  return far > 1 ? at.map((v) => v / far) : at;
}

/** Values at a place of the disc; what the three have in common stays. */
function values(param, value, at) {
  const far = Math.max(1, Math.hypot(...at));
  const m = mean(value);
  const notch = (v) => Math.round(Math.max(param.min, Math.min(param.max, v)) / param.step) * param.step;
  return WAYS.map(([x, y]) => Math.round(notch(m + ((at[0] * x + at[1] * y) / far) * reach(param)) * 1000) / 1000);
}

/** `now()` gives the values, `put(values, done)` writes them. */
export function disc(param, now, put) {
  const dot = svg('circle', {
    class: 'disc-dot',
    r: 5.5,
    tabindex: 0,
    role: 'slider',
    'aria-label': phrase('bench-colour-of', { name: param.name }),
  });
  const ring = svg(
    'g',
    {},
    svg('circle', { class: 'disc-face', r: R }),
    ...WAYS.map(([x, y]) => svg('path', { class: 'disc-way', d: `M0 0L${x * R} ${y * R}` })),
    ...WAYS.map(([x, y], i) => {
      const t = svg('text', { class: 'disc-name', x: x * (R + 7), y: y * (R + 7) + 3.5 });
      t.textContent = 'RGB'[i];
      return t;
    }),
  );
  const root = svg('svg', { class: 'disc', viewBox: '-50 -51 100 100' }, ring, dot);
  const lay = () => {
    const v = now();
    const [x, y] = place(param, v);
    dot.setAttribute('cx', x * R);
    dot.setAttribute('cy', y * R);
    dot.setAttribute('aria-valuetext', NAMES.map((n, i) => `${n} ${v[i]}`).join(', '));
  };
  const at = (e) => {
    const box = root.getBoundingClientRect();
    return [
      (((e.clientX - box.left) / box.width) * 100 - 50) / R,
      (((e.clientY - box.top) / box.height) * 100 - 51) / R,
    ];
  };
  const set = (to, done) => {
    put(values(param, now(), to), done);
    lay();
  };
  root.addEventListener('pointerdown', (e) => {
    e.preventDefault();
    root.setPointerCapture(e.pointerId);
    dot.focus();
    const move = (m) => set(at(m), false);
    set(at(e), false);
    root.addEventListener('pointermove', move);
    root.addEventListener(
      'pointerup',
      (m) => {
        root.removeEventListener('pointermove', move);
        set(at(m), true);
      },
      { once: true },
    );
  });
  const bright = ['lift', 'gamma', 'gain'].includes(param.name);
  const back = () => {
    const m = Math.round(mean(now()) * 1000) / 1000;
    put(bright ? [m, m, m] : [...param.default], true);
    lay();
  };
  root.addEventListener('dblclick', back);
  dot.addEventListener('keydown', (e) => {
    const by = { ArrowUp: [0, -1], ArrowDown: [0, 1], ArrowLeft: [-1, 0], ArrowRight: [1, 0] }[e.key];
    const step = e.shiftKey ? 0.15 : 0.03;
    if (by) {
      const p = place(param, now());
      set([p[0] + by[0] * step, p[1] + by[1] * step], true);
    } else if (e.key === 'Delete' || e.key === 'Backspace') back();
    else return;
    e.preventDefault();
    e.stopPropagation();
  });
  lay();
  const box = el(
    'div',
    {
      class: 'disc-box',
      title: phrase('bench-drag-or-use-the-arrow-keys', { about: param.about }),
    },
    root,
  );
  // What all three share: only where it changes anything.
  if (bright) {
    const bar = el('input', {
      type: 'range',
      class: 'disc-bar',
      min: param.min,
      max: param.max,
      step: param.step,
      value: mean(now()),
      'aria-label': phrase('bench-brightness-of', { name: param.name }),
    });
    const level = (done) => {
      const by = Number(bar.value) - mean(now());
      put(
        now().map((v) => Math.round(Math.max(param.min, Math.min(param.max, v + by)) * 1000) / 1000),
        done,
      );
      lay();
    };
    bar.addEventListener('input', () => level(false));
    bar.addEventListener('change', () => level(true));
    box.append(bar);
  }
  box.append(el('small', {}, param.name));
  return box;
}
