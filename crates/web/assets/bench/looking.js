// Looking at the picture: zoom, before and after, the line between them, the loupe, numbers under the pointer.

import { ask, json, say } from '../app/api.js';
import { pixels } from '../app/request-slots.js';
import { nextWay, splitHandle } from '../viewer/split-handle.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** Gives the bench `zoomTo`, `compare`, `closer` and what keys do with the picture. */
export function looking(bench) {
  // Too small to judge noise and sharpness by: said, with a way to where they show.
  bench.closer = function closer() {
    const small = bench.viewer.place().zoom * devicePixelRatio < 0.999;
    const fine = bench.doc.steps.some((s) => bench.kind(s)?.judged_at_full_size && s.on !== false);
    const box = $('closer');
    box.hidden = !small || !fine || !$('hint').hidden;
    const standIn = bench.viewer.pictures.after?.head?.stand_in;
    $('closer-word').textContent = standIn
      ? phrase('bench-a-stand-in-noise-averages-out')
      : phrase('bench-at-this-size-noise-and-sharpness');
  };
  const places = new Map();
  async function goClose(which) {
    try {
      const key = JSON.stringify([bench.doc.steps.map((s) => [s.step, s.degrees, s.pixels, s.size]), bench.frame]);
      if (!places.has(key))
        places.set(key, await pixels.run(() => json('POST', '/api/places', { recipe: bench.doc, frame: bench.frame })));
      bench.zoomTo(1, places.get(key)[which]);
    } catch (e) {
      say(e.message);
    }
  }
  $('to-noise').onclick = () => goClose('noisiest');
  $('to-sharp').onclick = () => goClose('sharpest');

  // The loupe: what is under the pointer at 100 %, while the whole is at fit.
  const loupe = $('loupe');
  let loupeBusy = false;
  let loupeAt = null;
  async function drawLoupe() {
    if (loupeBusy || loupe.hidden || !loupeAt) return;
    loupeBusy = true;
    const at = loupeAt;
    try {
      const size = bench.viewer.size();
      const side = Math.round(220 * devicePixelRatio);
      const corner = at.map((v, i) => Math.round(Math.max(0, Math.min(size[i] - side, v * size[i] - side / 2))));
      const asked = {
        recipe: bench.doc,
        frame: bench.frame,
        upto: bench.upto(),
        region: [...corner, side, side],
        scale: 1,
      };
      const blob = await pixels.run(async () => (await ask('POST', '/api/render', asked)).blob());
      const image = await createImageBitmap(blob);
      [loupe.width, loupe.height] = [side, side];
      loupe.getContext('2d').drawImage(image, 0, 0);
      loupe.dataset.shown = String(Number(loupe.dataset.shown ?? 0) + 1);
    } catch {
      /* the next move asks again */
    }
    loupeBusy = false;
    if (loupeAt !== at) drawLoupe();
  }
  function useLoupe(on) {
    loupe.hidden = !on;
    $('loupe-button').setAttribute('aria-pressed', String(on));
    if (on) {
      loupeAt ??= [0.5, 0.5];
      loupe.style.left = '24px';
      loupe.style.top = '24px';
      drawLoupe();
    }
  }
  $('loupe-button').onclick = () => useLoupe(loupe.hidden);

  // Numbers under the pointer, in the colour space of the files.
  let valueBusy = false;
  let valueAt = null;
  async function showValue() {
    if (valueBusy || !valueAt) return;
    valueBusy = true;
    const at = valueAt;
    try {
      const p = bench.viewer.place();
      const asked = {
        recipe: bench.doc,
        frame: bench.frame,
        upto: bench.upto(),
        at,
        scale: Math.min(1, p.zoom * devicePixelRatio),
      };
      const answer = await pixels.run(() => json('POST', '/api/value', asked));
      $('value').textContent =
        `${answer.values.map((v) => Math.round(v)).join(' · ')} ${answer.space.replace(/ IEC.*$/, '')}`;
    } catch {
      /* the next move asks again */
    }
    valueBusy = false;
    if (valueAt && valueAt !== at) showValue();
  }
  bench.stage.addEventListener('pointermove', (e) => {
    const box = bench.stage.getBoundingClientRect();
    const at = bench.viewer.share(e.clientX - box.left, e.clientY - box.top);
    const inside = at.every((v) => v >= 0 && v < 1);
    valueAt = inside && !e.buttons ? at : null;
    if (!inside) $('value').textContent = '';
    showValue();
    if (!loupe.hidden && inside) {
      loupeAt = at;
      loupe.style.left = `${Math.min(box.width - 230, e.clientX - box.left + 16)}px`;
      loupe.style.top = `${Math.max(4, Math.min(box.height - 230, e.clientY - box.top + 16))}px`;
      drawLoupe();
    }
  });
  bench.stage.addEventListener('dblclick', (e) => {
    const box = bench.stage.getBoundingClientRect();
    bench.zoomTo(
      bench.viewer.zoom === 'fit' ? 1 : 'fit',
      bench.viewer.share(e.clientX - box.left, e.clientY - box.top),
    );
  });
  const split = $('split');
  const setSplit = splitHandle(split, bench.stage, bench.viewer);

  bench.zoomTo = function zoomTo(zoom, centre) {
    bench.viewer.setZoom(zoom, centre);
    document
      .querySelectorAll('#zoom button')
      .forEach((b) => b.classList.toggle('is-on', b.dataset.zoom === String(zoom)));
    bench.over();
  };
  bench.compare = function compare(how) {
    bench.viewer.compare = how;
    document.querySelectorAll('#compare button').forEach((b) => b.classList.toggle('is-on', b.dataset.compare === how));
    bench.viewer.refresh();
    bench.over();
  };
  document.querySelectorAll('#zoom button').forEach((b) => {
    b.onclick = () => bench.zoomTo(b.dataset.zoom === 'fit' ? 'fit' : Number(b.dataset.zoom));
  });
  document.querySelectorAll('#compare button').forEach((b) => {
    b.onclick = () => bench.compare(b.dataset.compare);
  });

  function pinClipped(on) {
    bench.clipPinned = bench.clipping = on;
    $('clip-button').setAttribute('aria-pressed', String(on));
    bench.viewer.refresh();
  }
  $('clip-button').onclick = () => pinClipped(!bench.clipPinned);

  /** While a key is held, what it would be without: all lines (B), or the open one (N). */
  let heldFor = null;
  function hold(what) {
    if (bench.viewer.holding || (what === 'without' && bench.open < 0)) return;
    heldFor = $('against').value;
    if (what) $('against').value = what;
    bench.viewer.holding = true;
    bench.viewer.refresh();
  }
  function letGo() {
    if (!bench.viewer.holding) return;
    $('against').value = heldFor;
    bench.viewer.holding = false;
    bench.viewer.refresh();
  }
  /** What keys do with the picture. */
  bench.look = {
    hold,
    letGo,
    nextWay: () => bench.compare(nextWay(bench.viewer.compare)),
    pinClipped: () => pinClipped(!bench.clipPinned),
    loupe: () => useLoupe(loupe.hidden),
    isOnSplit: (element) => element === split,
    moveSplit: (by) => setSplit(bench.viewer.split + by),
    showSplit: (on) => {
      split.hidden = !on;
    },
  };
}
