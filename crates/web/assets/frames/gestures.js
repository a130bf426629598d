// The mouse among the frames: a click looks at one and is no choice; its tick, or a click with Ctrl or Shift, selects. A
// double click goes to the bench, dragging moves frames in the order by hand.

import { flip, go, place, state } from './desk.js';

const $ = (id) => document.getElementById(id);

/** Listens in the grid; `bench` is where a double click leads. */
export function gestures(bench) {
  let drag = null;
  $('grid').addEventListener('click', (e) => {
    const node = e.target.closest('.fr');
    if (!node || drag?.moved) return;
    const i = Number(node.dataset.index);
    if (e.shiftKey) return go(i, true);
    if (e.ctrlKey || e.metaKey || e.target.closest('.tick')) flip(state.ids[i]);
    go(i);
  });
  $('grid').addEventListener('dblclick', (e) => {
    if (e.target.closest('.fr') && !e.target.closest('.tick')) bench();
  });
  $('grid').addEventListener('pointerdown', (e) => {
    const node = e.target.closest('.fr');
    drag = null;
    if (!node || e.button) return;
    drag = { id: state.ids[Number(node.dataset.index)], x: e.clientX, y: e.clientY, moved: false };
  });
  addEventListener('pointermove', (e) => {
    if (!drag || !e.buttons) return;
    if (!drag.moved && Math.hypot(e.clientX - drag.x, e.clientY - drag.y) < 9) return;
    drag.moved = true;
    document.body.classList.add('is-dragging');
    document.querySelectorAll('.fr.drop').forEach((n) => n.classList.remove('drop'));
    document.elementFromPoint(e.clientX, e.clientY)?.closest('.fr')?.classList.add('drop');
  });
  addEventListener('pointerup', (e) => {
    document.body.classList.remove('is-dragging');
    document.querySelectorAll('.fr.drop').forEach((n) => n.classList.remove('drop'));
    if (!drag?.moved) return;
    const over = document.elementFromPoint(e.clientX, e.clientY)?.closest('.fr');
    const ids = state.selected.has(drag.id) ? state.ids.filter((i) => state.selected.has(i)) : [drag.id];
    setTimeout(() => {
      drag = null;
    }, 0);
    if (over) place(ids, state.ids[Number(over.dataset.index)]);
  });
}
