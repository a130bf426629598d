// Only what stays, played before anything is decided.

import { say } from '../app/api.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** Gives the page `play`. */
export function playing(seq) {
  seq.play = function play() {
    if (seq.playing) {
      clearInterval(seq.playing);
      seq.playing = null;
      $('play').firstChild.textContent = phrase('sequence-play-only-what-stays');
      seq.look(seq.at);
      return;
    }
    const stay = seq.stays();
    if (!stay.length) {
      say(phrase('sequence-no-frame-stays-take-a-pass'));
      return;
    }
    let k = Math.max(
      0,
      stay.findIndex((i) => i >= seq.at),
    );
    if (k >= stay.length - 1) k = 0;
    $('play').firstChild.textContent = phrase('sequence-stop');
    // What comes next is fetched before it is wanted.
    stay.slice(k, k + 40).forEach((i) => {
      new Image().src = seq.thumb(seq.frames[i], 400);
    });
    seq.playing = setInterval(() => {
      if (k >= stay.length) {
        seq.play();
        return;
      }
      if (stay[k + 40] != null) new Image().src = seq.thumb(seq.frames[stay[k + 40]], 400);
      seq.look(stay[k]);
      k += 1;
    }, 40);
  };
  $('play').onclick = seq.play;
}
