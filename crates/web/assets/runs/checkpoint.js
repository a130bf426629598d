// A run waits for a yes: its pictures as they will be, values that can still be changed, for one of them or for all.

import { ask, el, json, say } from '../app/api.js';
import { row } from '../app/fields.js';
import { phrase } from '../app/words.js';

/** Shows what run `run` asks in `box`; `passed` is told when it was answered. */
export async function checkpoint(box, run, passed) {
  let told;
  try {
    told = await json('GET', `/api/runs/${run}/checkpoint`);
  } catch (e) {
    say(e.message);
    return;
  }
  // Values changed: for all, and by picture.
  const all = [];
  const ones = new Map(
    told.items.map((i) => [i.position, i.answers.map(([line, param, value]) => ({ line, param, value }))]),
  );
  let chosen = null;
  const list = () => (chosen === null ? all : ones.get(chosen));
  const both = (position) => [...all, ...(ones.get(position) ?? [])];

  const pictures = told.items.map((item) => {
    const image = el('img', { alt: item.name });
    const own = el('small', {});
    const one = el(
      'button',
      {
        type: 'button',
        class: 'fr',
        'aria-pressed': 'false',
        onclick: () => choose(chosen === item.position ? null : item.position),
      },
      el('i', {}, image),
      el('b', {}, item.name),
      own,
    );
    return { item, image, one, own };
  });
  async function show(picture) {
    try {
      const blob = await (
        await ask('POST', `/api/runs/${run}/look`, {
          position: picture.item.position,
          answers: both(picture.item.position),
          edge: 420,
        })
      ).blob();
      URL.revokeObjectURL(picture.image.src);
      picture.image.src = URL.createObjectURL(blob);
      picture.own.textContent = ones.get(picture.item.position)?.length ? phrase('runs-values-of-its-own') : '';
    } catch (e) {
      say(e.message);
    }
  }
  let round = 0;
  async function showAll() {
    const mine = ++round;
    for (const picture of pictures) if (mine === round) await show(picture);
    if (mine === round) box.dataset.shown = String(mine);
  }

  const fields = el('div', { class: 'asks' });
  function rows() {
    const one = ({ line, title, param }) => {
      const set = list().find((a) => a.line === line && a.param === param.name);
      const value = set
        ? set.value
        : ((chosen !== null && all.find((a) => a.line === line && a.param === param.name)?.value) ?? param.default);
      const put = (v) => {
        const to = list();
        const at = to.findIndex((a) => a.line === line && a.param === param.name);
        if (at >= 0) to.splice(at, 1);
        to.push({ line, param: param.name, value: v });
        if (chosen === null) showAll();
        else show(pictures.find((p) => p.item.position === chosen));
      };
      return row({ title, param }, phrase('any-line', { line: line + 1 }), value, put);
    };
    const whose =
      chosen === null ? phrase('runs-all-pictures') : pictures.find((p) => p.item.position === chosen).item.name;
    fields.replaceChildren(el('h2', {}, phrase('runs-values-for', { whose })), ...told.values.map(one));
  }
  function choose(position) {
    chosen = position;
    for (const p of pictures) p.one.setAttribute('aria-pressed', String(p.item.position === position));
    rows();
  }
  const yes = el(
    'button',
    {
      class: 'btn btn-primary btn-lg',
      type: 'button',
      id: 'yes',
      onclick: async () => {
        yes.disabled = true;
        const changed = [...ones]
          .filter(([, answers]) => answers.length)
          .map(([position, answers]) => ({ position, answers }));
        try {
          await ask('POST', `/api/runs/${run}/checkpoint`, { stage: told.stage, answers: all, ones: changed });
          passed();
        } catch (e) {
          say(e.message);
          yes.disabled = false;
        }
      },
    },
    phrase('runs-yes-go-on'),
  );
  box.replaceChildren(
    el(
      'div',
      { class: 'checkpoint-head' },
      el('h2', {}, phrase('runs-before-line', { line: told.line + 1, what: told.what })),
      yes,
    ),
    el('p', {}, phrase('runs-the-pictures-as-they-will-be')),
    el('div', { class: 'results' }, ...pictures.map((p) => p.one)),
    el('details', {}, el('summary', {}, phrase('runs-change-values')), fields),
  );
  box.hidden = false;
  choose(null);
  showAll();
}
