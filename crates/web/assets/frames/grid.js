// Thousands of frames, of which only those in sight are in the document: as thumbnails or as a list.

import { el } from '../app/api.js';
import { phrase } from '../app/words.js';

const GAP = 12;
const CAPTION = 40;
const LINE = 34;

/** Shutter time for people. */
export const seconds = (s) => (s == null ? null : s < 0.4 ? `1/${Math.round(1 / s)} s` : `${s} s`);

/** Columns a list can show: title and what stands there. */
export const COLUMNS = {
  taken: [phrase('frames-column-taken'), (r) => r.taken?.replace('T', ' ').slice(0, 21)],
  iso: ['ISO', (r) => r.facts?.iso],
  shutter: [phrase('frames-column-shutter'), (r) => seconds(r.facts?.shutter)],
  aperture: [phrase('frames-column-aperture'), (r) => r.facts?.aperture && `f/${r.facts.aperture}`],
  focal: [
    phrase('frames-focal-length'),
    (r) => r.facts?.focal_length && phrase('frames-mm', { focallength: r.facts.focal_length }),
  ],
  camera: [phrase('frames-column-camera'), (r) => r.facts?.camera],
  lens: [phrase('frames-column-lens'), (r) => r.facts?.lens],
  pixels: [phrase('frames-column-pixels'), (r) => r.facts && `${r.facts.width} × ${r.facts.height}`],
  type: [phrase('frames-column-type'), (r) => r.facts?.format],
  bytes: [phrase('frames-column-file'), (r) => phrase('any-mb', { bytes: (r.bytes / 1e6).toFixed(1) })],
  rating: [phrase('frames-column-rating'), (r) => '●'.repeat(r.rating)],
  keywords: [phrase('frames-column-keywords'), (r) => r.keywords.join(', ')],
  brightness: [phrase('frames-column-brightness'), (r) => r.measures?.brightness.toFixed(1)],
  contrast: [phrase('frames-column-contrast'), (r) => r.measures?.contrast.toFixed(1)],
  sharpness: [phrase('frames-column-sharpness'), (r) => r.measures?.sharpness.toFixed(1)],
  noise: [phrase('frames-column-noise'), (r) => r.measures?.noise.toFixed(2)],
  folder: [phrase('frames-column-folder'), (r) => r.folder],
};

export const CHOICES = { open: '', kept: phrase('frames-kept'), set_aside: phrase('frames-set-aside') };

export class Grid {
  /** `state` holds ids, at, selected and the rows that are known; `want` fetches rows. */
  constructor(box, state, want) {
    this.box = box;
    this.state = state;
    this.want = want;
    this.size = 180;
    this.list = false;
    this.columns = ['taken', 'iso', 'shutter', 'aperture', 'pixels', 'rating', 'keywords'];
    this.cells = new Map();
    this.inner = el('div', { class: 'grid-inner', role: 'presentation' });
    box.replaceChildren(this.inner);
    addEventListener('scroll', () => this.draw(), { passive: true });
    new ResizeObserver(() => this.draw()).observe(box);
  }

  across() {
    return this.list ? 1 : Math.max(1, Math.floor((this.box.clientWidth + GAP) / (this.size + GAP)));
  }

  pitch() {
    if (this.list) return LINE;
    const width = (this.box.clientWidth + GAP) / this.across() - GAP;
    return Math.round(width * 0.66) + CAPTION + GAP;
  }

