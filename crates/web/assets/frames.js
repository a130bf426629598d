// Frames: the grid, selecting, the folder chooser.

import { ask, el, json, say, typing } from './talk.js';

const main = document.getElementById('frames');
const grid = document.getElementById('grid');
const selected = new Set(JSON.parse(main.dataset.selection || '[]'));
const shoot = Number(main.dataset.shoot);
let frames = [];
let at = 0;
let anchor = 0;
const cells = new Map();

const seconds = (s) => (s == null ? null : s < 0.4 ? `1/${Math.round(1 / s)} s` : `${s} s`);

function caption(frame) {
  if (frame.problem) return el('em', {}, frame.problem);
  const f = frame.facts;
  return [f.iso && `ISO ${f.iso}`, f.aperture && `f/${f.aperture}`, `${f.width} × ${f.height}`].filter(Boolean).join(', ');
}

function cell(frame) {
  const picture = frame.problem
    ? 'no picture'
    : el('img', { src: `/api/frames/${frame.id}/thumb?s=${frame.stamp}`, loading: 'lazy', alt: '', draggable: 'false' });
  return el('div', { class: 'fr', role: 'option', id: `frame-${frame.id}`, 'aria-selected': 'false' },
    el('i', {}, picture), el('b', {}, frame.name), el('br'), caption(frame));
}

function draw() {
  const seen = new Set();
  frames.forEach((frame, i) => {
    seen.add(frame.id);
    const key = `${frame.stamp}${frame.problem}`;
    let held = cells.get(frame.id);
    if (!held || held.key !== key) {
      held?.node.remove();
      held = { key, node: cell(frame) };
      cells.set(frame.id, held);
    }
    held.node.dataset.index = i;
    if (grid.children[i] !== held.node) grid.insertBefore(held.node, grid.children[i] ?? null);
  });
  for (const [id, held] of cells) if (!seen.has(id)) { held.node.remove(); cells.delete(id); }
  mark();
}

function mark() {
  frames.forEach((frame, i) => {
    const node = cells.get(frame.id).node;
    node.setAttribute('aria-selected', selected.has(frame.id));
    node.classList.toggle('is-at', i === at);
  });
  if (frames[at]) grid.setAttribute('aria-activedescendant', `frame-${frames[at].id}`);
  document.getElementById('count').textContent =
    `${frames.length} frames` + (selected.size ? `, ${selected.size} selected` : ', all of them will be run on');
  const count = selected.size || frames.length;
  document.getElementById('rail-frames')?.replaceChildren(String(count));
  document.getElementById('rail-frames-word')?.replaceChildren(selected.size ? 'selected' : 'frames');
  document.getElementById('run-count').textContent = `${count} ${count === 1 ? 'frame' : 'frames'}`;
  facts();
}

function facts() {
  const box = document.getElementById('facts');
  const frame = frames[at];
  if (!frame) return box.replaceChildren();
  const f = frame.facts ?? {};
  const rows = frame.problem ? [['problem', frame.problem]] : [
    ['pixels', `${f.width} × ${f.height}`], ['megapixels', ((f.width * f.height) / 1e6).toFixed(1)], ['format', `${f.format}, ${f.bits} bit`],
    ['profile', f.profile], ['taken', f.taken?.replace('T', ' ').slice(0, 19)], ['camera', f.camera], ['lens', f.lens],
    ['focal length', f.focal_length && `${f.focal_length} mm`], ['aperture', f.aperture && `f/${f.aperture}`],
    ['shutter', seconds(f.shutter)], ['ISO', f.iso], ['file', `${(frame.bytes / 1e6).toFixed(1)} MB`]];
  const list = el('dl');
  for (const [name, value] of rows) if (value) list.append(el('dt', {}, name), el('dd', {}, String(value)));
  box.replaceChildren(el('h2', {}, frame.name), list);
}

let saving;
function keep() {
  clearTimeout(saving);
  saving = setTimeout(() => ask('PUT', '/api/desk', { selection: [...selected] }).catch((e) => say(e.message)), 150);
}

