// What the result is compared with: the picture as it was, the work up to the open line or without it, another recipe.

import { el, json } from '../app/api.js';
import { phrase } from '../app/words.js';

/**
 * `now()` gives { doc, open, moves }: the recipe, the open line, and whether a step moves or widens the picture, so that
 * before has it too.
 */
export class Against {
  constructor(select, now, changed) {
    this.select = select;
    this.now = now;
    // Documents by what is chosen: asked for once, not with every picture.
    this.documents = new Map();
    select.addEventListener('change', changed);
  }

  /** Offers the recipes there are beside this one, and this one's earlier versions. */
  offer(recipes, id, version) {
    this.documents.clear();
    const kept = this.select.value || 'original';
    const option = (value, text) => el('option', { value }, text);
    const others = recipes
      .filter((r) => r.id !== id)
      .map((r) => option(phrase('bench-recipe', { id: r.id }), phrase('bench-recipe-name', { name: r.name })));
    const versions = Array.from({ length: Math.min(version - 1, 12) }, (_, i) =>
      option(
        phrase('bench-version', { id, version: version - 1 - i }),
        phrase('bench-version-version', { version: version - 1 - i }),
      ),
    );
    this.select.replaceChildren(
      option('original', phrase('bench-the-original')),
      option('upto', phrase('bench-up-to-the-open-line')),
      option('without', phrase('bench-without-the-open-line')),
      ...versions,
      ...others,
    );
    this.select.value = [...this.select.options].some((o) => o.value === kept) ? kept : 'original';
  }

  get name() {
    const what = this.select.value;
    if (what === 'original' || !what) return 'before';
    return this.select.selectedOptions[0]?.textContent ?? 'before';
  }

  async document(what) {
    const { doc, open } = this.now();
    const line = doc.steps[open];
    if (what === 'upto' && line) return { ...doc, steps: doc.steps.slice(0, open) };
    if (what === 'without' && line)
      return { ...doc, steps: doc.steps.map((s, i) => (i === open ? { ...s, on: false } : s)) };
    const [kind, id, version] = what.split(' ');
    const path = { recipe: `/api/recipes/${id}`, version: `/api/recipes/${id}/versions/${version}` }[kind];
    if (!path) return null;
    if (!this.documents.has(what)) this.documents.set(what, (await json('GET', path)).document);
    return this.documents.get(what);
  }

  /** What to ask the engine for, and a key that changes when it does, or where it belongs. */
  async other() {
    const { doc, moves } = this.now();
    const framed = doc.steps.filter(moves);
    const recipe = await this.document(this.select.value || 'original');
    if (!recipe)
      return {
        body: { recipe: { ...doc, steps: structuredClone(doc.steps) }, before: true },
        key: JSON.stringify(framed),
      };
    return { body: { recipe: structuredClone(recipe) }, key: JSON.stringify([recipe.steps, framed]) };
  }
}
