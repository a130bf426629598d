// What else: passes by the words people type, passes that are suggested, and the yes that sets frames aside.

import { el, json, say } from '../app/api.js';
import { found } from './pass-kinds.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** Listens to the fields that add passes. */
export function adding(seq) {
  $('apply').onclick = seq.doing(async () => {
    const told = await json('POST', '/api/sequence/apply', {});
    const frames = (count) => phrase('any-frames', { count });
    say(phrase('sequence-set-aside-and-back', { aside: frames(told.aside), back: frames(told.back) }));
    $('rail-frames').textContent = seq.stays().length;
  });

  $('suggest').onclick = seq.doing(async () => {
    const told = await json('GET', '/api/sequence/suggested');
    const there = new Set(seq.passes.map((p) => JSON.stringify(p)));
    const fresh = told.passes.filter((p) => !there.has(JSON.stringify(p)));
    if (!fresh.length) {
      say(
        told.passes.length
          ? phrase('sequence-these-passes-are-already-there')
          : phrase('sequence-there-is-no-night-no-fog'),
      );
      return;
    }
    seq.passes.push(...fresh);
    seq.open = seq.passes.length - fresh.length;
    say(phrase('sequence-passes-are-suggested', { count: fresh.length }));
    seq.through();
  });

  // What else: passes by the words people type.
  let offer = 0;
  function offers() {
    const all = found($('more').value);
    offer = Math.min(offer, Math.max(0, all.length - 1));
    $('offers').hidden = document.activeElement !== $('more');
    $('offers').replaceChildren(
      ...(all.length
        ? all.map((o, i) =>
            el(
              'li',
              {
                class: i === offer ? 'is-on' : '',
                onpointerdown: (e) => {
                  e.preventDefault();
                  add(o);
                },
              },
              o.label,
            ),
          )
        : [el('li', { class: 'group' }, phrase('sequence-no-pass-by-that-word-try'))]),
    );
  }
  function add(o) {
    seq.passes.push(o.pass());
    seq.open = seq.passes.length - 1;
    $('more').value = '';
    $('more').blur();
    seq.through();
  }
  $('more').addEventListener('input', () => {
    offer = 0;
    offers();
  });
  $('more').addEventListener('focus', offers);
  $('more').addEventListener('blur', offers);
  $('more').addEventListener('keydown', (e) => {
    const all = found($('more').value);
    if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
      offer = (offer + (e.key === 'ArrowDown' ? 1 : all.length - 1)) % Math.max(1, all.length);
      offers();
    } else if (e.key === 'Enter' && all[offer]) add(all[offer]);
    else if (e.key === 'Escape') $('more').blur();
    else return;
    e.preventDefault();
    e.stopPropagation();
  });
}