  /** Draws what is in sight. */
  draw() {
    const { ids } = this.state;
    const across = this.across();
    const pitch = this.pitch();
    const rows = Math.ceil(ids.length / across);
    this.box.style.height = `${rows * pitch}px`;
    const top = this.box.getBoundingClientRect().top;
    const first = Math.max(0, Math.floor(-top / pitch) - 2);
    const last = Math.min(rows, Math.ceil((innerHeight - top) / pitch) + 2);
    const from = first * across;
    const some = ids.slice(from, last * across);
    this.inner.style.transform = `translateY(${first * pitch}px)`;
    this.inner.style.gridTemplateColumns = this.list ? '1fr' : `repeat(${across},minmax(0,1fr))`;
    this.inner.style.gridAutoRows = `${pitch - (this.list ? 0 : GAP)}px`;
    this.inner.style.rowGap = this.list ? '0' : `${GAP}px`;
    const seen = new Set(some);
    for (const [id, cell] of this.cells)
      if (!seen.has(id)) {
        cell.node.remove();
        this.cells.delete(id);
      }
    some.forEach((id, i) => {
      const row = this.state.rows.get(id);
      const key = `${this.list}${this.columns}${JSON.stringify(row)}`;
      let cell = this.cells.get(id);
      if (!cell || cell.key !== key) {
        const node = this.list ? this.line(id, row) : this.thumb(id, row, cell?.node);
        if (cell && cell.node !== node) cell.node.replaceWith(node);
        cell = { node, key };
        this.cells.set(id, cell);
      }
      const node = cell.node;
      node.dataset.index = from + i;
      node.setAttribute('aria-posinset', from + i + 1);
      node.setAttribute('aria-setsize', ids.length);
      node.setAttribute('aria-selected', this.state.selected.has(id));
      node.classList.toggle('is-at', from + i === this.state.at);
      node.classList.toggle('is-working', Boolean(this.state.working?.has(id)));
      if (this.inner.children[i] !== node) this.inner.insertBefore(node, this.inner.children[i] ?? null);
    });
    const missing = some.filter((id) => !this.state.rows.has(id));
    if (missing.length) this.want(missing);
    const at = ids[this.state.at];
    if (at !== undefined) this.box.setAttribute('aria-activedescendant', `frame-${at}`);
  }

  picture(id, row) {
    if (!row) return el('i', {});
    if (row.problem && !row.facts) return el('i', { class: 'no-picture' }, phrase('frames-no-picture'));
    const edge = this.list || this.size < 150 ? 160 : 400;
    return el(
      'i',
      {},
      el('img', { src: `/api/frames/${id}/thumb?edge=${edge}&s=${row.stamp}`, alt: '', draggable: 'false' }),
    );
  }

  thumb(id, row, old) {
    const said = !row
      ? ''
      : row.problem
        ? el('em', {}, row.problem)
        : row.look
          ? el('em', {}, row.look.join(', '))
          : [
              row.facts?.iso && phrase('any-iso', { iso: row.facts.iso }),
              row.facts?.aperture && `f/${row.facts.aperture}`,
              row.rating ? '●'.repeat(row.rating) : `${row.facts?.width} × ${row.facts?.height}`,
            ]
              .filter(Boolean)
              .join(', ');
    const name = el('b', {}, row?.name ?? '');
    const mark = row && CHOICES[row.choice] ? el('span', { class: 'decided' }, CHOICES[row.choice]) : '';
    const cls = `fr${row ? ` is-${row.choice}` : ''}`;
    const picture =
      old?.querySelector('img')?.src && row && old.dataset.stamp === row.stamp
        ? old.querySelector('i')
        : this.picture(id, row);
    return el(
      'div',
      {
        class: cls,
        role: 'option',
        id: `frame-${id}`,
        'data-stamp': row?.stamp,
      },
      picture,
      el('span', { class: 'tick', title: phrase('frames-select-for-a-run-space'), 'aria-hidden': true }),
      el('span', { class: 'cap' }, name, mark),
      el('span', { class: 'cap2' }, said),
      row?.rating ? el('span', { class: 'visually-hidden' }, phrase('frames-rating', { rating: row.rating })) : '',
    );
  }

  line(id, row) {
    const cells = row
      ? this.columns.map((c) => el('span', { class: `col col-${c}` }, String(COLUMNS[c][1](row) ?? '')))
      : [];
    return el(
      'div',
      { class: `fr line${row ? ` is-${row.choice}` : ''}`, role: 'option', id: `frame-${id}` },
      el('span', { class: 'tick', title: phrase('frames-select-for-a-run-space'), 'aria-hidden': true }),
      this.picture(id, row),
      el('b', {}, row?.name ?? ''),
      el('span', { class: 'col decided' }, row ? (row.problem ?? CHOICES[row.choice]) : ''),
      ...cells,
    );
  }

  /** Brings a position into sight. */
  show(index) {
    const pitch = this.pitch();
    const y = Math.floor(index / this.across()) * pitch;
    const top = this.box.getBoundingClientRect().top + scrollY;
    const under = document.getElementById('bar').getBoundingClientRect().bottom + 8;
    if (top + y < scrollY + under) scrollTo({ top: top + y - under });
    else if (top + y + pitch > scrollY + innerHeight) scrollTo({ top: top + y + pitch - innerHeight + 6 });
    this.draw();
  }
}
