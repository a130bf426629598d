// Verified, renamed copies of frames in one folder.

import { json } from '../app/api.js';
import { settled, state, targets } from './desk.js';
import { openDialog } from './dialog.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

export async function gather(openFolders) {
  const now = await json('GET', '/api/gather').catch(() => ({ phase: 'none' }));
  if (now.phase === 'looking' || now.phase === 'copying') return follow();
  const count = targets().length > 1 ? targets().length : state.view.chosen;
  openFolders({
    label: phrase('frames-gather-into-this-folder'),
    taken: (target) =>
      openDialog(`/frames/dialogs/gather?${new URLSearchParams({ count, folder: target })}`, {
        look: async () => {
          await settled();
          await json('POST', '/api/gather', { target, template: $('gather-names').value });
          follow();
          return false;
        },
      }),
  });
}

function follow() {
  return openDialog('/frames/dialogs/gathering', {
    stop: async () => {
      await json('POST', '/api/gather/stop', {});
      return false;
    },
    go: async () => {
      await json('POST', '/api/gather/go', {});
      setTimeout(follow, 100);
      return false;
    },
  });
}
