// Frames: what is shown, what is chosen, and the ways to decide.

import { runTakes } from '../app/shell.js';
import { ask, el, json, say, typing } from '../app/api.js';
import { COLUMNS, Grid, seconds } from './grid.js';
import { chooser } from '../app/folder-chooser.js';
import { check, gather, interval, keywords, leftOut, menu, shift } from './dialogs.js';
import { Look } from './one-by-one.js';
import { film } from './film.js';

const $ = (id) => document.getElementById(id);
const main = $('frames');
const shoot = Number(main.dataset.shoot);

export const state = {
  ids: [],
  choices: '',
  colours: '',
  at: 0,
  rows: new Map(),
  selected: new Set(JSON.parse(main.dataset.selection || '[]')),
  filter: { values: {}, ranges: {}, text: '' },
  order: { by: 'name', descending: false },
  view: null,
  shoot,
  list: null,
};
let anchor = 0;
let atId = null;

// Rows of frames, fetched when they come into sight.
const asked = new Set();
let due = null;
function want(ids) {
  ids.forEach((id) => asked.add(id));
  due ??= setTimeout(fetchRows, 15);
}
async function fetchRows() {
  due = null;
  const some = [...asked].slice(0, 600);
  some.forEach((id) => asked.delete(id));
  try {
    for (const row of await json('POST', '/api/rows', { ids: some })) state.rows.set(row.id, row);
    grid.draw();
    facts();
  } catch (e) {
    say(e.message);
  }
  if (asked.size) due = setTimeout(fetchRows, 15);
}

const grid = new Grid($('grid'), state, want);
const kept = JSON.parse(localStorage.getItem('rallo-grid') || '{}');
grid.size = kept.size ?? 180;
grid.list = kept.list ?? false;
grid.columns = (kept.columns ?? grid.columns).filter((c) => COLUMNS[c]);
const keepGrid = () =>
  localStorage.setItem('rallo-grid', JSON.stringify({ size: grid.size, list: grid.list, columns: grid.columns }));

/** Asks what is shown now. */
let asking = false;
let again = null;
export async function view(order) {
  if (asking) {
    again = { order: order ?? again?.order };
    return;
  }
  asking = true;
  try {
    const v = await json('POST', '/api/view', { filter: state.filter, order });
    state.view = v;
    state.ids = v.ids;
    state.choices = v.choices ?? '';
    state.colours = v.colours ?? '';
    state.order = v.order ?? state.order;
    if (atId === null) atId = v.at;
    const found = state.ids.indexOf(atId);
    state.at = found >= 0 ? found : Math.min(state.at, Math.max(0, state.ids.length - 1));
    drawAll();
  } catch (e) {
    say(e.message);
  }
  asking = false;
  if (again) {
    const { order: next } = again;
    again = null;
    view(next);
  }
}

/** Rows of these frames are old. */
export function forget(ids) {
  want(ids.filter((id) => state.rows.has(id)));
}

function drawAll() {
  const v = state.view;
  const none = !state.ids.length;
  $('empty').hidden = !none;
  if (none && (v.total || v.scanning || state.shoot)) {
    $('empty-what').textContent = v.scanning ? 'Looking …' : v.total ? 'No frame fits' : 'No pictures here';
    $('empty-why').textContent = v.scanning
      ? 'Frames appear as they are found.'
      : v.total
        ? 'Nothing has all of these together. Take some of the wishes on the left back.'
        : v.left_out
          ? `${v.left_out} files were left out; “More” on the left says why.`
          : 'There is nothing in the chosen folders that can be read as a picture.';
  }
  $('bar').hidden = $('decide').hidden = $('ribbon').hidden = !v.total;
  by();
  facets();
  ribbon();
  grid.draw();
  listHead();
  marks();
}

