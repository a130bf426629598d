// The line between before and after, moved by hand, and the ways to compare.

/** The ways, in the order of the key. */
const WAYS = ['split', 'side', 'after', 'difference'];

/** The way that follows. */
export const nextWay = (way) => WAYS[(WAYS.indexOf(way) + 1) % WAYS.length];

/** How far an arrow moves the line. */
export const SPLIT = { ArrowLeft: -0.02, ArrowRight: 0.02 };

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
