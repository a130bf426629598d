// Verified, renamed copies of frames in one folder.

import { el, json, say } from '../app/api.js';
import { settled, state, targets } from './desk.js';
import { paper } from './paper.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** The sequence check. */

export async function gather(openFolders) {
  const now = await json('GET', '/api/gather').catch(() => ({ phase: 'none' }));
  if (now.phase === 'looking' || now.phase === 'copying') return follow();
  const template = el('input', {
    class: 'form-control form-control-sm',
    value: '{taken:%Y%m%d-%H%M%S}_{stem}',
    'aria-label': phrase('frames-names-of-the-copies'),
    id: 'gather-names',
  });
  const chosen = targets().length > 1 ? targets().length : state.view.chosen;
  openFolders({
    label: phrase('frames-gather-into-this-folder'),
    taken: (path) => {
      paper(
        phrase('frames-gather-frames-into', { count: chosen, folder: path.split('/').pop() }),
        [
          el('p', {}, phrase('frames-verified-copies-named-so-that-their')),
          el('label', {}, phrase('frames-names'), template),
        ],
        [
          [
            phrase('frames-look-at-the-names'),
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
    phrase('any-stop'),
    async () => {
      await json('POST', '/api/gather/stop', {});
      return false;
    },
  ];
  if (told.phase === 'looking' || told.phase === 'copying') {
    const isLooking = told.phase === 'looking';
    const far = { done: told.done, total: told.total };
    paper(
      isLooking ? phrase('frames-looking-at-the-frames') : phrase('frames-copying-into', { target: told.target }),
      [
        el('p', { id: 'gather-said' }, phrase(isLooking ? 'frames-looked-at' : 'frames-copied', far)),
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
    there: (l) => phrase('frames-there-already', { name: l.name }),
    same: (l) => phrase('frames-same-picture-as', { name: l.name }),
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
  const sum = phrase(told.phase === 'ended' ? 'frames-so-many-copied' : 'frames-so-many-to-copy', {
    count: r.copied,
    bytes: told.phase === 'planned' ? ` (${r.bytes})` : '',
    there: r.there,
    twice: r.twice,
    trouble: r.trouble.length ? phrase('frames-could-not-be-used', { count: r.trouble.length }) : '',
  });
  const go = async () => {
    await json('POST', '/api/gather/go', {});
    setTimeout(follow, 100);
    return false;
  };
  if (told.phase === 'planned')
    paper(
      phrase('frames-into', { target: told.target }),
      [el('p', {}, sum), ...(r.room ? [el('p', { class: 'is-wrong' }, r.room)] : []), ...trouble, table],
      r.copied ? [[phrase('frames-copy'), go, 'gather-go']] : [],
    );
  else
    paper(
      r.stopped ? phrase('frames-stopped-it-can-go-on') : phrase('frames-gathered-into', { target: told.target }),
      [el('p', { id: 'gather-said' }, sum), ...trouble, table],
      r.stopped ? [[phrase('any-go-on'), go]] : [],
    );
}

/** The simulated interval camera. */
