// What is folded out under an opened line: its values, what was measured, where and when it works, values kept under a
// name, its tool and what can be done with the whole line.

import { el, json, say } from '../app/api.js';
import { where } from './controls/line-options.js';
import { histogram } from './scopes.js';
import { controls } from './ticket.js';
import { phrase } from '../app/words.js';

const act = (label, title, run, disabled) =>
  el('button', { type: 'button', class: 'btn btn-sm btn-outline-dark', title, disabled, onclick: run }, label);

/** Appends it to the line's element. */
export function openedLine(bench, i, li) {
  const step = bench.doc.steps[i];
  const k = bench.kind(step);
  li.append(
    controls(
      k.params,
      () => bench.doc.steps[i],
      (v, d) => bench.change(i, v, d),
      histogram,
      bench.memory,
    ),
  );
  li.append(...found(bench, i));
  const about = where(
    step,
    k,
    (key, v, d) => bench.around(i, key, v, d),
    (shape) => bench.drawing(shape),
    bench.pick.shape,
    bench.memory,
    bench.doc.blocks ?? [],
  );
  about.querySelector('.controls').append(keptRow(bench, i));
  li.append(about);
  li.append(lineActs(bench, i));
}

/** What was measured in the sample, and what can be made of it. */
function found(bench, i) {
  const step = bench.doc.steps[i];
  const k = bench.kind(step);
  const seen = bench.told?.lines[i];
  if (!seen?.found?.length) return [];
  const kept = k.params.find((p) => p.kind === 'kept');
  const box = el(
    'div',
    { class: 'row-acts found-values' },
    el(
      'small',
      {},
      phrase('bench-here', {
        kept: step.kept ? phrase('bench-kept') : phrase('bench-measured'),
        found: seen.found.map(([n, v]) => `${n} ${Math.round(v * 10) / 10}`).join(', '),
      }),
    ),
  );
  if (kept && !step.kept && seen.found.length === 2)
    box.append(
      act(phrase('bench-keep-for-all-frames'), phrase('bench-no-frame-is-measured-any-more'), () =>
        bench.change(i, { kept: seen.measured }, true),
      ),
    );
  if (step.kept)
    box.append(
      act(phrase('bench-measure-every-frame'), phrase('bench-each-frame-gets-what-is-measured'), () =>
        bench.change(i, { kept: null }, true),
      ),
    );
  if (seen.ordinary?.length)
    box.append(
      act(phrase('bench-turn-into-ordinary-lines'), phrase('bench-the-values-stand-in-lines-of'), () => {
        bench.doc.steps.splice(i, 1, ...seen.ordinary.map(([id2, values]) => ({ step: id2, ...values })));
        bench.changed(true);
      }),
    );
  return [box];
}

/** What can be done with the whole line. */
function lineActs(bench, i) {
  const step = bench.doc.steps[i];
  const k = bench.kind(step);
  const acts = el(
    'div',
    { class: 'row-acts' },
    act(step.on === false ? phrase('any-switch-on') : phrase('any-switch-off'), 'X', () => bench.switchLine(i)),
    act('↑', phrase('bench-earlier-alt'), () => bench.move(i, -1), i === 0),
    act('↓', phrase('bench-later-alt'), () => bench.move(i, 1), i === bench.doc.steps.length - 1),
    act(phrase('bench-twice'), phrase('bench-write-the-same-line-again'), () => {
      bench.doc.steps.splice(i + 1, 0, structuredClone(step));
      bench.changed(true);
    }),
    act(phrase('any-remove'), phrase('bench-delete'), () => bench.remove(i)),
  );
  if (k.params.some((p) => p.name === 'by_lens') && bench.facts.lens)
    acts.prepend(
      act(phrase('bench-measure-this-lens'), phrase('bench-on-the-frames-of-this-shoot'), () => measureLens(bench, i)),
    );
  const { tool } = k;
  if (tool?.button) {
    const on = bench.pick.tool || bench.pick.neutral;
    acts.prepend(act(on ? phrase('bench-show-the-result') : tool.button, '', () => bench.useTool(tool, !on)));
  } else if (tool) acts.append(el('small', {}, tool.hint));
  return acts;
}

const AROUND = ['step', 'on', 'mix', 'when', 'by_iso', 'area', 'ask', 'checkpoint', 'block'];
const own = (step) => Object.fromEntries(Object.entries(step).filter(([name]) => !AROUND.includes(name)));
/** Values of the step kept under a name: taken over, kept, forgotten. */
function keptRow(bench, i) {
  const k = bench.kind(bench.doc.steps[i]);
  const mine = bench.keptValues[k.id] ?? {};
  const names = Object.keys(mine);
  const choose = el(
    'select',
    { 'aria-label': phrase('bench-kept-values') },
    el('option', { value: '' }, names.length ? phrase('bench-kept-values-more') : phrase('bench-no-values-kept-yet')),
    ...names.map((n) => el('option', {}, n)),
  );
  choose.addEventListener('change', () => {
    const step = bench.doc.steps[i];
    for (const name of Object.keys(own(step))) delete step[name];
    Object.assign(step, structuredClone(mine[choose.value]));
    bench.changed(true);
  });
  const name = el('input', {
    placeholder: phrase('bench-a-name'),
    maxlength: 80,
    'aria-label': phrase('bench-name-for-these-values'),
  });
  const put = async (values) => {
    try {
      bench.keptValues = await json('PUT', '/api/kept', { step: k.id, name: name.value || choose.value, values });
      bench.draw();
    } catch (e) {
      say(e.message);
    }
  };
  return el(
    'div',
    { class: 'row-acts kept-row' },
    choose,
    name,
    el(
      'button',
      { type: 'button', class: 'btn btn-sm btn-outline-dark', onclick: () => put(own(bench.doc.steps[i])) },
      phrase('bench-keep-these-values'),
    ),
    ...(names.length
      ? [
          el(
            'button',
            {
              type: 'button',
              class: 'btn btn-sm btn-outline-dark',
              title: phrase('bench-forget-the-values-of-that-name'),
              onclick: () => put(null),
            },
            phrase('bench-forget'),
          ),
        ]
      : []),
  );
}
/** How soft the frame's lens draws, measured on the shoot; the line goes by it from then on. */
async function measureLens(bench, i) {
  say(phrase('bench-looking-for-edges-in-the-frames'));
  try {
    const found = await json('POST', '/api/lens-softness', { frame: bench.frame });
    say(
      phrase('bench-lens-is-measured', {
        lens: found.lens,
        middle: found.middle.toFixed(2),
        corner: found.corner.toFixed(2),
        count: found.pictures,
      }),
    );
    bench.change(i, { by_lens: true }, true);
    bench.viewer.forget();
  } catch (e) {
    say(e.message);
  }
}

/** What the frame calls its lens is the known one of that name, from now on. */
export async function isLens(bench, name) {
  try {
    await json('POST', '/api/lens-names', { lens: bench.facts.lens, is: name });
    await bench.tell(true);
    bench.viewer.forget();
  } catch (e) {
    say(e.message);
  }
}
