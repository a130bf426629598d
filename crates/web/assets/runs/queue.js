// The queue: slips that the server draws. What has not changed stays the same element, so that no click is lost; of a run
// at work only the part that moves is exchanged.

import { ask, say } from '../app/api.js';
import { showShares } from './shares.js';

/** Events come faster than anybody looks; so often at most is asked again, in milliseconds. */
const EVERY = 500;

/** Puts slips that came in the place of those that hang there. */
export function exchange(list, fresh) {
  const old = new Map([...list.children].map((slip) => [slip.dataset.run, slip]));
  const now = [...fresh.children].map((slip) => {
    const was = old.get(slip.dataset.run);
    if (was?.dataset.key !== slip.dataset.key) return slip;
    const [from, to] = [slip, was].map((s) => s.querySelector('.moving-part'));
    if (from.innerHTML !== to.dataset.html) to.innerHTML = to.dataset.html = from.innerHTML;
    return was;
  });
  // An element that is moved loses the focus, so those that hang rightly are left alone.
  if (now.length !== list.children.length || now.some((slip, i) => slip !== list.children[i])) {
    list.replaceChildren(...now);
  }
  showShares(list);
}

// What the slips hang by is at the rail: it is seen as long as they hang there, not over the rail once they are moved up.
const hang = () => document.body.classList.toggle('is-moved-up', scrollY > 2);
addEventListener('scroll', hang, { passive: true });

document.addEventListener('alpine:init', () => {
  window.Alpine.data('queue', () => ({
    due: null,
    init() {
      this.list = this.$el.querySelector('ol');
      this.empty = this.$el.querySelector('.nothing-hangs');
      showShares(this.list);
      this.$el.addEventListener('click', (e) => this.act(e.target.closest('[data-act]')));
      const soon = () => {
        this.due ??= setTimeout(() => this.look(), EVERY);
      };
      document.addEventListener('rallo:run', soon);
      document.addEventListener('rallo:again', soon);
    },
    async look() {
      this.due = null;
      try {
        const answer = await fetch('/runs/queue');
        if (!answer.ok) return;
        const fresh = document.createElement('ol');
        fresh.innerHTML = await answer.text();
        const before = this.list.children.length;
        exchange(this.list, fresh);
        this.empty.hidden = this.list.children.length > 0;
        // A run that has ended appears among those that are done.
        if (this.list.children.length < before) this.done();
      } catch {
        /* The rail says that the server is away. */
      }
    },
    async done() {
      const text = await (await fetch('/runs')).text();
      const page = new DOMParser().parseFromString(text, 'text/html');
      document.getElementById('done').innerHTML = page.getElementById('done').innerHTML;
    },
    async act(button) {
      if (!button) return;
      const { run } = button.closest('[data-run]').dataset;
      const body = button.dataset.by ? { by: Number(button.dataset.by) } : {};
      button.disabled = true;
      try {
        await ask('POST', `/api/runs/${run}/${button.dataset.act}`, body);
        await this.look();
      } catch (e) {
        say(e.message);
      }
      button.disabled = false;
    },
  }));
});
