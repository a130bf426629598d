import assert from 'node:assert/strict';
import { test } from 'node:test';
import { takeLabel } from '../assets/app/folder-chooser.js';
import { parse, shown } from '../assets/app/values.js';
import { apart, made } from '../assets/bench/controls/name-pieces.js';
import { byFolder } from '../assets/runs/names.js';

test('the way on says what is opened', () => {
  const here = { path: '/pots', pictures: 12 };
  assert.equal(takeLabel([], here), 'Open this folder (12 pictures)');
  assert.equal(takeLabel([], { path: '/pots', pictures: 1 }), 'Open this folder (1 picture)');
  assert.equal(takeLabel([], { path: '', pictures: 0 }), 'Open this folder');
  const ticked = [{ isFolder: true }, { isFolder: true }, { isFolder: false }];
  assert.equal(takeLabel(ticked, here), 'Open 2 folders and 1 picture');
});

test('names are grouped by the folders they go into', () => {
  const names = ['web', 'web', 'print', 'web'].map((folder, i) => ({ folder, target: `${i}.jpg` }));
  assert.deepEqual(
    byFolder(names).map((g) => `${g.folder} ${g.names.length}`),
    ['web 2', 'print 1', 'web 1'],
  );
});

test('typed values are what their kind has', () => {
  const number = { kind: 'number', min: -5, max: 5 };
  assert.deepEqual(
    ['0,5', '−2 stops', '99', 'none'].map((t) => parse(number, t)),
    [0.5, -2, 5, undefined],
  );
  assert.equal(parse({ kind: 'whole', min: 1, max: 100 }, ''), null);
  assert.deepEqual(parse({ kind: 'pair' }, '1920 × 1080'), [1920, 1080]);
  assert.deepEqual(parse({ kind: 'words' }, 'pots, trays ,'), ['pots', 'trays']);
  const rows = { kind: 'rows', names: ['x', 'y'] };
  assert.deepEqual(
    parse(
      rows,
      shown(
        [
          [0, 1],
          [2, 3],
        ],
        'rows',
      ),
    ),
    [
      [0, 1],
      [2, 3],
    ],
  );
});

test('templates of names come apart into pieces and together again', () => {
  for (const template of ['{stem}-{n:04}', '{taken:%Y-%m-%d} {camera}', '{stem:- > _;first 4;lower}', 'pot {n}']) {
    assert.equal(made(apart(template)), template);
  }
  assert.equal(apart('{unknown:3}'), null);
});
