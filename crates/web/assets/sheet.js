// The run sheet: what will run on what, and where to.

import { duration, el, json, say, typing } from './talk.js';

const start = document.getElementById('start');

async function look() {
  let sheet;
  try { sheet = await json('GET', '/api/sheet'); } catch (e) {
    document.getElementById('what').textContent = 'This cannot be run yet';
    document.getElementById('where').textContent = e.message;
    return;
  }
  const stops = sheet.problems.some((p) => p.stops);
  document.getElementById('what').textContent = `${sheet.count} pictures` +
    (sheet.seconds != null ? `, ${duration(sheet.seconds)}` : '');
  document.getElementById('where').textContent = `Into ${sheet.folder}` +
    (sheet.bytes ? `: about ${sheet.bytes} in all, measured on the sample` : '') + (sheet.free ? `. ${sheet.free} are free there.` : '.');
  document.getElementById('problems').replaceChildren(...sheet.problems.map((p) =>
    el('div', { class: p.stops ? 'fail' : 'fail is-mild' }, el('b', {}, p.stops ? 'Before it can start' : 'Good to know'), p.message)));
  document.querySelector('#names tbody').replaceChildren(...sheet.names.map((n) => el('tr', {},
    el('td', {}, n.source), el('td', {}, n.target), el('td', {}, n.size ? `${n.size[0]} × ${n.size[1]}` : 'unknown'))));
  start.disabled = stops;
  if (!stops) start.focus();
}

start.onclick = async () => {
  start.disabled = true;
  try {
    const { run } = await json('POST', '/api/runs');
    location.href = `/runs/${run}`;
  } catch (e) { say(e.message); start.disabled = false; }
};
document.addEventListener('keydown', (e) => {
  if (e.key === 'Enter' && !typing(e) && !e.target.closest('a, button') && !start.disabled) start.click();
});
look();
