// The head of the list: which columns it has.

import { el } from '../app/api.js';
import { COLUMNS } from './grid.js';
import { showDialog } from './dialog.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** Draws the head; `chosen` is called when other columns were chosen. */
export function listHead(grid, chosen) {
  const head = $('head');
  head.hidden = !grid.list;
  $('as-list').setAttribute('aria-pressed', grid.list);
  $('as-list').classList.toggle('is-on', grid.list);
  $('size').value = grid.size;
  if (!grid.list) return;
  head.replaceChildren(
    el('span', { class: 'pic' }),
    el('b', {}, phrase('frames-name')),
    el('span', { class: 'col decided' }, phrase('frames-choice')),
    ...grid.columns.map((c) => el('span', { class: `col col-${c}` }, COLUMNS[c][0])),
    el(
      'button',
      {
        class: 'btn btn-sm btn-outline-light',
        onclick: () => columns(grid, chosen),
        title: phrase('frames-which-columns'),
      },
      phrase('frames-columns'),
    ),
  );
}

/** Which columns there are. */
function columns(grid, chosen) {
  const ticks = Object.entries(COLUMNS).map(([id, [title]]) =>
    el(
      'label',
      { class: 'tick' },
      el('input', { type: 'checkbox', class: 'form-check-input', value: id, checked: grid.columns.includes(id) }),
      ` ${title}`,
    ),
  );
  const done = el('button', { type: 'button', class: 'btn btn-primary', 'data-act': 'go' }, phrase('any-done'));
  const drawn = el(
    'div',
    {},
    el('h2', {}, phrase('frames-columns-of-the-list')),
    el('div', { class: 'ticks' }, ...ticks),
    el('div', { class: 'folder-foot' }, done),
  );
  showDialog(drawn, {
    go: (_, dialog) => {
      grid.columns = [...dialog.querySelectorAll(':checked')].map((tick) => tick.value);
      chosen();
    },
  });
}
