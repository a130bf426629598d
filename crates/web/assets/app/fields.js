// Fields for values of lines and deliveries, where they are typed one below the other.

import { el, say } from './api.js';
import { parse, shown } from './values.js';
import { phrase } from './words.js';

const PLAIN = { class: 'form-control form-control-sm' };

/** What a choice offers: the words of documents, without their underscores. */
export const options = (param, value) =>
  param.choices.map((c) => el('option', { value: c, selected: c === String(value) }, c.replaceAll('_', ' ')));

/** A field for one parameter: `name` is what it is called for people, `put` is told a value that fits. */
export function field(param, name, value, put) {
  let input;
  if (param.kind === 'choice') {
    input = el('select', { class: 'form-select form-select-sm', 'aria-label': name }, ...options(param, value));
  } else if (param.kind === 'flag') {
    input = el('input', { type: 'checkbox', class: 'form-check-input', checked: value === true, 'aria-label': name });
  } else {
    input = el('input', { ...PLAIN, value: shown(value, param.kind), 'aria-label': name });
  }
  input.addEventListener('change', () => {
    const v = param.kind === 'flag' ? input.checked : param.kind === 'choice' ? input.value : parse(param, input.value);
    if (v === undefined) {
      say(phrase('app-does-not-fit', { name, value: input.value }));
      input.value = shown(value, param.kind);
    } else put(v);
  });
  return input;
}

/** Values of a delivery that mean something for some formats only. */
const ENCODED = ['jpeg', 'png', 'webp', 'avif', 'jxl', 'tiff'];
const ONLY = {
  long_edge: ENCODED,
  widths: ENCODED,
  sharpen: ENCODED,
  camera_data: [...ENCODED, phrase('any-as-it-is')],
  quality: ['jpeg', 'webp', 'avif', 'jxl'],
  limit: ['jpeg', 'webp', 'avif', 'jxl'],
  chroma: ['jpeg'],
  progressive: ['jpeg'],
  optimised: ['jpeg'],
  lossless: ['webp', 'jxl'],
  bits: ['png', 'jxl', 'tiff'],
  compression: ['tiff'],
  transparent: ['png', 'webp', 'avif', 'jxl', 'tiff'],
  profile: ['jpeg', 'png', 'webp', 'jxl', 'tiff'],
};

/** Values that mean something only where another one has a certain value. */
const WHERE = {
  move: (v) => v('fit') === 'move',
  ease: (v) => v('fit') === 'move',
  close_gaps: (v) => v('by') === 'lighten',
  width: (v) => v('size') === 'custom',
  height: (v) => v('size') === 'custom',
  colour: (v) => !v('fit') || v('fit') === 'fit',
  text_place: (v) => v('text'),
  text_size: (v) => v('text'),
  folder: (v) => v('to') === 'subfolder',
  quality: (v, kind) => !(kind === 'video' && v('megabytes')),
};

/** The values of a delivery that mean something by what its others are. */
export function fitting(kind, goes) {
  const value = (name) => goes[name] ?? kind.params.find((p) => p.name === name)?.default;
  const format = kind.id === 'pictures' || kind.id === 'frames' ? value('format') : null;
  return kind.params.filter(
    (p) =>
      (format === null || (ONLY[p.name] ?? [format]).includes(format)) && (WHERE[p.name]?.(value, kind.id) ?? true),
  );
}

/** The name of a line's value, for people. */
export const called = (title, param) => `${title}, ${param.name.replace(/_/g, ' ')}`;

/** A row of a form: the name, the field, the unit. `head` stands before the name. */
export function row({ title, param }, head, value, put) {
  const name = called(title, param);
  return el(
    'label',
    { title: param.about },
    el('span', {}, `${head}${name}`),
    field(param, name, value, put),
    el('small', {}, param.unit),
  );
}

/** What a recipe asks when it starts; `answers` is kept up to date, `changed` is told of each answer. */
export function asks(box, all, answers, changed = () => {}) {
  box.hidden = !all.length;
  const one = ({ line, title, param }) =>
    row({ title, param }, phrase('any-line', { line: line + 1 }), param.default, (value) => {
      const at = answers.findIndex((a) => a.line === line && a.param === param.name);
      if (at >= 0) answers.splice(at, 1);
      answers.push({ line, param: param.name, value });
      changed();
    });
  box.replaceChildren(el('h2', {}, phrase('app-this-recipe-asks')), ...all.map(one));
}
