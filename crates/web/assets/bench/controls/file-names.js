// Names of results, put together from pieces, with old and new names side by side.

import { say } from '../../app/api.js';
import { dialogAt } from '../../app/dialogs.js';
import { drawn } from '../../app/parts.js';
import { PIECES, apart, made } from './name-pieces.js';

/** What is typed is tried after so many milliseconds without another letter. */
const SOON = 150;

/** A value as a piece takes it: numbers within what makes sense, texts without the signs of templates. */
const taken = (key, text) =>
  key === 'count' || key === 'digits'
    ? Math.max(1, Math.min(key === 'digits' ? 12 : 200, Math.round(Number(text) || 1)))
    : ['from', 'to', 'text'].includes(key)
      ? text.replace(/[;{}>]/g, '')
      : text;

/** Opens the builder; `take(name)` is told the template. */
export async function nameBuilder({ name, recipe, start, ending }, take) {
  let pieces = apart(name);
  let dialog = null;
  let due;
  let round = 0;
  const at = (selector) => dialog.querySelector(selector);
  /** Which piece something belongs to. */
  const indexOf = (inside) => [...at('.name-pieces').children].indexOf(inside.closest('.name-piece'));

  async function look() {
    const mine = ++round;
    const told = at('.name-told');
    const taking = at('[data-act=take]');
    const asked = { name: at('#name-template').value, recipe, start, ending };
    try {
      const fresh = await drawn('/bench/dialogs/names/told', asked);
      if (mine !== round) return;
      taking.disabled = false;
      const said = fresh.querySelector('.name-told');
      told.textContent = said.textContent;
      told.className = said.className;
      at('.name-table tbody').replaceWith(fresh.querySelector('tbody'));
    } catch (e) {
      if (mine !== round) return;
      told.textContent = e.message;
      taking.disabled = true;
    }
  }
  function soon() {
    clearTimeout(due);
    due = setTimeout(look, SOON);
  }
  /** A piece as the server has drawn its kind, with its values. */
  function shown(piece, i) {
    const box = at(`template[data-piece=${piece.piece}]`).content.firstElementChild.cloneNode(true);
    for (const field of box.querySelectorAll('[data-key]')) field.value = piece[field.dataset.key];
    const count = box.querySelector('[data-count]');
    if (count) count.hidden = piece.part === 'whole';
    box.querySelector('[data-act=earlier]').hidden = i === 0;
    return box;
  }
  function draw() {
    at('.name-own').hidden = pieces !== null;
    at('.name-add').hidden = pieces === null;
    at('.name-pieces').replaceChildren(...(pieces ?? []).map(shown));
  }
  function changed() {
    at('#name-template').value = made(pieces);
    draw();
    soon();
  }

  try {
    dialog = await dialogAt('/bench/dialogs/names', {
      take() {
        dialog.close();
        take(at('#name-template').value);
      },
      anew() {
        pieces = [{ piece: 'stem', ...PIECES.stem.values }];
        changed();
      },
      earlier(button) {
        const i = indexOf(button);
        [pieces[i - 1], pieces[i]] = [pieces[i], pieces[i - 1]];
        changed();
      },
      away(button) {
        pieces.splice(indexOf(button), 1);
        changed();
      },
    });
  } catch (e) {
    say(e.message);
    return;
  }
  dialog.addEventListener('click', ({ target }) => {
    const { add } = target.dataset;
    if (!add) return;
    pieces.push({ piece: add, ...PIECES[add].values });
    changed();
  });
  dialog.addEventListener(
    'input',
    ({ target }) => {
      const { key } = target.dataset;
      if (target.id === 'name-template') {
        pieces = apart(target.value);
        draw();
        soon();
      } else if (key) {
        const piece = pieces[indexOf(target)];
        piece[key] = taken(key, target.value);
        at('#name-template').value = made(pieces);
        const count = target.closest('.name-piece').querySelector('[data-count]');
        if (count) count.hidden = piece.part === 'whole';
        soon();
      }
    },
    true,
  );
  at('#name-template').value = name;
  draw();
  look();
}
