// Heads above lines: of a block, with its name, its switch and its mix; of a place where a run waits.

import { el } from '../app/api.js';

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
  const on = el('input', { type: 'checkbox', checked: block.on !== false, 'aria-label': `block ${name} on` });
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
    'aria-label': `mix of block ${name}, per cent`,
  });
  mix.addEventListener('change', () => {
    const v = Math.max(0, Math.min(100, Number(mix.value)));
    if (v >= 100) delete block.mix;
    else block.mix = v;
    bench.changed(true);
  });
  const title = el('input', { value: name, maxlength: 200, 'aria-label': `name of block ${name}` });
  title.addEventListener('change', () => {
    if (bench.store.renameBlock(name, title.value.trim())) bench.changed(true);
    else title.value = name;
  });
  const from = block.from
    ? el(
        'small',
        {},
        `from ${block.from.recipe}, version ${block.from.version} `,
        el('label', {}, follow(bench, block), ' follow it'),
      )
    : '';
  return el(
    'li',
    { class: `block-head${block.on === false ? ' is-off' : ''}` },
    el('label', { title: 'On or off' }, on, ' block'),
    title,
    el('label', {}, 'mix', mix, '%'),
    from,
  );
}
function follow(bench, block) {
  const box = el('input', {
    type: 'checkbox',
    checked: block.from.follow,
    'aria-label': `later versions of ${block.from.recipe} are taken over`,
  });
  box.addEventListener('change', () => {
    block.from.follow = box.checked;
    bench.changed(true);
  });
  return box;
}
const waitHead = (what) => el('li', { class: 'block-head is-wait' }, `Wait for a yes: ${what}`);
