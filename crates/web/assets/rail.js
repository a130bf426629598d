// The rail: what runs, on every page, and the keys that lead from page to page.

import { duration, json, say, typing } from './talk.js';

const open = new Map();
const title = document.title;

function words() {
  const running = [...open.values()].find((r) => r.state === 'running');
  const waiting = [...open.values()].filter((r) => r.state === 'waiting').length;
  if (!running) return waiting ? `${waiting} waiting` : 'nothing waiting';
  const ended = running.done + running.failed + running.skipped;
  const left = running.left == null ? '' : `, ${duration(running.left)} left`;
  return `Run ${running.run}: ${ended} of ${running.total}${left}${waiting ? `, ${waiting} waiting` : ''}`;
}

document.addEventListener('alpine:init', () => {
  window.Alpine.data('rail', () => ({
    queue: 'nothing waiting',
    init() {
      this.listen();
      // A page that is kept for going back to must not hold its connection: a browser has few of them.
      window.addEventListener('pagehide', () => this.events.close());
      window.addEventListener('pageshow', (e) => { if (e.persisted) this.listen(); });
    },
    events: null,
    listen() {
      const events = new EventSource('/events');
      this.events = events;
      events.onmessage = (message) => {
        const run = JSON.parse(message.data);
        if (run.state === 'running' || run.state === 'waiting') open.set(run.run, run);
        else open.delete(run.run);
        this.queue = words();
        const running = [...open.values()].find((r) => r.state === 'running');
        const share = running ? (running.done + running.failed + running.skipped) / running.total : 0;
        this.$refs.busy.style.width = `${share * 100}%`;
        document.title = running ? `${Math.floor(share * 100)} % – ${title}` : title;
        document.dispatchEvent(new CustomEvent('rallo:run', { detail: run }));
      };
      events.addEventListener('frames', (message) => {
        document.dispatchEvent(new CustomEvent('rallo:frames', { detail: JSON.parse(message.data) }));
      });
      // After a break everything open is told anew, and pages look again: something may have ended meanwhile.
      events.onopen = () => {
        open.clear();
        document.dispatchEvent(new CustomEvent('rallo:again'));
      };
    },
  }));
});

/** The last run once more, on what is chosen now, without a sheet. */
async function again() {
  try {
    const r = await json('POST', '/api/runs/again', null);
    const newer = r.newer ? ` Version ${r.newer} of it is newer; R shows the sheet for that.` : '';
    say(`Run ${r.run} is started: ${r.recipe}, version ${r.version}, on ${r.count} ${r.count === 1 ? 'frame' : 'frames'}, as in run ${r.like}.${newer}`);
  } catch (e) { say(`Not started: ${e.message}`); }
}

document.addEventListener('keydown', (e) => {
  if (typing(e) || e.ctrlKey || e.metaKey || e.altKey || document.querySelector('dialog[open]')) return;
  if (e.key === 'R') { e.preventDefault(); again(); return; }
  const to = { f: '/frames', e: '/bench', c: '/recipes', r: '/sheet', '?': '/keys' }[e.key.toLowerCase()];
  if (to) {
    e.preventDefault();
    location.href = to;
  }
});
