// A run waits for a yes: its pictures as they will be, values that can still be changed, for one of them or for all.

import { ask, say } from '../app/api.js';
import { onValues, putAnswer, showValue } from '../app/fields.js';
import { drawn } from '../app/parts.js';
import { phrase } from '../app/words.js';

/** Shows what run `run` asks in `box`; `passed` is told when it was answered. */
export async function checkpoint(box, run, passed) {
  let fresh;
  try {
    fresh = await drawn(`/runs/${run}/question`);
  } catch (e) {
    say(e.message);
    return;
  }
  const form = document.createElement('div');
  form.append(...fresh.childNodes);
  box.replaceChildren(form);
  const pictures = [...form.querySelectorAll('[data-position]')];
  const positionOf = (picture) => Number(picture.dataset.position);
  // Values changed: for all, and by picture.
  const all = [];
  const ones = new Map(pictures.map((one) => [one, JSON.parse(one.dataset.answers)]));
  let chosen = null;

  async function show(picture) {
    const own = ones.get(picture);
    const image = picture.querySelector('img');
    const asked = { position: positionOf(picture), answers: [...all, ...own], edge: 420 };
    try {
      const blob = await (await ask('POST', `/api/runs/${run}/look`, asked)).blob();
      URL.revokeObjectURL(image.src);
      image.src = URL.createObjectURL(blob);
      picture.querySelector('small').textContent = own.length ? phrase('runs-values-of-its-own') : '';
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
  /** Shows the values of the picture that is chosen, or of all. */
  function choose(picture) {
    chosen = picture;
    for (const one of pictures) one.setAttribute('aria-pressed', String(one === picture));
    const whose = picture ? picture.querySelector('b').textContent : phrase('runs-all-pictures');
    form.querySelector('.asks h2').textContent = phrase('runs-values-for', { whose });
    for (const input of form.querySelectorAll('[data-sets]'))
      showValue(input, [...all, ...(picture ? ones.get(picture) : [])]);
  }
  async function yes(button) {
    button.disabled = true;
    const changed = [...ones].filter(([, answers]) => answers.length);
    try {
      await ask('POST', `/api/runs/${run}/checkpoint`, {
        stage: Number(form.querySelector('[data-stage]').dataset.stage),
        answers: all,
        ones: changed.map(([picture, answers]) => ({ position: positionOf(picture), answers })),
      });
      passed();
    } catch (e) {
      say(e.message);
      button.disabled = false;
    }
  }
  form.addEventListener('click', ({ target }) => {
    const button = target.closest('button');
    if (button?.id === 'yes') yes(button);
    else if (button) choose(button === chosen ? null : button);
  });
  onValues(form, (sets, value) => {
    putAnswer(chosen ? ones.get(chosen) : all, sets, value);
    if (chosen) show(chosen);
    else showAll();
  });
  box.hidden = false;
  choose(null);
  showAll();
}
