// Watched folders: what is watched, and setting one up.

import { ask, el, json, say } from '../app/api.js';
import { asks } from '../app/fields.js';
import { chooser } from '../app/folder-chooser.js';

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
let recipes = [];
let folder = null;
let target = null;
let answers = [];

const draw = doing(async () => {
  const all = await json('GET', '/api/watches');
  const act = (w, method, what, label, title) =>
    el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-outline-light',
        title,
        onclick: doing(async () => {
          await ask(method, `/api/watches/${w.id}${what}`, method === 'DELETE' ? undefined : {});
          draw();
        }),
      },
      label,
    );
  const row = (w) =>
    el(
      'li',
      { class: w.state === 'paused' ? 'is-paused' : '' },
      el('b', {}, w.name),
      ` ${w.recipe}, version ${w.version}, on what arrives in ${w.folder}${w.deep ? ' and below' : ''}${w.daily ? `, every day at ${w.daily}` : ''}${w.target ? `, into ${w.target}` : ''}. `,
      el('span', {}, w.state === 'paused' ? 'Paused: what arrives is taken in later. ' : ''),
      `${w.arrived} ${w.arrived === 1 ? 'picture has' : 'pictures have'} arrived. `,
      w.run ? el('a', { href: `/runs/${w.run}` }, `Run ${w.run}`) : '',
      ' ',
      w.state === 'paused'
        ? act(w, 'POST', '/go-on', 'Go on', '')
        : act(w, 'POST', '/pause', 'Pause', 'What arrives meanwhile is taken in later'),
      ' ',
      w.newest && w.newest !== w.version
        ? act(w, 'POST', '/renew', `Take version ${w.newest}`, 'For what arrives from now on')
        : '',
      ' ',
      act(w, 'DELETE', '', 'Watch it no longer', 'Runs and results stay'),
      w.problem ? el('div', { class: 'fail' }, el('b', {}, 'It does not work'), w.problem) : '',
    );
  $('watches').replaceChildren(
    all.length ? el('ul', { class: 'queue-list watch-list' }, ...all.map(row)) : el('p', {}, 'No folder is watched.'),
  );
});

const ready = () => {
  $('add').disabled = !folder || !recipes.length;
};
$('choose-folder').onclick = () =>
  openFolders({
    label: 'Watch this folder',
    taken: (path) => {
      folder = path;
      $('folder').textContent = path;
      if (!$('name').value) $('name').placeholder = path.split('/').pop();
      ready();
    },
  });
$('choose-target').onclick = () =>
  openFolders({
    label: 'Put the results here',
    taken: (path) => {
      target = path;
      $('target').textContent = path;
    },
  });
$('when').onchange = () => {
  $('daily').hidden = $('when').value !== 'daily';
};
$('recipe').onchange = () => {
  answers = [];
  const one = recipes.find((r) => r.id === Number($('recipe').value));
  asks($('watch-asks'), one?.asks ?? [], answers);
};
$('add').onclick = doing(async () => {
  await ask('POST', '/api/watches', {
    name: $('name').value.trim() || folder.split('/').pop(),
    recipe: Number($('recipe').value),
    folder,
    target,
    deep: $('below').checked,
    daily: $('when').value === 'daily' ? $('daily').value : null,
    answers,
    report_to: $('report-to').value || null,
  });
  say('It is watched now.');
  folder = target = null;
  $('folder').textContent = 'no folder yet';
  $('target').textContent = 'where the recipe says';
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
let due;
const soon = () => {
  due ??= setTimeout(() => {
    due = null;
    draw();
  }, 400);
};
document.addEventListener('rallo:run', soon);
document.addEventListener('rallo:again', soon);
draw();
