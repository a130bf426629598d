import assert from 'node:assert/strict';
import { test } from 'node:test';

// The numbers' boxes stand in a page; here nothing is drawn.
globalThis.document = { getElementById: () => ({}) };
const { firstOverTime } = await import('../assets/bench/before-time.js');

const kinds = { exposure: 'light', deflicker: 'sequence', blend: 'sequence' };
const kindOf = (step) => ({ group: kinds[step.step] });

test('the first line over time that is on is found', () => {
  const steps = [{ step: 'exposure' }, { step: 'deflicker', on: false }, { step: 'blend' }];
  assert.equal(firstOverTime(steps, kindOf), 2);
  assert.equal(firstOverTime(steps.slice(0, 2), kindOf), -1);
  assert.equal(firstOverTime([{ step: 'blend' }], kindOf), 0);
});
