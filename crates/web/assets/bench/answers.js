// What the server says of the recipe on this sample: sentences, sizes, what was measured, what a picture costs.

import { fileSize, json, say } from '../app/api.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** What came is of another recipe or sample than lies on the bench now. */
class Stale extends Error {}

/** Gives the bench `tell`, `costs` and `data`. */
export function answers(bench) {
  let asking = false;
  let askAgain = false;
  bench.tell = async function tell(all) {
    if (!bench.frame) return bench.draw();
    if (asking) {
      askAgain = askAgain || all || 'words';
      return;
    }
    asking = true;
    const { turn } = bench;
    try {
      const before = bench.told;
      // Lines may come and go while the answer is on its way.
      const steps = bench.doc.steps.map((s) => s.step);
      const plan = await json('POST', '/api/plan', { recipe: bench.doc, frame: bench.frame, quick: true });
      if (turn !== bench.turn) throw new Stale();
      bench.told = { ...plan, steps };
      // What was measured stands until it is measured again.
      bench.told.lines.forEach((l, i) => {
        if (before?.steps[i] === bench.told.steps[i])
          Object.assign(l, {
            found: before.lines[i].found,
            measured: before.lines[i].measured,
            ordinary: before.lines[i].ordinary,
          });
      });
      bench.source = bench.told.source;
      bench.toolSize = bench.told.lines[bench.open]?.size ?? null;
      if (all) bench.draw();
      else {
        bench.words();
        bench.lineZero?.draw();
        bench.advise();
        if (JSON.stringify(before?.goes) !== JSON.stringify(bench.told.goes)) bench.drawDeliveries?.();
      }
      bench.viewer.draw();
      bench.over();
      bench.data();
      bench.costs();
      measure();
    } catch (e) {
      if (e instanceof Stale) askAgain = true;
      else {
        say(e.message);
        if (all) bench.draw();
      }
    }
    asking = false;
    if (askAgain) {
      const next = askAgain === true;
      askAgain = false;
      bench.tell(next);
      bench.viewer.refresh();
    }
  };

  // What steps measure in the sample: told when the hand rests, since it may take a while.
  let measuring = null;
  function measure() {
    clearTimeout(measuring);
    const of = bench.store.text();
    const { turn } = bench;
    measuring = setTimeout(async () => {
      try {
        const full = await json('POST', '/api/plan', { recipe: JSON.parse(of), frame: bench.frame });
        if (bench.store.text() !== of || turn !== bench.turn) return;
        const found = (t) => JSON.stringify(t.lines.map((l) => [l.found, l.measured]));
        const isNew = found(bench.told) !== found(full);
        bench.told = { ...full, steps: bench.told.steps };
        if (isNew && !document.activeElement?.closest?.('#lines .is-open input, #lines .is-open select')) bench.draw();
      } catch {
        /* the picture says what is wrong */
      }
    }, 250);
  }

  // What one picture takes and how large its file is: at once from the machine's table, and measured when the hand rests.
  bench.cost = null;
  let costing = null;
  let costOf = '';
  let costStop = null;
  async function askCost(of, measured) {
    const found = await json(
      'POST',
      '/api/cost',
      { recipe: JSON.parse(of), frame: bench.frame, measure: measured },
      { signal: costStop.signal },
    );
    if (bench.store.text() !== of) return false;
    bench.cost = found;
    bench.data();
    // Only these words: somebody may be typing beside them.
    document.querySelectorAll('#goes .goes-cost').forEach((box, i) => {
      box.textContent = bench.cost.deliveries[i] ?? '';
      box.hidden = !box.textContent;
    });
    return true;
  }
  bench.costs = function costs() {
    const of = bench.store.text();
    if (costOf === of || bench.preview.isOpen) return;
    costOf = of;
    clearTimeout(costing);
    costStop?.abort();
    costStop = new AbortController();
    costing = setTimeout(async () => {
      try {
        if (await askCost(of, false))
          costing = setTimeout(
            () =>
              askCost(of, true).catch(() => {
                /* the first figure stays */
              }),
            2500,
          );
      } catch {
        /* the run sheet says what is wrong */
      }
    }, 150);
  };
  /** Nothing is measured while the machine has other things to do. */
  bench.stopCosts = () => {
    clearTimeout(costing);
    costStop?.abort();
    costOf = '';
  };
  const SURE = {
    rough: phrase('any-a-first-guess'),
    estimated: phrase('bench-estimated'),
    learned: phrase('bench-as-in-earlier-runs'),
    measured: phrase('bench-measured-word'),
  };

  bench.data = function data() {
    const f = bench.facts;
    const shutter = f.shutter && (f.shutter < 0.4 ? `1/${Math.round(1 / f.shutter)} s` : `${f.shutter} s`);
    const first = [f.iso && phrase('any-iso', { iso: f.iso }), shutter, f.aperture && `f/${f.aperture}`]
      .filter(Boolean)
      .join(', ');
    const { cost, source, told } = bench;
    const lines = [
      first,
      phrase('bench-mp-to', {
        source: ((source[0] * source[1]) / 1e6).toFixed(1),
        size: told.size[0],
        size2: told.size[1],
      }),
    ];
    if (cost) {
      const seconds = cost.seconds < 10 ? cost.seconds.toFixed(1) : Math.round(cost.seconds);
      lines.push(
        phrase('bench-a-picture-s', { seconds, bytes: cost.bytes == null ? '' : `, ${fileSize(cost.bytes)}` }),
        `(${SURE[cost.sure]})`,
      );
    }
    $('data').textContent = lines.join('\n');
  };
}
