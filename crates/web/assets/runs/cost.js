// What a run takes, in words.

import { duration } from '../app/api.js';

/** How sure it is. */
export const SURE = {
  rough: 'a first guess',
  estimated: 'estimated from what this machine does',
  learned: 'estimated from earlier runs',
};
/** Time and size, and why they are thought so. */
export const costWords = (c, why) =>
  `${duration(c.seconds)}, about ${c.bytes} in all${c.each ? `, ${c.each} each` : ''}: ${why}.`.replace(/^a/, 'A');
