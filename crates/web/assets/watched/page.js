// Watched folders: what is watched, and setting one up.

import { ask, el, json, say } from '../app/api.js';
import { asks } from '../app/fields.js';
import { chooser } from '../app/folder-chooser.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);
const openFolders = chooser(() => {});
const doing =
  (work) =>
  async (...a) => {
    try {
      await work(...a);
    } catch (e) {
      say(e.message);
    }
  };
/** So often at most they are asked for again, in milliseconds. */
const EVERY = 400;
let recipes = [];
let folder = null;
let results = null;
let answers = [];

/** How they stand now, as the server draws them. */
const draw = doing(async () => {
  const answer = await fetch('/watched/list');
  if (answer.ok) $('watches').innerHTML = await answer.text();
});

document.addEventListener('alpine:init', () => {
  window.Alpine.data('watched', () => ({
    due: null,
    init() {
      this.$el.addEventListener(
        'click',
        doing(async ({ target: clicked }) => {
          const button = clicked.closest('[data-act]');
          if (!button) return;
          const address = `/api/watches/${button.closest('[data-watch]').dataset.watch}`;
          const { act } = button.dataset;
          if (act) await ask('POST', `${address}/${act}`, {});
          else await ask('DELETE', address);
          await draw();
        }),
      );
      const soon = () => {
        this.due ??= setTimeout(() => {
          this.due = null;
          draw();
        }, EVERY);
      };
      document.addEventListener('rallo:run', soon);
      document.addEventListener('rallo:again', soon);
    },
  }));
});

const ready = () => {
  $('add').disabled = !folder || !recipes.length;
};
$('choose-folder').onclick = () =>
  openFolders({
    label: phrase('watched-watch-this-folder'),
    taken: (path) => {
      folder = path;
      $('folder').textContent = path;
      if (!$('name').value) $('name').placeholder = path.split('/').pop();
      ready();
    },
  });
$('choose-target').onclick = () =>
  openFolders({
    label: phrase('any-put-the-results-here'),
    taken: (path) => {
      results = path;
      $('target').textContent = path;
    },
  });
$('when').onchange = () => {
  $('daily').hidden = $('when').value !== 'daily';
};
$('recipe').onchange = () => {
  answers = [];
  asks($('watch-asks'), Number($('recipe').value), answers).catch((e) => say(e.message));
};
$('add').onclick = doing(async () => {
  await ask('POST', '/api/watches', {
    name: $('name').value.trim() || folder.split('/').pop(),
    recipe: Number($('recipe').value),
    folder,
    target: results,
    deep: $('below').checked,
    daily: $('when').value === 'daily' ? $('daily').value : null,
    answers,
    report_to: $('report-to').value || null,
  });
  say(phrase('watched-it-is-watched-now'));
  folder = results = null;
  $('folder').textContent = phrase('watched-no-folder-yet');
  $('target').textContent = phrase('watched-where-the-recipe-says');
  $('name').value = '';
  ready();
  draw();
});

doing(async () => {
  const [all, desk] = [await json('GET', '/api/recipes'), await json('GET', '/api/desk')];
  recipes = all;
  $('recipe').replaceChildren(...all.map((r) => el('option', { value: r.id, selected: r.id === desk.recipe }, r.name)));
  $('recipe').onchange();
  ready();
})();
