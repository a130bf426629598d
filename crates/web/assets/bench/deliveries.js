// Where the results of a recipe go: a sentence for each delivery, its values when it is open, lines of its own.

import { el } from '../app/api.js';
import { controls, sentence } from './ticket.js';
import { phrase } from '../app/words.js';

// Dialogs that few need come when they are asked for.
const nameBuilder = async (...a) => (await import('./controls/file-names.js')).nameBuilder(...a);
const delivered = async (...a) => (await import('./controls/compression.js')).delivered(...a);
const moveDialog = async (...a) => (await import('./controls/camera-move.js')).moveDialog(...a);

/** Deliveries to begin with. */
const ALSO = {
  'a smaller JPEG': { kind: 'pictures', format: 'jpeg', long_edge: 1600, folder: '{recipe} small' },
  'a web set of three widths': {
    kind: 'pictures',
    format: 'webp',
    quality: 80,
    widths: '480, 960, 1920',
    sharpen: 30,
    page: true,
    folder: '{recipe} widths',
  },
  'AVIF for the web': {
    kind: 'pictures',
    format: 'avif',
    quality: 60,
    long_edge: 1920,
    sharpen: 30,
    folder: '{recipe} avif',
  },
  'TIFF with 16 bits for the next program': {
    kind: 'pictures',
    format: 'tiff',
    bits: 16,
    profile: 'romm-rgb',
    folder: '{recipe} tiff',
  },
  'untouched copies of the originals': { kind: 'pictures', format: 'copy', folder: '{recipe} originals' },
  'numbered frames for a video editor': { kind: 'frames' },
  'a clip to share': { kind: 'video' },
  'a clip for a web page': { kind: 'video', purpose: 'web', size: '720p', name: '{recipe} 720p' },
  'a clip with a camera move': { kind: 'video', fit: 'move', name: '{recipe} move' },
  'a clip to edit further': { kind: 'video', purpose: 'edit', name: '{recipe} edit' },
  'a PDF of all pictures': { kind: 'pdf' },
  'a contact sheet': { kind: 'contact' },
  'one picture of all frames': { kind: 'stack' },
  'linear DNG, raw for the next program': { kind: 'dng' },
  'an archive': { kind: 'archive' },
  'a course pack': { kind: 'course' },
};

/** Endings of files, for names shown before. */
const ENDINGS = { dng: 'dng', png: 'png', webp: 'webp', avif: 'avif', jxl: 'jxl', tiff: 'tif', jpeg: 'jpg' };

/**
 * Gives a function that draws the deliveries into `box`. `desk` tells of the bench: `doc()`, `told()`, `kinds`, `kind(step)`,
 * `cost()`, `frame`, `histogram()`, `changed(done)`, `draw()`.
 */
