// The bench: the recipe being written, the picture following it.

import { deliveries } from './deliveries.js';
import { READING, reading } from './reading.js';
import { ask, el, json, say, typing } from '../app/api.js';
import { Against } from './comparison.js';
import { Viewer } from './viewer.js';
import { pixels } from '../app/request-slots.js';
import { Keeper } from './saving.js';
import { controls, sentence } from './ticket.js';
import { drawShape, where } from './controls/line-options.js';
import { Hand } from './tools/gestures.js';
import { histogram, scope } from './scopes.js';
import { grab, overlay } from './tools/overlay.js';
import { SequencePreview } from './sequence-preview.js';

const $ = (id) => document.getElementById(id);
const slip = $('bench');
const frame = Number(slip.dataset.frame);
const facts = JSON.parse(slip.dataset.facts || '{}');
const id = Number(slip.dataset.recipe);
let version = 1;
let doc = null;
let kinds = [];
let drawDeliveries = null;
let lineZero = null;
let open = -1;
let told = null;
let source = [facts.width || 3, facts.height || 2];
const memory = { channel: 'all' };
const stage = $('stage');
const pick = { line: null, neutral: false, light: null };
// What is clipped is shown while an end of the tones is being moved, or as long as it is asked for.
let clipping = false;
let clipPinned = false;

// Undo goes through decisions, not through the moves of a hand.
let past = [];
let future = [];
let settled = '';

// Off the ticket: what the recipe was when the recording stopped, and how far undo reached then.
let off = null;

const kind = (step) => kinds.find((k) => k.id === step?.step);
/** Whether the open line is moved by hand without a tool being taken up first. */
const alwaysAtHand = () => {
  const tool = kind(doc.steps[open])?.tool;
  return Boolean(tool && !tool.button);
};
const text = () => JSON.stringify(doc);

/** The tools that work on the input of the open line show the picture as it comes to that line. */
function upto() {
  if (pick.light) return 0;
  const step = doc.steps[open];
  if (!step) return undefined;
  return kind(step)?.tool?.shows_input && (pick.tool || pick.neutral) ? open : undefined;
}

let toolSize = null;
const against = new Against(
  $('against'),
  () => ({ doc, open, moves: (s) => kind(s).moves }),
  () => viewer.refresh(),
);
const viewer = new Viewer(
  $('stage'),
  () => ({
    recipe: doc,
    text: doc ? text() : '',
    frame,
    upto: doc ? upto() : undefined,
    size: (doc && upto() !== undefined && toolSize) || told?.size || source,
    from: open >= 0 ? open : undefined,
    clip: clipping || undefined,
    other: () => against.other(),
    otherName: against.name,
  }),
  (error, picture) => {
    if (error) return say(error.message);
    scope(picture.head);
    closer();
    over();
  },
);

const over = () =>
  overlay(
    $('overlay'),
    viewer,
    doc.steps[open],
    pick.tool ? kind(doc.steps[open])?.tool?.kind : null,
    facts,
    { ...pick, cross: hand.cross, held: hand.held },
    pick.shape != null ? [doc.steps[open]?.area].flat()[pick.shape] : null,
  );

/** Something around a line's values changed: its mix, area, condition, values per ISO, block. */
function around(i, key, value, done) {
  const step = doc.steps[i];
  if (value === undefined) delete step[key];
  else step[key] = value;
  if (key === 'block') {
    if (value && !(doc.blocks ?? []).some((b) => b.name === value))
      doc.blocks = [...(doc.blocks ?? []), { name: value }];
    // Lines of one block are neighbours.
    const others = doc.steps.map((s, k) => [s, k]).filter(([s, k]) => value && s.block === value && k !== i);
    if (others.length && !others.some(([, k]) => Math.abs(k - i) === 1)) {
      const last = others.at(-1)[1];
      doc.steps.splice(i, 1);
      doc.steps.splice(last + (i < last ? 0 : 1), 0, step);
      open = doc.steps.indexOf(step);
    }
    tidyBlocks();
  }
  changed(done);
}
/** Blocks without lines are gone. */
function tidyBlocks() {
  if (!doc.blocks) return;
  doc.blocks = doc.blocks.filter((b) => doc.steps.some((s) => s.block === b.name));
  if (!doc.blocks.length) delete doc.blocks;
}

