// Where, when and how much: the area, the condition, the values per ISO and the mix of an opened line.

import { el } from '../../app/api.js';

import { SHAPES, list, shapeRow } from './areas.js';
import { phrase } from '../../app/words.js';

/** What a run asks for, where it waits, and what the line is bound to. */
function run(step, kind, put, blocks) {
  const ask = new Set(step.ask ?? []);
  const asks = kind.params
    .filter((p) => !['kept', 'file'].includes(p.kind))
    .map((p) => {
      const tick = el('input', {
        type: 'checkbox',
        checked: ask.has(p.name),
        'aria-label': phrase('bench-ask-for-at-the-start-of', { name: p.name }),
      });
      tick.addEventListener('change', () => {
        if (tick.checked) ask.add(p.name);
        else ask.delete(p.name);
        put('ask', ask.size ? [...ask] : undefined, true);
      });
      return el('label', { class: 'one' }, tick, p.name.replace(/_/g, ' '));
    });
  const wait = el('input', {
    class: 'span2',
    value: step.checkpoint ?? '',
    maxlength: 200,
    placeholder: phrase('bench-do-not-wait'),
    'aria-label': phrase('bench-wait-for-a-yes-before-this'),
    title: phrase('bench-what-is-to-be-looked-at'),
  });
  wait.addEventListener('change', () => put('checkpoint', wait.value.trim() || undefined, true));
  const block = el('input', {
    class: 'span2',
    value: step.block ?? '',
    maxlength: 200,
    list: 'block-names',
    placeholder: phrase('bench-no-block'),
    'aria-label': phrase('bench-block-this-line-belongs-to'),
    title: phrase('bench-neighbouring-lines-with-one-name-have'),
  });
  block.addEventListener('change', () => put('block', block.value.trim() || undefined, true));
  return [
    el('div', { class: 'shape' }, el('span', {}, phrase('bench-ask-at-start')), ...asks),
    el('label', {}, el('span', {}, phrase('bench-wait-for-a-yes-more')), wait),
    el(
      'label',
      {},
      el('span', {}, phrase('bench-block')),
      block,
      el('datalist', { id: 'block-names' }, ...blocks.map((b) => el('option', { value: b.name }))),
    ),
  ];
}

/** What is folded out under an opened line. `put(key, value, done)` writes what stands around its values. */
export function where(step, kind, put, draw, drawing, memory, blocks = []) {
  const rows = [];
  const mix = el('input', {
    type: 'range',
    min: 0,
    max: 100,
    step: 1,
    value: step.mix ?? 100,
    'aria-label': phrase('bench-mix'),
  });
  const typed = el('input', { value: step.mix ?? 100, 'aria-label': phrase('bench-mix-typed') });
  const mixed = (v, done) => put('mix', v >= 100 ? undefined : Math.max(0, v), done);
  mix.addEventListener('input', () => {
    typed.value = mix.value;
    mixed(Number(mix.value), false);
  });
  mix.addEventListener('change', () => mixed(Number(mix.value), true));
  typed.addEventListener('change', () => {
    const v = Number(typed.value);
    if (Number.isFinite(v)) mixed(v, true);
  });
  if (kind.group !== 'geometry')
    rows.push(
      el(
        'label',
        { title: phrase('bench-how-much-of-the-result-replaces') },
        el('span', {}, phrase('bench-mix')),
        mix,
        typed,
      ),
    );

  const when = el('input', {
    class: 'span2',
    value: step.when ?? '',
    placeholder: phrase('bench-always'),
    'aria-label': phrase('bench-only-for-pictures-where'),
    title: phrase('bench-such-as-iso-at-least-1600'),
  });
  when.addEventListener('change', () => put('when', when.value.trim() || undefined, true));
  rows.push(el('label', {}, el('span', {}, phrase('bench-only-where')), when));

  if (kind.takes_area) {
    const all = list(step.area);
    const set = (shapes, done) => put('area', shapes.length ? shapes : undefined, done);
    const add = el(
      'select',
      { class: 'span2', 'aria-label': phrase('bench-only-in-an-area') },
      el('option', { value: '' }, all.length ? phrase('bench-add-a-shape') : phrase('bench-the-whole-picture')),
      ...Object.entries(SHAPES).map(([k, s]) => el('option', { value: k }, s.label)),
    );
    add.addEventListener('change', () => {
      if (!add.value) return;
      set([...all, { kind: add.value, ...structuredClone(SHAPES[add.value].fresh) }], true);
      if (SHAPES[add.value].draw) draw(all.length);
    });
    rows.push(el('label', {}, el('span', {}, phrase('bench-area')), add));
    rows.push(...all.map((s, i) => shapeRow(s, i, all, set, draw, drawing)));
  }

  const numeric = kind.params.filter((p) => p.kind === 'number');
  if (numeric.length) {
    const table = step.by_iso ?? {};
    const isos = Object.keys(table)
      .map(Number)
      .sort((a, b) => a - b);
    const set = (next) => put('by_iso', Object.keys(next).length ? next : undefined, true);
    const line = (iso) => {
      const at = el('input', { type: 'number', class: 'short', value: iso, min: 1, 'aria-label': 'ISO' });
      at.addEventListener('change', () => {
        const next = { ...table, [Math.round(Number(at.value))]: table[iso] };
        if (Number(at.value) >= 1 && Number(at.value) !== iso) {
          delete next[iso];
          set(next);
        }
      });
      return el(
        'div',
        { class: 'shape' },
        el('label', { class: 'one' }, 'ISO', at),
        ...numeric.map((p) => {
          const field = el('input', {
            type: 'number',
            class: 'short',
            min: p.min,
            max: p.max,
            step: 'any',
            value: table[iso][p.name] ?? '',
            'aria-label': phrase('bench-at-iso', { name: p.name, iso }),
          });
          field.addEventListener('change', () => {
            const own = { ...table[iso] };
            if (field.value === '') delete own[p.name];
            else own[p.name] = Math.max(p.min, Math.min(p.max, Number(field.value)));
            const next = { ...table, [iso]: own };
            if (!Object.keys(own).length) delete next[iso];
            set(next);
          });
          return el('label', { class: 'one', title: p.about }, p.name.replace(/_/g, ' '), field);
        }),
      );
    };
    const more = el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-outline-dark',
        title: phrase('bench-values-for-one-iso-between-two'),
        onclick: () => {
          const iso = isos.length ? isos.at(-1) * 4 : 100;
          const first = numeric[0];
          set({ ...table, [iso]: { [first.name]: step[first.name] ?? first.default } });
        },
      },
      isos.length ? phrase('bench-another-iso') : phrase('bench-values-per-iso'),
    );
    rows.push(...isos.map(line), el('div', { class: 'shape' }, more));
  }
  rows.push(...run(step, kind, put, blocks));
  const set =
    step.area || step.when || step.by_iso || step.mix !== undefined || step.ask || step.checkpoint || step.block;
  const box = el(
    'details',
    { class: 'where', open: memory.where || set ? true : undefined },
    el('summary', {}, phrase('bench-where-when-how-much')),
    el('div', { class: 'controls' }, ...rows),
  );
  box.addEventListener('toggle', () => {
    memory.where = box.open;
  });
  return box;
}
