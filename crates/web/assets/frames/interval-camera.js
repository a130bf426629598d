// The interval camera: settings, and what it shoots.

import { el, json } from '../app/api.js';
import { paper } from './paper.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** The sequence check. */

export async function interval(openFolders) {
  const now = await json('GET', '/api/camera').catch(() => ({ on: false }));
  if (now.on) return watch();
  openFolders({
    label: phrase('frames-the-camera-writes-in-here'),
    taken: (path) => {
      const field = (label, value, title) =>
        el(
          'label',
          { class: 'setting', title },
          el('span', {}, label),
          el('input', { class: 'form-control form-control-sm', value, 'aria-label': label }),
        );
      const f = {
        frames: field(phrase('frames-frames-word'), '20'),
        every: field(phrase('frames-seconds-between-them'), '2', phrase('frames-as-you-wait')),
        interval: field(phrase('frames-seconds-on-its-clock'), '900', phrase('frames-how-far-its-clock-goes-on')),
        clock: field(phrase('frames-its-clock-says'), '2026-04-12T07:00:00'),
        missed: field(phrase('frames-frames-it-misses'), '', phrase('frames-numbers-with-commas-between')),
        double: field(phrase('frames-frames-it-takes-twice'), ''),
        jump: field(phrase('frames-clock-jumps-frame-seconds'), '', phrase('frames-such-as-12-3600')),
      };
      const value = (k) => f[k].querySelector('input').value.trim();
      const numbers = (k) => value(k).split(',').filter(Boolean).map(Number);
      paper(
        phrase('frames-a-camera-over-the-seed-beds'),
        [el('p', {}, phrase('frames-it-stands-in-for-an-interval')), ...Object.values(f)],
        [
          [
            phrase('frames-start-shooting'),
            async () => {
              const jump = value('jump')
                .split(',')
                .filter(Boolean)
                .map((j) => j.split(':').map(Number));
              await json('POST', '/api/camera', {
                folder: path,
                every: Number(value('every')),
                frames: Number(value('frames')),
                interval: Number(value('interval')),
                clock: value('clock'),
                faults: { missed: numbers('missed'), double: numbers('double'), jump },
              });
              setTimeout(watch, 100);
            },
            'camera-go',
          ],
        ],
      );
    },
  });
}

async function watch() {
  const now = await json('GET', '/api/camera').catch((e) => ({ on: false, ended: e.message }));
  paper(
    now.on ? phrase('frames-the-camera-is-shooting') : phrase('frames-the-camera-has-stopped'),
    [
      el(
        'p',
        {},
        phrase('frames-of-frames-into', {
          taken: now.taken,
          frames: now.frames,
          folder: now.folder,
          ended: now.ended ? `: ${now.ended}` : '',
        }),
      ),
      el('p', {}, phrase('frames-choose-that-folder-and-switch-on')),
    ],
    now.on
      ? [
          [
            phrase('frames-stop-it'),
            async () => {
              await json('POST', '/api/camera/stop', {});
            },
          ],
        ]
      : [],
  );
  if (now.on)
    setTimeout(() => {
      if ($('paper').open) watch();
    }, 1000);
}

/** Files that were not taken in. */
