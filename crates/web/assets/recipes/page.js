// Recipes that are kept: the server draws their tickets and the one that is opened; here they are found, described, copied,
// taken back to an earlier version, and read from and written to files.

import { ask, el, json, say } from '../app/api.js';
import { dropped, target } from '../app/dropped-pictures.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** A piece of page from the server. */
async function piece(path) {
  const answer = await fetch(path);
  const text = await answer.text();
  if (!answer.ok) throw new Error(JSON.parse(text).detail);
  return text;
}

/** What came of a file of recipes, in words. */
function told({ kept, refused }) {
  const good = kept.length
    ? [el('div', { class: 'fail is-mild' }, el('b', {}, phrase('recipes-loaded')), kept.map((k) => k.name).join(', '))]
    : [];
  const bad = refused.map((r) =>
    el(
      'div',
      { class: 'fail' },
      el('b', {}, phrase('recipes-was-not-loaded', { name: r.name })),
      ...r.faults.flatMap((f) => [el('br'), f]),
    ),
  );
  return [...good, ...bad];
}

document.addEventListener('alpine:init', () => {
  window.Alpine.data('recipes', () => ({
    shown: null,
    ticked: new Set(),
    init() {
      const doing = (work) => (e) => work.call(this, e).catch((error) => say(error.message));
      $('list').addEventListener('click', doing(this.pick));
      $('list').addEventListener('change', ({ target: box }) => this.tick(box));
      $('one').addEventListener('click', doing(this.act));
      $('one').addEventListener('change', doing(this.changed));
      $('one').addEventListener('focusout', ({ target: button }) => this.unsure(button));
      $('search').addEventListener('input', doing(this.list));
      $('load').addEventListener('change', doing(this.load));
      $('write').onclick = () => {
        location.href = `/api/recipes/file?ids=${[...this.ticked].join(',')}`;
      };
      this.offerStarters().catch((error) => say(error.message));
      this.list().catch((error) => say(error.message));
    },

    async list() {
      $('list').innerHTML = await piece(`/recipes/list?find=${encodeURIComponent($('search').value)}`);
      for (const box of $('list').querySelectorAll('[data-tick]'))
        box.checked = this.ticked.has(Number(box.dataset.tick));
      for (const slip of $('list').querySelectorAll('[data-recipe]')) {
        target(slip, () => this.forDrop(slip.dataset.recipe));
      }
      const first = $('list').querySelector('[data-recipe]');
      const isThere = $('list').querySelector(`[data-recipe="${this.shown}"]`);
      if (isThere) this.mark();
      else if (first) await this.open(Number(first.dataset.recipe));
      else $('one').hidden = true;
    },

    /** What dropping pictures needs to know of a recipe. */
    async forDrop(id) {
      return json('GET', `/api/recipes/${id}`);
    },

    async open(id) {
      this.shown = id;
      this.mark();
      const text = await piece(`/recipes/${id}`);
      if (this.shown !== id) return;
      $('one').innerHTML = text;
      $('one').hidden = false;
      target($('drop-here'), () => this.forDrop(id));
    },

    mark() {
      for (const slip of $('list').querySelectorAll('[data-recipe]')) {
        const isShown = Number(slip.dataset.recipe) === this.shown;
        slip.classList.toggle('is-on', isShown);
        slip.querySelector('.slip-head').setAttribute('aria-current', isShown);
      }
    },

    async pick({ target: clicked }) {
      const slip = clicked.closest('[data-recipe]');
      if (slip && !clicked.closest('[data-tick]')) await this.open(Number(slip.dataset.recipe));
    },

    tick(box) {
      const id = Number(box.dataset.tick);
      if (box.checked) this.ticked.add(id);
      else this.ticked.delete(id);
      $('write').disabled = !this.ticked.size;
    },

    async act({ target: clicked }) {
      const { act, back } = clicked.closest('button')?.dataset ?? {};
      if (back) {
        await json('POST', `/api/recipes/${this.shown}/versions/${back}`);
        say(phrase('recipes-version-is-the-newest-again-the', { back }));
        await this.again(this.shown);
      } else if (act === 'lay') {
        await ask('PUT', '/api/desk', { recipe: this.shown });
        location.href = '/bench';
      } else if (act === 'copy') await this.again((await json('POST', `/api/recipes/${this.shown}/copy`)).id);
      else if (act === 'remove') await this.remove($('remove'));
    },

    async again(id) {
      this.shown = id;
      await this.list();
      await this.open(id);
    },

    /** Asks once, on the button itself. */
    async remove(button) {
      if (!button.dataset.sure) {
        button.dataset.sure = 'yes';
        button.textContent = phrase('recipes-really-remove-it-with-its-versions');
        return;
      }
      await ask('DELETE', `/api/recipes/${this.shown}`);
      this.ticked.delete(this.shown);
      this.shown = null;
      await this.list();
    },
    unsure(button) {
      if (button.id !== 'remove') return;
      delete button.dataset.sure;
      button.textContent = phrase('any-remove');
    },

    async changed({ target: field }) {
      if (field.id === 'labels' || field.id === 'note') await this.describe();
      if (field.id === 'drop-files') {
        const files = [...field.files];
        field.value = '';
        dropped(await this.forDrop(this.shown), files);
      }
    },

    /** Labels and note: one new version where they changed. */
    async describe() {
      const recipe = await json('GET', `/api/recipes/${this.shown}`);
      const labels = $('labels').value.split(',');
      const document = {
        ...recipe.document,
        labels: labels.map((label) => label.trim()).filter(Boolean),
        note: $('note').value,
      };
      if (!document.labels.length) delete document.labels;
      if (!document.note) delete document.note;
      await json('PUT', `/api/recipes/${this.shown}`, { version: recipe.version, document });
      await this.again(this.shown);
    },

    async load() {
      const file = $('load').files[0];
      if (!file) return;
      const text = await file.text();
      $('load').value = '';
      let came;
      try {
        came = await json('POST', '/api/recipes/load', text);
      } catch (e) {
        came = { kept: [], refused: [{ name: file.name, faults: [e.message] }] };
      }
      $('loaded').replaceChildren(...told(came));
      if (came.kept.length) await this.again(came.kept[0].id);
    },

    async offerStarters() {
      const starters = await json('GET', '/api/starters');
      const options = starters.map((s, i) => el('option', { value: i, title: s.note }, s.name));
      $('starters').replaceChildren(el('option', { value: '' }, phrase('recipes-start-from')), ...options);
      $('starters').onchange = async () => {
        try {
          await this.again((await json('POST', '/api/recipes', starters[Number($('starters').value)].document)).id);
        } catch (e) {
          say(e.message);
        }
      };
    },
  }));
});
