// The queue: what waits, in which order, and how much of the machine it may have.

import { ask, duration, el, json, say } from '../app/api.js';

const $ = (id) => document.getElementById(id);
const doing =
  (work) =>
  async (...a) => {
    try {
      await work(...a);
    } catch (e) {
      say(e.message);
    }
  };

function words(one) {
  const p = one.progress;
  const ended = p.done + p.failed + p.skipped;
  return {
    waiting:
      one.at && new Date(one.at) > new Date()
        ? `waits until ${new Date(one.at).toLocaleString([], { dateStyle: 'medium', timeStyle: 'short' })}`
        : 'waits for its turn',
    running: `${ended} of ${p.total}${p.left != null ? `, ${duration(p.left)} left` : ''}`,
    paused: `paused at ${ended} of ${p.total}${p.reason ? `. ${p.reason}` : ''}`,
    asking: `waits for your yes. ${p.reason ?? ''}`,
  }[p.state];
}

const draw = doing(async () => {
  const all = await json('GET', '/api/runs');
  const act = (id, what, label, title, body) =>
    el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-outline-light',
        title,
        onclick: doing(async () => {
          await ask('POST', `/api/runs/${id}/${what}`, body ?? {});
          draw();
        }),
      },
      label,
    );
  const row = (one, i) => {
    const id = one.progress.run;
    const { state } = one.progress;
    return el(
      'li',
      {},
      el('a', { href: `/runs/${id}` }, `Run ${id}`),
      ` ${one.recipe}, version ${one.version}, on ${one.frames_of}: `,
      el('span', {}, words(one)),
      ' ',
      state === 'paused' || (state === 'waiting' && one.at)
        ? act(id, 'go-on', state === 'paused' ? 'Go on' : 'Start now', '')
        : ['running', 'waiting'].includes(state)
          ? act(id, 'pause', 'Pause', 'After the pictures in work')
          : '',
      ' ',
      i > 0 ? act(id, 'move', '↑', 'Earlier', { by: -1 }) : '',
      i > 1 ? act(id, 'move', 'First', 'Before all others', { by: -2 }) : '',
      i + 1 < all.length ? act(id, 'move', '↓', 'Later', { by: 1 }) : '',
      ' ',
      act(id, 'cancel', 'Stop', 'What is done stays'),
    );
  };
  $('queue').replaceChildren(
    el('h2', {}, 'The queue'),
    all.length ? el('ol', { class: 'queue-list' }, ...all.map(row)) : el('p', {}, 'Nothing waits.'),
  );
});

const put = doing(async () => {
  await ask('PUT', '/api/limits', {
    cores: Number($('cores').value),
    memory: Number($('memory').value),
    quiet: $('quiet').checked,
  });
});
doing(async () => {
  const limits = await json('GET', '/api/limits');
  $('cores').value = limits.cores || '';
  $('memory').value = limits.memory || '';
  $('quiet').checked = limits.quiet;
  for (const id of ['cores', 'memory', 'quiet']) $(id).addEventListener('change', put);
})();

// The signal is the browser's own; it is asked for once, here.
$('signal').checked = localStorage.getItem('signal') === 'yes';
$('sound').checked = localStorage.getItem('sound') === 'yes';
$('signal').addEventListener('change', async () => {
  let on = $('signal').checked;
  if (on && 'Notification' in window && Notification.permission !== 'granted')
    on = (await Notification.requestPermission()) === 'granted';
  $('signal').checked = on;
  localStorage.setItem('signal', on ? 'yes' : 'no');
  if (!on && !$('signal').disabled && 'Notification' in window && Notification.permission === 'denied')
    say('The browser does not allow it for this page; its settings can change that.');
});
$('sound').addEventListener('change', () => localStorage.setItem('sound', $('sound').checked ? 'yes' : 'no'));

let due;
const soon = () => {
  due ??= setTimeout(() => {
    due = null;
    draw();
  }, 300);
};
document.addEventListener('rallo:run', soon);
document.addEventListener('rallo:again', soon);
draw();

// A PDF made smaller: sent, answered, and handed on as a download.
const chosen = document.getElementById('smaller-file');
const smaller = document.getElementById('smaller');
const size = (bytes) => (bytes < 1e6 ? `${Math.round(bytes / 1000)} kB` : `${(bytes / 1e6).toFixed(1)} MB`);
chosen.onchange = () => {
  smaller.disabled = !chosen.files.length;
};
smaller.onclick = async () => {
  const file = chosen.files[0];
  const told = document.getElementById('smaller-told');
  const value = (id) => document.getElementById(id).value;
  smaller.disabled = true;
  told.textContent = 'At work …';
  try {
    const answer = await fetch(`/api/smaller?ppi=${value('smaller-ppi')}&quality=${value('smaller-quality')}`, {
      method: 'POST',
      body: file,
      headers: { 'x-rallo-token': document.querySelector('meta[name=rallo-token]').content },
    });
    if (!answer.ok) {
      const text = await answer.text();
      let said = text;
      try {
        said = JSON.parse(text).detail;
      } catch {
        /* plain */
      }
      throw new Error(said);
    }
    const [changed, all] = answer.headers.get('x-rallo-changed').split(' of ');
    const made = await answer.blob();
    if (changed === '0') told.textContent = `Nothing could be gained: its ${all} pictures are small enough.`;
    else {
      const link = el('a', {
        href: URL.createObjectURL(made),
        download: file.name.replace(/\.pdf$/i, '') + ' smaller.pdf',
      });
      link.click();
      told.textContent = `${size(made.size)} instead of ${size(file.size)}: ${changed} of ${all} pictures made smaller.`;
    }
  } catch (e) {
    told.textContent = e.message;
  }
  smaller.disabled = false;
};
