// The sequence check: was the interval steady, did anything change?

import { el, json, say } from '../app/api.js';
import { only, settled } from './desk.js';
import { paper } from './paper.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** The sequence check. */

export async function check() {
  let told;
  await settled();
  try {
    told = (await json('POST', '/api/check', {})).check;
  } catch (e) {
    return say(e.message);
  }
  const lines = told.statements.map((s) => {
    const text = el('span', {}, s.text);
    if (!s.frames.length) return el('li', { class: s.odd ? 'is-odd' : '' }, text);
    return el(
      'li',
      { class: s.odd ? 'is-odd' : '' },
      el(
        'button',
        {
          class: 'statement',
          type: 'button',
          title: phrase('frames-shows-these-frames'),
          onclick: () => {
            $('paper').close();
            only(s.frames);
          },
        },
        s.text,
        el('small', {}, phrase('frames-shown', { count: s.frames.length })),
      ),
    );
  });
  const plot =
    told.distances.length > 1 && told.interval > 0
      ? [
          el(
            'figure',
            { class: 'plot' },
            el('canvas', {
              id: 'plot',
              width: 520,
              height: 90,
              role: 'img',
              'aria-label': phrase('frames-time-from-each-frame-to-the'),
            }),
            el('figcaption', {}, phrase('frames-time-from-each-frame-to-the-next-the-line-is')),
          ),
        ]
      : [];
  paper(phrase('frames-check-of-the-sequence'), [el('ol', { class: 'statements' }, ...lines), ...plot]);
  if (plot.length) draw(told);
}

function draw({ distances, interval }) {
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

/** Shifting capture times, with before and after. */
