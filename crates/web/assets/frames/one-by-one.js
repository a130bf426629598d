// One by one in the whole window, slide shows, and up to four frames side by side with one zoom.

import { el } from '../app/api.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);
const CHOICE = {
  open: phrase('frames-not-decided'),
  kept: phrase('frames-kept'),
  set_aside: phrase('frames-set-aside'),
};

/** One picture: whole, or a part at 100 % and more. */
class Pane {
  constructor(owner) {
    this.owner = owner;
    this.image = el('img', { alt: '', draggable: 'false' });
    this.box = el('div', { class: 'pane' }, this.image, (this.said = el('span', { class: 'tag pane-tag' })));
    this.box.addEventListener('pointerdown', (e) => this.grab(e));
  }

  show(row) {
    this.row = row;
    this.draw();
  }

  draw() {
    const { row } = this;
    if (!row) return;
    this.said.textContent = `${row.name}${row.choice === 'open' ? '' : `, ${CHOICE[row.choice]}`}${row.rating ? ` ${'●'.repeat(row.rating)}` : ''}`;
    if (row.problem && !row.facts) {
      this.image.removeAttribute('src');
      this.image.alt = row.problem;
      return;
    }
    const { zoom, centre } = this.owner;
    this.box.classList.toggle('is-close', zoom > 0);
    if (!zoom) {
      this.image.style.cssText = '';
      this.put(`/api/frames/${row.id}/thumb?edge=1920&s=${row.stamp}`);
      return;
    }
    const { width, height } = this.box.getBoundingClientRect();
    const { width: w, height: h } = row.facts;
    const [pw, ph] = [Math.min(w, Math.ceil(width / zoom)), Math.min(h, Math.ceil(height / zoom))];
    const x = Math.round(Math.max(0, Math.min(w - pw, centre[0] * w - pw / 2)));
    const y = Math.round(Math.max(0, Math.min(h - ph, centre[1] * h - ph / 2)));
    this.image.style.cssText = `width:${pw * zoom}px;height:${ph * zoom}px;max-width:none;max-height:none;image-rendering:${zoom > 1 ? 'pixelated' : 'auto'}`;
    this.put(`/api/frames/${row.id}/part?x=${x}&y=${y}&w=${pw}&h=${ph}&s=${row.stamp}`);
  }

  /** Changes the picture only when the next one is there, so that nothing flickers. */
  put(src) {
    this.wanted = src;
    const next = new Image();
    next.onload = () => {
      if (this.wanted === src) {
        this.image.src = src;
        this.box.dataset.shown = src;
      }
    };
    next.src = src;
  }

  grab(e) {
    if (!this.owner.zoom || e.button) return;
    let [x, y] = [e.clientX, e.clientY];
    this.box.setPointerCapture(e.pointerId);
    const move = (m) => {
      this.owner.pan((x - m.clientX) / this.owner.zoom, (y - m.clientY) / this.owner.zoom, this.row);
      [x, y] = [m.clientX, m.clientY];
    };
    this.box.addEventListener('pointermove', move);
    this.box.addEventListener('pointerup', () => this.box.removeEventListener('pointermove', move), { once: true });
  }
}

export class Look {
  constructor(tools) {
    this.tools = tools;
    this.dialog = $('one');
    this.panes = [];
    this.zoom = 0;
    this.centre = [0.5, 0.5];
    this.playing = null;
    this.names = true;
    this.dialog.addEventListener('keydown', (e) => this.key(e));
    this.dialog.addEventListener('close', () => this.rest());
    addEventListener('resize', () => {
      if (this.dialog.open) this.panes.forEach((p) => p.draw());
    });
  }

  open() {
    if (!this.tools.state.ids.length) return;
    this.ids = null;
    this.start(1);
  }

  compare() {
    const ids = this.tools.targets();
    if (ids.length < 2) return this.tools.say(phrase('frames-select-two-to-four-frames-first'));
    if (ids.length > 4) this.tools.say(phrase('frames-only-the-first-four-of-the'));
    this.ids = this.tools.state.ids.filter((id) => ids.includes(id)).slice(0, 4);
    this.start(this.ids.length);
  }

  start(count) {
    this.zoom = 0;
    this.panes = Array.from({ length: count }, () => new Pane(this));
    $('panes').replaceChildren(...this.panes.map((p) => p.box));
    $('panes').dataset.count = count;
    if (!this.dialog.open) this.dialog.showModal();
    this.dialog.focus();
    this.draw();
  }

  row(id) {
    const row = this.tools.state.rows.get(id);
    if (!row) {
      this.tools.want([id]);
      setTimeout(() => {
        if (this.dialog.open) this.draw();
      }, 120);
    }
    return row;
  }

