// What a run made of its pictures, beside their originals, in the viewer that the bench has.

import { Hand } from '../viewer/hand.js';
import { SPLIT, nextWay, splitHandle } from '../viewer/split-handle.js';
import { Viewer } from '../viewer/viewer.js';
import { phrase } from '../app/words.js';

/** A viewer of results as they lie on the disk; no recipe is worked on, and a picture's number is its place in the run and one. */
class ResultViewer extends Viewer {
  constructor(stage, run, shown, drawn) {
    const source = {
      recipe: { steps: [] },
      text: '{"steps":[]}',
      size: [3, 2],
      other: () => ({ body: { before: true }, key: 'original' }),
      otherName: 'original',
    };
    super(stage, () => ({ ...source, frame: shown() }), drawn);
    this.run = run;
  }

  item(frame) {
    return `/api/runs/${this.run}/items/${frame - 1}`;
  }

  smallPicture(frame) {
    return `${this.item(frame)}/thumb`;
  }

  request(body, now) {
    return [`${this.item(now.source.frame)}/part`, { view: now.view, before: Boolean(body.before) }];
  }
}

/**
 * Fits a dialog to look at results with. `results()` gives those there are, with `position` and `target`; `said` is told
 * what goes wrong. Gives what shows one by its place in the run.
 */
export function resultLook(dialog, run, results, said) {
  const of = (name) => dialog.querySelector(`[data-look="${name}"]`);
  const [stage, split] = [of('stage'), dialog.querySelector('.split')];
  let at = 0;
  const current = () => results()[at];
  const viewer = new ResultViewer(
    stage,
    run,
    () => (dialog.open && current() ? current().position + 1 : 0),
    (error) => error && said(error.message),
  );
  const setSplit = splitHandle(split, stage, viewer);
  new Hand(stage, viewer, { grab: () => null, tooling: () => false, over: () => {}, settle: () => {} });

  const pressed = (name, value) => {
    for (const button of dialog.querySelectorAll(`[data-${name}]`)) {
      button.classList.toggle('is-on', button.dataset[name] === String(value));
      button.setAttribute('aria-pressed', String(button.dataset[name] === String(value)));
    }
  };
  const zoomTo = (zoom, centre) => {
    viewer.setZoom(zoom, centre);
    pressed('zoom', zoom);
  };
  const compare = (way) => {
    viewer.compare = way;
    pressed('compare', way);
    viewer.refresh();
  };
  const show = () => {
    const { target } = current();
    of('name').textContent = phrase('runs-of-target-at-count', { target, at: at + 1, count: results().length });
    viewer.refresh();
  };
  const step = (by) => {
    if (!results().length) return;
    at = (at + by + results().length) % results().length;
    show();
  };

  const hold = (on) => {
    if (viewer.holding === on) return;
    viewer.holding = on;
    viewer.refresh();
  };
  for (const button of dialog.querySelectorAll('[data-zoom]'))
    button.onclick = () => zoomTo(button.dataset.zoom === 'fit' ? 'fit' : Number(button.dataset.zoom));
  for (const button of dialog.querySelectorAll('[data-compare]'))
    button.onclick = () => compare(button.dataset.compare);
  of('earlier').onclick = () => step(-1);
  of('later').onclick = () => step(1);
  of('close').onclick = () => dialog.close();
  stage.addEventListener('dblclick', (e) => {
    const box = stage.getBoundingClientRect();
    zoomTo(viewer.zoom === 'fit' ? 1 : 'fit', viewer.share(e.clientX - box.left, e.clientY - box.top));
  });
  const acts = {
    ArrowLeft: () => step(-1),
    ArrowRight: () => step(1),
    0: () => zoomTo('fit'),
    1: () => zoomTo(1),
    2: () => zoomTo(2),
    3: () => zoomTo(3),
    s: () => compare(nextWay(viewer.compare)),
    b: () => hold(true),
  };
  dialog.addEventListener('keydown', (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.target === split && SPLIT[e.key]) setSplit(viewer.split + SPLIT[e.key]);
    else if (Object.hasOwn(acts, e.key)) acts[e.key]();
    else return;
    e.preventDefault();
    e.stopPropagation();
  });
  dialog.addEventListener('keyup', (e) => {
    if (e.key === 'b') hold(false);
  });
  dialog.addEventListener('close', () => hold(false));

  return (position) => {
    at = Math.max(
      0,
      results().findIndex((item) => item.position === position),
    );
    if (!dialog.open) dialog.showModal();
    stage.focus();
    compare(viewer.compare);
    zoomTo('fit');
    show();
  };
}
