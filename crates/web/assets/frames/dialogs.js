// Slips of paper over the frames: the sequence check, shifting times, keywords, gathering, the interval camera.

import { ask, el, json, say } from '../app/api.js';
import { forget, only, paper, settled, state, targets, view } from './page.js';

const $ = (id) => document.getElementById(id);
const button = (label, run, more = {}) =>
  el('button', { type: 'button', class: 'btn btn-sm btn-outline-secondary', onclick: run, ...more }, label);

/** The sequence check. */
export async function check() {
  let told;
  await settled();
  try {
    told = (await json('POST', '/api/check', {})).check;
  } catch (e) {
    return say(e.message);
  }
  const lines = told.statements.map((s) => {
    const text = el('span', {}, s.text);
    if (!s.frames.length) return el('li', { class: s.odd ? 'is-odd' : '' }, text);
    return el(
      'li',
      { class: s.odd ? 'is-odd' : '' },
      el(
        'button',
        {
          class: 'statement',
          type: 'button',
          title: 'Shows these frames',
          onclick: () => {
            $('paper').close();
            only(s.frames);
          },
        },
        s.text,
        el('small', {}, ` ${s.frames.length} shown`),
      ),
    );
  });
  const plot =
    told.distances.length > 1 && told.interval > 0
      ? [
          el(
            'figure',
            { class: 'plot' },
            el('canvas', {
              id: 'plot',
              width: 520,
              height: 90,
              role: 'img',
              'aria-label': 'Time from each frame to the next',
            }),
            el('figcaption', {}, 'time from each frame to the next; the line is the usual one'),
          ),
        ]
      : [];
  paper('Check of the sequence', [el('ol', { class: 'statements' }, ...lines), ...plot]);
  if (plot.length) draw(told);
}

function draw({ distances, interval }) {
  const canvas = $('plot');
  const c = canvas.getContext('2d');
  const [w, h] = [canvas.width, canvas.height];
  const most = Math.max(interval * 2.2, ...distances);
  const root = (v) => Math.sqrt(Math.max(0, v) / most);
  c.clearRect(0, 0, w, h);
  c.strokeStyle = '#1f8a70';
  c.setLineDash([7, 4]);
  c.beginPath();
  c.moveTo(0, h - 4 - root(interval) * (h - 10));
  c.lineTo(w, h - 4 - root(interval) * (h - 10));
  c.stroke();
  c.setLineDash([]);
  distances.forEach((d, i) => {
    const odd = d > interval * 1.5 || d < interval * 0.4;
    c.fillStyle = odd ? '#b5452c' : '#23211e';
    const size = odd ? 5 : 2;
    c.fillRect((i / Math.max(1, distances.length - 1)) * (w - size), h - 4 - root(d) * (h - 10) - size / 2, size, size);
  });
}

