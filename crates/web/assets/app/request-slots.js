// How many requests are under way at a time: a browser has few connections to a server, and saving must always find one.

/**
 * Gives out so many places. Who asks last is served first, since what was asked for before is older; or in their order,
 * where all of it is wanted.
 */
export class Slots {
  constructor(count, inOrder = false) {
    this.free = count;
    this.inOrder = inOrder;
    this.waiting = [];
  }

  /** Runs `work` when there is a place; a signal that is aborted before that ends it. */
  async run(work, signal) {
    if (this.free > 0) this.free -= 1;
    else {
      await new Promise((resolve, reject) => {
        const one = { resolve };
        this.waiting.push(one);
        signal?.addEventListener(
          'abort',
          () => {
            this.waiting = this.waiting.filter((w) => w !== one);
            reject(signal.reason);
          },
          { once: true },
        );
      });
    }
    try {
      signal?.throwIfAborted();
      return await work();
    } finally {
      const next = this.inOrder ? this.waiting.shift() : this.waiting.pop();
      if (next) next.resolve();
      else this.free += 1;
    }
  }
}

/** For everything that has pixels computed. */
export const pixels = new Slots(2);
