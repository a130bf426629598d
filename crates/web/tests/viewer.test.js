import assert from 'node:assert/strict';
import { test } from 'node:test';
import { Placed } from '../assets/viewer/placed.js';

/** A picture of some size on a stage of some size. */
class OnStage extends Placed {
  constructor(picture, stage) {
    super();
    Object.assign(this, { zoom: 'fit', centre: [0.5, 0.5], compare: 'after', pictures: {}, isPlain: false });
    this.stage = { getBoundingClientRect: () => ({ width: stage[0], height: stage[1] }) };
    this.source = () => ({ size: picture });
  }

  plain() {
    return this.isPlain;
  }

  refresh() {
    this.refreshed = true;
  }
}

const onScreen = (dots, work) => {
  globalThis.devicePixelRatio = dots;
  work();
};

test('a picture fits its stage, in the middle, and is never enlarged for that', () => {
  onScreen(1, () => {
    const p = new OnStage([3000, 2000], [900, 700]).place();
    assert.deepEqual([p.zoom, p.x, p.y], [0.3, 0, 50]);
    const small = new OnStage([300, 200], [900, 700]).place();
    assert.deepEqual([small.zoom, small.x, small.y], [1, 300, 250]);
  });
  // On a fine screen one pixel of the picture is one of the screen.
  onScreen(2, () => assert.equal(new OnStage([300, 200], [900, 700]).place().zoom, 0.5));
});

test('at 100 % the middle that is asked for lies in the middle, as far as there is picture', () => {
  onScreen(1, () => {
    const viewer = new OnStage([3000, 2000], [900, 700]);
    viewer.zoom = 1;
    assert.deepEqual(viewer.share(450, 350), [0.5, 0.5]);
    viewer.centre = [0, 1];
    const p = viewer.place();
    assert.deepEqual([p.x, p.y], [0, 700 - 2000]);
    // A place of the picture and a place of the stage tell the same.
    const [u, v] = viewer.share(120, 80);
    assert.ok(Math.abs(p.x + u * 3000 - 120) < 1e-9 && Math.abs(p.y + v * 2000 - 80) < 1e-9);
  });
});

test('moved by hand, the picture follows the hand and stops at its ends', () => {
  onScreen(1, () => {
    const viewer = new OnStage([3000, 2000], [900, 700]);
    viewer.zoom = 1;
    const before = viewer.share(450, 350);
    viewer.move(-90, 40);
    assert.ok(viewer.refreshed);
    const after = viewer.share(450 - 90, 350 + 40);
    assert.ok(
      before.every((v, i) => Math.abs(v - after[i]) < 1e-9),
      `${before} ${after}`,
    );
    for (let i = 0; i < 100; i++) viewer.move(-500, -500);
    assert.deepEqual(viewer.centre, [1, 1]);
  });
});

test('side by side each half shows the same place', () => {
  onScreen(1, () => {
    const viewer = new OnStage([3000, 2000], [1000, 700]);
    viewer.compare = 'side';
    const p = viewer.place();
    assert.deepEqual([p.left, p.width], [500, 500]);
    assert.deepEqual(viewer.share(100, 300), viewer.share(600, 300));
    assert.deepEqual(viewer.view().room, [500, 700]);
    // A tool works on one picture alone.
    viewer.isPlain = true;
    assert.equal(viewer.place().left, 0);
  });
});
