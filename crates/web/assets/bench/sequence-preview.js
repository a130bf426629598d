// The sequence played on the bench as the recipe will make it, small, beside the untouched one; it follows every changed line.

import { Player } from '../app/frame-player.js';
import { el, json, say } from '../app/api.js';
import { phrase } from '../app/words.js';

/** Milliseconds that the recipe rests before it is taken over, and between two looks at how far it is. */
const REST = 250;
const LOOK = 400;

export class SequencePreview {
  /** Shows itself in `box`; `recipe()` gives the document. */
  constructor(box, recipe) {
    this.box = box;
    this.recipe = recipe;
    this.how = 'after';
    this.split = 0.5;
    this.canvas = el('canvas', {
      class: 'sequence-canvas',
      'aria-label': phrase('bench-the-sequence-as-the-recipe-makes'),
    });
    this.said = el('p', { class: 'sequence-said', role: 'status' });
    this.player = new Player({
      load: (place) => this.load(place),
      paint: (pictures, place) => this.paint(pictures, place),
      close: (pictures) => {
        pictures.made?.close();
        pictures.untouched?.close();
      },
      told: () => this.controls.words(),
    });
    this.controls = this.player.controls();
    this.ways = el(
      'div',
      { class: 'btn-group btn-group-sm', role: 'group', 'aria-label': phrase('bench-compare-the-sequence') },
      ...[
        ['after', phrase('bench-after'), phrase('bench-as-the-recipe-makes-it')],
        ['side', phrase('bench-side-by-side'), phrase('bench-untouched-on-the-left')],
        ['split', phrase('bench-split'), phrase('bench-untouched-left-of-the-line-it')],
      ].map(([how, label, title]) =>
        el(
          'button',
          { type: 'button', class: 'btn btn-outline-light', title, 'data-how': how, onclick: () => this.compare(how) },
          label,
        ),
      ),
    );
    this.border = el('input', {
      type: 'range',
      min: 0,
      max: 100,
      value: 50,
      class: 'sequence-border',
      'aria-label': phrase('bench-where-untouched-ends-per-cent'),
      oninput: () => {
        this.split = this.border.value / 100;
        this.again();
      },
    });
    box.replaceChildren(
      this.canvas,
      el('div', { class: 'sequence-head' }, this.said, this.border),
      el(
        'div',
        { class: 'sequence-foot' },
        ...this.controls.all,
        this.ways,
        el(
          'button',
          {
            type: 'button',
            class: 'btn btn-sm btn-outline-light',
            title: phrase('any-esc'),
            onclick: () => this.close(),
          },
          phrase('any-close'),
        ),
      ),
    );
    box.addEventListener('keydown', (e) => {
      if (e.key === 'Escape') {
        e.stopPropagation();
        this.close();
      } else if (e.target !== this.border) this.player.key(e, this.controls.position);
    });
    this.canvas.addEventListener('pointerdown', (e) => this.drag(e));
    new ResizeObserver(() => this.again()).observe(this.canvas);
    this.compare('after');
  }

  get isOpen() {
    return !this.box.hidden;
  }

  async open() {
    if (this.isOpen) return this.close();
    // Nothing to play before the recipe is there.
    if (!this.recipe()) return undefined;
    this.box.hidden = false;
    this.box.tabIndex = -1;
    this.box.focus();
    this.state = null;
    this.opened?.();
    this.player.changed(false);
    this.player.begin();
    return this.take();
  }

  close() {
    this.box.hidden = true;
    this.player.end();
    clearTimeout(this.timer);
    this.closed?.();
  }

  /** The recipe may be another one; it is taken over when the hand rests. */
  follow() {
    if (!this.isOpen) return;
    clearTimeout(this.resting);
    this.resting = setTimeout(() => this.take(), REST);
  }

  async take() {
    const asked = (this.asked = (this.asked ?? 0) + 1);
    try {
      const begun = await json('POST', '/api/preview', { recipe: this.recipe() });
      if (asked !== this.asked || !this.isOpen) return;
      this.frames = begun.frames;
      this.player.count = begun.frames.length;
      this.hear(begun);
      this.watch();
    } catch (e) {
      say(e.message);
      if (!this.state && this.isOpen) this.close();
    }
  }

