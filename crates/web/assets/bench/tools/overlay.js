// What is done on the picture itself: crop window, horizon line, neutral spot, watermark place.

import { svg } from '../../app/api.js';
import { phrase } from '../../app/words.js';

const round = (v, to = 10) => Math.round(v * to) / to;

/** Width to height of a crop's proportion. */
function ratio(step, w, h) {
  const [a, b] = String(step.proportion ?? 'original')
    .split(':')
    .map(Number);
  return a > 0 && b > 0 ? a / b : w / h;
}

const PLACES = [
  phrase('bench-top-left'),
  'top',
  phrase('bench-top-right'),
  'left',
  'centre',
  'right',
  phrase('bench-bottom-left'),
  'bottom',
  phrase('bench-bottom-right'),
];

/** The crop's window as shares of its input, as the engine places it. */
function windowOf(step, w, h) {
  if (step.pixels) {
    const [x, y, cw, ch] = step.pixels;
    return { x: x / w, y: y / h, w: Math.min(1, cw / w), h: Math.min(1, ch / h) };
  }
  const r = ratio(step, w, h);
  const k = (step.size ?? 100) / 100;
  const [cw, ch] = w / h > r ? [(h * r * k) / w, k] : [k, (w / r / h) * k];
  const at = Math.max(0, PLACES.indexOf(step.place ?? 'centre'));
  const put = (room, share, moved) => Math.max(0, Math.min(room, room * share + moved));
  return {
    x: put(1 - cw, (at % 3) / 2, (step.right ?? 0) / 100),
    y: put(1 - ch, Math.floor(at / 3) / 2, (step.down ?? 0) / 100),
    w: cw,
    h: ch,
  };
}

/** The overlay of the line that is open; `tool` is the kind of its step's tool. */
export function overlay(root, viewer, step, tool, facts, pick, shape) {
  root.replaceChildren();
  const p = viewer.place();
  const x = (v) => p.x + v * p.w * p.zoom;
  const y = (v) => p.y + v * p.h * p.zoom;
  if (tool === 'window') {
    const c = windowOf(step, p.w, p.h);
    const [l, t, r, b] = [x(c.x), y(c.y), x(c.x + c.w), y(c.y + c.h)];
    root.append(
      svg('path', {
        class: 'shade',
        'fill-rule': 'evenodd',
        d: `M${x(0)} ${y(0)}H${x(1)}V${y(1)}H${x(0)}ZM${l} ${t}H${r}V${b}H${l}Z`,
      }),
    );
    root.append(svg('rect', { class: 'frame', x: l, y: t, width: r - l, height: b - t }));
    for (const k of [1 / 3, 2 / 3]) {
      root.append(svg('line', { class: 'third', x1: l + (r - l) * k, x2: l + (r - l) * k, y1: t, y2: b }));
      root.append(svg('line', { class: 'third', x1: l, x2: r, y1: t + (b - t) * k, y2: t + (b - t) * k }));
    }
    root.append(svg('rect', { class: 'grip', x: r - 7, y: b - 7, width: 14, height: 14 }));
  }
  const stroke = (a, b, cls = 'horizon') =>
    root.append(svg('line', { class: cls, x1: x(a[0]), y1: y(a[1]), x2: x(b[0]), y2: y(b[1]) }));
  if (tool === 'lines') for (const l of step?.lines ?? []) stroke([l[0], l[1]], [l[2], l[3]]);
  if (tool === 'parts') {
    const box = ([px, py, w, h]) => ({ x: x(px), y: y(py), width: w * p.w * p.zoom, height: h * p.h * p.zoom });
    for (const part of step?.ignore ?? [])
      root.append(svg('rect', { class: 'shade', ...box(part) }), svg('rect', { class: 'frame', ...box(part) }));
    if (step?.area) root.append(svg('rect', { class: 'frame', 'stroke-dasharray': '7 4', ...box(step.area) }));
    if (pick.part) root.append(svg('rect', { class: 'frame', ...box(pick.part) }));
  }
  if (tool === 'spots') {
    for (const [sx, sy, r] of step?.spots ?? []) {
      const [u, v] = upright([sx, sy], facts.orientation);
      root.append(
        svg('circle', { class: 'frame', cx: x(u), cy: y(v), r: Math.max(4, r * Math.max(p.w, p.h) * p.zoom) }),
      );
    }
  }
  const ramp =
    tool === 'ramp'
      ? { from: step.from ?? [0.5, 0.2], to: step.to ?? [0.5, 0.5] }
      : shape?.kind === 'gradient'
        ? shape
        : null;
  if (ramp) {
    stroke(ramp.from, ramp.to, 'third');
    // Across the ramp, where it is full and where it ends.
    const [dx, dy] = [(ramp.to[0] - ramp.from[0]) * p.w, (ramp.to[1] - ramp.from[1]) * p.h];
    const k = (0.3 * Math.max(p.w, p.h)) / Math.hypot(dx, dy);
    for (const c of [ramp.from, ramp.to])
      stroke([c[0] - (dy * k) / p.w, c[1] + (dx * k) / p.h], [c[0] + (dy * k) / p.w, c[1] - (dx * k) / p.h]);
  }
  if (shape?.kind === 'ellipse') {
    root.append(
      svg('ellipse', {
        class: 'frame',
        cx: x(shape.centre[0]),
        cy: y(shape.centre[1]),
        rx: shape.radii[0] * p.w * p.zoom,
        ry: shape.radii[1] * p.h * p.zoom,
        transform: `rotate(${shape.turn ?? 0} ${x(shape.centre[0])} ${y(shape.centre[1])})`,
      }),
    );
  }
  if (pick?.cross) {
    const [cx, cy] = [x(pick.cross[0]), y(pick.cross[1])];
    root.append(
      svg('path', {
        class: pick.held ? 'cross is-held' : 'cross',
        d: `M${cx - 13} ${cy}H${cx - 4}M${cx + 4} ${cy}H${cx + 13}M${cx} ${cy - 13}V${cy - 4}M${cx} ${cy + 4}V${cy + 13}`,
      }),
    );
  }
  if (pick?.line) {
    const [a, b] = pick.line;
    root.append(svg('line', { class: 'horizon', x1: x(a[0]), y1: y(a[1]), x2: x(b[0]), y2: y(b[1]) }));
  }
}

