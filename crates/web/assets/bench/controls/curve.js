// The curve's plot: points that are dragged, added and taken away, over the histogram of what is shown.

import { svg } from '../../app/api.js';
import { phrase } from '../../app/words.js';

const W = 270;
const H = 150;
const round = (v) => Math.round(v * 1000) / 1000;

/** Slopes of the monotone cubic (Fritsch and Carlson), as the engine computes it. */
function slopes(p) {
  const n = p.length;
  const run = (i) => p[i + 1][0] - p[i][0];
  const secant = (i) => (p[i + 1][1] - p[i][1]) / run(i);
  if (n === 2) return [secant(0), secant(0)];
  const m = p.map((_, i) => {
    if (i === 0 || i === n - 1) return 0;
    const [a, b] = [secant(i - 1), secant(i)];
    if (a * b <= 0) return 0;
    const [w0, w1] = [2 * run(i) + run(i - 1), run(i) + 2 * run(i - 1)];
    return (w0 + w1) / (w0 / a + w1 / b);
  });
  const end = (h0, h1, s0, s1) => {
    const s = ((2 * h0 + h1) * s0 - h0 * s1) / (h0 + h1);
    if (s * s0 <= 0) return 0;
    return s0 * s1 <= 0 && Math.abs(s) > 3 * Math.abs(s0) ? 3 * s0 : s;
  };
  m[0] = end(run(0), run(1), secant(0), secant(1));
  m[n - 1] = end(run(n - 2), run(n - 3), secant(n - 2), secant(n - 3));
  return m;
}

function path(p) {
  const m = slopes(p);
  const at = (x, y) => `${(x * W).toFixed(1)} ${((1 - y) * H).toFixed(1)}`;
  let d = `M${at(0, p[0][1])} L${at(...p[0])}`;
  for (let i = 0; i + 1 < p.length; i++) {
    const h = (p[i + 1][0] - p[i][0]) / 3;
    d += ` C${at(p[i][0] + h, p[i][1] + h * m[i])} ${at(p[i + 1][0] - h, p[i + 1][1] - h * m[i + 1])} ${at(...p[i + 1])}`;
  }
  return `${d} L${at(1, p.at(-1)[1])}`;
}

/** What a plot of tones says of itself; `rest` is the line it has when it changes nothing. */
const TONES = {
  label: phrase('bench-curve-drag-points-double-click-to'),
  rest: `M0 ${H}L${W} 0`,
  spoken: ([x, y]) => phrase('bench-in-out', { x, y }),
};

/** Builds the plot for `points`; `change(points, done)` is told every move. */
export function curvePlot(points, histogram, change, told = TONES) {
  const p = points.map((q) => [...q]);
  const root = svg('svg', { class: 'curve', viewBox: `0 0 ${W} ${H}`, role: 'group', 'aria-label': told.label });
  if (histogram) root.append(svg('path', { d: histogram(W, H), fill: '#e4e0d7' }));
  root.append(svg('path', { d: `M67 0V${H}M135 0V${H}M203 0V${H}M0 37H${W}M0 75H${W}M0 112H${W}`, stroke: '#e0dbd0' }));
  root.append(svg('path', { d: told.rest, stroke: '#bbb5a9', 'stroke-dasharray': '3 4' }));
  const line = svg('path', { fill: 'none', stroke: '#23211e', 'stroke-width': 2 });
  const dots = svg('g', {});
  root.append(line, dots);
  const place = (e) => {
    const box = root.getBoundingClientRect();
    return [(e.clientX - box.left) / box.width, 1 - (e.clientY - box.top) / box.height];
  };
  const set = (i, x, y, done) => {
    const low = i ? p[i - 1][0] + 0.005 : 0;
    const high = i + 1 < p.length ? p[i + 1][0] - 0.005 : 1;
    p[i] = [round(Math.max(low, Math.min(high, x))), round(Math.max(0, Math.min(1, y)))];
    draw();
    change(p, done);
  };
  const drop = (i) => {
    if (p.length <= 2) return;
    p.splice(i, 1);
    draw();
    change(p, true);
  };
  function draw() {
    line.setAttribute('d', path(p));
    while (dots.children.length > p.length) dots.lastChild.remove();
    p.forEach((q, i) => {
      let dot = dots.children[i];
      if (!dot) {
        dot = svg('circle', {
          r: 5.5,
          fill: '#fff',
          stroke: '#14614e',
          'stroke-width': 2,
          tabindex: 0,
          role: 'slider',
        });
        dots.append(dot);
        dot.addEventListener('pointerdown', (e) => {
          e.preventDefault();
          e.stopPropagation();
          dot.setPointerCapture(e.pointerId);
          dot.focus();
          const move = (m) => set([...dots.children].indexOf(dot), ...place(m), false);
          dot.addEventListener('pointermove', move);
          dot.addEventListener(
            'pointerup',
            () => {
              dot.removeEventListener('pointermove', move);
              change(p, true);
            },
            { once: true },
          );
        });
        dot.addEventListener('keydown', (e) => {
          const k = [...dots.children].indexOf(dot);
          const by = { ArrowUp: [0, 0.01], ArrowDown: [0, -0.01], ArrowLeft: [-0.01, 0], ArrowRight: [0.01, 0] }[e.key];
          if (by) set(k, p[k][0] + by[0], p[k][1] + by[1], true);
          else if (e.key === 'Delete' || e.key === 'Backspace') drop(k);
          else return;
          e.preventDefault();
          e.stopPropagation();
        });
        dot.addEventListener('dblclick', (e) => {
          e.stopPropagation();
          drop([...dots.children].indexOf(dot));
        });
      }
      dot.setAttribute('cx', q[0] * W);
      dot.setAttribute('cy', (1 - q[1]) * H);
      dot.setAttribute('aria-label', phrase('bench-point', { i: i + 1 }));
      dot.setAttribute('aria-valuetext', told.spoken(q));
    });
  }
  root.addEventListener('dblclick', (e) => {
    const [x, y] = place(e);
    const i = p.findIndex((q) => q[0] > x);
    if (p.length >= 32 || p.some((q) => Math.abs(q[0] - x) < 0.02)) return;
    p.splice(i < 0 ? p.length : i, 0, [round(x), round(Math.max(0, Math.min(1, y)))]);
    draw();
    change(p, true);
  });
  draw();
  return root;
}
