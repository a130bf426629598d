// What a run takes, in words.

import { duration } from '../app/api.js';
import { phrase } from '../app/words.js';

/** How sure it is. */
export const SURE = {
  rough: phrase('any-a-first-guess'),
  estimated: phrase('runs-estimated-from-what-this-machine-does'),
  learned: phrase('runs-estimated-from-earlier-runs'),
};
/** Time and size, and why they are thought so. */
export const costWords = (c, why) =>
  phrase('runs-about-in-all', {
    time: duration(c.seconds),
    bytes: c.bytes,
    each: c.each ? phrase('runs-each', { each: c.each }) : '',
    why,
  }).replace(/^\p{L}/u, (first) => first.toUpperCase());
