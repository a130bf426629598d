// The file as it will be, at 100 %, beside the same without compression; both move together.

import { ask, el, fileSize, say } from '../../app/api.js';
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
export function delivered(recipe, frame, at, goes) {
  if (!frame) {
    say(phrase('bench-there-is-no-sample-to-look'));
    return;
  }
  const widths = String(goes.widths ?? '')
    .split(/[ ,;]+/)
    .filter(Boolean);
  let width = Math.max(0, widths.length - 1);
  let middle = [0.5, 0.5];
  let zoom = 1;
  let whole = null;
  const dialog = el('dialog', { class: 'delivered', 'aria-label': phrase('bench-the-file-as-it-will-be') });
  const sides = [phrase('bench-without-compression'), phrase('bench-as-the-file-will-be')].map((name) => {
    const picture = el('img', { alt: name, draggable: 'false' });
    return {
      name,
      picture,
      box: el('figure', {}, el('div', { class: 'delivered-part' }, picture), el('figcaption', {}, name)),
    };
  });
  const told = el('p', { role: 'status' }, phrase('bench-making-it'));
  const which =
    widths.length > 1
      ? el(
          'select',
          { 'aria-label': phrase('bench-which-width') },
          ...widths.map((w, i) => el('option', { value: i, selected: i === width }, phrase('bench-px-wide', { w }))),
        )
      : '';
  if (which)
    which.onchange = () => {
      width = Number(which.value);
      look();
    };
  const zooms = [1, 2, 3].map((z) =>
    el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-outline-light',
        onclick: () => {
          zoom = z;
          fit();
        },
      },
      `${z * 100} %`,
    ),
  );

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
    const body = { recipe, frame, at, width, middle, size: pixels };
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
    e.stopPropagation();
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key];
    if (by && whole) {
      e.preventDefault();
      middle = middle.map((m, k) => Math.max(0, Math.min(1, m + (by[k] * 300) / whole[k])));
      look();
    }
    if (['1', '2', '3'].includes(e.key)) {
      zoom = Number(e.key);
      fit();
    }
  });
  dialog.append(
    el('div', { class: 'delivered-sides' }, ...sides.map((s) => s.box)),
    told,
    el(
      'div',
      { class: 'look-foot' },
      el('span', { class: 'btn-group', role: 'group', 'aria-label': phrase('bench-zoom') }, ...zooms),
      which,
      el(
        'button',
        { type: 'button', class: 'btn btn-sm btn-outline-light', onclick: () => dialog.close() },
        phrase('any-close'),
      ),
    ),
  );
  dialog.addEventListener('close', () => dialog.remove());
  document.body.append(dialog);
  dialog.showModal();
  look();
}
