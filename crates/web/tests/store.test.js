import assert from 'node:assert/strict';
import { test } from 'node:test';
import { RecipeStore } from '../assets/bench/store.js';

const DENOISE = {
  one_of: [],
  params: [
    { name: 'brightness', default: 40 },
    { name: 'colour', default: 60 },
  ],
};
const RESIZE = {
  one_of: ['long_edge', 'fit'],
  params: [
    { name: 'long_edge', default: null },
    { name: 'fit', default: null },
  ],
};

function begun(...steps) {
  const store = new RecipeStore();
  store.kept = 0;
  store.keep = () => {
    store.kept += 1;
  };
  store.begin({ name: 'Pots', steps });
  return store;
}

const names = (store) => store.doc.steps.map((line) => line.step).join(' ');

test('a gesture is one decision, and nothing is none', () => {
  const store = begun({ step: 'denoise' });
  for (const value of [41, 45, 50]) store.setValues(0, { brightness: value }, DENOISE);
  assert.equal(store.decide(), true);
  assert.equal(store.decide(), false);
  assert.deepEqual([store.past.length, store.kept], [1, 1]);
  store.undo();
  assert.deepEqual(store.doc.steps, [{ step: 'denoise' }]);
  store.redo();
  assert.deepEqual(store.doc.steps, [{ step: 'denoise', brightness: 50 }]);
  assert.deepEqual([store.kept, store.canUndo(), store.redo()], [3, true, false]);
});

test('values that are as usual are not written, and of values that exclude each other the last one counts', () => {
  const store = begun({ step: 'denoise', brightness: 50 }, { step: 'resize', long_edge: 1600 });
  store.setValues(0, { brightness: 40, colour: 10 }, DENOISE);
  store.setValues(1, { fit: [1920, 1080] }, RESIZE);
  assert.deepEqual(store.doc.steps, [
    { step: 'denoise', colour: 10 },
    { step: 'resize', fit: [1920, 1080] },
  ]);
});

test('what is only tried is not kept, and comes as one decision when it is taken', () => {
  const store = begun({ step: 'denoise' });
  const before = store.text();
  store.record(false);
  for (const value of [10, 20]) {
    store.setValues(0, { brightness: value }, DENOISE);
    store.decide();
  }
  assert.deepEqual([store.kept, store.written(), store.isPending()], [0, before, true]);
  assert.equal(store.isTried(store.doc.steps[0]), true);
  store.undo();
  store.undo();
  assert.equal(store.undo(), false);
  store.redo();
  store.record(true);
  assert.deepEqual([store.kept, store.past, store.off], [1, [before], null]);
  assert.equal(store.doc.steps[0].brightness, 10);
});

test('what was tried can be dropped', () => {
  const store = begun({ step: 'denoise' });
  store.record(false);
  store.insert(1, { step: 'resize', long_edge: 900 });
  store.decide();
  store.drop();
  assert.deepEqual([names(store), store.kept, store.past.length, store.off], ['denoise', 0, 0, null]);
});

test('a name that is given by itself is no decision', () => {
  const store = begun({ step: 'denoise' });
  store.record(false);
  store.rename('Denoise');
  assert.deepEqual([store.decide(), store.isPending(), store.doc.name], [false, false, 'Denoise']);
  assert.equal(JSON.parse(store.written()).name, 'Denoise');
});

test('a key from a line that is gone changes nothing', () => {
  const store = begun({ step: 'a' }, { step: 'b' });
  // Its number is still on the page until the ticket is drawn again.
  store.relocate(2, 1);
  store.switchLine(2);
  store.remove(2);
  assert.deepEqual(store.doc.steps, [{ step: 'a' }, { step: 'b' }]);
});

test('lines of a block stay neighbours', () => {
  const store = begun({ step: 'a' }, { step: 'b' }, { step: 'c' });
  store.setAround(0, 'block', 'Web');
  assert.equal(store.setAround(2, 'block', 'Web'), 1);
  assert.equal(names(store), 'a c b');
  // Between two lines of a block a line joins them.
  store.relocate(2, 1);
  assert.deepEqual([names(store), store.doc.steps[1].block], ['a b c', 'Web']);
  // Away from its own it leaves it.
  store.insert(3, { step: 'd' });
  store.relocate(0, 3);
  assert.deepEqual([names(store), store.doc.steps[3].block], ['b c d a', undefined]);
  assert.equal(store.renameBlock('Web', 'Small'), true);
  assert.equal(store.renameBlock('Small', 'Small'), false);
  assert.deepEqual(
    store.doc.steps.map((s) => s.block),
    ['Small', 'Small', undefined, undefined],
  );
  store.remove(0);
  store.remove(0);
  assert.equal(store.doc.blocks, undefined);
});

test('a line is switched off and on', () => {
  const store = begun({ step: 'a' });
  store.switchLine(0);
  assert.equal(store.doc.steps[0].on, false);
  store.switchLine(0);
  assert.equal('on' in store.doc.steps[0], false);
});
