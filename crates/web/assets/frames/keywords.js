// Keywords of frames, and their sidecars.

import { json, say } from '../app/api.js';
import { forget, targets, view } from './desk.js';
import { openDialog } from './dialog.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

export async function keywords() {
  const ids = targets();
  if (!ids.length) return;
  const sidecar = async (write) => {
    const told = await json('POST', '/api/sidecars', { ids, write });
    const trouble = told.trouble.length ? ` ${told.trouble.slice(0, 3).join('; ')}` : '';
    say(phrase(write ? 'frames-sidecars-written' : 'frames-sidecars-read', { count: told.count }) + trouble);
    forget(ids);
    view();
    return false;
  };
  const dialog = await openDialog(
    '/frames/dialogs/keywords',
    {
      read: () => sidecar(false),
      write: () => sidecar(true),
      list: async () => {
        await editList();
        return false;
      },
      go: async () => {
        // What was ticked, and what was taken away, of what some or all of them had.
        const of = (wanted) => [...ticks].filter((tick) => tick.dataset.changed && tick.checked === wanted);
        const words = $('new-keywords')
          .value.split(',')
          .map((word) => word.trim());
        const [add, remove] = [true, false].map((wanted) => of(wanted).map((tick) => tick.dataset.keyword));
        const change = { do: 'keywords', add: [...add, ...words.filter(Boolean)], remove };
        await json('POST', '/api/change', { ids, change });
        forget(ids);
        view();
      },
    },
    { ids },
  );
  const ticks = dialog?.querySelectorAll('[data-keyword]') ?? [];
  for (const tick of ticks) {
    tick.indeterminate = tick.hasAttribute('data-some');
    tick.onchange = () => {
      tick.dataset.changed = 'yes';
    };
  }
}

const editList = () =>
  openDialog('/frames/dialogs/keyword-list', {
    go: (_, dialog) =>
      json('PUT', '/api/keywords', dialog.querySelector('textarea').value.split('\n')).then(() => true),
  });
