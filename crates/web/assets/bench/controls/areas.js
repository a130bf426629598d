// Areas of an opened line: their shapes, drawn on the picture and set by numbers.

import { el } from '../../app/api.js';
import { phrase } from '../../app/words.js';

export const SHAPES = {
  gradient: {
    label: phrase('bench-gradient'),
    fresh: { from: [0.5, 0.2], to: [0.5, 0.6] },
    draw: phrase('bench-drag-from-where-it-is-full'),
  },
  ellipse: {
    label: phrase('bench-ellipse'),
    fresh: { centre: [0.5, 0.5], radii: [0.25, 0.25], soft: 50 },
    draw: phrase('bench-drag-from-the-middle-outwards'),
  },
  brightness: { label: phrase('bench-range-of-brightness'), fresh: { low: 0, high: 40, soft: 10 } },
  colour: { label: phrase('bench-range-of-colour'), fresh: { hue: 120, width: 25, soft: 30 } },
  strokes: {
    label: phrase('bench-painted'),
    fresh: { strokes: [], soft: 50 },
    draw: phrase('bench-paint-over-the-picture-with-shift'),
  },
};
/** How a shape meets those before it, as a recipe says it, and how that is called. */
const COMBINED = { add: phrase('bench-add-to'), within: phrase('bench-within'), without: phrase('bench-without') };
const NUMBERS = {
  soft: [0, 100],
  turn: [-180, 180],
  low: [0, 100],
  high: [0, 100],
  hue: [0, 360],
  width: [0, 180],
};

let brush = 8;
export const list = (area) => (Array.isArray(area) ? area : area ? [area] : []);

/** Follows a gesture that draws a shape; `put(shape, done)` writes it. */
export function drawShape(shape, start, away, put, size) {
  const round = (v) => Math.round(v * 1000) / 1000;
  const at = (p) => p.map((v) => round(Math.max(-1, Math.min(2, v))));
  if (shape.kind === 'gradient') {
    return (p, done) => {
      if (Math.hypot(p[0] - start[0], p[1] - start[1]) > 0.01) put({ ...shape, from: at(start), to: at(p) }, done);
    };
  }
  if (shape.kind === 'ellipse') {
    return (p, done) =>
      put(
        {
          ...shape,
          centre: at(start),
          radii: [Math.max(0.01, round(Math.abs(p[0] - start[0]))), Math.max(0.01, round(Math.abs(p[1] - start[1])))],
        },
        done,
      );
  }
  const before = shape.strokes ?? [];
  const stroke = { points: [at(start)], width: brush, ...(away ? { erase: true } : {}) };
  return (p, done) => {
    const [x, y] = stroke.points.at(-1);
    // A point wherever the hand has moved by a three-hundredth of the picture.
    if (Math.hypot((p[0] - x) * size[0], (p[1] - y) * size[1]) > Math.max(...size) / 300) stroke.points.push(at(p));
    put({ ...shape, strokes: [...before, structuredClone(stroke)] }, done);
  };
}

export function shapeRow(shape, i, all, put, draw, drawing) {
  const change = (values, done = true) =>
    put(
      all.map((s, k) => (k === i ? { ...s, ...values } : s)),
      done,
    );
  const number = (name, min, max) => {
    const field = el('input', {
      type: 'number',
      class: 'short',
      min,
      max,
      step: 'any',
      value: shape[name] ?? SHAPES[shape.kind].fresh[name] ?? 0,
      'aria-label': phrase('bench-of-the', { name, kind: shape.kind }),
    });
    field.addEventListener('change', () => {
      const v = Number(field.value);
      if (Number.isFinite(v)) change({ [name]: Math.max(min, Math.min(max, v)) });
    });
    return el('label', { class: 'one' }, name, field);
  };
  const parts = Object.keys(SHAPES[shape.kind].fresh)
    .filter((k) => NUMBERS[k])
    .map((k) => number(k, ...NUMBERS[k]));
  const invert = el('input', { type: 'checkbox', checked: shape.invert === true });
  invert.addEventListener('change', () => change({ invert: invert.checked || undefined }));
  const combine = el(
    'select',
    { 'aria-label': phrase('bench-how-it-meets-what-stands-before') },
    ...Object.entries(COMBINED).map(([value, name]) =>
      el('option', { value, selected: (shape.combine ?? 'add') === value }, name),
    ),
  );
  combine.addEventListener('change', () => change({ combine: combine.value === 'add' ? undefined : combine.value }));
  const act = (label, title, run) =>
    el('button', { type: 'button', class: 'btn btn-sm btn-outline-dark', title, onclick: run }, label);
  if (shape.kind === 'strokes') {
    const wide = el('input', {
      type: 'number',
      class: 'short',
      min: 0.1,
      max: 100,
      step: 'any',
      value: brush,
      'aria-label': phrase('bench-width-of-the-brush-per-cent'),
    });
    wide.addEventListener('change', () => {
      brush = Math.max(0.1, Math.min(100, Number(wide.value) || 8));
    });
    parts.push(el('label', { class: 'one' }, phrase('bench-brush'), wide));
  }
  return el(
    'div',
    { class: 'shape' },
    el('b', {}, SHAPES[shape.kind].label),
    ...(i > 0 ? [combine] : []),
    ...parts,
    el('label', { class: 'one' }, invert, phrase('bench-all-but-this')),
    ...(SHAPES[shape.kind].draw
      ? [
          act(drawing === i ? phrase('any-done') : phrase('bench-draw'), SHAPES[shape.kind].draw, () =>
            draw(drawing === i ? null : i),
          ),
        ]
      : []),
    act('×', phrase('bench-take-this-shape-away'), () =>
      put(
        all.filter((_, k) => k !== i),
        true,
      ),
    ),
  );
}
