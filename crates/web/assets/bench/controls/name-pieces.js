// Templates of names as pieces that can be put together, and back.

/** Pieces of a name. `make` gives what the template says for the piece's values. */
export const PIECES = {
  'the old name': {
    values: { part: 'whole', count: 4, from: '', to: '', letters: 'as they are' },
    make: (v) => {
      const changes = [];
      if (v.from) changes.push(`${v.from} > ${v.to}`);
      if (v.part !== 'whole') changes.push(`${v.part} ${v.count}`);
      if (v.letters !== 'as they are') changes.push(v.letters);
      return changes.length ? `{stem:${changes.join(';')}}` : '{stem}';
    },
  },
  text: { values: { text: '-' }, make: (v) => v.text.replace(/[{}]/g, '') },
  'a number': { values: { digits: 4 }, make: (v) => (v.digits > 1 ? `{n:0${v.digits}}` : '{n}') },
  'the date': { values: { date: '%Y-%m-%d' }, make: (v) => `{taken:${v.date}}` },
  data: { values: { data: 'camera' }, make: (v) => `{${v.data}}` },
};
export const CHOICES = {
  part: ['whole', 'first', 'last', 'without first', 'without last'],
  letters: ['as they are', 'lower', 'upper', 'title'],
  date: ['%Y-%m-%d', '%Y%m%d', '%d.%m.%Y', '%Y-%m-%d_%H-%M-%S', '%H%M%S', '%Y', '%B %Y'],
  data: ['camera', 'lens', 'iso', 'aperture', 'shutter', 'focal', 'folder', 'recipe', 'width', 'height'],
};
export const WORDS = {
  part: 'take',
  count: 'letters',
  from: 'put for',
  to: 'this',
  letters: 'letters',
  text: 'text',
  digits: 'digits',
  date: 'as',
  data: 'which',
};
export const DATES = {
  '%Y-%m-%d': '2026-05-04',
  '%Y%m%d': '20260504',
  '%d.%m.%Y': '04.05.2026',
  '%Y-%m-%d_%H-%M-%S': '2026-05-04_09-31-07',
  '%H%M%S': '093107',
  '%Y': '2026',
  '%B %Y': 'May 2026',
};

/** Takes a template apart into pieces, as far as they are such; nothing where it has others. */
export function apart(template) {
  const pieces = [];
  for (const part of template.match(/\{[^}]*\}|[^{}]+/g) ?? []) {
    let m;
    if (!part.startsWith('{')) pieces.push({ piece: 'text', text: part });
    else if ((m = part.match(/^\{n(?::0?(\d+))?\}$/))) pieces.push({ piece: 'a number', digits: Number(m[1] ?? 1) });
    else if ((m = part.match(/^\{taken:(.*)\}$/)) && CHOICES.date.includes(m[1]))
      pieces.push({ piece: 'the date', date: m[1] });
    else if ((m = part.match(/^\{(\w+)\}$/)) && CHOICES.data.includes(m[1])) pieces.push({ piece: 'data', data: m[1] });
    else if ((m = part.match(/^\{stem(?::(.*))?\}$/))) {
      const piece = { piece: 'the old name', ...PIECES['the old name'].values };
      for (const change of (m[1] ?? '').split(';').filter(Boolean)) {
        const cut = change.trim().match(/^(without first|without last|first|last) (\d+)$/);
        if (change.includes('>'))
          [piece.from, piece.to] = change.split('>').map((t, k) => (k ? t.replace(/^ /, '') : t.replace(/ $/, '')));
        else if (cut) {
          piece.part = cut[1];
          piece.count = Number(cut[2]);
        } else if (CHOICES.letters.includes(change.trim())) piece.letters = change.trim();
        else return null;
      }
      pieces.push(piece);
    } else return null;
  }
  return pieces;
}

/** The template of pieces. */
export const made = (pieces) => pieces.map((p) => PIECES[p.piece].make(p)).join('');
