// A clip's camera move: a window that travels over the frames. Its marks are set on the sample and in time; beside it,
// what the clip shows there.

import { pixels } from '../../app/request-slots.js';
import { ask, el, json, say, svg } from '../../app/api.js';

const limit = (v, low = 0, high = 1) => Math.max(low, Math.min(high, v));
const round = (v) => Math.round(v * 10000) / 10000;
const SMALLEST = 0.02;
const LONGEST = 1600;

/** Opens the view of the move of delivery `at` of a recipe, on a frame; `take` is told `{ move, ease }`. */
export async function moveDialog(recipe, frame, at, take) {
  if (!frame) {
    say('There is no sample to set it on; choose frames first.');
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

  const dialog = el('dialog', { class: 'moving', 'aria-label': 'The camera move' });
  const picture = el('canvas', { 'aria-hidden': true });
  const over = svg('svg', { role: 'group', 'aria-label': 'Windows of the move on the sample' });
  const stage = el('div', { class: 'moving-stage' }, picture, over);
  const shown = el('canvas', { class: 'moving-shown', role: 'img', 'aria-label': 'What the clip shows' });
  const caption = el('figcaption', { role: 'status' }, 'Making the sample …');
  const time = el('input', { type: 'range', min: 0, max: 1, step: 0.001, 'aria-label': 'Time in the clip' });
  const knobs = el('div', { class: 'moving-knobs' });
  const fields = el('div', { class: 'moving-fields' });
  const ease = el(
    'select',
    { 'aria-label': 'How it goes from mark to mark' },
    ...['even', 'soft', 'soft start', 'soft end', 'flowing'].map((e) => el('option', { selected: e === goes.ease }, e)),
  );
  const play = el(
    'button',
    { type: 'button', class: 'btn btn-sm btn-outline-light', onclick: () => (playing ? stop() : start()) },
    'Play',
  );

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
    const large = factor > 1.01 ? `, enlarged ${factor.toFixed(1)} times` : '';
    caption.textContent = `${(now * told.seconds).toFixed(1)} of ${told.seconds.toFixed(1)} s: ${Math.round(w * told.size[0])} × ${Math.round(h * told.size[1])} pixels of the frame${large}. The sample stands for all frames.`;
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
    marks.forEach((mark, i) => {
      const [l, t, w, h] = windowOf(mark);
      const mine = i === chosen;
      parts.push(svg('rect', { class: `mark${mine ? ' is-chosen' : ''}`, 'data-mark': i, ...box([l, t, w, h]) }));
      parts.push(svg('text', { class: mine ? 'is-chosen' : '', x: l * W() + 10, y: t * H() + 30 }, String(i + 1)));
      if (mine) {
        for (const [x, y] of [
          [l, t],
          [l + w, t],
          [l, t + h],
          [l + w, t + h],
        ]) {
          parts.push(svg('rect', { class: 'corner', x: x * W() - 9, y: y * H() - 9, width: 18, height: 18 }));
        }
      }
    });
    over.replaceChildren(...parts);
    knobs.replaceChildren(...marks.map((mark, i) => knob(mark, i)));
    drawFields();
    look();
  }

  function choose(i) {
    chosen = i;
    now = marks[i][0];
    draw();
  }

  /** A mark in time: chosen by a click, moved by dragging or by arrow keys. */
  function knob(mark, i) {
    const button = el(
      'button',
      {
        type: 'button',
        class: i === chosen ? 'is-chosen' : '',
        style: `left:${mark[0] * 100}%`,
        'aria-label': `Mark ${i + 1} at ${Math.round(mark[0] * 100)} %`,
        'aria-pressed': i === chosen,
        title: 'Drag it in time, or use the arrow keys',
      },
      String(i + 1),
    );
    button.addEventListener('pointerdown', (down) => {
      if (down.button) return;
      down.preventDefault();
      choose(i);
      const room = knobs.getBoundingClientRect();
      const move = (e) => {
        when(limit((e.clientX - room.left) / room.width));
      };
      window.addEventListener('pointermove', move);
      window.addEventListener('pointerup', () => window.removeEventListener('pointermove', move), { once: true });
    });
    button.addEventListener('click', (e) => {
      if (e.detail === 0) choose(i);
    });
    button.addEventListener('keydown', (e) => {
      const by = { ArrowLeft: -0.01, ArrowRight: 0.01 }[e.key];
      if (!by) return;
      e.preventDefault();
      if (chosen !== i) choose(i);
      when(marks[i][0] + by);
      knobs.children[i]?.focus();
    });
    return button;
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

  function drawFields() {
    const mark = marks[chosen];
    const one = (label, k, title, set) => {
      const field = el('input', {
        value: Math.round(mark[k] * 1000) / 10,
        inputmode: 'decimal',
        'aria-label': `Mark ${chosen + 1}, ${label}`,
        title,
      });
      field.addEventListener('change', () => {
        const v = Number(field.value.replace(',', '.').replace('%', ''));
        if (Number.isFinite(v)) set(v / 100);
        else {
          say(`${label}: ${field.value} is no number`);
          draw();
        }
      });
      return el('label', {}, label, field, '%');
    };
    fields.replaceChildren(
      el('b', {}, `Mark ${chosen + 1}`),
      one('time', 0, '0 is the first frame, 100 the last', when),
      one('from left', 1, 'The middle of the window', (v) => put(limit(v), mark[2], mark[3])),
      one('from top', 2, 'The middle of the window', (v) => put(mark[1], limit(v), mark[3])),
      one('size', 3, 'Against the largest window of this proportion', (v) => put(mark[1], mark[2], v)),
    );
  }

  function add() {
    if (marks.some((m) => Math.abs(m[0] - now) < 0.01)) {
      say('There is a mark at that time; choose another on the line of time below.');
      return;
    }
    if (marks.length >= 60) {
      say('A move has at most 60 marks.');
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
      say('A move needs at least one mark.');
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
    play.textContent = 'Stop';
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
    play.textContent = 'Play';
  }

  // The hand: inside the chosen window it is moved, at a corner it is made larger, elsewhere another is chosen.
  over.addEventListener('pointerdown', (down) => {
    if (down.button || !told) return;
    down.preventDefault();
    stage.focus();
    stop();
    const room = over.getBoundingClientRect();
    const place = (e) => [(e.clientX - room.left) / room.width, (e.clientY - room.top) / room.height];
    const [x, y] = place(down);
    const reach = 14 / room.width;
    const tall = 14 / room.height;
    const inside = ([l, t, w, h]) => x > l && x < l + w && y > t && y < t + h;
    let [l, t, w, h] = windowOf(marks[chosen]);
    const corner = [
      [l, t],
      [l + w, t],
      [l, t + h],
      [l + w, t + h],
    ].findIndex(([cx, cy]) => Math.abs(cx - x) < reach && Math.abs(cy - y) < tall);
    if (corner < 0) {
      // The smallest of those under the hand, so that none is out of reach.
      const under = marks
        .map((m, i) => [windowOf(m), i])
        .filter(([b]) => inside(b))
        .sort((a, b) => a[0][2] - b[0][2]);
      if (!under.length) return;
      if (!inside([l, t, w, h]) || under[0][0][2] < w * 0.98) choose(under[0][1]);
      [l, t, w, h] = windowOf(marks[chosen]);
    }
    const size = marks[chosen][3];
    const fixed = [corner % 2 ? l : l + w, corner > 1 ? t : t + h];
    const move = (e) => {
      const [px, py] = place(e);
      if (corner < 0) {
        put(l + w / 2 + px - x, t + h / 2 + py - y, size);
        return;
      }
      const wide = Math.max(Math.abs(px - fixed[0]) / w, Math.abs(py - fixed[1]) / h);
      const room2 = Math.min((corner % 2 ? 1 - fixed[0] : fixed[0]) / w, (corner > 1 ? 1 - fixed[1] : fixed[1]) / h);
      const by = Math.min(wide, room2, 1 / size);
      put(fixed[0] + ((corner % 2 ? 1 : -1) * w * by) / 2, fixed[1] + ((corner > 1 ? 1 : -1) * h * by) / 2, size * by);
    };
    window.addEventListener('pointermove', move);
    window.addEventListener('pointerup', () => window.removeEventListener('pointermove', move), { once: true });
  });
  stage.tabIndex = 0;
  stage.setAttribute('role', 'group');
  stage.setAttribute('aria-label', 'Arrow keys move the window, plus and minus make it larger and smaller');
  stage.addEventListener('keydown', (e) => {
    const fine = e.shiftKey ? 0.002 : 0.01;
    const by = { ArrowLeft: [-fine, 0], ArrowRight: [fine, 0], ArrowUp: [0, -fine], ArrowDown: [0, fine] }[e.key];
    const [, x, y, size] = marks[chosen];
    if (by && told) put(x + by[0], y + by[1], size);
    else if ((e.key === '+' || e.key === '-') && told) put(x, y, size * (e.key === '+' ? 1.02 : 1 / 1.02));
    else return;
    e.preventDefault();
  });
  time.addEventListener('input', () => {
    stop();
    now = Number(time.value);
    look();
  });
  ease.addEventListener('change', learn);

  const act = (label, title, run) =>
    el('button', { type: 'button', class: 'btn btn-sm btn-outline-light', title, onclick: run }, label);
  const done = el(
    'button',
    {
      type: 'button',
      class: 'btn btn-primary',
      onclick: () => {
        take({ move: marks, ease: ease.value });
        dialog.close();
      },
    },
    'Take this move',
  );
  dialog.append(
    el('h2', {}, 'Camera move'),
    el(
      'div',
      { class: 'moving-sides' },
      stage,
      el(
        'figure',
        {},
        shown,
        caption,
        el('div', { class: 'moving-acts' }, play, el('label', {}, 'between marks ', ease)),
        fields,
        el(
          'div',
          { class: 'moving-acts' },
          act('Add a mark here', 'At the time on the line below', add),
          act('Remove this mark', '', drop),
        ),
      ),
    ),
    el('div', { class: 'moving-time' }, knobs, time),
    el(
      'div',
      { class: 'acts' },
      done,
      ' ',
      el(
        'button',
        { type: 'button', class: 'btn btn-outline-light', onclick: () => dialog.close() },
        'Leave it as it was',
      ),
    ),
  );
  dialog.addEventListener('close', () => {
    stop();
    dialog.remove();
  });
  dialog.addEventListener('keydown', (e) => e.stopPropagation());
  document.body.append(dialog);
  dialog.showModal();
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
