//! Sizes, rectangles and affine mappings in pixel coordinates.
//!
//! Coordinates are continuous: pixel `i` covers `[i, i + 1)`, its centre lies at `i + 0.5`.

/// Width and height in pixels, at least 1 × 1 for a real picture.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Size {
    /// Pixels per row.
    pub width: u32,
    /// Rows.
    pub height: u32,
}

impl Size {
    /// A size; nothing is checked.
    pub const fn new(width: u32, height: u32) -> Self {
        Self { width, height }
    }
    /// The longer side.
    pub fn long_edge(self) -> u32 {
        self.width.max(self.height)
    }
    /// The shorter side.
    pub fn short_edge(self) -> u32 {
        self.width.min(self.height)
    }
    /// Number of pixels.
    pub fn area(self) -> u64 {
        u64::from(self.width) * u64::from(self.height)
    }
    /// The whole picture as a rectangle.
    pub fn rect(self) -> Rect {
        Rect::new(0, 0, i64::from(self.width), i64::from(self.height))
    }
    /// Both sides times `scale`, rounded up so that no part of the picture is lost, at least 1 × 1.
    pub fn scaled(self, scale: f64) -> Self {
        let side = |n: u32| ((f64::from(n) * scale - 1e-6).ceil().max(1.0)) as u32;
        Self::new(side(self.width), side(self.height))
    }
    /// Both sides times `scale`, rounded to the nearest pixel, at least 1 × 1.
    pub fn times(self, scale: f64) -> Self {
        let side = |n: u32| (f64::from(n) * scale).round().max(1.0) as u32;
        Self::new(side(self.width), side(self.height))
    }
}

/// A half-open rectangle of pixels: columns `x .. x + width`, rows `y .. y + height`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rect {
    /// First column.
    pub x: i64,
    /// First row.
    pub y: i64,
    /// Columns.
    pub width: i64,
    /// Rows.
    pub height: i64,
}

impl Rect {
    /// A rectangle; nothing is checked.
    pub const fn new(x: i64, y: i64, width: i64, height: i64) -> Self {
        Self { x, y, width, height }
    }
    /// First column after the rectangle.
    pub fn right(self) -> i64 {
        self.x + self.width
    }
    /// First row after the rectangle.
    pub fn bottom(self) -> i64 {
        self.y + self.height
    }
    /// Number of pixels, 0 for an empty rectangle.
    pub fn area(self) -> usize {
        (self.width.max(0) * self.height.max(0)) as usize
    }
    /// Whether it holds no pixel.
    pub fn is_empty(self) -> bool {
        self.width <= 0 || self.height <= 0
    }
    /// Grown by `by` pixels on every side.
    pub fn grown(self, by: i64) -> Self {
        Self::new(self.x - by, self.y - by, self.width + 2 * by, self.height + 2 * by)
    }
    /// Moved by (`dx`, `dy`).
    pub fn moved(self, dx: i64, dy: i64) -> Self {
        Self::new(self.x + dx, self.y + dy, self.width, self.height)
    }
    /// The part that lies in both.
    pub fn within(self, other: Rect) -> Self {
        let (x, y) = (self.x.max(other.x), self.y.max(other.y));
        Self::new(x, y, self.right().min(other.right()) - x, self.bottom().min(other.bottom()) - y)
    }
    /// Cut into tiles of at most `width` × `height`, row by row.
    pub fn tiles(self, width: i64, height: i64) -> Vec<Rect> {
        let mut tiles = Vec::new();
        let mut y = self.y;
        while y < self.bottom() {
            let mut x = self.x;
            while x < self.right() {
                tiles.push(Rect::new(x, y, width, height).within(self));
                x += width;
            }
            y += height;
        }
        tiles
    }
}

/// `x' = a·x + b·y + c`, `y' = d·x + e·y + f`, from output to input coordinates.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Affine {
    /// Input columns per output column.
    pub a: f64,
    /// Input columns per output row.
    pub b: f64,
    /// Column offset.
    pub c: f64,
    /// Input rows per output column.
    pub d: f64,
    /// Input rows per output row.
    pub e: f64,
    /// Row offset.
    pub f: f64,
}

