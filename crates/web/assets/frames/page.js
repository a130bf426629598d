// Frames: what is shown, what is chosen, and the ways to decide.

import { ask, el, json, say, typing } from '../app/api.js';
import { chooser } from '../app/folder-chooser.js';
import { freshPage } from '../app/fresh-page.js';
import { runTakes } from '../app/shell.js';
import { takeDropped } from '../app/taking-in.js';
import { choose, drawn, flip, go, keep, rate, lay, select, state, step, targets, travel, view, want } from './desk.js';
import { facets, useMeasures } from './facets.js';
import { facts, ribbon } from './facts.js';
import { film } from './film.js';
import { gather } from './gathering.js';
import { gestures } from './gestures.js';
import { COLUMNS, Grid } from './grid.js';
import { interval } from './interval-camera.js';
import { keywords } from './keywords.js';
import { listHead } from './list-columns.js';
import { menu } from './more-menu.js';
import { Look } from './one-by-one.js';
import { check } from './sequence-check.js';
import { shift } from './shift-times.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

const grid = new Grid($('grid'), state, want);
const kept = JSON.parse(localStorage.getItem('rallo-grid') || '{}');
grid.size = kept.size ?? 180;
grid.list = kept.list ?? false;
grid.columns = (kept.columns ?? grid.columns).filter((c) => COLUMNS[c]);
const keepGrid = () =>
  localStorage.setItem('rallo-grid', JSON.stringify({ size: grid.size, list: grid.list, columns: grid.columns }));

/** Why no frame is shown. */
function nothingShown(v) {
  const say = (what, why) => {
    $('empty-what').textContent = what;
    $('empty-why').textContent = why;
  };
  if (v.scanning) say(phrase('frames-looking'), phrase('frames-frames-appear-as-they-are-found'));
  else if (v.total) say(phrase('frames-no-frame-fits'), phrase('frames-nothing-has-all-of-these-together'));
  else if (!v.left_out) say(phrase('frames-no-pictures-here'), phrase('frames-there-is-nothing-in-the-chosen'));
  else {
    say(phrase('frames-no-pictures-here'), phrase('frames-files-were-left-out', { count: v.left_out }));
    reasons();
  }
}
/** Of few things that were left out the reasons are told at once: a folder that is gone, say. */
async function reasons() {
  const all = await json('GET', `/api/shoots/${state.shoot}/left-out`).catch(() => []);
  if (!all.length || all.length > 3 || $('empty').hidden) return;
  $('empty-why').textContent = all.map(({ name, reason }) => (name ? `${name}: ${reason}` : reason)).join(' ');
}

function drawAll() {
  const v = state.view;
  const none = !state.ids.length;
  $('empty').hidden = !none;
  if (none && (v.total || v.scanning || state.shoot)) nothingShown(v);
  $('bar').hidden = $('decide').hidden = $('ribbon').hidden = !v.total;
  by();
  facets();
  ribbon();
  grid.draw();
  listHead(grid, () => {
    keepGrid();
    drawAll();
  });
  marks();
}

/** Counts and the rail: what would run. */

function marks() {
  const v = state.view;
  if (!v) return;
  const parts = [
    state.ids.length === v.total
      ? phrase('any-frames', { count: v.total })
      : phrase('frames-of-frames', { shown: state.ids.length, count: v.total }),
  ];
  if (state.selected.size) parts.push(phrase('frames-selected', { size: state.selected.size }));
  if (v.scanning) parts.push(phrase('frames-looking-for-more'));
  else if (v.unmeasured) parts.push(phrase('frames-measuring', { unmeasured: v.unmeasured }));
  $('count').textContent = parts.join(', ');
  const chosen = state.selected.size || v.chosen;
  const left = v.total - state.selected.size;
  const others = !state.selected.size ? v.left_out_of_run : left > 0 ? phrase('frames-left-out', { left }) : '';
  runTakes(chosen, state.selected.size ? 'selected' : v.word, others);
  document.querySelectorAll('#which button').forEach((b) => {
    const on = (state.filter.values.choice?.join() ?? '') === b.dataset.which;
    b.classList.toggle('is-on', on);
    b.setAttribute('aria-pressed', on);
  });
  facts();
}

function by() {
  $('turn').textContent = state.order.descending ? '↓' : '↑';
  $('turn').setAttribute('aria-pressed', state.order.descending);
  $('by').value = state.order.by;
}

async function bench() {
  const row = state.rows.get(state.ids[state.at]);
  if (!row || (row.problem && !row.facts)) return say(phrase('frames-this-frame-cannot-be-read-choose'));
  try {
    await ask('PUT', '/api/desk', { frame: row.id, selection: [...state.selected] });
    location.href = '/bench';
  } catch (e) {
    say(e.message);
  }
}