/** Where a place on the sensor lies in the upright picture, and the way back (EXIF orientation). */
const upright = ([x, y], o) =>
  ({ 2: [1 - x, y], 3: [1 - x, 1 - y], 4: [x, 1 - y], 5: [y, x], 6: [1 - y, x], 7: [1 - y, 1 - x], 8: [y, 1 - x] })[
    o
  ] ?? [x, y];
const stored = ([x, y], o) =>
  ({ 2: [1 - x, y], 3: [1 - x, 1 - y], 4: [x, 1 - y], 5: [y, x], 6: [y, 1 - x], 7: [1 - y, 1 - x], 8: [1 - y, x] })[
    o
  ] ?? [x, y];

/** Starts a gesture with a step's tool on the picture, `change(values, done)` writing its values; returns what follows the pointer, or nothing. */
export function grab(viewer, step, tool, start, change, pick, neutral, facts, away) {
  const p = viewer.place();
  if (tool === 'window') {
    const c = windowOf(step, p.w, p.h);
    const corner = Math.hypot((start[0] - c.x - c.w) * p.w * p.zoom, (start[1] - c.y - c.h) * p.h * p.zoom) < 24;
    const r = ratio(step, p.w, p.h);
    const widest = p.w / p.h > r ? (p.h * r) / p.w : 1;
    // By hand the window is placed from the top left: independent of the picture's size, exact to a tenth.
    const values = (x, y, size) => ({
      pixels: null,
      place: phrase('bench-top-left'),
      size: round(size),
      right: round(x * 100),
      down: round(y * 100),
    });
    return (at, done) => {
      if (corner) {
        const tall = c.h / c.w;
        const room = Math.min(1 - c.x, (1 - c.y) / tall);
        const w = Math.max(0.03, Math.min(room, Math.max(at[0] - c.x, (at[1] - c.y) / tall)));
        change(values(c.x, c.y, Math.min(100, (w / widest) * 100)), done);
      } else {
        const put = (v, side) => Math.max(0, Math.min(1 - side, v));
        change(
          values(
            put(c.x + at[0] - start[0], c.w),
            put(c.y + at[1] - start[1], c.h),
            Math.min(100, (c.w / widest) * 100),
          ),
          done,
        );
      }
    };
  }
  if (tool === 'horizon') {
    return (at, done) => {
      const [dx, dy] = [(at[0] - start[0]) * p.w, (at[1] - start[1]) * p.h];
      pick.line = done ? null : [start, at];
      if (Math.hypot(dx, dy) * p.zoom < 12) return;
      // The line drawn becomes level, or upright when it is nearer to that.
      let degrees = (-Math.atan2(dy, dx) * 180) / Math.PI;
      while (degrees > 45) degrees -= 90;
      while (degrees < -45) degrees += 90;
      if (done) change({ degrees: round(degrees, 100) }, true);
    };
  }
  const exact = (v) => round(v, 10000);
  if (tool === 'lines' && pick.tool) {
    const lines = (step.lines ?? []).length >= 4 ? [] : (step.lines ?? []);
    return (at, done) => {
      pick.line = done ? null : [start, at];
      if (done && Math.hypot(at[0] - start[0], at[1] - start[1]) > 0.03)
        change({ lines: [...lines, [...start, ...at].map(exact)] }, true);
    };
  }
  if (tool === 'spots' && pick.tool) {
    const spots = step.spots ?? [];
    const far = (s) => {
      const u = upright(s, facts.orientation);
      return Math.hypot((u[0] - start[0]) * p.w, (u[1] - start[1]) * p.h);
    };
    return (at, done) => {
      if (!done) return;
      const moved = Math.hypot((at[0] - start[0]) * p.w, (at[1] - start[1]) * p.h) / Math.max(p.w, p.h);
      const hit = spots.findIndex((s) => far(s) < Math.max(s[2] * Math.max(p.w, p.h), 6 / p.zoom));
      if (hit >= 0 && moved < 0.002) change({ spots: spots.filter((_, k) => k !== hit) }, true);
      else
        change(
          {
            spots: [
              ...spots,
              [...stored(start, facts.orientation).map(exact), Math.max(0.003, Math.min(0.03, exact(moved)))],
            ],
          },
          true,
        );
    };
  }
  if (tool === 'parts' && pick.tool) {
    const parts = step.ignore ?? [];
    const limit = (v) => Math.max(0, Math.min(1, v));
    return (at, done) => {
      const [a, b] = [start, at].map((place) => place.map(limit));
      const [l, t] = [0, 1].map((k) => exact(Math.min(a[k], b[k])));
      const part = [l, t, exact(Math.max(a[0], b[0]) - l), exact(Math.max(a[1], b[1]) - t)];
      pick.part = done ? null : part;
      if (!done) return;
      const isClick = part[2] < 0.005 || part[3] < 0.005;
      if (away) change({ area: isClick ? null : part }, true);
      else if (!isClick) change({ ignore: [...parts, part].slice(-16) }, true);
      else
        change(
          {
            ignore: parts.filter(
              ([x, y, w, h]) => !(start[0] >= x && start[0] <= x + w && start[1] >= y && start[1] <= y + h),
            ),
          },
          true,
        );
    };
  }
  if (tool === 'ramp' && pick.tool) {
    return (at, done) => {
      if (Math.hypot(at[0] - start[0], at[1] - start[1]) > 0.01)
        change({ from: start.map(exact), to: at.map(exact) }, done);
    };
  }
  if (tool === 'placing') {
    const [right, down] = [step.right ?? 0, step.down ?? 0];
    const limit = (v) => Math.max(-100, Math.min(100, round(v)));
    return (at, done) =>
      change({ right: limit(right + (at[0] - start[0]) * 100), down: limit(down + (at[1] - start[1]) * 100) }, done);
  }
  if (tool === 'neutral' && pick.neutral) {
    return (at, done) => {
      if (done) neutral(at);
    };
  }
  return null;
}
