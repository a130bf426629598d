// Lines of light over time, the band that stays, the ribbon of mean colours, and days by hours: drawn on canvases.

/** Lowest and highest value of every column of pixels, so that no peak is lost however many frames there are. */
export function decimated(values, places, from, to, columns) {
  const low = new Float64Array(columns).fill(Infinity);
  const high = new Float64Array(columns).fill(-Infinity);
  const scale = columns / Math.max(1e-9, to - from);
  for (let i = 0; i < values.length; i++) {
    const v = values[i];
    const column = Math.floor((places[i] - from) * scale);
    if (v == null || column < 0 || column >= columns) continue;
    if (v < low[column]) low[column] = v;
    if (v > high[column]) high[column] = v;
  }
  return { low, high };
}

/** A canvas as many pixels as the screen has there; its context in CSS pixels. */
export function fitted(canvas) {
  const { width, height } = canvas.getBoundingClientRect();
  const dots = devicePixelRatio;
  const [w, h] = [Math.round(width * dots), Math.round(height * dots)];
  if (canvas.width !== w) canvas.width = w;
  if (canvas.height !== h) canvas.height = h;
  const c = canvas.getContext('2d');
  c.setTransform(dots, 0, 0, dots, 0, 0);
  c.clearRect(0, 0, width, height);
  return { c, width, height };
}

/** Draws one line: through its points where they are apart, as a span in each column where they are not. */
function line(c, values, places, x, y, width) {
  const [from, to] = [x.from, x.to];
  const inside = places.filter((p) => p >= from && p <= to).length;
  c.beginPath();
  if (inside > 2 * width) {
    const { low, high } = decimated(values, places, from, to, Math.ceil(width));
    for (let k = 0; k < low.length; k++) {
      if (low[k] > high[k]) continue;
      c.moveTo(k + 0.5, y(low[k]) + 0.5);
      c.lineTo(k + 0.5, y(high[k]) - 0.5);
    }
  } else {
    let pen = false;
    let last = -Infinity;
    for (let i = 0; i < values.length; i++) {
      if (values[i] == null || places[i] < from || places[i] > to) {
        pen = false;
        continue;
      }
      // A gap in time is shown as one.
      if (places[i] - last > x.gap) pen = false;
      last = places[i];
      const [px, py] = [x.at(places[i]), y(values[i])];
      if (pen) c.lineTo(px, py);
      else {
        c.moveTo(px, py);
        c.lineTo(px + 0.5, py);
      }
      pen = true;
    }
  }
  c.stroke();
}

/** The scale from places (seconds, or numbers) to pixels; `gap` is what counts as one. */
export function scale(places, from, to, width) {
  const steps = places
    .slice(1)
    .map((p, i) => p - places[i])
    .filter((d) => d > 0)
    .sort((a, b) => a - b);
  const usual = steps[Math.floor(steps.length / 2)] ?? 1;
  return {
    from,
    to,
    gap: usual * 4,
    at: (p) => ((p - from) / Math.max(1e-9, to - from)) * width,
    place: (px) => from + (px / width) * (to - from),
  };
}

// What a chart looks like without the playhead, so that moving that draws nothing else again.
let still = null;
function keep(canvas) {
  still ??= document.createElement('canvas');
  [still.width, still.height] = [canvas.width, canvas.height];
  still.getContext('2d').drawImage(canvas, 0, 0);
}

/** The chart as it was, with the playhead at a place. */
export function playhead(canvas, px) {
  const c = canvas.getContext('2d');
  c.setTransform(1, 0, 0, 1, 0, 0);
  c.clearRect(0, 0, canvas.width, canvas.height);
  if (still) c.drawImage(still, 0, 0);
  c.setTransform(devicePixelRatio, 0, 0, devicePixelRatio, 0, 0);
  c.fillStyle = '#fff';
  c.fillRect(px - 0.5, 0, 1.5, canvas.height);
}

/** From where to where the line of the open pass is drawn: lines of light from 0 to 100, others as far as they go. */
export function rangeOf(name, held) {
  if (!held || ['brightness', 'contrast', 'change'].includes(name)) return [0, 100];
  let [low, high] = [name === 'unusual' ? 0 : Infinity, name === 'unusual' ? 30 : -Infinity];
  for (const h of held)
    if (h) {
      low = Math.min(low, h[0]);
      high = Math.max(high, name === 'unusual' ? Math.min(100, h[0]) : h[0]);
    }
  const more = Math.max(0.5, (high - low) * 0.08);
  return name === 'unusual' ? [0, high + more] : [low - more, high + more];
}

