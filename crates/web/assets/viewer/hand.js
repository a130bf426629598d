// The hand on the picture: by mouse, finger or keyboard, a gesture is the same.

/**
 * `grab(at, away)` starts a gesture at a place (shares of the picture) and returns what follows it, `follow(at, done)`, or
 * nothing; without one the picture is moved. `tooling()` says whether the keys draw; `over()` draws the overlay anew.
 */
export class Hand {
  constructor(stage, viewer, { grab, tooling, over, settle }) {
    Object.assign(this, { stage, viewer, grab, tooling, over, settle });
    /** The mark that the arrow keys move, in shares of the picture; only while the keyboard is used. */
    this.cross = null;
    this.held = null;
    stage.addEventListener('pointerdown', (e) => this.down(e));
    stage.addEventListener('keydown', (e) => this.key(e));
    stage.addEventListener('blur', () => {
      this.cross = null;
      over();
    });
  }

  at(e) {
    const box = this.stage.getBoundingClientRect();
    return this.viewer.share(e.clientX - box.left, e.clientY - box.top);
  }

  down(e) {
    if (e.button || !e.isPrimary || e.target.closest('.split, .empty, .closer')) return;
    this.cross = null;
    this.held = null;
    const { stage, viewer } = this;
    const follow = this.grab(this.at(e), e.shiftKey);
    stage.setPointerCapture(e.pointerId);
    let [x, y] = [e.clientX, e.clientY];
    const move = (m) => {
      if (m.pointerId !== e.pointerId) return;
      if (follow) {
        follow(this.at(m), false);
        this.over();
      } else {
        viewer.move(m.clientX - x, m.clientY - y);
        [x, y] = [m.clientX, m.clientY];
      }
    };
    const end = (m) => {
      if (m.pointerId !== e.pointerId) return;
      stage.removeEventListener('pointermove', move);
      stage.removeEventListener('pointerup', end);
      stage.removeEventListener('pointercancel', end);
      if (follow) {
        follow(this.at(m), true);
        this.over();
      }
    };
    stage.addEventListener('pointermove', move);
    stage.addEventListener('pointerup', end);
    stage.addEventListener('pointercancel', end);
  }

  /** Arrows move a mark, Enter takes hold there and lets go, Escape gives up. */
  key(e) {
    if (e.target !== this.stage || !this.tooling() || e.ctrlKey || e.metaKey || e.altKey) return;
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key];
    if (!by && e.key !== 'Enter' && e.key !== ' ' && e.key !== 'Escape') return;
    if (e.key === 'Escape' && !this.held) return;
    e.preventDefault();
    e.stopPropagation();
    this.cross ??= this.middle();
    if (by) {
      const p = this.viewer.place();
      const step = e.shiftKey ? 1 : 10;
      const limit = (v) => Math.max(0, Math.min(1, v));
      this.cross = [
        limit(this.cross[0] + (by[0] * step) / (p.w * p.zoom)),
        limit(this.cross[1] + (by[1] * step) / (p.h * p.zoom)),
      ];
      this.reveal();
      this.held?.follow(this.cross, false);
    } else if (e.key === 'Escape') {
      this.held.follow(this.held.from, false);
      this.held = null;
      this.settle();
    } else if (this.held) {
      this.held.follow(this.cross, true);
      this.held = null;
    } else {
      const follow = this.grab(this.cross, e.shiftKey);
      this.held = follow ? { follow, from: this.cross } : null;
    }
    this.over();
  }

  /** The middle of what is seen. */
  middle() {
    const p = this.viewer.place();
    return this.viewer.share(p.left + p.width / 2, p.height / 2).map((v) => Math.max(0, Math.min(1, v)));
  }

  /** Moves the picture so that the mark is seen. */
  reveal() {
    const p = this.viewer.place();
    const [x, y] = [p.x + this.cross[0] * p.w * p.zoom, p.y + this.cross[1] * p.h * p.zoom];
    const past = (v, from, to) => (v < from ? from - v : v > to ? to - v : 0);
    const [dx, dy] = [past(x, p.left + 20, p.left + p.width - 20), past(y, 20, p.height - 20)];
    if (this.viewer.zoom !== 'fit' && (dx || dy)) this.viewer.move(dx, dy);
  }
}