/** Shifting capture times, with before and after. */
export function shift() {
  const ids = targets();
  if (!ids.length) return;
  const row = state.rows.get(ids[0]) ?? state.rows.get(state.ids[state.at]);
  const field = (label, value, width) => {
    const f = el('input', {
      class: 'form-control form-control-sm',
      value,
      'aria-label': label,
      style: `width:${width}`,
    });
    return f;
  };
  const sign = el(
    'select',
    { class: 'form-select form-select-sm', 'aria-label': 'Earlier or later', style: 'width:7rem' },
    el('option', { value: '1' }, 'later'),
    el('option', { value: '-1' }, 'earlier'),
  );
  const parts = [
    ['days', 86400],
    ['hours', 3600],
    ['minutes', 60],
    ['seconds', 1],
  ].map(([name, per]) => [field(name, '0', '4.5rem'), per, name]);
  const becomes = field('This frame’s time becomes', row?.taken?.replace('T', ' ') ?? '', '15rem');
  const preview = el('table', { class: 'table table-sm preview' });
  let millis = 0;
  let exact = false;
  async function show() {
    const by = Number(sign.value) * parts.reduce((sum, [f, per]) => sum + Number(f.value || 0) * per, 0) * 1000;
    const body = exact ? { ids, frame: ids[0], becomes: becomes.value } : { ids, millis: Math.round(by) };
    try {
      const told = await json('POST', '/api/shift', body);
      millis = told.millis;
      preview.replaceChildren(
        el(
          'tbody',
          {},
          ...told.lines.map((l) =>
            el(
              'tr',
              {},
              el('td', {}, l.name),
              el('td', {}, l.before),
              el('td', {}, '→'),
              el('td', {}, l.after ?? 'outside the calendar'),
            ),
          ),
          ...(told.timed > told.lines.length
            ? [el('tr', {}, el('td', { colspan: 4 }, `and ${told.timed - told.lines.length} more`))]
            : []),
          ...(told.untimed
            ? [el('tr', {}, el('td', { colspan: 4 }, `${told.untimed} have no capture time and stay as they are`))]
            : []),
        ),
      );
    } catch (e) {
      preview.replaceChildren(el('tbody', {}, el('tr', {}, el('td', { class: 'is-wrong' }, e.message))));
      millis = 0;
    }
  }
  parts.forEach(([f]) => {
    f.oninput = () => {
      exact = false;
      show();
    };
  });
  sign.onchange = () => {
    exact = false;
    show();
  };
  becomes.oninput = () => {
    exact = true;
    show();
  };
  paper(
    `Shift the capture time of ${ids.length} ${ids.length === 1 ? 'frame' : 'frames'}`,
    [
      el('p', {}, 'The files are not changed: the time counts in sorting, in names, and in what results carry.'),
      el('div', { class: 'row-of' }, ...parts.flatMap(([f, , name]) => [f, el('span', {}, name)]), sign),
      el('div', { class: 'row-of' }, el('span', {}, `or ${row?.name ?? 'the first'} was taken at`), becomes),
      preview,
    ],
    [
      [
        'Shift',
        async () => {
          if (!millis) {
            say('Nothing would be moved.');
            return false;
          }
          await json('POST', '/api/change', { ids, change: { do: 'shift', millis } });
          forget(ids);
          view();
          return true;
        },
        'do-shift',
      ],
    ],
  );
  show();
}

/** Keywords of the chosen frames, from a list that is reused; sidecars. */
export async function keywords() {
  const ids = targets();
  if (!ids.length) return;
  const list = await json('GET', '/api/keywords').catch(() => []);
  const rows = ids.map((id) => state.rows.get(id)).filter(Boolean);
  const have = (k) => rows.filter((r) => r.keywords.includes(k)).length;
  const all = [...new Set([...list, ...rows.flatMap((r) => r.keywords)])];
  const add = new Set();
  const remove = new Set();
  const box = el('div', { class: 'ticks' });
  const draw = () =>
    box.replaceChildren(
      ...all.map((k) => {
        const on = add.has(k) || (have(k) === rows.length && rows.length && !remove.has(k));
        const some = !on && have(k) > 0 && !remove.has(k);
        const input = el('input', {
          type: 'checkbox',
          class: 'form-check-input',
          checked: on,
          onchange: () => {
            add.delete(k);
            remove.delete(k);
            if (input.checked) add.add(k);
            else remove.add(k);
            draw();
          },
        });
        input.indeterminate = some;
        return el('label', { class: 'tick' }, input, ` ${k}${some ? ` (${have(k)})` : ''}`);
      }),
    );
  const fresh = el('input', {
    class: 'form-control form-control-sm',
    placeholder: 'new keywords, with commas between',
    'aria-label': 'New keywords',
    id: 'new-keywords',
  });
  draw();
  const sidecar = (write) => async () => {
    try {
      const told = await json('POST', '/api/sidecars', { ids, write });
      say(
        `${told.count} ${write ? 'sidecars written' : 'sidecars read'}.${told.trouble.length ? ` ${told.trouble.slice(0, 3).join('; ')}` : ''}`,
      );
      forget(ids);
      view();
    } catch (e) {
      say(e.message);
    }
  };
  paper(
    `Keywords of ${ids.length} ${ids.length === 1 ? 'frame' : 'frames'}`,
    [
      box,
      fresh,
      el(
        'div',
        { class: 'row-of' },
        button('Read sidecars', sidecar(false), {
          title: 'Takes rating and keywords from the XMP files beside the pictures',
        }),
        button('Write sidecars', sidecar(true), {
          title:
            'Writes rating and keywords into XMP files beside the pictures; those of other programs are left alone',
        }),
        button('Edit the list …', editList),
      ),
    ],
    [
      [
        'Set',
        async () => {
          const words = fresh.value
            .split(',')
            .map((w) => w.trim())
            .filter(Boolean);
          await json('POST', '/api/change', {
            ids,
            change: { do: 'keywords', add: [...add, ...words], remove: [...remove] },
          });
          forget(ids);
          view();
        },
        'set-keywords',
      ],
    ],
  );
  fresh.focus();
}

