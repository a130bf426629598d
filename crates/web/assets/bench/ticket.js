// The ticket: numbered sentences with values in them, and every value of an opened line below each other.

import { el } from '../app/api.js';
import { options } from '../app/fields.js';
import { parse, shown } from '../app/values.js';
import { chip } from './chip.js';
import { curvePlot } from './controls/curve.js';
import { coursePlot } from './controls/course-plot.js';
import { disc, hasDisc } from './controls/colour-discs.js';
import { phrase } from '../app/words.js';

/** A file's text, or its bytes as a data: URL where they are no text. */
async function asText(file) {
  const bytes = new Uint8Array(await file.arrayBuffer());
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(bytes);
  } catch {
    return new Promise((done) => {
      const reader = new FileReader();
      reader.onload = () => done(reader.result);
      reader.readAsDataURL(file);
    });
  }
}

/** A sentence's parts, with chips. */
export function sentence(parts, params, values, change) {
  const all = [];
  for (const part of parts) {
    const param = typeof part === 'string' ? null : params.find((p) => p.name === part.param);
    const text = typeof part === 'string' ? part : part.text;
    if (param) {
      all.push(chip(param, text, values, change));
      continue;
    }
    // A full stop or a comma does not begin a line by itself.
    const sign = /^[.,:;)]+/.exec(text)?.[0] ?? '';
    if (sign && all.at(-1) instanceof Element)
      all.push(el('span', { class: 'with-sign' }, all.pop(), sign), text.slice(sign.length));
    else all.push(text);
  }
  return all;
}

