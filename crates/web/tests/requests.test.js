import assert from 'node:assert/strict';
import { test } from 'node:test';
import { Slots } from '../assets/app/request-slots.js';

/** Work that ends when it is told to. */
function held(done, name) {
  let end;
  const ended = new Promise((resolve, reject) => (end = { resolve, reject }));
  const work = async () => {
    done.push(name);
    return ended;
  };
  return { work, ...end };
}
const turn = () => new Promise((resolve) => setTimeout(resolve));

test('who asks last is served first, and an order is kept where all is wanted', async () => {
  for (const [inOrder, wanted] of [
    [false, ['a', 'c', 'b']],
    [true, ['a', 'b', 'c']],
  ]) {
    const [slots, begun] = [new Slots(1, inOrder), []];
    const all = ['a', 'b', 'c'].map((name) => held(begun, name));
    const runs = all.map(({ work }) => slots.run(work));
    for (const { resolve } of all) resolve('there');
    assert.deepEqual(await Promise.all(runs), ['there', 'there', 'there']);
    assert.deepEqual(begun, wanted);
  }
});

test('what is given up while it waits is never begun, and its place goes to the next', async () => {
  const [slots, begun] = [new Slots(1), []];
  const [first, given, last] = ['first', 'given up', 'last'].map((name) => held(begun, name));
  const stop = new AbortController();
  const runs = [slots.run(first.work), slots.run(given.work, stop.signal), slots.run(last.work)];
  stop.abort(new Error('no longer wanted'));
  await assert.rejects(runs[1], /no longer wanted/);
  first.resolve();
  last.resolve();
  await Promise.all([runs[0], runs[2]]);
  assert.deepEqual(begun, ['first', 'last']);
});

test('work that fails gives its place back', async () => {
  const [slots, begun] = [new Slots(2), []];
  const broken = held(begun, 'broken');
  const run = slots.run(broken.work);
  broken.reject(new Error('no answer'));
  await assert.rejects(run, /no answer/);
  await turn();
  assert.equal(slots.free, 2);
});
