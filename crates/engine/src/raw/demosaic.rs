//! Demosaicing of 2 × 2 patterns by ratio correction: each missing green is interpolated along the direction in which the
//! picture changes less, corrected by the ratio of low-passed neighbours; red and blue follow as differences to green.
//!
//! After L. Sanz Rodríguez, "Ratio corrected demosaicing" (2017): the strength of high frequencies along rows and columns,
//! and along both diagonals, says which direction holds. Worked in bands of rows, so that little memory is held beside the
//! result.

use crate::raw::mosaic::Mosaic;

/// Pixels around a band that its own pixels depend on; even, so that the pattern goes on.
pub(super) const MARGIN: usize = 10;

/// Keeps quotients from dividing by nothing.
const EPSILON: f32 = 1e-5;

/// A band of rows with its margin, one value or three a pixel.
pub(super) struct Band {
    pub width: usize,
    /// Red, green, blue of every pixel, margin and all.
    pub planes: [Vec<f32>; 3],
}

/// The place inside a row or column that a place beyond its ends stands for: mirrored, so that filters keep their colours.
#[inline(always)]
pub(super) fn mirrored(at: isize, length: usize) -> usize {
    let last = length as isize - 1;
    if last < 1 {
        return 0;
    }
    let turn = 2 * last;
    let at = at.rem_euclid(turn);
    (if at > last { turn - at } else { at }) as usize
}

/// Rows `from .. from + rows` of a mosaic with margin, each value multiplied by its colour's `gain`.
pub(super) fn lifted(mosaic: &Mosaic, from: usize, rows: usize, gain: [f32; 3]) -> (Vec<f32>, usize, usize) {
    let (w, h) = (mosaic.size.width as usize, mosaic.size.height as usize);
    let (width, height) = (w + 2 * MARGIN, rows + 2 * MARGIN);
    let mut out = vec![0f32; width * height];
    for (k, row) in out.chunks_exact_mut(width).enumerate() {
        let y = mirrored((from + k) as isize - MARGIN as isize, h);
        let source = &mosaic.values[y * w..(y + 1) * w];
        let side = mosaic.pattern.side();
        let gains: Vec<f32> = (0..side).map(|x| gain[usize::from(mosaic.pattern.at(x, y))]).collect();
        for (x, (to, value)) in row[MARGIN..MARGIN + w].iter_mut().zip(source).enumerate() {
            *to = value * gains[x % side];
        }
        for k in 0..MARGIN {
            let left = mirrored(k as isize - MARGIN as isize, w);
            let right = mirrored((w + k) as isize, w);
            row[k] = source[left] * gains[left % side];
            row[MARGIN + w + k] = source[right] * gains[right % side];
        }
    }
    (out, width, height)
}

/// How strong high frequencies are along one direction, `step` values apart, over three pixels.
#[inline(always)]
fn high(cfa: &[f32], at: usize, step: usize) -> f32 {
    let c = |k: isize| cfa[(at as isize + k * step as isize) as usize];
    let sharp =
        |k: isize| (c(k - 3) - c(k - 1) - c(k + 1) + c(k + 3)) - 3.0 * (c(k - 2) + c(k + 2)) + 6.0 * c(k);
    let (a, b, d) = (sharp(-1), sharp(0), sharp(1));
    (a * a + b * b + d * d).max(1e-10)
}

/// Of a share and the mean of its neighbours the one that decides more clearly.
#[inline(always)]
fn clearer(own: f32, around: f32) -> f32 {
    if (0.5 - own).abs() < (0.5 - around).abs() { around } else { own }
}

/// A band with all three colours of every pixel (but in the outermost pixels of its margin).
pub(super) fn demosaiced(mosaic: &Mosaic, from: usize, rows: usize, gain: [f32; 3]) -> Band {
    let (cfa, w, h) = lifted(mosaic, from, rows, gain);
    // The pattern as it lies in the band: the margin is even, so only the first row counts.
    let colour = |x: usize, y: usize| usize::from(mosaic.pattern.at(x + MARGIN, from + y + MARGIN));
    // Where red or blue stands in a row, and which of the two.
    let odd = |y: usize| usize::from(colour(0, y) == 1);
    let mut planes: [Vec<f32>; 3] = std::array::from_fn(|_| vec![0f32; w * h]);
    for y in 0..h {
        for x in 0..w {
            planes[colour(x, y)][y * w + x] = cfa[y * w + x];
        }
    }
    // Share of the vertical: high where the picture changes along columns, so that rows are to be followed.
    let mut share = vec![0.5f32; w * h];
    for y in 4..h - 4 {
        for x in 4..w - 4 {
            let at = y * w + x;
            let (vertical, horizontal) = (high(&cfa, at, w), high(&cfa, at, 1));
            share[at] = vertical / (vertical + horizontal);
        }
    }
    let mut low = vec![0f32; w * h];
    for y in 1..h - 1 {
        let start = 1 + (odd(y) + 1) % 2;
        for x in (start..w - 1).step_by(2) {
            let at = y * w + x;
            let near = cfa[at - w] + cfa[at + w] + cfa[at - 1] + cfa[at + 1];
            let far = cfa[at - w - 1] + cfa[at - w + 1] + cfa[at + w - 1] + cfa[at + w + 1];
            low[at] = cfa[at] + 0.5 * near + 0.25 * far;
        }
    }
    green(&cfa, &share, &low, &mut planes[1], (w, h), &odd);
    across(&cfa, &mut planes, (w, h), &odd, &colour);
    beside(&share, &mut planes, (w, h), &odd);
    Band { width: w, planes }
}

