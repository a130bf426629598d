// Where the picture lies in the stage, at which zoom, and which part of it is seen.

/** What is known of a picture's place; whoever has pictures builds on it. */
export class Placed {
  /** Size of the result that is drawn, or that will be. */
  size() {
    const { after } = this.pictures;
    const source = this.source();
    return after && after.upto === source.upto && after.frame === source.frame ? after.head.size : source.size;
  }

  /** Where the picture lies on the stage (CSS pixels), and its scale. */
  place() {
    const { width: all, height } = this.stage.getBoundingClientRect();
    const [w, h] = this.size();
    const dots = devicePixelRatio;
    // Side by side, the result has the right half; before lies `left` further to the left.
    const left = this.compare === 'side' && !this.plain() ? Math.round(all / 2) : 0;
    const width = all - left;
    const zoom = this.zoom === 'fit' ? Math.min((width * dots) / w, (height * dots) / h, 1) / dots : this.zoom / dots;
    const at = (room, side, share) => {
      const spare = room - side * zoom;
      return spare >= 0 ? spare / 2 : Math.max(spare, Math.min(0, room / 2 - share * side * zoom));
    };
    return {
      x: left + at(width, w, this.centre[0]),
      y: at(height, h, this.centre[1]),
      zoom,
      width,
      height,
      w,
      h,
      left,
      all,
    };
  }

  /** A point of the stage as shares of the picture. */
  share(x, y) {
    const p = this.place();
    const over = x < p.left ? x + p.left : x;
    return [(over - p.x) / (p.w * p.zoom), (y - p.y) / (p.h * p.zoom)];
  }

  /** How the result is looked at, as the server is told. */
  view() {
    const p = this.place();
    const dots = devicePixelRatio;
    return {
      room: [Math.max(1, p.width * dots), Math.max(1, p.height * dots)],
      zoom: this.zoom === 'fit' ? null : this.zoom,
      centre: [...this.centre],
    };
  }

  setZoom(zoom, centre) {
    this.zoom = zoom;
    if (centre) this.centre = centre;
    this.refresh();
  }

  move(dx, dy) {
    const p = this.place();
    const limit = (v) => Math.max(0, Math.min(1, v));
    this.centre = [limit(this.centre[0] - dx / (p.w * p.zoom)), limit(this.centre[1] - dy / (p.h * p.zoom))];
    this.refresh();
  }
}