  /** What is said of how far it is; other pictures are fetched where they are others by now. */
  hear(state) {
    const isOther = this.state?.key !== state.key || this.state?.decided !== state.decided;
    this.state = state;
    if (isOther) {
      this.failed = '';
      this.player.changed(true);
    }
    this.box.dataset.made = state.made;
    this.box.dataset.decided = state.decided;
    const parts = [];
    if (!state.decided)
      parts.push(
        phrase('bench-measuring-of-frames-until-then-without', { measured: state.measured, count: state.count }),
      );
    else if (state.made < state.count)
      parts.push(phrase('bench-of-frames-are-made', { made: state.made, count: state.count }));
    if (state.left_out.length)
      parts.push(phrase('bench-without-too-slow-for-a-look', { leftout: state.left_out.join(', ') }));
    if (this.failed) parts.push(this.failed);
    this.said.textContent = parts.join(' ');
  }

  watch() {
    clearTimeout(this.timer);
    this.timer = setTimeout(async () => {
      if (!this.isOpen) return;
      try {
        this.hear(await json('GET', `/api/preview/${this.state.key}`));
      } catch (e) {
        // A program that was started again knows nothing of it.
        if (e.status) {
          this.state = null;
          this.take();
          return;
        }
        this.said.textContent = e.message;
      }
      this.watch();
    }, LOOK);
  }

  compare(how) {
    const needs = how !== 'after' && this.how === 'after';
    this.how = how;
    for (const button of this.ways.children) button.classList.toggle('is-on', button.dataset.how === how);
    this.border.hidden = how !== 'split';
    if (needs) this.player.changed(true);
    this.again();
  }

  /** What stands there is drawn again. */
  again() {
    this.player.shown = -1;
  }

  drag(e) {
    if (this.how !== 'split') return;
    const to = (m) => {
      const box = this.canvas.getBoundingClientRect();
      this.split = Math.max(0, Math.min(1, ((m.clientX - box.left) / box.width - this.left) / this.wide));
      this.border.value = this.split * 100;
      this.again();
    };
    this.canvas.setPointerCapture(e.pointerId);
    to(e);
    this.canvas.onpointermove = to;
    this.canvas.onpointerup = () => {
      this.canvas.onpointermove = null;
    };
  }

  async fetched(address) {
    const response = await fetch(address);
    if (response.ok) return createImageBitmap(await response.blob());
    if (response.status !== 422) throw new Error();
    const { detail } = await response.json();
    return { failed: detail };
  }

  /** The picture of a place; what it was before stands beside it where that is shown. */
  async load(place) {
    if (!this.state) throw new Error();
    const { key } = this.state;
    const address = `/api/preview/${key}/${place}`;
    const wanted = this.how === 'after' ? [address] : [address, `${address}?untouched=true`];
    const [made, untouched] = await Promise.all(wanted.map((a) => this.fetched(a)));
    if (made.failed) {
      this.failed = `${this.frames[place]?.name}: ${made.failed}`;
      return null;
    }
    return { made, untouched: untouched?.failed ? null : untouched };
  }

  paint({ made, untouched }, place) {
    const { canvas } = this;
    const [w, h] = [canvas.clientWidth, canvas.clientHeight].map((v) => Math.round(v * devicePixelRatio));
    if (canvas.width !== w || canvas.height !== h) {
      canvas.width = w;
      canvas.height = h;
    }
    const c = canvas.getContext('2d');
    c.clearRect(0, 0, w, h);
    const isSide = this.how === 'side';
    const room = isSide ? (w - 4) / 2 : w;
    const zoom = Math.min(room / made.width, h / made.height);
    const [wide, high] = [made.width * zoom, made.height * zoom];
    const [x, y] = [(room - wide) / 2, (h - high) / 2];
    [this.left, this.wide] = [x / w, wide / w];
    c.drawImage(made, isSide ? x + room + 4 : x, y, wide, high);
    if (untouched && isSide) c.drawImage(untouched, x, y, wide, high);
    if (untouched && this.how === 'split') {
      const part = this.split * wide;
      c.save();
      c.beginPath();
      c.rect(x, y, part, high);
      c.clip();
      c.drawImage(untouched, x, y, wide, high);
      c.restore();
      c.fillStyle = '#fff';
      c.fillRect(x + part - 1, y, 2, high);
    }
    this.box.dataset.at = place;
    this.box.dataset.painted = this.player.painted;
  }
}
