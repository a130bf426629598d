// Values of the recipe that change over the sequence: their marks set and dragged on the chart, the curve between them from the server.

import { el, json, say } from '../app/api.js';
import { markButtons } from './marks.js';
import { phrase } from '../app/words.js';

const COLOUR = '#e0c2ff';
const REACH = 9;

const tidy = (v) => Math.round(v * 1000) / 1000;

/** The chooser and buttons in `bar`; `drawn` is told to draw the chart again, `shown` tells which frame is seen and of how many. */
export function rampTools({ bar, drawn, shown }) {
  let told = null;
  let key = '';
  let dragged = -1;

  const nameOf = (v) => `${v.line}.${v.param}`;
  const value = () => told?.values.find((v) => nameOf(v) === key) ?? null;
  const marks = () => value()?.marks ?? [];

  async function load() {
    told = await json('GET', '/api/sequence/ramps');
    if (!value()) key = told.values.find((v) => v.marks.length) ? nameOf(told.values.find((v) => v.marks.length)) : '';
    buttons();
    drawn();
  }

  async function put(next) {
    const v = value();
    try {
      told = await json('POST', '/api/sequence/ramps', {
        line: v.line,
        param: v.param,
        marks: next.map((m) => [m.place, m.value]),
      });
    } catch (e) {
      say(e.message);
      await load();
    }
    buttons();
    drawn();
  }

  function buttons() {
    const v = value();
    const words = (o) =>
      `${o.line + 1}: ${o.title}, ${o.param.replaceAll('_', ' ')}${o.marks.length ? phrase('sequence-marks', { count: o.marks.length }) : ''}`;
    const choose = el(
      'select',
      {
        id: 'ramp',
        'aria-label': phrase('sequence-a-value-of-the-recipe-that'),
        disabled: !told?.values.length || undefined,
      },
      el(
        'option',
        { value: '' },
        told?.values.length ? phrase('sequence-no-value') : phrase('sequence-no-line-of-the-recipe-has'),
      ),
      ...(told?.values ?? []).map((o) =>
        el('option', { value: nameOf(o), selected: nameOf(o) === key || undefined }, words(o)),
      ),
    );
    choose.addEventListener('change', () => {
      key = choose.value;
      buttons();
      drawn();
    });
    const act = (label, title, run) =>
      el('button', { type: 'button', class: 'btn btn-sm btn-outline-light', title, onclick: run }, label);
    const acts = !v
      ? []
      : [
          act(phrase('sequence-propose-marks'), phrase('sequence-where-the-light-of-the-sequence'), () =>
            put(
              told.proposed.map((share) => ({
                place: tidy(share),
                value: v.curve[Math.round(share * (v.curve.length - 1))] ?? v.value,
              })),
            ),
          ),
          ...(v.param === 'stops' && told.jumps.length
            ? [
                act(
                  phrase('sequence-take-out-jumps-of-the-camera', { count: told.jumps.length }),
                  phrase('sequence-shutter-aperture-and-iso-were-changed'),
                  () => {
                    if (!told.compensation.length) {
                      say(phrase('sequence-the-camera-changed-its-setting-too'));
                      return;
                    }
                    put(told.compensation.map(([place, stops]) => ({ place, value: stops })));
                  },
                ),
              ]
            : []),
          ...(v.marks.length
            ? [act(phrase('sequence-hold-it'), phrase('sequence-the-same-value-for-every-frame'), () => put([]))]
            : []),
        ];
    // Who moves a mark by keys stays on it.
    const held = bar.contains(document.activeElement) ? document.activeElement.dataset.mark : undefined;
    const each = v ? markButtons({ v, frames: shown()[1], now: () => shown()[0], drawn, put }) : [];
    bar.replaceChildren(el('label', {}, phrase('sequence-changing-over-the-sequence'), choose), ...acts, ...each);
    if (held !== undefined) bar.querySelector(`[data-mark="${held}"]`)?.focus();
    document.body.dataset.marks = String(marks().length);
  }

  /** From where to where the value is drawn: over what its marks need, and a little more. */
  function range() {
    const v = value();
    const all = [v.value, ...v.curve, ...v.marks.map((m) => m.value)];
    const [low, high] = [Math.min(...all), Math.max(...all)];
    const more = Math.max((high - low) * 0.3, ((v.high ?? high) - (v.low ?? low) || 1) * 0.1);
    return [Math.max(v.low ?? -Infinity, low - more), Math.min(v.high ?? Infinity, high + more)];
  }

  const place = (canvas, view, m) => {
    const [low, high] = range();
    const at = Math.round(m.at * (view.places.length - 1));
    return [view.x.at(view.places[at]), (canvas.height - 12) * (1 - (m.value - low) / (high - low)) + 2];
  };

  return {
    load,
    isOn: () => Boolean(value()),
    /** The value's curve and marks on the chart. */
    draw(c, view, { width, height }) {
      const v = value();
      // Where a camera meters every frame by itself, ticks would say nothing.
      const jumps = told?.jumps ?? [];
      for (const [frame] of jumps.length < width / 4 ? jumps : []) {
        c.fillStyle = '#ffb35c';
        c.fillRect(view.x.at(view.places[frame]) - 0.5, 0, 1, 5);
      }
      if (!v) return;
      const [low, high] = range();
      const y = (n) => (height - 12) * (1 - (n - low) / (high - low)) + 2;
      c.strokeStyle = COLOUR;
      c.lineWidth = 2;
      c.beginPath();
      const curve = v.curve.length ? v.curve : view.places.map(() => v.value);
      const step = Math.max(1, Math.floor(curve.length / (2 * width)));
      for (let i = 0; i < curve.length; i += step) c[i ? 'lineTo' : 'moveTo'](view.x.at(view.places[i]), y(curve[i]));
      c.stroke();
      c.font = '12px sans-serif';
      for (const m of v.marks) {
        if (m.at == null) continue;
        const [px, py] = place({ height }, view, m);
        c.fillStyle = COLOUR;
        c.beginPath();
        c.arc(px, py, 5, 0, 7);
        c.fill();
        c.fillText(String(tidy(m.value)), Math.min(width - 34, px + 7), Math.max(12, py - 6));
      }
    },
    /** Takes hold of a mark under a place, or sets a new one where `fresh`; true where it did. */
    grab([px, py], view, size, fresh) {
      const v = value();
      if (!v) return false;
      dragged = v.marks.findIndex(
        (m) => m.at != null && Math.hypot(place(size, view, m)[0] - px, place(size, view, m)[1] - py) < REACH,
      );
      if (dragged < 0 && fresh) {
        v.marks.push({ place: 0, at: 0, value: v.value });
        dragged = v.marks.length - 1;
        this.drag([px, py], view, size);
      }
      return dragged >= 0;
    },
    isHeld: () => dragged >= 0,
    /** Moves the mark that is held. */
    drag([px, py], view, size) {
      const [low, high] = range();
      const m = marks()[dragged];
      const wanted = view.x.place(px);
      let best = 0;
      view.places.forEach((p, i) => {
        if (Math.abs(p - wanted) < Math.abs(view.places[best] - wanted)) best = i;
      });
      m.at = best / Math.max(1, view.places.length - 1);
      m.place = Math.round(m.at * 1e6) / 1e6;
      m.value = tidy(Math.min(high, Math.max(low, low + (1 - (py - 2) / (size.height - 12)) * (high - low))));
      drawn();
    },
    /** Lets go; the curve comes back from the server. */
    drop() {
      if (dragged < 0) return;
      dragged = -1;
      put([...marks()].sort((a, b) => (a.at ?? 2) - (b.at ?? 2)));
    },
    /** Takes the mark under a place away. */
    remove(at, view, size) {
      if (!this.grab(at, view, size, false)) return false;
      const gone = dragged;
      dragged = -1;
      put(marks().filter((m, i) => i !== gone));
      return true;
    },
  };
}
