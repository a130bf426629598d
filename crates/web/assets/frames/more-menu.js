// The menu of everything rarer: other shoots, selections, what was left out, saving and loading a shoot.

import { ask, json, say } from '../app/api.js';
import { state, targets, view } from './desk.js';
import { openDialog } from './dialog.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** What the entries do; `page` has `camera`, and `others` where other frames lie on the desk. */
const entries = (page) => ({
  scan: ({ shoot }) => json('POST', `/api/shoots/${shoot}/scan`, {}),
  shoot: async ({ shoot, change }) => {
    await json('PUT', `/api/shoots/${shoot}`, JSON.parse(change));
    view();
  },
  'left-out': () => openDialog('/frames/dialogs/left-out'),
  select: intoSelection,
  'open-file': () => openFile(page.others),
  second: () => window.open('/second', 'rallo-second', 'width=1100,height=760'),
  camera: page.camera,
  desk: async ({ change }) => {
    await ask('PUT', '/api/desk', JSON.parse(change));
    await page.others();
  },
  forget: async ({ selection }) => {
    await ask('DELETE', `/api/selections/${selection}`);
    if (Number(selection) === state.list) await page.others();
    await menu(page);
  },
  'take-out': async ({ selection }) => {
    await json('POST', `/api/selections/${selection}/remove`, { ids: targets() });
    view();
  },
  open: async ({ shoot }) => {
    await json('POST', '/api/shoots', { shoot: Number(shoot) });
    await page.others();
  },
});

function shut() {
  $('more-menu').hidden = true;
  $('more').setAttribute('aria-expanded', 'false');
}

/** Opens the menu, or shuts it where it is open. */
export async function menu(page) {
  const box = $('more-menu');
  if (!box.hidden) {
    shut();
    return;
  }
  const answer = await fetch('/frames/menu').catch(() => null);
  if (!answer?.ok) return;
  box.innerHTML = await answer.text();
  box.hidden = false;
  $('more').setAttribute('aria-expanded', 'true');
  const all = [...box.querySelectorAll('button, a')];
  all[0].focus();
  box.onclick = async (e) => {
    const entry = e.target.closest('.menu-item');
    if (!entry) return;
    shut();
    $('more').focus();
    try {
      await entries(page)[entry.dataset.act]?.(entry.dataset);
    } catch (error) {
      say(error.message);
    }
  };
  const away = (e) => {
    if (box.contains(e.target) || e.target === $('more')) return;
    shut();
    removeEventListener('pointerdown', away);
  };
  addEventListener('pointerdown', away);
  box.onkeydown = (e) => {
    const at = all.indexOf(document.activeElement);
    if (e.key === 'Escape') {
      shut();
      $('more').focus();
    } else if (e.key === 'ArrowDown') all[(at + 1) % all.length].focus();
    else if (e.key === 'ArrowUp') all[(at + all.length - 1) % all.length].focus();
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
}

function intoSelection() {
  const ids = targets();
  return openDialog(`/frames/dialogs/selection?count=${ids.length}`, {
    go: async () => {
      const made = await json('POST', '/api/selections', { name: $('selection-name').value, ids });
      say(phrase('frames-in-selections-stand-under-more', { name: made.name }));
    },
  });
}

function openFile(others) {
  const input = Object.assign(document.createElement('input'), { type: 'file', accept: '.json,application/json' });
  input.onchange = async () => {
    try {
      const text = await input.files[0].text();
      const response = await fetch('/api/shoot-file', {
        method: 'POST',
        headers: { 'x-rallo-token': document.querySelector('meta[name=rallo-token]').content },
        body: text,
      });
      const told = await response.json();
      if (!response.ok) throw new Error(told.detail);
      await others();
      if (told.missing) say(phrase('frames-of-its-frames-are-not-there', { missing: told.missing }));
    } catch (e) {
      say(e.message);
    }
  };
  input.click();
}
