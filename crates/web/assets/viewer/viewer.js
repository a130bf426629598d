// The viewer: asks the engine for what is seen, and draws each picture only where it belongs.
//
// The server says of each picture which part of the result it covers, how large that result is, and a number for how it
// lies on the original (its geometry). A picture is drawn by these and never by what the page believes meanwhile: while a
// new one is on its way, the last one stays, in its own geometry. What it is compared with is drawn only in the same one.

import { apart } from './answer.js';
import { Placed } from './placed.js';
import { paint, sign } from './painting.js';
import { ask } from '../app/api.js';
import { pixels } from '../app/request-slots.js';

/** Milliseconds after which a request is given up for a newer one: of other lines or another zoom, and of another place. */
const OLD = { shape: 150, view: 400 };
/** Milliseconds that a hand rests before a stand-in at fit is refined. */
const REST = 400;
/** The last true picture stays until so much of the next one is denoised, or for so long after the last change. */
const ENOUGH = 0.4;
const HELD = 1500;
/** How often, and after how many milliseconds, it is asked again where no answer came. */
const TRIES = 20;
const AGAIN = 1500;

/**
 * Shows a frame through a recipe; `source()` gives what to ask for: { recipe, text, frame, upto, size }, and what it is
 * compared with: `other()`, a promise of { body, key }, and `otherName`.
 */
export class Viewer extends Placed {
  constructor(stage, source, drawn) {
    super();
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
    // The last pictures of the whole, beneath the parts that are seen.
    this.whole = { before: null, after: null };
    this.jobs = { before: null, after: null };
    this.failed = { before: '', after: '' };
    this.changed = 0;
    new ResizeObserver(() => this.refresh()).observe(stage);
  }

  /** Whether the picture is shown as it comes to the open line, for a tool. */
  plain() {
    return this.source().upto !== undefined;
  }

  /** Whether a picture to compare with is needed. */
  comparing() {
    return !this.plain() && (this.compare !== 'after' || this.holding);
  }

  /** What is seen now, in words that are equal when it is: all of it, the view alone, and its lines and zoom alone. */
  wanted() {
    const source = this.source();
    const view = this.view();
    const seen = JSON.stringify(view);
    const shape = JSON.stringify([
      this.zoom,
      this.compare === 'side',
      source.upto,
      source.frame,
      source.recipe.steps.map((s) => [s.step, s.on]),
    ]);
    return {
      key: JSON.stringify([source.text, source.frame, source.upto, source.clip, seen]),
      seen,
      shape,
      view,
      source,
    };
  }

  /** Something may have changed: what is there is drawn, and what is missing asked for. */
  refresh() {
    // Nothing to show before the recipe is there.
    if (!this.source().recipe) return;
    this.changed = performance.now();
    this.failed = { before: '', after: '' };
    this.tries = 0;
    this.draw();
    const now = this.wanted();
    for (const side of ['after', 'before']) {
      const job = this.jobs[side];
      const age = job ? performance.now() - job.since : 0;
      const old = job && (job.shape !== now.shape ? age > OLD.shape : job.seen !== now.seen && age > OLD.view);
      if (old || (job?.refines && job.key !== now.key)) job.stop.abort();
    }
    this.go();
  }

  /** What is shown no longer holds, though the recipe is the same. */
  forget() {
    this.pictures = { before: null, after: null };
    this.whole = { before: null, after: null };
    this.held = null;
    this.refresh();
  }

  /** Begins what is wanted and not under way. */
  go() {
    if (!this.source().frame) return;
    const now = this.wanted();
    this.glance(now.source.frame);
    if (!this.jobs.after) {
      const { after } = this.pictures;
      const latest = this.held ?? after;
      if (latest?.key !== now.key && this.failed.after !== now.key) this.begin('after', now, this.after(now));
      else if (latest?.key === now.key) {
        // What was asked for meanwhile was given up: the picture that stands there is the one that is wanted, with its tools.
        if (latest === after) this.drawn(null, after);
        this.refine(now, latest);
      }
    }
    if (!this.jobs.before && this.comparing() && this.failed.before !== now.key)
      this.begin('before', now, this.before(now));
    this.sign();
  }

  /** Until the first true picture is there, the frame as its own small picture shows it; it never covers a true one. */
  glance(frame) {
    if (this.first?.frame === frame || this.pictures.after?.frame === frame) return;
    this.first = { frame };
    const image = new Image();
    image.onload = () => {
      if (this.first?.frame !== frame) return;
      this.first.image = image;
      if (this.pictures.after?.frame !== frame) this.draw();
    };
    image.src = this.smallPicture(frame);
  }

  /** Where the small picture of a frame is to be had. */
  smallPicture(frame) {
    return `/api/frames/${frame}/thumb?edge=960`;
  }

