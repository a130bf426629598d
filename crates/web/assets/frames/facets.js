// What the frames have in common, down the left side: values to choose by, ranges of measures.

import { el } from '../app/api.js';
import { select, state, view } from './desk.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

const folded = new Set(
  JSON.parse(
    localStorage.getItem('rallo-folded') ||
      '["lens","focal_length","aperture","shutter","hour","size","type","folder"]',
  ),
);

/** What the left column shows, line by line: a key that stays, how it is made, how it is brought up to date. */
function facetLines() {
  const v = state.view;
  const fold = (id) => {
    if (!folded.delete(id)) folded.add(id);
    localStorage.setItem('rallo-folded', JSON.stringify([...folded]));
    facets();
  };
  const head = (id, title, shut) => ({
    key: `head ${id}`,
    make: () => el('button', { class: 'facet-head', onclick: () => fold(id) }, title),
    put: (n) => n.setAttribute('aria-expanded', !shut),
  });
  const lines = [];
  if (
    Object.keys(state.filter.values).length ||
    Object.keys(state.filter.ranges).length ||
    state.filter.only ||
    state.filter.text
  ) {
    lines.push({
      key: 'again',
      make: () =>
        el('button', {
          class: 'btn btn-sm btn-outline-light w-100',
          id: 'all-again',
          onclick: () => {
            state.filter = { values: {}, ranges: {}, text: '' };
            $('find').value = '';
            view();
          },
        }),
      put: (n) => {
        n.textContent = state.filter.only ? phrase('frames-back-to-all-frames') : phrase('frames-show-all-again');
      },
    });
  }
  for (const one of v.facets) {
    const wanted = state.filter.values[one.facet] ?? [];
    const shut = folded.has(one.facet) && !wanted.length;
    const most = Math.max(1, ...one.values.map((c) => c.count));
    lines.push(head(one.facet, one.title, shut));
    if (shut) continue;
    for (const c of one.values.slice(0, 60)) {
      lines.push({
        key: `value ${one.facet} ${c.value}`,
        make: () =>
          el(
            'button',
            { class: 'facet', 'data-facet': `${one.facet} ${c.value}`, onclick: () => toggle(one.facet, c.value) },
            el('span', {}, c.label),
            el('b', {}),
          ),
        put: (n) => {
          const on = wanted.includes(c.value);
          n.classList.toggle('is-on', on);
          n.setAttribute('aria-pressed', on);
          n.lastChild.textContent = c.count;
          n.style.setProperty('--share', `${(c.count / most) * 100}%`);
        },
      });
    }
    if (one.facet === 'problems') {
      for (const kind of Object.keys(v.suggested ?? {}).sort()) {
        lines.push({
          key: `suggested ${kind}`,
          make: () =>
            el(
              'div',
              { class: 'suggested' },
              el('button', {
                class: 'btn btn-sm btn-outline-light',
                title: phrase('frames-selects-them-nothing-is-done-to'),
                onclick: () => select(state.view.suggested[kind] ?? []),
              }),
            ),
          put: (n) => {
            n.firstChild.textContent = phrase('frames-select', { count: v.suggested[kind].length, kind });
          },
        });
      }
    }
  }
  const shut = folded.has('measures');
  lines.push(head('measures', phrase('frames-measures'), shut));
  if (!shut)
    for (const m of measures)
      lines.push({ key: `range ${m.id} ${state.filter.ranges[m.id]}`, make: () => range(m), put: () => {} });
  return lines;
}

// Counts change while frames are measured: buttons stay the same ones, so that no click is lost.
const facetNodes = new Map();
let facetKeys = '';
export function facets() {
  const lines = facetLines();
  const nodes = lines.map((line) => {
    if (!facetNodes.has(line.key)) facetNodes.set(line.key, line.make());
    const node = facetNodes.get(line.key);
    line.put(node);
    return node;
  });
  const keys = lines.map((line) => line.key).join('\n');
  if (keys === facetKeys) return;
  facetKeys = keys;
  const box = $('facets');
  const [top, focused] = [box.scrollTop, document.activeElement];
  box.replaceChildren(...nodes);
  box.scrollTop = top;
  if (box.contains(focused)) focused.focus({ preventScroll: true });
}

function toggle(facet, value) {
  const wanted = new Set(state.filter.values[facet] ?? []);
  if (!wanted.delete(value)) wanted.add(value);
  if (wanted.size) state.filter.values[facet] = [...wanted];
  else delete state.filter.values[facet];
  view();
}

let measures = [];
/** What frames can be limited by; folded up at first. */
export function useMeasures(all) {
  measures = all;
  folded.add('measures');
}
function range(m) {
  const [low, high] = state.filter.ranges[m.id] ?? ['', ''];
  const field = (label, value) =>
    el('input', { type: 'number', step: 'any', value, 'aria-label': `${m.title}, ${label}`, placeholder: label });
  const from = field(phrase('frames-from'), low <= -1e8 ? '' : low);
  const to = field(phrase('frames-to'), high >= 1e8 ? '' : high);
  const changed = () => {
    if (from.value === '' && to.value === '') delete state.filter.ranges[m.id];
    else
      state.filter.ranges[m.id] = [
        from.value === '' ? -1e9 : Number(from.value),
        to.value === '' ? 1e9 : Number(to.value),
      ];
    view();
  };
  from.onchange = to.onchange = changed;
  return el('div', { class: 'range' }, el('span', {}, m.title), from, to);
}
