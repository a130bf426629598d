// The viewer: asks the engine for what is shown, at the scale it is shown, and draws it.

import { ask } from './talk.js';

/** An answer's head and its picture: four bytes of length, so much JSON, and the rest. */
async function apart(answer) {
  const bytes = await answer.arrayBuffer();
  const length = new DataView(bytes).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(bytes, 4, length)));
  return { head, blob: new Blob([new Uint8Array(bytes, 4 + length)], { type: 'image/jpeg' }) };
}

/**
 * Shows a frame through a recipe; `source()` gives what to ask for: { recipe, frame, upto, size }, and what it is compared
 * with: `other()`, a promise of { body, size, key }, and `otherName`.
 */
export class Viewer {
  constructor(stage, source, drawn) {
    this.stage = stage;
    this.canvas = stage.querySelector('canvas');
    this.context = this.canvas.getContext('2d');
    this.source = source;
    this.drawn = drawn;
    this.zoom = 'fit';
    this.centre = [0.5, 0.5];
    this.split = 0.42;
    // split, side (by side), after alone, or difference.
    this.compare = 'split';
    this.holding = false;
    this.pictures = { before: null, after: null };
    this.busy = false;
    this.again = false;
    new ResizeObserver(() => this.refresh()).observe(stage);
  }

  /** Where the picture lies on the stage (CSS pixels), and its scale. */
  place() {
    const { width: all, height } = this.stage.getBoundingClientRect();
    const [w, h] = this.source().size;
    // Side by side, the result has the right half; before lies `left` further to the left.
    const left = this.compare === 'side' && !this.plain() ? Math.round(all / 2) : 0;
    const width = all - left;
    const zoom = this.zoom === 'fit' ? Math.min(width / w, height / h, 1) : this.zoom / devicePixelRatio;
    const at = (room, side, share) => {
      const spare = room - side * zoom;
      return spare >= 0 ? spare / 2 : Math.max(spare, Math.min(0, room / 2 - share * side * zoom));
    };
    return { x: left + at(width, w, this.centre[0]), y: at(height, h, this.centre[1]), zoom, width, height, w, h, left, all };
  }

  /** Whether the picture is shown as it comes to the open line, for a tool. */
  plain() {
    return this.source().upto !== undefined;
  }

  /** Whether a picture to compare with is needed. */
  comparing() {
    return !this.plain() && (this.compare !== 'after' || this.holding);
  }

  /** A point of the stage as shares of the picture. */
  share(x, y) {
    const p = this.place();
    const over = x < p.left ? x + p.left : x;
    return [(over - p.x) / (p.w * p.zoom), (y - p.y) / (p.h * p.zoom)];
  }

  /** The region to ask for, in pixels of the result at the scale. */
  wanted() {
    const p = this.place();
    const scale = Math.min(1, p.zoom * devicePixelRatio);
    const [sw, sh] = [Math.ceil(p.w * scale - 1e-6), Math.ceil(p.h * scale - 1e-6)];
    const k = scale / p.zoom;
    const from = p.x - p.left;
    const x = Math.max(0, Math.floor(-from * k));
    const y = Math.max(0, Math.floor(-p.y * k));
    const right = Math.min(sw, Math.ceil((p.width - from) * k));
    const bottom = Math.min(sh, Math.ceil((p.height - p.y) * k));
    return { region: [x, y, Math.max(1, right - x), Math.max(1, bottom - y)], scale };
  }

  refresh() {
    // Nothing to show before the recipe is there.
    if (!this.source().recipe) return;
    this.draw();
    if (this.busy) { this.again = true; return; }
    this.busy = true;
    this.fetch().catch((e) => this.drawn(e)).finally(() => {
      this.busy = false;
      if (this.again) { this.again = false; this.refresh(); }
    });
  }

  async fetch() {
    const source = this.source();
    if (!source.frame) return;
    const { region, scale } = this.wanted();
    const one = async (body, region, scale) => {
      const answer = await ask('POST', '/api/render', { frame: source.frame, region, scale, head: true, ...body });
      const { head, blob } = await apart(answer);
      return { image: await createImageBitmap(blob), region, scale, head };
    };
    const body = { recipe: source.recipe, upto: source.upto, from: source.from, clip: source.clip };
    this.pictures.after = await one(body, region, scale);
    this.draw();
    this.truth(one, body, region, scale);
    if (this.comparing()) {
      const other = await source.other();
      // Another picture may have another size; it is laid over this one.
      const [kw, kh] = [0, 1].map((i) => other.size[i] / source.size[i]);
      const part = region.map((v, i) => Math.max(i < 2 ? 0 : 1, Math.round(v * (i % 2 ? kh : kw))));
      const key = JSON.stringify([other.key, source.frame, part, scale]);
      if (this.pictures.before?.key !== key) {
        this.pictures.before = { ...(await one(other.body, part, scale)), region, key };
        this.draw();
      }
    }
    this.stage.dataset.shown = String(Number(this.stage.dataset.shown ?? 0) + 1);
    this.drawn(null, this.pictures.after);
  }

