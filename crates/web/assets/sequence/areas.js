// Areas of the picture that are measured by themselves: drawn on it, named, moved, made larger or smaller, taken away again.

import { el, svg } from '../app/api.js';
import {
  COLOURS,
  between,
  called,
  corners,
  isLargeEnough,
  moved,
  outline,
  round,
  share,
  sized,
} from './area-shapes.js';
import { phrase } from '../app/words.js';

const MOST = COLOURS.length;
const BRUSH = 6;

/** The tools for areas: `image` is what they are drawn on, `bar` where their buttons stand, `put` is told the areas and which one went. */
export function areaTools({ image, over, bar, put: told }) {
  let areas = [];
  let tool = null;
  let drawn = null;
  /** What is moved by hand: which area, by what, from where, and as it was. */
  let grip = null;
  /** What was changed by keys, and is told when they rest. */
  let resting = 0;
  /** Tells the areas as they are now; nothing that keys changed before is told again. */
  const put = (next, gone) => {
    clearTimeout(resting);
    resting = 0;
    told(next, gone);
  };

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
          class: 'is-grip',
          'data-area': i,
          x: lx * w + 3,
          y: ly * h + 15,
          fill: '#fff',
          stroke: '#000',
          'stroke-width': 3,
          'paint-order': 'stroke',
          'font-size': 15,
          'font-weight': 700,
        });
        name.textContent = called(area, i);
        shapes.forEach((shape) => {
          shape.classList.add('is-grip');
          shape.dataset.area = i;
        });
        const grips = (tool ? [] : corners(area)).map(([x, y], corner) =>
          svg('rect', {
            class: 'is-grip is-corner',
            'data-area': i,
            'data-corner': corner,
            x: x * w - 5,
            y: y * h - 5,
            width: 10,
            height: 10,
            fill: COLOURS[i],
          }),
        );
        return [...shapes, ...grips, name];
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
    const known = areas.map((area, i) => {
      const name = called(area, i);
      const field = el('input', {
        class: 'area-name',
        style: `color:${COLOURS[i]}`,
        value: name,
        size: Math.max(2, name.length),
        maxlength: 40,
        title: phrase('sequence-what-it-is-called'),
        'aria-label': phrase('sequence-name-of-area', { name }),
        onchange: () => {
          const given = field.value.trim();
          const { name: _, ...rest } = area;
          put(areas.with(i, given && given !== called(rest, i) ? { ...rest, name: given } : rest), null);
        },
      });
      const act = (label, title, more) =>
        el(
          'button',
          { type: 'button', class: 'legend', style: `color:${COLOURS[i]}`, title, 'aria-label': title, ...more },
          label,
        );
      return el(
        'span',
        { class: 'area' },
        field,
        act('✥', phrase('sequence-move-with-the-arrow-keys-with', { name }), {
          'data-move': i,
          onkeydown: (e) => byKey(e, i),
        }),
        act('×', phrase('sequence-measure-no-longer', { name }), {
          onclick: () =>
            put(
              areas.filter((a, k) => k !== i),
              i,
            ),
        }),
      );
    });
    bar.replaceChildren(
      el('span', {}, phrase('sequence-measure-also')),
      el(
        'span',
        {
          class: 'btn-group btn-group-sm',
          role: 'group',
          'aria-label': phrase('sequence-draw-an-area-on-the-picture'),
        },
        kind('rectangle', phrase('sequence-a-rectangle'), phrase('sequence-draw-it-on-the-picture')),
        kind('ellipse', phrase('sequence-an-ellipse'), phrase('sequence-draw-it-on-the-picture')),
        kind('strokes', phrase('sequence-a-brushed-part'), phrase('sequence-paint-it-on-the-picture')),
      ),
      ...known,
    );
  }

  const BY_KEY = { ArrowLeft: [-0.01, 0], ArrowRight: [0.01, 0], ArrowUp: [0, -0.01], ArrowDown: [0, 0.01] };
  function byKey(e, i) {
    const by = BY_KEY[e.key];
    if (!by) return;
    e.preventDefault();
    e.stopPropagation();
    const area = areas[i];
    const last = corners(area)[2];
    const next = e.shiftKey && last ? sized(area, 2, [last[0] + by[0], last[1] + by[1]]) : moved(area, by);
    areas = areas.with(i, next);
    draw();
    clearTimeout(resting);
    resting = setTimeout(() => put(areas, null), 500);
  }

  const at = (e) => {
    const r = over.getBoundingClientRect();
    return [(e.clientX - r.left) / r.width, (e.clientY - r.top) / r.height];
  };
  let from = null;
  over.addEventListener('pointerdown', (e) => {
    const { area, corner } = e.target.dataset;
    if (!tool && area == null) return;
    e.preventDefault();
    over.setPointerCapture(e.pointerId);
    if (!tool) {
      grip = { area: Number(area), corner, from: at(e), was: areas[area] };
      return;
    }
    from = at(e);
    drawn = tool === 'strokes' ? { strokes: [{ points: [from.map(round)], width: BRUSH }] } : null;
    draw();
  });
  over.addEventListener('pointermove', (e) => {
    if (grip) {
      const [x, y] = at(e);
      const { area, corner, was } = grip;
      const next =
        corner == null ? moved(was, [x - grip.from[0], y - grip.from[1]]) : sized(was, Number(corner), [x, y]);
      areas = areas.with(area, next);
      draw();
      return;
    }
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
    if (grip) {
      const { area, was } = grip;
      grip = null;
      if (!kept) areas = areas.with(area, was);
      else if (areas[area] !== was) put(areas, null);
      draw();
      return;
    }
    if (!from) return;
    const made = drawn;
    from = null;
    drawn = null;
    if (kept && made && isLargeEnough(made)) {
      tool = null;
      put([...areas, made], null);
    }
    buttons();
    draw();
  };
  over.addEventListener('pointerup', () => drop(true));
  over.addEventListener('pointercancel', () => drop(false));
  document.addEventListener('keydown', (e) => {
    if (e.key === 'Escape' && (tool || grip)) {
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
      // What is under way goes before what comes back of an earlier change.
      if (!resting && !grip) areas = next;
      const moving = bar.contains(document.activeElement) && document.activeElement.dataset.move;
      buttons();
      if (moving) bar.querySelector(`[data-move="${moving}"]`)?.focus();
      draw();
    },
  };
}
