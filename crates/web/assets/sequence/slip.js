// The sieve as a slip: each pass a sentence whose values can be changed, with some of the frames it takes.

import { el } from '../app/api.js';
import { called } from './area-shapes.js';
import { sentence } from './passes.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** Gives the page `list`. */
export function slip(seq) {
  /** A value of a pass that can be changed. */
  function chip(part, put) {
    if (part.kind === 'choice') {
      const field = el(
        'select',
        { class: 'chip is-word', 'aria-label': phrase('sequence-value') },
        ...part.choices.map((c) => el('option', { value: c, selected: c === part.value }, part.names[c])),
      );
      field.addEventListener('change', () => put(part.set(field.value)));
      return field;
    }
    const number = part.kind === 'number' || part.kind === 'whole';
    const field = el('input', {
      class: 'chip',
      size: Math.max(2, String(part.value).length),
      value: part.value,
      'aria-label': phrase('sequence-value'),
      inputmode: number ? 'decimal' : 'text',
    });
    field.addEventListener('change', () => {
      const v = Number(field.value.replace(',', '.').replace('−', '-'));
      if (!number) put(part.set(field.value.trim()));
      else if (Number.isFinite(v) && field.value.trim())
        put(part.set(part.kind === 'whole' ? Math.max(1, Math.round(v)) : v));
      else field.value = part.value;
    });
    field.addEventListener('keydown', (e) => {
      const step = { ArrowUp: 1, ArrowDown: -1 }[e.key];
      if (!number || !step) return;
      e.preventDefault();
      put(part.set(Math.max(part.kind === 'whole' ? 1 : -1e4, Number(part.value) + step)));
    });
    return part.unit ? el('span', {}, field, part.unit) : field;
  }

  const AGAINST = [
    ['course', phrase('sequence-against-its-course'), 24],
    ['same_hour', phrase('sequence-against-the-same-hour-of-other'), 6],
    ['level', phrase('sequence-against-one-level'), 0],
  ];

  /** Some of the frames that a pass takes, as pictures. */
  function takenBy(i) {
    const gone = seq.frames.map((_, k) => k).filter((k) => seq.by[k] === i);
    const step = Math.max(1, gone.length / 12);
    const some = [...new Set(Array.from({ length: Math.min(12, gone.length) }, (_, k) => gone[Math.floor(k * step)]))];
    return el(
      'div',
      { class: 'taken', 'aria-label': phrase('sequence-some-of-the-frames-it-takes') },
      ...some.map((k) =>
        el(
          'button',
          {
            type: 'button',
            title: seq.frames[k].name,
            'aria-label': phrase('sequence-look-at', { name: seq.frames[k].name }),
            onclick: (e) => {
              e.stopPropagation();
              seq.look(k);
            },
          },
          el('img', { src: seq.thumb(seq.frames[k], 160), alt: '', loading: 'lazy' }),
        ),
      ),
    );
  }

  seq.list = function list() {
    if ($('passes').contains(document.activeElement) && document.activeElement.matches('input.chip'))
      document.activeElement.blur();
    $('passes').replaceChildren(
      ...seq.passes.map((pass, i) => {
        const put = (next) => {
          seq.passes[i] = { ...next, on: seq.passes[i].on };
          if (seq.passes[i].on !== false) delete seq.passes[i].on;
          seq.through();
        };
        const words = sentence(
          pass,
          seq.areas.map((area, k) => called(area, k)),
        ).map((part) => (typeof part === 'string' ? part : chip(part, put)));
        // A full stop stays with what it ends.
        if (words.at(-1) === '.') words.splice(-2, 2, el('span', { class: 'text-nowrap' }, words.at(-2), '.'));
        const goes = seq.by.filter((b) => b === i).length;
        const act = (label, title, run, disabled) =>
          el(
            'button',
            {
              type: 'button',
              class: 'btn btn-sm btn-outline-dark',
              title,
              disabled: disabled || undefined,
              onclick: (e) => {
                e.stopPropagation();
                run();
              },
            },
            label,
          );
        const shift = (d) => {
          seq.passes.splice(i + d, 0, ...seq.passes.splice(i, 1));
          seq.open = i + d;
          seq.through();
        };
        const edge = (name, label) =>
          act(
            pass[name] == null ? phrase('sequence-with', { label }) : phrase('sequence-without', { label }),
            '',
            () => {
              const next = { ...pass };
              if (next[name] == null) next[name] = name === 'lower' ? -10 : 10;
              else delete next[name];
              put(next);
            },
          );
        const acts =
          i !== seq.open
            ? []
            : [
                el(
                  'div',
                  { class: 'row-acts' },
                  ...(pass.pass === 'line'
                    ? [
                        edge('lower', phrase('sequence-a-lower-edge')),
                        edge('upper', phrase('sequence-an-upper-edge')),
                        ...AGAINST.filter(([name]) => !(name in pass.against)).map(([name, label, usual]) =>
                          act(label, '', () => put({ ...pass, against: { [name]: usual } })),
                        ),
                      ]
                    : []),
                  ...(pass.pass === 'windows' && pass.windows.length > 1
                    ? [
                        act(phrase('sequence-without-the-last-window'), '', () =>
                          put({ ...pass, windows: pass.windows.slice(0, -1) }),
                        ),
                      ]
                    : []),
                  act(pass.on === false ? phrase('any-switch-on') : phrase('any-switch-off'), '', () => {
                    seq.passes[i].on = pass.on === false;
                    if (seq.passes[i].on) delete seq.passes[i].on;
                    seq.through();
                  }),
                  act('↑', phrase('any-earlier'), () => shift(-1), i === 0),
                  act('↓', phrase('sequence-later'), () => shift(1), i === seq.passes.length - 1),
                  act(phrase('any-remove'), '', () => {
                    seq.passes.splice(i, 1);
                    seq.open = -1;
                    seq.through();
                  }),
                ),
              ];
        const pick = () => {
          if (seq.open !== i) {
            seq.open = i;
            seq.through();
          }
        };
        return el(
          'li',
          {
            class: `${i === seq.open ? 'is-open' : ''} ${pass.on === false ? 'is-off' : ''}`,
            'data-pass': String(i),
            onclick: pick,
          },
          el('button', {
            type: 'button',
            class: 'line-number',
            'aria-expanded': String(i === seq.open),
            'aria-label': phrase('sequence-pass', { i: i + 1 }),
            onclick: (e) => {
              e.stopPropagation();
              pick();
            },
          }),
          el(
            'div',
            { class: 'words' },
            ...words,
            el('br'),
            el(
              'small',
              { class: 'line-note' },
              pass.on === false ? phrase('sequence-off') : phrase('sequence-go', { goes }),
            ),
          ),
          ...(i === seq.open && goes ? [takenBy(i)] : []),
          ...acts,
        );
      }),
    );
  };
}
