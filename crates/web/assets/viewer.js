// The viewer: asks the engine for what is shown, at the scale it is shown, and draws it.

import { ask } from './talk.js';

/** Steps that move or widen the picture: before has them too. */
const MOVES = ['rotate', 'mirror', 'straighten', 'perspective', 'crop', 'resize', 'upscale', 'lens', 'border'];

/** Shows a frame through a recipe; `source()` gives what to ask for: { recipe, frame, upto, size }. */
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
    this.compare = 'split';
    this.holding = false;
    this.pictures = { before: null, after: null };
    this.busy = false;
    this.again = false;
    new ResizeObserver(() => this.refresh()).observe(stage);
  }

  /** Where the picture lies on the stage (CSS pixels), and its scale. */
  place() {
    const { width, height } = this.stage.getBoundingClientRect();
    const [w, h] = this.source().size;
    const zoom = this.zoom === 'fit' ? Math.min(width / w, height / h, 1) : this.zoom / devicePixelRatio;
    const at = (room, side, share) => {
      const spare = room - side * zoom;
      return spare >= 0 ? spare / 2 : Math.max(spare, Math.min(0, room / 2 - share * side * zoom));
    };
    return { x: at(width, w, this.centre[0]), y: at(height, h, this.centre[1]), zoom, width, height, w, h };
  }

  /** A point of the stage as shares of the picture. */
  share(x, y) {
    const p = this.place();
    return [(x - p.x) / (p.w * p.zoom), (y - p.y) / (p.h * p.zoom)];
  }

  /** The region to ask for, in pixels of the result at the scale. */
  wanted() {
    const p = this.place();
    const scale = Math.min(1, p.zoom * devicePixelRatio);
    const [sw, sh] = [Math.ceil(p.w * scale - 1e-6), Math.ceil(p.h * scale - 1e-6)];
    const k = scale / p.zoom;
    const x = Math.max(0, Math.floor(-p.x * k));
    const y = Math.max(0, Math.floor(-p.y * k));
    const right = Math.min(sw, Math.ceil((p.width - p.x) * k));
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
    const one = async (before) => {
      const body = { recipe: source.recipe, frame: source.frame, upto: source.upto, region, scale, before };
      const blob = await (await ask('POST', '/api/render', body)).blob();
      return { image: await createImageBitmap(blob), region, scale, size: source.size };
    };
    // Before only changes with the geometry and the part that is shown.
    const geometry = source.recipe.steps.slice(0, source.upto ?? undefined).filter((s) => MOVES.includes(s.step));
    const key = JSON.stringify([geometry, source.frame, region, scale]);
    this.pictures.after = await one(false);
    this.draw();
    const needed = this.compare === 'split' || this.holding;
    if (needed && this.pictures.before?.key !== key && source.upto === undefined) {
      this.pictures.before = { ...(await one(true)), key };
      this.draw();
    }
    this.stage.dataset.shown = String(Number(this.stage.dataset.shown ?? 0) + 1);
    this.drawn(null, this.pictures.after);
  }

  draw() {
    const p = this.place();
    const dots = devicePixelRatio;
    const [cw, ch] = [Math.round(p.width * dots), Math.round(p.height * dots)];
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
    const plain = this.source().upto !== undefined;
    const both = this.compare === 'split' && !this.holding && !plain;
    paint(this.holding && !plain ? this.pictures.before : this.pictures.after);
    const line = p.width * this.split;
    if (both && this.pictures.before) {
      c.save();
      c.beginPath();
      c.rect(0, 0, line, p.height);
      c.clip();
      c.clearRect(0, 0, line, p.height);
      paint(this.pictures.before);
      c.restore();
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
    before.hidden = !(both || (this.holding && !plain));
    after.hidden = this.holding || plain || !this.pictures.after;
    before.style.left = `${Math.max(8, p.x + 8)}px`;
    after.style.right = `${Math.max(8, p.width - p.x - p.w * p.zoom + 8)}px`;
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
