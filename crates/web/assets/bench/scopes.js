// What is shown, in numbers: histogram, waveform and parade as the engine computed them with the picture; and the same of the
// picture before its lines over time, so that what is made even and what is graded can be judged apart.

import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);
const KINDS = ['histogram', 'waveform', 'parade'];
const [WIDE, HIGH] = [178, 60];
let bins = new Array(64).fill(0);
let kind = 'histogram';
/** The heads of what is shown: of the result, and before the lines over time where there are any. */
const heads = { result: null, before: null };

/** The outline of the brightness histogram in a box. */
export function histogram(w, h, of = bins) {
  const most = Math.max(...of.slice(1, 63), 1e-6);
  return `M0 ${h}${of.map((b, i) => `L${((i / 63) * w).toFixed(1)} ${(h - Math.min(1, b / most) * (h - 3)).toFixed(1)}`).join('')}L${w} ${h}Z`;
}

function outline(values, most) {
  const point = (v, i) =>
    `${i ? 'L' : 'M'}${((i / 63) * WIDE).toFixed(1)} ${(HIGH - Math.min(1, v / most) * (HIGH - 3)).toFixed(1)}`;
  return values.map(point).join('');
}

/** Draws a head into one of the two places. */
function draw(place, head) {
  const svg = place.querySelector('svg');
  const isHistogram = kind === 'histogram';
  svg.firstElementChild.setAttribute('d', isHistogram ? histogram(WIDE, HIGH, head.histogram[0]) : '');
  const most = Math.max(...head.histogram.flatMap((one) => one.slice(1, 63)), 1e-6);
  [...svg.querySelectorAll('.line')].forEach((line, c) => {
    line.setAttribute('d', isHistogram ? outline(head.histogram[c + 1], most) : '');
  });
  const canvas = place.querySelector('canvas');
  canvas.hidden = isHistogram;
  if (isHistogram) return;
  const c = canvas.getContext('2d');
  const image = c.createImageData(128, 64);
  head[kind].forEach((v, i) => {
    const at = ((63 - (i % 64)) * 128 + Math.floor(i / 64)) * 4;
    image.data.set([230, 230, 230, v], at);
  });
  c.putImageData(image, 0, 0);
}

/** Shows the head of a rendered picture. */
export function scope(head) {
  heads.result = head;
  [bins] = head.histogram;
  draw($('scope-result'), head);
  $('scope-name').textContent = kind;
  $('clipped').textContent = phrase('bench-black-white', {
    clipped: (head.clipped[0] * 100).toFixed(1),
    clipped2: (head.clipped[1] * 100).toFixed(1),
  });
}

/** Shows the head of the picture before the line of that number; nothing where there is none. */
export function scopeBefore(head, line) {
  heads.before = head;
  $('scope-before').hidden = !head;
  if (!head) return;
  draw($('scope-before'), head);
  $('scope-before').querySelector('small').textContent = phrase('bench-before-line', { line });
}

$('scope-box').onclick = () => {
  kind = KINDS[(KINDS.indexOf(kind) + 1) % KINDS.length];
  if (heads.result) scope(heads.result);
  if (heads.before) draw($('scope-before'), heads.before);
};
