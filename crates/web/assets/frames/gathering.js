// Verified, renamed copies of frames in one folder.

import { el, json, say } from '../app/api.js';
import { settled, state, targets } from './desk.js';
import { paper } from './paper.js';

const $ = (id) => document.getElementById(id);

/** The sequence check. */

export async function gather(openFolders) {
  const now = await json('GET', '/api/gather').catch(() => ({ phase: 'none' }));
  if (now.phase === 'looking' || now.phase === 'copying') return follow();
  const template = el('input', {
    class: 'form-control form-control-sm',
    value: '{taken:%Y%m%d-%H%M%S}_{stem}',
    'aria-label': 'Names of the copies',
    id: 'gather-names',
  });
  const chosen = targets().length > 1 ? targets().length : state.view.chosen;
  openFolders({
    label: 'Gather into this folder',
    taken: (path) => {
      paper(
        `Gather ${chosen} frames into ${path.split('/').pop()}`,
        [
          el(
            'p',
            {},
            'Verified copies, named so that their order is the order of capture. The same picture found twice is copied once. Originals are only read.',
          ),
          el('label', {}, 'Names ', template),
        ],
        [
          [
            'Look at the names',
            async () => {
              await settled();
              await json('POST', '/api/gather', { target: path, template: template.value });
              setTimeout(follow, 0);
            },
            'gather-look',
          ],
        ],
      );
    },
  });
}

async function follow() {
  const told = await json('GET', '/api/gather').catch((e) => ({ phase: 'failed', reason: e.message }));
  const r = told.report;
  const stop = [
    'Stop',
    async () => {
      await json('POST', '/api/gather/stop', {});
      return false;
    },
  ];
  if (told.phase === 'looking' || told.phase === 'copying') {
    const word = told.phase === 'looking' ? 'looked at' : 'done';
    paper(
      told.phase === 'looking' ? 'Looking at the frames …' : `Copying into ${told.target} …`,
      [
        el('p', { id: 'gather-said' }, `${told.done} of ${told.total} ${word}`),
        el(
          'div',
          { class: 'progress meter' },
          el('div', { class: 'progress-bar bar-done', style: `width:${(told.done / Math.max(1, told.total)) * 100}%` }),
        ),
      ],
      [stop],
    );
    setTimeout(() => {
      if ($('paper').open) follow();
    }, 400);
    return;
  }
  if (!r) return told.reason && say(told.reason);
  const words = {
    copy: (l) => l.name,
    there: (l) => `${l.name} (there already)`,
    same: (l) => `same picture as ${l.name}`,
  };
  const table = el(
    'div',
    { class: 'scroll' },
    el(
      'table',
      { class: 'table table-sm' },
      el(
        'tbody',
        {},
        ...r.lines.slice(0, 500).map((l) => el('tr', {}, el('td', {}, l.source), el('td', {}, words[l.what](l)))),
      ),
    ),
  );
  const trouble = r.trouble.map((t) => el('div', { class: 'fail' }, el('b', {}, t.name), t.reason));
  const sum = `${r.copied} ${told.phase === 'ended' ? 'copied' : 'copies'}${told.phase === 'planned' ? ` (${r.bytes})` : ''}, ${r.there} there already, ${r.twice} found twice${r.trouble.length ? `, ${r.trouble.length} could not be used` : ''}.`;
  const go = async () => {
    await json('POST', '/api/gather/go', {});
    setTimeout(follow, 100);
    return false;
  };
  if (told.phase === 'planned')
    paper(
      `Into ${told.target}`,
      [el('p', {}, sum), ...(r.room ? [el('p', { class: 'is-wrong' }, r.room)] : []), ...trouble, table],
      r.copied ? [['Copy', go, 'gather-go']] : [],
    );
  else
    paper(
      r.stopped ? 'Stopped; it can go on' : `Gathered into ${told.target}`,
      [el('p', { id: 'gather-said' }, sum), ...trouble, table],
      r.stopped ? [['Go on', go]] : [],
    );
}

/** The simulated interval camera. */
