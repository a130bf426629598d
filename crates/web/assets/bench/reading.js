// Line 0 of the ticket: how files are read before the first line, where there is anything to say about it.

import { el } from '../app/api.js';
import { controls, sentence } from './ticket.js';
import { phrase } from '../app/words.js';

/** Values of `decode` by the names of their controls: `raw.look` is the value `look` of its part `raw`. */
function values(decode) {
  const flat = {};
  for (const [name, value] of Object.entries(decode ?? {})) {
    if (value && typeof value === 'object')
      for (const [inner, v] of Object.entries(value)) flat[`${name}.${inner}`] = v;
    else flat[name] = value;
  }
  return flat;
}

/** The document with these values, those that are as usual left out. */
function put(doc, flat, params) {
  const decode = {};
  for (const param of params) {
    const value = flat[param.name];
    if (value === undefined || JSON.stringify(value) === JSON.stringify(param.default)) continue;
    const [part, inner] = param.name.split('.');
    if (inner) (decode[part] ??= {})[inner] = value;
    else decode[part] = value;
  }
  if (Object.keys(decode).length) doc.decode = decode;
  else delete doc.decode;
}

/** What stands among the steps for who looks for it there. */
export const READING = {
  id: 'reading',
  title: phrase('bench-how-files-are-read'),
  group: phrase('bench-before-the-first-line'),
  params: [],
  one_of: [],
  starter: {},
  about: phrase('bench-camera-raw-files-without-a-colour'),
  words: phrase('bench-words-for-reading').split(', '),
};

/** Draws the line into `box`; `draw` does so again, `show` opens it. */
export function reading(box, { doc, told, params, asks, isRaw, hasRaw, askLight, changed }) {
  let open = false;
  const change = (next, done) => {
    // Who moves the light wants it to be used.
    const given = 'raw.kelvin' in next || 'raw.duv' in next ? { 'raw.white': 'given' } : {};
    put(doc(), { ...values(doc().decode), ...given, ...next }, params);
    changed(done);
    draw();
  };
  // What is given as light comes from the camera or from the picture, and can then be moved.
  const light = () => {
    const take = ({ kelvin, duv }) => change({ 'raw.kelvin': kelvin, 'raw.duv': duv }, true);
    const button = (words, byClick) =>
      el(
        'button',
        { type: 'button', class: 'btn btn-sm btn-outline-dark', onclick: () => askLight(byClick, take) },
        words,
      );
    return el(
      'div',
      { class: 'reading-light' },
      button(phrase('bench-pick-a-neutral-spot'), true),
      button(phrase('bench-the-cameras-setting-in-numbers'), false),
    );
  };
  const now = () => values(doc().decode);
  function draw() {
    const parts = told()?.reading ?? [];
    box.hidden = !parts.length && !asks && !open;
    if (box.hidden || box.contains(document.activeElement?.closest?.('input:not([type=checkbox]), select'))) return;
    const words = parts.length
      ? sentence(parts, params, now, change)
      : [phrase('bench-read-as-they-are-profiles-transparent')];
    // What is said of camera raw has its place where there is some.
    const own = params.filter((p) => hasRaw || doc().decode?.raw || !p.name.startsWith('raw.'));
    const head = el(
      'button',
      {
        type: 'button',
        class: 'reading-head',
        'aria-expanded': String(open),
        title: phrase('bench-how-files-are-read-before-the'),
        onclick: () => {
          open = !open;
          draw();
        },
      },
      '0',
    );
    box.replaceChildren(
      head,
      el('div', { class: 'words' }, ...words),
      ...(open ? [controls(own, now, change, null, {}), ...(isRaw ? [light()] : [])] : []),
    );
  }
  const show = () => {
    open = true;
    draw();
    box.scrollIntoView({ block: 'nearest' });
    box.querySelector('select')?.focus();
  };
  return { draw, show };
}
