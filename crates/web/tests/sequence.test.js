import assert from 'node:assert/strict';
import { test } from 'node:test';
import { called, corners, moved, sized, without } from '../assets/sequence/area-shapes.js';
import { decimated } from '../assets/sequence/chart.js';
import { sentence } from '../assets/sequence/passes.js';

test('passes go on with their areas where one is taken away', () => {
  const passes = [{ pass: 'line' }, { pass: 'line', area: 0 }, { pass: 'line', area: 1 }, { pass: 'line', area: 2 }];
  assert.deepEqual(
    without(passes, 1).map((pass) => pass.area),
    [undefined, 0, undefined, 1],
  );
});

test('areas are called by their letter or their name, moved inside the picture, and not made too small', () => {
  assert.equal(called({}, 2), 'C');
  assert.equal(called({ name: 'sky' }, 2), 'sky');
  const area = { name: 'sky', rectangle: [0.1, 0.2, 0.3, 0.4] };
  assert.deepEqual(moved(area, [0.05, 0.1]), { name: 'sky', rectangle: [0.15, 0.3, 0.3, 0.4] });
  assert.deepEqual(moved(area, [9, -9]).rectangle, [0.7, 0, 0.3, 0.4]);
  assert.deepEqual(corners(area)[2], [0.4, 0.6000000000000001]);
  assert.deepEqual(sized(area, 2, [0.6, 0.7]).rectangle, [0.1, 0.2, 0.5, 0.5]);
  assert.deepEqual(sized(area, 0, [0.5, 0.5]).rectangle, [0.4, 0.5, 0.1, 0.1]);
  assert.equal(sized(area, 2, [0.11, 0.7]), area);
  const brushed = {
    strokes: [
      {
        points: [
          [0.1, 0.5],
          [0.3, 0.6],
        ],
        width: 6,
      },
    ],
  };
  assert.deepEqual(moved(brushed, [1, 0]).strokes[0].points, [
    [0.8, 0.5],
    [1, 0.6],
  ]);
});

test('a pass is a sentence, and each of its values changes that value alone', () => {
  const pass = { pass: 'time', from: '08:00', to: '18:00' };
  const parts = sentence(pass);
  assert.equal(parts.map((part) => part.value ?? part).join(''), 'Only from 08:00 to 18:00.');
  assert.deepEqual(parts[3].set('17:30'), { ...pass, to: '17:30' });
  const days = sentence({ pass: 'weekdays', days: ['monday'] });
  assert.deepEqual(days[1].set('Tuesdays and Sun').days, ['tuesday', 'sunday']);
  // Of which part of the picture is asked only where there are parts.
  const line = { pass: 'line', line: 'brightness', against: { level: 50 }, low: 40, high: 60 };
  const choices = (areas) => sentence(line, areas).filter((part) => part.choices?.includes('whole'));
  assert.equal(choices([]).length, 0);
  const [area] = choices(['A', 'B']);
  assert.deepEqual(area.set('1'), { ...line, area: 1 });
  assert.deepEqual(area.set('whole'), line);
});

test('a line of many frames keeps its extremes in as many columns as there are', () => {
  const count = 20_000;
  const values = Array.from({ length: count }, (_, i) => Math.sin(i / 300) * 10);
  values[7_123] = 50;
  values[15_001] = -40;
  const places = values.map((_, i) => i);
  const { low, high } = decimated(values, places, 0, count, 600);
  assert.equal(low.length, 600);
  assert.ok(Math.max(...high) === 50 && Math.min(...low) === -40, 'no peak is lost');
  // Each column tells of its own frames alone.
  const column = (i) => Math.floor((i * 600) / count);
  assert.deepEqual([column(7_123), column(15_001)], [high.indexOf(50), low.indexOf(-40)]);
  const own = values.filter((_, i) => column(i) === 17);
  assert.deepEqual([low[17], high[17]], [Math.min(...own), Math.max(...own)]);
  // Frames that are not measured leave no mark.
  assert.equal(decimated([null], [3], 0, 10, 5).high[1], -Infinity);
});
