// An empty ticket offers recipes to start from: a click writes one down, and undo takes it back.

import { el, json } from '../app/api.js';
import { phrase } from '../app/words.js';

/** Shows the offers while nothing is written. */
export async function starting(bench) {
  const box = document.getElementById('starting');
  bench.showStarting = () => {
    box.hidden = !box.children.length || bench.doc.steps.length > 0;
  };
  const starters = await json('GET', '/api/starters').catch(() => []);
  const offer = ({ name, note, document: from }) =>
    el(
      'button',
      {
        type: 'button',
        class: 'btn btn-sm btn-outline-dark',
        title: note,
        onclick() {
          const { steps, deliveries, blocks, note: about, labels } = structuredClone(from);
          Object.assign(bench.doc, { steps, deliveries, blocks, note: about, labels, name });
          bench.keeper.namedByItself = false;
          bench.changed(true);
        },
      },
      name,
    );
  if (starters.length) box.append(el('small', {}, phrase('bench-or-start-from')), ...starters.map(offer));
  if (bench.doc) bench.showStarting();
}
