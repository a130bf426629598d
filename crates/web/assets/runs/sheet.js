// The run sheet: what will run on what, and where to; anything can be put right here, for this run or for the recipe.

import { nameGroups } from './names.js';
import { button, inside } from './pressed.js';
import { problem } from './problem.js';
import { SURE, costWords } from './cost.js';
import { el, json, say, typing } from '../app/api.js';
import { asks, field, fitting } from '../app/fields.js';
import { chooser } from '../app/folder-chooser.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);
const start = $('start');
const openFolders = chooser(() => {});

/** What differs from the recipe, for this run. */
const unchanged = () => ({ answers: [], delivery: [], leave_out: [] });
let changes = unchanged();
let sheet = null;
let good = JSON.stringify(changes);
let opened = null;

const asked = () => ({ ...changes });

function answer(line, param, value) {
  changes.answers = [...changes.answers.filter((a) => a.line !== line || a.param !== param), { line, param, value }];
}

/** Mends a problem in the one way that its button says. */
function mend(way) {
  switch (way.do) {
    case 'line':
      answer(way.line, way.param, way.value);
      break;
    case 'delivery':
      changes.delivery.push({ at: way.at ?? null, values: way.values });
      break;
    case 'decode':
      changes.decode = { ...changes.decode, [way.param]: way.value };
      break;
    case 'leave_out':
      changes.leave_out = [...new Set([...changes.leave_out, ...way.frames])];
      break;
    case 'folder':
      openFolders({
        label: phrase('any-put-the-results-here'),
        taken: (path) => {
          changes.delivery.push({ at: way.at ?? null, values: { to: path } });
          look();
        },
      });
      return;
    case 'go':
      location.href = way.to;
      return;
    default:
      return;
  }
  look();
}

/** The ticket's lines open their values. */
function drawTicket() {
  const items = [...document.querySelectorAll('.slip .lines > li:not(.between)')];
  sheet.lines.forEach((line, i) => {
    const item = items[i];
    if (!item) return;
    const own = changes.answers.some((a) => a.line === line.line);
    item.classList.toggle('is-off', !line.on);
    item.classList.toggle('is-changed', own);
    const words = inside(item);
    if (own || item.dataset.changed) {
      item.dataset.changed = 'yes';
      words.textContent = line.said;
    }
    button(words, () => open(`line ${i}`), phrase('runs-values-of-line', { i: i + 1 }));
  });
  document.querySelectorAll('.slip .goes').forEach((box, i) => {
    const isOwn = changes.delivery.length > 0;
    box.classList.toggle('is-changed', isOwn);
    if (isOwn || box.dataset.changed) {
      box.dataset.changed = 'yes';
      box.textContent = sheet.goes[i] ?? '';
    }
    button(box, () => open(`goes ${i}`), phrase('runs-values-of-delivery', { i: i + 1 }));
  });
}

/** Shows the values of a line or of the delivery. */
function open(what) {
  opened = opened === what ? null : what;
  drawValues();
}

function drawValues() {
  const box = $('values');
  box.hidden = !opened;
  if (!opened) return;
  const row = (param, put) =>
    el(
      'label',
      { title: param.about },
      el('span', {}, param.name.replace(/_/g, ' ')),
      field(param, param.name.replace(/_/g, ' '), param.default, (v) => {
        put(v);
        look();
      }),
      el('small', {}, param.unit),
    );
  const close = el(
    'button',
    { type: 'button', class: 'btn btn-sm btn-outline-light', onclick: () => open(opened) },
    phrase('any-close'),
  );
  if (opened.startsWith('goes')) {
    const at = Number(opened.split(' ')[1]);
    const folder = el(
      'button',
      { type: 'button', class: 'btn btn-sm btn-outline-light', onclick: () => mend({ do: 'folder', at }) },
      phrase('runs-choose-a-folder'),
    );
    box.replaceChildren(
      el('h2', {}, phrase('runs-where-and-how-results-are-written'), folder, ' ', close),
      ...fitting({ id: sheet.kinds[at], params: sheet.delivery[at] }, {}).map((p) =>
        row(p, (v) => {
          changes.delivery.push({ at, values: { [p.name]: v } });
        }),
      ),
    );
    return;
  }
  const line = sheet.lines[Number(opened.split(' ')[1])];
  const on = el(
    'label',
    {},
    el('span', {}, phrase('runs-on')),
    el('input', {
      type: 'checkbox',
      class: 'form-check-input',
      checked: line.on,
      'aria-label': phrase('runs-on'),
      onchange: (e) => {
        answer(line.line, 'on', e.target.checked);
        look();
      },
    }),
  );
  box.replaceChildren(
    el('h2', {}, phrase('runs-line', { line: line.line + 1, title: line.title }), close),
    on,
    ...line.params.map((p) => row(p, (v) => answer(line.line, p.name, v))),
  );
}

