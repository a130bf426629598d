// The frame looked at in words, and all frames as a ribbon of their mean colours.

import { el } from '../app/api.js';
import { go, state } from './desk.js';
import { seconds } from './grid.js';

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
          ['problem', row.problem],
          ['folder', row.folder],
        ]
      : [
          ['problem', row.problem],
          ['note', f.notes?.join(' ')],
          [
            'taken',
            row.taken &&
              `${row.taken.replace('T', ' ').slice(0, 22)}${f.offset ? ` ${f.offset}` : ''}${row.shift ? ' (shifted)' : ''}`,
          ],
          ['camera', f.camera],
          ['lens', f.lens],
          [
            'exposure',
            [seconds(f.shutter), f.aperture && `f/${f.aperture}`, f.iso && `ISO ${f.iso}`].filter(Boolean).join(', '),
          ],
          ['focal length', f.focal_length && `${f.focal_length} mm`],
          ['white balance', f.white_balance],
          ['place', f.gps && f.gps.map((d) => d.toFixed(4)).join(', ')],
          ['pixels', f.width && `${f.width} × ${f.height}, ${((f.width * f.height) / 1e6).toFixed(1)} MP`],
          ['format', `${f.format}, ${f.bits} bit`],
          ['profile', f.profile],
          ['file', `${(row.bytes / 1e6).toFixed(1)} MB`],
          [
            'measured',
            m &&
              `brightness ${m.brightness.toFixed(0)}, contrast ${m.contrast.toFixed(0)}, sharpness ${m.sharpness.toFixed(0)}, noise ${m.noise.toFixed(1)}`,
          ],
          ['clipped', m && `black ${m.black.toFixed(1)} %, white ${m.white.toFixed(1)} %`],
          ['keywords', row.keywords.join(', ')],
          ['folder', row.folder],
        ];
  const list = el('dl');
  for (const [name, value] of rows) if (value) list.append(el('dt', {}, name), el('dd', {}, String(value)));
  box.replaceChildren(el('h2', {}, row.name), list);
}
