// A run: progress, results appearing, failures named, a question waiting for its yes.

import { ask, duration, el, json, say } from '../app/api.js';
import { checkpoint } from './checkpoint.js';
import { player } from './clip.js';
import { resultLook } from './result-viewer.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);
const run = Number($('run').dataset.run);
const order = [];
const positions = new Set();
let since = 0;
// Pictures whose results were taken back.
let back = 0;
let asked = null;

// So many are shown; the report has them all.
const SHOWN = 600;

function result(item) {
  return el(
    'button',
    { class: 'fr', type: 'button', onclick: () => look(item.position) },
    el('i', {}, el('img', { src: `/api/runs/${run}/items/${item.position}/thumb`, alt: '', loading: 'lazy' })),
    el('b', {}, item.target),
    item.state === 'skipped'
      ? item.reason === 'taken back'
        ? phrase('runs-taken-back')
        : phrase('runs-was-there-already')
      : phrase('runs-to-s', { before: item.before, after: item.after, seconds: (item.seconds ?? 0).toFixed(1) }),
  );
}

/** What was made of all pictures together. */
function together(item) {
  const file = (f, n) =>
    el(
      'a',
      { href: `/api/runs/${run}/items/${item.position}/file/${n}`, target: '_blank', rel: 'noopener', title: f.bytes },
      f.name,
    );
  const clip = item.files[0]?.clip;
  const facts = clip
    ? phrase('runs-frames-s', {
        count: clip.frames,
        seconds: Number(clip.seconds.toFixed(2)),
        width: clip.width,
        height: clip.height,
        codec: clip.codec,
        bytes: item.files[0].bytes,
      })
    : item.files
        .map((f) => f.bytes)
        .slice(0, 1)
        .join('');
  const box = el(
    'section',
    { class: 'together', 'data-position': item.position, 'aria-label': item.task },
    el('b', {}, item.task),
    ' ',
    ...item.files.slice(0, 6).flatMap((f, n) => [file(f, n), ' ']),
    item.files.length > 6 ? phrase('runs-and-more', { count: item.files.length - 6 }) : '',
    el('small', {}, [facts, item.state === 'skipped' || item.reason ? item.reason : ''].filter(Boolean).join(' · ')),
  );
  if (clip && item.reason !== 'taken back') {
    const show = el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-primary',
        onclick: () => {
          show.remove();
          box.append(player(run, item.position, clip));
          box.querySelector('.player').focus();
        },
      },
      phrase('runs-watch-it-here'),
    );
    box.append(' ', show);
  }
  return box;
}

let isToldFound = false;
/** What lines that look at all pictures found: once, when the first picture is made. */
async function found() {
  isToldFound = true;
  const told = await json('GET', `/api/runs/${run}/found`).catch(() => []);
  $('found').replaceChildren(
    ...(told.length
      ? [
          el(
            'ul',
            { class: 'found-by-run', 'aria-label': phrase('runs-what-was-found') },
            ...told.map((text) => el('li', {}, text)),
          ),
        ]
      : []),
  );
}

const KINDS = {
  together: phrase('runs-made-of-all-pictures'),
  gone: phrase('runs-kind-gone'),
  unreadable: phrase('runs-cannot-be-read'),
  unsupported: phrase('runs-not-supported'),
  'too large': phrase('runs-too-large'),
  'no permission to read': phrase('runs-no-permission'),
  changed: phrase('runs-changed-meanwhile'),
  'name taken': phrase('runs-name-taken'),
  recipe: phrase('runs-kind-recipe'),
  inside: phrase('runs-fault-in-the-program'),
};