let round = 0;
async function look() {
  const mine = ++round;
  start.disabled = true;
  let fresh;
  try {
    fresh = await json('POST', '/api/sheet', asked());
  } catch (e) {
    // What cannot be is not kept: the sheet stays as it was.
    if (sheet) {
      say(e.message);
      changes = JSON.parse(good);
      drawValues();
      start.disabled = false;
      return;
    }
    $('what').textContent = phrase('runs-this-cannot-be-run-yet');
    $('where').textContent = e.message;
    $('cost').textContent = '';
    return;
  }
  if (mine !== round) return;
  sheet = fresh;
  good = JSON.stringify(changes);
  const box = $('asks');
  if (!box.contains(document.activeElement)) asks(box, sheet.asks, changes.answers, look);
  const stops = sheet.problems.some((p) => p.stops);
  $('what').textContent = phrase('any-pictures', { count: sheet.count });
  const more = sheet.folders > 1 ? phrase('runs-and-other-folders', { others: sheet.folders - 1 }) : '';
  $('takes').textContent = sheet.takes;
  $('where').textContent = phrase('runs-into-folder-more-free', {
    folder: sheet.folder,
    more,
    free: sheet.free ? phrase('runs-are-free-there', { free: sheet.free }) : '',
  });
  $('expected').replaceChildren(...sheet.expected.map((text) => el('p', { class: 'cost' }, text)));
  $('problems').replaceChildren(...sheet.problems.map((p) => problem(p, mend)));
  const changed = changes.answers.length || changes.delivery.length || changes.leave_out.length;
  $('changed').hidden = !changed;
  const left = changes.leave_out.length ? phrase('runs-left-out', { count: changes.leave_out.length }) : '';
  $('changed-words').textContent = phrase('runs-changed-for-this-run', { left });
  $('keep').hidden = !changes.answers.length && !changes.delivery.length;
  $('names').replaceChildren(...nameGroups(sheet.names));
  drawTicket();
  drawValues();
  start.disabled = $('start-first').disabled = stops;
  if (!stops && !sheet.asks.length && document.activeElement === document.body) start.focus();
  if (sheet.count) measure(mine);
}

/** Times and sizes are told at once, and a few pictures made to know them better. */
async function measure(mine) {
  const { cost } = sheet;
  if (cost) $('cost').textContent = costWords(cost, phrase('runs-being-measured-now', { sure: SURE[cost.sure] }));
  let told;
  try {
    told = await json('POST', '/api/sheet/measure', asked());
  } catch (e) {
    say(e.message);
    return;
  }
  if (mine !== round) return;
  if (told.is_long) {
    $('cost').textContent = costWords(cost, phrase('runs-corrected-while-it-runs', { sure: SURE[cost.sure] }));
    return;
  }
  if (!told.measured) {
    $('cost').textContent = phrase('runs-none-of-the-pictures-could-be');
    return;
  }
  $('cost').textContent = costWords(
    told,
    phrase('runs-measured-on-of-them-corrected-while', { measured: told.measured }),
  );
  if (told.room && !sheet.problems.some((p) => p.message === told.room.message)) {
    sheet.problems.push(told.room);
    $('problems').append(problem(told.room, mend));
    if (told.room.stops) start.disabled = $('start-first').disabled = true;
  }
}

async function begin(first) {
  start.disabled = true;
  try {
    const at = $('at').value;
    const most = Number($('most').value);
    const { run } = await json('POST', '/api/runs', {
      ...asked(),
      first,
      at: at ? new Date(at).toISOString() : null,
      most_failures: most > 0 ? most : null,
      report_to: $('report-to').value || null,
    });
    location.href = `/runs/${run}`;
  } catch (e) {
    say(e.message);
    start.disabled = false;
  }
}
start.onclick = () => begin(false);
$('start-first').onclick = () => begin(true);
$('reset').onclick = () => {
  changes = unchanged();
  opened = null;
  look();
};
$('keep').onclick = async () => {
  try {
    const kept = await json('POST', '/api/sheet/keep', { answers: changes.answers, delivery: changes.delivery });
    say(phrase('runs-kept-in-the-recipe-as-version', { version: kept.version }));
    changes.answers = [];
    changes.delivery = [];
    document.querySelectorAll('.slip .is-changed').forEach((i) => i.classList.remove('is-changed'));
    look();
  } catch (e) {
    say(e.message);
  }
};
document.addEventListener('keydown', (e) => {
  if (
    e.key === 'Enter' &&
    !e.ctrlKey &&
    !typing(e) &&
    !e.target.closest('a, button, [role=button], dialog') &&
    !start.disabled
  )
    start.click();
});
look();
// All frames of a folder that was still being read count at once.
document.addEventListener('rallo:read', (e) => {
  if (!e.detail.scanning || !sheet?.count) look();
});
