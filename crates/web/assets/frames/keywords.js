// Keywords of frames, and their sidecars.

import { el, json, say } from '../app/api.js';
import { forget, state, targets, view } from './desk.js';
import { paper } from './paper.js';
import { phrase } from '../app/words.js';

const button = (label, run, more = {}) =>
  el('button', { type: 'button', class: 'btn btn-sm btn-outline-secondary', onclick: run, ...more }, label);

/** The sequence check. */

export async function keywords() {
  const ids = targets();
  if (!ids.length) return;
  const list = await json('GET', '/api/keywords').catch(() => []);
  const rows = ids.map((id) => state.rows.get(id)).filter(Boolean);
  const have = (k) => rows.filter((r) => r.keywords.includes(k)).length;
  const all = [...new Set([...list, ...rows.flatMap((r) => r.keywords)])];
  const add = new Set();
  const remove = new Set();
  const box = el('div', { class: 'ticks' });
  const draw = () =>
    box.replaceChildren(
      ...all.map((k) => {
        const on = add.has(k) || (have(k) === rows.length && rows.length && !remove.has(k));
        const some = !on && have(k) > 0 && !remove.has(k);
        const input = el('input', {
          type: 'checkbox',
          class: 'form-check-input',
          checked: on,
          onchange: () => {
            add.delete(k);
            remove.delete(k);
            if (input.checked) add.add(k);
            else remove.add(k);
            draw();
          },
        });
        input.indeterminate = some;
        return el('label', { class: 'tick' }, input, ` ${k}${some ? ` (${have(k)})` : ''}`);
      }),
    );
  const fresh = el('input', {
    class: 'form-control form-control-sm',
    placeholder: phrase('frames-new-keywords-with-commas-between'),
    'aria-label': phrase('frames-new-keywords'),
    id: 'new-keywords',
  });
  draw();
  const sidecar = (write) => async () => {
    try {
      const told = await json('POST', '/api/sidecars', { ids, write });
      say(
        `${told.count} ${write ? phrase('frames-sidecars-written') : phrase('frames-sidecars-read')}.${told.trouble.length ? ` ${told.trouble.slice(0, 3).join('; ')}` : ''}`,
      );
      forget(ids);
      view();
    } catch (e) {
      say(e.message);
    }
  };
  paper(
    phrase('frames-keywords-of', { count: ids.length }),
    [
      box,
      fresh,
      el(
        'div',
        { class: 'row-of' },
        button(phrase('frames-read-sidecars'), sidecar(false), {
          title: phrase('frames-takes-rating-and-keywords-from-the'),
        }),
        button(phrase('frames-write-sidecars'), sidecar(true), {
          title: phrase('frames-writes-rating-and-keywords-into-xmp'),
        }),
        button(phrase('frames-edit-the-list'), editList),
      ),
    ],
    [
      [
        phrase('frames-set'),
        async () => {
          const words = fresh.value
            .split(',')
            .map((w) => w.trim())
            .filter(Boolean);
          await json('POST', '/api/change', {
            ids,
            change: { do: 'keywords', add: [...add, ...words], remove: [...remove] },
          });
          forget(ids);
          view();
        },
        'set-keywords',
      ],
    ],
  );
  fresh.focus();
}

async function editList() {
  const list = await json('GET', '/api/keywords').catch(() => []);
  const text = el('textarea', { class: 'form-control', rows: 10, 'aria-label': phrase('frames-keywords-one-a-line') });
  text.value = list.join('\n');
  paper(
    phrase('frames-the-list-of-keywords'),
    [el('p', {}, phrase('frames-one-a-line-frames-keep-the')), text],
    [[phrase('frames-keep-the-list'), () => json('PUT', '/api/keywords', text.value.split('\n'))]],
  );
}

/** Gathering: where to, under which names, a look at them, then the copying. */