  draw() {
    const { state } = this.tools;
    if (this.ids) this.ids.forEach((id, i) => this.panes[i].show(this.row(id)));
    else {
      this.panes[0].show(this.row(state.ids[state.at]));
      // The neighbours are made ready.
      for (const by of [1, 2, -1]) {
        const row = state.rows.get(state.ids[state.at + by]);
        if (row && (row.facts || !row.problem))
          new Image().src = `/api/frames/${row.id}/thumb?edge=1920&s=${row.stamp}`;
        else if (!row && state.ids[state.at + by] !== undefined) this.tools.want([state.ids[state.at + by]]);
      }
    }
    this.foot();
  }

  foot() {
    const { state } = this.tools;
    const b = (label, run, title, on) =>
      el(
        'button',
        { type: 'button', class: `btn btn-sm btn-outline-light${on ? ' is-on' : ''}`, title, onclick: run },
        label,
      );
    const parts = [
      b(phrase('frames-fit'), () => this.setZoom(0), '(C)', !this.zoom),
      b('100 %', () => this.setZoom(1), phrase('frames-close-c'), this.zoom === 1),
      b('200 %', () => this.setZoom(2), '', this.zoom === 2),
    ];
    if (!this.ids) {
      const every = el('input', {
        type: 'number',
        min: '0.2',
        step: '0.5',
        value: this.every ?? 3,
        'aria-label': phrase('frames-seconds-a-frame'),
        class: 'short',
        onchange: () => {
          this.every = Number(every.value) || 3;
        },
      });
      parts.unshift(
        b('‹', () => this.go(-1), phrase('frames-before')),
        b('›', () => this.go(1), phrase('frames-next')),
      );
      parts.push(
        b(phrase('frames-keep'), () => this.tools.choose('kept'), '(K)'),
        b(phrase('any-set-aside'), () => this.tools.choose('set_aside'), '(S)'),
        el('span', { class: 'data' }, phrase('frames-of-at-count', { at: state.at + 1, count: state.ids.length })),
        b(
          this.playing ? phrase('any-pause') : phrase('frames-slide-show'),
          () => this.slides(),
          '(Space)',
          Boolean(this.playing),
        ),
        every,
        el('span', { class: 'data' }, phrase('frames-s-each')),
        b(
          phrase('frames-name-more'),
          () => {
            this.names = !this.names;
            this.draw();
          },
          phrase('frames-name-on-or-off-n'),
          this.names,
        ),
      );
    }
    parts.push(b(phrase('any-close'), () => this.dialog.close(), '(Esc)'));
    $('one-foot').replaceChildren(...parts);
    this.dialog.classList.toggle('no-names', !this.names);
  }

  setZoom(zoom) {
    this.zoom = zoom;
    this.draw();
  }

  pan(dx, dy, row) {
    const limit = (v) => Math.max(0, Math.min(1, v));
    this.centre = [limit(this.centre[0] + dx / row.facts.width), limit(this.centre[1] + dy / row.facts.height)];
    this.panes.forEach((p) => p.draw());
  }

  go(by) {
    this.tools.go(this.tools.state.at + by);
    this.draw();
  }

  slides() {
    if (this.playing) {
      clearInterval(this.playing);
      this.playing = null;
    } else
      this.playing = setInterval(
        () => {
          if (this.tools.state.at < this.tools.state.ids.length - 1) this.go(1);
          else this.slides();
        },
        Math.max(0.2, this.every ?? 3) * 1000,
      );
    this.foot();
  }

  rest() {
    clearInterval(this.playing);
    this.playing = null;
  }

  key(e) {
    if (e.target.tagName === 'INPUT' || e.ctrlKey || e.metaKey) return;
    const step = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: 1, ArrowUp: -1 }[e.key];
    const key = e.key.toLowerCase();
    const row = this.panes[0]?.row;
    if (step && this.zoom && (this.ids || e.shiftKey) && row)
      this.pan(
        e.key === 'ArrowRight' ? 80 : e.key === 'ArrowLeft' ? -80 : 0,
        e.key === 'ArrowDown' ? 80 : e.key === 'ArrowUp' ? -80 : 0,
        row,
      );
    else if (step && !this.ids) this.go(step);
    else if (key === 'c') this.setZoom(this.zoom ? 0 : 1);
    else if (this.ids) return;
    else if (key === 'k' || key === 's' || key === 'd') {
      this.tools.choose({ k: 'kept', s: 'set_aside', d: 'open' }[key]);
      this.draw();
    } else if (/^[0-5]$/.test(key)) {
      this.tools.rate(Number(key));
      this.draw();
    } else if (key === 'z' || key === 'y') {
      this.tools.travel(key === 'z' ? 'undo' : 'redo').then(() => this.draw());
    } else if (key === 'n') {
      this.names = !this.names;
      this.draw();
    } else if (key === ' ') this.slides();
    else return;
    e.preventDefault();
    e.stopPropagation();
  }
}
