// A clip's camera move: a window that travels over the frames. Its marks are set on the sample and in time; beside it,
// what the clip shows there.

import { drawnMark, knob, onFields, seen, showFields } from './camera-move-parts.js';
import { moveByHand } from './camera-move-hand.js';
import { pixels } from '../../app/request-slots.js';
import { ask, json, say, svg } from '../../app/api.js';
import { dialogAt } from '../../app/dialogs.js';
import { phrase } from '../../app/words.js';

const limit = (v, low = 0, high = 1) => Math.max(low, Math.min(high, v));
const round = (v) => Math.round(v * 10000) / 10000;
const SMALLEST = 0.02;
const LONGEST = 1600;

/** Opens the view of the move of delivery `at` of a recipe, on a frame; `take` is told `{ move, ease }`. */
export async function moveDialog(recipe, frame, at, take) {
  if (!frame) {
    say(phrase('bench-there-is-no-sample-to-set'));
    return;
  }
  const goes = recipe.deliveries[at];
  let marks = goes.move.map((m) => [...m]);
  if (!marks.length) marks = [[0, 0.5, 0.5, 1]];
  let chosen = 0;
  // Where in time it is looked at.
  let now = marks[0][0];
  let told = null;
  let image = null;
  let latest = 0;
  let playing = 0;

  let dialog;
  try {
    dialog = await dialogAt('/bench/dialogs/move', {
      play: () => (playing ? stop() : start()),
      add,
      drop,
      done() {
        take({ move: marks, ease: ease.value });
        dialog.close();
      },
    });
  } catch (e) {
    say(e.message);
    return;
  }
  const part = (selector) => dialog.querySelector(selector);
  const [stage, over, picture] = [part('.moving-stage'), part('.moving-stage svg'), part('.moving-stage canvas')];
  const [shown, caption, play] = [part('.moving-shown'), part('figcaption'), part('[data-act=play]')];
  const [ease, fields, knobs, time] = [
    part('select'),
    part('.moving-fields'),
    part('.moving-knobs'),
    part('[type=range]'),
  ];
  ease.value = goes.ease;

  /** The window of a mark in shares of the picture: left, top, width, height; it never leaves the picture. */
  function windowOf([, x, y, size]) {
    const [[w, h], [cw, ch]] = [told.size, told.clip];
    const scale = Math.min(w / cw, h / ch) * size;
    const [ww, wh] = [(cw * scale) / w, (ch * scale) / h];
    return [limit(x - ww / 2, 0, 1 - ww), limit(y - wh / 2, 0, 1 - wh), ww, wh];
  }

  /** Puts the chosen mark where it stays inside. */
  function put(x, y, size) {
    const mark = marks[chosen];
    mark[3] = round(limit(size, SMALLEST, 1));
    [mark[1], mark[2]] = [x, y];
    const [l, t, w, h] = windowOf(mark);
    [mark[1], mark[2]] = [round(l + w / 2), round(t + h / 2)];
    draw();
    learn();
  }

  /** The window at a time, from what the server told of the way. */
  function windowAt(t) {
    const all = told.windows;
    const k = limit(t) * (all.length - 1);
    const [a, b] = [all[Math.floor(k)], all[Math.ceil(k)]];
    return a.map((v, i) => v + (b[i] - v) * (k - Math.floor(k)));
  }

  async function learn() {
    const mine = ++latest;
    const asked = {
      ...recipe,
      deliveries: recipe.deliveries.map((d, i) => (i === at ? { ...d, move: marks, ease: ease.value } : d)),
    };
    try {
      const found = await json('POST', '/api/move', { recipe: asked, frame, at });
      if (mine !== latest) return;
      told = found;
      draw();
    } catch (e) {
      if (mine === latest) say(e.message);
    }
  }

  function look() {
    if (!told || !image) return;
    const [l, t, w, h] = windowAt(now);
    shown.width = Math.min(told.clip[0], 760);
    shown.height = Math.round((shown.width * told.clip[1]) / told.clip[0]);
    const context = shown.getContext('2d');
    context.imageSmoothingQuality = 'high';
    context.drawImage(
      image,
      l * image.width,
      t * image.height,
      w * image.width,
      h * image.height,
      0,
      0,
      shown.width,
      shown.height,
    );
    time.value = now;
    const factor = told.clip[0] / (w * told.size[0]);
    caption.textContent = seen(told, now, [w, h], factor);
    caption.classList.toggle('is-large', factor > 1.01);
    const here = over.querySelector('.is-now');
    if (here) for (const [k, v] of Object.entries(box([l, t, w, h]))) here.setAttribute(k, v);
  }

  // The drawing's own lengths: its longer side has 1000.
  const W = () => 1000 * Math.min(1, told.size[0] / told.size[1]);
  const H = () => (W() * told.size[1]) / told.size[0];
  const box = ([l, t, w, h]) => ({ x: l * W(), y: t * H(), width: w * W(), height: h * H() });

  function draw() {
    if (!told) return;
    over.setAttribute('viewBox', `0 0 ${W()} ${H()}`);
    const way = told.windows.map(
      ([l, t, w, h]) => `${((l + w / 2) * W()).toFixed(1)} ${((t + h / 2) * H()).toFixed(1)}`,
    );
    const parts = [
      svg('polyline', { class: 'way', points: way.join(' ') }),
      svg('rect', { class: 'is-now', ...box(windowAt(now)) }),
    ];
    marks.forEach((mark, i) => parts.push(...drawnMark(windowOf(mark), i, i === chosen, W(), H())));
    over.replaceChildren(...parts);
    knobs.replaceChildren(
      ...marks.map((mark, i) =>
        knob(knobs, mark, i, { isChosen: i === chosen, choose, when, by: (b) => stepMark(i, b) }),
      ),
    );
    drawFields();
    look();
  }

  function choose(i) {
    chosen = i;
    now = marks[i][0];
    draw();
  }

  /** Moves any mark in time, by keys. */
  function stepMark(i, by) {
    if (chosen !== i) choose(i);
    when(marks[i][0] + by);
    knobs.children[i]?.focus();
  }

  /** Moves the chosen mark in time, between its neighbours. */
  function when(t) {
    const low = chosen ? marks[chosen - 1][0] + 0.005 : 0;
    const high = chosen + 1 < marks.length ? marks[chosen + 1][0] - 0.005 : 1;
    marks[chosen][0] = Math.round(limit(t, low, high) * 1000) / 1000;
    [now] = marks[chosen];
    draw();
    learn();
  }

  const drawFields = () => showFields(fields, marks[chosen], chosen);
  onFields(
    fields,
    (k, v) => {
      const [, x, y, size] = marks[chosen];
      if (k === 0) when(v);
      else put(k === 1 ? limit(v) : x, k === 2 ? limit(v) : y, k === 3 ? v : size);
    },
    (text) => {
      say(text);
      draw();
    },
  );

  function add() {
    if (marks.some((m) => Math.abs(m[0] - now) < 0.01)) {
      say(phrase('bench-there-is-a-mark-at-that'));
      return;
    }
    if (marks.length >= 60) {
      say(phrase('bench-a-move-has-at-most-60'));
      return;
    }
    const [l, t, w, h] = windowAt(now);
    const largest = windowOf([0, 0.5, 0.5, 1])[2];
    marks.push([
      Math.round(now * 1000) / 1000,
      round(l + w / 2),
      round(t + h / 2),
      round(limit(w / largest, SMALLEST, 1)),
    ]);
    const mine = marks.at(-1);
    marks.sort((a, b) => a[0] - b[0]);
    chosen = marks.indexOf(mine);
    draw();
    learn();
  }

  function drop() {
    if (marks.length < 2) {
      say(phrase('bench-a-move-needs-at-least-one'));
      return;
    }
    marks.splice(chosen, 1);
    chosen = Math.min(chosen, marks.length - 1);
    [now] = marks[chosen];
    draw();
    learn();
  }

  function start() {
    const from = performance.now();
    const seconds = Math.max(0.5, told?.seconds ?? 1);
    const first = now >= 0.999 ? 0 : now;
    play.textContent = phrase('any-stop');
    const step = (t) => {
      now = first + (t - from) / 1000 / seconds;
      if (now >= 1) {
        now = 1;
        look();
        stop();
        return;
      }
      look();
      playing = requestAnimationFrame(step);
    };
    playing = requestAnimationFrame(step);
  }

  function stop() {
    cancelAnimationFrame(playing);
    playing = 0;
    play.textContent = phrase('any-play');
  }

  moveByHand(over, stage, {
    isReady: () => told !== null,
    marks: () => marks,
    chosen: () => chosen,
    windowOf,
    choose,
    put,
    stop,
  });
  time.addEventListener('input', () => {
    stop();
    now = Number(time.value);
    look();
  });
  ease.addEventListener('change', learn);

  dialog.addEventListener('close', stop);
  stage.focus();
  await learn();
  if (!told) {
    dialog.close();
    return;
  }
  // The frame as the lines leave it, those of this delivery too.
  const lines = { ...recipe, steps: [...recipe.steps, ...(goes.steps ?? [])], deliveries: [] };
  try {
    const scale = Math.min(1, LONGEST / Math.max(...told.size));
    image = await createImageBitmap(
      await pixels.run(async () => (await ask('POST', '/api/render', { recipe: lines, frame, scale })).blob()),
    );
    [picture.width, picture.height] = [image.width, image.height];
    picture.getContext('2d').drawImage(image, 0, 0);
    // As large as there is room, in its own proportion.
    stage.style.cssText = `aspect-ratio:${image.width} / ${image.height};width:min(100%, ${(62 * image.width) / image.height}vh)`;
    draw();
    dialog.dataset.ready = 'true';
  } catch (e) {
    caption.textContent = e.message;
  }
}
