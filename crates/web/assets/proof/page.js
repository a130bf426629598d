// The proof: before and after on the sample and on the frames least like it, at one zoom; each is accepted, set aside,
// changed a little by itself, or taken to the bench.

import { Slots } from '../app/request-slots.js';
import { ask, el, json, say, typing } from '../app/api.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);
let recipe = null;
let picks = [];
let zoom = 'fit';
let centre = [0.5, 0.5];
let accepted = new Set();

const doing =
  (work) =>
  async (...a) => {
    try {
      await work(...a);
    } catch (e) {
      say(e.message);
    }
  };

// Two at a time, from the top.
const places = new Slots(2, true);

async function half(canvas, pick, before) {
  const size = pick.told.size;
  const box = canvas.getBoundingClientRect();
  const dots = devicePixelRatio;
  const [w, h] = [Math.round(box.width * dots), Math.round(box.height * dots)];
  const scale = zoom === 'fit' ? Math.min(1, w / size[0], h / size[1]) : 1;
  const body = { recipe: recipe.document, frame: pick.id, before, scale };
  if (zoom !== 'fit') {
    const part = [Math.min(w, size[0]), Math.min(h, size[1])];
    body.region = [
      ...part.map((side, i) => Math.round(Math.max(0, Math.min(size[i] - side, centre[i] * size[i] - side / 2)))),
      ...part,
    ];
  }
  const image = await createImageBitmap(await places.run(async () => (await ask('POST', '/api/render', body)).blob()));
  [canvas.width, canvas.height] = [image.width, image.height];
  canvas.getContext('2d').drawImage(image, 0, 0);
  canvas.dataset.shown = String(Number(canvas.dataset.shown ?? 0) + 1);
}

async function show(pick) {
  pick.told = await json('POST', '/api/plan', { recipe: recipe.document, frame: pick.id });
  await half(pick.before, pick, true);
  await half(pick.after, pick, false);
  // What lines say of this frame belongs here too: a lens without a profile, for one.
  const said = pick.told.lines.map((line) => line.note).filter(Boolean);
  pick.own.textContent = [pick.told.own && phrase('proof-own', { own: pick.told.own }), ...said]
    .filter(Boolean)
    .join(' ');
}

// One after the other: the first are seen soon.
let round = 0;
async function showAll() {
  const mine = ++round;
  for (const pick of picks) {
    if (mine !== round) return;
    await doing(show)(pick);
  }
  document.body.dataset.ready = String(mine);
}

function count() {
  const open = picks.filter((p) => !accepted.has(p.id)).length;
  $('count').textContent = open
    ? phrase('proof-of-accepted', { count: picks.length - open, count2: picks.length })
    : phrase('proof-all-accepted', { count: picks.length });
}

const keepAccepted = () =>
  ask('PUT', '/api/proof', { recipe: recipe.id, version: recipe.version, accepted: [...accepted] });

function item(pick) {
  pick.before = el('canvas', { 'aria-label': phrase('proof-before', { name: pick.name }) });
  pick.after = el('canvas', { 'aria-label': phrase('proof-after', { name: pick.name }) });
  pick.own = el('small', { class: 'own' });
  const act = (label, title, run) =>
    el('button', { type: 'button', class: 'btn btn-sm btn-outline-light', title, onclick: doing(run) }, label);
  const accept = el(
    'button',
    {
      type: 'button',
      class: 'btn btn-sm btn-outline-light',
      'aria-pressed': accepted.has(pick.id),
      onclick: doing(async () => {
        if (accepted.has(pick.id)) accepted.delete(pick.id);
        else accepted.add(pick.id);
        accept.setAttribute('aria-pressed', String(accepted.has(pick.id)));
        accept.textContent = accepted.has(pick.id) ? phrase('proof-accepted') : phrase('proof-accept');
        li.classList.toggle('is-accepted', accepted.has(pick.id));
        count();
        await keepAccepted();
      }),
    },
    accepted.has(pick.id) ? phrase('proof-accepted') : phrase('proof-accept'),
  );
  const number = (name, label, title, min, max, step) => {
    const field = el('input', {
      type: 'number',
      min,
      max,
      step,
      value: pick.changes[name] ?? 0,
      'aria-label': phrase('proof-of-alone', { label, name: pick.name }),
      title,
    });
    field.addEventListener(
      'change',
      doing(async () => {
        const v = Math.max(min, Math.min(max, Number(field.value) || 0));
        pick.changes = { ...pick.changes, [name]: v };
        await json('POST', '/api/change', { ids: [pick.id], change: { do: 'own', to: pick.changes } });
        await show(pick);
      }),
    );
    return el('label', {}, label, field);
  };
  const li = el(
    'li',
    { 'data-frame': pick.id, class: accepted.has(pick.id) ? 'is-accepted' : '' },
    el('div', { class: 'pair' }, pick.before, pick.after),
    el(
      'div',
      { class: 'proof-foot' },
      el('b', {}, pick.name),
      el('small', {}, pick.why),
      pick.own,
      accept,
      act(phrase('any-set-aside'), phrase('proof-leave-this-frame-out-of-the'), async () => {
        await json('POST', '/api/change', { ids: [pick.id], change: { do: 'choice', to: 'set_aside' } });
        picks = picks.filter((p) => p !== pick);
        li.remove();
        count();
        say(phrase('proof-is-set-aside-z-in-frames', { name: pick.name }));
      }),
      act(phrase('proof-open-on-the-bench'), phrase('proof-go-on-recording-on-this-frame'), async () => {
        await ask('PUT', '/api/desk', { frame: pick.id });
        location.href = '/bench';
      }),
      el(
        'span',
        { class: 'own-fields' },
        phrase('proof-only-here'),
        number('exposure', 'stops', phrase('proof-stops-brighter-for-this-frame-alone'), -5, 5, 0.1),
        number('right', phrase('proof-crop-right'), phrase('proof-the-crop-moved-to-the-right'), -100, 100, 1),
        number('down', phrase('proof-crop-down'), phrase('proof-the-crop-moved-down-hundredths-of'), -100, 100, 1),
      ),
    ),
  );
  // A click looks there at 100 %, in all of them.
  for (const canvas of [pick.before, pick.after]) {
    canvas.addEventListener('click', (e) => {
      const box = canvas.getBoundingClientRect();
      if (zoom === 'fit') centre = [(e.clientX - box.left) / box.width, (e.clientY - box.top) / box.height];
      look(zoom === 'fit' ? 1 : 'fit');
    });
  }
  return li;
}

function look(to) {
  zoom = to;
  document.querySelectorAll('#zoom button').forEach((b) => b.classList.toggle('is-on', b.dataset.zoom === String(to)));
  document.body.classList.toggle('is-close', to !== 'fit');
  showAll();
}
document.querySelectorAll('#zoom button').forEach((b) => {
  b.onclick = () => look(b.dataset.zoom === 'fit' ? 'fit' : 1);
});
document.addEventListener('keydown', (e) => {
  if (typing(e) || e.ctrlKey || e.metaKey || e.altKey) return;
  if (e.key === '0') look('fit');
  else if (e.key === '1') look(1);
});

doing(async () => {
  const told = await json('GET', '/api/proof');
  recipe = told.recipe;
  accepted = new Set(told.accepted);
  picks = told.frames.map((p) => ({ ...p, changes: p.own }));
  $('list').replaceChildren(...picks.map(item));
  if (!picks.length) $('count').textContent = phrase('proof-there-are-no-frames-yet-choose');
  else {
    count();
    showAll();
  }
})();
