// The bench: the recipe being written, the picture following it. What is shared by its parts stands on one object, `bench`;
// each part adds what the others may call.

import { answers } from './answers.js';
import { adding } from './adding.js';
import { ask, el, json, say } from '../app/api.js';
import { atHand } from './at-hand.js';
import { beforeTime } from './before-time.js';
import { Against } from './comparison.js';
import { deliveries } from './deliveries.js';
import { freshPage } from '../app/fresh-page.js';
import { keys } from './keys.js';
import { lineMoves } from './line-moves.js';
import { lines } from './lines.js';
import { looking } from './looking.js';
import { overlay } from './tools/overlay.js';
import { reading } from './reading.js';
import { recording } from './recording.js';
import { histogram, scope } from './scopes.js';
import { SequencePreview } from './sequence-preview.js';
import { starting } from './starting.js';
import { RecipeStore } from './store.js';
import { Viewer } from '../viewer/viewer.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);
const slip = $('bench');

const bench = {
  slip,
  /** What is known of the sample. */
  facts: {},
  stage: $('stage'),
  /** The sample, by its number; 0 where there is none yet. */
  frame: 0,
  /** The recipe, by its number. */
  id: 0,
  version: 1,
  /** Rises when another sample or recipe lies on the bench: what was asked of the one before is not wanted any more. */
  turn: 0,
  store: new RecipeStore(),
  get doc() {
    return this.store.doc;
  },
  /** The line that is folded out; -1 where none is. */
  open: -1,
  /** What the server said last of this recipe on this sample. */
  told: null,
  cost: null,
  kinds: [],
  keptValues: {},
  memory: { channel: 'all' },
  source: [3, 2],
  /** Size of the picture as it comes to the open line. */
  toolSize: null,
  /** What is picked on the picture now. */
  pick: { line: null, neutral: false, light: null },
  // What is clipped is shown while an end of the tones is being moved, or as long as it is asked for.
  clipping: false,
  clipPinned: false,

  kind: (step) => bench.kinds.find((k) => k.id === step?.step),
  /** Whether the open line is moved by hand without a tool being taken up first. */
  alwaysAtHand() {
    const tool = bench.kind(bench.doc.steps[bench.open])?.tool;
    return Boolean(tool && !tool.button);
  },
  /** The tools that work on the input of the open line show the picture as it comes to that line. */
  upto() {
    if (bench.pick.light) return 0;
    const step = bench.doc.steps[bench.open];
    if (!step) return undefined;
    return bench.kind(step)?.tool?.shows_input && (bench.pick.tool || bench.pick.neutral) ? bench.open : undefined;
  },
  /** Draws what lies over the picture. */
  over() {
    const { hand, pick, viewer } = bench;
    const line = bench.doc.steps[bench.open];
    const tool = pick.tool ? bench.kind(line)?.tool?.kind : null;
    const shape = pick.shape != null ? [line?.area].flat()[pick.shape] : null;
    overlay($('overlay'), viewer, line, tool, bench.facts, { ...pick, cross: hand.cross, held: hand.held }, shape);
  },
};

bench.against = new Against(
  $('against'),
  () => ({ doc: bench.doc, open: bench.open, moves: (s) => bench.kind(s).moves }),
  () => bench.viewer.refresh(),
);
bench.viewer = new Viewer(
  bench.stage,
  () => ({
    recipe: bench.doc,
    text: bench.doc ? bench.store.text() : '',
    frame: bench.frame,
    upto: bench.doc ? bench.upto() : undefined,
    size: (bench.doc && bench.upto() !== undefined && bench.toolSize) || bench.told?.size || bench.source,
    from: bench.open >= 0 ? bench.open : undefined,
    clip: bench.clipping || undefined,
    other: () => bench.against.other(),
    otherName: bench.against.name,
  }),
  (error, picture) => {
    if (error) return say(error.message);
    scope(picture.head);
    bench.beforeTime();
    bench.closer();
    bench.over();
  },
);

// The sequence played over the picture; when it ends the sample is shown with what was measured meanwhile.
bench.preview = new SequencePreview($('sequence-preview'), () => bench.doc);
bench.preview.closed = () => {
  bench.viewer.forget();
  bench.stage.focus();
  bench.costs();
};
bench.preview.opened = () => bench.stopCosts();
$('play-sequence').onclick = () => bench.preview.open();

for (const part of [recording, answers, lines, lineMoves, atHand, looking, adding, starting, beforeTime, keys])
  part(bench);

