// Names of what a run will write, each with the picture it is made of, by the folders they go into.

import { el } from '../app/api.js';
import { phrase } from '../app/words.js';

/** Entries that follow each other and go into one folder. */
export function byFolder(names) {
  const groups = [];
  for (const name of names) {
    const last = groups.at(-1);
    if (last && last.folder === name.folder) last.names.push(name);
    else groups.push({ folder: name.folder, names: [name] });
  }
  return groups;
}

function line({ source, target, size, what, frame }) {
  const picture = frame
    ? el('img', { src: `/api/frames/${frame}/thumb?edge=160`, alt: '', loading: 'lazy' })
    : el('span', { class: 'no-thumb' });
  const pixels = size ? `${size[0]} × ${size[1]}` : (what ?? phrase('runs-unknown'));
  return el(
    'li',
    {},
    picture,
    el('span', {}, el('b', {}, target), el('small', {}, phrase('runs-of', { pixels, source }))),
  );
}

/** Draws them. */
export function nameGroups(names) {
  return byFolder(names).map(({ folder, names: files }) =>
    el(
      'section',
      {},
      el('h2', {}, `${folder ?? ''} `, el('small', {}, phrase('any-files', { count: files.length }))),
      el('ul', {}, ...files.map(line)),
    ),
  );
}