/** Lines, band, marks of what goes, and where the eye is. */
export function chart(canvas, view) {
  const { c, width, height } = fitted(canvas);
  const { places, lines, held, range, edges, by, open, at, x } = view;
  const marks = 12;
  const scaled =
    ([low, high]) =>
    (v) =>
      (height - marks) * (1 - (v - low) / (high - low)) + 2;
  const y = scaled([0, 100]);
  const own = scaled(range);
  c.lineWidth = 1;
  if (held) {
    const upper = held.map((h) => h && h[1] + (edges.upper ?? 1e5));
    const lower = held.map((h) => h && h[1] + (edges.lower ?? -1e5));
    c.fillStyle = '#1f8a6b44';
    c.beginPath();
    const known = held.map((h, i) => i).filter((i) => held[i]);
    known.forEach((i, k) => {
      const p = [x.at(places[i]), Math.max(0, own(upper[i]))];
      if (k) c.lineTo(...p);
      else c.moveTo(...p);
    });
    known.reverse().forEach((i) => c.lineTo(x.at(places[i]), Math.min(height - marks, own(lower[i]))));
    c.fill();
    c.strokeStyle = '#7fd8bf';
    for (const [edge, values] of [
      ['lower', lower],
      ['upper', upper],
    ])
      if (edges[edge] != null) line(c, values, places, x, own, width);
  }
  for (const { values, colour, dash, held: is } of lines) {
    c.strokeStyle = colour;
    c.setLineDash(dash ?? []);
    line(c, values, places, x, is ? own : y, width);
  }
  c.setLineDash([]);
  by.forEach((pass, i) => {
    if (pass == null) return;
    c.fillStyle = pass === open ? '#e08a72' : '#8d8d8d';
    c.fillRect(x.at(places[i]) - 0.5, height - marks + 3, Math.max(1, width / places.length), marks - 4);
  });
  view.over?.(c, { width, height });
  keep(canvas);
  if (at != null) playhead(canvas, x.at(places[at]));
}

/** Mean colours in a row. */
export function ribbon(canvas, { colours, places, x }) {
  const { c, width, height } = fitted(canvas);
  const wide = Math.max(1, width / Math.max(1, colours.length));
  colours.forEach((colour, i) => {
    if (!colour) return;
    c.fillStyle = `rgb(${colour.map((v) => Math.round(v * 2.55)).join(' ')})`;
    c.fillRect(x.at(places[i]) - wide / 2, 0, wide + 0.7, height);
  });
}

/** Days from left to right, hours from top to bottom, each frame a cell in its mean colour; what goes is crossed out. */
export function days(canvas, { frames, by, at, windows, drawn }) {
  const { c, width, height } = fitted(canvas);
  const told = frames.map((f) => (f.taken ? f.taken.split('T') : null));
  const all = [...new Set(told.filter(Boolean).map(([day]) => day))].sort();
  const column = new Map(all.map((day, i) => [day, i]));
  const wide = width / Math.max(1, all.length);
  const cells = [];
  frames.forEach((frame, i) => {
    if (!told[i]) return;
    const [h, m] = told[i][1].split(':').map(Number);
    const [x, y] = [column.get(told[i][0]) * wide, ((h * 60 + m) / 1440) * height];
    const tall = Math.max(2, height / 48);
    cells.push({ i, x, y, w: wide, h: tall });
    c.fillStyle = frame.light ? `rgb(${frame.light.colour.map((v) => Math.round(v * 2.55)).join(' ')})` : '#000';
    c.fillRect(x + 0.5, y, wide - 1, tall);
    if (by[i] != null) {
      c.strokeStyle = '#e08a72';
      c.beginPath();
      c.moveTo(x + 1, y + tall);
      c.lineTo(x + wide - 1, y);
      c.stroke();
    }
    if (i === at) {
      c.strokeStyle = '#fff';
      c.strokeRect(x + 0.5, y, wide - 1, tall);
    }
  });
  const minute = (text) => {
    const [h, m] = text.split(':').map(Number);
    return h * 60 + m;
  };
  // Days without frames have no column: a window goes from the first to the last that has one.
  const across = (w) => [all.findIndex((day) => day >= w.from), all.findLastIndex((day) => day <= w.to)];
  c.setLineDash([5, 3]);
  for (const w of [...windows, ...(drawn ? [drawn] : [])]) {
    const [first, last] = across(w);
    if (first < 0 || last < first) continue;
    c.strokeStyle = '#fff';
    c.fillStyle = '#ffffff22';
    const box = [
      first * wide,
      (minute(w.after) / 1440) * height,
      (last - first + 1) * wide,
      ((minute(w.before) - minute(w.after)) / 1440) * height,
    ];
    c.fillRect(...box);
    c.strokeRect(...box);
  }
  c.setLineDash([]);
  return { cells, all };
}
