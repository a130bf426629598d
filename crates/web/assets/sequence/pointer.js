// The pointer on the chart: looks, drags the edges of a band, draws windows of time, takes hold of ramps, zooms.

const $ = (id) => document.getElementById(id);

/** Listens on the chart. */
export function pointer(seq) {
  /** The frame nearest to a place of the chart. */
  function under(e) {
    const box = $('chart').getBoundingClientRect();
    const [px, py] = [e.clientX - box.left, e.clientY - box.top];
    if (seq.view === 'days') {
      const hit = seq.cells.find(
        (cell) => px >= cell.x && px < cell.x + cell.w && py >= cell.y && py <= cell.y + cell.h + 3,
      );
      return hit ? hit.i : seq.at;
    }
    const [first, last] = [seq.places[0], seq.places.at(-1)];
    const here = first + (seq.zoom[0] + (px / box.width) * (seq.zoom[1] - seq.zoom[0])) * (last - first);
    let best = 0;
    seq.places.forEach((p, i) => {
      if (Math.abs(p - here) < Math.abs(seq.places[best] - here)) best = i;
    });
    return best;
  }

  /** How far above what its line is held against the pointer is; nothing where nothing is held against. */
  function apartUnder(e) {
    const against = seq.held?.[under(e)]?.[1];
    if (against == null) return null;
    const box = $('chart').getBoundingClientRect();
    return seq.range[0] + (1 - (e.clientY - box.top - 2) / (box.height - 12)) * (seq.range[1] - seq.range[0]) - against;
  }

  /** Which edge of the band lies under the pointer. */
  function edgeUnder(e) {
    const pass = seq.passes[seq.open];
    const apart = seq.view === 'lines' && pass ? apartUnder(e) : null;
    if (apart == null) return undefined;
    return ['lower', 'upper'].find(
      (name) => pass[name] != null && Math.abs(apart - pass[name]) < (seq.range[1] - seq.range[0]) * 0.04,
    );
  }

  /** The day and the minute under the pointer, where days and hours are shown. */
  function hourUnder(e) {
    const box = $('chart').getBoundingClientRect();
    const [px, py] = [(e.clientX - box.left) / box.width, (e.clientY - box.top) / box.height];
    const within = (v, most) => Math.min(most, Math.max(0, v));
    return {
      day: seq.columns[within(Math.floor(px * seq.columns.length), seq.columns.length - 1)],
      minute: within(Math.round((py * 1440) / 15) * 15, 1440),
    };
  }

  /** The window between two places of days and hours; nothing for a click. */
  function windowBetween(a, b) {
    const clock = (m) => `${String(Math.floor(m / 60)).padStart(2, '0')}:${String(m % 60).padStart(2, '0')}`;
    if (!a.day || !b.day || a.minute === b.minute) return null;
    const [from, to] = [a.day, b.day].sort();
    const [after, before] = [a.minute, b.minute].sort((p, q) => p - q).map(clock);
    return { from, to, after, before };
  }

  /** Adds a window to the open pass of windows, or makes one of it. */
  function addWindow(window) {
    if (seq.passes[seq.open]?.pass === 'windows')
      seq.passes[seq.open] = { ...seq.passes[seq.open], windows: [...seq.passes[seq.open].windows, window] };
    else {
      seq.passes.push({ pass: 'windows', windows: [window] });
      seq.open = seq.passes.length - 1;
    }
    seq.through();
  }

  /** Where on the chart the pointer is, and how large that is. */
  const on = (e) => {
    const box = $('chart').getBoundingClientRect();
    return [e.clientX - box.left, e.clientY - box.top];
  };
  const sizeOf = () => {
    const { width, height } = $('chart').getBoundingClientRect();
    return { width, height };
  };
  $('chart').addEventListener('dblclick', (e) => {
    if (seq.view === 'lines' && seq.ramps.grab(on(e), seq.scaled, sizeOf(), true)) seq.ramps.drop();
  });
  $('chart').addEventListener('contextmenu', (e) => {
    if (seq.view === 'lines' && seq.ramps.remove(on(e), seq.scaled, sizeOf())) e.preventDefault();
  });

  let dragged = null;
  let began = null;
  $('chart').addEventListener('pointerdown', (e) => {
    if (seq.view === 'days') {
      began = hourUnder(e);
      $('chart').setPointerCapture(e.pointerId);
      seq.look(under(e));
      return;
    }
    if (seq.ramps.grab(on(e), seq.scaled, sizeOf(), false)) {
      $('chart').setPointerCapture(e.pointerId);
      return;
    }
    dragged = edgeUnder(e);
    $('chart').setPointerCapture(e.pointerId);
    if (!dragged) {
      $('chart').dataset.scrubs = 'true';
      seq.look(under(e));
    }
  });
  $('chart').addEventListener('pointermove', (e) => {
    if (seq.ramps.isHeld()) seq.ramps.drag(on(e), seq.scaled, sizeOf());
    else if (began) {
      seq.drawn = windowBetween(began, hourUnder(e));
      seq.draw();
    } else if (dragged) {
      const apart = apartUnder(e);
      if (apart != null) {
        seq.passes[seq.open][dragged] = Math.round(apart * 10) / 10;
        if (seq.passes[seq.open].lower > seq.passes[seq.open].upper)
          seq.passes[seq.open][dragged] = seq.passes[seq.open][dragged === 'lower' ? 'upper' : 'lower'];
        seq.through();
      }
    } else if ($('chart').dataset.scrubs) seq.look(under(e));
    else $('chart').style.cursor = edgeUnder(e) ? 'ns-resize' : 'crosshair';
  });
  const drop = () => {
    dragged = null;
    began = null;
    seq.drawn = null;
    delete $('chart').dataset.scrubs;
  };
  $('chart').addEventListener('pointerup', () => {
    const window = seq.drawn;
    drop();
    seq.ramps.drop();
    if (window) addWindow(window);
  });
  $('chart').addEventListener('pointercancel', drop);
  $('chart').addEventListener(
    'wheel',
    (e) => {
      e.preventDefault();
      const box = $('chart').getBoundingClientRect();
      const here = seq.zoom[0] + ((e.clientX - box.left) / box.width) * (seq.zoom[1] - seq.zoom[0]);
      const by2 = Math.exp(e.deltaY / 400);
      const [a, b] = [here - (here - seq.zoom[0]) * by2, here + (seq.zoom[1] - here) * by2];
      seq.zoom = b - a >= 1 ? [0, 1] : [Math.max(0, a), Math.min(1, b)];
      seq.draw();
    },
    { passive: false },
  );
}
