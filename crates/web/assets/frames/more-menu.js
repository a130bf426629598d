// Other shoots, selections, what was left out, saving and loading a shoot.

import { ask, el, json, say } from '../app/api.js';
import { state, targets, view } from './desk.js';
import { paper } from './paper.js';

const $ = (id) => document.getElementById(id);

export async function leftOut() {
  const all = await json('GET', `/api/shoots/${state.shoot}/left-out`).catch(() => []);
  paper(all.length ? `${all.length} files left out` : 'Nothing was left out', [
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
          item('Look again for new and gone files', () => json('POST', `/api/shoots/${state.shoot}/scan`, {})),
          item(
            v.follow ? '✓ Follow live' : 'Follow live',
            put({ follow: !v.follow }),
            'New files appear as they are written',
          ),
          item(
            v.results ? '✓ Take in results of earlier runs' : 'Take in results of earlier runs',
            put({ results: !v.results }),
          ),
          item(`Left out: ${v.left_out ?? 0} files`, acts.leftOut),
        ]
      : []),
    ...(state.ids.length
      ? [
          item('Put into a selection …', intoSelection),
          item('Save the shoot as a file', () => {
            location.href = '/api/shoot-file';
          }),
        ]
      : []),
    item('Open a shoot file …', () => openFile(acts.others)),
    item(
      'A second window',
      () => {
        window.open('/second', 'rallo-second', 'width=1100,height=760');
      },
      'Shows the current frame, for a second screen',
    ),
    item('Simulated interval camera …', acts.camera),
    ...(selections.length
      ? [
          el('div', { class: 'menu-head' }, 'Selections'),
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
                  title: 'Forget this selection; its frames stay',
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
                'forget',
              ),
            ),
          ),
        ]
      : []),
    ...(state.list
      ? [
          item('Take the selected frames out of this selection', async () => {
            await json('POST', `/api/selections/${state.list}/remove`, { ids: targets() });
            view();
          }),
          item('Back to the shoot', desk({ list: null, selection: [] })),
        ]
      : []),
    ...(shoots.length
      ? [
          el('div', { class: 'menu-head' }, 'Shoots'),
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
    'aria-label': 'Name of the selection',
    id: 'selection-name',
  });
  paper(
    `Put ${ids.length} ${ids.length === 1 ? 'frame' : 'frames'} into a selection`,
    [
      el('p', {}, 'A selection is a list with a name, also across shoots. Nothing is copied.'),
      name,
      el('datalist', { id: 'selection-names' }, ...all.map((s) => el('option', { value: s.name }))),
    ],
    [
      [
        'Put in',
        async () => {
          const made = await json('POST', '/api/selections', { name: name.value, ids });
          say(`In “${made.name}”. Selections stand under More.`);
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
      if (told.missing) say(`${told.missing} of its frames are not there any more.`);
    } catch (e) {
      say(e.message);
    }
  };
  input.click();
}