async function editList() {
  const list = await json('GET', '/api/keywords').catch(() => []);
  const text = el('textarea', { class: 'form-control', rows: 10, 'aria-label': 'Keywords, one a line' });
  text.value = list.join('\n');
  paper(
    'The list of keywords',
    [el('p', {}, 'One a line. Frames keep the keywords they have.'), text],
    [['Keep the list', () => json('PUT', '/api/keywords', text.value.split('\n'))]],
  );
}

/** Gathering: where to, under which names, a look at them, then the copying. */
export async function gather(openFolders) {
  const now = await json('GET', '/api/gather').catch(() => ({ phase: 'none' }));
  if (now.phase === 'looking' || now.phase === 'copying') return follow();
  const template = el('input', {
    class: 'form-control form-control-sm',
    value: '{taken:%Y%m%d-%H%M%S}_{stem}',
    'aria-label': 'Names of the copies',
    id: 'gather-names',
  });
  const chosen = targets().length > 1 ? targets().length : state.view.chosen;
  openFolders({
    label: 'Gather into this folder',
    taken: (path) => {
      paper(
        `Gather ${chosen} frames into ${path.split('/').pop()}`,
        [
          el(
            'p',
            {},
            'Verified copies, named so that their order is the order of capture. The same picture found twice is copied once. Originals are only read.',
          ),
          el('label', {}, 'Names ', template),
        ],
        [
          [
            'Look at the names',
            async () => {
              await settled();
              await json('POST', '/api/gather', { target: path, template: template.value });
              setTimeout(follow, 0);
            },
            'gather-look',
          ],
        ],
      );
    },
  });
}

async function follow() {
  const told = await json('GET', '/api/gather').catch((e) => ({ phase: 'failed', reason: e.message }));
  const r = told.report;
  const stop = [
    'Stop',
    async () => {
      await json('POST', '/api/gather/stop', {});
      return false;
    },
  ];
  if (told.phase === 'looking' || told.phase === 'copying') {
    const word = told.phase === 'looking' ? 'looked at' : 'done';
    paper(
      told.phase === 'looking' ? 'Looking at the frames …' : `Copying into ${told.target} …`,
      [
        el('p', { id: 'gather-said' }, `${told.done} of ${told.total} ${word}`),
        el(
          'div',
          { class: 'progress meter' },
          el('div', { class: 'progress-bar bar-done', style: `width:${(told.done / Math.max(1, told.total)) * 100}%` }),
        ),
      ],
      [stop],
    );
    setTimeout(() => {
      if ($('paper').open) follow();
    }, 400);
    return;
  }
  if (!r) return told.reason && say(told.reason);
  const words = {
    copy: (l) => l.name,
    there: (l) => `${l.name} (there already)`,
    same: (l) => `same picture as ${l.name}`,
  };
  const table = el(
    'div',
    { class: 'scroll' },
    el(
      'table',
      { class: 'table table-sm' },
      el(
        'tbody',
        {},
        ...r.lines.slice(0, 500).map((l) => el('tr', {}, el('td', {}, l.source), el('td', {}, words[l.what](l)))),
      ),
    ),
  );
  const trouble = r.trouble.map((t) => el('div', { class: 'fail' }, el('b', {}, t.name), t.reason));
  const sum = `${r.copied} ${told.phase === 'ended' ? 'copied' : 'copies'}${told.phase === 'planned' ? ` (${r.bytes})` : ''}, ${r.there} there already, ${r.twice} found twice${r.trouble.length ? `, ${r.trouble.length} could not be used` : ''}.`;
  const go = async () => {
    await json('POST', '/api/gather/go', {});
    setTimeout(follow, 100);
    return false;
  };
  if (told.phase === 'planned')
    paper(
      `Into ${told.target}`,
      [el('p', {}, sum), ...(r.room ? [el('p', { class: 'is-wrong' }, r.room)] : []), ...trouble, table],
      r.copied ? [['Copy', go, 'gather-go']] : [],
    );
  else
    paper(
      r.stopped ? 'Stopped; it can go on' : `Gathered into ${told.target}`,
      [el('p', { id: 'gather-said' }, sum), ...trouble, table],
      r.stopped ? [['Go on', go]] : [],
    );
}

