import assert from 'node:assert/strict';
import { test } from 'node:test';

globalThis.document = { addEventListener() {}, querySelector: () => ({ content: 'token' }), getElementById() {} };
globalThis.window = { addEventListener() {} };
const { Keeper } = await import('../assets/bench/saving.js');

const answer = (status, body) => ({
  ok: status < 300,
  status,
  json: async () => body,
  text: async () => JSON.stringify(body),
});

/** A keeper of a text, with a program that answers as it is told, one answer after the other. */
function keeping(answers) {
  const [sent, said] = [[], []];
  globalThis.fetch = async (path, how) => {
    sent.push(how);
    const next = answers.shift();
    if (next instanceof Error) throw next;
    return next;
  };
  const keeper = new Keeper({
    text: () => '{"name":"Pots"}',
    state: (word, why) => said.push(why ? `${word}: ${why}` : word),
    kept() {},
    failed() {},
  });
  keeper.begin(1, 4, '{}');
  return { keeper, sent, said };
}

test('what the program could not keep is tried again, without what a browser has little room for', async () => {
  const { keeper, sent, said } = keeping([answer(500, { detail: 'no room' }), answer(200, { version: 5 })]);
  await keeper.send();
  assert.deepEqual(said, ['not saved: no room']);
  assert.ok(keeper.timer, 'it is tried again');
  await keeper.send();
  assert.deepEqual(said, ['not saved: no room', 'saved']);
  assert.deepEqual(
    sent.map((how) => how.keepalive),
    [true, false],
  );
  assert.ok(keeper.isKept() && keeper.version === 5);
});

test('what the program refuses is told and not sent again', async () => {
  const { keeper, said } = keeping([answer(409, { detail: 'changed elsewhere' })]);
  await keeper.send();
  assert.deepEqual(said, ['not saved: changed elsewhere']);
  assert.ok(keeper.timer === null && !keeper.isKept());
});
