// The first page: something to open, or a recipe to begin with.

import { ask, json, say, typing } from '../app/api.js';
import { chooser } from '../app/folder-chooser.js';
import { takeDropped } from '../app/taking-in.js';

/** Opens a shoot as the interface names it, and goes to its frames. */
async function open(what) {
  try {
    await json('POST', '/api/shoots', what);
    location.href = '/frames';
  } catch (e) {
    say(e.message);
  }
}

/** A copy of a starter recipe comes to the bench. */
async function begin(number) {
  try {
    const starters = await json('GET', '/api/starters');
    await ask('POST', '/api/recipes', starters[number].document);
    location.href = '/bench';
  } catch (e) {
    say(e.message);
  }
}

document.addEventListener('alpine:init', () => {
  window.Alpine.data('start', () => ({
    init() {
      const openFolders = chooser((places) => open({ places }));
      this.$el.addEventListener('click', ({ target }) => {
        const card = target.closest('[data-opens]');
        const ticket = target.closest('.small-slip')?.querySelector('[data-starter]');
        if (card) open(JSON.parse(card.dataset.opens));
        else if (ticket) begin(Number(ticket.dataset.starter));
        else if (target.closest('#choose')) openFolders();
      });
      document.addEventListener('keydown', (e) => {
        const busy = typing(e) || e.ctrlKey || e.metaKey || e.altKey || document.querySelector('dialog[open]');
        if (busy || e.key.toLowerCase() !== 'o') return;
        e.preventDefault();
        openFolders();
      });
      takeDropped(() => {
        location.href = '/frames';
      });
    },
  }));
});
