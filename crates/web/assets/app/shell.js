// The rail: what runs, on every page, and the keys that lead from page to page.

import { duration, json, say, typing } from './api.js';
import { phrase } from './words.js';

const $ = (id) => document.getElementById(id);
const open = new Map();
const title = document.title;

function words() {
  const all = [...open.values()];
  const running = all.find((r) => r.state === 'running');
  const waiting = all.filter((r) => r.state === 'waiting').length;
  const asking = all.find((r) => r.state === 'asking');
  const yes = asking ? phrase('app-run-waits-for-your-yes', { run: asking.run }) : '';
  if (asking && !running) return yes;
  const paused = all.find((r) => r.state === 'paused');
  if (!running && paused) return phrase('app-run-is-paused', { run: paused.run });
  if (!running) return waiting ? phrase('app-waiting', { waiting }) : phrase('app-nothing-waiting');
  const ended = running.done + running.failed + running.skipped;
  const left = running.left == null ? '' : phrase('any-left', { time: duration(running.left) });
  return phrase('app-run-of', {
    yes: yes ? `${yes}. ` : '',
    run: running.run,
    ended,
    total: running.total,
    left,
    waiting: waiting ? phrase('app-waiting-waiting', { waiting }) : '',
  });
}

/** Somebody who walked away is told, if that is wanted. */
function signal(run) {
  const text =
    run.state === 'asking'
      ? phrase('app-run-waits-for-your-yes-run-reason', { run: run.run, reason: run.reason ?? '' })
      : phrase('app-run-is-done-of', {
          run: run.run,
          done: run.done + run.skipped,
          total: run.total,
          failed: run.failed ? phrase('app-failed', { failed: run.failed }) : '',
        });
  if (localStorage.getItem('signal') === 'yes' && 'Notification' in window && Notification.permission === 'granted') {
    // One for all pages that are open.
    const note = new Notification('Rallo', { body: text, tag: `rallo-run-${run.run}-${run.state}` });
    note.onclick = () => {
      window.focus();
      location.href = `/runs/${run.run}`;
    };
  }
  if (localStorage.getItem('sound') === 'yes' && 'AudioContext' in window) {
    const sound = new AudioContext();
    const tone = new OscillatorNode(sound, { frequency: 660 });
    const volume = new GainNode(sound, { gain: 0.08 });
    tone.connect(volume).connect(sound.destination);
    tone.start();
    tone.stop(sound.currentTime + 0.25);
    tone.onended = () => sound.close();
  }
}

/** After so many milliseconds without the program it is said that it is away. */
const AWAY_AFTER = 1500;
/** A browser that gave up tries again after this. */
const AGAIN = 3000;

document.addEventListener('alpine:init', () => {
  window.Alpine.data('rail', () => ({
    queue: phrase('app-nothing-waiting'),
    init() {
      this.listen();
      // A page that is kept for going back to must not hold its connection: a browser has few of them.
      window.addEventListener('pagehide', () => this.events.close());
      window.addEventListener('pageshow', (e) => {
        if (e.persisted) this.listen();
      });
    },
    events: null,
    awaySoon: null,
    listen() {
      const events = new EventSource('/events');
      this.events = events;
      // The browser tries again by itself; somebody who looks is told meanwhile.
      events.onerror = () => {
        this.awaySoon ??= setTimeout(() => {
          $('away').hidden = false;
        }, AWAY_AFTER);
        if (events.readyState === EventSource.CLOSED) setTimeout(() => this.listen(), AGAIN);
      };
      events.onmessage = (message) => {
        const run = JSON.parse(message.data);
        const before = open.get(run.run)?.state;
        if (['done', 'cancelled'].includes(run.state)) open.delete(run.run);
        else open.set(run.run, run);
        if (run.state !== before && (run.state === 'asking' || (run.state === 'done' && before))) signal(run);
        this.queue = words();
        const running = [...open.values()].find((r) => r.state === 'running');
        const share = running
          ? (running.done + running.failed + running.skipped + running.under_way) / running.total
          : 0;
        this.$refs.busy.style.width = `${share * 100}%`;
        const asking = [...open.values()].some((r) => r.state === 'asking');
        document.title = asking
          ? phrase('app-yes', { title })
          : running
            ? `${Math.floor(share * 100)} % – ${title}`
            : title;
        document.dispatchEvent(new CustomEvent('rallo:run', { detail: run }));
      };
      events.addEventListener('frames', (message) => {
        document.dispatchEvent(new CustomEvent('rallo:frames', { detail: JSON.parse(message.data) }));
      });
      // After a break everything open is told anew, and pages look again: something may have ended meanwhile.
      events.onopen = () => {
        clearTimeout(this.awaySoon);
        this.awaySoon = null;
        $('away').hidden = true;
        open.clear();
        this.queue = words();
        document.dispatchEvent(new CustomEvent('rallo:again'));
      };
    },
  }));
});

