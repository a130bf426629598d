// The hand on a camera move: inside the chosen window it is moved, at a corner it is made larger, elsewhere another is chosen.

/** Listens on the drawing and the stage; `way` tells of the move and changes it. */
export function moveByHand(over, stage, way) {
  // The hand: inside the chosen window it is moved, at a corner it is made larger, elsewhere another is chosen.
  over.addEventListener('pointerdown', (down) => {
    if (down.button || !way.isReady()) return;
    down.preventDefault();
    stage.focus();
    way.stop();
    const room = over.getBoundingClientRect();
    const place = (e) => [(e.clientX - room.left) / room.width, (e.clientY - room.top) / room.height];
    const [x, y] = place(down);
    const reach = 14 / room.width;
    const tall = 14 / room.height;
    const inside = ([l, t, w, h]) => x > l && x < l + w && y > t && y < t + h;
    let [l, t, w, h] = way.windowOf(way.marks()[way.chosen()]);
    const corner = [
      [l, t],
      [l + w, t],
      [l, t + h],
      [l + w, t + h],
    ].findIndex(([cx, cy]) => Math.abs(cx - x) < reach && Math.abs(cy - y) < tall);
    if (corner < 0) {
      // The smallest of those under the hand, so that none is out of reach.
      const under = way
        .marks()
        .map((m, i) => [way.windowOf(m), i])
        .filter(([b]) => inside(b))
        .sort((a, b) => a[0][2] - b[0][2]);
      if (!under.length) return;
      if (!inside([l, t, w, h]) || under[0][0][2] < w * 0.98) way.choose(under[0][1]);
      [l, t, w, h] = way.windowOf(way.marks()[way.chosen()]);
    }
    const size = way.marks()[way.chosen()][3];
    const fixed = [corner % 2 ? l : l + w, corner > 1 ? t : t + h];
    const move = (e) => {
      const [px, py] = place(e);
      if (corner < 0) {
        way.put(l + w / 2 + px - x, t + h / 2 + py - y, size);
        return;
      }
      const wide = Math.max(Math.abs(px - fixed[0]) / w, Math.abs(py - fixed[1]) / h);
      const room2 = Math.min((corner % 2 ? 1 - fixed[0] : fixed[0]) / w, (corner > 1 ? 1 - fixed[1] : fixed[1]) / h);
      const by = Math.min(wide, room2, 1 / size);
      way.put(
        fixed[0] + ((corner % 2 ? 1 : -1) * w * by) / 2,
        fixed[1] + ((corner > 1 ? 1 : -1) * h * by) / 2,
        size * by,
      );
    };
    window.addEventListener('pointermove', move);
    window.addEventListener('pointerup', () => window.removeEventListener('pointermove', move), { once: true });
  });
  stage.addEventListener('keydown', (e) => {
    const fine = e.shiftKey ? 0.002 : 0.01;
    const by = { ArrowLeft: [-fine, 0], ArrowRight: [fine, 0], ArrowUp: [0, -fine], ArrowDown: [0, fine] }[e.key];
    const [, x, y, size] = way.marks()[way.chosen()];
    if (by && way.isReady()) way.put(x + by[0], y + by[1], size);
    else if ((e.key === '+' || e.key === '-') && way.isReady()) way.put(x, y, size * (e.key === '+' ? 1.02 : 1 / 1.02));
    else return;
    e.preventDefault();
  });
}
