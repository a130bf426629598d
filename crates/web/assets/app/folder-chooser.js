// The folder chooser: folders and pictures that are ticked, or the folder that is looked into. The server lists what lies
// there; what is ticked stays ticked while one looks elsewhere.

import { json, say } from './api.js';
import { phrase } from './words.js';

const $ = (id) => document.getElementById(id);

/** What the way on is called. `ticked` are places with what they are. */
export function takeLabel(ticked, here) {
  const folders = ticked.filter((p) => p.isFolder).length;
  const files = ticked.length - folders;
  const of = { folders: phrase('any-folders', { count: folders }), pictures: phrase('any-pictures', { count: files }) };
  if (folders && files) return phrase('app-open-folders-and-pictures', of);
  if (folders || files) return phrase('app-open', { what: folders ? of.folders : of.pictures });
  if (!here.path || !here.pictures) return phrase('app-open-this-folder');
  return phrase('app-open-this-folder-with', { count: here.pictures });
}

/** Gives a function that opens the chooser; `taken(places)` is told what was chosen. With a `want`, one folder is asked
 *  for, to write into, and `want.taken(path)` is told. */
export function chooser(taken) {
  const dialog = $('folders');
  const list = $('folder-list');
  const ticked = new Map();
  let here = { path: '', parent: '', pictures: 0 };
  let want = null;

  async function look(path) {
    const query = new URLSearchParams(want ? { to_write: true } : {});
    if (path) query.set('path', path);
    try {
      const answer = await fetch(`/folder-list?${query}`);
      const text = await answer.text();
      if (!answer.ok) throw new Error(JSON.parse(text).detail);
      list.innerHTML = text;
    } catch (e) {
      say(e.message);
      $('folder-path').value = here.path;
      return;
    }
    const told = list.lastElementChild.dataset;
    here = { path: told.path, parent: told.parent, pictures: Number(told.pictures) };
    $('folder-path').value = here.path;
    $('up').disabled = !here.path || !here.parent;
    for (const box of list.querySelectorAll('input[type=checkbox]')) box.checked = ticked.has(placeOf(box).path);
    list.scrollTop = 0;
    show();
  }

  const placeOf = ({ dataset }) => ({
    path: dataset.folder ?? dataset.file,
    isFolder: dataset.folder !== undefined,
  });

  /** What is ticked, and the way on. */
  function show() {
    const all = [...ticked.values()];
    // A folder without pictures is only opened with what lies below.
    const isEmpty = !here.path || (!want && !here.pictures && !$('deep').checked);
    $('take').disabled = isEmpty && !all.length;
    $('take').textContent = want ? want.label : takeLabel(all, here);
    $('deep').closest('label').hidden = Boolean(want);
    $('places').hidden = !all.length;
    $('places').textContent = all.map((p) => p.path.split('/').pop()).join(', ');
  }

  /** A clip becomes a folder of frames, which is looked into then. */
  async function takeFrames(path, button) {
    button.disabled = true;
    button.textContent = phrase('app-taking-them-out');
    try {
      const facts = await json('GET', `/api/clip?path=${encodeURIComponent(path)}`);
      say(
        phrase('app-frames-this-may-take-a-while', { count: facts.frames, width: facts.width, height: facts.height }),
      );
      const { folder, frames: count } = await json('POST', '/api/clip', { path });
      say(phrase('app-frames-were-taken-out', { count }));
      await look(folder);
    } catch (e) {
      say(e.message);
      button.disabled = false;
      button.textContent = phrase('app-take-its-frames-out');
    }
  }

  async function makeFolder() {
    try {
      const name = list.querySelector('.new-folder input').value;
      look((await json('POST', '/api/folders', { parent: here.path, name })).path);
    } catch (e) {
      say(e.message);
    }
  }

  list.addEventListener('change', ({ target }) => {
    if (target.type !== 'checkbox') return;
    const place = placeOf(target);
    if (target.checked) ticked.set(place.path, place);
    else ticked.delete(place.path);
    show();
  });
  list.addEventListener('click', ({ target }) => {
    const button = target.closest('button');
    if (button?.dataset.look) look(button.dataset.look);
    else if (button?.dataset.clip) takeFrames(button.dataset.clip, button);
    else if (button?.closest('.new-folder')) makeFolder();
  });
  $('folder-path').addEventListener('keydown', (e) => {
    if (e.key !== 'Enter') return;
    e.preventDefault();
    look($('folder-path').value.trim());
  });
  $('deep').onchange = show;
  $('up').onclick = () => look(here.parent);
  $('take').onclick = async () => {
    const deep = $('deep').checked;
    const places = ticked.size
      ? [...ticked.values()].map((p) => ({ path: p.path, deep: deep && p.isFolder }))
      : [{ path: here.path, deep }];
    try {
      if (want) {
        dialog.close();
        return want.taken(here.path);
      }
      $('take').disabled = true;
      await taken(places);
      dialog.close();
    } catch (e) {
      say(e.message);
      $('take').disabled = false;
    }
  };
  return (wish) => {
    want = wish?.taken ? wish : null;
    ticked.clear();
    look(null);
    dialog.showModal();
  };
}
