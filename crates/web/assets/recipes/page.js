// Recipes that are kept: found, described, versions and what changed, files.

import { ask, el, json, say } from '../app/api.js';
import { dropped, target } from '../app/dropped-pictures.js';

const $ = (id) => document.getElementById(id);
let all = [];
let shown = null;
const ticked = new Set();

const when = (text) => new Date(text).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' });

async function look(id) {
  all = await json('GET', '/api/recipes');
  list();
  const one = all.find((r) => r.id === id) ?? all.find((r) => r.id === shown) ?? all[0];
  if (one) await open(one.id);
  else $('one').hidden = true;
}

function list() {
  const words = $('search').value.trim().toLowerCase().split(/\s+/).filter(Boolean);
  const fits = (r) =>
    words.every((w) =>
      `${r.name} ${(r.document.labels ?? []).join(' ')} ${r.document.note ?? ''} ${r.said}`.toLowerCase().includes(w),
    );
  const found = all.filter(fits);
  const line = (r) => {
    const item = one(r);
    target(item, () => r);
    return item;
  };
  const one = (r) =>
    el(
      'li',
      { class: r.id === shown ? 'is-on' : '' },
      el('input', {
        type: 'checkbox',
        class: 'form-check-input',
        checked: ticked.has(r.id),
        'aria-label': `${r.name}, into the file`,
        onchange: (e) => {
          if (e.target.checked) ticked.add(r.id);
          else ticked.delete(r.id);
          $('write').disabled = !ticked.size;
        },
      }),
      el(
        'button',
        { type: 'button', onclick: () => open(r.id), 'aria-current': r.id === shown },
        el('b', {}, r.name),
        el('small', {}, `version ${r.version}, ${when(r.saved)}`),
        ...(r.document.labels ?? []).map((l) => el('span', { class: 'label' }, l)),
      ),
    );
  $('list').replaceChildren(...found.map(line));
  if (!found.length)
    $('list').append(
      el(
        'li',
        { class: 'none' },
        all.length ? 'No recipe has all of these words.' : 'No recipes yet. Record one on the bench, or load a file.',
      ),
    );
}

async function open(id) {
  shown = id;
  list();
  const r = all.find((one) => one.id === id);
  $('one').hidden = false;
  $('name').textContent = r.name;
  $('labels').value = (r.document.labels ?? []).join(', ');
  $('note').value = r.document.note ?? '';
  $('lines').textContent = r.said;
  $('print').href = `/recipes/${id}/sheet`;
  const versions = await json('GET', `/api/recipes/${id}/versions`).catch((e) => {
    say(e.message);
    return [];
  });
  if (shown !== id) return;
  $('versions').replaceChildren(
    ...versions.map((v, i) =>
      el(
        'li',
        {},
        el('b', {}, `Version ${v.version}`),
        el('small', {}, ` ${when(v.saved)} `),
        i === 0
          ? el('small', {}, 'now')
          : el(
              'button',
              { type: 'button', class: 'btn btn-sm btn-outline-light', onclick: () => back(id, v.version) },
              'Back to this',
            ),
        el('ul', {}, ...(v.changes.length ? v.changes : ['nothing that can be seen']).map((c) => el('li', {}, c))),
      ),
    ),
  );
}

const doing = (work) => async () => {
  try {
    await work();
  } catch (e) {
    say(e.message);
  }
};

async function back(id, version) {
  await doing(async () => {
    await json('POST', `/api/recipes/${id}/versions/${version}`);
    say(`Version ${version} is the newest again; the ones between are kept.`);
    await look(id);
  })();
}

/** Labels and note: one new version where they changed. */
async function describe() {
  const r = all.find((one) => one.id === shown);
  const labels = $('labels')
    .value.split(',')
    .map((l) => l.trim())
    .filter(Boolean);
  const document = { ...r.document, labels, note: $('note').value };
  if (!labels.length) delete document.labels;
  if (!document.note) delete document.note;
  await json('PUT', `/api/recipes/${r.id}`, { version: r.version, document });
  await look(r.id);
}
$('labels').addEventListener('change', doing(describe));
$('note').addEventListener('change', doing(describe));
$('search').addEventListener('input', list);
const here = () => all.find((one) => one.id === shown);
target($('drop-here'), here);
$('drop-files').addEventListener('change', () => {
  const files = [...$('drop-files').files];
  $('drop-files').value = '';
  dropped(here(), files);
});
$('lay').onclick = doing(async () => {
  await ask('PUT', '/api/desk', { recipe: shown });
  location.href = '/bench';
});
$('copy').onclick = doing(async () => look((await json('POST', `/api/recipes/${shown}/copy`)).id));
$('remove').onclick = doing(async () => {
  const r = all.find((one) => one.id === shown);
  if ($('remove').dataset.sure !== String(r.id)) {
    $('remove').dataset.sure = r.id;
    $('remove').textContent = 'Really remove it, with its versions';
    return;
  }
  await ask('DELETE', `/api/recipes/${r.id}`);
  $('remove').textContent = 'Remove';
  ticked.delete(r.id);
  shown = null;
  await look();
});
$('one').addEventListener('focusout', (e) => {
  if (e.target.id === 'remove') {
    delete e.target.dataset.sure;
    e.target.textContent = 'Remove';
  }
});
$('write').onclick = () => {
  location.href = `/api/recipes/file?ids=${[...ticked].join(',')}`;
};
$('load').addEventListener(
  'change',
  doing(async () => {
    const file = $('load').files[0];
    if (!file) return;
    const text = await file.text();
    $('load').value = '';
    const told = [];
    let first;
    try {
      const { kept, refused } = await json('POST', '/api/recipes/load', text);
      first = kept[0]?.id;
      if (kept.length)
        told.push(el('div', { class: 'fail is-mild' }, el('b', {}, 'Loaded'), kept.map((k) => k.name).join(', ')));
      for (const r of refused) {
        told.push(
          el(
            'div',
            { class: 'fail' },
            el('b', {}, `${r.name} was not loaded`),
            ...r.faults.flatMap((f) => [el('br'), f]),
          ),
        );
      }
    } catch (e) {
      told.push(el('div', { class: 'fail' }, el('b', {}, `${file.name} was not loaded`), el('br'), e.message));
    }
    $('loaded').replaceChildren(...told);
    await look(first);
  }),
);
// Recipes to start from, one for each of the usual jobs.
json('GET', '/api/starters')
  .then((starters) => {
    $('starters').replaceChildren(
      el('option', { value: '' }, 'Start from …'),
      ...starters.map((s, i) => el('option', { value: i, title: s.note }, s.name)),
    );
    $('starters').onchange = doing(async () =>
      look((await json('POST', '/api/recipes', starters[Number($('starters').value)].document)).id),
    );
  })
  .catch((e) => say(e.message));
look().catch((e) => say(e.message));
