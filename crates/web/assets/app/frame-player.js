// Playing pictures by their numbers: they are fetched ahead, and left out rather than played slower.

import { el } from './api.js';
import { phrase } from './words.js';

const AHEAD = 40;
const AT_ONCE = 6;
/** Milliseconds before a picture that did not come is asked for again. */
const AGAIN = 500;
/** The rate that was chosen last, in pictures a second. */
const RATE = 'rallo-rate';

/**
 * Plays `count` pictures. `load(place)` gives a promise of one, null for one that cannot be had; `paint(picture, place)` shows it,
 * `close(picture)` gives its memory back, `told()` follows every step.
 */
export class Player {
  constructor({ load, paint, close, told }) {
    Object.assign(this, { load, paint, close, told });
    this.count = 0;
    this.rate = Number(localStorage.getItem(RATE) || 24);
    this.looping = true;
    this.playing = true;
    this.at = 0;
    this.shown = -1;
    this.painted = 0;
    this.held = new Map();
    // What was there before it changed stands in until the new one is there.
    this.former = new Map();
    this.coming = new Set();
    this.round = 0;
    // What a wait for a picture costs, in seconds, smoothed.
    this.wait = 0.03;
    this.over = true;
  }

  begin() {
    this.over = false;
    this.restart();
    requestAnimationFrame((now) => this.tick(now));
  }

  end() {
    this.over = true;
    this.clear(this.held);
    this.clear(this.former);
  }

  clear(pictures) {
    pictures.forEach((picture) => picture && this.close(picture));
    pictures.clear();
  }

  restart() {
    this.from = this.at;
    this.started = performance.now();
  }

  seek(at) {
    this.at = Math.max(0, Math.min(this.count - 1, at));
    this.restart();
  }

  toggle() {
    this.playing = !this.playing;
    if (this.playing && !this.looping && this.at >= this.count - 1) this.at = 0;
    this.restart();
  }

  step(by) {
    this.playing = false;
    this.seek(this.at + by);
  }

  setRate(rate) {
    this.rate = rate;
    localStorage.setItem(RATE, rate);
    this.restart();
  }

  /** All pictures are others from now on; `keep` lets those that are there stand in. */
  changed(keep) {
    this.round += 1;
    this.coming.clear();
    if (keep)
      this.held.forEach((picture, place) => {
        const old = this.former.get(place);
        if (old) this.close(old);
        this.former.set(place, picture);
      });
    else {
      this.clear(this.held);
      this.clear(this.former);
    }
    this.held.clear();
    this.shown = -1;
  }

  async need(place) {
    if (this.held.has(place) || this.coming.has(place) || this.coming.size >= AT_ONCE) return;
    const { round } = this;
    this.coming.add(place);
    const asked = performance.now();
    let picture;
    try {
      picture = await this.load(place);
    } catch {
      // Asked again when its turn comes, and not at once where nobody answers.
      await new Promise((go) => {
        setTimeout(go, AGAIN);
      });
    }
    if (round !== this.round || this.over) {
      if (picture) this.close(picture);
      return;
    }
    this.coming.delete(place);
    this.wait += ((performance.now() - asked) / 1000 - this.wait) * 0.3;
    if (picture === undefined) return;
    this.held.set(place, picture);
    const old = this.former.get(place);
    if (old) this.close(old);
    this.former.delete(place);
    if (place === this.at) this.shown = -1;
  }

  fill() {
    const near = new Set();
    // Where pictures come in slower than they are shown, only every second, third … one is asked for, and far
    // enough ahead to be there in time.
    const stride = this.playing ? Math.max(1, Math.ceil((this.rate * this.wait) / AT_ONCE)) : 1;
    const lead = this.playing && this.shown !== this.at ? Math.ceil(this.rate * this.wait) : 0;
    const start = Math.ceil((this.at + lead) / stride) * stride;
    for (let k = 0; k < Math.min(AHEAD, this.count); k++) {
      const next = k ? start + (k - 1) * stride : this.at;
      const place = this.looping ? next % this.count : Math.min(this.count - 1, next);
      near.add(place);
      if (this.coming.size < AT_ONCE && (k || !this.playing || stride === 1)) this.need(place);
    }
    if (this.held.size > AHEAD * 3)
      for (const [place, picture] of this.held)
        if (!near.has(place)) {
          if (picture) this.close(picture);
          this.held.delete(place);
          if (this.held.size <= AHEAD * 2) break;
        }
    if (this.former.size > AHEAD * 3)
      for (const [place, picture] of this.former)
        if (!near.has(place)) {
          this.close(picture);
          this.former.delete(place);
          if (this.former.size <= AHEAD * 2) break;
        }
  }

  tick(now) {
    if (this.over) return;
    if (this.playing && this.count) {
      const due = this.from + Math.floor(((now - this.started) / 1000) * this.rate);
      const next = this.looping ? due % this.count : Math.min(this.count - 1, due);
      if (!this.looping && due >= this.count - 1) this.playing = false;
      this.at = next;
    }
    if (this.count && this.shown !== this.at) {
      const picture = this.held.get(this.at) ?? this.former.get(this.at);
      if (picture) {
        this.paint(picture, this.at);
        this.painted += 1;
        this.shown = this.at;
      }
    }
    if (this.count) this.fill();
    this.told();
    requestAnimationFrame((later) => this.tick(later));
  }

  /** Play or pause, the position, what stands there, and the rate. */
  controls() {
    const button = (label, title, onclick) =>
      el('button', { type: 'button', class: 'btn btn-sm btn-outline-light', title, onclick }, label);
    const position = el('input', {
      type: 'range',
      min: 0,
      value: 0,
      'aria-label': phrase('app-position'),
      class: 'film-position',
      oninput: () => this.seek(Number(position.value)),
    });
    const said = el('span', { class: 'data film-said' });
    const pause = button(phrase('any-pause'), phrase('app-space'), () => this.toggle());
    const rates = el(
      'select',
      {
        class: 'form-select form-select-sm',
        'aria-label': phrase('app-frames-a-second'),
        onchange: () => this.setRate(Number(rates.value)),
      },
      ...[12, 15, 24, 25, 30, 50, 60].map((r) =>
        el('option', { value: r, selected: r === this.rate }, phrase('app-a-second', { r })),
      ),
    );
    const time = (n) => {
      const s = n / this.rate;
      return `${Math.floor(s / 60)}:${(s % 60).toFixed(1).padStart(4, '0')}`;
    };
    const words = () => {
      position.max = Math.max(0, this.count - 1);
      if (document.activeElement !== position || this.playing) position.value = this.at;
      pause.textContent = this.playing ? phrase('any-pause') : phrase('any-play');
      said.textContent = phrase('app-of-frame-of', {
        time: time(this.at),
        time2: time(this.count),
        at: this.at + 1,
        count: this.count,
      });
    };
    return { position, all: [pause, position, said, rates], words };
  }

  /** Space plays and pauses, arrows go from picture to picture; whether a key was one of these. */
  key(e, position) {
    if (e.target.tagName === 'SELECT') return false;
    const by = { ArrowRight: 1, ArrowLeft: -1 }[e.key];
    if (e.key === ' ') this.toggle();
    else if (by && e.target !== position) this.step(by);
    else return false;
    e.preventDefault();
    e.stopPropagation();
    return true;
  }
}