function go(to, range) {
  at = Math.max(0, Math.min(frames.length - 1, to));
  if (range) {
    selected.clear();
    for (let i = Math.min(anchor, at); i <= Math.max(anchor, at); i++) selected.add(frames[i].id);
    keep();
  } else anchor = at;
  mark();
  cells.get(frames[at]?.id)?.node.scrollIntoView({ block: 'nearest' });
}

grid.addEventListener('click', (e) => {
  const node = e.target.closest('.fr');
  if (!node) return;
  const i = Number(node.dataset.index);
  if (e.shiftKey) return go(i, true);
  const id = frames[i].id;
  if (selected.has(id)) selected.delete(id); else selected.add(id);
  keep();
  go(i);
});
grid.addEventListener('dblclick', (e) => { if (e.target.closest('.fr')) bench(); });

async function bench() {
  if (!frames[at] || frames[at].problem) return say('This frame cannot be read; choose another one.');
  try {
    await ask('PUT', '/api/desk', { frame: frames[at].id, selection: [...selected] });
    location.href = '/bench';
  } catch (e) { say(e.message); }
}
const all = () => { frames.forEach((f) => selected.add(f.id)); keep(); mark(); };
const none = () => { selected.clear(); keep(); mark(); };
document.getElementById('all').onclick = all;
document.getElementById('none').onclick = none;
document.getElementById('to-bench').onclick = bench;

document.addEventListener('keydown', (e) => {
  if (typing(e) || e.ctrlKey || e.metaKey || document.querySelector('dialog[open]')) return;
  const across = Math.max(1, getComputedStyle(grid).gridTemplateColumns.split(' ').length);
  const step = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: across, ArrowUp: -across }[e.key];
  const button = e.target.closest('button, a');
  if (step) go(at + step, e.shiftKey);
  else if (e.key === ' ' && !button && frames[at]) { const id = frames[at].id; if (!selected.delete(id)) selected.add(id); keep(); mark(); }
  else if (e.key === 'Enter' && !button) bench();
  else if (e.key === 'a') all();
  else if (e.key === 'n') none();
  else if (e.key === 'o') choose();
  else return;
  e.preventDefault();
});

async function load() {
  if (!shoot) {
    document.getElementById('empty').hidden = false;
    main.querySelector('.bar').hidden = true;
    return;
  }
  try {
    const answer = await json('GET', `/api/shoots/${shoot}/frames`);
    frames = answer.frames;
    for (const id of [...selected]) if (!frames.some((f) => f.id === id)) selected.delete(id);
    draw();
    if (answer.scanning) setTimeout(load, 400);
    else if (!frames.length) say('There are no JPEG or PNG pictures in this folder.');
  } catch (e) { say(e.message); setTimeout(load, 3000); }
}

// The folder chooser.
const dialog = document.getElementById('folders');
let here = null;
async function look(path) {
  try {
    here = await json('GET', path ? `/api/folders?path=${encodeURIComponent(path)}` : '/api/folders');
  } catch (e) { return say(e.message); }
  document.getElementById('folder-path').textContent = here.path ?? 'Folders this program may use';
  document.getElementById('up').disabled = !here.path;
  const take = document.getElementById('take');
  take.disabled = !here.path;
  take.textContent = here.path ? `Take this folder (${here.pictures} pictures)` : 'Take this folder';
  const list = document.getElementById('folder-list');
  list.replaceChildren(...here.folders.map((f) => el('li', {}, el('button', { type: 'button', onclick: () => look(f.path) },
    f.name, el('small', {}, f.pictures ? `${f.pictures} pictures` : '')))));
  if (!here.folders.length) list.append(el('li', { class: 'p-2' }, 'No folders inside.'));
}
function choose() { look(null); dialog.showModal(); }
document.getElementById('choose').onclick = choose;
document.getElementById('choose-first').onclick = choose;
document.getElementById('up').onclick = () => look(here.parent);
document.getElementById('take').onclick = async () => {
  try {
    await json('POST', '/api/shoots', { folder: here.path, recursive: document.getElementById('deep').checked });
    location.reload();
  } catch (e) { say(e.message); }
};

load();
