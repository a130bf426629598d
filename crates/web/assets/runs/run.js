// A run: progress, results appearing, failures named, a question waiting for its yes.

import { ask, duration, el, json, say } from '../app/api.js';
import { checkpoint } from './checkpoint.js';
import { player } from './clip.js';
import { resultLook } from './result-viewer.js';

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
        ? 'taken back'
        : 'was there already'
      : `${item.before} to ${item.after}, ${(item.seconds ?? 0).toFixed(1)} s`,
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
    ? `${clip.frames} frames, ${Number(clip.seconds.toFixed(2))} s, ${clip.width} × ${clip.height}, ${clip.codec}, ${item.files[0].bytes}`
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
    item.files.length > 6 ? `and ${item.files.length - 6} more ` : '',
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
      'Watch it here',
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
      ? [el('ul', { class: 'found-by-run', 'aria-label': 'What was found' }, ...told.map((text) => el('li', {}, text)))]
      : []),
  );
}

const KINDS = {
  together: 'made of all pictures',
  gone: 'gone',
  unreadable: 'cannot be read',
  unsupported: 'not supported',
  'too large': 'too large',
  'no permission to read': 'no permission',
  changed: 'changed meanwhile',
  'name taken': 'name taken',
  recipe: 'recipe',
  inside: 'fault in the program',
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
  const parts = p.tasks ? `${p.total - p.tasks} pictures, and ${p.tasks} made of all of them or checked. ` : '';
  const later =
    all.at && new Date(all.at) > new Date()
      ? `Waiting until ${new Date(all.at).toLocaleString([], { dateStyle: 'medium', timeStyle: 'short' })}`
      : 'Waiting for its turn';
  $('what').textContent = {
    waiting: later,
    running: `${ended} of ${p.total} done${p.left != null ? `, ${duration(p.left)} left` : ''}`,
    paused: `Paused: ${ended} of ${p.total} done`,
    asking: 'Waiting for your yes',
    done: p.failed
      ? `Done: ${good} of ${p.total}, in ${all.seconds.toFixed(1)} seconds`
      : `All done: ${good} of ${p.total}, in ${all.seconds.toFixed(1)} seconds`,
    cancelled: `Stopped: ${good} of ${p.total} are done`,
  }[p.state];
  const failed = p.failed ? ` ${p.failed} could not be made.` : '';
  const expected = p.state === 'running' && all.expected ? ` About ${all.expected} in all.` : '';
  $('where').textContent =
    p.state === 'paused' && p.reason
      ? p.reason
      : parts +
        (p.state === 'running'
          ? `${p.each != null ? `${p.each.toFixed(2)} s a picture. ` : ''}Into ${all.folder}.${expected}${failed}`
          : good
            ? `Into ${all.folder}: ${all.after} where the originals are ${all.before}.${failed}`
            : `Into ${all.folder}.${failed}`);
  const meter = $('meter');
  meter.setAttribute('aria-valuenow', Math.round((ended / p.total) * 100));
  meter.querySelector('.bar-done').style.width = `${((good + p.under_way) / p.total) * 100}%`;
  meter.querySelector('.bar-failed').style.width = `${(p.failed / p.total) * 100}%`;
  $('working').hidden = !all.working.length;
  // Of a long picture it is told how far it is; a short one is done before that could be read.
  $('working').textContent =
    `In work: ${all.working.map((w) => (w.share > 0 ? `${w.name} ${Math.round(w.share * 100)} %` : w.name)).join(', ')}`;
  const over = p.state === 'done' || p.state === 'cancelled';
  $('pause').hidden = !['running', 'waiting'].includes(p.state);
  $('go-on').hidden = p.state !== 'paused' && !(p.state === 'waiting' && all.at);
  $('go-on').textContent = p.state === 'paused' ? 'Go on' : 'Start now';
  $('cancel').hidden = over;
  $('cancel').textContent = p.state === 'running' ? 'Stop after these' : 'Cancel this run';
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
              'Try again',
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
    $('what').textContent = 'Taken back';
    $('where').textContent = `Its results are gone; what was changed since stays.${failed}`;
  }
  if (order.length > SHOWN && !$('more-results'))
    $('results').after(
      el('p', { id: 'more-results' }, 'More are there than are shown here; the report names them all.'),
    );
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
  if (!window.confirm('Remove the files this run wrote? Those that were changed since stay.')) return;
  try {
    const { gone, kept } = await json('POST', `/api/runs/${run}/undo`, {});
    say(`${gone} ${gone === 1 ? 'file is' : 'files are'} gone.${kept.length ? ` ${kept.join('; ')}.` : ''}`);
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