export function deliveries(box, desk) {
  let opened = null;
  // The line of its own whose values are shown.
  let values = null;
  const memory = {};

  function ownLines(goes) {
    const doc = desk.doc();
    const own = goes.steps ?? [];
    const rows = own.flatMap((step, k) => [
      el(
        'div',
        { class: 'own-line' },
        el(
          'button',
          {
            type: 'button',
            class: 'btn btn-sm btn-outline-dark',
            title: phrase('bench-its-values'),
            'aria-expanded': values === step,
            onclick: () => {
              values = values === step ? null : step;
              desk.draw();
            },
          },
          desk.kind(step).title,
        ),
        ' ',
        el(
          'button',
          {
            type: 'button',
            class: 'btn btn-sm btn-outline-dark',
            title: phrase('bench-it-applies-to-all-deliveries-again'),
            onclick: () => {
              own.splice(k, 1);
              if (!own.length) delete goes.steps;
              doc.steps.push(step);
              desk.changed(true);
            },
          },
          phrase('bench-back-to-all'),
        ),
      ),
      ...(values === step
        ? [
            controls(
              desk.kind(step).params,
              () => step,
              (v, done) => {
                Object.assign(step, v);
                desk.changed(done);
              },
              desk.histogram(),
              memory,
            ),
          ]
        : []),
    ]);
    const take = el(
      'select',
      { class: 'span2', 'aria-label': phrase('bench-a-line-for-this-delivery-alone') },
      el('option', { value: '' }, phrase('bench-take-a-line-of-the-ticket')),
      ...doc.steps.map((s, i) => el('option', { value: i }, `${i + 1} ${desk.kind(s).title}`)),
    );
    take.onchange = () => {
      const [step] = doc.steps.splice(Number(take.value), 1);
      if (!step) return;
      delete step.block;
      delete step.checkpoint;
      delete step.ask;
      goes.steps = [...own, step];
      desk.changed(true);
    };
    return [
      ...rows,
      el(
        'label',
        {},
        el('span', { title: phrase('bench-lines-that-follow-the-recipes-here') }, phrase('bench-lines-of-its-own')),
        take,
      ),
    ];
  }

  function one(goes, i) {
    const doc = desk.doc();
    const kind = desk.kinds.find((k) => k.id === goes.kind) ?? desk.kinds[0];
    const put = (values, done) => {
      Object.assign(goes, values);
      desk.changed(done);
    };
    const open = opened === i;
    // Kinds that make a file of each picture.
    const each = ['pictures', 'frames', 'archive', 'course', 'dng'].includes(kind.id);
    // Nothing is computed where pixels are carried over.
    const carried = [phrase('any-as-it-is'), 'copy'].includes(goes.format) || kind.id === 'dng';
    const told = desk.told();
    const cost = desk.cost()?.deliveries?.[i];
    const act = (label, title, run, more = {}) =>
      el(
        'button',
        { type: 'button', class: 'btn btn-sm btn-outline-dark py-0 px-1', title, onclick: run, ...more },
        label,
      );
    const turn = () => {
      opened = open ? null : i;
      desk.draw();
    };
    const arrow = el(
      'button',
      {
        type: 'button',
        class: 'goes-arrow',
        title: open ? phrase('bench-fold-it-up') : phrase('bench-all-its-values'),
        'aria-expanded': open,
        'aria-label': phrase('bench-delivery-all-its-values', { i: i + 1 }),
        onclick: turn,
      },
      '→',
    );
    const acts = [
      each &&
        !carried &&
        act('look', phrase('bench-as-the-file-will-be-beside'), () => delivered(doc, desk.frame, i, goes)),
      doc.deliveries.length > 1 &&
        act(
          'remove',
          '',
          () => {
            doc.deliveries.splice(i, 1);
            opened = null;
            desk.changed(true);
          },
          { 'aria-label': phrase('bench-remove-delivery', { i: i + 1 }) },
        ),
    ].filter(Boolean);
    const line = el(
      'div',
      { class: `goes${open ? ' is-open' : ''}`, 'data-delivery': i, title: kind.about },
      arrow,
      ...sentence(told?.goes[i] ?? [`${kind.title}.`], kind.params, () => goes, put),
      el('small', { class: 'goes-cost', hidden: !cost }, cost ?? ''),
      ...(open && acts.length ? [el('div', { class: 'row-acts' }, ...acts)] : []),
    );
    // The words and the paper around them open it, as with a line; values have work of their own.
    line.addEventListener('click', (e) => {
      if (e.target === line) turn();
    });
    if (!open) return [line];
    const moves = kind.id === 'video' && goes.fit === 'move';
    const own = (name) => goes[name] ?? kind.params.find((p) => p.name === name).default;
    // The marks of a move have a view of their own.
    const means = told?.fits[i] ?? [];
    const fits = kind.params.filter((p) => means.includes(p.name) && p.name !== 'move');
    const ending = ENDINGS[goes.format ?? { archive: 'tiff', dng: 'dng' }[kind.id] ?? 'jpeg'] ?? '';
    const builder = el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-outline-dark',
        onclick: () =>
          nameBuilder(
            {
              name: goes.name ?? kind.params.find((p) => p.name === 'name').default,
              recipe: doc.name,
              start: goes.start ?? 1,
              ending,
            },
            (name) => put({ name }, true),
          ),
      },
      phrase('bench-build-the-name-more'),
    );
    const path = el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-outline-dark',
        onclick: () =>
          moveDialog(
            {
              ...doc,
              deliveries: doc.deliveries.map((d, k) => (k === i ? { ...d, move: own('move'), ease: own('ease') } : d)),
            },
            desk.frame,
            i,
            (found) => put(found, true),
          ),
      },
      phrase('bench-set-the-move'),
    );
    return [
      line,
      el(
        'div',
        { class: 'controls' },
        moves
          ? el('div', { class: 'shape' }, path, el('small', {}, phrase('bench-marks', { count: own('move').length })))
          : '',
        controls(fits, () => goes, put, desk.histogram(), memory),
        each ? el('div', { class: 'shape' }, builder) : '',
        ...(carried ? [] : ownLines(goes)),
      ),
    ];
  }

  return () => {
    const doc = desk.doc();
    if (!doc.deliveries.length) doc.deliveries.push({ kind: 'pictures' });
    const also = el(
      'select',
      { class: 'form-select form-select-sm take-in', id: 'also-deliver', 'aria-label': phrase('bench-deliver-also') },
      el('option', { value: '' }, phrase('bench-deliver-also-more')),
      ...Object.keys(ALSO).map((name) => el('option', {}, name)),
    );
    also.onchange = () => {
      doc.deliveries.push({ ...ALSO[also.value] });
      opened = null;
      desk.changed(true);
    };
    box.replaceChildren(...doc.deliveries.flatMap(one), also);
  };
}
