// What the scripts say: every name they ask for has words, all words are said, and what depends on a number is said by rule.

import assert from 'node:assert/strict';
import { readFileSync, readdirSync } from 'node:fs';
import { test } from 'node:test';
import { phrase } from '../assets/app/words.js';
import english from '../assets/words/en/scripts.js';
import { FluentResource } from '../assets/vendor/fluent-bundle-0.19.1.min.js';

const assets = new URL('../assets/', import.meta.url);
const scripts = readdirSync(assets, { recursive: true })
  .filter((name) => name.endsWith('.js') && !/^(vendor|words)/.test(name))
  .map((name) => [name, readFileSync(new URL(name, assets), 'utf8')]);
const messages = new Map(new FluentResource(english).body.map((m) => [m.id, m.value]));

/** The names of values and of other messages in a pattern. */
function parts(pattern, found = { values: new Set(), messages: new Set() }) {
  for (const part of [pattern].flat()) {
    if (part?.type === 'var') found.values.add(part.name);
    if (part?.type === 'mesg') found.messages.add(part.name);
    if (part?.type === 'select') {
      parts(part.selector, found);
      for (const variant of part.variants) parts(variant.value, found);
    }
  }
  return found;
}

/** All values a message needs, those of messages in it too. */
function needs(name) {
  const { values, messages: others } = parts(messages.get(name));
  return new Set([...values, ...[...others].flatMap((other) => [...needs(other)])]);
}

test('every name that a script asks for has words, with the values they need', () => {
  for (const [file, text] of scripts) {
    for (const [, name] of text.matchAll(/phrase\(\s*'([a-z0-9-]+)'/g))
      assert.ok(messages.has(name), `${file}: ${name}`);
    // Where all values stand in the call.
    for (const [, name, given] of text.matchAll(/phrase\('([a-z0-9-]+)'(?:, \{([^{}]*)\})?\)/g)) {
      const names = (given ?? '').split(',').map((part) => part.split(':')[0].trim());
      for (const needed of needs(name))
        assert.ok(
          names.some((n) => n === needed),
          `${file}: ${name} needs ${needed}`,
        );
    }
  }
});

test('nothing is kept that nobody says', () => {
  const all = scripts.map(([, text]) => text).join('\n');
  const within = new Set([...messages.keys()].flatMap((name) => [...parts(messages.get(name)).messages]));
  const unsaid = [...messages.keys()].filter((name) => !all.includes(`'${name}'`) && !within.has(name));
  assert.deepEqual(unsaid, []);
});

test('what depends on a number is said by rule, and numbers stand as they are', () => {
  assert.equal(phrase('any-frames', { count: 1 }), '1 frame');
  assert.equal(phrase('any-frames', { count: 12345 }), '12345 frames');
  assert.equal(phrase('any-frames', { count: 0 }), '0 frames');
  assert.equal(phrase('sequence-passes-are-suggested', { count: 1 }).split(' ')[1], 'pass');
  assert.equal(phrase('app-about-seconds', { seconds: 1 }), 'about a second');
  assert.throws(() => phrase('any-nothing-of-the-kind'), /any-nothing-of-the-kind/);
});
