// Playing frames like a film, from reduced pictures: frames are dropped rather than played slower.

import { el, json } from './talk.js';

const $ = (id) => document.getElementById(id);
const AHEAD = 40;
const AT_ONCE = 6;

export async function film(state, grid) {
  const dialog = $('film');
  const canvas = $('film-canvas');
  const c = canvas.getContext('2d');
  let onlyKept = false;
  let ids = [];
  let stamps = new Map();
  let held = new Map();
  let coming = new Set();
  let rate = Number(localStorage.getItem('rallo-rate') || 24);
  let looping = true;
  let playing = true;
  let at = 0;
  let started = 0;
  let from = 0;
  let shown = -1;
  let over = false;
  // How fast pictures come in: what a wait costs, in seconds, smoothed.
  let wait = 0.03;

  function choose() {
    const kept = state.ids.filter((_, i) => state.choices[i] === 'k');
    const work = state.ids.filter((_, i) => state.choices[i] !== 's');
    ids = onlyKept ? (kept.length ? kept : work) : state.ids;
    at = Math.max(0, ids.indexOf(state.ids[state.at]));
    restart();
  }
  function restart() { from = at; started = performance.now(); }

  async function need(index) {
    const id = ids[index];
    if (held.has(id) || coming.has(id) || coming.size >= AT_ONCE) return;
    coming.add(id);
    const asked = performance.now();
    try {
      const stamp = stamps.get(id) ?? state.rows.get(id)?.stamp ?? '';
      const response = await fetch(`/api/frames/${id}/thumb?edge=960&s=${stamp}`);
      if (response.ok) held.set(id, await createImageBitmap(await response.blob())); else held.set(id, null);
    } catch { /* asked again when its turn comes */ }
    coming.delete(id);
    wait += ((performance.now() - asked) / 1000 - wait) * 0.3;
  }

  function fill() {
    const near = new Set();
    // Where pictures come in slower than they are shown, only every second, third … one is asked for, and far
    // enough ahead to be there in time.
    const stride = playing ? Math.max(1, Math.ceil((rate * wait) / AT_ONCE)) : 1;
    const lead = playing && shown !== ids[at] ? Math.ceil(rate * wait) : 0;
    const start = Math.ceil((at + lead) / stride) * stride;
    for (let k = 0; k < Math.min(AHEAD, ids.length); k++) {
      const next = k ? start + (k - 1) * stride : at;
      const index = looping ? next % ids.length : Math.min(ids.length - 1, next);
      near.add(ids[index]);
      if (coming.size < AT_ONCE && (k || !playing || stride === 1)) need(index);
    }
    if (held.size > AHEAD * 3) for (const [id, picture] of held) if (!near.has(id)) { picture?.close(); held.delete(id); if (held.size <= AHEAD * 2) break; }
  }

  function paint(id) {
    const picture = held.get(id);
    if (!picture) return false;
    // As large as the picture; the page's style fits it into the window.
    if (canvas.width !== picture.width || canvas.height !== picture.height) { canvas.width = picture.width; canvas.height = picture.height; }
    c.drawImage(picture, 0, 0);
    return true;
  }

  function tick(now) {
    if (over) return;
    if (playing && ids.length) {
      const due = from + Math.floor(((now - started) / 1000) * rate);
      const next = looping ? due % ids.length : Math.min(ids.length - 1, due);
      if (!looping && due >= ids.length - 1) playing = false;
      at = next;
    }
    const id = ids[at];
    if (id !== undefined && shown !== id) {
      if (paint(id)) { shown = id; dialog.dataset.at = at; dialog.dataset.painted = Number(dialog.dataset.painted || 0) + 1; }
    }
    fill();
    words();
    requestAnimationFrame(tick);
  }

  const position = el('input', { type: 'range', min: 0, value: 0, 'aria-label': 'Position', class: 'film-position', oninput: () => { at = Number(position.value); restart(); } });
  const said = el('span', { class: 'data film-said' });
  const pause = el('button', { type: 'button', class: 'btn btn-sm btn-outline-light', title: '(Space)', onclick: toggle });
  const rates = el('select', { class: 'form-select form-select-sm', 'aria-label': 'Frames a second', onchange: () => { rate = Number(rates.value); localStorage.setItem('rallo-rate', rate); restart(); } }, ...[12, 15, 24, 25, 30, 50, 60].map((r) => el('option', { value: r, selected: r === rate }, `${r} a second`)));
  const tick2 = (label, title, get, set) => { const b = el('button', { type: 'button', class: 'btn btn-sm btn-outline-light', title, onclick: () => { set(!get()); b.classList.toggle('is-on', get()); } }, label); b.classList.toggle('is-on', get()); return b; };
  function toggle() { playing = !playing; if (playing && !looping && at >= ids.length - 1) at = 0; restart(); }
  function words() {
    position.max = Math.max(0, ids.length - 1);
    if (document.activeElement !== position || playing) position.value = at;
    pause.textContent = playing ? 'Pause' : 'Play';
    const time = (n) => { const s = n / rate; return `${Math.floor(s / 60)}:${(s % 60).toFixed(1).padStart(4, '0')}`; };
    said.textContent = `${time(at)} of ${time(ids.length)}, frame ${at + 1} of ${ids.length}`;
  }
  $('film-foot').replaceChildren(pause, position, said, rates,
    tick2('Loop', 'Begin again at the end', () => looping, (v) => { looping = v; restart(); }),
    tick2('Only what is kept', 'Leaves out frames that are set aside, and open ones where some are kept', () => onlyKept, (v) => { onlyKept = v; choose(); }),
    el('button', { type: 'button', class: 'btn btn-sm btn-outline-light', title: '(Esc)', onclick: () => dialog.close() }, 'Close'));
  dialog.onkeydown = (e) => {
    if (e.target.tagName === 'SELECT') return;
    const step = { ArrowRight: 1, ArrowLeft: -1 }[e.key];
    if (e.key === ' ') toggle();
    else if (step && e.target !== position) { playing = false; at = Math.max(0, Math.min(ids.length - 1, at + step)); } else return;
    e.preventDefault();
    e.stopPropagation();
  };
  dialog.onclose = () => {
    over = true;
    held.forEach((p) => p?.close());
    const found = state.ids.indexOf(ids[at]);
    if (found >= 0) { state.at = found; grid.show(found); }
  };
  // Stamps keep the browser's cache honest when a file was written anew.
  json('POST', '/api/rows', { ids: state.ids.slice(0, 600) }).then((rows) => rows.forEach((r) => stamps.set(r.id, r.stamp))).catch(() => {});
  choose();
  dialog.dataset.painted = 0;
  if (!dialog.open) dialog.showModal();
  requestAnimationFrame(tick);
}