gestures(bench);
Object.assign(drawn, { all: drawAll, grid: () => grid.draw(), marks, facts, show: (at) => grid.show(at) });
const look = new Look({ state, go, choose, rate, travel, targets, want, say });
const openFolders = chooser(async (places) => {
  await json('POST', '/api/shoots', { places });
  await others();
});
const play = () => film(state, grid);
const open = {
  o: openFolders,
  p: play,
  q: () => check(),
  l: () => look.open(),
  v: () => look.compare(),
  w: () => keywords(),
  t: () => shift(),
  g: () => gather(openFolders),
  a: () => select(state.ids),
  n: () => {
    state.selected.clear();
    keep();
    grid.draw();
    marks();
  },
  z: () => travel('undo'),
  y: () => travel('redo'),
  k: () => choose('kept'),
  s: () => choose('set_aside'),
  d: () => choose('open'),
  i: () => {
    grid.list = !grid.list;
    keepGrid();
    drawAll();
    grid.show(state.at);
  },
  '+': () => resize(20),
  '-': () => resize(-20),
  '/': () => $('find').focus(),
};
function resize(by) {
  grid.size = Math.max(110, Math.min(360, grid.size + by));
  keepGrid();
  drawAll();
}
const clicks = {
  choose: 'o',
  'choose-first': 'o',
  play: 'p',
  check: 'q',
  look: 'l',
  compare: 'v',
  words: 'w',
  shift: 't',
  gather: 'g',
  all: 'a',
  none: 'n',
  undo: 'z',
  'as-list': 'i',
};
for (const [id, key] of Object.entries(clicks)) $(id).onclick = open[key];
$('to-bench').onclick = bench;
$('more').onclick = () => menu({ camera: () => interval(openFolders), others });
$('size').oninput = () => resize(Number($('size').value) - grid.size);
document.querySelectorAll('#decide [data-do]').forEach((b) => {
  b.onclick = () => choose(b.dataset.do);
});
document.querySelectorAll('#which button').forEach((b) => {
  b.onclick = () => {
    if (b.dataset.which) state.filter.values.choice = [b.dataset.which];
    else delete state.filter.values.choice;
    view();
  };
});
document.querySelector('#decide .rate').append(
  ...[1, 2, 3, 4, 5].map((n) =>
    el(
      'button',
      {
        class: 'dot',
        title: phrase('frames-rate-0-takes-it-away', { n }),
        'aria-label': phrase('frames-rate', { n }),
        onclick: () => rate(n),
      },
      '●',
    ),
  ),
);
$('by').onchange = () => view({ by: $('by').value, descending: state.order.descending });
$('turn').onclick = () => view({ by: state.order.by, descending: !state.order.descending });
$('find').oninput = () => {
  state.filter.text = $('find').value;
  view();
};

document.addEventListener('keydown', (e) => {
  if (e.target.id === 'find' && (e.key === 'Escape' || e.key === 'Enter')) {
    $('grid').focus();
    e.preventDefault();
    return;
  }
  if (typing(e) || e.ctrlKey || e.metaKey || document.querySelector('dialog[open]')) return;
  const across = grid.across();
  const by = {
    ArrowRight: 1,
    ArrowLeft: -1,
    ArrowDown: across,
    ArrowUp: -across,
    PageDown: across * 4,
    PageUp: -across * 4,
    Home: -1e9,
    End: 1e9,
  }[e.key];
  const button = e.target.closest('button, a, select, input');
  if (by && e.altKey) step(by);
  else if (by && !(button && e.target.tagName === 'SELECT')) go(state.at + by, e.shiftKey);
  else if (e.key === ' ' && !button && state.ids.length) flip(state.ids[state.at]);
  else if (e.key === 'Enter' && !button) bench();
  else if (/^[0-5]$/.test(e.key)) rate(Number(e.key));
  else if (e.altKey || !open[e.key.toLowerCase()]) return;
  else open[e.key.toLowerCase()]();
  e.preventDefault();
});

takeDropped(others);

// Frames are found and measured while one looks.
let soon = null;
document.addEventListener('rallo:frames', (e) => {
  if (e.detail.shoot !== state.shoot) return;
  soon ??= setTimeout(() => {
    soon = null;
    want([...state.rows].filter(([, r]) => !r.measures && !r.problem).map(([id]) => id));
    view();
  }, 350);
});

/** Another shoot or selection lies on the desk: its frames are shown. */
async function others() {
  const page = await freshPage();
  lay(page.getElementById('frames').dataset);
  $('find').value = '';
  await start();
}

async function start() {
  if (!state.shoot) {
    $('empty').hidden = false;
    $('bar').hidden = $('decide').hidden = $('ribbon').hidden = true;
    return;
  }
  try {
    const desk = await json('GET', '/api/desk');
    state.list = desk.desk.list;
    useMeasures(desk.measures);
    $('by').replaceChildren(...desk.sorts.map((s) => el('option', { value: s.by }, s.title)));
    await view();
    grid.show(state.at);
  } catch (e) {
    say(e.message);
    setTimeout(start, 3000);
  }
}
start();

// Frames that wait or are in work in a run are marked: what is changed on them now is for the next run.
let lookAgain = null;
async function inWork() {
  lookAgain = null;
  const ids = new Set(await json('GET', '/api/in-work').catch(() => []));
  const same = state.working && ids.size === state.working.size && [...ids].every((id) => state.working.has(id));
  state.working = ids;
  if (!same) grid.draw();
}
document.addEventListener('rallo:run', () => {
  lookAgain ??= setTimeout(inWork, 700);
});
document.addEventListener('rallo:again', inWork);
inWork();