/** The head of a block: its name, its switch, its mix. */
function blockHead(name) {
  const block = doc.blocks.find((b) => b.name === name);
  const on = el('input', { type: 'checkbox', checked: block.on !== false, 'aria-label': `block ${name} on` });
  on.addEventListener('change', () => {
    if (on.checked) delete block.on;
    else block.on = false;
    changed(true);
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
    changed(true);
  });
  const title = el('input', { value: name, maxlength: 200, 'aria-label': `name of block ${name}` });
  title.addEventListener('change', () => {
    const to = title.value.trim();
    if (!to || doc.blocks.some((b) => b.name === to)) {
      title.value = name;
      return;
    }
    for (const s of doc.steps) if (s.block === name) s.block = to;
    block.name = to;
    changed(true);
  });
  const from = block.from
    ? el(
        'small',
        {},
        `from ${block.from.recipe}, version ${block.from.version} `,
        el('label', {}, follow(block), ' follow it'),
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
function follow(block) {
  const box = el('input', {
    type: 'checkbox',
    checked: block.from.follow,
    'aria-label': `later versions of ${block.from.recipe} are taken over`,
  });
  box.addEventListener('change', () => {
    block.from.follow = box.checked;
    changed(true);
  });
  return box;
}
const waitHead = (what) => el('li', { class: 'block-head is-wait' }, `Wait for a yes: ${what}`);

/** A file is taken only if it can be used; else it is said why, and everything stays as it was. */
async function changeFile(i, values) {
  const next = structuredClone(doc);
  Object.assign(next.steps[i], values);
  try {
    await json('POST', '/api/plan', { recipe: next, frame });
  } catch (e) {
    say(e.message.replace(/^steps\[\d+\]\.\w+\.\w+: /, 'This file was not taken: '));
    return draw();
  }
  Object.assign(doc.steps[i], values);
  return changed(true);
}

/** Values of one line changed; `done` ends a gesture. */
function change(i, values, done) {
  const step = doc.steps[i];
  clipping = clipPinned || (!done && Object.keys(values).some((name) => kind(step)?.clips.includes(name)));
  const k = kind(step);
  if (frame && k.params.some((p) => p.kind === 'file' && values[p.name])) {
    changeFile(i, values);
    return;
  }
  const moves = Object.keys(values);
  if (moves.some((m) => k.one_of.includes(m) && values[m] != null)) {
    for (const name of k.one_of) if (!moves.includes(name)) delete step[name];
  }
  for (const [name, value] of Object.entries(values)) {
    const param = k.params.find((p) => p.name === name);
    if (JSON.stringify(value) === JSON.stringify(param.default)) delete step[name];
    else step[name] = value;
  }
  changed(done);
}

/** The sequence played over the picture; when it ends the sample is shown with what was measured meanwhile. */
const preview = new SequencePreview($('sequence-preview'), () => doc);
preview.closed = () => {
  viewer.forget();
  stage.focus();
  costs();
};
// What a picture costs is measured when the machine has nothing else to do.
preview.opened = () => {
  clearTimeout(costing);
  costStop?.abort();
  costOf = '';
};
$('play-sequence').onclick = () => preview.open();

let asking = false;
let askAgain = false;
/** Something changed: the picture and the words follow; a decision is kept. */
function changed(done) {
  if (done && text() !== settled) {
    past.push(settled);
    future = [];
    settled = text();
    if (off) trying();
    else save();
  }
  viewer.refresh();
  preview.follow();
  // Lines come and go at once; their words follow.
  const isNew = drawn !== doc.steps.map((s) => s.step).join();
  if (isNew) draw();
  tell(done && !isNew);
}

/** Recording or trying: said in words, by the switch and by the edge of the slip. */
function trying() {
  const pending = off && text() !== off.text;
  slip.classList.toggle('is-trying', Boolean(off));
  $('record').setAttribute('aria-checked', String(!off));
  $('record-word').textContent = off ? 'Off the ticket: only tried' : 'On the ticket: written down';
  $('tried').hidden = !off;
  $('tried-word').textContent = pending ? 'Lines marked “tried” are not written down.' : 'Nothing is tried yet.';
  $('take').disabled = $('drop').disabled = !pending;
}
function record(on) {
  if (on === !off) return;
  if (!on) off = { text: text(), past: past.length };
  else if (text() !== off.text) return take();
  else off = null;
  trying();
  draw();
}
/** All that was tried becomes one decision. */
function take() {
  past = [...past.slice(0, off.past), off.text];
  future = [];
  settled = text();
  off = null;
  trying();
  save();
  tell(true);
}
function drop() {
  doc = JSON.parse(off.text);
  past = past.slice(0, off.past);
  future = [];
  settled = off.text;
  off = null;
  if (open >= doc.steps.length) open = -1;
  trying();
  viewer.refresh();
  preview.follow();
  tell(true);
}
/** Whether a line is not on the ticket as it stands. */
function isTried(step) {
  return off !== null && !JSON.parse(off.text).steps.some((s) => JSON.stringify(s) === JSON.stringify(step));
}

async function tell(all) {
  if (!frame) return draw();
  if (asking) {
    askAgain = askAgain || all || 'words';
    return;
  }
  asking = true;
  try {
    const before = told;
    // Lines may come and go while the answer is on its way.
    const steps = doc.steps.map((s) => s.step);
    told = { ...(await json('POST', '/api/plan', { recipe: doc, frame, quick: true })), steps };
    // What was measured stands until it is measured again.
    told.lines.forEach((l, i) => {
      if (before?.steps[i] === told.steps[i])
        Object.assign(l, {
          found: before.lines[i].found,
          measured: before.lines[i].measured,
          ordinary: before.lines[i].ordinary,
        });
    });
    source = told.source;
    toolSize = told.lines[open]?.size ?? null;
    if (all) draw();
    else {
      words();
      lineZero?.draw();
      advise();
      if (JSON.stringify(before?.goes) !== JSON.stringify(told.goes)) drawDeliveries?.();
    }
    viewer.draw();
    over();
    data();
    costs();
    measure();
  } catch (e) {
    say(e.message);
    if (all) draw();
  }
  asking = false;
  if (askAgain) {
    const next = askAgain === true;
    askAgain = false;
    tell(next);
    viewer.refresh();
  }
}

// What steps measure in the sample: told when the hand rests, since it may take a while.
let measuring = null;
function measure() {
  clearTimeout(measuring);
  const of = text();
  measuring = setTimeout(async () => {
    try {
      const full = await json('POST', '/api/plan', { recipe: JSON.parse(of), frame });
      if (text() !== of) return;
      const found = (t) => JSON.stringify(t.lines.map((l) => [l.found, l.measured]));
      const isNew = found(told) !== found(full);
      told = { ...full, steps: told.steps };
      if (isNew && !document.activeElement?.closest?.('#lines .is-open input, #lines .is-open select')) draw();
    } catch {
      /* the picture says what is wrong */
    }
  }, 250);
}

// What one picture takes and how large its file is: at once from the machine's table, and measured when the hand rests.
let cost = null;
let costing = null;
let costOf = '';
let costStop = null;
async function askCost(of, measured) {
  const found = await json(
    'POST',
    '/api/cost',
    { recipe: JSON.parse(of), frame, measure: measured },
    { signal: costStop.signal },
  );
  if (text() !== of) return false;
  cost = found;
  data();
  // Only these words: somebody may be typing beside them.
  document.querySelectorAll('#goes .goes-cost').forEach((box, i) => {
    box.textContent = cost.deliveries[i] ?? '';
    box.hidden = !box.textContent;
  });
  return true;
}
function costs() {
  const of = text();
  if (costOf === of || preview.isOpen) return;
  costOf = of;
  clearTimeout(costing);
  costStop?.abort();
  costStop = new AbortController();
  costing = setTimeout(async () => {
    try {
      if (await askCost(of, false))
        costing = setTimeout(
          () =>
            askCost(of, true).catch(() => {
              /* the first figure stays */
            }),
          2500,
        );
    } catch {
      /* the run sheet says what is wrong */
    }
  }, 150);
}
const SURE = { rough: 'a first guess', estimated: 'estimated', learned: 'as in earlier runs', measured: 'measured' };
const size = (bytes) => (bytes < 1e6 ? `${Math.round(bytes / 1000)} kB` : `${(bytes / 1e6).toFixed(1)} MB`);

function data() {
  const f = facts;
  const shutter = f.shutter && (f.shutter < 0.4 ? `1/${Math.round(1 / f.shutter)} s` : `${f.shutter} s`);
  const first = [f.iso && `ISO ${f.iso}`, shutter, f.aperture && `f/${f.aperture}`].filter(Boolean).join(', ');
  $('data').textContent =
    `${first}\n${((source[0] * source[1]) / 1e6).toFixed(1)} MP to ${told.size[0]} × ${told.size[1]}${cost ? `\na picture: ${cost.seconds < 10 ? cost.seconds.toFixed(1) : Math.round(cost.seconds)} s${cost.bytes == null ? '' : `, ${size(cost.bytes)}`}\n(${SURE[cost.sure]})` : ''}`;
}

const partsOf = (i) => (told?.steps[i] === doc.steps[i].step && told.lines[i]?.parts) || [kind(doc.steps[i]).title];

function lineWords(i) {
  const step = () => doc.steps[i];
  const words = sentence(partsOf(i), kind(doc.steps[i]).params, step, (v, d) => change(i, v, d));
  const note = told?.steps[i] === doc.steps[i].step && told.lines[i]?.note;
  if (note) words.push(' ', el('small', { class: 'line-note' }, note));
  const offers = (note && told.lines[i].offers) || [];
  offers.forEach((name) =>
    words.push(
      ' ',
      el(
        'button',
        {
          type: 'button',
          class: 'btn btn-sm btn-outline-dark',
          title: 'Remembered for all later pictures that name this lens',
          onclick: (e) => {
            e.stopPropagation();
            isLens(name);
          },
        },
        `It is the ${name}`,
      ),
    ),
  );
  return isTried(step()) ? [...words, ' ', el('span', { class: 'tried' }, 'tried')] : words;
}

/** How soft the frame's lens draws, measured on the shoot; the line goes by it from then on. */
async function measureLens(i) {
  say('Looking for edges in the frames taken with this lens …');
  try {
    const found = await json('POST', '/api/lens-softness', { frame });
    say(
      `${found.lens}: ${found.middle.toFixed(2)} ‰ of the long edge in the middle, ${found.corner.toFixed(2)} ‰ in the corners, from ${found.pictures} frame${found.pictures === 1 ? '' : 's'}.`,
    );
    change(i, { by_lens: true }, true);
    viewer.forget();
  } catch (e) {
    say(e.message);
  }
}

/** What the frame calls its lens is the known one of that name, from now on. */
async function isLens(name) {
  try {
    await json('POST', '/api/lens-names', { lens: facts.lens, is: name });
    await tell(true);
    viewer.forget();
  } catch (e) {
    say(e.message);
  }
}

/** Only the sentences, while a value is being dragged. */
function words() {
  document.querySelectorAll('#lines > li[data-line]').forEach((li) => {
    const i = Number(li.dataset.line);
    const box = li.querySelector('.words');
    if (typed && box.contains(typed)) return;
    const at = box.querySelector(':focus')?.dataset.param;
    box.replaceChildren(...lineWords(i));
    if (at) box.querySelector(`[data-param="${at}"]`)?.focus();
  });
}

function line(step, i) {
  const k = kind(step);
  const act = (label, title, run, disabled) =>
    el('button', { type: 'button', class: 'btn btn-sm btn-outline-dark', title, disabled, onclick: run }, label);
  const li = el('li', {
    class: `${i === open ? 'is-open' : ''}${step.on === false ? ' is-off' : ''}${step.block ? ' is-bound' : ''}`,
    draggable: i !== open,
    tabindex: '0',
    'data-line': i,
    'aria-label': `Line ${i + 1}, ${k.title}`,
  });
  const box = el('div', { class: 'words' }, ...lineWords(i));
  // The words, the number and the paper around them open the line; values have work of their own.
  li.addEventListener('click', (e) => {
    if (e.target === box || e.target === li) toggle(i);
  });
  li.append(box);
  li.addEventListener('dragstart', (e) => {
    if (e.target !== li) return;
    dragged = i;
    e.dataTransfer.effectAllowed = 'move';
    e.dataTransfer.setData(
      'text/plain',
      partsOf(i)
        .map((p) => p.text ?? p)
        .join(''),
    );
  });
  li.addEventListener('dragover', (e) => {
    if (dragged === null) return;
    e.preventDefault();
    const below = e.offsetY > li.clientHeight / 2;
    li.classList.toggle('drop-below', below);
    li.classList.toggle('drop-above', !below);
  });
  li.addEventListener('dragleave', () => li.classList.remove('drop-above', 'drop-below'));
  li.addEventListener('drop', (e) => {
    e.preventDefault();
    const to = i + (li.classList.contains('drop-below') ? 1 : 0);
    if (dragged !== null) relocate(dragged, to > dragged ? to - 1 : to);
    dragged = null;
  });
  li.addEventListener('dragend', () => {
    dragged = null;
    document
      .querySelectorAll('#lines .drop-above, #lines .drop-below')
      .forEach((l) => l.classList.remove('drop-above', 'drop-below'));
  });
  li.addEventListener('keydown', (e) => {
    if (e.target !== li) return;
    const up = e.altKey && e.key === 'ArrowUp';
    const down = e.altKey && e.key === 'ArrowDown';
    if (up || down) move(i, up ? -1 : 1);
    else if (e.key === 'Enter') toggle(i);
    else if (e.key === 'x') switchLine(i);
    else if (e.key === 'Delete') remove(i);
    else return;
    e.preventDefault();
    e.stopPropagation();
  });
  if (i === open) {
    li.append(
      controls(
        k.params,
        () => doc.steps[i],
        (v, d) => change(i, v, d),
        histogram,
        memory,
      ),
    );
    const seen = told?.lines[i];
    if (seen?.found?.length) {
      const kept = k.params.find((p) => p.kind === 'kept');
      const box = el(
        'div',
        { class: 'row-acts found-values' },
        el(
          'small',
          {},
          `${step.kept ? 'Kept' : 'Measured'} here: ${seen.found.map(([n, v]) => `${n} ${Math.round(v * 10) / 10}`).join(', ')}.`,
        ),
      );
      if (kept && !step.kept && seen.found.length === 2)
        box.append(
          act('Keep for all frames', 'No frame is measured any more; all get what was measured here', () =>
            change(i, { kept: seen.measured }, true),
          ),
        );
      if (step.kept)
        box.append(
          act('Measure every frame', 'Each frame gets what is measured in it', () => change(i, { kept: null }, true)),
        );
      if (seen.ordinary?.length)
        box.append(
          act('Turn into ordinary lines', 'The values stand in lines of their own and can be changed', () => {
            doc.steps.splice(i, 1, ...seen.ordinary.map(([id2, values]) => ({ step: id2, ...values })));
            changed(true);
          }),
        );
      li.append(box);
    }
    const about = where(
      step,
      k,
      (key, v, d) => around(i, key, v, d),
      (shape) => drawing(shape),
      pick.shape,
      memory,
      doc.blocks ?? [],
    );
    about.querySelector('.controls').append(keptRow(i, k));
    li.append(about);
    const acts = el(
      'div',
      { class: 'row-acts' },
      act(step.on === false ? 'Switch on' : 'Switch off', 'X', () => switchLine(i)),
      act('↑', 'Earlier (Alt + ↑)', () => move(i, -1), i === 0),
      act('↓', 'Later (Alt + ↓)', () => move(i, 1), i === doc.steps.length - 1),
      act('Twice', 'Write the same line again', () => {
        doc.steps.splice(i + 1, 0, structuredClone(step));
        changed(true);
      }),
      act('Remove', 'Delete', () => remove(i)),
    );
    if (k.params.some((p) => p.name === 'by_lens') && facts.lens)
      acts.prepend(
        act(
          'Measure this lens',
          'On the frames of this shoot that were taken with it; kept for all later pictures',
          () => measureLens(i),
        ),
      );
    const { tool } = k;
    if (tool?.button) {
      const on = pick.tool || pick.neutral;
      acts.prepend(act(on ? 'Show the result' : tool.button, '', () => useTool(tool, !on)));
    } else if (tool) acts.append(el('small', {}, tool.hint));
    li.append(acts);
  }
  return li;
}

// Values of a step kept under a name.
let keptValues = {};
const AROUND = ['step', 'on', 'mix', 'when', 'by_iso', 'area', 'ask', 'checkpoint', 'block'];
const own = (step) => Object.fromEntries(Object.entries(step).filter(([name]) => !AROUND.includes(name)));
function keptRow(i, k) {
  const mine = keptValues[k.id] ?? {};
  const names = Object.keys(mine);
  const choose = el(
    'select',
    { 'aria-label': 'Kept values' },
    el('option', { value: '' }, names.length ? 'kept values …' : 'no values kept yet'),
    ...names.map((n) => el('option', {}, n)),
  );
  choose.addEventListener('change', () => {
    const step = doc.steps[i];
    for (const name of Object.keys(own(step))) delete step[name];
    Object.assign(step, structuredClone(mine[choose.value]));
    changed(true);
  });
  const name = el('input', { placeholder: 'a name', maxlength: 80, 'aria-label': 'Name for these values' });
  const put = async (values) => {
    try {
      keptValues = await json('PUT', '/api/kept', { step: k.id, name: name.value || choose.value, values });
      draw();
    } catch (e) {
      say(e.message);
    }
  };
  return el(
    'div',
    { class: 'row-acts kept-row' },
    choose,
    name,
    el(
      'button',
      { type: 'button', class: 'btn btn-sm btn-outline-dark', onclick: () => put(own(doc.steps[i])) },
      'Keep these values',
    ),
    ...(names.length
      ? [
          el(
            'button',
            {
              type: 'button',
              class: 'btn btn-sm btn-outline-dark',
              title: 'Forget the values of that name',
              onclick: () => put(null),
            },
            'Forget',
          ),
        ]
      : []),
  );
}

/** Lines are copied and pasted as text, also between recipes and windows. */
document.addEventListener('copy', (e) => {
  const li = document.activeElement?.closest?.('#lines li[data-line]');
  if (!li || typing({ target: document.activeElement }) || !getSelection().isCollapsed) return;
  e.clipboardData.setData('text/plain', JSON.stringify({ 'rallo-lines': [doc.steps[Number(li.dataset.line)]] }));
  e.preventDefault();
  say('The line is copied; paste it into any recipe.');
});
document.addEventListener('paste', (e) => {
  if (typing({ target: document.activeElement })) return;
  let lines;
  try {
    lines = JSON.parse(e.clipboardData.getData('text/plain'))['rallo-lines'];
  } catch {
    return;
  }
  if (!Array.isArray(lines) || !lines.every((l) => kinds.some((k) => k.id === l?.step))) return;
  const at = document.activeElement?.closest?.('#lines li[data-line]');
  doc.steps.splice(at ? Number(at.dataset.line) + 1 : doc.steps.length, 0, ...lines.map(({ block, ...line }) => line));
  e.preventDefault();
  changed(true);
});

/** Another recipe's lines as a block. */
async function takeIn(recipe) {
  await keeper.done();
  try {
    const took = await json('POST', '/api/recipes/block', { version, document: doc, recipe, follow: true });
    doc = took.document;
    changed(true);
  } catch (e) {
    say(e.message);
  }
}

/** Takes up a step's tool, or puts it away. */
function useTool(tool, on) {
  pick.light = null;
  pick.tool = on && tool?.kind !== 'neutral';
  pick.neutral = on && tool?.kind === 'neutral';
  pick.line = null;
  pick.shape = null;
  const hint = $('hint');
  hint.hidden = !on;
  if (on) stage.focus({ preventScroll: true });
  hint.textContent = (on && tool?.hint) || '';
  hint.append(el('small', {}, ' By keys: arrows, Enter to take hold and to let go, Esc to give up.'));
  toolSize = told?.lines[open]?.size ?? null;
  draw();
  viewer.refresh();
}

/** Draws a shape of the open line's area, or no more. */
function drawing(shape) {
  pick.tool = pick.neutral = false;
  pick.shape = shape;
  $('hint').hidden = shape == null;
  $('hint').textContent =
    {
      gradient: 'Drag from where it is full to where it ends.',
      ellipse: 'Drag from the middle outwards.',
      strokes: 'Paint; with Shift it takes away.',
    }[[doc.steps[open]?.area].flat()[shape]?.kind] ?? '';
  if (shape != null) stage.focus({ preventScroll: true });
  draw();
  over();
}

function toggle(i) {
  open = open === i ? -1 : i;
  useTool(null, false);
  tell(true);
}
const switchLine = (i) => {
  if (doc.steps[i].on === false) delete doc.steps[i].on;
  else doc.steps[i].on = false;
  changed(true);
};
function remove(i) {
  doc.steps.splice(i, 1);
  tidyBlocks();
  open = -1;
  useTool(null, false);
  changed(true);
}
let dragged = null;
function move(i, by) {
  const to = i + by;
  if (to >= 0 && to < doc.steps.length) relocate(i, to);
}
/** Puts a line elsewhere; between two lines of a block it joins them, away from its own it leaves it. */
function relocate(i, to) {
  if (i === to) return;
  const was = doc.steps[open];
  const line = doc.steps.splice(i, 1)[0];
  doc.steps.splice(to, 0, line);
  const [above, below] = [doc.steps[to - 1]?.block, doc.steps[to + 1]?.block];
  if (above && above === below) line.block = above;
  else if (
    line.block &&
    line.block !== above &&
    line.block !== below &&
    doc.steps.some((s) => s !== line && s.block === line.block)
  )
    delete line.block;
  open = was ? doc.steps.indexOf(was) : -1;
  tidyBlocks();
  changed(true);
  setTimeout(() => document.querySelector(`[data-line="${to}"]`)?.focus(), 250);
}

let drawn = '';
// Somebody types in a field of the ticket: that stays as it is until the text is taken.
let typed = null;
$('lines').addEventListener('input', (e) => {
  if (e.target.matches('input:not([type=checkbox], [type=range]), textarea')) typed = e.target;
});
for (const end of ['change', 'focusout'])
  $('lines').addEventListener(end, () => {
    typed = null;
  });
function draw() {
  if (typed?.isConnected && drawn === doc.steps.map((s) => s.step).join()) {
    words();
    advise();
    return;
  }
  typed = null;
  drawn = doc.steps.map((s) => s.step).join();
  const focused = document.activeElement?.closest?.('#lines li')?.dataset.line;
  const param = document.activeElement?.dataset?.param;
  const label = document.activeElement?.getAttribute?.('aria-label');
  $('lines').replaceChildren(
    ...doc.steps.flatMap((step, i) => [
      ...(step.block && step.block !== doc.steps[i - 1]?.block && doc.blocks?.some((b) => b.name === step.block)
        ? [blockHead(step.block)]
        : []),
      ...(step.checkpoint ? [waitHead(step.checkpoint)] : []),
      line(step, i),
    ]),
  );
  advise();
  if (focused !== undefined) {
    const li = document.querySelector(`[data-line="${focused}"]`);
    const same = param
      ? li?.querySelector(`[data-param="${param}"]`)
      : [...(li?.querySelectorAll('[aria-label]') ?? [])].find((e) => e.getAttribute('aria-label') === label);
    (same ?? li)?.focus();
  }
  lineZero?.draw();
  drawDeliveries?.();
  $('version').textContent = version;
  $('undo').disabled = past.length <= (off?.past ?? 0);
  $('redo').disabled = !future.length;
  if (document.activeElement !== $('name')) $('name').value = doc.name;
  $('rail-recipe').textContent = doc.name;
}

/** What works against the person, under its line, with one click to mend it. */
function advise() {
  document.querySelectorAll('#lines .advice').forEach((a) => a.remove());
  for (const a of told?.advice ?? []) {
    const li = document.querySelector(`[data-line="${a.line}"]`);
    li?.append(
      el(
        'div',
        { class: 'advice', role: 'note' },
        a.message,
        ' ',
        el(
          'button',
          {
            type: 'button',
            class: 'btn btn-sm btn-outline-dark',
            onclick: () => {
              doc.steps = a.order.map((n) => doc.steps[n]);
              open = -1;
              useTool(null, false);
              changed(true);
            },
          },
          a.order.length < doc.steps.length ? 'Leave this line out' : 'Put it there',
        ),
      ),
    );
  }
}

// Saving: each decision, at once, and never behind pixels.
const keeper = new Keeper(id, {
  // What is only tried is not written down.
  text: () => (off ? off.text : text()),
  state(word) {
    $('saved').textContent = word;
  },
  kept(row) {
    if (row.version === version) return;
    ({ version } = row);
    $('version').textContent = version;
    clearTimeout(listing);
    listing = setTimeout(list, 1500);
  },
  failed(e) {
    if (e.status === 409) conflict();
    else say(e.message);
  },
});
let listing = null;
const save = () => keeper.save();

/** Somebody else, or another window, changed this recipe meanwhile: the person decides which one stays. */
function conflict() {
  const box = $('conflict');
  box.hidden = false;
  box.querySelector('.btn')?.focus();
}
$('theirs').onclick = () => {
  keeper.forget();
  location.reload();
};
$('mine').onclick = async () => {
  try {
    const row = await json('GET', `/api/recipes/${id}`);
    $('conflict').hidden = true;
    await keeper.over(row.version);
  } catch (e) {
    say(e.message);
  }
};

// Leaving by a link waits for the last decision to be kept.
document.addEventListener('click', async (e) => {
  const link = e.target.closest('a[href^="/"]');
  if (!link || keeper.isKept()) return;
  e.preventDefault();
  await keeper.done();
  location.href = link.href;
});

function travel(from, to) {
  // While trying, undo does not reach behind what is written down.
  if (!from.length || (off && from === past && past.length <= off.past)) return;
  to.push(settled);
  settled = from.pop();
  doc = JSON.parse(settled);
  if (open >= doc.steps.length) open = -1;
  if (off) trying();
  else save();
  viewer.refresh();
  preview.follow();
  tell(true);
}
$('record').onclick = () => record(Boolean(off));
$('take').onclick = take;
$('drop').onclick = drop;
$('undo').onclick = () => travel(past, future);
$('redo').onclick = () => travel(future, past);
$('name').addEventListener('change', () => {
  doc.name = $('name').value.trim() || 'New recipe';
  changed(true);
});
$('fresh').onclick = async () => {
  try {
    await keeper.done();
    await json('POST', '/api/recipes', null);
    location.reload();
  } catch (e) {
    say(e.message);
  }
};
async function list() {
  const all = await json('GET', '/api/recipes').catch(() => []);
  $('recipes').replaceChildren(...all.map((r) => el('option', { value: r.id, selected: r.id === id }, r.name)));
  against.offer(all, id, version);
  $('take-in').replaceChildren(
    el('option', { value: '' }, 'Take in a recipe …'),
    ...all.filter((r) => r.id !== id).map((r) => el('option', { value: r.id }, r.name)),
  );
}
$('recipes').onchange = async () => {
  await keeper.done();
  await ask('PUT', '/api/desk', { recipe: Number($('recipes').value) }).catch((e) => say(e.message));
  location.reload();
};

$('take-in').onchange = () => {
  if ($('take-in').value) takeIn(Number($('take-in').value));
};

// What next?
let offers = [];
let offer = 0;
function find() {
  const q = $('ask').value.trim().toLowerCase();
  const shape = /^(\d+(?:\.\d+)?)\s*[:x×]\s*(\d+(?:\.\d+)?)$/.exec(q);
  offers = [];
  if (shape && Number(shape[1]) < 100)
    offers.push({ k: kinds.find((k) => k.tool?.kind === 'window'), values: { proportion: `${shape[1]}:${shape[2]}` } });
  else if (/^\d{3,5}$/.test(q))
    offers.push({ k: kinds.find((k) => k.one_of.includes('long_edge')), values: { long_edge: Number(q) } });
  const score = (k) => {
    if (!q) return 1;
    if (k.title.toLowerCase() === q) return 6;
    if (k.words.includes(q)) return 5;
    if (k.title.toLowerCase().startsWith(q) || k.id.startsWith(q)) return 4;
    if (k.words.some((w) => w.startsWith(q))) return 3;
    if (k.words.some((w) => w.includes(q) || q.includes(w)) || k.title.toLowerCase().includes(q)) return 2;
    return 0;
  };
  const fits = [...kinds, READING]
    .map((k) => ({ k, s: score(k) }))
    .filter((o) => o.s && !offers.some((f) => f.k === o.k));
  if (q) fits.sort((a, b) => b.s - a.s);
  offers.push(...fits.map((o) => ({ k: o.k, values: o.k.lately ?? o.k.starter })));
  offer = 0;
  offered(!q);
}
function offered(grouped) {
  const box = $('found');
  box.hidden = false;
  $('ask').setAttribute('aria-expanded', 'true');
  let group = '';
  const items = [];
  offers.forEach((o, i) => {
    if (grouped && o.k.group !== group) {
      group = o.k.group;
      items.push(el('li', { class: 'group', role: 'presentation' }, group));
    }
    items.push(
      el(
        'li',
        {
          role: 'option',
          id: `offer-${i}`,
          class: i === offer ? 'is-on' : '',
          'aria-selected': i === offer,
          onpointerdown: (e) => {
            e.preventDefault();
            add(o);
          },
        },
        o.k.title,
        el('small', {}, o.k.about.split('; ')[0]),
      ),
    );
  });
  if (!offers.length)
    items.push(el('li', { class: 'group' }, 'No step by that word. Try bright, warm, sharp, crop, smaller or logo.'));
  box.replaceChildren(...items);
  $('ask').setAttribute('aria-activedescendant', offers.length ? `offer-${offer}` : '');
  box.querySelector('.is-on')?.scrollIntoView({ block: 'nearest' });
}
function shut() {
  $('found').hidden = true;
  $('ask').setAttribute('aria-expanded', 'false');
}
function add(o) {
  if (o.k === READING) {
    $('ask').value = '';
    shut();
    $('ask').blur();
    lineZero.show();
    return;
  }
  const last = doc.steps.at(-1);
  // A second one straight after another is the same decision: it folds into that line.
  if (last?.step === o.k.id) {
    open = doc.steps.length - 1;
    const asked = [o.k.starter, o.k.lately].includes(o.values) ? {} : structuredClone(o.values);
    $('ask').value = '';
    shut();
    $('ask').blur();
    useTool(null, false);
    change(open, asked, true);
    document.querySelector('#lines .is-open')?.scrollIntoView({ block: 'nearest' });
    return;
  }
  doc.steps.push({ step: o.k.id });
  const defaults = Object.fromEntries(o.k.params.map((p) => [p.name, JSON.stringify(p.default)]));
  for (const [name, value] of Object.entries(o.values))
    if (JSON.stringify(value) !== defaults[name]) doc.steps.at(-1)[name] = structuredClone(value);
  if (o.values === o.k.lately)
    say(`${o.k.title} starts from the values you used last; ↺ beside a value takes it back to its own.`);
  open = doc.steps.length - 1;
  $('ask').value = '';
  shut();
  $('ask').blur();
  changed(true);
  useTool(o.k.tool, Boolean(o.k.tool?.opens_at_once));
  document.querySelector('#lines .is-open')?.scrollIntoView({ block: 'nearest' });
}
$('ask').addEventListener('input', find);
$('ask').addEventListener('focus', find);
$('ask').addEventListener('blur', shut);
$('ask').addEventListener('keydown', (e) => {
  if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
    offer = (offer + (e.key === 'ArrowDown' ? 1 : offers.length - 1)) % Math.max(1, offers.length);
    offered(!$('ask').value.trim());
  } else if (e.key === 'Enter' && offers[offer]) add(offers[offer]);
  else if (e.key === 'Escape') $('ask').blur();
  else return;
  e.preventDefault();
  e.stopPropagation();
});

// Too small to judge noise and sharpness by: said, with a way to where they show.
function closer() {
  const small = viewer.place().zoom * devicePixelRatio < 0.999;
  const fine = doc.steps.some((s) => kind(s)?.judged_at_full_size && s.on !== false);
  const box = $('closer');
  box.hidden = !small || !fine || !$('hint').hidden;
  const standIn = viewer.pictures.after?.head?.stand_in;
  $('closer-word').textContent = standIn
    ? 'A stand-in: noise averages out at this size. The true picture follows.'
    : 'At this size noise and sharpness cannot be judged.';
}
const places = new Map();
async function goClose(which) {
  try {
    const key = JSON.stringify([doc.steps.map((s) => [s.step, s.degrees, s.pixels, s.size]), frame]);
    if (!places.has(key)) places.set(key, await pixels.run(() => json('POST', '/api/places', { recipe: doc, frame })));
    zoomTo(1, places.get(key)[which]);
  } catch (e) {
    say(e.message);
  }
}
$('to-noise').onclick = () => goClose('noisiest');
$('to-sharp').onclick = () => goClose('sharpest');

// The loupe: what is under the pointer at 100 %, while the whole is at fit.
const loupe = $('loupe');
let loupeBusy = false;
let loupeAt = null;
async function drawLoupe() {
  if (loupeBusy || loupe.hidden || !loupeAt) return;
  loupeBusy = true;
  const at = loupeAt;
  try {
    const size = viewer.size();
    const side = Math.round(220 * devicePixelRatio);
    const corner = at.map((v, i) => Math.round(Math.max(0, Math.min(size[i] - side, v * size[i] - side / 2))));
    const asked = { recipe: doc, frame, upto: upto(), region: [...corner, side, side], scale: 1 };
    const blob = await pixels.run(async () => (await ask('POST', '/api/render', asked)).blob());
    const image = await createImageBitmap(blob);
    [loupe.width, loupe.height] = [side, side];
    loupe.getContext('2d').drawImage(image, 0, 0);
    loupe.dataset.shown = String(Number(loupe.dataset.shown ?? 0) + 1);
  } catch {
    /* the next move asks again */
  }
  loupeBusy = false;
  if (loupeAt !== at) drawLoupe();
}
function useLoupe(on) {
  loupe.hidden = !on;
  $('loupe-button').setAttribute('aria-pressed', String(on));
  if (on) {
    loupeAt ??= [0.5, 0.5];
    loupe.style.left = '24px';
    loupe.style.top = '24px';
    drawLoupe();
  }
}
$('loupe-button').onclick = () => useLoupe(loupe.hidden);

// Numbers under the pointer, in the colour space of the files.
let valueBusy = false;
let valueAt = null;
async function showValue() {
  if (valueBusy || !valueAt) return;
  valueBusy = true;
  const at = valueAt;
  try {
    const p = viewer.place();
    const asked = { recipe: doc, frame, upto: upto(), at, scale: Math.min(1, p.zoom * devicePixelRatio) };
    const told = await pixels.run(() => json('POST', '/api/value', asked));
    $('value').textContent =
      `${told.values.map((v) => Math.round(v)).join(' · ')} ${told.space.replace(/ IEC.*$/, '')}`;
  } catch {
    /* the next move asks again */
  }
  valueBusy = false;
  if (valueAt && valueAt !== at) showValue();
}

// The picture under the hand.
const hand = new Hand(stage, viewer, {
  grab(at, away) {
    const i = open;
    const step = doc.steps[i];
    if (pick.light)
      return (place, done) => {
        if (done) takeLight(place);
      };
    if (pick.shape != null) {
      const all = [step.area].flat();
      const set = (shape, done) => {
        all[pick.shape] = shape;
        around(i, 'area', all, done);
      };
      return drawShape(all[pick.shape], at, away, set, viewer.size());
    }
    return (
      hand.tooling() &&
      grab(
        viewer,
        step,
        kind(step)?.tool?.kind,
        at,
        (v, d) => {
          change(i, v, d);
        },
        pick,
        neutral,
        facts,
        away,
      )
    );
  },
  tooling: () => Boolean(pick.light || pick.tool || pick.neutral || pick.shape != null || alwaysAtHand()),
  over: () => over(),
  settle: () => changed(true),
});
async function neutral(at) {
  try {
    const values = await pixels.run(() => json('POST', '/api/neutral', { recipe: doc, frame, upto: open, at }));
    pick.neutral = false;
    $('hint').hidden = true;
    change(open, values, true);
  } catch (e) {
    say(e.message);
  }
}
/** The light of a camera raw: as its camera was set, or after the next click on something grey. */
function askLight(byClick, put) {
  if (!byClick) return lightAt(undefined, put);
  useTool(null, false);
  pick.light = put;
  $('hint').hidden = false;
  $('hint').textContent = 'Click on something that should be grey; the sensor tells the light.';
  toolSize = source;
  viewer.refresh();
}
async function takeLight(at) {
  const put = pick.light;
  pick.light = null;
  $('hint').hidden = true;
  await lightAt(at, put);
  viewer.refresh();
}
async function lightAt(at, put) {
  try {
    put(await pixels.run(() => json('POST', '/api/raw-light', { recipe: doc, frame, at })));
  } catch (e) {
    say(e.message);
  }
}
stage.addEventListener('pointermove', (e) => {
  const box = stage.getBoundingClientRect();
  const at = viewer.share(e.clientX - box.left, e.clientY - box.top);
  const inside = at.every((v) => v >= 0 && v < 1);
  valueAt = inside && !e.buttons ? at : null;
  if (!inside) $('value').textContent = '';
  showValue();
  if (!loupe.hidden && inside) {
    loupeAt = at;
    loupe.style.left = `${Math.min(box.width - 230, e.clientX - box.left + 16)}px`;
    loupe.style.top = `${Math.max(4, Math.min(box.height - 230, e.clientY - box.top + 16))}px`;
    drawLoupe();
  }
});
stage.addEventListener('dblclick', (e) => {
  const box = stage.getBoundingClientRect();
  zoomTo(viewer.zoom === 'fit' ? 1 : 'fit', viewer.share(e.clientX - box.left, e.clientY - box.top));
});
const split = $('split');
split.addEventListener('pointerdown', (e) => {
  e.preventDefault();
  split.setPointerCapture(e.pointerId);
  const move = (m) => {
    const box = stage.getBoundingClientRect();
    setSplit((m.clientX - box.left) / box.width);
  };
  split.addEventListener('pointermove', move);
  split.addEventListener('pointerup', () => split.removeEventListener('pointermove', move), { once: true });
});
const setSplit = (v) => {
  viewer.split = Math.max(0.01, Math.min(0.99, v));
  viewer.draw();
};

function zoomTo(zoom, centre) {
  viewer.setZoom(zoom, centre);
  document
    .querySelectorAll('#zoom button')
    .forEach((b) => b.classList.toggle('is-on', b.dataset.zoom === String(zoom)));
  over();
}
const WAYS = ['split', 'side', 'after', 'difference'];
function compare(how) {
  viewer.compare = how;
  document.querySelectorAll('#compare button').forEach((b) => b.classList.toggle('is-on', b.dataset.compare === how));
  viewer.refresh();
  over();
}
document.querySelectorAll('#zoom button').forEach((b) => {
  b.onclick = () => zoomTo(b.dataset.zoom === 'fit' ? 'fit' : Number(b.dataset.zoom));
});
document.querySelectorAll('#compare button').forEach((b) => {
  b.onclick = () => compare(b.dataset.compare);
});

function pinClipped(on) {
  clipPinned = clipping = on;
  $('clip-button').setAttribute('aria-pressed', String(on));
  viewer.refresh();
}
$('clip-button').onclick = () => pinClipped(!clipPinned);

/** While a key is held, what it would be without: all lines (B), or the open one (N). */
let heldFor = null;
function hold(what) {
  if (viewer.holding || (what === 'without' && open < 0)) return;
  heldFor = $('against').value;
  if (what) $('against').value = what;
  viewer.holding = true;
  viewer.refresh();
}
function letGo() {
  if (!viewer.holding) return;
  $('against').value = heldFor;
  viewer.holding = false;
  viewer.refresh();
}

document.addEventListener('keydown', (e) => {
  if (typing(e) || e.ctrlKey || e.metaKey || e.altKey) return;
  const by = { ArrowLeft: [60, 0], ArrowRight: [-60, 0], ArrowUp: [0, 60], ArrowDown: [0, -60] }[e.key];
  if (by && e.target === split) setSplit(viewer.split - by[0] / 3000);
  else if (by && e.target === stage) viewer.move(...by);
  else if ('0123'.includes(e.key)) zoomTo(e.key === '0' ? 'fit' : Number(e.key));
  else if (e.key === 'b') hold();
  else if (e.key === 'n') hold('without');
  else if (e.key === 'k') pinClipped(!clipPinned);
  else if (e.key === 's') compare(WAYS[(WAYS.indexOf(viewer.compare) + 1) % WAYS.length]);
  else if (e.key === 'p') $('to-proof').click();
  else if (e.key === 'l') useLoupe(loupe.hidden);
  else if (e.key === 'h') $('scope-box').click();
  else if (e.key === 'w') $('ask').focus();
  else if (e.key === 'a') preview.open();
  else if (e.key === 't') record(Boolean(off));
  else if (e.key === 'z') travel(past, future);
  else if (e.key === 'y') travel(future, past);
  else return;
  e.preventDefault();
});
document.addEventListener('keyup', (e) => {
  if (e.key === 'b' || e.key === 'n') letGo();
});
window.addEventListener('blur', letGo);

async function start() {
  try {
    const [steps, row, kept] = await Promise.all([
      json('GET', '/api/steps'),
      json('GET', `/api/recipes/${id}`),
      json('GET', '/api/kept').catch(() => ({})),
    ]);
    keptValues = kept;
    kinds = steps.steps;
    lineZero = reading($('reading'), {
      doc: () => doc,
      told: () => told,
      params: steps.reading,
      asks: 'asksReading' in slip.dataset,
      isRaw: facts.format === 'raw',
      hasRaw: 'hasRaw' in slip.dataset,
      askLight,
      changed,
    });
    drawDeliveries = deliveries($('goes'), {
      doc: () => doc,
      told: () => told,
      kinds: steps.deliveries,
      kind,
      cost: () => cost,
      frame,
      histogram: () => histogram,
      changed,
      draw,
    });
    doc = row.document;
    ({ version } = row);
    settled = text();
    keeper.begin(version, settled);
    draw();
    list();
    zoomTo('fit');
    compare('split');
    if (!frame) {
      $('no-sample').hidden = false;
      split.hidden = true;
    }
    await tell(true);
    viewer.refresh();
    typical();
  } catch (e) {
    say(e.message);
  }
}

/**
 * A bench without a sample takes the first frame of a folder that is still being read, or says that there is none. Nothing
 * that was written is lost, and nobody is interrupted while typing or trying.
 */
let isFound = false;
async function takeFound() {
  if (!isFound || off || document.activeElement?.matches('input, select, textarea')) return;
  isFound = false;
  await keeper.done();
  location.reload();
}
document.addEventListener('rallo:read', ({ detail: { desk, scanning } }) => {
  if (frame) {
    if (!scanning) typical();
    return;
  }
  isFound = Boolean(desk.frame);
  if (isFound) {
    $('no-sample-what').textContent = 'A frame is found';
    takeFound();
    return;
  }
  if (scanning) return;
  $('no-sample-what').textContent = 'No frames in this folder';
  $('no-sample-why').textContent = 'There is no picture in it that can be read; Frames says which files were left out.';
});
document.addEventListener('focusout', () => setTimeout(takeFound));

/** The frames most like the others: where a recipe is best recorded. */
async function typical() {
  const picks = await json('GET', '/api/typical').catch(() => []);
  const box = $('typical');
  box.hidden = !picks.length;
  if (!picks.length) return;
  box.replaceChildren(
    el('option', { value: '' }, picks.some((p) => p.id === frame) ? 'a typical frame' : 'more typical …'),
    ...picks.map((p) => el('option', { value: p.id, title: p.why }, `${p.name}: ${p.why}`)),
  );
  box.onchange = async () => {
    await keeper.done();
    await ask('PUT', '/api/desk', { frame: Number(box.value) }).catch((e) => say(e.message));
    location.reload();
  };
}
start();
