// Keywords of frames, and their sidecars.

import { el, json, say } from '../app/api.js';
import { forget, state, targets, view } from './desk.js';
import { paper } from './paper.js';

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
    placeholder: 'new keywords, with commas between',
    'aria-label': 'New keywords',
    id: 'new-keywords',
  });
  draw();
  const sidecar = (write) => async () => {
    try {
      const told = await json('POST', '/api/sidecars', { ids, write });
      say(
        `${told.count} ${write ? 'sidecars written' : 'sidecars read'}.${told.trouble.length ? ` ${told.trouble.slice(0, 3).join('; ')}` : ''}`,
      );
      forget(ids);
      view();
    } catch (e) {
      say(e.message);
    }
  };
  paper(
    `Keywords of ${ids.length} ${ids.length === 1 ? 'frame' : 'frames'}`,
    [
      box,
      fresh,
      el(
        'div',
        { class: 'row-of' },
        button('Read sidecars', sidecar(false), {
          title: 'Takes rating and keywords from the XMP files beside the pictures',
        }),
        button('Write sidecars', sidecar(true), {
          title:
            'Writes rating and keywords into XMP files beside the pictures; those of other programs are left alone',
        }),
        button('Edit the list …', editList),
      ),
    ],
    [
      [
        'Set',
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
  const text = el('textarea', { class: 'form-control', rows: 10, 'aria-label': 'Keywords, one a line' });
  text.value = list.join('\n');
  paper(
    'The list of keywords',
    [el('p', {}, 'One a line. Frames keep the keywords they have.'), text],
    [['Keep the list', () => json('PUT', '/api/keywords', text.value.split('\n'))]],
  );
}

/** Gathering: where to, under which names, a look at them, then the copying. */