/** What a run would take, as the rail and its button say it. */
export function runTakes(chosen, word, left) {
  $('rail-frames')?.replaceChildren(String(chosen));
  $('rail-frames-word')?.replaceChildren(word);
  $('rail-left-out')?.replaceChildren(left ? `, ${left}` : '');
  $('run-count').textContent = phrase('any-frames', { count: chosen });
}

/**
 * While the folders of the shoot are being read, pages that were opened meanwhile follow: how many frames there are is told
 * as they are found, and once all are known every page hears of it (`rallo:read`).
 */
const rail = document.querySelector('.rail');
let following = null;
async function follow() {
  following = null;
  const desk = await json('GET', '/api/desk').catch(() => null);
  if (desk) {
    const { chosen, word, left_out: left } = desk.takes;
    runTakes(chosen, word, left);
    if (!desk.scanning) delete rail.dataset.beingRead;
    document.dispatchEvent(new CustomEvent('rallo:read', { detail: desk }));
  }
  // The last word may have been said before this page could hear it.
  followSoon(1000);
}
// The frames' own page asks for more than this anyway.
const followSoon = (time = 250) => {
  if (rail?.dataset.beingRead && !document.body.classList.contains('page-frames'))
    following ??= setTimeout(follow, time);
};
followSoon();
document.addEventListener('rallo:frames', (e) => {
  if (String(e.detail.shoot) === rail.dataset.beingRead) followSoon();
});
document.addEventListener('rallo:again', () => followSoon());

/** The last run once more, on what is chosen now, without a sheet. */
async function again() {
  try {
    const r = await json('POST', '/api/runs/again', null);
    const newer = r.newer ? phrase('app-version-of-it-is-newer-r', { newer: r.newer }) : '';
    say(
      phrase('app-run-is-started-as-before', {
        run: r.run,
        recipe: r.recipe,
        version: r.version,
        count: r.count,
        like: r.like,
        newer,
      }),
    );
  } catch (e) {
    say(phrase('app-not-started', { message: e.message }));
  }
}

/** What lies on the desk runs at once if there is nothing to say; else its sheet is shown. */
async function go() {
  try {
    const r = await json('POST', '/api/runs/go');
    if (r.sheet) {
      location.href = '/sheet';
      return;
    }
    say(
      phrase('app-run-is-started', {
        run: r.run,
        recipe: r.recipe,
        count: r.count,
        folder: r.folder,
      }),
    );
  } catch (e) {
    say(phrase('app-not-started', { message: e.message }));
  }
}

document.addEventListener('keydown', (e) => {
  if (e.key === 'Enter' && e.ctrlKey && !document.querySelector('dialog[open]')) {
    e.preventDefault();
    go();
    return;
  }
  if (typing(e) || e.ctrlKey || e.metaKey || e.altKey || document.querySelector('dialog[open]')) return;
  if (e.key === 'R') {
    e.preventDefault();
    again();
    return;
  }
  const to = { f: '/frames', j: '/sequence', e: '/bench', c: '/recipes', r: '/sheet', m: '/watched', '?': '/keys' }[
    e.key.toLowerCase()
  ];
  if (to) {
    e.preventDefault();
    location.href = to;
  }
});

// A picture that lies no longer where it was leaves its place empty, without the browser's sign of something broken; some
// were asked for before this page's script began.
for (const image of document.images)
  if (image.src && image.complete && !image.naturalWidth) image.classList.add('is-gone');
for (const [what, isGone] of [
  ['error', true],
  ['load', false],
])
  document.addEventListener(
    what,
    (e) => {
      if (e.target instanceof HTMLImageElement) e.target.classList.toggle('is-gone', isGone);
    },
    true,
  );