  /** Draws that, as a whole and in its own proportion. */
  drawGlance(p, isShown) {
    const image = isShown ? this.first?.image : null;
    if (image) {
      const zoom = Math.min(p.all / image.width, p.height / image.height);
      const [w, h] = [image.width * zoom, image.height * zoom];
      this.context.drawImage(image, (p.all - w) / 2, (p.height - h) / 2, w, h);
    }
    this.stage.dataset.glance = String(Boolean(image));
    this.stage.querySelector('.tag-glance').hidden = !image;
  }

  /** Runs a job; when it is over, the next one may begin. `work(signal)` gives whether anything came of it. */
  begin(side, now, work, refines = false) {
    const stop = new AbortController();
    const job = { stop, key: now.key, seen: now.seen, shape: now.shape, since: performance.now(), refines };
    this.jobs[side] = job;
    work(stop.signal).then(
      (more) => {
        this.jobs[side] = null;
        if (more) this.go();
        else this.sign();
        const open = Object.values(this.jobs).some((j) => j && !j.refines);
        if (!refines && !open) this.stage.dataset.shown = String(Number(this.stage.dataset.shown ?? 0) + 1);
      },
      (e) => {
        this.jobs[side] = null;
        if (stop.signal.aborted) {
          this.go();
          return;
        }
        this.failed[side] = now.key;
        this.sign();
        this.drawn(e);
        // A program that is started again, or was too busy, is asked again; what it refuses is not.
        if (e.status === undefined && this.tries < TRIES) {
          this.tries += 1;
          setTimeout(() => {
            this.failed[side] = '';
            this.go();
          }, AGAIN);
        }
      },
    );
  }

  /** What to ask for a picture, and where. */
  request(body, now) {
    return ['/api/render', { frame: now.source.frame, view: now.view, head: true, ...body }];
  }

  /** Has a picture computed. */
  async fetch(body, now, signal) {
    const answer = () => ask('POST', ...this.request(body, now), { signal }).then(apart);
    const { head, blob } = await pixels.run(answer, signal);
    return {
      image: await createImageBitmap(blob),
      head,
      seen: now.seen,
      frame: now.source.frame,
      text: now.source.text,
      upto: now.source.upto,
    };
  }

  body({ source }) {
    return { recipe: source.recipe, upto: source.upto, from: source.from, clip: source.clip };
  }

  after(now) {
    // The recipe is written down now: it goes on changing while this is on its way.
    const body = { ...this.body(now), recipe: JSON.parse(now.source.text) };
    return async (signal) => {
      const picture = { ...(await this.fetch(body, now, signal)), key: now.key, body };
      this.take(picture);
      return true;
    };
  }

  /** Takes a picture over, unless it is a stand-in for a true one that still shows the same place. */
  take(picture) {
    const { after } = this.pictures;
    const true_ =
      after &&
      !after.head.stand_in &&
      after.head.geometry === picture.head.geometry &&
      after.seen === picture.seen &&
      after.frame === picture.frame;
    const waits =
      picture.head.stand_in && picture.head.scale >= 0.5 && picture.head.share < ENOUGH && !picture.head.failed;
    if (true_ && waits && performance.now() - this.changed < HELD) {
      this.held = picture;
      return;
    }
    this.held = null;
    this.pictures.after = picture;
    this.first = null;
    if (this.zoom === 'fit') this.whole.after = picture;
    this.stage.dataset.standIn = String(picture.head.stand_in);
    this.draw();
    this.drawn(null, picture);
  }

  /** Where only a stand-in could be shown at once, the true picture takes its place, as far as it is computed. */
  refine(now, latest) {
    const { head } = latest;
    if (!head.stand_in || head.failed) return;
    clearTimeout(this.later);
    const rest = head.scale < 0.5 ? REST - (performance.now() - this.changed) : 0;
    if (rest > 0) {
      this.later = setTimeout(() => this.go(), rest);
      return;
    }
    this.begin(
      'after',
      now,
      async (signal) => {
        const picture = {
          ...(await this.fetch({ ...latest.body, more: head.known }, now, signal)),
          key: now.key,
          body: latest.body,
        };
        this.take(picture);
        return true;
      },
      true,
    );
  }

  before(now) {
    const recipe = JSON.parse(now.source.text);
    return async (signal) => {
      const other = await now.source.other();
      const key = JSON.stringify([other.key, now.source.frame, now.seen]);
      if (this.pictures.before?.key === key) return false;
      const picture = { ...(await this.fetch({ ...other.body, beside: recipe }, now, signal)), key };
      this.pictures.before = picture;
      if (this.zoom === 'fit') this.whole.before = picture;
      this.draw();
      return true;
    };
  }

  /** Says what is on its way. */
  sign() {
    sign(this);
  }

  draw() {
    paint(this);
  }
}
