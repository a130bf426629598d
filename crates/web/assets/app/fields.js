// Fields for values of lines and deliveries, as the server draws them.

import { el, say } from './api.js';
import { drawn } from './parts.js';
import { parse, shown } from './values.js';
import { phrase } from './words.js';

/** What a choice offers: the words of documents, without their underscores. */
export const options = (param, value) =>
  param.choices.map((c) => el('option', { value: c, selected: c === String(value) }, c.replaceAll('_', ' ')));

/** Tells `put` of each value that is typed into a field in `box`: what it sets, and the value. */
export function onValues(box, put) {
  box.addEventListener(
    'change',
    ({ target }) => {
      if (!target.dataset.sets) return;
      const sets = JSON.parse(target.dataset.sets);
      const value =
        sets.kind === 'flag' ? target.checked : sets.kind === 'choice' ? target.value : parse(sets, target.value);
      if (value !== undefined) {
        put(sets, value);
        return;
      }
      say(phrase('app-does-not-fit', { name: target.getAttribute('aria-label'), value: target.value }));
      target.value = target.defaultValue;
    },
    // Before it comes to the field itself: what a script tells of a change does not rise to what is around it.
    true,
  );
}

/** Puts a value among `answers`, in the place of an earlier one. */
export function putAnswer(answers, { line, param }, value) {
  const at = answers.findIndex((a) => a.line === line && a.param === param);
  if (at >= 0) answers.splice(at, 1);
  answers.push({ line, param, value });
}

/** Shows the last of `answers` that a field is about, or what it was drawn with. */
export function showValue(input, answers) {
  const { line, param, kind } = JSON.parse(input.dataset.sets);
  const answer = answers.findLast((a) => a.line === line && a.param === param);
  if (kind === 'flag') input.checked = answer ? answer.value : input.defaultChecked;
  else if (answer) input.value = shown(answer.value, kind);
  else if (kind === 'choice') input.value = [...input.options].find((o) => o.defaultSelected)?.value;
  else input.value = input.defaultValue;
}

/** Shows in `box` what a recipe asks when it starts; `answers` is kept up to date. */
export async function asks(box, recipe, answers) {
  box.hidden = true;
  box.replaceChildren();
  if (!recipe) return;
  const form = await drawn(`/recipes/${recipe}/asks`);
  onValues(form, (sets, value) => putAnswer(answers, sets, value));
  box.replaceChildren(form);
  box.hidden = !form.children.length;
}
