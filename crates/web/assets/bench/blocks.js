// Heads above lines: of a block, with its name, its switch and its mix; of a place where a run waits.

import { el } from '../app/api.js';
import { phrase } from '../app/words.js';

/** What stands above the line at `i`. */
export function heads(bench, i) {
  const line = bench.doc.steps[i];
  const isFirst = line.block && line.block !== bench.doc.steps[i - 1]?.block;
  const block = isFirst && bench.doc.blocks?.find((b) => b.name === line.block);
  return [...(block ? [blockHead(bench, block)] : []), ...(line.checkpoint ? [waitHead(line.checkpoint)] : [])];
}

/** The head of a block: its name, its switch, its mix. */
function blockHead(bench, block) {
  const { name } = block;
  const on = el('input', {
    type: 'checkbox',
    checked: block.on !== false,
    'aria-label': phrase('bench-block-on', { name }),
  });
  on.addEventListener('change', () => {
    if (on.checked) delete block.on;
    else block.on = false;
    bench.changed(true);
  });
  const mix = el('input', {
    type: 'number',
    min: 0,
    max: 100,
    value: block.mix ?? 100,
    class: 'short',
    'aria-label': phrase('bench-mix-of-block-per-cent', { name }),
  });
  mix.addEventListener('change', () => {
    const v = Math.max(0, Math.min(100, Number(mix.value)));
    if (v >= 100) delete block.mix;
    else block.mix = v;
    bench.changed(true);
  });
  const title = el('input', { value: name, maxlength: 200, 'aria-label': phrase('bench-name-of-block', { name }) });
  title.addEventListener('change', () => {
    if (bench.store.renameBlock(name, title.value.trim())) bench.changed(true);
    else title.value = name;
  });
  const from = block.from
    ? el(
        'small',
        {},
        phrase('bench-from-version', { recipe: block.from.recipe, version: block.from.version }),
        el('label', {}, follow(bench, block), phrase('bench-follow-it')),
      )
    : '';
  return el(
    'li',
    { class: `block-head${block.on === false ? ' is-off' : ''}` },
    el('label', { title: phrase('bench-on-or-off') }, on, ' ', phrase('bench-block')),
    title,
    el('label', {}, phrase('bench-mix'), mix, '%'),
    from,
  );
}
function follow(bench, block) {
  const box = el('input', {
    type: 'checkbox',
    checked: block.from.follow,
    'aria-label': phrase('bench-later-versions-of-are-taken-over', { recipe: block.from.recipe }),
  });
  box.addEventListener('change', () => {
    block.from.follow = box.checked;
    bench.changed(true);
  });
  return box;
}
const waitHead = (what) => el('li', { class: 'block-head is-wait' }, phrase('bench-wait-for-a-yes', { what }));
