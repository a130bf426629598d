// Parts of the view of a camera move: its marks in time and in numbers.

import { el, svg } from '../../app/api.js';
import { phrase } from '../../app/words.js';

const limit = (v) => Math.max(0, Math.min(1, v));

/** What is seen at a time: a window so wide and high, in shares of the frame, enlarged by `factor`. */
export const seen = (told, now, [w, h], factor) =>
  phrase('bench-of-s-pixels-of-the-frame', {
    now: (now * told.seconds).toFixed(1),
    seconds: told.seconds.toFixed(1),
    w: Math.round(w * told.size[0]),
    h: Math.round(h * told.size[1]),
    large: factor > 1.01 ? phrase('bench-enlarged-times', { factor: factor.toFixed(1) }) : '',
  });

/** A mark in time: chosen by a click, moved by dragging or by arrow keys. */
export function knob(knobs, mark, i, { isChosen, choose, when, by: step }) {
  const button = el(
    'button',
    {
      type: 'button',
      class: isChosen ? 'is-chosen' : '',
      style: `left:${mark[0] * 100}%`,
      'aria-label': phrase('bench-mark-at', { i: i + 1, mark: Math.round(mark[0] * 100) }),
      'aria-pressed': isChosen,
      title: phrase('bench-drag-it-in-time-or-use'),
    },
    String(i + 1),
  );
  button.addEventListener('pointerdown', (down) => {
    if (down.button) return;
    down.preventDefault();
    choose(i);
    const room = knobs.getBoundingClientRect();
    const move = (e) => {
      when(limit((e.clientX - room.left) / room.width));
    };
    window.addEventListener('pointermove', move);
    window.addEventListener('pointerup', () => window.removeEventListener('pointermove', move), { once: true });
  });
  button.addEventListener('click', (e) => {
    if (e.detail === 0) choose(i);
  });
  button.addEventListener('keydown', (e) => {
    const by = { ArrowLeft: -0.01, ArrowRight: 0.01 }[e.key];
    if (!by) return;
    e.preventDefault();
    step(by);
  });
  return button;
}

const named = (field) => field.closest('label').firstChild.textContent.trim();

/** Shows the chosen mark in numbers: time, place and size in per cent. */
export function showFields(fields, mark, chosen) {
  fields.querySelector('b').textContent = phrase('bench-mark-chosen', { chosen: chosen + 1 });
  for (const field of fields.querySelectorAll('[data-of]')) {
    field.value = Math.round(mark[field.dataset.of] * 1000) / 10;
    field.setAttribute('aria-label', phrase('bench-mark', { chosen: chosen + 1, label: named(field) }));
  }
}

/** Tells `put` which number of the mark was typed, as a share; `wrong` is told of what is none. */
export function onFields(fields, put, wrong) {
  fields.addEventListener(
    'change',
    ({ target }) => {
      const v = Number(target.value.replace(',', '.').replace('%', ''));
      if (target.value.trim() && Number.isFinite(v)) put(Number(target.dataset.of), v / 100);
      else wrong(phrase('bench-is-no-number', { label: named(target), value: target.value }));
    },
    true,
  );
}

/** A mark's window on the drawing of `width` by `height`; the chosen one with corners. */
export function drawnMark([l, t, w, h], i, isChosen, width, height) {
  const box = { x: l * width, y: t * height, width: w * width, height: h * height };
  const corner = ([x, y]) =>
    svg('rect', { class: 'corner', x: x * width - 9, y: y * height - 9, width: 18, height: 18 });
  const corners = [
    [l, t],
    [l + w, t],
    [l, t + h],
    [l + w, t + h],
  ];
  return [
    svg('rect', { class: `mark${isChosen ? ' is-chosen' : ''}`, 'data-mark': i, ...box }),
    svg('text', { class: isChosen ? 'is-chosen' : '', x: box.x + 10, y: box.y + 30 }, String(i + 1)),
    ...(isChosen ? corners.map(corner) : []),
  ];
}
