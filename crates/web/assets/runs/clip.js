// A clip in the page: played, and stepped through frame by frame.

import { el } from '../app/api.js';
import { phrase } from '../app/words.js';

/** Codecs that not every browser plays, for which a stand-in is made. */
const NOT_EVERYWHERE = ['H.265', 'intra 4:2:2', 'FFV1', 'AV1'];
const MOVING = ['GIF', 'WebP'];

const clock = (seconds, rate) => {
  const frames = Math.floor((seconds % 1) * rate + 1e-6);
  const two = (n) => String(Math.floor(n)).padStart(2, '0');
  return `${two(seconds / 60)}:${two(seconds % 60)}:${two(frames)}`;
};

/** A player for an item of a run; `clip` is what is known of it. */
export function player(run, position, clip) {
  const base = `/api/runs/${run}/items/${position}`;
  const own = `${base}/file/0`;
  const rate = clip.rate[0] / clip.rate[1];
  if (MOVING.includes(clip.codec))
    return el('div', { class: 'player' }, el('img', { src: own, alt: phrase('runs-the-clip') }));
  const needs = NOT_EVERYWHERE.includes(clip.codec);
  const video = el('video', {
    src: needs ? `${base}/proxy` : own,
    poster: `${base}/still`,
    preload: 'auto',
    playsinline: true,
    'aria-label': phrase('runs-the-clip-more'),
  });
  video.loop = false;
  const note = el('small', {}, needs ? phrase('runs-a-stand-in-for-browsers-is') : '');
  if (!needs) {
    video.addEventListener('error', () => {
      if (video.src.endsWith('/proxy')) return;
      note.textContent = phrase('runs-this-browser-does-not-play-the');
      video.src = `${base}/proxy`;
    });
  }
  const count = clip.frames;
  const at = () => Math.min(count - 1, Math.floor(video.currentTime * rate + 0.001));
  const where = el('span', { class: 'player-where', role: 'status' });
  const bar = el('input', {
    type: 'range',
    min: 0,
    max: Math.max(0, count - 1),
    step: 1,
    value: 0,
    'aria-label': phrase('runs-frame'),
  });
  // The middle of a frame's time, so that rounding never shows its neighbour.
  const go = (frame) => {
    video.pause();
    video.currentTime = (Math.max(0, Math.min(count - 1, frame)) + 0.5) / rate;
  };
  const play = el(
    'button',
    {
      type: 'button',
      class: 'btn btn-sm btn-primary',
      onclick: () => {
        if (video.paused) video.play();
        else video.pause();
      },
    },
    phrase('any-play'),
  );
  const step = (sign, title, by) =>
    el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-outline-light',
        title,
        'aria-label': title,
        onclick: () => go(at() + by),
      },
      sign,
    );
  const again = el(
    'button',
    {
      type: 'button',
      class: 'btn btn-sm btn-outline-light',
      'aria-pressed': false,
      onclick: () => {
        video.loop = !video.loop;
        again.setAttribute('aria-pressed', String(video.loop));
        again.classList.toggle('active', video.loop);
      },
    },
    phrase('runs-over-and-over'),
  );
  const draw = () => {
    bar.value = at();
    where.textContent = phrase('runs-frame-of', { at: at() + 1, count, clock: clock(at() / rate, rate) });
    play.textContent = video.paused ? phrase('any-play') : phrase('any-pause');
  };
  for (const event of ['timeupdate', 'seeked', 'play', 'pause', 'loadeddata']) video.addEventListener(event, draw);
  const follow = () => {
    if (!video.paused) {
      draw();
      requestAnimationFrame(follow);
    }
  };
  video.addEventListener('play', follow);
  bar.oninput = () => go(Number(bar.value));
  const box = el(
    'div',
    { class: 'player' },
    video,
    el(
      'div',
      { class: 'player-bar' },
      play,
      step('‹', phrase('runs-a-frame-back'), -1),
      step('›', phrase('runs-a-frame-on'), 1),
      bar,
      where,
      again,
    ),
    note,
  );
  box.tabIndex = 0;
  box.addEventListener('keydown', (e) => {
    if (e.target === bar) return;
    if (e.key === ' ' && e.target === box) {
      e.preventDefault();
      play.click();
    }
    if (e.key === ',') go(at() - 1);
    if (e.key === '.') go(at() + 1);
  });
  draw();
  return box;
}
