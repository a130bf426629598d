// Capture times that were wrong are shifted.

import { el, json, say } from '../app/api.js';
import { forget, state, targets, view } from './desk.js';
import { paper } from './paper.js';
import { phrase } from '../app/words.js';

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
    { class: 'form-select form-select-sm', 'aria-label': phrase('frames-earlier-or-later'), style: 'width:7rem' },
    el('option', { value: '1' }, phrase('frames-later')),
    el('option', { value: '-1' }, phrase('frames-earlier')),
  );
  const parts = [
    [phrase('frames-days'), 86400],
    [phrase('frames-hours'), 3600],
    [phrase('frames-minutes'), 60],
    [phrase('frames-seconds'), 1],
  ].map(([name, per]) => [field(name, '0', '4.5rem'), per, name]);
  const becomes = field(phrase('frames-this-frames-time-becomes'), row?.taken?.replace('T', ' ') ?? '', '15rem');
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
              el('td', {}, l.after ?? phrase('frames-outside-the-calendar')),
            ),
          ),
          ...(told.timed > told.lines.length
            ? [
                el(
                  'tr',
                  {},
                  el('td', { colspan: 4 }, phrase('frames-and-more', { timed: told.timed - told.lines.length })),
                ),
              ]
            : []),
          ...(told.untimed
            ? [
                el(
                  'tr',
                  {},
                  el('td', { colspan: 4 }, phrase('frames-have-no-capture-time-and-stay', { untimed: told.untimed })),
                ),
              ]
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
    phrase('frames-shift-the-capture-time-of', { count: ids.length }),
    [
      el('p', {}, phrase('frames-the-files-are-not-changed-the')),
      el('div', { class: 'row-of' }, ...parts.flatMap(([f, , name]) => [f, el('span', {}, name)]), sign),
      el(
        'div',
        { class: 'row-of' },
        el('span', {}, phrase('frames-or-was-taken-at', { name: row?.name ?? phrase('frames-the-first') })),
        becomes,
      ),
      preview,
    ],
    [
      [
        phrase('frames-shift'),
        async () => {
          if (!millis) {
            say(phrase('frames-nothing-would-be-moved'));
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
