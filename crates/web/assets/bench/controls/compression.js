// The file as it will be, at 100 %, beside the same without compression; both move together.

import { ask, fileSize, say } from '../../app/api.js';
import { dialogAt } from '../../app/dialogs.js';
import { phrase } from '../../app/words.js';

/** A part with what is told before it. */
async function part(body) {
  const buffer = await (await ask('POST', '/api/delivered', body)).arrayBuffer();
  const length = new DataView(buffer).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, length)));
  const address = URL.createObjectURL(new Blob([new Uint8Array(buffer, 4 + length)], { type: head.kind }));
  return { head, address };
}

/** Opens the view of one delivery of a recipe on a frame. */
export async function delivered(recipe, frame, at, goes) {
  if (!frame) {
    say(phrase('bench-there-is-no-sample-to-look'));
    return;
  }
  let dialog;
  try {
    dialog = await dialogAt(`/bench/dialogs/delivered?${new URLSearchParams({ widths: goes.widths ?? '' })}`);
  } catch (e) {
    say(e.message);
    return;
  }
  let middle = [0.5, 0.5];
  let zoom = 1;
  let whole = null;
  const sides = [...dialog.querySelectorAll('figure')].map((box) => ({ box, picture: box.querySelector('img') }));
  const told = dialog.querySelector('[role=status]');
  const zooms = [...dialog.querySelectorAll('[data-zoom]')];
  const which = dialog.querySelector('select');
  which?.addEventListener('change', () => look());
  for (const button of zooms) button.onclick = () => enlarge(Number(button.dataset.zoom));

  function enlarge(times) {
    zoom = times;
    fit();
  }

  function fit() {
    zooms.forEach((b, i) => {
      b.classList.toggle('active', i + 1 === zoom);
      b.setAttribute('aria-pressed', String(i + 1 === zoom));
    });
    for (const { picture } of sides) {
      picture.style.width = picture.naturalWidth ? `${(picture.naturalWidth * zoom) / devicePixelRatio}px` : '';
      picture.style.imageRendering = zoom > 1 ? 'pixelated' : '';
    }
  }

  let round = 0;
  async function look() {
    const mine = ++round;
    const room = sides[0].box.querySelector('.delivered-part').getBoundingClientRect();
    const pixels = [room.width, room.height].map((s) => Math.max(64, Math.min(2400, Math.round(s * devicePixelRatio))));
    const body = { recipe, frame, at, width: Number(which?.value ?? 0), middle, size: pixels };
    try {
      const found = await Promise.all([part({ ...body, plain: true }), part(body)]);
      if (mine !== round) return;
      found.forEach(({ address }, k) => {
        const { picture } = sides[k];
        const old = picture.src;
        picture.onload = fit;
        picture.src = address;
        if (old) URL.revokeObjectURL(old);
      });
      const { head } = found[1];
      whole = head.size;
      const quality = head.quality ? phrase('bench-quality-for-the-size-that-may', { quality: head.quality }) : '';
      told.textContent = phrase('bench-pixels-about-drag-to-move-both', {
        size: head.size[0],
        size2: head.size[1],
        size3: fileSize(head.bytes),
        quality,
      });
    } catch (e) {
      if (mine === round) told.textContent = e.message;
    }
  }

  for (const { box } of sides) {
    box.addEventListener('pointerdown', (down) => {
      if (down.button || !whole) return;
      down.preventDefault();
      const start = [...middle];
      const move = (e) => {
        const by = [down.clientX - e.clientX, down.clientY - e.clientY].map((d) => (d * devicePixelRatio) / zoom);
        middle = start.map((m, k) => Math.max(0, Math.min(1, m + by[k] / whole[k])));
        sides.forEach(({ picture }) => {
          picture.style.transform = `translate(${e.clientX - down.clientX}px, ${e.clientY - down.clientY}px)`;
        });
      };
      const up = () => {
        window.removeEventListener('pointermove', move);
        look().then(() =>
          sides.forEach(({ picture }) => {
            picture.style.transform = '';
          }),
        );
      };
      window.addEventListener('pointermove', move);
      window.addEventListener('pointerup', up, { once: true });
    });
  }
  dialog.addEventListener('keydown', (e) => {
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key];
    if (by && whole) {
      e.preventDefault();
      middle = middle.map((m, k) => Math.max(0, Math.min(1, m + (by[k] * 300) / whole[k])));
      look();
    }
    if (['1', '2', '3'].includes(e.key)) enlarge(Number(e.key));
  });
  look();
}
