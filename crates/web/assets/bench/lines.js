// The ticket's lines: sentences with values that are dragged and typed into, put in another order by dragging them, each
// opened by a click.

import { el } from '../app/api.js';
import { heads } from './blocks.js';
import { isLens, openedLine } from './opened-line.js';
import { sentence } from './ticket.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** Gives the bench `draw`, `words` and `advise`. */
export function lines(bench) {
  bench.partsOf = (i) =>
    (bench.told?.steps[i] === bench.doc.steps[i].step && bench.told.lines[i]?.parts) || [
      bench.kind(bench.doc.steps[i]).title,
    ];

  function lineWords(i) {
    const step = () => bench.doc.steps[i];
    const said = sentence(bench.partsOf(i), bench.kind(bench.doc.steps[i]).params, step, (v, d) =>
      bench.change(i, v, d),
    );
    const note = bench.told?.steps[i] === bench.doc.steps[i].step && bench.told.lines[i]?.note;
    if (note) said.push(' ', el('small', { class: 'line-note' }, note));
    const offers = (note && bench.told.lines[i].offers) || [];
    offers.forEach((name) =>
      said.push(
        ' ',
        el(
          'button',
          {
            type: 'button',
            class: 'btn btn-sm btn-outline-dark',
            title: phrase('bench-remembered-for-all-later-pictures-that'),
            onclick: (e) => {
              e.stopPropagation();
              isLens(bench, name);
            },
          },
          phrase('bench-it-is-the', { name }),
        ),
      ),
    );
    return bench.store.isTried(step()) ? [...said, ' ', el('span', { class: 'tried' }, phrase('bench-tried'))] : said;
  }
  /** Only the sentences, while a value is being dragged. */
  bench.words = function words() {
    document.querySelectorAll('#lines > li[data-line]').forEach((li) => {
      const i = Number(li.dataset.line);
      const box = li.querySelector('.words');
      if (typed && box.contains(typed)) return;
      const at = box.querySelector(':focus')?.dataset.param;
      box.replaceChildren(...lineWords(i));
      if (at) box.querySelector(`[data-param="${at}"]`)?.focus();
    });
  };
  let dragged = null;
  function line(step, i) {
    const k = bench.kind(step);
    const li = el('li', {
      class: `${i === bench.open ? 'is-open' : ''}${step.on === false ? ' is-off' : ''}${step.block ? ' is-bound' : ''}`,
      draggable: i !== bench.open,
      tabindex: '0',
      'data-line': i,
      'aria-label': phrase('bench-line', { i: i + 1, title: k.title }),
    });
    const box = el('div', { class: 'words' }, ...lineWords(i));
    // The words, the number and the paper around them open the line; values have work of their own.
    li.addEventListener('click', (e) => {
      if (e.target === box || e.target === li) bench.toggle(i);
    });
    li.append(box);
    dragging(li, i);
    keys(li, i);
    if (i === bench.open) openedLine(bench, i, li);
    return li;
  }
  /** A line can be dragged to another place. */
  function dragging(li, i) {
    li.addEventListener('dragstart', (e) => {
      if (e.target !== li) return;
      dragged = i;
      e.dataTransfer.effectAllowed = 'move';
      e.dataTransfer.setData(
        'text/plain',
        bench
          .partsOf(i)
          .map((p) => p.text ?? p)
          .join(''),
      );
    });
    li.addEventListener('dragover', (e) => {
      if (dragged === null) return;
      e.preventDefault();
      const below = e.offsetY > li.clientHeight / 2;
      li.classList.toggle('drop-below', below);
      li.classList.toggle('drop-above', !below);
    });
    li.addEventListener('dragleave', () => li.classList.remove('drop-above', 'drop-below'));
    li.addEventListener('drop', (e) => {
      e.preventDefault();
      const to = i + (li.classList.contains('drop-below') ? 1 : 0);
      if (dragged !== null) bench.relocate(dragged, to > dragged ? to - 1 : to);
      dragged = null;
    });
    li.addEventListener('dragend', () => {
      dragged = null;
      document
        .querySelectorAll('#lines .drop-above, #lines .drop-below')
        .forEach((l) => l.classList.remove('drop-above', 'drop-below'));
    });
  }
  /** What keys do on a line that has the focus. */
  function keys(li, i) {
    li.addEventListener('keydown', (e) => {
      if (e.target !== li) return;
      const up = e.altKey && e.key === 'ArrowUp';
      const down = e.altKey && e.key === 'ArrowDown';
      if (up || down) bench.move(i, up ? -1 : 1);
      else if (e.key === 'Enter') bench.toggle(i);
      else if (e.key === 'x') bench.switchLine(i);
      else if (e.key === 'Delete') bench.remove(i);
      else return;
      e.preventDefault();
      e.stopPropagation();
    });
  }
  let drawn = '';
  const steps = () => bench.doc.steps.map((s) => s.step).join();
  /** Whether lines came or went since they were drawn. */
  bench.hasNewLines = () => drawn !== steps();
  // Somebody types in a field of the ticket: that stays as it is until the text is taken.
  let typed = null;
  $('lines').addEventListener('input', (e) => {
    if (e.target.matches('input:not([type=checkbox], [type=range]), textarea')) typed = e.target;
  });
  for (const end of ['change', 'focusout'])
    $('lines').addEventListener(end, () => {
      typed = null;
    });
  // Somebody holds a button of the mouse on the ticket: what is pressed stays until it has heard of the click.
  let isPressed = false;
  let isDue = false;
  bench.slip.addEventListener('pointerdown', () => {
    isPressed = true;
  });
  const letGo = () => {
    isPressed = false;
  };
  // What a click changes is drawn at once by what listens to it.
  window.addEventListener('click', letGo, true);
  for (const end of ['pointerup', 'pointercancel'])
    window.addEventListener(end, () =>
      setTimeout(() => {
        letGo();
        if (isDue) bench.draw();
      }),
    );
  bench.draw = function draw() {
    isDue = isPressed;
    if (isDue) return;
    if (typed?.isConnected && !bench.hasNewLines()) {
      bench.words();
      bench.advise();
      return;
    }
    typed = null;
    drawn = steps();
    const focused = document.activeElement?.closest?.('#lines li')?.dataset.line;
    const param = document.activeElement?.dataset?.param;
    const label = document.activeElement?.getAttribute?.('aria-label');
    $('lines').replaceChildren(...bench.doc.steps.flatMap((step, i) => [...heads(bench, i), line(step, i)]));
    bench.advise();
    if (focused !== undefined) {
      const li = document.querySelector(`[data-line="${focused}"]`);
      const same = param
        ? li?.querySelector(`[data-param="${param}"]`)
        : [...(li?.querySelectorAll('[aria-label]') ?? [])].find((e) => e.getAttribute('aria-label') === label);
      (same ?? li)?.focus();
    }
    bench.lineZero?.draw();
    bench.drawDeliveries?.();
    $('version').textContent = bench.version;
    $('undo').disabled = !bench.store.canUndo();
    $('redo').disabled = !bench.store.future.length;
    bench.showName();
    bench.showStarting();
  };

  /** What works against the person, under its line, with one click to mend it. */
  bench.advise = function advise() {
    document.querySelectorAll('#lines .advice').forEach((a) => a.remove());
    for (const a of bench.told?.advice ?? []) {
      const li = document.querySelector(`[data-line="${a.line}"]`);
      li?.append(
        el(
          'div',
          { class: 'advice', role: 'note' },
          a.message,
          ' ',
          el(
            'button',
            {
              type: 'button',
              class: 'btn btn-sm btn-outline-dark',
              onclick: () => {
                bench.doc.steps = a.order.map((n) => bench.doc.steps[n]);
                bench.open = -1;
                bench.useTool(null, false);
                bench.changed(true);
              },
            },
            a.order.length < bench.doc.steps.length
              ? phrase('bench-leave-this-line-out')
              : phrase('bench-put-it-there'),
          ),
        ),
      );
    }
  };
}