/// Mean of the four diagonal neighbours.
#[inline(always)]
fn diagonal_mean(values: &[f32], at: usize, w: usize) -> f32 {
    0.25 * (values[at - w - 1] + values[at - w + 1] + values[at + w - 1] + values[at + w + 1])
}

/// Green at red and blue.
fn green(
    cfa: &[f32],
    share: &[f32],
    low: &[f32],
    green: &mut [f32],
    (w, h): (usize, usize),
    odd: &dyn Fn(usize) -> usize,
) {
    for y in 4..h - 4 {
        for x in (4 + odd(y)..w - 4).step_by(2) {
            let at = y * w + x;
            let share = clearer(share[at], diagonal_mean(share, at, w));
            let towards = |near: usize, back: usize, second: usize, third: usize, fourth: usize| {
                let change = EPSILON
                    + (cfa[near] - cfa[back]).abs()
                    + (cfa[at] - cfa[second]).abs()
                    + (cfa[near] - cfa[third]).abs()
                    + (cfa[second] - cfa[fourth]).abs();
                let ratio = (low[at] - low[second]) / (EPSILON + low[at] + low[second]);
                (change, cfa[near] * (1.0 + ratio))
            };
            let north = towards(at - w, at + w, at - 2 * w, at - 3 * w, at - 4 * w);
            let south = towards(at + w, at - w, at + 2 * w, at + 3 * w, at + 4 * w);
            let west = towards(at - 1, at + 1, at - 2, at - 3, at - 4);
            let east = towards(at + 1, at - 1, at + 2, at + 3, at + 4);
            let vertical = (south.0 * north.1 + north.0 * south.1) / (north.0 + south.0);
            let horizontal = (west.0 * east.1 + east.0 * west.1) / (west.0 + east.0);
            green[at] = (share * horizontal + (1.0 - share) * vertical).max(0.0);
        }
    }
}

/// Blue at red and red at blue, along the diagonals.
fn across(
    cfa: &[f32],
    planes: &mut [Vec<f32>; 3],
    (w, h): (usize, usize),
    odd: &dyn Fn(usize) -> usize,
    colour: &dyn Fn(usize, usize) -> usize,
) {
    // Share of the falling diagonal, where red or blue stands.
    let mut share = vec![0.5f32; w * h];
    for y in 4..h - 4 {
        for x in (4 + odd(y)..w - 4).step_by(2) {
            let at = y * w + x;
            let (falling, rising) = (high(cfa, at, w + 1), high(cfa, at, w - 1));
            share[at] = falling / (falling + rising);
        }
    }
    for y in 4..h - 4 {
        let start = 4 + odd(y);
        let other = 2 - colour(start, y);
        let [red, green, blue] = planes;
        let plane = if other == 0 { red } else { blue };
        for x in (start..w - 4).step_by(2) {
            let at = y * w + x;
            let share = clearer(share[at], diagonal_mean(&share, at, w));
            let towards = |near: usize, back: usize, second: usize, third: usize| {
                let change = EPSILON
                    + (plane[near] - plane[back]).abs()
                    + (plane[near] - plane[third]).abs()
                    + (green[at] - green[second]).abs();
                (change, plane[near] - green[near])
            };
            let (down, up) = (w + 1, w - 1);
            let north_west = towards(at - down, at + down, at - 2 * down, at - 3 * down);
            let south_east = towards(at + down, at - down, at + 2 * down, at + 3 * down);
            let north_east = towards(at - up, at + up, at - 2 * up, at - 3 * up);
            let south_west = towards(at + up, at - up, at + 2 * up, at + 3 * up);
            let mean = |a: (f32, f32), b: (f32, f32)| (a.0 * b.1 + b.0 * a.1) / (a.0 + b.0);
            let (falling, rising) = (mean(north_west, south_east), mean(north_east, south_west));
            plane[at] = (green[at] + (1.0 - share) * falling + share * rising).max(0.0);
        }
    }
}