/** The simulated interval camera. */
export async function interval(openFolders) {
  const now = await json('GET', '/api/camera').catch(() => ({ on: false }));
  if (now.on) return watch();
  openFolders({
    label: 'The camera writes in here',
    taken: (path) => {
      const field = (label, value, title) =>
        el(
          'label',
          { class: 'setting', title },
          el('span', {}, label),
          el('input', { class: 'form-control form-control-sm', value, 'aria-label': label }),
        );
      const f = {
        frames: field('frames', '20'),
        every: field('seconds between them', '2', 'as you wait'),
        interval: field('seconds on its clock', '900', 'how far its clock goes on from frame to frame'),
        clock: field('its clock says', '2026-04-12T07:00:00'),
        missed: field('frames it misses', '', 'numbers with commas between'),
        double: field('frames it takes twice', ''),
        jump: field('clock jumps, frame:seconds', '', 'such as 12:-3600'),
      };
      const value = (k) => f[k].querySelector('input').value.trim();
      const numbers = (k) => value(k).split(',').filter(Boolean).map(Number);
      paper(
        'A camera over the seed beds (simulated)',
        [
          el(
            'p',
            {},
            'It stands in for an interval camera: it writes frames of Thistlewick’s seed beds into the folder, with the faults you choose.',
          ),
          ...Object.values(f),
        ],
        [
          [
            'Start shooting',
            async () => {
              const jump = value('jump')
                .split(',')
                .filter(Boolean)
                .map((j) => j.split(':').map(Number));
              await json('POST', '/api/camera', {
                folder: path,
                every: Number(value('every')),
                frames: Number(value('frames')),
                interval: Number(value('interval')),
                clock: value('clock'),
                faults: { missed: numbers('missed'), double: numbers('double'), jump },
              });
              setTimeout(watch, 100);
            },
            'camera-go',
          ],
        ],
      );
    },
  });
}

async function watch() {
  const now = await json('GET', '/api/camera').catch((e) => ({ on: false, ended: e.message }));
  paper(
    now.on ? 'The camera is shooting' : 'The camera has stopped',
    [
      el('p', {}, `${now.taken} of ${now.frames} frames into ${now.folder}${now.ended ? `: ${now.ended}` : ''}.`),
      el('p', {}, 'Choose that folder and switch on “Follow live” under More to see them come in.'),
    ],
    now.on
      ? [
          [
            'Stop it',
            async () => {
              await json('POST', '/api/camera/stop', {});
            },
          ],
        ]
      : [],
  );
  if (now.on)
    setTimeout(() => {
      if ($('paper').open) watch();
    }, 1000);
}

/** Files that were not taken in. */
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

/** The menu of everything rarer. */
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
    location.reload();
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
    item('Open a shoot file …', openFile),
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
                      if (s.id === state.list) location.reload();
                      else {
                        shut();
                        menu(acts);
                      }
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
              location.reload();
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

function openFile() {
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
      if (told.missing) sessionStorage.setItem('rallo-say', `${told.missing} of its frames are not there any more.`);
      location.reload();
    } catch (e) {
      say(e.message);
    }
  };
  input.click();
}
