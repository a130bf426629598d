// The folder chooser: one folder, several, or single pictures.

import { el, json, say } from './api.js';

const $ = (id) => document.getElementById(id);

/** Gives a function that opens the chooser; `taken(places)` is told what was chosen. With a `want`, one folder is
 *  asked for, to write into, and `want.taken(path)` is told. */
export function chooser(taken) {
  const dialog = $('folders');
  let here = null;
  let places = [];
  let want = null;

  async function look(path) {
    try {
      here = await json('GET', path ? `/api/folders?path=${encodeURIComponent(path)}` : '/api/folders');
    } catch (e) {
      return say(e.message);
    }
    draw();
  }

  function draw() {
    $('folder-path').textContent = here.name ?? 'Folders this program may use';
    $('up').disabled = !here.path;
    const list = $('folder-list');
    list.replaceChildren(
      ...here.folders.map((f) =>
        el(
          'li',
          {},
          el(
            'button',
            { type: 'button', onclick: () => look(f.path) },
            f.name,
            el('small', {}, f.pictures ? `${f.pictures} pictures` : ''),
          ),
        ),
      ),
      ...(want
        ? []
        : here.files.map((f) =>
            el(
              'li',
              {},
              el(
                'label',
                { class: 'file' },
                el('input', {
                  type: 'checkbox',
                  class: 'form-check-input',
                  checked: places.some((p) => p.path === f.path),
                  onchange: () => toggle(f),
                }),
                ` ${f.name}`,
              ),
            ),
          )),
    );
    if (!want) {
      list.append(
        ...(here.clips ?? []).map((c) =>
          el(
            'li',
            {},
            el('span', { class: 'file' }, c.name, ' '),
            el(
              'button',
              {
                type: 'button',
                class: 'btn btn-sm btn-outline-secondary take-frames',
                title: 'Its frames become pictures in a folder beside it',
                onclick: (e) => takeFrames(c, e.target),
              },
              'Take its frames out',
            ),
          ),
        ),
      );
    }
    if (!list.children.length) list.append(el('li', { class: 'p-2' }, 'Nothing in here.'));
    if (want && here.path) {
      const name = el('input', {
        class: 'form-control form-control-sm',
        placeholder: 'name of a new folder in here',
        'aria-label': 'Name of a new folder',
      });
      list.append(
        el(
          'li',
          { class: 'new-folder' },
          name,
          el(
            'button',
            {
              type: 'button',
              class: 'btn btn-sm btn-outline-secondary',
              onclick: async () => {
                try {
                  look((await json('POST', '/api/folders', { parent: here.path, name: name.value })).path);
                } catch (e) {
                  say(e.message);
                }
              },
            },
            'Make it',
          ),
        ),
      );
    }
    const take = $('take');
    const files = places.length;
    take.disabled = !here.path && !files;
    take.textContent = want
      ? want.label
      : files
        ? `Take these ${files}`
        : here.path
          ? `Take this folder (${here.pictures} pictures)`
          : 'Take this folder';
    $('also').hidden = Boolean(want);
    $('also').disabled = !here.path || places.some((p) => p.path === here.path);
    $('deep').closest('label').hidden = Boolean(want);
    const box = $('places');
    box.hidden = !places.length;
    box.replaceChildren(
      'Chosen: ',
      ...places.map((p) =>
        el(
          'button',
          {
            type: 'button',
            class: 'btn btn-sm btn-outline-secondary',
            title: 'Take it back',
            onclick: () => {
              places = places.filter((o) => o !== p);
              draw();
            },
          },
          `${p.path.split('/').pop()}${p.deep ? ' and below' : ''} ×`,
        ),
      ),
    );
  }

  /** A clip becomes a folder of frames, which is opened then. */
  async function takeFrames(clip, button) {
    button.disabled = true;
    button.textContent = 'Taking them out …';
    try {
      const facts = await json('GET', `/api/clip?path=${encodeURIComponent(clip.path)}`);
      say(`${facts.frames} frames, ${facts.width} × ${facts.height}: this may take a while.`);
      const { folder, frames } = await json('POST', '/api/clip', { path: clip.path });
      say(`${frames} frames were taken out.`);
      await look(folder);
    } catch (e) {
      say(e.message);
      button.disabled = false;
      button.textContent = 'Take its frames out';
    }
  }

  const deep = () => $('deep').checked;
  function toggle(f) {
    if (places.some((p) => p.path === f.path)) places = places.filter((p) => p.path !== f.path);
    else places.push({ path: f.path, deep: false });
    draw();
  }

  $('up').onclick = () => look(here.parent);
  $('also').onclick = () => {
    places.push({ path: here.path, deep: deep() });
    look(here.parent);
  };
  $('take').onclick = async () => {
    try {
      if (want) {
        dialog.close();
        return want.taken(here.path);
      }
      await taken(places.length ? places : [{ path: here.path, deep: deep() }]);
    } catch (e) {
      say(e.message);
    }
  };
  return (wish) => {
    want = wish?.taken ? wish : null;
    places = [];
    look(null);
    dialog.showModal();
  };
}
