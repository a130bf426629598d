// How the viewer's pictures are painted.

import { phrase } from '../app/words.js';

/** Milliseconds of work that need no sign. */
const UNSEEN = 150;

/** Draws what belongs together: pictures in their own geometry, the line between before and after, the tags. */
export function paint(viewer) {
  const p = viewer.place();
  const dots = devicePixelRatio;
  const [cw, ch] = [Math.round(p.all * dots), Math.round(p.height * dots)];
  if (viewer.canvas.width !== cw) viewer.canvas.width = cw;
  if (viewer.canvas.height !== ch) viewer.canvas.height = ch;
  const c = viewer.context;
  c.setTransform(1, 0, 0, 1, 0, 0);
  c.clearRect(0, 0, cw, ch);
  c.setTransform(dots, 0, 0, dots, 0, 0);
  c.imageSmoothingEnabled = p.zoom * dots < 1.99;
  const source = viewer.source();
  const { after: shown } = viewer.pictures;
  // Of another view of the recipe, or of another frame: it has no place here.
  const fits = shown && shown.upto === source.upto && shown.frame === source.frame;
  const glances = shown?.frame !== source.frame && viewer.first?.frame === source.frame;
  viewer.drawGlance(p, glances);
  const belongs = (picture) =>
    fits && picture && picture.head.geometry === shown.head.geometry && picture.frame === shown.frame;
  const one = (picture) => {
    const [left, top, right, bottom] = picture.head.area;
    c.drawImage(
      picture.image,
      p.x + left * p.zoom,
      p.y + top * p.zoom,
      (right - left) * p.zoom,
      (bottom - top) * p.zoom,
    );
  };
  // Where it is mixed with what is there, a picture is drawn once: without the whole beneath it.
  const put = (side, alone = false) => {
    const picture = viewer.pictures[side];
    if (!belongs(picture)) return false;
    const under = viewer.whole[side];
    if (!alone && belongs(under) && under !== picture && under.text === picture.text && under.upto === picture.upto)
      one(under);
    one(picture);
    return true;
  };
  const plain = viewer.plain();
  const both = viewer.compare === 'split' && !viewer.holding && !plain && !glances;
  const line = p.all * viewer.split;
  const hasBefore = belongs(viewer.pictures.before);
  const clipped = (left, width, work) => {
    c.save();
    c.beginPath();
    c.rect(left, 0, width, p.height);
    c.clip();
    work();
    c.restore();
  };
  if (p.left) {
    const half = (left, side) =>
      clipped(left, p.width - 2, () => {
        c.translate(left - p.left, 0);
        put(side);
      });
    half(0, 'before');
    half(p.left + 2, viewer.holding ? 'before' : 'after');
  } else {
    put(viewer.holding && !plain ? 'before' : 'after');
  }
  if (both)
    clipped(0, line, () => {
      c.clearRect(0, 0, line, p.height);
      put('before');
    });
  const same = hasBefore && viewer.pictures.before.seen === shown.seen && viewer.pictures.before.head.alike;
  if (viewer.compare === 'difference' && !viewer.holding && !plain && same) {
    // What differs, eight times as strong: the sum with itself, three times.
    c.globalCompositeOperation = 'difference';
    put('before', true);
    c.globalCompositeOperation = 'lighter';
    c.setTransform(1, 0, 0, 1, 0, 0);
    for (let i = 0; i < 3; i++) c.drawImage(viewer.canvas, 0, 0);
    c.globalCompositeOperation = 'source-over';
  }
  lay(viewer, p, both, line, plain, hasBefore);
  viewer.stage.dispatchEvent(
    new CustomEvent('painted', { detail: { p, both, line, hasBefore, plain, text: fits ? shown.text : null } }),
  );
}

/** The handle of the line between, and the tags. */
function lay(viewer, p, both, line, plain, hasBefore) {
  const handle = viewer.stage.querySelector('.split');
  handle.hidden = !both;
  handle.style.left = `${line}px`;
  handle.setAttribute('aria-valuenow', Math.round(viewer.split * 100));
  const top = Math.max(8, p.y + 8);
  const [before, after] = [viewer.stage.querySelector('.tag-left'), viewer.stage.querySelector('.tag-right')];
  before.hidden = !(both || p.left || (viewer.holding && !plain));
  after.hidden = viewer.holding || plain || !viewer.pictures.after || viewer.compare === 'difference';
  const name = viewer.source().otherName ?? 'before';
  before.textContent = !hasBefore
    ? phrase('viewer-on-its-way', { name })
    : viewer.pictures.before.head.alike
      ? name
      : phrase('viewer-framed-in-its-own-way', { name });
  before.style.left = `${Math.max(8, p.x - p.left + 8)}px`;
  after.style.right = `${Math.max(8, p.all - p.x - p.w * p.zoom + 8)}px`;
  before.style.top = after.style.top = `${top}px`;
}

/** Says that work is under way, once it takes long enough to be noticed. */
export function sign(viewer) {
  clearTimeout(viewer.signing);
  const { after } = viewer.pictures;
  const head = (viewer.held ?? after)?.head;
  const busy = viewer.jobs.after ?? viewer.jobs.before;
  const box = viewer.stage.querySelector('.tag-work');
  const say = () => {
    const share =
      head?.stand_in && !head.failed && head.share < 1
        ? phrase('viewer-denoised', { share: Math.round(head.share * 100) })
        : '';
    box.textContent = share || phrase('viewer-working');
    box.hidden = !(viewer.jobs.after ?? viewer.jobs.before);
  };
  if (!busy) {
    box.hidden = true;
    return;
  }
  const age = performance.now() - (busy.refines ? viewer.changed : busy.since);
  if (age >= UNSEEN || !box.hidden) say();
  else viewer.signing = setTimeout(say, UNSEEN - age);
}
