// What the picture is before its lines over time, asked for when the hand rests and shown beside the result's numbers.

import { apart } from '../viewer/answer.js';
import { ask } from '../app/api.js';
import { pixels } from '../app/request-slots.js';
import { scopeBefore } from './scopes.js';

/** Pixels of the longer side that are enough for a histogram. */
const SIDE = 480;
/** Milliseconds that the hand rests before. */
const REST = 400;

/** The number of the first line over time that is on, from 0; −1 where there is none. */
export function firstOverTime(steps, kindOf) {
  return steps.findIndex((step) => step.on !== false && kindOf(step)?.group === 'sequence');
}

/** Gives the bench `beforeTime`, which is called whenever another picture is shown. */
export function beforeTime(bench) {
  let asked = '';
  let resting = 0;
  bench.beforeTime = function follow() {
    const line = firstOverTime(bench.doc.steps, bench.kind);
    clearTimeout(resting);
    if (line < 0) {
      asked = '';
      scopeBefore(null);
      return;
    }
    // What is said of names and deliveries changes nothing there; how files are read does.
    const key = JSON.stringify({
      ...bench.doc,
      name: '',
      deliveries: [],
      frame: bench.frame,
      steps: bench.doc.steps.slice(0, line),
    });
    if (asked === key) return;
    resting = setTimeout(async () => {
      asked = key;
      const scale = Math.min(1, SIDE / Math.max(...bench.source));
      const body = { recipe: JSON.parse(bench.store.text()), frame: bench.frame, upto: line, scale, head: true };
      try {
        const { head } = await pixels.run(async () => apart(await ask('POST', '/api/render', body)));
        if (asked === key) scopeBefore(head, line + 1);
      } catch {
        // The picture itself says what is wrong.
        if (asked === key) asked = '';
      }
    }, REST);
  };
}
