// The interval camera: settings, and what it shoots.

import { el, json } from '../app/api.js';
import { paper } from './paper.js';

const $ = (id) => document.getElementById(id);

/** The sequence check. */

export async function interval(openFolders) {
  const now = await json('GET', '/api/camera').catch(() => ({ on: false }));
  if (now.on) return watch();
  openFolders({
    label: 'The camera writes in here',
    taken: (path) => {
      const field = (label, value, title) =>
        el(
          'label',
          { class: 'setting', title },
          el('span', {}, label),
          el('input', { class: 'form-control form-control-sm', value, 'aria-label': label }),
        );
      const f = {
        frames: field('frames', '20'),
        every: field('seconds between them', '2', 'as you wait'),
        interval: field('seconds on its clock', '900', 'how far its clock goes on from frame to frame'),
        clock: field('its clock says', '2026-04-12T07:00:00'),
        missed: field('frames it misses', '', 'numbers with commas between'),
        double: field('frames it takes twice', ''),
        jump: field('clock jumps, frame:seconds', '', 'such as 12:-3600'),
      };
      const value = (k) => f[k].querySelector('input').value.trim();
      const numbers = (k) => value(k).split(',').filter(Boolean).map(Number);
      paper(
        'A camera over the seed beds (simulated)',
        [
          el(
            'p',
            {},
            'It stands in for an interval camera: it writes frames of Thistlewick’s seed beds into the folder, with the faults you choose.',
          ),
          ...Object.values(f),
        ],
        [
          [
            'Start shooting',
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
    now.on ? 'The camera is shooting' : 'The camera has stopped',
    [
      el('p', {}, `${now.taken} of ${now.frames} frames into ${now.folder}${now.ended ? `: ${now.ended}` : ''}.`),
      el('p', {}, 'Choose that folder and switch on “Follow live” under More to see them come in.'),
    ],
    now.on
      ? [
          [
            'Stop it',
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