/** Counts and the rail: what would run. */
function marks() {
  const v = state.view;
  if (!v) return;
  const parts = [`${state.ids.length}${state.ids.length === v.total ? '' : ` of ${v.total}`} frames`];
  if (state.selected.size) parts.push(`${state.selected.size} selected`);
  if (v.scanning) parts.push('looking for more');
  else if (v.unmeasured) parts.push(`measuring ${v.unmeasured}`);
  $('count').textContent = parts.join(', ');
  const chosen = state.selected.size || v.chosen;
  const left = v.total - state.selected.size;
  const others = !state.selected.size ? v.left_out_of_run : left > 0 ? `${left} left out` : '';
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

const folded = new Set(
  JSON.parse(
    localStorage.getItem('rallo-folded') ||
      '["lens","focal_length","aperture","shutter","hour","size","type","folder"]',
  ),
);

/** What the left column shows, line by line: a key that stays, how it is made, how it is brought up to date. */
function facetLines() {
  const v = state.view;
  const fold = (id) => {
    if (!folded.delete(id)) folded.add(id);
    localStorage.setItem('rallo-folded', JSON.stringify([...folded]));
    facets();
  };
  const head = (id, title, shut) => ({
    key: `head ${id}`,
    make: () => el('button', { class: 'facet-head', onclick: () => fold(id) }, title),
    put: (n) => n.setAttribute('aria-expanded', !shut),
  });
  const lines = [];
  if (
    Object.keys(state.filter.values).length ||
    Object.keys(state.filter.ranges).length ||
    state.filter.only ||
    state.filter.text
  ) {
    lines.push({
      key: 'again',
      make: () =>
        el('button', {
          class: 'btn btn-sm btn-outline-light w-100',
          id: 'all-again',
          onclick: () => {
            state.filter = { values: {}, ranges: {}, text: '' };
            $('find').value = '';
            view();
          },
        }),
      put: (n) => {
        n.textContent = state.filter.only ? 'Back to all frames' : 'Show all again';
      },
    });
  }
  for (const one of v.facets) {
    const wanted = state.filter.values[one.facet] ?? [];
    const shut = folded.has(one.facet) && !wanted.length;
    const most = Math.max(1, ...one.values.map((c) => c.count));
    lines.push(head(one.facet, one.title, shut));
    if (shut) continue;
    for (const c of one.values.slice(0, 60)) {
      lines.push({
        key: `value ${one.facet} ${c.value}`,
        make: () =>
          el(
            'button',
            { class: 'facet', 'data-facet': `${one.facet} ${c.value}`, onclick: () => toggle(one.facet, c.value) },
            el('span', {}, c.label),
            el('b', {}),
          ),
        put: (n) => {
          const on = wanted.includes(c.value);
          n.classList.toggle('is-on', on);
          n.setAttribute('aria-pressed', on);
          n.lastChild.textContent = c.count;
          n.style.setProperty('--share', `${(c.count / most) * 100}%`);
        },
      });
    }
    if (one.facet === 'problems') {
      for (const kind of Object.keys(v.suggested ?? {}).sort()) {
        lines.push({
          key: `suggested ${kind}`,
          make: () =>
            el(
              'div',
              { class: 'suggested' },
              el('button', {
                class: 'btn btn-sm btn-outline-light',
                title: 'Selects them; nothing is done to them',
                onclick: () => select(state.view.suggested[kind] ?? []),
              }),
            ),
          put: (n) => {
            n.firstChild.textContent = `Select ${v.suggested[kind].length} ${kind}`;
          },
        });
      }
    }
  }
  const shut = folded.has('measures');
  lines.push(head('measures', 'Measures', shut));
  if (!shut)
    for (const m of measures)
      lines.push({ key: `range ${m.id} ${state.filter.ranges[m.id]}`, make: () => range(m), put: () => {} });
  return lines;
}

// Counts change while frames are measured: buttons stay the same ones, so that no click is lost.
const facetNodes = new Map();
let facetKeys = '';
function facets() {
  const lines = facetLines();
  const nodes = lines.map((line) => {
    if (!facetNodes.has(line.key)) facetNodes.set(line.key, line.make());
    const node = facetNodes.get(line.key);
    line.put(node);
    return node;
  });
  const keys = lines.map((line) => line.key).join('\n');
  if (keys === facetKeys) return;
  facetKeys = keys;
  const box = $('facets');
  const [top, focused] = [box.scrollTop, document.activeElement];
  box.replaceChildren(...nodes);
  box.scrollTop = top;
  if (box.contains(focused)) focused.focus({ preventScroll: true });
}

function toggle(facet, value) {
  const wanted = new Set(state.filter.values[facet] ?? []);
  if (!wanted.delete(value)) wanted.add(value);
  if (wanted.size) state.filter.values[facet] = [...wanted];
  else delete state.filter.values[facet];
  view();
}

let measures = [];
function range(m) {
  const [low, high] = state.filter.ranges[m.id] ?? ['', ''];
  const field = (label, value) =>
    el('input', { type: 'number', step: 'any', value, 'aria-label': `${m.title}, ${label}`, placeholder: label });
  const from = field('from', low <= -1e8 ? '' : low);
  const to = field('to', high >= 1e8 ? '' : high);
  const changed = () => {
    if (from.value === '' && to.value === '') delete state.filter.ranges[m.id];
    else
      state.filter.ranges[m.id] = [
        from.value === '' ? -1e9 : Number(from.value),
        to.value === '' ? 1e9 : Number(to.value),
      ];
    view();
  };
  from.onchange = to.onchange = changed;
  return el('div', { class: 'range' }, el('span', {}, m.title), from, to);
}

function ribbon() {
  const canvas = $('ribbon');
  const n = state.ids.length;
  const width = Math.max(1, Math.min(n, 2000));
  canvas.width = width;
  const c = canvas.getContext('2d');
  for (let x = 0; x < width; x++) {
    const i = Math.floor((x * n) / width);
    c.fillStyle = `#${state.colours.slice(i * 6, i * 6 + 6)}`;
    c.fillRect(x, 0, 1, 34);
    if (state.choices[i] === 's') {
      c.fillStyle = '#2e2e2e';
      c.fillRect(x, 22, 1, 12);
    }
  }
}
$('ribbon').addEventListener('click', (e) => {
  const box = $('ribbon').getBoundingClientRect();
  go(Math.floor(((e.clientX - box.left) / box.width) * state.ids.length));
});

function facts() {
  const box = $('facts');
  const row = state.rows.get(state.ids[state.at]);
  if (!row) {
    box.replaceChildren();
    return;
  }
  const f = row.facts ?? {};
  const m = row.measures;
  const rows =
    row.problem && !row.facts
      ? [
          ['problem', row.problem],
          ['folder', row.folder],
        ]
      : [
          ['problem', row.problem],
          ['note', f.notes?.join(' ')],
          [
            'taken',
            row.taken &&
              `${row.taken.replace('T', ' ').slice(0, 22)}${f.offset ? ` ${f.offset}` : ''}${row.shift ? ' (shifted)' : ''}`,
          ],
          ['camera', f.camera],
          ['lens', f.lens],
          [
            'exposure',
            [seconds(f.shutter), f.aperture && `f/${f.aperture}`, f.iso && `ISO ${f.iso}`].filter(Boolean).join(', '),
          ],
          ['focal length', f.focal_length && `${f.focal_length} mm`],
          ['white balance', f.white_balance],
          ['place', f.gps && f.gps.map((d) => d.toFixed(4)).join(', ')],
          ['pixels', f.width && `${f.width} × ${f.height}, ${((f.width * f.height) / 1e6).toFixed(1)} MP`],
          ['format', `${f.format}, ${f.bits} bit`],
          ['profile', f.profile],
          ['file', `${(row.bytes / 1e6).toFixed(1)} MB`],
          [
            'measured',
            m &&
              `brightness ${m.brightness.toFixed(0)}, contrast ${m.contrast.toFixed(0)}, sharpness ${m.sharpness.toFixed(0)}, noise ${m.noise.toFixed(1)}`,
          ],
          ['clipped', m && `black ${m.black.toFixed(1)} %, white ${m.white.toFixed(1)} %`],
          ['keywords', row.keywords.join(', ')],
          ['folder', row.folder],
        ];
  const list = el('dl');
  for (const [name, value] of rows) if (value) list.append(el('dt', {}, name), el('dd', {}, String(value)));
  box.replaceChildren(el('h2', {}, row.name), list);
}

function listHead() {
  const head = $('head');
  head.hidden = !grid.list;
  $('as-list').setAttribute('aria-pressed', grid.list);
  $('as-list').classList.toggle('is-on', grid.list);
  $('size').value = grid.size;
  if (!grid.list) return;
  head.replaceChildren(
    el('span', { class: 'pic' }),
    el('b', {}, 'name'),
    el('span', { class: 'col decided' }, 'choice'),
    ...grid.columns.map((c) => el('span', { class: `col col-${c}` }, COLUMNS[c][0])),
    el('button', { class: 'btn btn-sm btn-outline-light', onclick: columns, title: 'Which columns' }, 'Columns …'),
  );
}

function columns() {
  const boxes = Object.entries(COLUMNS).map(([id, [title]]) =>
    el(
      'label',
      { class: 'tick' },
      el('input', { type: 'checkbox', class: 'form-check-input', value: id, checked: grid.columns.includes(id) }),
      ` ${title}`,
    ),
  );
  paper(
    'Columns of the list',
    [el('div', { class: 'ticks' }, ...boxes)],
    [
      [
        'Done',
        () => {
          grid.columns = boxes
            .map((b) => b.firstChild)
            .filter((i) => i.checked)
            .map((i) => i.value);
          keepGrid();
          drawAll();
        },
      ],
    ],
  );
}

/** A slip with a title, a body and buttons; the first button is the way on. */
export function paper(title, body, buttons = []) {
  const dialog = $('paper');
  dialog.setAttribute('aria-label', title);
  $('paper-title').textContent = title;
  const foot = el(
    'div',
    { class: 'folder-foot' },
    el(
      'button',
      { class: 'btn btn-outline-secondary', type: 'button', onclick: () => dialog.close() },
      buttons.length ? 'Cancel' : 'Close',
    ),
    ...buttons.map(([label, run, id], i) =>
      el(
        'button',
        {
          class: i ? 'btn btn-outline-secondary' : 'btn btn-primary',
          type: 'button',
          id,
          onclick: async () => {
            try {
              if ((await run()) !== false) dialog.close();
            } catch (e) {
              say(e.message);
            }
          },
        },
        label,
      ),
    ),
  );
  $('paper-body').replaceChildren(...body, foot);
  if (!dialog.open) dialog.showModal();
}

// Selecting.
let saving = null;
async function put(last) {
  try {
    const now = await json('PUT', '/api/desk', { selection: [...state.selected], frame: atId }, { last });
    // What a run takes without a selection is the server's to say.
    if (!state.view || state.selected.size) return;
    Object.assign(state.view, { chosen: now.chosen, word: now.word, left_out_of_run: now.left_out });
    marks();
  } catch (e) {
    say(e.message);
  }
}
function keep() {
  clearTimeout(saving);
  saving = setTimeout(() => {
    saving = null;
    put();
  }, 150);
}
/** The server knows what is selected: to be waited for by whatever works on that. */
export async function settled() {
  if (saving === null) return;
  clearTimeout(saving);
  saving = null;
  await put();
}
// Leaving the page does not wait, but what was selected arrives.
addEventListener('pagehide', () => {
  if (saving !== null) put(true);
});
export function select(ids) {
  state.selected.clear();
  ids.forEach((id) => state.selected.add(id));
  const first = state.ids.findIndex((id) => state.selected.has(id));
  if (first >= 0) {
    state.at = first;
    atId = state.ids[first];
    grid.show(first);
  }
  keep();
  grid.draw();
  marks();
}
export function only(ids) {
  // To be looked at; what a run takes stays what it was.
  state.filter = { values: {}, ranges: {}, text: '', only: ids };
  [atId] = ids;
  view();
}
const second = new BroadcastChannel('rallo-frame');
export function go(to, ranging) {
  state.at = Math.max(0, Math.min(state.ids.length - 1, to));
  atId = state.ids[state.at] ?? null;
  if (ranging) {
    state.selected.clear();
    for (let i = Math.min(anchor, state.at); i <= Math.max(anchor, state.at); i++) state.selected.add(state.ids[i]);
  } else anchor = state.at;
  keep();
  grid.show(state.at);
  marks();
  const row = state.rows.get(atId);
  if (row) second.postMessage({ id: atId, name: row.name, stamp: row.stamp });
}

// Deciding: on the selected frames, or on the one looked at, which then moves on to the next.
export async function decide(change, moveOn) {
  const ids = state.selected.size ? [...state.selected] : [state.ids[state.at]].filter((i) => i !== undefined);
  if (!ids.length) return;
  for (const id of ids) {
    const row = state.rows.get(id);
    if (!row) continue;
    if (change.do === 'choice') row.choice = change.to;
    if (change.do === 'rating') row.rating = change.to;
  }
  if (moveOn && !state.selected.size && state.at < state.ids.length - 1) go(state.at + 1);
  else {
    grid.draw();
    marks();
  }
  try {
    await json('POST', '/api/change', { ids, change });
    forget(ids);
    view();
  } catch (e) {
    say(e.message);
    forget(ids);
  }
}
const choose = (to) => decide({ do: 'choice', to }, true);
const rate = (to) => decide({ do: 'rating', to }, true);
async function travel(way) {
  try {
    const { changed } = await json('POST', `/api/${way}`, {});
    if (!changed.length)
      return say(way === 'undo' ? 'There is nothing to take back.' : 'There is nothing to do again.');
    forget(changed);
    const found = state.ids.indexOf(changed[0]);
    if (found >= 0) go(found);
    view();
  } catch (e) {
    say(e.message);
  }
}

export const targets = () =>
  state.selected.size ? [...state.selected] : [state.ids[state.at]].filter((i) => i !== undefined);

function flip(id) {
  if (!state.selected.delete(id)) state.selected.add(id);
  keep();
  grid.draw();
  marks();
}

// Mouse: a click looks at a frame and is no choice; its tick, or a click with Ctrl or Shift, selects. A double click goes to
// the bench, dragging moves frames in the order by hand.
let drag = null;
$('grid').addEventListener('click', (e) => {
  const node = e.target.closest('.fr');
  if (!node || drag?.moved) return;
  const i = Number(node.dataset.index);
  if (e.shiftKey) return go(i, true);
  if (e.ctrlKey || e.metaKey || e.target.closest('.tick')) flip(state.ids[i]);
  go(i);
});
$('grid').addEventListener('dblclick', (e) => {
  if (e.target.closest('.fr') && !e.target.closest('.tick')) bench();
});
$('grid').addEventListener('pointerdown', (e) => {
  const node = e.target.closest('.fr');
  drag = null;
  if (!node || e.button) return;
  drag = { id: state.ids[Number(node.dataset.index)], x: e.clientX, y: e.clientY, moved: false };
});
addEventListener('pointermove', (e) => {
  if (!drag || !e.buttons) return;
  if (!drag.moved && Math.hypot(e.clientX - drag.x, e.clientY - drag.y) < 9) return;
  drag.moved = true;
  document.body.classList.add('is-dragging');
  document.querySelectorAll('.fr.drop').forEach((n) => n.classList.remove('drop'));
  document.elementFromPoint(e.clientX, e.clientY)?.closest('.fr')?.classList.add('drop');
});
addEventListener('pointerup', (e) => {
  document.body.classList.remove('is-dragging');
  document.querySelectorAll('.fr.drop').forEach((n) => n.classList.remove('drop'));
  if (!drag?.moved) return;
  const over = document.elementFromPoint(e.clientX, e.clientY)?.closest('.fr');
  const ids = state.selected.has(drag.id) ? state.ids.filter((i) => state.selected.has(i)) : [drag.id];
  setTimeout(() => {
    drag = null;
  }, 0);
  if (over) place(ids, state.ids[Number(over.dataset.index)]);
});
/** Moves frames in front of another one, in the order by hand; the order shown becomes that order first. */
async function place(ids, before) {
  if (ids.includes(before)) return;
  try {
    if (state.order.by !== 'hand') {
      if (state.ids.length !== state.view.total)
        return say('Show all frames first; then they can be put in order by hand.');
      await json('POST', '/api/change', { ids: state.ids, change: { do: 'place', before: null } });
    }
    await json('POST', '/api/change', { ids, change: { do: 'place', before } });
    view({ by: 'hand', descending: false });
  } catch (e) {
    say(e.message);
  }
}
/** Moves the frame looked at one place, by keyboard. */
function step(by) {
  const ids = targets();
  const first = state.ids.findIndex((i) => ids.includes(i));
  const last = state.ids.findLastIndex((i) => ids.includes(i));
  const before = by < 0 ? state.ids[Math.max(0, first - 1)] : (state.ids[last + 2] ?? null);
  if ((by < 0 && first > 0) || (by > 0 && last < state.ids.length - 1)) place(ids, before);
}

export async function bench() {
  const row = state.rows.get(state.ids[state.at]);
  if (!row || (row.problem && !row.facts)) return say('This frame cannot be read; choose another one.');
  try {
    await ask('PUT', '/api/desk', { frame: row.id, selection: [...state.selected] });
    location.href = '/bench';
  } catch (e) {
    say(e.message);
  }
}

const look = new Look({ state, go, choose, rate, travel, targets, want, say });
const openFolders = chooser(async (places) => {
  await json('POST', '/api/shoots', { places });
  location.reload();
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
$('more').onclick = () => menu({ camera: () => interval(openFolders), leftOut, travel });
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
document
  .querySelector('#decide .rate')
  .append(
    ...[1, 2, 3, 4, 5].map((n) =>
      el(
        'button',
        { class: 'dot', title: `Rate ${n} (${n}); 0 takes it away`, 'aria-label': `Rate ${n}`, onclick: () => rate(n) },
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

// Pictures dropped on the page: found where they lie, as a browser only tells their names.
addEventListener('dragover', (e) => e.preventDefault());
addEventListener('drop', async (e) => {
  e.preventDefault();
  const files = [...(e.dataTransfer?.files ?? [])].map((f) => ({
    name: f.name,
    size: f.size,
    modified: f.lastModified,
  }));
  if (!files.length) return;
  try {
    const { places, missing } = await json('POST', '/api/dropped', files);
    if (missing.length)
      say(
        `${missing.slice(0, 3).join(', ')}${missing.length > 3 ? ` and ${missing.length - 3} more` : ''} ${missing.length === 1 ? 'does' : 'do'} not lie in the folders this program may use. Folders are chosen with “Choose a folder”.`,
      );
    if (!places.length) return;
    await json('POST', '/api/shoots', { places });
    setTimeout(() => location.reload(), missing.length ? 2500 : 0);
  } catch (error) {
    say(error.message);
  }
});

// Frames are found and measured while one looks.
let soon = null;
document.addEventListener('rallo:frames', (e) => {
  if (e.detail.shoot !== shoot) return;
  soon ??= setTimeout(() => {
    soon = null;
    state.rows.forEach((r, id) => {
      if (!r.measures && !r.problem) asked.add(id);
    });
    if (asked.size) want([]);
    view();
  }, 350);
});

async function start() {
  if (!shoot && !main.dataset.list) {
    $('empty').hidden = false;
    $('bar').hidden = $('decide').hidden = $('ribbon').hidden = true;
    return;
  }
  try {
    const desk = await json('GET', '/api/desk');
    state.list = desk.desk.list;
    measures = desk.measures;
    $('by').replaceChildren(...desk.sorts.map((s) => el('option', { value: s.by }, s.title)));
    folded.add('measures');
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