/** Every parameter of an opened line. */
export function controls(params, values, change, histogram, memory) {
  const rows = [];
  const discs = params.filter(hasDisc);
  // With discs, their numbers are folded away.
  const numbers = el(
    'details',
    { class: 'disc-numbers', open: memory.numbers ? true : undefined },
    el('summary', {}, phrase('bench-the-numbers')),
  );
  numbers.addEventListener('toggle', () => {
    memory.numbers = numbers.open;
  });
  if (discs.length) {
    rows.push(
      el(
        'div',
        { class: 'discs' },
        ...discs.map((p) =>
          disc(
            p,
            () => values()[p.name] ?? p.default,
            (v, done) => change({ [p.name]: v }, done),
          ),
        ),
      ),
      numbers,
    );
  }
  for (const param of params) {
    const value = values()[param.name] ?? param.default;
    if (param.kind === 'points' || param.kind === 'kept') continue;
    const into = hasDisc(param) ? { push: (...r) => numbers.append(...r) } : rows;
    const label = el('span', { title: param.about }, param.name.replace(/[_.]/g, ' '));
    const put = (v, done) => {
      if (v !== undefined) change({ [param.name]: v }, done);
    };
    let row;
    // What has thousands of notches is typed.
    if (param.kind === 'number' && (param.max - param.min) / param.step <= 1500) {
      const range = el('input', {
        type: 'range',
        min: param.min,
        max: param.max,
        step: param.step,
        value,
        'aria-label': param.name,
      });
      const field = el('input', { value, 'aria-label': phrase('bench-typed', { name: param.name }) });
      range.addEventListener('input', () => {
        field.value = range.value;
        put(Number(range.value), false);
      });
      range.addEventListener('change', () => put(Number(range.value), true));
      field.addEventListener('change', () => put(parse(param, field.value), true));
      row = el('label', {}, label, range, field);
    } else if (param.kind === 'triple') {
      into.push(el('div', { class: 'triple-name', title: param.about }, param.name.replace(/_/g, ' ')));
      ['red', 'green', 'blue'].forEach((name, k) => {
        const range = el('input', {
          type: 'range',
          min: param.min,
          max: param.max,
          step: param.step,
          value: value[k],
          'aria-label': `${param.name}, ${name}`,
        });
        const field = el('input', {
          value: value[k],
          'aria-label': phrase('bench-typed-name-name2', { name: param.name, name2: name }),
        });
        const set = (v, done) => {
          if (Number.isFinite(v)) {
            const now = [...(values()[param.name] ?? param.default)];
            now[k] = Math.max(param.min, Math.min(param.max, v));
            put(now, done);
          }
        };
        range.addEventListener('input', () => {
          field.value = range.value;
          set(Number(range.value), false);
        });
        range.addEventListener('change', () => set(Number(range.value), true));
        field.addEventListener('change', () => set(Number(field.value.replace(',', '.').replace('−', '-')), true));
        into.push(el('label', {}, el('span', {}, name), range, field));
      });
      continue;
    } else if (param.kind === 'course') {
      rows.push(coursePlot(param, value, put));
      continue;
    } else if (param.kind === 'file') {
      const field = el('input', { class: 'span2', type: 'file', 'aria-label': param.name });
      field.addEventListener('change', async () => {
        const f = field.files[0];
        if (f) put(await asText(f), true);
      });
      row = el('label', {}, label, field);
      if (value)
        rows.push(
          el(
            'div',
            { class: 'triple-name' },
            phrase('bench-a-file-of-kb-is-in', { count: Math.ceil(value.length / 1000) }),
            el(
              'button',
              { type: 'button', class: 'btn btn-sm btn-outline-dark', onclick: () => put('', true) },
              phrase('bench-take-it-out'),
            ),
          ),
        );
    } else if (param.kind === 'choice') {
      const field = el('select', { class: 'span2' }, ...options(param, value));
      field.addEventListener('change', () => put(field.value, true));
      row = el('label', {}, label, field);
    } else if (param.kind === 'flag') {
      const field = el('input', { type: 'checkbox', checked: value === true });
      field.addEventListener('change', () => put(field.checked, true));
      row = el('label', {}, label, field);
    } else {
      const field = el('input', {
        class: 'span2',
        value: shown(value, param.kind),
        type: param.kind === 'colour' ? 'color' : 'text',
        'aria-label': param.name,
      });
      field.addEventListener('change', () => put(parse(param, field.value), true));
      row = el('label', {}, label, field);
    }
    // Words of a choice may be numbers in a document.
    const same =
      param.kind === 'choice'
        ? String(value) === String(param.default)
        : JSON.stringify(value) === JSON.stringify(param.default);
    if (!same) {
      row.append(
        el(
          'button',
          {
            type: 'button',
            class: 'to-default',
            title: phrase('bench-back-to', { default: shown(param.default, param.kind) || phrase('bench-nothing') }),
            'aria-label': phrase('bench-back-to-what-it-is-by', { name: param.name }),
            onclick: (e) => {
              e.preventDefault();
              change({ [param.name]: param.default }, true);
            },
          },
          '↺',
        ),
      );
    }
    rows.push(row);
  }
  const channels = params.filter((p) => p.kind === 'points');
  if (channels.length) {
    const which = channels.find((p) => p.name === memory.channel) ?? channels[0];
    const points = values()[which.name] ?? which.default;
    rows.push(
      el(
        'div',
        { class: 'tabs', role: 'group', 'aria-label': phrase('bench-channel') },
        ...channels.map((p) =>
          el(
            'button',
            {
              type: 'button',
              class: `btn btn-sm btn-outline-dark${p === which ? ' active' : ''}`,
              onclick: () => {
                memory.channel = p.name;
                change({}, true);
              },
            },
            p.name,
          ),
        ),
      ),
    );
    rows.push(curvePlot(points, histogram, (p, done) => change({ [which.name]: p.map((q) => [...q]) }, done)));
    const field = el('input', {
      class: 'span2',
      value: points.map((q) => q.join(' ')).join(', '),
      'aria-label': phrase('bench-points-in-and-out'),
      title: phrase('bench-points-as-in-out-in-out'),
    });
    field.addEventListener('change', () => {
      const p = field.value
        .split(/[,;]/)
        .map((q) => q.trim().split(/\s+/).map(Number))
        .filter((q) => q.length === 2 && q.every(Number.isFinite));
      if (p.length >= 2) change({ [which.name]: p }, true);
    });
    rows.push(el('label', {}, el('span', {}, phrase('bench-points')), field));
  }
  return el('div', { class: 'controls' }, ...rows);
}