/// Red and blue at green, along rows and columns.
fn beside(share: &[f32], planes: &mut [Vec<f32>; 3], (w, h): (usize, usize), odd: &dyn Fn(usize) -> usize) {
    let [red, green, blue] = planes;
    for y in 4..h - 4 {
        for x in (4 + (odd(y) + 1) % 2..w - 4).step_by(2) {
            let at = y * w + x;
            let share = clearer(share[at], diagonal_mean(share, at, w));
            let flat =
                [at - 2 * w, at + 2 * w, at - 2, at + 2].map(|k| EPSILON + (green[at] - green[k]).abs());
            for plane in [&mut *red, &mut *blue] {
                let (columns, rows) =
                    ((plane[at - w] - plane[at + w]).abs(), (plane[at - 1] - plane[at + 1]).abs());
                let change = [
                    flat[0] + columns + (plane[at - w] - plane[at - 3 * w]).abs(),
                    flat[1] + columns + (plane[at + w] - plane[at + 3 * w]).abs(),
                    flat[2] + rows + (plane[at - 1] - plane[at - 3]).abs(),
                    flat[3] + rows + (plane[at + 1] - plane[at + 3]).abs(),
                ];
                let apart = [at - w, at + w, at - 1, at + 1].map(|k| plane[k] - green[k]);
                let vertical = (change[0] * apart[1] + change[1] * apart[0]) / (change[0] + change[1]);
                let horizontal = (change[2] * apart[3] + change[3] * apart[2]) / (change[2] + change[3]);
                plane[at] = (green[at] + (1.0 - share) * vertical + share * horizontal).max(0.0);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::raw::Pattern;

    fn through(pattern: &[u8], pixel: impl Fn(usize, usize) -> [f32; 3]) -> (Band, usize, usize) {
        let (w, h) = (40usize, 32usize);
        let pattern = Pattern::new(2, 2, pattern).unwrap();
        let values = (0..w * h).map(|i| pixel(i % w, i / w)[usize::from(pattern.at(i % w, i / w))]).collect();
        let mosaic = Mosaic::new(Size::new(w as u32, h as u32), pattern, values).unwrap();
        (demosaiced(&mosaic, 0, h, [1.0; 3]), w, h)
    }

    #[test]
    fn places_beyond_the_ends_keep_their_filters() {
        assert_eq!([-1, -2, -3].map(|k| mirrored(k, 9)), [1, 2, 3]);
        assert_eq!([9, 10].map(|k| mirrored(k, 9)), [7, 6]);
        assert_eq!(mirrored(-7, 1), 0);
        assert_eq!(mirrored(11, 2), 1);
    }

    #[test]
    fn a_plain_colour_and_a_straight_ramp_come_back_in_every_pattern() {
        for pattern in [[0, 1, 1, 2], [2, 1, 1, 0], [1, 0, 2, 1], [1, 2, 0, 1]] {
            let flat = through(&pattern, |_, _| [0.3, 0.5, 0.2]);
            let ramp = through(&pattern, |x, y| {
                let light = 0.1 + 0.01 * x as f32 + 0.008 * y as f32;
                [light * 0.8, light, light * 0.6]
            });
            for (band, wanted) in [
                (&flat.0, (|_, _| [0.3, 0.5, 0.2]) as fn(usize, usize) -> [f32; 3]),
                (&ramp.0, |x, y| {
                    let light = 0.1 + 0.01 * x as f32 + 0.008 * y as f32;
                    [light * 0.8, light, light * 0.6]
                }),
            ] {
                for y in 8..24 {
                    for x in 8..32 {
                        let at = (y + MARGIN) * band.width + x + MARGIN;
                        for c in 0..3 {
                            let found = band.planes[c][at];
                            assert!(
                                (found - wanted(x, y)[c]).abs() < 4e-3,
                                "{pattern:?} {x} {y} {c}: {found}"
                            );
                        }
                    }
                }
            }
        }
    }

    #[test]
    fn an_edge_along_a_row_or_a_column_has_no_teeth() {
        for upright in [true, false] {
            let light =
                move |x: usize, y: usize| if (if upright { x } else { y }) < 16 { 0.1f32 } else { 0.8 };
            let (band, _, _) = through(&[0, 1, 1, 2], |x, y| [light(x, y); 3]);
            // Along the edge nothing changes, beside it the grey stays grey.
            for along in 10..22 {
                for apart in 12..20 {
                    let (x, y) = if upright { (apart, along) } else { (along, apart) };
                    let at = (y + MARGIN) * band.width + x + MARGIN;
                    for c in 0..3 {
                        assert!((band.planes[c][at] - light(x, y)).abs() < 0.04, "{upright} {x} {y} {c}");
                    }
                }
            }
        }
    }
}
