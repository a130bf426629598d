// A run: the server draws how it stands; what has changed is put in its place, and results come behind those that are there.

import { ask, json, say } from '../app/api.js';
import { checkpoint } from './checkpoint.js';
import { player } from './clip.js';
import { resultLook } from './result-viewer.js';
import { showShares } from './shares.js';
import { begin, drawn, follow } from '../app/parts.js';
import { phrase } from '../app/words.js';

/** What stands still where it is, and is exchanged where it says something else. */
const PARTS = ['what', 'where', 'meter', 'working', 'acts', 'brought', 'fails', 'stamp'];
/** So many results are shown; the report has them all. */
const SHOWN = 600;
/** Events come faster than anybody looks; so often at most is asked again, in milliseconds. */
const EVERY = 200;

const $ = (id) => document.getElementById(id);

/** Results that are not there yet, moved into the list of that name, `most` at most in all; how many there was no room for. */
function take(fresh, id, most = Infinity) {
  const list = $(id);
  const there = new Set([...list.children].map((one) => one.dataset.position));
  const more = [...fresh.querySelector(`#${id}`).children].filter((one) => !there.has(one.dataset.position));
  const shown = more.slice(0, Math.max(0, most - there.size));
  list.append(...shown);
  return more.length - shown.length;
}

document.addEventListener('alpine:init', () => {
  window.Alpine.data('run', () => ({
    due: null,
    asked: null,
    init() {
      this.run = Number(this.$el.dataset.run);
      const results = () =>
        [...$('results').children].map((one) => ({ position: Number(one.dataset.position), target: one.dataset.name }));
      this.look = resultLook($('look'), this.run, results, say);
      this.since = Number($('results').dataset.since);
      begin(PARTS);
      this.$el.addEventListener('click', (e) => this.clicked(e.target));
      const soon = () => this.soon();
      document.addEventListener('rallo:run', (e) => {
        if (e.detail.run === this.run) soon();
      });
      document.addEventListener('rallo:again', soon);
      this.drawn(this.$el);
    },
    soon() {
      this.due ??= setTimeout(() => this.draw(), EVERY);
    },
    async draw() {
      this.due = null;
      let fresh;
      try {
        fresh = await drawn(`/runs/${this.run}/state?since=${this.since}`);
      } catch (e) {
        // Where nothing answers, the rail says that the server is away.
        if (!(e instanceof TypeError)) say(e.message);
        return;
      }
      for (const id of PARTS) follow($(id), fresh.querySelector(`#${id}`));
      // It is told now and then only, and stays meanwhile.
      const found = fresh.querySelector('#found');
      if (found.children.length) follow($('found'), found);
      take(fresh, 'together');
      if (take(fresh, 'results', SHOWN)) $('more-results').hidden = false;
      this.since = Math.max(this.since, Number(fresh.querySelector('#results').dataset.since));
      this.drawn(fresh);
    },
    /** What is left to do behind what was drawn: widths, more results, a question. */
    drawn(box) {
      showShares(document.getElementById('meter'));
      if (box.querySelector('#results').hasAttribute('data-more')) this.soon();
      const question = box.querySelector('#ask-box').dataset.asks;
      if (question == null) {
        $('ask-box').hidden = true;
        this.asked = null;
      } else if (question !== this.asked) {
        this.asked = question;
        checkpoint($('ask-box'), this.run, () => {
          this.asked = null;
          this.draw();
        });
      }
    },
    clicked(at) {
      const button = at.closest('button');
      if (!button) return;
      const { act, clip, position } = button.dataset;
      if (act === 'undo') this.undo();
      else if (act) this.act(act, position ? { position: Number(position) } : {});
      else if (clip) this.watch(button, JSON.parse(clip));
      else if (button.parentElement.id === 'results') this.look(Number(position));
    },
    async act(what, body) {
      try {
        await ask('POST', `/api/runs/${this.run}/${what}`, body);
        await this.draw();
      } catch (e) {
        say(e.message);
      }
    },
    watch(button, clip) {
      const box = button.closest('section');
      box.append(player(this.run, Number(box.dataset.position), clip));
      button.remove();
      box.querySelector('.player').focus();
    },
    async undo() {
      if (!window.confirm(phrase('runs-remove-the-files-this-run-wrote'))) return;
      try {
        const { gone, kept } = await json('POST', `/api/runs/${this.run}/undo`, {});
        say(phrase('runs-files-are-gone', { gone, kept: kept.length ? ` ${kept.join('; ')}.` : '' }));
        $('results').replaceChildren();
        $('together').replaceChildren();
        this.since = 0;
        await this.draw();
      } catch (e) {
        say(e.message);
      }
    },
  }));
});
