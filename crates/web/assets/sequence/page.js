// The sequence: its light over time, the sieve's passes as sentences, and what stays of it, played before anything is decided.

import { COLOURS, areaTools, letter, without } from './areas.js';
import { chart, days, playhead, rangeOf, ribbon, scale } from './chart.js';
import { found, sentence } from './passes.js';
import { rampTools } from './ramps.js';
import { el, json, say, typing } from '../app/api.js';

const $ = (id) => document.getElementById(id);
const LINES = { brightness: '#f2f2f2', contrast: '#5fb89f', change: '#d9b36c' };

let frames = [];
let places = [];
let passes = [];
let areas = [];
let by = [];
let held = null;
let open = -1;
let at = 0;
const shown = { brightness: true, contrast: true, change: false };
let range = [0, 100];
let columns = [];
let drawn = null;
let tools = null;
let ramps = null;
let scaled = null;
let view = 'lines';
let zoom = [0, 1];
let cells = [];
let playing = null;

const doing =
  (work) =>
  async (...a) => {
    try {
      await work(...a);
    } catch (e) {
      say(e.message);
    }
  };
const thumb = (frame, edge) => `/api/frames/${frame.id}/thumb?edge=${edge}&s=${frame.stamp}`;
const date = (text, how) => new Date(`${text}Z`).toLocaleString('en-GB', { timeZone: 'UTC', ...how });
const stays = () => frames.map((_, i) => i).filter((i) => by[i] == null);

/** Waits until every frame is measured, and says how far that is. */
async function load() {
  for (;;) {
    const told = await json('GET', '/api/sequence');
    const isBeingRead = 'beingRead' in document.querySelector('.rail').dataset;
    if (told.frames.length || (!told.total && !isBeingRead)) {
      take(told);
      return;
    }
    $('count').textContent = isBeingRead
      ? `reading the folder: ${told.total} frames so far`
      : `measuring ${told.done} of ${told.total}`;
    await new Promise((done) => {
      setTimeout(done, 400);
    });
  }
}

/** Keeps what is measured, and measures it. */
async function measure(next, behind, kept) {
  await json('POST', '/api/sequence/measure', { areas: next, behind, passes: kept });
  await load();
  look(at);
}

/** On what frames are measured: as they are, or behind lines of the recipe. */
function measuredOn(lines, behind) {
  const field = $('behind');
  const short = (text) => (text.length > 34 ? `${text.slice(0, 32)} …` : text);
  field.replaceChildren(
    ...['the originals', ...lines.map((line, i) => `behind ${i + 1}: ${short(line)}`)].map((text, i) =>
      el('option', { value: i, selected: i === behind }, text),
    ),
  );
  field.disabled = !lines.length;
  field.onchange = doing(() => measure(areas, Number(field.value), passes));
}

function take(told) {
  ({ frames, passes, areas } = told);
  tools.show(areas);
  measuredOn(told.lines, told.behind);
  const timed = frames.every((f) => f.at != null);
  places = frames.map((f, i) => (timed ? f.at : i));
  by = frames.map(() => null);
  if (!frames.length) {
    $('count').textContent = 'There are no frames yet.';
    return;
  }
  const span = timed ? (places.at(-1) - places[0]) / 86400 : 0;
  $('about').textContent =
    `${$('about').dataset.shoot}: ${frames.length} frames${timed ? `, ${span.toFixed(1)} days` : ', without times'}`;
  legend();
  through();
}

// One request at a time; what changed meanwhile is asked for when it is back.
let asking = false;
let again = false;
async function through() {
  if (asking) {
    again = true;
    return;
  }
  asking = true;
  $('kept').textContent = 'saving …';
  try {
    const told = await json('POST', '/api/sequence/sieve', { passes, open: open >= 0 ? open : null });
    ({ by } = told);
    held = told.held.length ? told.held : null;
    range = rangeOf(passes[open]?.line, held);
    $('kept').textContent = 'saved';
  } catch (e) {
    say(e.message);
    $('kept').textContent = 'not saved';
  }
  asking = false;
  if (again) {
    again = false;
    through();
    return;
  }
  list();
  count();
  draw();
}

