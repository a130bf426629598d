// A value in a sentence: dragged sideways, typed into, stepped with arrow keys.

import { el } from '../app/api.js';
import { options } from '../app/fields.js';
import { parse, shown } from '../app/values.js';
import { phrase } from '../app/words.js';

const NUMERIC = ['number', 'whole'];

/** A value inside a sentence. `step` holds the values, `change(values, done)` writes them. */
export function chip(param, text, values, change) {
  const numeric = NUMERIC.includes(param.kind);
  const button = el(
    'button',
    {
      type: 'button',
      class: `chip${numeric ? '' : ' is-word'}`,
      'data-param': param.name,
      title: `${param.about}${numeric ? phrase('bench-drag-sideways-type-or-use-the') : ''}`,
    },
    text,
  );
  const value = () => values()[param.name] ?? param.default;
  const step = (by, done) => {
    const v = Number(value() ?? 0) + by * param.step;
    change({ [param.name]: Math.round(Math.max(param.min, Math.min(param.max, v)) * 1000) / 1000 }, done);
  };
  const type = () => {
    let field;
    if (param.kind === 'choice') {
      field = el('select', { class: 'chip', 'aria-label': param.name }, ...options(param, value()));
    } else {
      field = el('input', {
        class: `chip${numeric ? '' : ' is-word'}`,
        'aria-label': param.name,
        value: shown(value(), param.kind),
      });
    }
    let over = false;
    const end = (keep) => {
      if (over) return;
      over = true;
      const v = keep ? parse(param, field.value) : undefined;
      if (v !== undefined) change({ [param.name]: v }, true);
      else change({}, true);
    };
    field.addEventListener('keydown', (e) => {
      if (e.key === 'Enter') end(true);
      else if (e.key === 'Escape') end(false);
      e.stopPropagation();
    });
    field.addEventListener('blur', () => end(true));
    if (param.kind === 'choice') field.addEventListener('change', () => end(true));
    button.replaceWith(field);
    field.focus();
    field.select?.();
  };
  button.addEventListener('keydown', (e) => {
    const by = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1 }[e.key];
    if (by && numeric && !e.altKey) {
      e.preventDefault();
      e.stopPropagation();
      step(by * (e.shiftKey ? 10 : 1), true);
    }
  });
  if (param.kind === 'flag') {
    button.addEventListener('click', () => change({ [param.name]: !value() }, true));
    return button;
  }
  if (!numeric) {
    if (!['points', 'kept', 'file'].includes(param.kind)) button.addEventListener('click', type);
    return button;
  }
  button.addEventListener('pointerdown', (down) => {
    if (down.button) return;
    down.preventDefault();
    const start = Number(value() ?? 0);
    let moved = false;
    const move = (e) => {
      const by = Math.round((e.clientX - down.clientX) / 3);
      if (!moved && Math.abs(e.clientX - down.clientX) < 4) return;
      moved = true;
      const v = Math.max(param.min, Math.min(param.max, start + by * param.step));
      change({ [param.name]: Math.round(v * 1000) / 1000 }, false);
    };
    const up = () => {
      window.removeEventListener('pointermove', move);
      if (moved) change({}, true);
      else type();
    };
    // On the window: the chip itself is drawn anew while it is dragged.
    window.addEventListener('pointermove', move);
    window.addEventListener('pointerup', up, { once: true });
  });
  button.addEventListener('click', (e) => {
    if (e.detail === 0) type();
  });
  return button;
}
