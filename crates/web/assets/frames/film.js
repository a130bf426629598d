// Frames played like a film, from reduced pictures.

import { Player } from '../app/frame-player.js';
import { el, json } from '../app/api.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

export async function film(state, grid) {
  const dialog = $('film');
  const canvas = $('film-canvas');
  const c = canvas.getContext('2d');
  let onlyKept = false;
  let ids = [];
  const stamps = new Map();

  const player = new Player({
    load: async (place) => {
      const id = ids[place];
      const response = await fetch(
        `/api/frames/${id}/thumb?edge=960&s=${stamps.get(id) ?? state.rows.get(id)?.stamp ?? ''}`,
      );
      return response.ok ? createImageBitmap(await response.blob()) : null;
    },
    paint: (picture, place) => {
      // As large as the picture; the page's style fits it into the window.
      if (canvas.width !== picture.width || canvas.height !== picture.height) {
        canvas.width = picture.width;
        canvas.height = picture.height;
      }
      c.drawImage(picture, 0, 0);
      dialog.dataset.at = place;
      dialog.dataset.painted = player.painted;
    },
    close: (picture) => picture.close(),
    told: () => controls.words(),
  });
  const controls = player.controls();

  function choose() {
    const kept = state.ids.filter((_, i) => state.choices[i] === 'k');
    const work = state.ids.filter((_, i) => state.choices[i] !== 's');
    ids = onlyKept ? (kept.length ? kept : work) : state.ids;
    player.changed(false);
    player.count = ids.length;
    player.seek(Math.max(0, ids.indexOf(state.ids[state.at])));
  }
  const pressed = (label, title, get, set) => {
    const b = el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-outline-light',
        title,
        onclick: () => {
          set(!get());
          b.classList.toggle('is-on', get());
        },
      },
      label,
    );
    b.classList.toggle('is-on', get());
    return b;
  };
  $('film-foot').replaceChildren(
    ...controls.all,
    pressed(
      phrase('frames-loop'),
      phrase('frames-begin-again-at-the-end'),
      () => player.looping,
      (v) => {
        player.looping = v;
        player.restart();
      },
    ),
    pressed(
      phrase('frames-only-what-is-kept'),
      phrase('frames-leaves-out-frames-that-are-set'),
      () => onlyKept,
      (v) => {
        onlyKept = v;
        choose();
      },
    ),
    el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-outline-light',
        title: phrase('any-esc'),
        onclick: () => dialog.close(),
      },
      phrase('any-close'),
    ),
  );
  dialog.onkeydown = (e) => player.key(e, controls.position);
  dialog.onclose = () => {
    player.end();
    const found = state.ids.indexOf(ids[player.at]);
    if (found >= 0) {
      state.at = found;
      grid.show(found);
    }
  };
  // Stamps keep the browser's cache honest when a file was written anew.
  json('POST', '/api/rows', { ids: state.ids.slice(0, 600) })
    .then((rows) => rows.forEach((r) => stamps.set(r.id, r.stamp)))
    .catch(() => {});
  choose();
  dialog.dataset.painted = 0;
  if (!dialog.open) dialog.showModal();
  player.begin();
}