function count() {
  const stay = stays().length;
  $('count').textContent = `${stay} stay, ${frames.length - stay} go`;
  $('length').textContent = `${(stay / 25).toFixed(1)} s at 25 frames a second. Nothing is deleted.`;
  document.body.dataset.stay = String(stay);
}

/** A value of a pass that can be changed. */
function chip(part, put) {
  if (part.kind === 'choice') {
    const field = el(
      'select',
      { class: 'chip is-word', 'aria-label': 'value' },
      ...part.choices.map((c) => el('option', { value: c, selected: c === part.value }, part.names[c])),
    );
    field.addEventListener('change', () => put(part.set(field.value)));
    return field;
  }
  const number = part.kind === 'number' || part.kind === 'whole';
  const field = el('input', {
    class: 'chip',
    size: Math.max(2, String(part.value).length),
    value: part.value,
    'aria-label': 'value',
    inputmode: number ? 'decimal' : 'text',
  });
  field.addEventListener('change', () => {
    const v = Number(field.value.replace(',', '.').replace('−', '-'));
    if (!number) put(part.set(field.value.trim()));
    else if (Number.isFinite(v) && field.value.trim())
      put(part.set(part.kind === 'whole' ? Math.max(1, Math.round(v)) : v));
    else field.value = part.value;
  });
  field.addEventListener('keydown', (e) => {
    const step = { ArrowUp: 1, ArrowDown: -1 }[e.key];
    if (!number || !step) return;
    e.preventDefault();
    put(part.set(Math.max(part.kind === 'whole' ? 1 : -1e4, Number(part.value) + step)));
  });
  return part.unit ? el('span', {}, field, part.unit) : field;
}

const AGAINST = [
  ['course', 'Against its course', 24],
  ['same_hour', 'Against the same hour of other days', 6],
  ['level', 'Against one level', 0],
];

/** Some of the frames that a pass takes, as pictures. */
function takenBy(i) {
  const gone = frames.map((_, k) => k).filter((k) => by[k] === i);
  const step = Math.max(1, gone.length / 12);
  const some = [...new Set(Array.from({ length: Math.min(12, gone.length) }, (_, k) => gone[Math.floor(k * step)]))];
  return el(
    'div',
    { class: 'taken', 'aria-label': 'Some of the frames it takes' },
    ...some.map((k) =>
      el(
        'button',
        {
          type: 'button',
          title: frames[k].name,
          'aria-label': `Look at ${frames[k].name}`,
          onclick: (e) => {
            e.stopPropagation();
            look(k);
          },
        },
        el('img', { src: thumb(frames[k], 160), alt: '', loading: 'lazy' }),
      ),
    ),
  );
}

