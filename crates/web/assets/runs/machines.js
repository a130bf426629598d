// Machines that help: how they stand, looked at again while the page is seen.

import { ask, say } from '../app/api.js';

const EVERY = 2000;

document.addEventListener('alpine:init', () => {
  window.Alpine.data('machines', () => ({
    timer: null,
    init() {
      this.$el.addEventListener('click', (event) => this.sendHome(event.target.closest('[data-home]')));
      this.timer = setInterval(() => this.look(), EVERY);
    },
    destroy() {
      clearInterval(this.timer);
    },
    async look() {
      // A button that has the focus stays where it is.
      if (document.hidden || this.$el.contains(document.activeElement)) return;
      try {
        const answer = await fetch('/runs/machines');
        if (answer.ok) this.$el.innerHTML = await answer.text();
      } catch {
        /* The rail says that the server is away. */
      }
    },
    async sendHome(button) {
      if (!button) return;
      button.disabled = true;
      try {
        await ask('POST', `/api/helpers/${button.dataset.home}/home`, {});
        button.blur();
        await this.look();
      } catch (e) {
        say(e.message);
      }
    },
  }));
});
