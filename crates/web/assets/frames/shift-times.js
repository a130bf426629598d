// Capture times that were wrong are shifted.

import { el, json, say } from '../app/api.js';
import { forget, state, targets, view } from './desk.js';
import { paper } from './paper.js';

/** The sequence check. */

export function shift() {
  const ids = targets();
  if (!ids.length) return;
  const row = state.rows.get(ids[0]) ?? state.rows.get(state.ids[state.at]);
  const field = (label, value, width) => {
    const f = el('input', {
      class: 'form-control form-control-sm',
      value,
      'aria-label': label,
      style: `width:${width}`,
    });
    return f;
  };
  const sign = el(
    'select',
    { class: 'form-select form-select-sm', 'aria-label': 'Earlier or later', style: 'width:7rem' },
    el('option', { value: '1' }, 'later'),
    el('option', { value: '-1' }, 'earlier'),
  );
  const parts = [
    ['days', 86400],
    ['hours', 3600],
    ['minutes', 60],
    ['seconds', 1],
  ].map(([name, per]) => [field(name, '0', '4.5rem'), per, name]);
  const becomes = field('This frame’s time becomes', row?.taken?.replace('T', ' ') ?? '', '15rem');
  const preview = el('table', { class: 'table table-sm preview' });
  let millis = 0;
  let exact = false;
  async function show() {
    const by = Number(sign.value) * parts.reduce((sum, [f, per]) => sum + Number(f.value || 0) * per, 0) * 1000;
    const body = exact ? { ids, frame: ids[0], becomes: becomes.value } : { ids, millis: Math.round(by) };
    try {
      const told = await json('POST', '/api/shift', body);
      millis = told.millis;
      preview.replaceChildren(
        el(
          'tbody',
          {},
          ...told.lines.map((l) =>
            el(
              'tr',
              {},
              el('td', {}, l.name),
              el('td', {}, l.before),
              el('td', {}, '→'),
              el('td', {}, l.after ?? 'outside the calendar'),
            ),
          ),
          ...(told.timed > told.lines.length
            ? [el('tr', {}, el('td', { colspan: 4 }, `and ${told.timed - told.lines.length} more`))]
            : []),
          ...(told.untimed
            ? [el('tr', {}, el('td', { colspan: 4 }, `${told.untimed} have no capture time and stay as they are`))]
            : []),
        ),
      );
    } catch (e) {
      preview.replaceChildren(el('tbody', {}, el('tr', {}, el('td', { class: 'is-wrong' }, e.message))));
      millis = 0;
    }
  }
  parts.forEach(([f]) => {
    f.oninput = () => {
      exact = false;
      show();
    };
  });
  sign.onchange = () => {
    exact = false;
    show();
  };
  becomes.oninput = () => {
    exact = true;
    show();
  };
  paper(
    `Shift the capture time of ${ids.length} ${ids.length === 1 ? 'frame' : 'frames'}`,
    [
      el('p', {}, 'The files are not changed: the time counts in sorting, in names, and in what results carry.'),
      el('div', { class: 'row-of' }, ...parts.flatMap(([f, , name]) => [f, el('span', {}, name)]), sign),
      el('div', { class: 'row-of' }, el('span', {}, `or ${row?.name ?? 'the first'} was taken at`), becomes),
      preview,
    ],
    [
      [
        'Shift',
        async () => {
          if (!millis) {
            say('Nothing would be moved.');
            return false;
          }
          await json('POST', '/api/change', { ids, change: { do: 'shift', millis } });
          forget(ids);
          view();
          return true;
        },
        'do-shift',
      ],
    ],
  );
  show();
}

/** Keywords of the chosen frames, from a list that is reused; sidecars. */
