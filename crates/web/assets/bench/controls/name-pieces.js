// Templates of names as pieces that can be put together, and back.

/** Pieces of a name: their values at first, and what the template says for its values. */
export const PIECES = {
  stem: {
    values: { part: 'whole', count: 4, from: '', to: '', letters: 'same' },
    make: (v) => {
      const changes = [];
      if (v.from) changes.push(`${v.from} > ${v.to}`);
      if (v.part !== 'whole') changes.push(`${v.part} ${v.count}`);
      if (v.letters !== 'same') changes.push(v.letters);
      return changes.length ? `{stem:${changes.join(';')}}` : '{stem}';
    },
  },
  text: { values: { text: '-' }, make: (v) => v.text.replace(/[{}]/g, '') },
  number: {
    values: { digits: 4 },
    make: (v) => (v.digits > 1 ? `{n:0${v.digits}}` : '{n}'),
  },
  taken: { values: { date: '%Y-%m-%d' }, make: (v) => `{taken:${v.date}}` },
  data: { values: { data: 'camera' }, make: (v) => `{${v.data}}` },
};
/** What a value may be, as templates write it. */
export const CHOICES = {
  part: ['whole', 'first', 'last', 'without first', 'without last'],
  letters: ['same', 'lower', 'upper', 'title'],
  date: ['%Y-%m-%d', '%Y%m%d', '%d.%m.%Y', '%Y-%m-%d_%H-%M-%S', '%H%M%S', '%Y', '%B %Y'],
  data: ['camera', 'lens', 'iso', 'aperture', 'shutter', 'focal', 'folder', 'recipe', 'width', 'height'],
};

const has = (key, value) => CHOICES[key].includes(value);

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
