// Parts of the view of a camera move: its layout, its marks in time.

import { el, svg } from '../../app/api.js';
import { phrase } from '../../app/words.js';

const limit = (v) => Math.max(0, Math.min(1, v));

/** How it may go from mark to mark, as a recipe says it, and how that is called. */
const EASES = {
  even: phrase('bench-even'),
  soft: phrase('bench-soft'),
  'soft start': phrase('bench-soft-start'),
  'soft end': phrase('bench-soft-end'),
  flowing: phrase('bench-flowing'),
};

/** The choice among them. */
export const easeField = (ease) =>
  el(
    'select',
    { 'aria-label': phrase('bench-how-it-goes-from-mark-to') },
    ...Object.entries(EASES).map(([value, name]) => el('option', { value, selected: value === ease }, name)),
  );

/** What is seen at a time: a window so wide and high, in shares of the frame, enlarged by `factor`. */
export const seen = (told, now, [w, h], factor) =>
  phrase('bench-of-s-pixels-of-the-frame', {
    now: (now * told.seconds).toFixed(1),
    seconds: told.seconds.toFixed(1),
    w: Math.round(w * told.size[0]),
    h: Math.round(h * told.size[1]),
    large: factor > 1.01 ? phrase('bench-enlarged-times', { factor: factor.toFixed(1) }) : '',
  });

/** Puts the parts into the dialog. */
export function layOut(dialog, { stage, shown, caption, play, ease, fields, knobs, time }, acts) {
  const act = (label, title, run) =>
    el('button', { type: 'button', class: 'btn btn-sm btn-outline-light', title, onclick: run }, label);
  const done = el(
    'button',
    {
      type: 'button',
      class: 'btn btn-primary',
      onclick: acts.done,
    },
    phrase('bench-take-this-move'),
  );
  dialog.append(
    el('h2', {}, phrase('bench-camera-move')),
    el(
      'div',
      { class: 'moving-sides' },
      stage,
      el(
        'figure',
        {},
        shown,
        caption,
        el('div', { class: 'moving-acts' }, play, el('label', {}, phrase('bench-between-marks'), ease)),
        fields,
        el(
          'div',
          { class: 'moving-acts' },
          act(phrase('bench-add-a-mark-here'), phrase('bench-at-the-time-on-the-line'), acts.add),
          act(phrase('bench-remove-this-mark'), '', acts.drop),
        ),
      ),
    ),
    el('div', { class: 'moving-time' }, knobs, time),
    el(
      'div',
      { class: 'acts' },
      done,
      ' ',
      el(
        'button',
        { type: 'button', class: 'btn btn-outline-light', onclick: () => dialog.close() },
        phrase('bench-leave-it-as-it-was'),
      ),
    ),
  );
}

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

/** The chosen mark in numbers. */
export function showFields(fields, mark, chosen, { when, put, wrong }) {
  const one = (label, k, title, set) => {
    const field = el('input', {
      value: Math.round(mark[k] * 1000) / 10,
      inputmode: 'decimal',
      'aria-label': phrase('bench-mark', { chosen: chosen + 1, label }),
      title,
    });
    field.addEventListener('change', () => {
      const v = Number(field.value.replace(',', '.').replace('%', ''));
      if (Number.isFinite(v)) set(v / 100);
      else {
        wrong(phrase('bench-is-no-number', { label, value: field.value }));
      }
    });
    return el('label', {}, label, field, '%');
  };
  fields.replaceChildren(
    el('b', {}, phrase('bench-mark-chosen', { chosen: chosen + 1 })),
    one('time', 0, phrase('bench-0-is-the-first-frame-100'), when),
    one(phrase('bench-from-left'), 1, phrase('bench-the-middle-of-the-window'), (v) => put(limit(v), mark[2], mark[3])),
    one(phrase('bench-from-top'), 2, phrase('bench-the-middle-of-the-window'), (v) => put(mark[1], limit(v), mark[3])),
    one('size', 3, phrase('bench-against-the-largest-window-of-this'), (v) => put(mark[1], mark[2], v)),
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
