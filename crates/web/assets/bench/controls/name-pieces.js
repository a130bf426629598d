// Templates of names as pieces that can be put together, and back.

import { phrase } from '../../app/words.js';

/** Pieces of a name: how each is called, its values at first, and what the template says for its values. */
export const PIECES = {
  stem: {
    title: phrase('bench-the-old-name'),
    values: { part: 'whole', count: 4, from: '', to: '', letters: 'same' },
    make: (v) => {
      const changes = [];
      if (v.from) changes.push(`${v.from} > ${v.to}`);
      if (v.part !== 'whole') changes.push(`${v.part} ${v.count}`);
      if (v.letters !== 'same') changes.push(v.letters);
      return changes.length ? `{stem:${changes.join(';')}}` : '{stem}';
    },
  },
  text: { title: phrase('bench-a-text'), values: { text: '-' }, make: (v) => v.text.replace(/[{}]/g, '') },
  number: {
    title: phrase('bench-a-number'),
    values: { digits: 4 },
    make: (v) => (v.digits > 1 ? `{n:0${v.digits}}` : '{n}'),
  },
  taken: { title: phrase('bench-the-date'), values: { date: '%Y-%m-%d' }, make: (v) => `{taken:${v.date}}` },
  data: { title: phrase('bench-data'), values: { data: 'camera' }, make: (v) => `{${v.data}}` },
};
/** What a value may be, as templates write it, and how it is called. */
export const CHOICES = {
  part: {
    whole: phrase('bench-the-whole'),
    first: phrase('bench-first'),
    last: phrase('bench-last'),
    'without first': phrase('bench-without-first'),
    'without last': phrase('bench-without-last'),
  },
  letters: {
    same: phrase('bench-as-they-are'),
    lower: phrase('bench-lower'),
    upper: phrase('bench-upper'),
    title: phrase('bench-title'),
  },
  date: {
    '%Y-%m-%d': '2026-05-04',
    '%Y%m%d': '20260504',
    '%d.%m.%Y': '04.05.2026',
    '%Y-%m-%d_%H-%M-%S': '2026-05-04_09-31-07',
    '%H%M%S': '093107',
    '%Y': '2026',
    '%B %Y': phrase('bench-may-2026'),
  },
  data: {
    camera: phrase('bench-data-camera'),
    lens: phrase('bench-data-lens'),
    iso: phrase('bench-data-iso'),
    aperture: phrase('bench-data-aperture'),
    shutter: phrase('bench-data-shutter'),
    focal: phrase('bench-data-focal'),
    folder: phrase('bench-data-folder'),
    recipe: phrase('bench-data-recipe'),
    width: phrase('bench-data-width'),
    height: phrase('bench-data-height'),
  },
};
export const LABELS = {
  part: phrase('bench-take'),
  count: phrase('bench-letters'),
  from: phrase('bench-put-for'),
  to: phrase('bench-this'),
  letters: phrase('bench-letters'),
  text: phrase('bench-a-text'),
  digits: phrase('bench-digits'),
  date: phrase('bench-as-date'),
  data: phrase('bench-which'),
};

const has = (key, value) => Object.hasOwn(CHOICES[key], value);

/** Takes a template apart into pieces, as far as they are such; nothing where it has others. */
export function apart(template) {
  const pieces = [];
  for (const part of template.match(/\{[^}]*\}|[^{}]+/g) ?? []) {
    let m;
    if (!part.startsWith('{')) pieces.push({ piece: 'text', text: part });
    else if ((m = part.match(/^\{n(?::0?(\d+))?\}$/))) pieces.push({ piece: 'number', digits: Number(m[1] ?? 1) });
    else if ((m = part.match(/^\{taken:(.*)\}$/)) && has('date', m[1])) pieces.push({ piece: 'taken', date: m[1] });
    else if ((m = part.match(/^\{(\w+)\}$/)) && has('data', m[1])) pieces.push({ piece: 'data', data: m[1] });
    else if ((m = part.match(/^\{stem(?::(.*))?\}$/))) {
      const piece = { piece: 'stem', ...PIECES.stem.values };
      for (const change of (m[1] ?? '').split(';').filter(Boolean)) {
        const cut = change.trim().match(/^(without first|without last|first|last) (\d+)$/);
        if (change.includes('>'))
          [piece.from, piece.to] = change.split('>').map((t, k) => (k ? t.replace(/^ /, '') : t.replace(/ $/, '')));
        else if (cut) {
          piece.part = cut[1];
          piece.count = Number(cut[2]);
        } else if (change.trim() !== 'same' && has('letters', change.trim())) piece.letters = change.trim();
        else return null;
      }
      pieces.push(piece);
    } else return null;
  }
  return pieces;
}

/** The template of pieces. */
export const made = (pieces) => pieces.map((p) => PIECES[p.piece].make(p)).join('');
