// The hand on the picture: a step's tool, a shape of an area, a neutral spot, the light of a camera raw.

import { el, json, say } from '../app/api.js';
import { pixels } from '../app/request-slots.js';
import { drawShape } from './controls/areas.js';
import { Hand } from '../viewer/hand.js';
import { grab } from './tools/overlay.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** Gives the bench `hand`, `useTool`, `drawing` and `askLight`. */
export function atHand(bench) {
  /** Takes up a step's tool, or puts it away; the keys stay where they are where that is asked for. */
  bench.useTool = function useTool(tool, on, stay = false) {
    bench.pick.light = null;
    bench.pick.tool = on && tool?.kind !== 'neutral';
    bench.pick.neutral = on && tool?.kind === 'neutral';
    bench.pick.line = null;
    bench.pick.shape = null;
    const hint = $('hint');
    hint.hidden = !on;
    if (on && !stay) bench.stage.focus({ preventScroll: true });
    hint.textContent = (on && tool?.hint) || '';
    hint.append(el('small', {}, phrase('bench-by-keys-arrows-enter-to-take')));
    bench.toolSize = bench.told?.lines[bench.open]?.size ?? null;
    bench.draw();
    bench.viewer.refresh();
  };

  /** Draws a shape of the open line's area, or no more. */
  bench.drawing = function drawing(shape) {
    bench.pick.tool = bench.pick.neutral = false;
    bench.pick.shape = shape;
    $('hint').hidden = shape == null;
    $('hint').textContent =
      {
        gradient: phrase('bench-drag-from-where-it-is-full'),
        ellipse: phrase('bench-drag-from-the-middle-outwards'),
        strokes: phrase('bench-paint-with-shift-it-takes-away'),
      }[[bench.doc.steps[bench.open]?.area].flat()[shape]?.kind] ?? '';
    if (shape != null) bench.stage.focus({ preventScroll: true });
    bench.draw();
    bench.over();
  };
  // The picture under the hand.
  bench.hand = new Hand(bench.stage, bench.viewer, {
    grab(at, away) {
      const i = bench.open;
      const step = bench.doc.steps[i];
      if (bench.pick.light)
        return (place, done) => {
          if (done) takeLight(place);
        };
      if (bench.pick.shape != null) {
        const all = [step.area].flat();
        const set = (shape, done) => {
          all[bench.pick.shape] = shape;
          bench.around(i, 'area', all, done);
        };
        return drawShape(all[bench.pick.shape], at, away, set, bench.viewer.size());
      }
      return (
        bench.hand.tooling() &&
        grab(
          bench.viewer,
          step,
          bench.kind(step)?.tool?.kind,
          at,
          (v, d) => {
            bench.change(i, v, d);
          },
          bench.pick,
          bench.neutral,
          bench.facts,
          away,
        )
      );
    },
    tooling: () =>
      Boolean(
        bench.pick.light || bench.pick.tool || bench.pick.neutral || bench.pick.shape != null || bench.alwaysAtHand(),
      ),
    over: () => bench.over(),
    settle: () => bench.changed(true),
  });
  bench.neutral = async function neutral(at) {
    try {
      const values = await pixels.run(() =>
        json('POST', '/api/neutral', { recipe: bench.doc, frame: bench.frame, upto: bench.open, at }),
      );
      bench.pick.neutral = false;
      $('hint').hidden = true;
      bench.change(bench.open, values, true);
    } catch (e) {
      say(e.message);
    }
  };
  /** The light of a camera raw: as its camera was set, or after the next click on something grey. */
  bench.askLight = function askLight(byClick, put) {
    if (!byClick) return lightAt(undefined, put);
    bench.useTool(null, false);
    bench.pick.light = put;
    $('hint').hidden = false;
    $('hint').textContent = phrase('bench-click-on-something-that-should-be');
    bench.toolSize = bench.source;
    bench.viewer.refresh();
  };
  async function takeLight(at) {
    const put = bench.pick.light;
    bench.pick.light = null;
    $('hint').hidden = true;
    await lightAt(at, put);
    bench.viewer.refresh();
  }
  async function lightAt(at, put) {
    try {
      put(await pixels.run(() => json('POST', '/api/raw-light', { recipe: bench.doc, frame: bench.frame, at })));
    } catch (e) {
      say(e.message);
    }
  }
}
