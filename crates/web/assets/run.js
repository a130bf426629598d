// A run: progress, results appearing, failures named.

import { ask, duration, el, json, say } from './talk.js';

const run = Number(document.getElementById('run').dataset.run);
const results = document.getElementById('results');
const shown = new Map();
let order = [];
let looking = 0;

function result(item) {
  return el('button', { class: 'fr', type: 'button', onclick: () => look(item.position) },
    el('i', {}, el('img', { src: `/api/runs/${run}/items/${item.position}/thumb`, alt: '', loading: 'lazy' })),
    el('b', {}, item.target),
    item.state === 'skipped' ? 'was there already' : `${item.before} to ${item.after}, ${item.seconds.toFixed(1)} s`);
}

async function draw() {
  let all;
  try { all = await json('GET', `/api/runs/${run}`); } catch (e) { return say(e.message); }
  const p = all.progress;
  const ended = p.done + p.failed + p.skipped;
  const good = p.done + p.skipped;
  const what = {
    waiting: 'Waiting for its turn',
    running: `${ended} of ${p.total} done${p.left != null ? `, ${duration(p.left)} left` : ''}`,
    done: p.failed ? `Done: ${good} of ${p.total}, in ${all.seconds.toFixed(1)} seconds` : `All done: ${good} of ${p.total}, in ${all.seconds.toFixed(1)} seconds`,
    cancelled: `Stopped: ${good} of ${p.total} are done`,
  }[p.state];
  document.getElementById('what').textContent = what;
  const failed = p.failed ? ` ${p.failed} could not be made.` : '';
  document.getElementById('where').textContent = p.state === 'running'
    ? `${p.each != null ? `${p.each.toFixed(2)} s a picture. ` : ''}Into ${all.folder}.${failed}`
    : `Into ${all.folder}: ${all.after} where the originals are ${all.before}.${failed}`;
  const meter = document.getElementById('meter');
  meter.setAttribute('aria-valuenow', Math.round((ended / p.total) * 100));
  meter.querySelector('.bar-done').style.width = `${(good / p.total) * 100}%`;
  meter.querySelector('.bar-failed').style.width = `${(p.failed / p.total) * 100}%`;
  const working = p.state === 'running' || p.state === 'waiting';
  document.getElementById('cancel').hidden = !working;
  document.getElementById('retry').hidden = working || !p.failed;
  document.getElementById('stamp').hidden = p.state !== 'done';
  document.getElementById('fails').replaceChildren(...all.items.filter((i) => i.state === 'failed')
    .map((i) => el('div', { class: 'fail' }, el('b', {}, i.source), i.reason)));
  order = all.items.filter((i) => i.state === 'done' || i.state === 'skipped');
  for (const item of order) {
    if (!shown.has(item.position)) {
      shown.set(item.position, item);
      results.append(result(item));
    }
  }
}

const dialog = document.getElementById('look');
function look(position) {
  looking = Math.max(0, order.findIndex((i) => i.position === position));
  const item = order[looking];
  dialog.querySelector('img').src = `/api/runs/${run}/items/${item.position}/result`;
  document.getElementById('look-name').textContent = `${item.target} (${looking + 1} of ${order.length})`;
  if (!dialog.open) dialog.showModal();
}
const step = (by) => order.length && look(order[(looking + by + order.length) % order.length].position);
document.getElementById('before-one').onclick = () => step(-1);
document.getElementById('after-one').onclick = () => step(1);
document.getElementById('look-close').onclick = () => dialog.close();
dialog.addEventListener('keydown', (e) => { if (e.key === 'ArrowLeft') step(-1); if (e.key === 'ArrowRight') step(1); });

document.getElementById('cancel').onclick = () => ask('POST', `/api/runs/${run}/cancel`).then(draw).catch((e) => say(e.message));
document.getElementById('retry').onclick = () => ask('POST', `/api/runs/${run}/retry`).then(draw).catch((e) => say(e.message));

let due;
function soon() {
  due ??= setTimeout(() => { due = null; draw(); }, 200);
}
document.addEventListener('rallo:run', (e) => { if (e.detail.run === run) soon(); });
document.addEventListener('rallo:again', soon);
draw();
