// Names of results, put together from pieces, with old and new names side by side.

import { el, json, say } from '../../app/api.js';

import { CHOICES, LABELS, PIECES, apart, made } from './name-pieces.js';
import { phrase } from '../../app/words.js';

/** Opens the builder; `taken(name)` is told the template. */
export function nameBuilder({ name, recipe, start, ending }, taken) {
  let pieces = apart(name);
  const dialog = el('dialog', { class: 'names-dialog', 'aria-label': phrase('bench-build-the-name') });
  const rows = el('div', { class: 'name-pieces' });
  const typed = el('input', {
    class: 'form-control form-control-sm',
    value: name,
    'aria-label': phrase('bench-the-name-as-a-template'),
    spellcheck: 'false',
  });
  const told = el('p', { class: 'name-told', role: 'status' });
  const table = el('tbody', {});
  const take = el(
    'button',
    {
      type: 'button',
      class: 'btn btn-primary',
      onclick: () => {
        dialog.close();
        taken(typed.value);
      },
    },
    phrase('bench-take-this-name'),
  );

  let round = 0;
  async function look() {
    const mine = ++round;
    let found;
    try {
      found = await json('POST', '/api/names', { name: typed.value, recipe, start, ending });
    } catch (e) {
      if (mine !== round) return;
      told.textContent = e.message;
      take.disabled = true;
      return;
    }
    if (mine !== round) return;
    take.disabled = false;
    const cut = found.names.filter((n) => n.changed).length;
    told.textContent = !found.names.length
      ? phrase('bench-there-are-no-frames-to-try')
      : found.clashes
        ? phrase('bench-of-names-are-there-twice-add', { clashes: found.clashes, count: found.names.length })
        : phrase('bench-names-each-only-once', {
            count: found.names.length,
            cut: cut ? phrase('bench-had-signs-that-not-every-file', { cut }) : '',
          });
    told.classList.toggle('is-wrong', found.clashes > 0);
    const first = found.names
      .filter((n) => n.clash)
      .concat(found.names.filter((n) => !n.clash))
      .slice(0, 500);
    table.replaceChildren(
      ...first.map((n) =>
        el(
          'tr',
          { class: n.clash ? 'is-clash' : '' },
          el('td', {}, n.old),
          el('td', {}, n.new),
          el('td', {}, n.clash ? phrase('bench-as', { clash: n.clash }) : ''),
        ),
      ),
    );
  }

  let due;
  const soon = () => {
    clearTimeout(due);
    due = setTimeout(look, 150);
  };
  const rebuilt = () => {
    typed.value = made(pieces);
    draw();
    soon();
  };

  function control(piece, key) {
    const put = (v) => {
      piece[key] = v;
      typed.value = made(pieces);
      if (key === 'part') draw();
      soon();
    };
    const label = LABELS[key];
    if (CHOICES[key]) {
      const field = el(
        'select',
        { 'aria-label': label },
        ...Object.entries(CHOICES[key]).map(([value, name]) =>
          el('option', { value, selected: value === piece[key] }, name),
        ),
      );
      field.onchange = () => put(field.value);
      return el('label', {}, label, ' ', field);
    }
    const number = typeof piece[key] === 'number';
    const field = el('input', {
      value: piece[key],
      'aria-label': label,
      size: number ? 3 : 10,
      ...(number ? { type: 'number', min: 1, max: 12 } : {}),
    });
    field.oninput = () =>
      put(
        number
          ? Math.max(1, Math.min(key === 'digits' ? 12 : 200, Math.round(Number(field.value) || 1)))
          : field.value.replace(/[;{}>]/g, ''),
      );
    return el('label', {}, label, ' ', field);
  }

  function draw() {
    if (!pieces) {
      rows.replaceChildren(
        el(
          'p',
          {},
          phrase('bench-this-template-has-pieces-of-its'),
          el(
            'button',
            {
              type: 'button',
              class: 'btn btn-sm btn-outline-dark',
              onclick: () => {
                pieces = [{ piece: 'stem', ...PIECES.stem.values }];
                rebuilt();
              },
            },
            phrase('bench-begin-anew'),
          ),
        ),
      );
      return;
    }
    const act = (sign, title, run) =>
      el(
        'button',
        { type: 'button', class: 'btn btn-sm btn-outline-dark', title, 'aria-label': title, onclick: run },
        sign,
      );
    rows.replaceChildren(
      ...pieces.map((p, i) =>
        el(
          'div',
          { class: 'name-piece' },
          el('b', {}, PIECES[p.piece].title),
          ...Object.keys(PIECES[p.piece].values)
            .filter((k) => !(k === 'count' && p.part === 'whole'))
            .map((k) => control(p, k)),
          i > 0
            ? act('↑', phrase('any-earlier'), () => {
                [pieces[i - 1], pieces[i]] = [pieces[i], pieces[i - 1]];
                rebuilt();
              })
            : '',
          act('×', phrase('bench-take-this-piece-away'), () => {
            pieces.splice(i, 1);
            rebuilt();
          }),
        ),
      ),
      el(
        'div',
        { class: 'name-add' },
        phrase('bench-add'),
        ...Object.entries(PIECES).map(([piece, { title, values }]) =>
          el(
            'button',
            {
              type: 'button',
              class: 'btn btn-sm btn-outline-dark',
              onclick: () => {
                pieces.push({ piece, ...values });
                rebuilt();
              },
            },
            title,
          ),
        ),
      ),
    );
  }

  typed.oninput = () => {
    pieces = apart(typed.value);
    draw();
    soon();
  };
  dialog.append(
    el('h2', {}, phrase('bench-build-the-name')),
    rows,
    el('label', { class: 'name-typed' }, phrase('bench-as-a-template'), typed),
    told,
    el(
      'div',
      { class: 'name-table' },
      el(
        'table',
        { class: 'table table-sm' },
        el(
          'thead',
          {},
          el('tr', {}, el('th', {}, phrase('bench-old')), el('th', {}, phrase('bench-new')), el('th', {}, '')),
        ),
        table,
      ),
    ),
    el(
      'div',
      { class: 'acts' },
      take,
      ' ',
      el(
        'button',
        { type: 'button', class: 'btn btn-outline-secondary', onclick: () => dialog.close() },
        phrase('bench-leave-it-as-it-was'),
      ),
    ),
  );
  dialog.addEventListener('close', () => dialog.remove());
  dialog.addEventListener('keydown', (e) => e.stopPropagation());
  document.body.append(dialog);
  draw();
  look();
  try {
    dialog.showModal();
  } catch (e) {
    say(e.message);
  }
}