function list() {
  if ($('passes').contains(document.activeElement) && document.activeElement.matches('input.chip'))
    document.activeElement.blur();
  $('passes').replaceChildren(
    ...passes.map((pass, i) => {
      const put = (next) => {
        passes[i] = { ...next, on: passes[i].on };
        if (passes[i].on !== false) delete passes[i].on;
        through();
      };
      const words = sentence(
        pass,
        areas.map((_, k) => letter(k)),
      ).map((part) => (typeof part === 'string' ? part : chip(part, put)));
      // A full stop stays with what it ends.
      if (words.at(-1) === '.') words.splice(-2, 2, el('span', { class: 'text-nowrap' }, words.at(-2), '.'));
      const goes = by.filter((b) => b === i).length;
      const act = (label, title, run, disabled) =>
        el(
          'button',
          {
            type: 'button',
            class: 'btn btn-sm btn-outline-dark',
            title,
            disabled: disabled || undefined,
            onclick: (e) => {
              e.stopPropagation();
              run();
            },
          },
          label,
        );
      const shift = (d) => {
        passes.splice(i + d, 0, ...passes.splice(i, 1));
        open = i + d;
        through();
      };
      const edge = (name, label) =>
        act(pass[name] == null ? `With ${label}` : `Without ${label}`, '', () => {
          const next = { ...pass };
          if (next[name] == null) next[name] = name === 'lower' ? -10 : 10;
          else delete next[name];
          put(next);
        });
      const acts =
        i !== open
          ? []
          : [
              el(
                'div',
                { class: 'row-acts' },
                ...(pass.pass === 'line'
                  ? [
                      edge('lower', 'a lower edge'),
                      edge('upper', 'an upper edge'),
                      ...AGAINST.filter(([name]) => !(name in pass.against)).map(([name, label, usual]) =>
                        act(label, '', () => put({ ...pass, against: { [name]: usual } })),
                      ),
                    ]
                  : []),
                ...(pass.pass === 'windows' && pass.windows.length > 1
                  ? [act('Without the last window', '', () => put({ ...pass, windows: pass.windows.slice(0, -1) }))]
                  : []),
                act(pass.on === false ? 'Switch on' : 'Switch off', '', () => {
                  passes[i].on = pass.on === false;
                  if (passes[i].on) delete passes[i].on;
                  through();
                }),
                act('↑', 'Earlier', () => shift(-1), i === 0),
                act('↓', 'Later', () => shift(1), i === passes.length - 1),
                act('Remove', '', () => {
                  passes.splice(i, 1);
                  open = -1;
                  through();
                }),
              ),
            ];
      const pick = () => {
        if (open !== i) {
          open = i;
          through();
        }
      };
      return el(
        'li',
        {
          class: `${i === open ? 'is-open' : ''} ${pass.on === false ? 'is-off' : ''}`,
          'data-pass': String(i),
          onclick: pick,
        },
        el('button', {
          type: 'button',
          class: 'line-number',
          'aria-expanded': String(i === open),
          'aria-label': `Pass ${i + 1}`,
          onclick: (e) => {
            e.stopPropagation();
            pick();
          },
        }),
        el(
          'div',
          { class: 'words' },
          ...words,
          el('br'),
          el('small', { class: 'line-note' }, pass.on === false ? 'off' : `${goes} go`),
        ),
        ...(i === open && goes ? [takenBy(i)] : []),
        ...acts,
      );
    }),
  );
}

/** The lines there are: of the whole, and of every area. */
const known = () =>
  [[null, ''], ...areas.map((_, i) => [i, `${letter(i)} `])].flatMap(([area, of]) =>
    Object.keys(LINES).map((name) => ({
      key: `${of}${name}`,
      area,
      name,
      colour: area == null ? LINES[name] : COLOURS[area],
    })),
  );

function legend() {
  $('legend').replaceChildren(
    ...known().map(({ key, name, colour }) =>
      el(
        'button',
        {
          type: 'button',
          class: 'legend',
          'aria-pressed': String(Boolean(shown[key])),
          style: `color:${colour}`,
          title: 'Show it or not',
          onclick: () => {
            shown[key] = !shown[key];
            legend();
            draw();
          },
        },
        `${shown[key] ? (name === 'brightness' ? '━' : '╍') : '╌'} ${key}`,
      ),
    ),
  );
}

function draw() {
  if (!frames.length) return;
  const whole = [places[0], places.at(-1)];
  const [from, to] = zoom.map((z) => whole[0] + z * (whole[1] - whole[0]));
  const width = $('chart').getBoundingClientRect().width;
  const x = scale(places, from, to, width);
  scaled = { places, x };
  if (view === 'lines') {
    const dash = { contrast: [4, 2], change: [1, 2] };
    const of = (f, area) => (area == null ? f.light : f.areas[area]);
    const lines = known()
      .filter(({ key }) => shown[key])
      .map(({ name, area, colour }) => ({
        values: frames.map((f) => of(f, area)?.[name]),
        colour,
        dash: area == null && name === 'change' ? undefined : dash[name],
      }));
    // A line that is no light has a scale of its own, and is shown while its pass is open.
    if (held && range[1] !== 100) lines.push({ values: held.map((h) => h?.[0]), colour: '#ffffff', held: true });
    chart($('chart'), {
      places,
      lines,
      held,
      range,
      edges: passes[open] ?? {},
      by,
      open,
      at,
      x,
      over: (c, size) => ramps?.draw(c, scaled, size),
    });
  } else {
    ({ cells, all: columns } = days($('chart'), { frames, by, at, windows: passes[open]?.windows ?? [], drawn }));
  }
  ribbon($('ribbon'), {
    colours: frames.map((f, i) => (places[i] >= from && places[i] <= to ? f.light?.colour : null)),
    places,
    x,
  });
  const day = (i) => (frames[i].taken ? date(frames[i].taken, { day: 'numeric', month: 'short' }) : frames[i].name);
  $('from').textContent = day(places.findIndex((p) => p >= from));
  $('to').textContent = day(
    Math.max(
      0,
      places.findLastIndex((p) => p <= to),
    ),
  );
  document.body.dataset.drawn = String(Number(document.body.dataset.drawn ?? 0) + 1);
}

