// What keys do on the bench.

import { typing } from '../app/api.js';
import { SPLIT } from '../viewer/split-handle.js';

const $ = (id) => document.getElementById(id);

/** Pixels the picture is moved by an arrow. */
const MOVES = { ArrowLeft: [60, 0], ArrowRight: [-60, 0], ArrowUp: [0, 60], ArrowDown: [0, -60] };

/** Listens to the keys. */
export function keys(bench) {
  const { look } = bench;
  const acts = {
    b: () => look.hold(),
    n: () => look.hold('without'),
    k: look.pinClipped,
    s: look.nextWay,
    l: look.loupe,
    p: () => $('to-proof').click(),
    h: () => $('scope-box').click(),
    w: () => $('ask').focus(),
    a: () => bench.preview.open(),
    t: () => bench.record(Boolean(bench.store.off)),
    z: () => bench.travel('undo'),
    y: () => bench.travel('redo'),
  };
  for (const n of '123') acts[n] = () => bench.zoomTo(Number(n));
  acts['0'] = () => bench.zoomTo('fit');
  document.addEventListener('keydown', (e) => {
    if (typing(e) || e.ctrlKey || e.metaKey || e.altKey) return;
    if (SPLIT[e.key] && look.isOnSplit(e.target)) look.moveSplit(SPLIT[e.key]);
    else if (MOVES[e.key] && e.target === bench.stage) bench.viewer.move(...MOVES[e.key]);
    else if (Object.hasOwn(acts, e.key)) acts[e.key]();
    else return;
    e.preventDefault();
  });
  document.addEventListener('keyup', (e) => {
    if (e.key === 'b' || e.key === 'n') look.letGo();
  });
  window.addEventListener('blur', look.letGo);
}
