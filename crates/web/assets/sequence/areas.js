// Areas of the picture that are measured by themselves: drawn on it with the mouse, named by letters, taken away again.

import { el, svg } from '../app/api.js';

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
const MOST = COLOURS.length;
const SMALLEST = 0.02;
const BRUSH = 6;

/** What an area is called. */
export const letter = (i) => String.fromCharCode(65 + i);

const round = (v) => Math.round(v * 1000) / 1000;
const share = (v) => Math.min(1, Math.max(0, v));

/** Left, top, width and height between two places, inside the picture. */
function between(a, b) {
  const [left, top] = [share(Math.min(a[0], b[0])), share(Math.min(a[1], b[1]))];
  const [right, bottom] = [share(Math.max(a[0], b[0])), share(Math.max(a[1], b[1]))];
  return [
    round(left),
    round(top),
    round(Math.max(0, Math.min(1 - round(left), right - left))),
    round(Math.max(0, Math.min(1 - round(top), bottom - top))),
  ];
}

/** The outline of an area on a picture of so many pixels, and where its letter stands. */
function outline(area, i, [w, h]) {
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

/** The tools for areas: `image` is what they are drawn on, `bar` where their buttons stand, `put` is told the areas and which one went. */
export function areaTools({ image, over, bar, put }) {
  let areas = [];
  let tool = null;
  let drawn = null;

  function box() {
    // The picture is fitted into its element.
    const { width, height } = image.getBoundingClientRect();
    const [w, h] = [image.naturalWidth || 1, image.naturalHeight || 1];
    const scale = Math.min(width / w, height / h);
    return [
      image.offsetLeft + (width - w * scale) / 2,
      image.offsetTop + (height - h * scale) / 2,
      w * scale,
      h * scale,
    ];
  }

  function draw() {
    const [x, y, w, h] = box();
    Object.assign(over.style, { left: `${x}px`, top: `${y}px`, width: `${w}px`, height: `${h}px` });
    over.setAttribute('viewBox', `0 0 ${w} ${h}`);
    over.replaceChildren(
      ...[...areas, ...(drawn ? [drawn] : [])].flatMap((area, i) => {
        const [shapes, [lx, ly]] = outline(area, i, [w, h]);
        const name = svg('text', {
          x: lx * w + 3,
          y: ly * h + 15,
          fill: '#fff',
          stroke: '#000',
          'stroke-width': 3,
          'paint-order': 'stroke',
          'font-size': 15,
          'font-weight': 700,
        });
        name.textContent = letter(i);
        return [...shapes, name];
      }),
    );
    over.classList.toggle('is-drawing', Boolean(tool));
  }

  function buttons() {
    const kind = (name, label, title) =>
      el(
        'button',
        {
          type: 'button',
          class: `btn btn-sm btn-outline-light ${tool === name ? 'is-on' : ''}`,
          'data-area-tool': name,
          'aria-pressed': String(tool === name),
          title,
          disabled: areas.length >= MOST || undefined,
          onclick: () => {
            tool = tool === name ? null : name;
            buttons();
            draw();
          },
        },
        label,
      );
    const known = areas.map((_, i) =>
      el(
        'button',
        {
          type: 'button',
          class: 'legend',
          style: `color:${COLOURS[i]}`,
          title: `Measure ${letter(i)} no longer`,
          'aria-label': `Measure ${letter(i)} no longer`,
          onclick: () =>
            put(
              areas.filter((a, k) => k !== i),
              i,
            ),
        },
        `${letter(i)} ×`,
      ),
    );
    bar.replaceChildren(
      el('span', {}, 'measure also'),
      el(
        'span',
        { class: 'btn-group btn-group-sm', role: 'group', 'aria-label': 'Draw an area on the picture' },
        kind('rectangle', 'a rectangle', 'Draw it on the picture'),
        kind('ellipse', 'an ellipse', 'Draw it on the picture'),
        kind('strokes', 'a brushed part', 'Paint it on the picture'),
      ),
      ...known,
    );
  }

  const at = (e) => {
    const r = over.getBoundingClientRect();
    return [(e.clientX - r.left) / r.width, (e.clientY - r.top) / r.height];
  };
  let from = null;
  over.addEventListener('pointerdown', (e) => {
    if (!tool) return;
    e.preventDefault();
    over.setPointerCapture(e.pointerId);
    from = at(e);
    drawn = tool === 'strokes' ? { strokes: [{ points: [from.map(round)], width: BRUSH }] } : null;
    draw();
  });
  over.addEventListener('pointermove', (e) => {
    if (!from) return;
    const here = at(e);
    if (drawn?.strokes) {
      const { points } = drawn.strokes[0];
      const last = points.at(-1);
      if (points.length < 2000 && Math.hypot(here[0] - last[0], here[1] - last[1]) > 0.01)
        points.push(here.map((v) => round(share(v))));
    } else drawn = { [tool]: between(from, here) };
    draw();
  });
  const drop = (kept) => {
    if (!from) return;
    const made = drawn;
    from = null;
    drawn = null;
    const part = made?.rectangle ?? made?.ellipse;
    if (kept && made && (made.strokes || (part[2] >= SMALLEST && part[3] >= SMALLEST))) {
      tool = null;
      put([...areas, made], null);
    }
    buttons();
    draw();
  };
  over.addEventListener('pointerup', () => drop(true));
  over.addEventListener('pointercancel', () => drop(false));
  document.addEventListener('keydown', (e) => {
    if (e.key === 'Escape' && tool) {
      tool = null;
      drop(false);
      buttons();
      draw();
    }
  });
  image.addEventListener('load', draw);
  new ResizeObserver(draw).observe(image);
  return {
    show(next) {
      areas = next;
      buttons();
      draw();
    },
  };
}

/** Passes after an area went: those that went by it hold the whole, those by later ones go on with theirs. */
export function without(passes, gone) {
  return passes.map((pass) => {
    if (pass.area == null || pass.area < gone) return pass;
    const { area, ...rest } = pass;
    return area === gone ? rest : { ...rest, area: area - 1 };
  });
}