/** The sample and the recipe that the server laid on the bench. */
function lay({ dataset }) {
  const facts = JSON.parse(dataset.facts || '{}');
  Object.assign(bench, {
    facts,
    frame: Number(dataset.frame),
    id: Number(dataset.recipe),
    source: [facts.width || 3, facts.height || 2],
    turn: bench.turn + 1,
    open: -1,
    told: null,
    cost: null,
    toolSize: null,
    pick: { line: null, neutral: false, light: null },
  });
  bench.stopCosts();
  // The page says what lies there, however it came.
  for (const key of ['recipe', 'frame', 'facts']) slip.dataset[key] = dataset[key];
  for (const key of ['asksReading', 'hasRaw']) {
    if (key in dataset) slip.dataset[key] = '';
    else delete slip.dataset[key];
  }
  $('no-sample').hidden = Boolean(bench.frame);
}

/** Shows what lies on the bench. */
async function show() {
  const { turn } = bench;
  const [steps, row, kept] = await Promise.all([
    json('GET', '/api/steps'),
    json('GET', `/api/recipes/${bench.id}`),
    json('GET', '/api/kept').catch(() => ({})),
  ]);
  if (turn !== bench.turn) return;
  Object.assign(bench, { keptValues: kept, kinds: steps.steps, version: row.version });
  $('version').textContent = row.version;
  begin(steps);
  bench.store.begin(row.document);
  bench.keeper.begin(bench.id, row.version, bench.store.text(), row.named_by_itself);
  bench.switched();
  bench.draw();
  bench.list();
  bench.zoomTo('fit');
  bench.look.showSplit(Boolean(bench.frame));
}

async function start() {
  lay(slip);
  try {
    await show();
    bench.compare('split');
    bench.look.showSplit(Boolean(bench.frame));
    bench.takeEarly();
    await bench.tell(true);
    bench.viewer.refresh();
    typical();
  } catch (e) {
    say(e.message);
  }
  await missed();
}

/** Another sample or another recipe lies on the bench. */
bench.anew = async () => {
  try {
    const page = await freshPage();
    lay(page.getElementById('bench'));
    $('sample').textContent = page.getElementById('sample').textContent;
    bench.viewer.forget();
    await show();
    bench.preview.follow();
    await bench.tell(true);
    bench.viewer.refresh();
    typical();
  } catch (e) {
    say(e.message);
  }
};

/** Line 0 and the deliveries, which need to know what there is. */
function begin(steps) {
  const doc = () => bench.doc;
  const told = () => bench.told;
  bench.lineZero = reading($('reading'), {
    doc,
    told,
    params: steps.reading,
    asks: 'asksReading' in slip.dataset,
    isRaw: bench.facts.format === 'raw',
    hasRaw: 'hasRaw' in slip.dataset,
    askLight: bench.askLight,
    changed: bench.changed,
  });
  bench.drawDeliveries = deliveries($('goes'), {
    doc,
    told,
    kinds: steps.deliveries,
    kind: bench.kind,
    cost: () => bench.cost,
    get frame() {
      return bench.frame;
    },
    histogram: () => histogram,
    changed: bench.changed,
    draw: bench.draw,
  });
}

/**
 * A bench without a sample takes the first frame of a folder that is still being read, or says that there is none. Nothing
 * that was written is lost, and nobody is interrupted while typing or trying.
 */
let isFound = false;
async function takeFound() {
  if (!isFound || bench.store.off || document.activeElement?.matches('input, select, textarea')) return;
  isFound = false;
  await bench.keeper.done();
  await bench.anew();
}
function heard({ desk, scanning }) {
  if (bench.frame) {
    if (!scanning) typical();
    return;
  }
  isFound = Boolean(desk.frame);
  if (isFound) {
    $('no-sample-what').textContent = phrase('bench-a-frame-is-found');
    takeFound();
    return;
  }
  if (scanning) return;
  $('no-sample-what').textContent = phrase('bench-no-frames-in-this-folder');
  $('no-sample-why').textContent = phrase('bench-there-is-no-picture-in-it');
}
document.addEventListener('rallo:read', ({ detail }) => heard(detail));
/** What was said before this page could hear it. */
async function missed() {
  if (bench.frame) return;
  const told = await json('GET', '/api/desk').catch(() => null);
  if (told?.desk.frame && !bench.frame) heard(told);
}
document.addEventListener('focusout', () => setTimeout(takeFound));

/** The frames most like the others: where a recipe is best recorded. */
async function typical() {
  const picks = await json('GET', '/api/typical').catch(() => []);
  const box = $('typical');
  box.closest('label').hidden = !picks.length;
  if (!picks.length) return;
  box.replaceChildren(
    el(
      'option',
      { value: '' },
      picks.some((p) => p.id === bench.frame) ? phrase('bench-a-typical-frame') : phrase('bench-more-typical'),
    ),
    ...picks.map((p) => el('option', { value: p.id, title: p.why }, `${p.name}: ${p.why}`)),
  );
  box.onchange = async () => {
    await bench.keeper.done();
    await ask('PUT', '/api/desk', { frame: Number(box.value) }).catch((e) => say(e.message));
    await bench.anew();
  };
}
start();
