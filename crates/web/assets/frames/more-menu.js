// Other shoots, selections, what was left out, saving and loading a shoot.

import { ask, el, json, say } from '../app/api.js';
import { state, targets, view } from './desk.js';
import { paper } from './paper.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

export async function leftOut() {
  const all = await json('GET', `/api/shoots/${state.shoot}/left-out`).catch(() => []);
  paper(all.length ? phrase('frames-files-left-out', { count: all.length }) : phrase('frames-nothing-was-left-out'), [
    el(
      'div',
      { class: 'scroll' },
      el(
        'table',
        { class: 'table table-sm' },
        el('tbody', {}, ...all.slice(0, 1000).map((l) => el('tr', {}, el('td', {}, l.name), el('td', {}, l.reason)))),
      ),
    ),
  ]);
}

/** The menu of everything rarer; `acts` is what the page does: `camera`, `leftOut`, and `others` where other frames lie on the desk. */
export async function menu(acts) {
  const box = $('more-menu');
  const opener = $('more');
  if (!box.hidden) {
    box.hidden = true;
    opener.setAttribute('aria-expanded', 'false');
    return;
  }
  const [shoots, selections] = await Promise.all([
    json('GET', '/api/shoots').catch(() => []),
    json('GET', '/api/selections').catch(() => []),
  ]);
  const v = state.view ?? {};
  const shut = () => {
    box.hidden = true;
    opener.setAttribute('aria-expanded', 'false');
    opener.focus();
  };
  const item = (label, run, title) =>
    el(
      'button',
      {
        type: 'button',
        class: 'menu-item',
        role: 'menuitem',
        title,
        onclick: async () => {
          shut();
          try {
            await run();
          } catch (e) {
            say(e.message);
          }
        },
      },
      label,
    );
  const put = (change) => async () => {
    await json('PUT', `/api/shoots/${state.shoot}`, change);
    view();
  };
  const desk = (change) => async () => {
    await ask('PUT', '/api/desk', change);
    await acts.others();
  };
  box.replaceChildren(
    ...(state.shoot && !state.list
      ? [
          item(phrase('frames-look-again-for-new-and-gone'), () => json('POST', `/api/shoots/${state.shoot}/scan`, {})),
          item(
            v.follow ? phrase('frames-follow-live') : phrase('frames-follow-live-more'),
            put({ follow: !v.follow }),
            phrase('frames-new-files-appear-as-they-are'),
          ),
          item(
            v.results
              ? phrase('frames-take-in-results-of-earlier-runs')
              : phrase('frames-take-in-results-of-earlier-runs-more'),
            put({ results: !v.results }),
          ),
          item(phrase('frames-left-out-files', { count: v.left_out ?? 0 }), acts.leftOut),
        ]
      : []),
    ...(state.ids.length
      ? [
          item(phrase('frames-put-into-a-selection'), intoSelection),
          item(phrase('frames-save-the-shoot-as-a-file'), () => {
            location.href = '/api/shoot-file';
          }),
        ]
      : []),
    item(phrase('frames-open-a-shoot-file'), () => openFile(acts.others)),
    item(
      phrase('frames-a-second-window'),
      () => {
        window.open('/second', 'rallo-second', 'width=1100,height=760');
      },
      phrase('frames-shows-the-current-frame-for-a'),
    ),
    item(phrase('frames-simulated-interval-camera'), acts.camera),
    ...(selections.length
      ? [
          el('div', { class: 'menu-head' }, phrase('frames-selections')),
          ...selections.map((s) =>
            el(
              'div',
              { class: 'menu-row' },
              item(`${s.id === state.list ? '✓ ' : ''}${s.name} (${s.frames})`, desk({ list: s.id, selection: [] })),
              el(
                'button',
                {
                  type: 'button',
                  class: 'menu-item small',
                  title: phrase('frames-forget-this-selection-its-frames-stay'),
                  onclick: async () => {
                    try {
                      await ask('DELETE', `/api/selections/${s.id}`);
                      if (s.id === state.list) await acts.others();
                      shut();
                      menu(acts);
                    } catch (e) {
                      say(e.message);
                    }
                  },
                },
                phrase('frames-forget'),
              ),
            ),
          ),
        ]
      : []),
    ...(state.list
      ? [
          item(phrase('frames-take-the-selected-frames-out-of'), async () => {
            await json('POST', `/api/selections/${state.list}/remove`, { ids: targets() });
            view();
          }),
          item(phrase('frames-back-to-the-shoot'), desk({ list: null, selection: [] })),
        ]
      : []),
    ...(shoots.length
      ? [
          el('div', { class: 'menu-head' }, phrase('frames-shoots')),
          ...shoots.slice(0, 12).map((s) =>
            item(`${s.id === state.shoot && !state.list ? '✓ ' : ''}${s.name}`, async () => {
              await json('POST', '/api/shoots', { shoot: s.id });
              await acts.others();
            }),
          ),
        ]
      : []),
  );
  box.hidden = false;
  opener.setAttribute('aria-expanded', 'true');
  box.querySelector('button')?.focus();
  const away = (e) => {
    if (!box.contains(e.target) && e.target !== opener) {
      box.hidden = true;
      opener.setAttribute('aria-expanded', 'false');
      removeEventListener('pointerdown', away);
    }
  };
  addEventListener('pointerdown', away);
  box.onkeydown = (e) => {
    const all = [...box.querySelectorAll('button')];
    const at = all.indexOf(document.activeElement);
    if (e.key === 'Escape') shut();
    else if (e.key === 'ArrowDown') all[(at + 1) % all.length].focus();
    else if (e.key === 'ArrowUp') all[(at + all.length - 1) % all.length].focus();
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
}

async function intoSelection() {
  const ids = targets();
  const all = await json('GET', '/api/selections').catch(() => []);
  const name = el('input', {
    class: 'form-control form-control-sm',
    list: 'selection-names',
    'aria-label': phrase('frames-name-of-the-selection'),
    id: 'selection-name',
  });
  paper(
    phrase('frames-put-so-many-into-a-selection', { count: ids.length }),
    [
      el('p', {}, phrase('frames-a-selection-is-a-list-with')),
      name,
      el('datalist', { id: 'selection-names' }, ...all.map((s) => el('option', { value: s.name }))),
    ],
    [
      [
        phrase('frames-put-in'),
        async () => {
          const made = await json('POST', '/api/selections', { name: name.value, ids });
          say(phrase('frames-in-selections-stand-under-more', { name: made.name }));
        },
        'selection-go',
      ],
    ],
  );
  name.focus();
}

function openFile(others) {
  const input = el('input', { type: 'file', accept: '.json,application/json' });
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