function look(i) {
  at = Math.max(0, Math.min(frames.length - 1, i));
  const frame = frames[at];
  const src = thumb(frame, playing ? 400 : 960);
  if ($('seen').getAttribute('src') !== src) $('seen').src = src;
  $('seen').alt = frame.name;
  const goes = by[at] != null ? `, goes by pass ${by[at] + 1}` : '';
  const when = frame.taken
    ? date(frame.taken, { weekday: 'short', day: 'numeric', month: 'long', hour: '2-digit', minute: '2-digit' })
    : '';
  $('when').textContent = `${when ? `${when}, ` : ''}${frame.name}${goes}`;
  // Only the playhead moves.
  if (view === 'lines' && scaled) playhead($('chart'), scaled.x.at(places[at]));
  else draw();
}

/** The frame nearest to a place of the chart. */
function under(e) {
  const box = $('chart').getBoundingClientRect();
  const [px, py] = [e.clientX - box.left, e.clientY - box.top];
  if (view === 'days') {
    const hit = cells.find((cell) => px >= cell.x && px < cell.x + cell.w && py >= cell.y && py <= cell.y + cell.h + 3);
    return hit ? hit.i : at;
  }
  const [first, last] = [places[0], places.at(-1)];
  const here = first + (zoom[0] + (px / box.width) * (zoom[1] - zoom[0])) * (last - first);
  let best = 0;
  places.forEach((p, i) => {
    if (Math.abs(p - here) < Math.abs(places[best] - here)) best = i;
  });
  return best;
}

/** How far above what its line is held against the pointer is; nothing where nothing is held against. */
function apartUnder(e) {
  const against = held?.[under(e)]?.[1];
  if (against == null) return null;
  const box = $('chart').getBoundingClientRect();
  return range[0] + (1 - (e.clientY - box.top - 2) / (box.height - 12)) * (range[1] - range[0]) - against;
}

/** Which edge of the band lies under the pointer. */
function edgeUnder(e) {
  const pass = passes[open];
  const apart = view === 'lines' && pass ? apartUnder(e) : null;
  if (apart == null) return undefined;
  return ['lower', 'upper'].find(
    (name) => pass[name] != null && Math.abs(apart - pass[name]) < (range[1] - range[0]) * 0.04,
  );
}

/** The day and the minute under the pointer, where days and hours are shown. */
function hourUnder(e) {
  const box = $('chart').getBoundingClientRect();
  const [px, py] = [(e.clientX - box.left) / box.width, (e.clientY - box.top) / box.height];
  const within = (v, most) => Math.min(most, Math.max(0, v));
  return {
    day: columns[within(Math.floor(px * columns.length), columns.length - 1)],
    minute: within(Math.round((py * 1440) / 15) * 15, 1440),
  };
}

/** The window between two places of days and hours; nothing for a click. */
function windowBetween(a, b) {
  const clock = (m) => `${String(Math.floor(m / 60)).padStart(2, '0')}:${String(m % 60).padStart(2, '0')}`;
  if (!a.day || !b.day || a.minute === b.minute) return null;
  const [from, to] = [a.day, b.day].sort();
  const [after, before] = [a.minute, b.minute].sort((p, q) => p - q).map(clock);
  return { from, to, after, before };
}

