// What next? A field that finds steps by what people type.

import { READING } from './reading.js';
import { el, say } from '../app/api.js';
import { phrase } from '../app/words.js';

const $ = (id) => document.getElementById(id);

/** Milliseconds after a step was entered in which what is typed is the next one, and not a shortcut. */
const NEXT_WORD = 2000;

/** Lets the field find steps and write them onto the ticket. */
export function adding(bench) {
  // What next?
  let offers = [];
  let offer = 0;
  /** What was typed and entered before the recipe and its steps were there. */
  const early = [];
  const isLoaded = () => Boolean(bench.doc && bench.kinds.length);
  function find() {
    if (!isLoaded()) return;
    const q = $('ask').value.trim().toLowerCase();
    const shape = /^(\d+(?:\.\d+)?)\s*[:x×]\s*(\d+(?:\.\d+)?)$/.exec(q);
    offers = [];
    if (shape && Number(shape[1]) < 100)
      offers.push({
        k: bench.kinds.find((k) => k.tool?.kind === 'window'),
        values: { proportion: `${shape[1]}:${shape[2]}` },
      });
    else if (/^\d{3,5}$/.test(q))
      offers.push({ k: bench.kinds.find((k) => k.one_of.includes('long_edge')), values: { long_edge: Number(q) } });
    const score = (k) => {
      if (!q) return 1;
      if (k.title.toLowerCase() === q) return 6;
      if (k.words.includes(q)) return 5;
      if (k.title.toLowerCase().startsWith(q) || k.id.startsWith(q)) return 4;
      if (k.words.some((w) => w.startsWith(q))) return 3;
      if (k.words.some((w) => w.includes(q) || q.includes(w)) || k.title.toLowerCase().includes(q)) return 2;
      return 0;
    };
    const fits = [...bench.kinds, READING]
      .map((k) => ({ k, s: score(k) }))
      .filter((o) => o.s && !offers.some((f) => f.k === o.k));
    if (q) fits.sort((a, b) => b.s - a.s);
    offers.push(...fits.map((o) => ({ k: o.k, values: o.k.lately ?? o.k.starter })));
    offer = 0;
    offered(!q);
  }
  function offered(grouped) {
    const box = $('found');
    box.hidden = false;
    $('ask').setAttribute('aria-expanded', 'true');
    let group = '';
    const items = [];
    offers.forEach((o, i) => {
      if (grouped && o.k.group !== group) {
        group = o.k.group;
        items.push(el('li', { class: 'group', role: 'presentation' }, group));
      }
      items.push(
        el(
          'li',
          {
            role: 'option',
            id: `offer-${i}`,
            class: i === offer ? 'is-on' : '',
            'aria-selected': i === offer,
            onpointerdown: (e) => {
              e.preventDefault();
              add(o);
            },
          },
          o.k.title,
          el('small', {}, o.k.about.split('; ')[0]),
        ),
      );
    });
    if (!offers.length) items.push(el('li', { class: 'group' }, phrase('bench-no-step-by-that-word-try')));
    box.replaceChildren(...items);
    $('ask').setAttribute('aria-activedescendant', offers.length ? `offer-${offer}` : '');
    box.querySelector('.is-on')?.scrollIntoView({ block: 'nearest' });
  }
  function shut() {
    $('found').hidden = true;
    $('ask').setAttribute('aria-expanded', 'false');
  }
  let resting = 0;
  /** Empties the field. Somebody who enters one word after the other stays in it; the keys are shortcuts again after a rest. */
  function emptied(byKey) {
    offers = [];
    $('ask').value = '';
    shut();
    clearTimeout(resting);
    const leave = () => {
      if ($('ask').value) return;
      $('ask').blur();
      if (byKey && (bench.pick.tool || bench.pick.neutral)) bench.stage.focus({ preventScroll: true });
    };
    if (byKey) resting = setTimeout(leave, NEXT_WORD);
    else leave();
  }
  function add(o, byKey = false) {
    if (o.k === READING) {
      emptied(false);
      bench.lineZero.show();
      return;
    }
    const last = bench.doc.steps.at(-1);
    // A second one straight after another is the same decision: it folds into that line.
    if (last?.step === o.k.id) {
      bench.open = bench.doc.steps.length - 1;
      const asked = [o.k.starter, o.k.lately].includes(o.values) ? {} : structuredClone(o.values);
      emptied(byKey);
      bench.useTool(null, false);
      bench.change(bench.open, asked, true);
      document.querySelector('#lines .is-open')?.scrollIntoView({ block: 'nearest' });
      return;
    }
    bench.doc.steps.push({ step: o.k.id });
    const defaults = Object.fromEntries(o.k.params.map((p) => [p.name, JSON.stringify(p.default)]));
    for (const [name, value] of Object.entries(o.values))
      if (JSON.stringify(value) !== defaults[name]) bench.doc.steps.at(-1)[name] = structuredClone(value);
    if (o.values === o.k.lately) say(phrase('bench-starts-from-the-values-you-used', { title: o.k.title }));
    bench.open = bench.doc.steps.length - 1;
    emptied(byKey);
    bench.changed(true);
    bench.useTool(o.k.tool, Boolean(o.k.tool?.opens_at_once), byKey);
    document.querySelector('#lines .is-open')?.scrollIntoView({ block: 'nearest' });
  }
  /** Keeps what is entered for when it can be written down. */
  function keepEarly() {
    const text = $('ask').value.trim();
    if (!text) return;
    early.push(text);
    $('ask').value = '';
    say(phrase('bench-the-recipe-is-being-opened-is', { text }));
  }
  /** Writes down what was entered early, and goes on finding with what is being typed. */
  bench.takeEarly = () => {
    const typing = document.activeElement === $('ask') ? $('ask').value : null;
    const unknown = [];
    for (const text of early.splice(0)) {
      $('ask').value = text;
      find();
      if (offers.length) add(offers[0]);
      else unknown.push(text);
    }
    shut();
    if (unknown.length)
      say(phrase('bench-there-is-no-step-by-the', { unknown: unknown.map((text) => `“${text}”`).join(', ') }));
    if (typing === null) return;
    $('ask').value = typing;
    $('ask').focus();
    find();
  };
  $('ask').addEventListener('input', find);
  $('ask').addEventListener('focus', find);
  $('ask').addEventListener('blur', shut);
  $('ask').addEventListener('keydown', (e) => {
    if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
      offer = (offer + (e.key === 'ArrowDown' ? 1 : offers.length - 1)) % Math.max(1, offers.length);
      offered(!$('ask').value.trim());
    } else if (e.key === 'Enter' && !isLoaded()) keepEarly();
    else if (e.key === 'Enter' && offers[offer]) add(offers[offer], true);
    else if (e.key === 'Escape') $('ask').blur();
    else return;
    e.preventDefault();
    e.stopPropagation();
  });
}
