//! Mirrorings and quarter turns: pixels change their places and nothing else.

use crate::geometry::{Affine, Rect, Size};
use crate::ops::planes::Pixel;

/// Such a mapping, from output to input pixels: columns and rows of the input by those of the output, and where the first lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Turn {
    column: (i64, i64, i64),
    row: (i64, i64, i64),
}

/// A coefficient that is −1, 0 or 1, a whole number, or nothing.
fn whole(value: f64) -> Option<i64> {
    let near = value.round();
    ((value - near).abs() < 1e-9).then_some(near as i64)
}

/// The index along one side of the input, where a mapping's row is −1 or 1 in one place and 0 in the other.
fn side(a: f64, b: f64, c: f64) -> Option<(i64, i64, i64)> {
    let (a, b, c) = (whole(a)?, whole(b)?, whole(c)?);
    // Backwards the first pixel is the last one before the offset.
    (a.abs() + b.abs() == 1).then(|| (a, b, if a + b > 0 { c } else { c - 1 }))
}

impl Turn {
    /// The one that a mapping is, where it takes every pixel of `output` from one of `input`.
    pub fn of(map: &Affine, input: Size, output: Size) -> Option<Self> {
        let turn = Self { column: side(map.a, map.b, map.c)?, row: side(map.d, map.e, map.f)? };
        let needed = turn.needs(output.rect());
        let is_inside = needed.within(input.rect()) == needed;
        (turn.column.0.abs() != turn.row.0.abs() && is_inside).then_some(turn)
    }

    /// The input pixel for an output pixel.
    fn at(&self, x: i64, y: i64) -> (i64, i64) {
        let of = |(a, b, c): (i64, i64, i64)| a * x + b * y + c;
        (of(self.column), of(self.row))
    }

    /// The part of the input that `rect` of the output comes from.
    pub fn needs(&self, rect: Rect) -> Rect {
        let ((u, v), (p, q)) = (self.at(rect.x, rect.y), self.at(rect.right() - 1, rect.bottom() - 1));
        Rect::new(u.min(p), v.min(q), (u - p).abs() + 1, (v - q).abs() + 1)
    }

    /// The output over `rect` from `input`, which covers `have`.
    pub fn run(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
        out.clear();
        let step = self.column.0 + self.row.0 * have.width;
        for y in rect.y..rect.bottom() {
            let (u, v) = self.at(rect.x, y);
            let first = (v - have.y) * have.width + u - have.x;
            out.extend((0..rect.width).map(|x| input[(first + x * step) as usize]));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_pixel_comes_from_where_the_mapping_says() {
        let input = Size::new(7, 5);
        let pixels: Vec<Pixel> = (0..35).map(|i| [i as f32; 4]).collect();
        let (w, h) = (7.0, 5.0);
        let map = |a, b, c, d, e, f| Affine { a, b, c, d, e, f };
        for (map, output) in [
            (map(-1.0, 0.0, w, 0.0, 1.0, 0.0), input),
            (map(1.0, 0.0, 0.0, 0.0, -1.0, h), input),
            (map(-1.0, 0.0, w, 0.0, -1.0, h), input),
            (map(0.0, 1.0, 0.0, -1.0, 0.0, h), Size::new(5, 7)),
            (map(0.0, -1.0, w, 1.0, 0.0, 0.0), Size::new(5, 7)),
            (map(0.0, 1.0, 0.0, 1.0, 0.0, 0.0), Size::new(5, 7)),
            (map(-1.0, 0.0, 6.0, 0.0, 1.0, 1.0), Size::new(5, 4)),
        ] {
            let turn = Turn::of(&map, input, output).unwrap();
            for rect in [output.rect(), Rect::new(1, 2, 3, 2)] {
                let have = turn.needs(rect);
                let cut: Vec<Pixel> = (have.y..have.bottom())
                    .flat_map(|y| (have.x..have.right()).map(move |x| (y * 7 + x) as usize))
                    .map(|at| pixels[at])
                    .collect();
                let mut out = Vec::new();
                turn.run(&cut, have, rect, &mut out);
                for (i, pixel) in out.iter().enumerate() {
                    let (x, y) = (rect.x + i as i64 % rect.width, rect.y + i as i64 / rect.width);
                    let (u, v) = map.at(x as f64 + 0.5, y as f64 + 0.5);
                    assert_eq!(pixel[0], (v.floor() * 7.0 + u.floor()) as f32, "{map:?} at {x} {y}");
                }
            }
        }
        let half = map(-0.5, 0.0, w, 0.0, 1.0, 0.0);
        let beyond = map(-1.0, 0.0, w + 1.0, 0.0, 1.0, 0.0);
        let skewed = map(1.0, 0.0, 0.0, 1.0, 0.0, 0.0);
        let between = map(-1.0, 0.0, w - 0.5, 0.0, 1.0, 0.0);
        for map in [half, beyond, skewed, between] {
            assert_eq!(Turn::of(&map, input, input), None, "{map:?}");
        }
    }
}
