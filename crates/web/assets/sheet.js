// The run sheet: what will run on what, and where to.

import { duration, el, json, say, typing } from './talk.js';
import { parse, shown } from './ticket.js';

const start = document.getElementById('start');
let answers = [];

/** What the recipe asks for at its start; an answer shows anew what the run will do. */
function asks(all) {
  const box = document.getElementById('asks');
  box.hidden = !all.length;
  const row = ({ line, title, param }) => {
    const put = (value) => {
      answers = [...answers.filter((a) => a.line !== line || a.param !== param.name), { line, param: param.name, value }];
      look();
    };
    const name = `${title}, ${param.name.replace(/_/g, ' ')}`;
    let field;
    if (param.kind === 'choice') {
      field = el('select', { class: 'form-select form-select-sm', 'aria-label': name }, ...param.choices.map((c) => el('option', { selected: c === param.default }, c)));
      field.addEventListener('change', () => put(field.value));
    } else if (param.kind === 'flag') {
      field = el('input', { type: 'checkbox', class: 'form-check-input', checked: param.default === true, 'aria-label': name });
      field.addEventListener('change', () => put(field.checked));
    } else {
      field = el('input', { class: 'form-control form-control-sm', value: shown(param.default, param.kind), 'aria-label': name });
      field.addEventListener('change', () => {
        const value = parse(param, field.value);
        if (value === undefined) { say(`${name}: ${field.value} does not fit`); field.value = shown(param.default, param.kind); } else put(value);
      });
    }
    return el('label', { title: param.about }, el('span', {}, `Line ${line + 1}, ${name}`), field, el('small', {}, param.unit));
  };
  box.replaceChildren(el('h2', {}, 'This recipe asks'), ...all.map(row));
}

async function look() {
  let sheet;
  try { sheet = await json('POST', '/api/sheet', { answers }); } catch (e) {
    document.getElementById('what').textContent = 'This cannot be run yet';
    document.getElementById('where').textContent = e.message;
    return;
  }
  if (!document.getElementById('asks').contains(document.activeElement)) asks(sheet.asks);
  const stops = sheet.problems.some((p) => p.stops);
  document.getElementById('what').textContent = `${sheet.count} pictures` +
    (sheet.seconds != null ? `, ${duration(sheet.seconds)}` : '');
  document.getElementById('where').textContent = `Into ${sheet.folder}` +
    (sheet.bytes ? `: about ${sheet.bytes} in all, measured on the sample` : '') + (sheet.free ? `. ${sheet.free} are free there.` : '.');
  document.getElementById('problems').replaceChildren(...sheet.problems.map((p) =>
    el('div', { class: p.stops ? 'fail' : 'fail is-mild' }, el('b', {}, p.stops ? 'Before it can start' : 'Good to know'), p.message)));
  document.querySelector('#names tbody').replaceChildren(...sheet.names.map((n) => el('tr', {},
    el('td', {}, n.source), el('td', {}, n.target), el('td', {}, n.size ? `${n.size[0]} × ${n.size[1]}` : 'unknown'))));
  start.disabled = stops;
  if (!stops && !sheet.asks.length) start.focus();
}

start.onclick = async () => {
  start.disabled = true;
  try {
    const at = document.getElementById('at').value;
    const most = Number(document.getElementById('most').value);
    const { run } = await json('POST', '/api/runs', { answers, at: at ? new Date(at).toISOString() : null, most_failures: most > 0 ? most : null });
    location.href = `/runs/${run}`;
  } catch (e) { say(e.message); start.disabled = false; }
};
document.addEventListener('keydown', (e) => {
  if (e.key === 'Enter' && !typing(e) && !e.target.closest('a, button') && !start.disabled) start.click();
});
look();