/** Adds a window to the open pass of windows, or makes one of it. */
function addWindow(window) {
  if (passes[open]?.pass === 'windows') passes[open] = { ...passes[open], windows: [...passes[open].windows, window] };
  else {
    passes.push({ pass: 'windows', windows: [window] });
    open = passes.length - 1;
  }
  through();
}

/** Where on the chart the pointer is, and how large that is. */
const on = (e) => {
  const box = $('chart').getBoundingClientRect();
  return [e.clientX - box.left, e.clientY - box.top];
};
const sizeOf = () => {
  const { width, height } = $('chart').getBoundingClientRect();
  return { width, height };
};
$('chart').addEventListener('dblclick', (e) => {
  if (view === 'lines' && ramps.grab(on(e), scaled, sizeOf(), true)) ramps.drop();
});
$('chart').addEventListener('contextmenu', (e) => {
  if (view === 'lines' && ramps.remove(on(e), scaled, sizeOf())) e.preventDefault();
});

let dragged = null;
let began = null;
$('chart').addEventListener('pointerdown', (e) => {
  if (view === 'days') {
    began = hourUnder(e);
    $('chart').setPointerCapture(e.pointerId);
    look(under(e));
    return;
  }
  if (ramps.grab(on(e), scaled, sizeOf(), false)) {
    $('chart').setPointerCapture(e.pointerId);
    return;
  }
  dragged = edgeUnder(e);
  $('chart').setPointerCapture(e.pointerId);
  if (!dragged) {
    $('chart').dataset.scrubs = 'true';
    look(under(e));
  }
});
$('chart').addEventListener('pointermove', (e) => {
  if (ramps.isHeld()) ramps.drag(on(e), scaled, sizeOf());
  else if (began) {
    drawn = windowBetween(began, hourUnder(e));
    draw();
  } else if (dragged) {
    const apart = apartUnder(e);
    if (apart != null) {
      passes[open][dragged] = Math.round(apart * 10) / 10;
      if (passes[open].lower > passes[open].upper)
        passes[open][dragged] = passes[open][dragged === 'lower' ? 'upper' : 'lower'];
      through();
    }
  } else if ($('chart').dataset.scrubs) look(under(e));
  else $('chart').style.cursor = edgeUnder(e) ? 'ns-resize' : 'crosshair';
});
const drop = () => {
  dragged = null;
  began = null;
  drawn = null;
  delete $('chart').dataset.scrubs;
};
$('chart').addEventListener('pointerup', () => {
  const window = drawn;
  drop();
  ramps.drop();
  if (window) addWindow(window);
});
$('chart').addEventListener('pointercancel', drop);
$('chart').addEventListener(
  'wheel',
  (e) => {
    e.preventDefault();
    const box = $('chart').getBoundingClientRect();
    const here = zoom[0] + ((e.clientX - box.left) / box.width) * (zoom[1] - zoom[0]);
    const by2 = Math.exp(e.deltaY / 400);
    const [a, b] = [here - (here - zoom[0]) * by2, here + (zoom[1] - here) * by2];
    zoom = b - a >= 1 ? [0, 1] : [Math.max(0, a), Math.min(1, b)];
    draw();
  },
  { passive: false },
);

function play() {
  if (playing) {
    clearInterval(playing);
    playing = null;
    $('play').firstChild.textContent = 'Play only what stays ';
    look(at);
    return;
  }
  const stay = stays();
  if (!stay.length) {
    say('No frame stays; take a pass back.');
    return;
  }
  let k = Math.max(
    0,
    stay.findIndex((i) => i >= at),
  );
  if (k >= stay.length - 1) k = 0;
  $('play').firstChild.textContent = 'Stop ';
  // What comes next is fetched before it is wanted.
  stay.slice(k, k + 40).forEach((i) => {
    new Image().src = thumb(frames[i], 400);
  });
  playing = setInterval(() => {
    if (k >= stay.length) {
      play();
      return;
    }
    if (stay[k + 40] != null) new Image().src = thumb(frames[stay[k + 40]], 400);
    look(stay[k]);
    k += 1;
  }, 40);
}
$('play').onclick = play;
$('apply').onclick = doing(async () => {
  const told = await json('POST', '/api/sequence/apply', {});
  const word = (n) => `${n} frame${n === 1 ? '' : 's'}`;
  say(`${word(told.aside)} set aside, ${word(told.back)} back. Undo on the frames page takes it back.`);
  $('rail-frames').textContent = stays().length;
});

