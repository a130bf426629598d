// Written down or only tried: the switch, undo and redo, keeping what is decided, the recipe's name, other recipes.

import { ask, el, json, say } from '../app/api.js';
import { Keeper } from './saving.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** Until the names of recipes are asked for again after a change, in milliseconds. */
const LIST_AFTER = 1500;

/** Gives the bench `changed`, `switched`, `record`, `travel` and `keeper`. */
export function recording(bench) {
  const { store } = bench;
  let listing = null;

  // Each decision is kept at once, and never behind pixels.
  bench.keeper = new Keeper({
    // What is only tried is not written down.
    text: () => store.written(),
    state(word, why = '') {
      $('saved').textContent = word;
      $('saved').title = why;
    },
    kept(row) {
      if (bench.keeper.namedByItself) {
        const isNew = store.doc.name !== row.name;
        store.rename(row.name);
        bench.showName();
        // Folders and files are named after it.
        if (isNew) bench.tell(true);
      }
      if (row.version === bench.version) return;
      bench.version = row.version;
      $('version').textContent = bench.version;
      clearTimeout(listing);
      listing = setTimeout(bench.list, LIST_AFTER);
    },
    failed(e) {
      if (e.status === 409) conflict();
      else say(e.message);
    },
  });
  store.keep = () => bench.keeper.save();

  /** Something changed: the picture and the words follow; a decision is kept. */
  bench.changed = (done) => {
    if (done && store.decide()) switched();
    follow();
    // Lines come and go at once; their words follow.
    const isNew = bench.hasNewLines();
    if (isNew) bench.draw();
    bench.tell(done && !isNew);
  };
  function follow() {
    if (bench.open >= store.doc.steps.length) bench.open = -1;
    bench.viewer.refresh();
    bench.preview.follow();
  }

  /** Recording or trying: said in words, by the switch and by the edge of the slip. */
  function switched() {
    const { off } = store;
    const pending = store.isPending();
    bench.slip.classList.toggle('is-trying', Boolean(off));
    $('record').setAttribute('aria-checked', String(!off));
    $('record-word').textContent = off
      ? phrase('bench-off-the-ticket-only-tried')
      : phrase('bench-on-the-ticket-written-down');
    $('tried').hidden = !off;
    $('tried-word').textContent = pending
      ? phrase('bench-lines-marked-tried-are-not-written')
      : phrase('bench-nothing-is-tried-yet');
    $('take').disabled = $('drop').disabled = !pending;
  }
  bench.switched = switched;
  bench.record = (on) => {
    const taken = on && store.isPending();
    store.record(on);
    switched();
    if (taken) bench.tell(true);
    else bench.draw();
  };
  bench.travel = (way) => {
    if (!store[way]()) return;
    switched();
    follow();
    bench.tell(true);
  };
  $('record').onclick = () => bench.record(Boolean(store.off));
  $('take').onclick = () => {
    store.take();
    switched();
    bench.tell(true);
  };
  $('drop').onclick = () => {
    store.drop();
    switched();
    follow();
    bench.tell(true);
  };
  $('undo').onclick = () => bench.travel('undo');
  $('redo').onclick = () => bench.travel('redo');

  /** Somebody else, or another window, changed this recipe meanwhile: the person decides which one stays. */
  function conflict() {
    const box = $('conflict');
    box.hidden = false;
    box.querySelector('.btn')?.focus();
  }
  $('theirs').onclick = () => {
    bench.keeper.forget();
    $('conflict').hidden = true;
    bench.anew();
  };
  $('mine').onclick = async () => {
    try {
      const row = await json('GET', `/api/recipes/${bench.id}`);
      $('conflict').hidden = true;
      await bench.keeper.over(row.version);
    } catch (e) {
      say(e.message);
    }
  };

  // Leaving by a link waits for the last decision to be kept.
  document.addEventListener('click', async (e) => {
    const link = e.target.closest('a[href^="/"]');
    if (!link || bench.keeper.isKept()) return;
    e.preventDefault();
    await bench.keeper.done();
    location.href = link.href;
  });

  bench.showName = () => {
    if (document.activeElement !== $('name')) $('name').value = store.doc.name;
    $('rail-recipe').textContent = store.doc.name;
  };
  $('name').addEventListener('change', () => {
    const given = $('name').value.trim();
    bench.keeper.namedByItself = !given;
    if (given) store.doc.name = given;
    bench.changed(true);
    if (!given) bench.keeper.nameAgain();
  });

  /** The names of all recipes, in every field that offers them. */
  bench.list = async () => {
    const all = await json('GET', '/api/recipes').catch(() => []);
    const option = (r) => el('option', { value: r.id, selected: r.id === bench.id }, r.name);
    $('recipes').replaceChildren(...all.map(option));
    bench.against.offer(all, bench.id, bench.version);
    $('take-in').replaceChildren(
      el('option', { value: '' }, phrase('bench-take-in-a-recipe')),
      ...all.filter((r) => r.id !== bench.id).map(option),
    );
  };
  $('recipes').onchange = async () => {
    await bench.keeper.done();
    await ask('PUT', '/api/desk', { recipe: Number($('recipes').value) }).catch((e) => say(e.message));
    await bench.anew();
  };
  $('take-in').onchange = () => {
    if ($('take-in').value) bench.takeIn(Number($('take-in').value));
  };
  $('fresh').onclick = async () => {
    try {
      await bench.keeper.done();
      await json('POST', '/api/recipes', null);
      await bench.anew();
    } catch (e) {
      say(e.message);
    }
  };
}
