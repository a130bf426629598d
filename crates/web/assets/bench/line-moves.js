// What is done with lines: values changed, opened, moved, copied as text, another recipe taken in.

import { json, say, typing } from '../app/api.js';
import { phrase } from '../app/words.js';

/** Gives the bench what changes lines. */
export function lineMoves(bench) {
  /** Something around a line's values changed: its mix, area, condition, values per ISO, block. */
  bench.around = (at, key, value, done) => {
    const to = bench.store.setAround(at, key, value);
    if (bench.open === at) bench.open = to;
    bench.changed(done);
  };

  /** A file is taken only if it can be used; else it is said why, and everything stays as it was. */
  async function changeFile(i, values) {
    const next = structuredClone(bench.doc);
    Object.assign(next.steps[i], values);
    try {
      await json('POST', '/api/plan', { recipe: next, frame: bench.frame });
    } catch (e) {
      say(e.message.replace(/^steps\[\d+\]\.\w+\.\w+: /, 'This file was not taken: '));
      return bench.draw();
    }
    Object.assign(bench.doc.steps[i], values);
    return bench.changed(true);
  }

  /** Values of one line changed; `done` ends a gesture. */
  bench.change = function change(i, values, done) {
    const step = bench.doc.steps[i];
    bench.clipping =
      bench.clipPinned || (!done && Object.keys(values).some((name) => bench.kind(step)?.clips.includes(name)));
    const k = bench.kind(step);
    if (bench.frame && k.params.some((p) => p.kind === 'file' && values[p.name])) {
      changeFile(i, values);
      return;
    }
    bench.store.setValues(i, values, k);
    bench.changed(done);
  };
  /** Lines are copied and pasted as text, also between recipes and windows. */
  document.addEventListener('copy', (e) => {
    const li = document.activeElement?.closest?.('#lines li[data-line]');
    if (!li || typing({ target: document.activeElement }) || !getSelection().isCollapsed) return;
    e.clipboardData.setData(
      'text/plain',
      JSON.stringify({ 'rallo-lines': [bench.doc.steps[Number(li.dataset.line)]] }),
    );
    e.preventDefault();
    say(phrase('bench-the-line-is-copied-paste-it'));
  });
  document.addEventListener('paste', (e) => {
    if (typing({ target: document.activeElement })) return;
    let lines;
    try {
      lines = JSON.parse(e.clipboardData.getData('text/plain'))['rallo-lines'];
    } catch {
      return;
    }
    if (!Array.isArray(lines) || !lines.every((l) => bench.kinds.some((k) => k.id === l?.step))) return;
    const at = document.activeElement?.closest?.('#lines li[data-line]');
    bench.doc.steps.splice(
      at ? Number(at.dataset.line) + 1 : bench.doc.steps.length,
      0,
      ...lines.map(({ block, ...line }) => line),
    );
    e.preventDefault();
    bench.changed(true);
  });

  /** Another recipe's lines as a block. */
  bench.takeIn = async function takeIn(recipe) {
    await bench.keeper.done();
    try {
      const took = await json('POST', '/api/recipes/block', {
        version: bench.version,
        document: bench.doc,
        recipe,
        follow: true,
      });
      bench.store.doc = took.document;
      bench.changed(true);
    } catch (e) {
      say(e.message);
    }
  };
  bench.toggle = (at) => {
    bench.open = bench.open === at ? -1 : at;
    bench.useTool(null, false);
    bench.tell(true);
  };

  bench.switchLine = (at) => {
    bench.store.switchLine(at);
    bench.changed(true);
  };

  bench.remove = (at) => {
    bench.store.remove(at);
    bench.open = -1;
    bench.useTool(null, false);
    bench.changed(true);
  };

  bench.move = (at, by) => {
    const to = at + by;
    if (to >= 0 && to < bench.doc.steps.length) bench.relocate(at, to);
  };

  bench.relocate = (at, to) => {
    if (at === to) return;
    const was = bench.doc.steps[bench.open];
    bench.store.relocate(at, to);
    bench.open = was ? bench.doc.steps.indexOf(was) : -1;
    bench.changed(true);
    setTimeout(() => document.querySelector(`[data-line="${to}"]`)?.focus(), 250);
  };
}
