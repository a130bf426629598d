// The line between before and after, moved by hand.

/** Lets the line be dragged; gives what moves it to a share of the stage. */
export function splitHandle(split, stage, viewer) {
  const set = (share) => {
    viewer.split = Math.max(0.01, Math.min(0.99, share));
    viewer.draw();
  };
  split.addEventListener('pointerdown', (e) => {
    e.preventDefault();
    split.setPointerCapture(e.pointerId);
    const drag = (m) => {
      const box = stage.getBoundingClientRect();
      set((m.clientX - box.left) / box.width);
    };
    split.addEventListener('pointermove', drag);
    split.addEventListener('pointerup', () => split.removeEventListener('pointermove', drag), { once: true });
  });
  return set;
}
