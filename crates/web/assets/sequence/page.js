// The sequence: its light over time, the sieve's passes as sentences, and what stays of it, played before anything is decided.
// What its parts share stands on one object, `seq`.

import { el, json, say, typing } from '../app/api.js';
import { adding } from './adding.js';
import { without } from './area-shapes.js';
import { areaTools } from './areas.js';
import { legend } from './legend.js';
import { chart, days, playhead, rangeOf, ribbon, scale } from './chart.js';
import { playing } from './playing.js';
import { pointer } from './pointer.js';
import { rampTools } from './ramps.js';
import { slip } from './slip.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

const seq = {
  frames: [],
  /** Where each frame lies on the line of time. */
  places: [],
  passes: [],
  areas: [],
  /** By which pass each frame goes; nothing where it stays. */
  by: [],
  /** What the open pass holds frames against. */
  held: null,
  /** The pass that is open; -1 where none is. */
  open: -1,
  /** The frame that is looked at. */
  at: 0,
  shown: { brightness: true, contrast: true, change: false },
  range: [0, 100],
  columns: [],
  /** A window of time being drawn. */
  drawn: null,
  tools: null,
  ramps: null,
  scaled: null,
  view: 'lines',
  zoom: [0, 1],
  cells: [],
  playing: null,
  doing:
    (work) =>
    async (...a) => {
      try {
        await work(...a);
      } catch (e) {
        say(e.message);
      }
    },
};
const { doing } = seq;
seq.thumb = (frame, edge) => `/api/frames/${frame.id}/thumb?edge=${edge}&s=${frame.stamp}`;
seq.date = (text, how) => new Date(`${text}Z`).toLocaleString('en-GB', { timeZone: 'UTC', ...how });
seq.stays = () => seq.frames.map((_, i) => i).filter((i) => seq.by[i] == null);

/** Waits until every frame is measured, and says how far that is. */
seq.load = async function load() {
  for (;;) {
    const told = await json('GET', '/api/sequence');
    const isBeingRead = 'beingRead' in document.querySelector('.rail').dataset;
    if (told.frames.length || (!told.total && !isBeingRead)) {
      seq.take(told);
      return;
    }
    $('count').textContent = isBeingRead
      ? phrase('sequence-reading-the-folder-frames-so-far', { total: told.total })
      : phrase('sequence-measuring-of', { done: told.done, total: told.total });
    await new Promise((done) => {
      setTimeout(done, 400);
    });
  }
};

/** Keeps what is measured, and measures it. */
seq.measure = async function measure(next, behind, kept) {
  await json('POST', '/api/sequence/measure', { areas: next, behind, passes: kept });
  await seq.load();
  seq.look(seq.at);
};

/** On what frames are measured: as they are, or behind lines of the recipe. */
function measuredOn(lines, behind) {
  const field = $('behind');
  const short = (text) => (text.length > 34 ? `${text.slice(0, 32)} …` : text);
  field.replaceChildren(
    ...[
      phrase('sequence-the-originals'),
      ...lines.map((line, i) => phrase('sequence-behind', { i: i + 1, short: short(line) })),
    ].map((text, i) => el('option', { value: i, selected: i === behind }, text)),
  );
  field.disabled = !lines.length;
  field.onchange = doing(() => seq.measure(seq.areas, Number(field.value), seq.passes));
}

seq.take = function take(told) {
  Object.assign(seq, { frames: told.frames, passes: told.passes, areas: told.areas });
  seq.tools.show(seq.areas);
  measuredOn(told.lines, told.behind);
  const timed = seq.frames.every((f) => f.at != null);
  seq.places = seq.frames.map((f, i) => (timed ? f.at : i));
  seq.by = seq.frames.map(() => null);
  if (!seq.frames.length) {
    $('count').textContent = phrase('sequence-there-are-no-frames-yet');
    return;
  }
  const span = timed ? (seq.places.at(-1) - seq.places[0]) / 86400 : 0;
  $('about').textContent = phrase('sequence-frames', {
    shoot: $('about').dataset.shoot,
    count: seq.frames.length,
    timed: timed ? phrase('sequence-days', { span: span.toFixed(1) }) : phrase('sequence-without-times'),
  });
  seq.legend();
  seq.through();
};

// One request at a time; what changed meanwhile is asked for when it is back.
let asking = false;
let again = false;
seq.through = async function through() {
  if (asking) {
    again = true;
    return;
  }
  asking = true;
  $('kept').textContent = phrase('sequence-saving');
  try {
    const told = await json('POST', '/api/sequence/sieve', {
      passes: seq.passes,
      open: seq.open >= 0 ? seq.open : null,
    });
    seq.by = told.by;
    seq.held = told.held.length ? told.held : null;
    seq.range = rangeOf(seq.passes[seq.open]?.line, seq.held);
    $('kept').textContent = phrase('sequence-saved');
  } catch (e) {
    say(e.message);
    $('kept').textContent = phrase('any-not-saved');
  }
  asking = false;
  if (again) {
    again = false;
    seq.through();
    return;
  }
  seq.list();
  seq.count();
  seq.draw();
};

