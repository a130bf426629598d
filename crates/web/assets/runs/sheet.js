// The run sheet: the server draws what will run on what, and where to; what is put right here holds for this run, or is kept in the
// recipe.

import { json, say, typing } from '../app/api.js';
import { onValues } from '../app/fields.js';
import { chooser } from '../app/folder-chooser.js';
import { begin, drawn, follow } from '../app/parts.js';
import { phrase } from '../app/words.js';

const PARTS = ['what-it-does', 'asks', 'values', 'changed', 'problems', 'names', 'slip-lines'];

const $ = (id) => document.getElementById(id);

/** What differs from the recipe, for this run. */
const unchanged = () => ({ answers: [], delivery: [], leave_out: [] });

document.addEventListener('alpine:init', () => {
  window.Alpine.data('sheet', () => ({
    changes: unchanged(),
    /** The changes of the last sheet that could be drawn. */
    good: JSON.stringify(unchanged()),
    /** The changes that a few pictures were made with to tell time and size. */
    measured: null,
    open: null,
    round: 0,
    init() {
      begin(PARTS);
      this.openFolders = chooser(() => {});
      document.addEventListener('click', (e) => this.clicked(e.target));
      document.addEventListener('keydown', (e) => this.key(e));
      onValues(this.$el, (sets, value) => this.put(sets, value));
      // All frames of a folder that was still being read count at once.
      document.addEventListener('rallo:read', (e) => {
        if (!e.detail.scanning || !$('what-it-does').hasAttribute('data-pictures')) this.look();
      });
      this.look();
    },
    /** Sets a value of a line or of a delivery. */
    put({ line, at, param }, value) {
      if (line === undefined) this.changes.delivery.push({ at, values: { [param]: value } });
      else this.answer(line, param, value);
      this.look();
    },
    answer(line, param, value) {
      const others = this.changes.answers.filter((a) => a.line !== line || a.param !== param);
      this.changes.answers = [...others, { line, param, value }];
    },
    /** Mends a problem in the one way that its button says. */
    mend(way) {
      const at = way.at ?? null;
      if (way.do === 'line') this.answer(way.line, way.param, way.value);
      else if (way.do === 'delivery') this.changes.delivery.push({ at, values: way.values });
      else if (way.do === 'decode') this.changes.decode = { ...this.changes.decode, [way.param]: way.value };
      else if (way.do === 'leave_out')
        this.changes.leave_out = [...new Set([...this.changes.leave_out, ...way.frames])];
      else if (way.do === 'go') {
        location.href = way.to;
        return;
      } else if (way.do === 'folder') {
        const taken = (path) => this.mend({ do: 'delivery', at, values: { to: path } });
        this.openFolders({ label: phrase('any-put-the-results-here'), taken });
        return;
      }
      this.look();
    },
    /** Asks what a run would do now. */
    async look() {
      const mine = ++this.round;
      $('start').disabled = true;
      const asked = { run: this.changes, open: this.open };
      let fresh;
      try {
        fresh = await drawn('/sheet/state', asked);
      } catch (e) {
        this.refused(e.message);
        return;
      }
      if (mine !== this.round) return;
      const now = JSON.stringify(this.changes);
      let isToBeMeasured = this.measured !== now;
      this.good = now;
      for (const id of PARTS) {
        // What is being answered is not taken from under the hand.
        const isTyped = id === 'asks' && $(id).contains(document.activeElement);
        const isNew = !isTyped && follow($(id), fresh.querySelector(`#${id}`));
        isToBeMeasured ||= isNew && ['what-it-does', 'problems'].includes(id);
      }
      this.allow();
      if (!$('start').disabled && $('asks').hidden && document.activeElement === document.body) $('start').focus();
      // Values that are only opened take what was measured with them.
      if (isToBeMeasured && $('what-it-does').hasAttribute('data-pictures')) this.measure(mine, asked);
    },
    /** What cannot be is not kept: the sheet stays as it was. */
    refused(reason) {
      if ($('slip-lines').querySelector('[data-open]')) {
        say(reason);
        this.allow();
        if (JSON.stringify(this.changes) === this.good) return;
        this.changes = JSON.parse(this.good);
        // What was typed is drawn again as it was.
        delete $('values').dataset.html;
        this.look();
      } else {
        $('what').textContent = phrase('runs-this-cannot-be-run-yet');
        $('where').textContent = reason;
      }
    },
    allow() {
      const stops = $('problems').querySelector('[data-problem]:not(.is-mild)');
      $('start').disabled = $('start-first').disabled = Boolean(stops);
    },
    /** Times and sizes are told at once, and a few pictures made to know them better. */
    async measure(mine, asked) {
      let fresh;
      try {
        fresh = await drawn('/sheet/cost', asked);
      } catch (e) {
        say(e.message);
        return;
      }
      if (mine !== this.round) return;
      $('cost').textContent = fresh.querySelector('#cost').textContent;
      const there = [...$('problems').children].map((one) => one.textContent);
      for (const one of fresh.querySelectorAll('[data-problem]')) {
        if (!there.includes(one.textContent)) $('problems').append(one);
      }
      this.allow();
      this.measured = JSON.stringify(asked.run);
    },
    clicked(at) {
      const button = at.closest('button, [data-open]');
      if (!button) return;
      const { open, mend, act } = button.dataset;
      if (open) this.turn(open);
      else if (mend) this.mend(JSON.parse(mend));
      else if (act === 'keep') this.keep();
      else if (act === 'reset') {
        this.changes = unchanged();
        this.open = null;
        this.look();
      } else if (button.id === 'start') this.begin(false);
      else if (button.id === 'start-first') this.begin(true);
    },
    /** Opens the values of a line or a delivery, or closes them. */
    turn(open) {
      this.open = JSON.stringify(this.open) === open ? null : JSON.parse(open);
      this.look();
    },
    key(e) {
      const words = e.target.closest?.('[data-open][role=button]');
      if (words && (e.key === 'Enter' || e.key === ' ')) {
        e.preventDefault();
        this.turn(words.dataset.open);
        return;
      }
      const isFree = !e.ctrlKey && !typing(e) && !e.target.closest('a, button, [role=button], dialog');
      if (e.key === 'Enter' && isFree && !$('start').disabled) $('start').click();
    },
    async begin(first) {
      $('start').disabled = true;
      try {
        const at = $('at').value;
        const most = Number($('most').value);
        const { run } = await json('POST', '/api/runs', {
          ...this.changes,
          first,
          at: at ? new Date(at).toISOString() : null,
          most_failures: most > 0 ? most : null,
          report_to: $('report-to').value || null,
        });
        location.href = `/runs/${run}`;
      } catch (e) {
        say(e.message);
        $('start').disabled = false;
      }
    },
    async keep() {
      const { answers, delivery } = this.changes;
      try {
        const { version } = await json('POST', '/api/sheet/keep', { answers, delivery });
        say(phrase('runs-kept-in-the-recipe-as-version', { version }));
        this.changes = { ...this.changes, answers: [], delivery: [] };
        this.look();
      } catch (e) {
        say(e.message);
      }
    },
  }));
});
