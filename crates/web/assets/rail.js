// The rail: what runs, on every page, and the keys that lead from page to page.

import { duration, typing } from './talk.js';

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
      const events = new EventSource('/events');
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

document.addEventListener('keydown', (e) => {
  if (typing(e) || e.ctrlKey || e.metaKey || e.altKey || document.querySelector('dialog[open]')) return;
  const to = { f: '/frames', e: '/bench', c: '/recipes', r: '/sheet', '?': '/keys' }[e.key.toLowerCase()];
  if (to) {
    e.preventDefault();
    location.href = to;
  }
});
