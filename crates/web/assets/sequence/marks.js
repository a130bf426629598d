// The marks of a value that changes over the sequence, as buttons in a row: moved and changed by the arrow keys.

import { el } from '../app/api.js';
import { phrase } from '../app/words.js';

const REST = 350;
const tidy = (v) => Math.round(v * 1000) / 1000;

/** The row's buttons: `marks` of a value `v` over `frames` frames; `drawn` shows a change, `put` keeps it, `now` tells the frame that is shown. */
export function markButtons({ v, frames, now, drawn, put }) {
  const notch = ((v.high ?? 1) - (v.low ?? 0) || 1) / 200;
  const words = (m) => phrase('sequence-at', { tidy: tidy(m.value), at: Math.round((m.at ?? 0) * 1000) / 10 });
  let rest;
  const later = () => {
    clearTimeout(rest);
    rest = setTimeout(() => put([...v.marks].sort((a, b) => (a.at ?? 2) - (b.at ?? 2))), REST);
  };
  const one = (m, i) => {
    const button = el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-outline-light ramp-mark',
        role: 'slider',
        'data-mark': i,
        'aria-label': phrase('sequence-mark', { i: i + 1 }),
        'aria-valuetext': words(m),
        title: phrase('sequence-left-and-right-move-it-by'),
      },
      words(m),
    );
    button.addEventListener('keydown', (e) => {
      const many = e.shiftKey ? 10 : 1;
      const [along, up] = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[e.key] ?? [];
      if (e.key === 'Delete') {
        clearTimeout(rest);
        put(v.marks.filter((other) => other !== m));
      } else if (along !== undefined) {
        m.at = Math.max(0, Math.min(1, (m.at ?? 0) + (along * many) / Math.max(1, frames - 1)));
        if (along) m.place = Math.round(m.at * 1e6) / 1e6;
        m.value = tidy(Math.max(v.low ?? -Infinity, Math.min(v.high ?? Infinity, m.value + up * many * notch)));
        button.textContent = words(m);
        button.setAttribute('aria-valuetext', words(m));
        drawn();
        later();
      } else return;
      e.preventDefault();
      e.stopPropagation();
    });
    return button;
  };
  const place = () => tidy(now() / Math.max(1, frames - 1));
  const add = el(
    'button',
    {
      type: 'button',
      class: 'btn btn-sm btn-outline-light',
      title: phrase('sequence-at-the-frame-that-is-shown'),
      onclick: () => {
        const at = place();
        const value = tidy(v.curve[Math.round(at * (v.curve.length - 1))] ?? v.value);
        put(
          [...v.marks.filter((m) => Math.abs((m.at ?? 2) - at) > 1e-6), { place: at, at, value }].sort(
            (a, b) => (a.at ?? 2) - (b.at ?? 2),
          ),
        );
      },
    },
    phrase('sequence-set-a-mark-here'),
  );
  return [add, ...v.marks.map(one)];
}
