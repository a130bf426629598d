// Parts of the view of a camera move: its layout, its marks in time.

import { el, svg } from '../../app/api.js';

const limit = (v) => Math.max(0, Math.min(1, v));

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
    'Take this move',
  );
  dialog.append(
    el('h2', {}, 'Camera move'),
    el(
      'div',
      { class: 'moving-sides' },
      stage,
      el(
        'figure',
        {},
        shown,
        caption,
        el('div', { class: 'moving-acts' }, play, el('label', {}, 'between marks ', ease)),
        fields,
        el(
          'div',
          { class: 'moving-acts' },
          act('Add a mark here', 'At the time on the line below', acts.add),
          act('Remove this mark', '', acts.drop),
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
        'Leave it as it was',
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
      'aria-label': `Mark ${i + 1} at ${Math.round(mark[0] * 100)} %`,
      'aria-pressed': isChosen,
      title: 'Drag it in time, or use the arrow keys',
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
      'aria-label': `Mark ${chosen + 1}, ${label}`,
      title,
    });
    field.addEventListener('change', () => {
      const v = Number(field.value.replace(',', '.').replace('%', ''));
      if (Number.isFinite(v)) set(v / 100);
      else {
        wrong(`${label}: ${field.value} is no number`);
      }
    });
    return el('label', {}, label, field, '%');
  };
  fields.replaceChildren(
    el('b', {}, `Mark ${chosen + 1}`),
    one('time', 0, '0 is the first frame, 100 the last', when),
    one('from left', 1, 'The middle of the window', (v) => put(limit(v), mark[2], mark[3])),
    one('from top', 2, 'The middle of the window', (v) => put(mark[1], limit(v), mark[3])),
    one('size', 3, 'Against the largest window of this proportion', (v) => put(mark[1], mark[2], v)),
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
