// Something else lies on the desk: pages follow in place, by what the server draws of them now.

import { phrase } from './words.js';

const $ = (id) => document.getElementById(id);

/** The page as the server draws it now; the rail says at once what it says there. */
export async function freshPage() {
  const answer = await fetch(location.href);
  if (!answer.ok) throw new Error(phrase('app-the-page-cannot-be-drawn-anew'));
  const page = new DOMParser().parseFromString(await answer.text(), 'text/html');
  const [now, was] = [page, document].map((d) => d.querySelector('.rail'));
  const holders = [...now.querySelectorAll('.holder')];
  was.querySelectorAll('.holder').forEach((holder, i) => holder.replaceChildren(...holders[i].childNodes));
  $('run-count').textContent = page.getElementById('run-count').textContent;
  if (now.dataset.beingRead) was.dataset.beingRead = now.dataset.beingRead;
  else delete was.dataset.beingRead;
  return page;
}