async function draw() {
  let all;
  try {
    all = await json('GET', `/api/runs/${run}?since=${since}`);
  } catch (e) {
    return say(e.message);
  }
  const p = all.progress;
  const ended = p.done + p.failed + p.skipped;
  const good = p.done + p.skipped;
  const parts = p.tasks ? phrase('runs-pictures-and-made-of-all-of', { count: p.total - p.tasks, tasks: p.tasks }) : '';
  const later =
    all.at && new Date(all.at) > new Date()
      ? phrase('runs-waiting-until', {
          more: new Date(all.at).toLocaleString([], { dateStyle: 'medium', timeStyle: 'short' }),
        })
      : phrase('runs-waiting-for-its-turn');
  $('what').textContent = {
    waiting: later,
    running: phrase('runs-of-done', {
      ended,
      total: p.total,
      left: p.left != null ? phrase('any-left', { time: duration(p.left) }) : '',
    }),
    paused: phrase('runs-paused-of-done', { ended, total: p.total }),
    asking: phrase('runs-waiting-for-your-yes'),
    done: p.failed
      ? phrase('runs-done-of-in-seconds', { good, total: p.total, seconds: all.seconds.toFixed(1) })
      : phrase('runs-all-done-of-in-seconds', { good, total: p.total, seconds: all.seconds.toFixed(1) }),
    cancelled: phrase('runs-stopped-of-are-done', { good, total: p.total }),
  }[p.state];
  const failed = p.failed ? phrase('runs-could-not-be-made', { failed: p.failed }) : '';
  const expected =
    p.state === 'running' && all.expected ? phrase('runs-about-in-all-expected', { expected: all.expected }) : '';
  $('where').textContent =
    p.state === 'paused' && p.reason
      ? p.reason
      : parts +
        (p.state === 'running'
          ? phrase('runs-into', {
              each: p.each != null ? phrase('runs-s-a-picture', { each: p.each.toFixed(2) }) : '',
              folder: all.folder,
              expected,
              failed,
            })
          : good
            ? phrase('runs-into-where-the-originals-are', {
                folder: all.folder,
                after: all.after,
                before: all.before,
                failed,
              })
            : phrase('runs-into-folder-failed', { folder: all.folder, failed }));
  const meter = $('meter');
  meter.setAttribute('aria-valuenow', Math.round((ended / p.total) * 100));
  meter.querySelector('.bar-done').style.width = `${((good + p.under_way) / p.total) * 100}%`;
  meter.querySelector('.bar-failed').style.width = `${(p.failed / p.total) * 100}%`;
  $('working').hidden = !all.working.length;
  // Of a long picture it is told how far it is; a short one is done before that could be read.
  $('working').textContent = phrase('runs-in-work', {
    working: all.working.map((w) => (w.share > 0 ? `${w.name} ${Math.round(w.share * 100)} %` : w.name)).join(', '),
  });
  const over = p.state === 'done' || p.state === 'cancelled';
  $('pause').hidden = !['running', 'waiting'].includes(p.state);
  $('go-on').hidden = p.state !== 'paused' && !(p.state === 'waiting' && all.at);
  $('go-on').textContent = p.state === 'paused' ? phrase('any-go-on') : phrase('runs-start-now');
  $('cancel').hidden = over;
  $('cancel').textContent = p.state === 'running' ? phrase('runs-stop-after-these') : phrase('runs-cancel-this-run');
  const again = p.failed && ['done', 'paused'].includes(p.state);
  $('retry').hidden = !again;
  $('undo-run').hidden = !over || !p.done;
  $('reports').hidden = !ended;
  $('zip').hidden = $('listing').hidden = !good;
  $('brought').hidden = !all.brought;
  $('stamp').hidden = p.state !== 'done';
  $('fails').replaceChildren(
    ...all.failed.map((i) =>
      el(
        'div',
        { class: 'fail' },
        el('b', {}, i.source),
        el('small', {}, KINDS[i.kind] ?? ''),
        ' ',
        i.reason,
        ' ',
        again
          ? el(
              'button',
              {
                class: 'btn btn-sm btn-outline-light',
                type: 'button',
                onclick: () => act('retry', { position: i.position }),
              },
              phrase('runs-try-again'),
            )
          : '',
      ),
    ),
  );
  for (const item of all.items) {
    since = Math.max(since, item.ended);
    if (item.state === 'failed' || positions.has(item.position)) continue;
    positions.add(item.position);
    if (item.reason === 'taken back') {
      back += 1;
      continue;
    }
    if (item.task) {
      $('together').append(together(item));
      continue;
    }
    if (item.joins) continue;
    order.push(item);
    if (order.length <= SHOWN) $('results').append(result(item));
  }
  if ((over || ended > p.failed) && !isToldFound) found();
  if (over && back && !p.done) {
    $('what').textContent = phrase('runs-taken-back-more');
    $('where').textContent = phrase('runs-its-results-are-gone-what-was', { failed });
  }
  if (order.length > SHOWN && !$('more-results'))
    $('results').after(el('p', { id: 'more-results' }, phrase('runs-more-are-there-than-are-shown')));
  if (all.more) soon();
  if (p.state === 'asking' && asked !== p.reason) {
    asked = p.reason;
    checkpoint($('ask-box'), run, () => {
      asked = null;
      draw();
    });
  }
  if (p.state !== 'asking') $('ask-box').hidden = true;
}

const look = resultLook($('look'), run, () => order, say);

const act = (what, body) =>
  ask('POST', `/api/runs/${run}/${what}`, body ?? {})
    .then(draw)
    .catch((e) => say(e.message));
$('cancel').onclick = () => act('cancel');
$('pause').onclick = () => act('pause');
$('go-on').onclick = () => act('go-on');
$('retry').onclick = () => act('retry');
$('undo-run').onclick = async () => {
  if (!window.confirm(phrase('runs-remove-the-files-this-run-wrote'))) return;
  try {
    const { gone, kept } = await json('POST', `/api/runs/${run}/undo`, {});
    say(
      phrase('runs-files-are-gone', {
        gone,
        kept: kept.length ? ` ${kept.join('; ')}.` : '',
      }),
    );
    $('results').replaceChildren();
    $('together').replaceChildren();
    order.length = since = back = 0;
    positions.clear();
    draw();
  } catch (e) {
    say(e.message);
  }
};

let due;
function soon() {
  due ??= setTimeout(() => {
    due = null;
    draw();
  }, 200);
}
document.addEventListener('rallo:run', (e) => {
  if (e.detail.run === run) soon();
});
document.addEventListener('rallo:again', soon);
draw();