  /** Where only a stand-in could be shown at once, the true picture takes its place when it is computed. */
  truth(one, body, region, scale) {
    clearTimeout(this.later);
    const mine = this.pictures.after;
    this.stage.dataset.standIn = String(mine.head.stand_in);
    if (!mine.head.stand_in) return;
    // Not while a value is still being changed.
    this.later = setTimeout(async () => {
      try {
        const true_ = await one({ ...body, wait: true }, region, scale);
        if (this.pictures.after !== mine) return;
        this.pictures.after = true_;
        this.stage.dataset.standIn = String(true_.head.stand_in);
        this.draw();
        this.drawn(null, true_);
      } catch { /* the stand-in stays, and says what it is */ }
    }, 500);
  }

  draw() {
    const p = this.place();
    const dots = devicePixelRatio;
    const [cw, ch] = [Math.round(p.all * dots), Math.round(p.height * dots)];
    if (this.canvas.width !== cw) this.canvas.width = cw;
    if (this.canvas.height !== ch) this.canvas.height = ch;
    const c = this.context;
    c.setTransform(1, 0, 0, 1, 0, 0);
    c.clearRect(0, 0, cw, ch);
    c.setTransform(dots, 0, 0, dots, 0, 0);
    c.imageSmoothingEnabled = p.zoom * dots < 1.99;
    const paint = (picture) => {
      if (!picture) return;
      const k = p.zoom / picture.scale;
      const [x, y, w, h] = picture.region;
      c.drawImage(picture.image, p.x + x * k, p.y + y * k, w * k, h * k);
    };
    const plain = this.plain();
    const both = this.compare === 'split' && !this.holding && !plain;
    const line = p.all * this.split;
    const { before, after } = this.pictures;
    if (p.left) {
      const half = (left, picture) => {
        c.save();
        c.beginPath();
        c.rect(left, 0, p.width - 2, p.height);
        c.clip();
        c.translate(left - p.left, 0);
        paint(picture);
        c.restore();
      };
      half(0, before);
      half(p.left + 2, this.holding ? before : after);
    } else {
      paint(this.holding && !plain ? before : after);
    }
    if (both && before) {
      c.save();
      c.beginPath();
      c.rect(0, 0, line, p.height);
      c.clip();
      c.clearRect(0, 0, line, p.height);
      paint(before);
      c.restore();
    }
    if (this.compare === 'difference' && !this.holding && !plain && before) {
      // What differs, eight times as strong: the sum with itself, three times.
      c.globalCompositeOperation = 'difference';
      paint(before);
      c.globalCompositeOperation = 'lighter';
      c.setTransform(1, 0, 0, 1, 0, 0);
      for (let i = 0; i < 3; i++) c.drawImage(this.canvas, 0, 0);
      c.globalCompositeOperation = 'source-over';
    }
    this.lay(p, both, line, plain);
  }

  lay(p, both, line, plain) {
    const handle = this.stage.querySelector('.split');
    handle.hidden = !both;
    handle.style.left = `${line}px`;
    handle.setAttribute('aria-valuenow', Math.round(this.split * 100));
    const top = Math.max(8, p.y + 8);
    const [before, after] = [this.stage.querySelector('.tag-left'), this.stage.querySelector('.tag-right')];
    before.hidden = !(both || p.left || (this.holding && !plain));
    after.hidden = this.holding || plain || !this.pictures.after || this.compare === 'difference';
    before.textContent = this.source().otherName ?? 'before';
    before.style.left = `${Math.max(8, p.x - p.left + 8)}px`;
    after.style.right = `${Math.max(8, p.all - p.x - p.w * p.zoom + 8)}px`;
    before.style.top = after.style.top = `${top}px`;
  }

  setZoom(zoom, centre) {
    this.zoom = zoom;
    if (centre) this.centre = centre;
    this.refresh();
  }

  move(dx, dy) {
    const p = this.place();
    const limit = (v) => Math.max(0, Math.min(1, v));
    this.centre = [limit(this.centre[0] - dx / (p.w * p.zoom)), limit(this.centre[1] - dy / (p.h * p.zoom))];
    this.refresh();
  }
}
