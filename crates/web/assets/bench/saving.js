// Keeping what is written: each decision is sent a moment after it was made, on a way of its own that waits for no pixels,
// and outlives the page.

import { json } from '../app/api.js';
import { phrase } from '../app/words.js';

/** Milliseconds in which several decisions become one version. */
const TOGETHER = 100;
/** Milliseconds until it is tried again where the program did not answer. */
const AGAIN = 3000;

/** Keeps a recipe; `text()` gives it as it is, `state(word, why)`, `kept(row)` and `failed(error)` are told what happens. */
export class Keeper {
  constructor({ text, state, kept, failed }) {
    Object.assign(this, { text, state, kept, failed });
    this.id = 0;
    this.page = [...crypto.getRandomValues(new Uint8Array(9))].map((b) => b.toString(16).padStart(2, '0')).join('');
    this.turn = 0;
    this.timer = null;
    this.sending = null;
    this.stored = '';
    this.version = 0;
    this.wrong = false;
    this.namedByItself = false;
    // A page that is put away or closed sends at once what it has.
    document.addEventListener('visibilitychange', () => {
      if (document.visibilityState === 'hidden') this.flush();
    });
    window.addEventListener('pagehide', () => this.flush());
    // Only what could not be kept is worth a question.
    window.addEventListener('beforeunload', (e) => {
      this.flush();
      if (this.wrong) e.preventDefault();
    });
  }

  /** From now on this recipe is kept, which stands there in this version. */
  begin(id, version, stored, namedByItself = false) {
    this.id = id;
    this.version = version;
    this.stored = stored;
    this.namedByItself = namedByItself;
  }

  isKept() {
    return this.timer === null && this.sending === null && !this.wrong;
  }

  save() {
    this.state(phrase('bench-not-saved-yet'));
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.send(), TOGETHER);
  }

  /** What is not sent yet goes now, whether or not an answer is due. */
  flush() {
    if (this.timer === null && !this.wrong) return;
    clearTimeout(this.timer);
    this.timer = null;
    if (this.text() !== this.stored)
      this.put().catch(() => {
        /* the page is gone */
      });
  }

  /** Sends everything, and waits until it is kept or refused. */
  async done() {
    clearTimeout(this.timer);
    this.timer = null;
    await this.sending;
    if (this.text() !== this.stored && !this.wrong) await this.send();
  }

  /** Writes this page's recipe over another version. */
  async over(version) {
    this.version = version;
    this.wrong = false;
    await this.send();
  }

  /** Asks for the name by what it does, after one that was given is taken back. */
  nameAgain() {
    this.stored = '';
    this.save();
  }

  /** Nothing of this is to be kept any more. */
  forget() {
    clearTimeout(this.timer);
    this.timer = null;
    this.wrong = false;
    this.stored = this.text();
  }

  async put() {
    this.turn += 1;
    const now = this.text();
    const row = await json(
      'PUT',
      `/api/recipes/${this.id}`,
      {
        version: this.version,
        document: JSON.parse(now),
        page: this.page,
        turn: this.turn,
        named_by_itself: this.namedByItself,
      },
      // Browsers have little room for requests that outlive their page: a second try does without.
      { last: !this.wrong },
    );
    return { row, now };
  }

  /** One request after the other, until what stands there is what is here. */
  send() {
    clearTimeout(this.timer);
    this.timer = null;
    this.sending ??= this.sendAll().finally(() => {
      this.sending = null;
    });
    return this.sending;
  }

  async sendAll() {
    while (this.text() !== this.stored) {
      try {
        const { row, now } = await this.put();
        this.version = row.version;
        // Its name follows what it does, as long as nobody has named it.
        this.stored = this.namedByItself ? JSON.stringify({ ...JSON.parse(now), name: row.name }) : now;
        this.wrong = false;
        this.kept(row);
      } catch (e) {
        this.wrong = true;
        this.state(phrase('any-not-saved'), e.message);
        this.failed(e);
        // What the program refuses is not sent again; where it did not answer, or could not do it, it is.
        if (e.status === undefined || e.status >= 500) this.timer = setTimeout(() => this.send(), AGAIN);
        return;
      }
    }
    this.state(phrase('bench-saved'));
  }
}
