// The recipe on the bench: its document, what was decided before, and whether what is done now is written down or only
// tried. Nothing here knows of the page; whoever draws listens.

const same = (a, b) => JSON.stringify(a) === JSON.stringify(b);

/** A recipe being written. */
export class RecipeStore {
  constructor() {
    this.doc = null;
    /** Decisions that can be taken back, and those that were. */
    this.past = [];
    this.future = [];
    /** The recipe after the last decision: undo goes through decisions, not through the moves of a hand. */
    this.settled = '';
    /** While only trying: what the recipe was then, and how far undo reached. */
    this.off = null;
    /** Told of every decision that is to be kept. */
    this.keep = () => {};
  }

  /** A recipe as it is kept; nothing of one before can be taken back. */
  begin(document) {
    Object.assign(this, { doc: document, past: [], future: [], off: null });
    this.settled = this.text();
  }

  text() {
    return JSON.stringify(this.doc);
  }

  /** What is written down: not what is only tried. */
  written() {
    return this.off ? this.off.text : this.text();
  }

  /** A gesture has ended; whether that was a decision. */
  decide() {
    if (this.text() === this.settled) return false;
    this.past.push(this.settled);
    this.future = [];
    this.settled = this.text();
    if (!this.off) this.keep();
    return true;
  }

  canUndo() {
    return this.past.length > (this.off?.past ?? 0);
  }

  /** One decision back; while trying, not behind what is written down. */
  undo() {
    return this.canUndo() && this.travel(this.past, this.future);
  }

  redo() {
    return this.future.length > 0 && this.travel(this.future, this.past);
  }

  travel(from, to) {
    to.push(this.settled);
    this.settled = from.pop();
    this.doc = JSON.parse(this.settled);
    if (!this.off) this.keep();
    return true;
  }

  /** From now on what is done is only tried, or written down again; what was tried till then is taken. */
  record(on) {
    if (on === !this.off) return;
    if (!on) this.off = { text: this.text(), past: this.past.length };
    else if (this.isPending()) this.take();
    else this.off = null;
  }

  /** Whether something is tried that is not written down. */
  isPending() {
    return this.off !== null && this.text() !== this.off.text;
  }

  /** All that was tried becomes one decision. */
  take() {
    this.past = [...this.past.slice(0, this.off.past), this.off.text];
    this.future = [];
    this.settled = this.text();
    this.off = null;
    this.keep();
  }

  /** Everything is again as it was when trying began. */
  drop() {
    this.doc = JSON.parse(this.off.text);
    this.past = this.past.slice(0, this.off.past);
    this.future = [];
    this.settled = this.off.text;
    this.off = null;
  }

  /** Whether a line is not written down as it stands. */
  isTried(line) {
    return this.off !== null && !JSON.parse(this.off.text).steps.some((kept) => same(kept, line));
  }

  /** Its name, given by whoever keeps it: no decision, and not undone. */
  rename(name) {
    const renamed = (text) => JSON.stringify({ ...JSON.parse(text), name });
    this.doc.name = name;
    this.settled = renamed(this.settled);
    if (this.off) this.off.text = renamed(this.off.text);
  }

  /** Values of a line; those that are as usual are not written. Of values that exclude each other the last one counts. */
  setValues(at, values, kind) {
    const line = this.doc.steps[at];
    const names = Object.keys(values);
    if (names.some((name) => kind.one_of.includes(name) && values[name] != null)) {
      for (const name of kind.one_of) if (!names.includes(name)) delete line[name];
    }
    for (const [name, value] of Object.entries(values)) {
      const param = kind.params.find((p) => p.name === name);
      if (same(value, param.default)) delete line[name];
      else line[name] = value;
    }
  }

  /** What stands around a line's values: mix, area, condition, values per ISO, block. Gives the line's place after that. */
  setAround(at, key, value) {
    const line = this.doc.steps[at];
    if (value === undefined) delete line[key];
    else line[key] = value;
    if (key !== 'block') return at;
    const { doc } = this;
    if (value && !(doc.blocks ?? []).some((b) => b.name === value))
      doc.blocks = [...(doc.blocks ?? []), { name: value }];
    // Lines of one block are neighbours.
    const others = doc.steps.flatMap((s, k) => (value && s.block === value && k !== at ? [k] : []));
    if (others.length && !others.some((k) => Math.abs(k - at) === 1)) {
      const last = others.at(-1);
      doc.steps.splice(at, 1);
      doc.steps.splice(last + (at < last ? 0 : 1), 0, line);
    }
    this.tidyBlocks();
    return doc.steps.indexOf(line);
  }

  /** Another name for a block; whether it can have it. */
  renameBlock(name, to) {
    if (!to || this.doc.blocks.some((b) => b.name === to)) return false;
    for (const line of this.doc.steps) if (line.block === name) line.block = to;
    this.doc.blocks.find((b) => b.name === name).name = to;
    return true;
  }

  /** Blocks without lines are gone. */
  tidyBlocks() {
    const { doc } = this;
    if (!doc.blocks) return;
    doc.blocks = doc.blocks.filter((b) => doc.steps.some((s) => s.block === b.name));
    if (!doc.blocks.length) delete doc.blocks;
  }

  insert(at, ...lines) {
    this.doc.steps.splice(at, 0, ...lines);
  }

  remove(at) {
    this.doc.steps.splice(at, 1);
    this.tidyBlocks();
  }

  switchLine(at) {
    const line = this.doc.steps[at];
    if (!line) return;
    if (line.on === false) delete line.on;
    else line.on = false;
  }

  /** Puts a line elsewhere; between two lines of a block it joins them, away from its own it leaves it. */
  relocate(at, to) {
    const { steps } = this.doc;
    const [line] = steps.splice(at, 1);
    // The key came from a line that is gone and not yet drawn away.
    if (!line) return;
    steps.splice(to, 0, line);
    const [above, below] = [steps[to - 1]?.block, steps[to + 1]?.block];
    const isTorn = line.block && line.block !== above && line.block !== below;
    if (above && above === below) line.block = above;
    else if (isTorn && steps.some((s) => s !== line && s.block === line.block)) delete line.block;
    this.tidyBlocks();
  }
}
