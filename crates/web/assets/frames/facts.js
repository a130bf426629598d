// The frame looked at in words, and all frames as a ribbon of their mean colours.

import { el } from '../app/api.js';
import { go, state } from './desk.js';
import { seconds } from './grid.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

export function ribbon() {
  const canvas = $('ribbon');
  const n = state.ids.length;
  const width = Math.max(1, Math.min(n, 2000));
  canvas.width = width;
  const c = canvas.getContext('2d');
  for (let x = 0; x < width; x++) {
    const i = Math.floor((x * n) / width);
    c.fillStyle = `#${state.colours.slice(i * 6, i * 6 + 6)}`;
    c.fillRect(x, 0, 1, 34);
    if (state.choices[i] === 's') {
      c.fillStyle = '#2e2e2e';
      c.fillRect(x, 22, 1, 12);
    }
  }
}
$('ribbon').addEventListener('click', (e) => {
  const box = $('ribbon').getBoundingClientRect();
  go(Math.floor(((e.clientX - box.left) / box.width) * state.ids.length));
});

export function facts() {
  const box = $('facts');
  const row = state.rows.get(state.ids[state.at]);
  if (!row) {
    box.replaceChildren();
    return;
  }
  const f = row.facts ?? {};
  const m = row.measures;
  const rows =
    row.problem && !row.facts
      ? [
          [phrase('frames-fact-problem'), row.problem],
          [phrase('frames-fact-folder'), row.folder],
        ]
      : [
          [phrase('frames-fact-problem'), row.problem],
          [phrase('frames-fact-note'), f.notes?.join(' ')],
          [
            phrase('frames-fact-taken'),
            row.taken &&
              `${row.taken.replace('T', ' ').slice(0, 22)}${f.offset ? ` ${f.offset}` : ''}${row.shift ? phrase('frames-shifted') : ''}`,
          ],
          [phrase('frames-fact-camera'), f.camera],
          [phrase('frames-fact-lens'), f.lens],
          [
            phrase('frames-fact-exposure'),
            [seconds(f.shutter), f.aperture && `f/${f.aperture}`, f.iso && phrase('any-iso', { iso: f.iso })]
              .filter(Boolean)
              .join(', '),
          ],
          [phrase('frames-focal-length'), f.focal_length && phrase('frames-mm', { focallength: f.focal_length })],
          [phrase('frames-white-balance'), f.white_balance],
          [phrase('frames-fact-place'), f.gps && f.gps.map((d) => d.toFixed(4)).join(', ')],
          [
            phrase('frames-fact-pixels'),
            f.width &&
              phrase('frames-mp', {
                width: f.width,
                height: f.height,
                width2: ((f.width * f.height) / 1e6).toFixed(1),
              }),
          ],
          [phrase('frames-fact-format'), phrase('frames-bit', { format: f.format, bits: f.bits })],
          [phrase('frames-fact-profile'), f.profile],
          [phrase('frames-fact-file'), phrase('any-mb', { bytes: (row.bytes / 1e6).toFixed(1) })],
          [
            phrase('frames-fact-measured'),
            m &&
              phrase('frames-brightness-contrast-sharpness-noise', {
                brightness: m.brightness.toFixed(0),
                contrast: m.contrast.toFixed(0),
                sharpness: m.sharpness.toFixed(0),
                noise: m.noise.toFixed(1),
              }),
          ],
          [
            phrase('frames-fact-clipped'),
            m && phrase('frames-black-white', { black: m.black.toFixed(1), white: m.white.toFixed(1) }),
          ],
          [phrase('frames-fact-keywords'), row.keywords.join(', ')],
          [phrase('frames-fact-folder'), row.folder],
        ];
  const list = el('dl');
  for (const [name, value] of rows) if (value) list.append(el('dt', {}, name), el('dd', {}, String(value)));
  box.replaceChildren(el('h2', {}, row.name), list);
}
