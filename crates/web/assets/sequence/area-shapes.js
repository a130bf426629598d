// Shapes of areas of the picture that are measured by themselves.

import { svg } from '../app/api.js';

export const COLOURS = [
  '#7fb2ef',
  '#e59ac4',
  '#e8c36a',
  '#9bd06f',
  '#b49cf0',
  '#ef9a6b',
  '#6fd3d6',
  '#d7d7d7',
  '#c98d8d',
  '#8dc9a6',
  '#a8a8e8',
  '#c9c98d',
];
const SMALLEST = 0.02;

/** What the i-th area is called. */
export const called = (area, i) => area.name || String.fromCharCode(65 + i);

export const round = (v) => Math.round(v * 1000) / 1000;
export const share = (v) => Math.min(1, Math.max(0, v));

/** Left, top, width and height between two places, inside the picture. */
export function between(a, b) {
  const [left, top] = [share(Math.min(a[0], b[0])), share(Math.min(a[1], b[1]))];
  const [right, bottom] = [share(Math.max(a[0], b[0])), share(Math.max(a[1], b[1]))];
  return [
    round(left),
    round(top),
    round(Math.max(0, Math.min(1 - round(left), right - left))),
    round(Math.max(0, Math.min(1 - round(top), bottom - top))),
  ];
}

/** The outline of an area on a picture of so many pixels, and where its name stands. */
export function outline(area, i, [w, h]) {
  const look = { fill: 'none', stroke: COLOURS[i], 'stroke-width': 2 };
  if (area.strokes) {
    const [x, y] = area.strokes[0].points[0];
    return [
      area.strokes.map((s) =>
        svg('polyline', {
          points: s.points.map((p) => `${p[0] * w},${p[1] * h}`).join(' '),
          fill: 'none',
          stroke: COLOURS[i],
          'stroke-opacity': 0.5,
          'stroke-linecap': 'round',
          'stroke-linejoin': 'round',
          'stroke-width': (s.width / 100) * Math.max(w, h),
        }),
      ),
      [x, y],
    ];
  }
  const [x, y, across, down] = area.rectangle ?? area.ellipse;
  const shape = area.rectangle
    ? svg('rect', { x: x * w, y: y * h, width: across * w, height: down * h, 'stroke-dasharray': '6 4', ...look })
    : svg('ellipse', {
        cx: (x + across / 2) * w,
        cy: (y + down / 2) * h,
        rx: (across / 2) * w,
        ry: (down / 2) * h,
        'stroke-dasharray': '6 4',
        ...look,
      });
  return [[shape], [x + 0.01, y + 0.01]];
}

/** Whether it is large enough to be measured. */
export function isLargeEnough(area) {
  const part = area.rectangle ?? area.ellipse;
  return Boolean(area.strokes) || (part[2] >= SMALLEST && part[3] >= SMALLEST);
}

/** The corners of what is no brushed part, from the top left around. */
export function corners(area) {
  const part = area.rectangle ?? area.ellipse;
  if (!part) return [];
  const [x, y, w, h] = part;
  return [
    [x, y],
    [x + w, y],
    [x + w, y + h],
    [x, y + h],
  ];
}

const changed = (area, part) =>
  area.rectangle ? { ...area, rectangle: part.map(round) } : { ...area, ellipse: part.map(round) };

/** The area moved to the right and down, as far as the picture goes. */
export function moved(area, [dx, dy]) {
  if (area.strokes) {
    const points = area.strokes.flatMap((s) => s.points);
    const held = (d, axis) =>
      Math.min(1 - Math.max(...points.map((p) => p[axis])), Math.max(-Math.min(...points.map((p) => p[axis])), d));
    const [right, down] = [held(dx, 0), held(dy, 1)];
    const strokes = area.strokes.map((s) => ({
      ...s,
      points: s.points.map(([x, y]) => [round(x + right), round(y + down)]),
    }));
    return { ...area, strokes };
  }
  const [x, y, w, h] = area.rectangle ?? area.ellipse;
  return changed(area, [Math.min(1 - w, Math.max(0, x + dx)), Math.min(1 - h, Math.max(0, y + dy)), w, h]);
}

/** The area with one corner at another place; as it was where it would be too small. */
export function sized(area, corner, place) {
  const next = changed(area, between(corners(area)[(corner + 2) % 4], place));
  return isLargeEnough(next) ? next : area;
}

/** Passes after an area went: those that went by it hold the whole, those by later ones go on with theirs. */
export function without(passes, gone) {
  return passes.map((pass) => {
    if (pass.area == null || pass.area < gone) return pass;
    const { area, ...rest } = pass;
    return area === gone ? rest : { ...rest, area: area - 1 };
  });
}
