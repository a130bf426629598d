// The lines of light that can be shown, and which of them are.

import { el } from '../app/api.js';
import { COLOURS, called } from './area-shapes.js';
import { phrase } from '../app/words.js';

const LINES = { brightness: '#f2f2f2', contrast: '#5fb89f', change: '#d9b36c' };

/** Fits the page with its lines and their legend. */
export function legend(seq) {
  /** The lines there are: of the whole, and of every area. */
  seq.known = () =>
    [[null, ''], ...seq.areas.map((area, i) => [i, `${called(area, i)} `])].flatMap(([area, of]) =>
      Object.keys(LINES).map((name) => ({
        key: area == null ? name : `${area} ${name}`,
        label: `${of}${name}`,
        area,
        name,
        colour: area == null ? LINES[name] : COLOURS[area],
      })),
    );

  seq.legend = function legend() {
    document.getElementById('legend').replaceChildren(
      ...seq.known().map(({ key, label, name, colour }) =>
        el(
          'button',
          {
            type: 'button',
            class: 'legend',
            'aria-pressed': String(Boolean(seq.shown[key])),
            style: `color:${colour}`,
            title: phrase('sequence-show-it-or-not'),
            onclick: () => {
              seq.shown[key] = !seq.shown[key];
              seq.legend();
              seq.draw();
            },
          },
          `${seq.shown[key] ? (name === 'brightness' ? '━' : '╍') : '╌'} ${label}`,
        ),
      ),
    );
  };
}