impl Affine {
    /// Nothing moves.
    pub const IDENTITY: Self = Self { a: 1.0, b: 0.0, c: 0.0, d: 0.0, e: 1.0, f: 0.0 };

    /// Scaling about the origin.
    pub const fn scale(x: f64, y: f64) -> Self {
        Self { a: x, e: y, ..Self::IDENTITY }
    }
    /// Moving.
    pub const fn shift(x: f64, y: f64) -> Self {
        Self { c: x, f: y, ..Self::IDENTITY }
    }
    /// The input point for an output point.
    pub fn at(&self, x: f64, y: f64) -> (f64, f64) {
        (self.a * x + self.b * y + self.c, self.d * x + self.e * y + self.f)
    }
    /// First `self` (output → middle), then `inner` (middle → input).
    pub fn then(&self, inner: &Affine) -> Affine {
        Affine {
            a: inner.a * self.a + inner.b * self.d,
            b: inner.a * self.b + inner.b * self.e,
            c: inner.a * self.c + inner.b * self.f + inner.c,
            d: inner.d * self.a + inner.e * self.d,
            e: inner.d * self.b + inner.e * self.e,
            f: inner.d * self.c + inner.e * self.f + inner.f,
        }
    }
    /// Input pixels per output pixel along the input's columns and rows.
    pub fn steps(&self) -> (f64, f64) {
        (self.a.hypot(self.b), self.d.hypot(self.e))
    }
    /// Output pixels per input pixel, the geometric mean over directions.
    pub fn magnification(&self) -> f64 {
        1.0 / (self.a * self.e - self.b * self.d).abs().sqrt().max(1e-12)
    }
    /// The whole-pixel shift this is, if it is one.
    pub fn as_shift(&self) -> Option<(i64, i64)> {
        let near = |v: f64, to: f64| (v - to).abs() < 1e-9;
        (near(self.a, 1.0) && near(self.e, 1.0) && near(self.b, 0.0) && near(self.d, 0.0))
            .then_some((self.c, self.f))
            .filter(|(x, y)| near(x.round(), *x) && near(y.round(), *y))
            .map(|(x, y)| (x.round() as i64, y.round() as i64))
    }
}

/// The long edge of the picture inside a canvas, where `grown` tells by how many whole pixels each way the canvas is
/// larger than a picture of a given long edge; nothing where there is no such picture.
pub fn inner_long_edge(canvas: (f64, f64), grown: impl Fn(f64) -> (f64, f64)) -> Option<f64> {
    // What is left of the canvas shrinks as the long edge grows: they meet once.
    let left = |long: f64| {
        let (x, y) = grown(long);
        (canvas.0 - x, canvas.1 - y)
    };
    let (mut low, mut high) = (1u64, canvas.0.max(canvas.1) as u64);
    while low < high {
        let middle = low + (high - low) / 2;
        let (x, y) = left(middle as f64);
        if x.max(y) > middle as f64 { low = middle + 1 } else { high = middle }
    }
    let (x, y) = left(low as f64);
    (x >= 1.0 && y >= 1.0 && x.max(y) == low as f64).then_some(low as f64)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn composition_is_application_in_turn() {
        let turn = Affine { a: 0.8, b: -0.6, c: 3.0, d: 0.6, e: 0.8, f: -2.0 };
        let scale = Affine { a: 2.0, b: 0.0, c: 1.0, d: 0.0, e: 0.5, f: 7.0 };
        let both = turn.then(&scale);
        let (mx, my) = turn.at(5.0, 11.0);
        let want = scale.at(mx, my);
        let got = both.at(5.0, 11.0);
        assert!((got.0 - want.0).abs() < 1e-12 && (got.1 - want.1).abs() < 1e-12);
        assert!((turn.magnification() - 1.0).abs() < 1e-12);
        assert_eq!(Affine::shift(4.0, -3.0).as_shift(), Some((4, -3)));
        assert_eq!(Affine::shift(4.5, 0.0).as_shift(), None);
    }

    #[test]
    fn tiles_cover_once() {
        let tiles = Rect::new(3, 5, 100, 41).tiles(32, 16);
        assert_eq!(tiles.iter().map(|t| t.area()).sum::<usize>(), 4100);
        assert_eq!(tiles.len(), 4 * 3);
    }
}
