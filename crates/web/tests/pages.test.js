import assert from 'node:assert/strict';
import { readFileSync } from 'node:fs';
import { test } from 'node:test';
import { takeLabel } from '../assets/app/folder-chooser.js';
import { parse, shown } from '../assets/app/values.js';
import { CHOICES, PIECES, apart, made } from '../assets/bench/controls/name-pieces.js';
import { putAnswer, showValue } from '../assets/app/fields.js';

test('the way on says what is opened', () => {
  const here = { path: '/pots', pictures: 12 };
  assert.equal(takeLabel([], here), 'Open this folder (12 pictures)');
  assert.equal(takeLabel([], { path: '/pots', pictures: 1 }), 'Open this folder (1 picture)');
  assert.equal(takeLabel([], { path: '', pictures: 0 }), 'Open this folder');
  const ticked = [{ isFolder: true }, { isFolder: true }, { isFolder: false }];
  assert.equal(takeLabel(ticked, here), 'Open 2 folders and 1 picture');
});

test('a field shows what was answered, and else what it was drawn with', () => {
  const answers = [];
  putAnswer(answers, { line: 2, param: 'amount' }, 0.5);
  putAnswer(answers, { line: 1, param: 'on' }, false);
  putAnswer(answers, { line: 2, param: 'amount' }, 0.75);
  assert.deepEqual(
    answers.map((a) => `${a.line} ${a.param} ${a.value}`),
    ['1 on false', '2 amount 0.75'],
  );
  const field = (sets, more) => ({ dataset: { sets: JSON.stringify(sets) }, ...more });
  const amount = field({ line: 2, param: 'amount', kind: 'number' }, { defaultValue: '1' });
  showValue(amount, answers);
  assert.equal(amount.value, '0.75');
  showValue(amount, []);
  assert.equal(amount.value, '1');
  const on = field({ line: 1, param: 'on', kind: 'flag' }, { defaultChecked: true });
  showValue(on, answers);
  assert.equal(on.checked, false);
  const choices = [
    { value: 'a', defaultSelected: false },
    { value: 'b', defaultSelected: true },
  ];
  const choice = field({ line: 4, param: 'way', kind: 'choice' }, { options: choices });
  showValue(choice, answers);
  assert.equal(choice.value, 'b');
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

test('the dialog that builds names offers what templates can be taken apart into', () => {
  const dialog = readFileSync(new URL('../templates/dialogs/names.html', import.meta.url), 'utf8');
  const pieces = [...dialog.matchAll(/<template data-piece="(\w+)">(.*?)<\/template>/g)];
  assert.deepEqual(
    pieces.map((m) => m[1]),
    Object.keys(PIECES),
  );
  for (const [, piece, inside] of pieces) {
    const keys = [...inside.matchAll(/data-key="(\w+)"/g)].map((m) => m[1]);
    assert.deepEqual(keys, Object.keys(PIECES[piece].values));
    for (const [, key, options] of inside.matchAll(/<select[^>]* data-key="(\w+)">(.*?)<\/select>/g)) {
      const values = [...options.matchAll(/<option value="([^"]*)"/g)].map((m) => m[1]);
      assert.deepEqual(values, CHOICES[key]);
    }
  }
});