seq.count = function count() {
  const stay = seq.stays().length;
  $('count').textContent = phrase('sequence-stay-go', { stay, count: seq.frames.length - stay });
  $('length').textContent = phrase('sequence-s-at-25-frames-a-second', { stay: (stay / 25).toFixed(1) });
  document.body.dataset.stay = String(stay);
};
seq.draw = function draw() {
  if (!seq.frames.length) return;
  const whole = [seq.places[0], seq.places.at(-1)];
  const [from, to] = seq.zoom.map((z) => whole[0] + z * (whole[1] - whole[0]));
  const width = $('chart').getBoundingClientRect().width;
  const x = scale(seq.places, from, to, width);
  seq.scaled = { places: seq.places, x };
  if (seq.view === 'lines') {
    const dash = { contrast: [4, 2], change: [1, 2] };
    const of = (f, area) => (area == null ? f.light : f.areas[area]);
    const lines = seq
      .known()
      .filter(({ key }) => seq.shown[key])
      .map(({ name, area, colour }) => ({
        values: seq.frames.map((f) => of(f, area)?.[name]),
        colour,
        dash: area == null && name === 'change' ? undefined : dash[name],
      }));
    // A line that is no light has a scale of its own, and is shown while its pass is open.
    if (seq.held && seq.range[1] !== 100)
      lines.push({ values: seq.held.map((h) => h?.[0]), colour: '#ffffff', held: true });
    chart($('chart'), {
      places: seq.places,
      lines,
      held: seq.held,
      range: seq.range,
      edges: seq.passes[seq.open] ?? {},
      by: seq.by,
      open: seq.open,
      at: seq.at,
      x,
      over: (c, size) => seq.ramps?.draw(c, seq.scaled, size),
    });
  } else {
    const { frames, by, at, drawn } = seq;
    const windows = seq.passes[seq.open]?.windows ?? [];
    ({ cells: seq.cells, all: seq.columns } = days($('chart'), { frames, by, at, windows, drawn }));
  }
  ribbon($('ribbon'), {
    colours: seq.frames.map((f, i) => (seq.places[i] >= from && seq.places[i] <= to ? f.light?.colour : null)),
    places: seq.places,
    x,
  });
  const day = (i) =>
    seq.frames[i].taken ? seq.date(seq.frames[i].taken, { day: 'numeric', month: 'short' }) : seq.frames[i].name;
  $('from').textContent = day(seq.places.findIndex((p) => p >= from));
  $('to').textContent = day(
    Math.max(
      0,
      seq.places.findLastIndex((p) => p <= to),
    ),
  );
  document.body.dataset.drawn = String(Number(document.body.dataset.drawn ?? 0) + 1);
};

seq.look = function look(i) {
  seq.at = Math.max(0, Math.min(seq.frames.length - 1, i));
  const frame = seq.frames[seq.at];
  const src = seq.thumb(frame, seq.playing ? 400 : 960);
  if ($('seen').getAttribute('src') !== src) $('seen').src = src;
  $('seen').alt = frame.name;
  const goes = seq.by[seq.at] != null ? phrase('sequence-goes-by-pass', { by: seq.by[seq.at] + 1 }) : '';
  const when = frame.taken
    ? seq.date(frame.taken, { weekday: 'short', day: 'numeric', month: 'long', hour: '2-digit', minute: '2-digit' })
    : '';
  $('when').textContent = `${when ? `${when}, ` : ''}${frame.name}${goes}`;
  // Only the playhead moves.
  if (seq.view === 'lines' && seq.scaled) playhead($('chart'), seq.scaled.x.at(seq.places[seq.at]));
  else seq.draw();
};

for (const part of [slip, pointer, playing, adding]) part(seq);

document.querySelectorAll('[data-view]').forEach((button) =>
  button.addEventListener('click', () => {
    seq.view = button.dataset.view;
    document.querySelectorAll('[data-view]').forEach((b) => {
      b.classList.toggle('is-on', b === button);
      b.setAttribute('aria-pressed', String(b === button));
    });
    seq.draw();
  }),
);
document.addEventListener('keydown', (e) => {
  if (typing(e) || e.ctrlKey || e.metaKey || e.altKey) return;
  if (e.key === 'ArrowRight') seq.look(seq.at + 1);
  else if (e.key === 'ArrowLeft') seq.look(seq.at - 1);
  else if (e.key === 'p') seq.play();
  else return;
  e.preventDefault();
});
new ResizeObserver(seq.draw).observe($('chart'));

legend(seq);
seq.tools = areaTools({
  image: $('seen'),
  over: $('over'),
  bar: $('areas'),
  put: doing((next, gone) =>
    seq.measure(next, Number($('behind').value || 0), gone == null ? seq.passes : without(seq.passes, gone)),
  ),
});
doing(async () => {
  seq.ramps = rampTools({ bar: $('ramps'), drawn: seq.draw, shown: () => [seq.at, seq.frames.length] });
  await seq.load();
  await seq.ramps.load();
  // The first that is not dark: nights show nothing.
  const light = seq.frames.map((f) => f.light?.brightness ?? 0);
  seq.look(
    Math.max(
      0,
      light.findIndex((v) => v >= 0.7 * Math.max(...light)),
    ),
  );
})();