$('suggest').onclick = doing(async () => {
  const told = await json('GET', '/api/sequence/suggested');
  const there = new Set(passes.map((p) => JSON.stringify(p)));
  const fresh = told.passes.filter((p) => !there.has(JSON.stringify(p)));
  if (!fresh.length) {
    say(
      told.passes.length
        ? 'These passes are already there.'
        : 'There is no night, no fog and nothing in the way to be told from the rest.',
    );
    return;
  }
  passes.push(...fresh);
  open = passes.length - fresh.length;
  say(
    `${fresh.length} pass${fresh.length === 1 ? '' : 'es'} suggested. Open each to see what it takes; change it, switch it off or remove it.`,
  );
  through();
});

// What else: passes by the words people type.
let offer = 0;
function offers() {
  const all = found($('more').value);
  offer = Math.min(offer, Math.max(0, all.length - 1));
  $('offers').hidden = document.activeElement !== $('more');
  $('offers').replaceChildren(
    ...(all.length
      ? all.map((o, i) =>
          el(
            'li',
            {
              class: i === offer ? 'is-on' : '',
              onpointerdown: (e) => {
                e.preventDefault();
                add(o);
              },
            },
            o.label,
          ),
        )
      : [el('li', { class: 'group' }, 'No pass by that word. Try dark, fog, hours, every or one a day.')]),
  );
}
function add(o) {
  passes.push(o.pass());
  open = passes.length - 1;
  $('more').value = '';
  $('more').blur();
  through();
}
$('more').addEventListener('input', () => {
  offer = 0;
  offers();
});
$('more').addEventListener('focus', offers);
$('more').addEventListener('blur', offers);
$('more').addEventListener('keydown', (e) => {
  const all = found($('more').value);
  if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
    offer = (offer + (e.key === 'ArrowDown' ? 1 : all.length - 1)) % Math.max(1, all.length);
    offers();
  } else if (e.key === 'Enter' && all[offer]) add(all[offer]);
  else if (e.key === 'Escape') $('more').blur();
  else return;
  e.preventDefault();
  e.stopPropagation();
});

document.querySelectorAll('[data-view]').forEach((button) =>
  button.addEventListener('click', () => {
    ({ view } = button.dataset);
    document.querySelectorAll('[data-view]').forEach((b) => {
      b.classList.toggle('is-on', b === button);
      b.setAttribute('aria-pressed', String(b === button));
    });
    draw();
  }),
);
document.addEventListener('keydown', (e) => {
  if (typing(e) || e.ctrlKey || e.metaKey || e.altKey) return;
  if (e.key === 'ArrowRight') look(at + 1);
  else if (e.key === 'ArrowLeft') look(at - 1);
  else if (e.key === 'p') play();
  else return;
  e.preventDefault();
});
new ResizeObserver(draw).observe($('chart'));

tools = areaTools({
  image: $('seen'),
  over: $('over'),
  bar: $('areas'),
  put: doing((next, gone) =>
    measure(next, Number($('behind').value || 0), gone == null ? passes : without(passes, gone)),
  ),
});
doing(async () => {
  ramps = rampTools({ bar: $('ramps'), drawn: draw, shown: () => [at, frames.length] });
  await load();
  await ramps.load();
  // The first that is not dark: nights show nothing.
  const light = frames.map((f) => f.light?.brightness ?? 0);
  look(
    Math.max(
      0,
      light.findIndex((v) => v >= 0.7 * Math.max(...light)),
    ),
  );
})();
