// Pictures dropped on a recipe: brought, run, taken as a ZIP or written into a folder.

import { ask, el, fileSize, json, say } from './api.js';
import { asks } from './fields.js';
import { chooser } from './folder-chooser.js';
import { phrase } from './words.js';

const $ = (id) => document.getElementById(id);
const openFolders = chooser(() => {});
const dialog = $('drop');
let drop = null;
let going = null;
let to = null;

/** Brings one file; `told` is told how many bytes of it have gone. */
function bring(file, told) {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    going = request;
    request.open('PUT', `/api/drops/${drop}/files/${encodeURIComponent(file.name)}`);
    request.setRequestHeader('x-rallo-token', document.querySelector('meta[name=rallo-token]').content);
    request.upload.onprogress = (e) => told(e.loaded);
    request.onload = () => {
      if (request.status < 300) {
        resolve();
        return;
      }
      let message = request.responseText;
      try {
        message = JSON.parse(message).detail;
      } catch {
        /* plain text */
      }
      reject(new Error(message));
    };
    request.onerror = () => reject(new Error(phrase('app-was-not-taken-in-the-program', { name: file.name })));
    request.onabort = () => reject(new Error(phrase('app-given-up')));
    request.send(file);
  });
}

/** Runs `recipe` on files that were dropped or picked. */
export async function dropped(recipe, files) {
  if (!files.length || dialog.open) return;
  to = null;
  const answers = [];
  const all = files.reduce((sum, f) => sum + f.size, 0);
  $('drop-title').textContent = phrase('app-on', {
    name: recipe.name,
    count: files.length,
  });
  const list = $('drop-list');
  const rows = files.map((f) => el('li', {}, el('span', {}, f.name), el('small', {}, fileSize(f.size))));
  list.replaceChildren(...rows);
  $('drop-go').disabled = true;
  $('drop-where').textContent = phrase('app-results-as-a-zip-from-the');
  const meter = $('drop-meter');
  const put = (share) => {
    meter.firstElementChild.style.width = `${share * 100}%`;
    meter.setAttribute('aria-valuenow', Math.round(share * 100));
  };
  put(0);
  dialog.showModal();
  try {
    drop = (await json('POST', '/api/drops')).drop;
    await asks($('drop-asks'), recipe.id, answers);
  } catch (e) {
    $('drop-said').textContent = e.message;
    return;
  }
  let [gone, good, bad] = [0, 0, 0];
  for (const [i, file] of files.entries()) {
    if (!drop) return;
    $('drop-said').textContent = phrase('app-bringing-of', { i: i + 1, count: files.length });
    try {
      await bring(file, (loaded) => put((gone + loaded) / all));
      good += 1;
      rows[i].classList.add('is-there');
    } catch (e) {
      if (!drop) return;
      bad += 1;
      rows[i].classList.add('is-refused');
      rows[i].lastElementChild.textContent = e.message;
    }
    gone += file.size;
    put(gone / all);
  }
  $('drop-said').textContent = good
    ? phrase('app-are-here', {
        good,
        bad: bad ? phrase('app-not-taken-in', { bad }) : '',
      })
    : phrase('app-none-of-these-could-be-taken');
  $('drop-go').disabled = !good;
  $('drop-go').focus();
  $('drop-go').onclick = async () => {
    $('drop-go').disabled = true;
    try {
      const { run } = await json('POST', `/api/drops/${drop}/run`, { recipe: recipe.id, answers, to });
      drop = null;
      location.href = `/runs/${run}`;
    } catch (e) {
      $('drop-said').textContent = e.message;
      $('drop-go').disabled = false;
    }
  };
}

$('drop-folder').onclick = () =>
  openFolders({
    label: phrase('any-put-the-results-here'),
    taken: (path) => {
      to = path;
      $('drop-where').textContent = phrase('app-results-into', { path });
    },
  });
async function giveUp() {
  const gone = drop;
  drop = null;
  going?.abort();
  if (gone) await ask('DELETE', `/api/drops/${gone}`).catch((e) => say(e.message));
}
dialog.addEventListener('close', giveUp);
$('drop-cancel').onclick = () => dialog.close();

/** Lets files be dropped on an element; `recipe` gives the recipe they are for, or a promise of it. */
export function target(element, recipe) {
  const has = (e) => e.dataTransfer?.types.includes('Files');
  element.addEventListener('dragover', (e) => {
    if (has(e)) {
      e.preventDefault();
      element.classList.add('is-over');
    }
  });
  element.addEventListener('dragleave', () => element.classList.remove('is-over'));
  element.addEventListener('drop', (e) => {
    if (!has(e)) return;
    e.preventDefault();
    element.classList.remove('is-over');
    // What was dropped is gone from the event once it is over.
    const files = [...e.dataTransfer.files];
    Promise.resolve(recipe()).then(
      (found) => dropped(found, files),
      (error) => say(error.message),
    );
  });
}
