// The sequence check: was the interval steady, did anything change?

import { only, settled } from './desk.js';
import { openDialog } from './dialog.js';

const $ = (id) => document.getElementById(id);

export async function check() {
  await settled();
  const dialog = await openDialog('/frames/dialogs/check', {
    only: (button) => only(button.dataset.frames.split(',').map(Number)),
  });
  if (dialog && $('plot')) draw(JSON.parse($('plot').dataset.distances), Number($('plot').dataset.interval));
}

function draw(distances, interval) {
  const canvas = $('plot');
  const c = canvas.getContext('2d');
  const [w, h] = [canvas.width, canvas.height];
  const most = Math.max(interval * 2.2, ...distances);
  const root = (v) => Math.sqrt(Math.max(0, v) / most);
  c.clearRect(0, 0, w, h);
  c.strokeStyle = '#1f8a70';
  c.setLineDash([7, 4]);
  c.beginPath();
  c.moveTo(0, h - 4 - root(interval) * (h - 10));
  c.lineTo(w, h - 4 - root(interval) * (h - 10));
  c.stroke();
  c.setLineDash([]);
  distances.forEach((d, i) => {
    const odd = d > interval * 1.5 || d < interval * 0.4;
    c.fillStyle = odd ? '#b5452c' : '#23211e';
    const size = odd ? 5 : 2;
    c.fillRect((i / Math.max(1, distances.length - 1)) * (w - size), h - 4 - root(d) * (h - 10) - size / 2, size, size);
  });
}
