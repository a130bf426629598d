// The frames on the desk: which are shown, which is looked at, which are selected, and what is decided about them. Whoever
// draws hooks in.

import { json, say } from '../app/api.js';
import { phrase } from '../app/words.js';

/** What is known of the frames when they are laid on the desk. */
const laid = ({ shoot, selection }) => ({
  ids: [],
  choices: '',
  colours: '',
  at: 0,
  rows: new Map(),
  selected: new Set(JSON.parse(selection || '[]')),
  filter: { values: {}, ranges: {}, text: '' },
  order: { by: 'name', descending: false },
  view: null,
  /** The shoot on the desk, by its number; 0 where there is none. */
  shoot: Number(shoot),
  list: null,
});

export const state = laid(document.getElementById('frames').dataset);
let anchor = 0;
let atId = null;
/** Frames whose rows are wanted. */
const asked = new Set();

/** Other frames are laid on the desk: nothing of those before counts any more. */
export function lay(dataset) {
  Object.assign(state, laid(dataset));
  anchor = 0;
  atId = null;
  asked.clear();
}

/** Who draws: told when frames, or only marks on them, are to be drawn anew. */
export const drawn = { all() {}, grid() {}, marks() {}, facts() {}, show() {} };

// Rows of frames, fetched when they come into sight.
let due = null;
export function want(ids) {
  ids.forEach((id) => asked.add(id));
  if (asked.size) due ??= setTimeout(fetchRows, 15);
}
async function fetchRows() {
  due = null;
  const some = [...asked].slice(0, 600);
  some.forEach((id) => asked.delete(id));
  const { rows } = state;
  try {
    for (const row of await json('POST', '/api/rows', { ids: some })) rows.set(row.id, row);
    drawn.grid();
    drawn.facts();
  } catch (e) {
    say(e.message);
  }
  if (asked.size) due = setTimeout(fetchRows, 15);
}

let asking = false;
let again = null;
export async function view(order) {
  if (asking) {
    again = { order: order ?? again?.order };
    return;
  }
  asking = true;
  const { rows } = state;
  try {
    const v = await json('POST', '/api/view', { filter: state.filter, order });
    // Other frames were laid on the desk meanwhile.
    if (rows !== state.rows) again ??= {};
    else show(v);
  } catch (e) {
    say(e.message);
  }
  asking = false;
  if (again) {
    const { order: next } = again;
    again = null;
    await view(next);
  }
}

function show(v) {
  state.view = v;
  state.ids = v.ids;
  state.choices = v.choices ?? '';
  state.colours = v.colours ?? '';
  state.order = v.order ?? state.order;
  if (atId === null) atId = v.at;
  const found = state.ids.indexOf(atId);
  state.at = found >= 0 ? found : Math.min(state.at, Math.max(0, state.ids.length - 1));
  drawn.all();
}

/** Rows of these frames are old. */
export function forget(ids) {
  want(ids.filter((id) => state.rows.has(id)));
}

// Selecting.
let saving = null;
async function put(last) {
  try {
    const now = await json('PUT', '/api/desk', { selection: [...state.selected], frame: atId }, { last });
    // What a run takes without a selection is the server's to say.
    if (!state.view || state.selected.size) return;
    Object.assign(state.view, { chosen: now.chosen, word: now.word, left_out_of_run: now.left_out });
    drawn.marks();
  } catch (e) {
    say(e.message);
  }
}
export function keep() {
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
    drawn.show(first);
  }
  keep();
  drawn.grid();
  drawn.marks();
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
  drawn.show(state.at);
  drawn.marks();
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
    drawn.grid();
    drawn.marks();
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
export const choose = (to) => decide({ do: 'choice', to }, true);
export const rate = (to) => decide({ do: 'rating', to }, true);
export async function travel(way) {
  try {
    const { changed } = await json('POST', `/api/${way}`, {});
    if (!changed.length)
      return say(
        way === 'undo' ? phrase('frames-there-is-nothing-to-take-back') : phrase('frames-there-is-nothing-to-do-again'),
      );
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

export function flip(id) {
  if (!state.selected.delete(id)) state.selected.add(id);
  keep();
  drawn.grid();
  drawn.marks();
}

/** Moves frames in front of another one, in the order by hand; the order shown becomes that order first. */
export async function place(ids, before) {
  if (ids.includes(before)) return;
  try {
    if (state.order.by !== 'hand') {
      if (state.ids.length !== state.view.total) return say(phrase('frames-show-all-frames-first-then-they'));
      await json('POST', '/api/change', { ids: state.ids, change: { do: 'place', before: null } });
    }
    await json('POST', '/api/change', { ids, change: { do: 'place', before } });
    view({ by: 'hand', descending: false });
  } catch (e) {
    say(e.message);
  }
}
/** Moves the frame looked at one place, by keyboard. */
export function step(by) {
  const ids = targets();
  const first = state.ids.findIndex((i) => ids.includes(i));
  const last = state.ids.findLastIndex((i) => ids.includes(i));
  const before = by < 0 ? state.ids[Math.max(0, first - 1)] : (state.ids[last + 2] ?? null);
  if ((by < 0 && first > 0) || (by > 0 && last < state.ids.length - 1)) place(ids, before);
}
