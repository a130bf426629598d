//! Demosaicing of 2 × 2 patterns by ratio correction: each missing green is interpolated along the direction in which the
//! picture changes less, corrected by the ratio of low-passed neighbours; red and blue follow as differences to green.
//!
//! After L. Sanz Rodríguez, "Ratio corrected demosaicing" (2017): the strength of high frequencies along rows and columns,
//! and along both diagonals, says which direction holds. Worked in bands of rows, so that little memory is held beside the
//! result, and in whole rows, whose values are computed at every place and kept at every other.

use crate::raw::mosaic::Mosaic;
use crate::raw::scale::Scale;
use multiversion::multiversion;

/// Pixels around a band that its own pixels depend on; even, so that the pattern goes on.
pub(super) const MARGIN: usize = 10;

/// What noise of a variance of 1 adds to the squares of high frequencies over three places, as often as is best
/// (`benches/raw`).
const NOISE_ENERGY: f32 = 174.0;

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

/// Rows `from .. from + rows` of a mosaic with margin, each value multiplied by its colour's `gain` and put on `scale`.
pub(super) fn lifted(
    mosaic: &Mosaic,
    (from, rows): (usize, usize),
    gain: [f32; 3],
    scale: Scale,
) -> (Vec<f32>, usize, usize) {
    let (w, h) = (mosaic.size.width as usize, mosaic.size.height as usize);
    let (width, height) = (w + 2 * MARGIN, rows + 2 * MARGIN);
    let mut out = vec![0f32; width * height];
    // Those beyond an edge are mirrored on it.
    let line = |k: usize| mirrored((from + k) as isize - MARGIN as isize, h);
    let (first, last) = (0..height).map(line).fold((h, 0), |(first, last), y| (first.min(y), last.max(y)));
    let mut room = Vec::new();
    let values = mosaic.rows(first, last + 1 - first, &mut room);
    for (k, row) in out.chunks_exact_mut(width).enumerate() {
        let y = line(k);
        let source = &values[(y - first) * w..][..w];
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
        scale.put_on(row);
    }
    (out, width, height)
}

/// The inner part of a row that begins at `from`, as seen `by` places further on.
#[inline(always)]
fn seen(values: &[f32], from: usize, by: isize, count: usize) -> &[f32] {
    &values[from.wrapping_add_signed(by)..][..count]
}

/// Every kernel comes in the widest instructions there are; none fuses a product and a sum.
macro_rules! widest {
    ($(#[$doc:meta])* fn $name:ident($($arg:ident: $kind:ty),* $(,)?) $body:block) => {
        $(#[$doc])*
        #[multiversion(targets(
            "x86_64+avx512f+avx512vl+avx512dq+avx512bw",
            "x86_64+avx2",
            "x86_64+sse4.1",
            "aarch64+neon"
        ))]
        fn $name($($arg: $kind),*) $body
    };
}

widest! {
    /// The squares of high frequencies along one direction, `step` values apart.
    fn squares(cfa: &[f32], step: usize, out: &mut [f32]) {
        let count = cfa.len() - 6 * step;
        let at = |k: usize| &cfa[k * step..][..count];
        let [a, b, c, d, e, f, g] = std::array::from_fn(at);
        for (i, to) in out[3 * step..][..count].iter_mut().enumerate() {
            let high = (a[i] - c[i] - e[i] + g[i]) - 3.0 * (b[i] + f[i]) + 6.0 * d[i];
            *to = high * high;
        }
    }
}

widest! {
    /// Of two directions the first one's share of what changes, over three places each. As far as that is noise, neither is
    /// followed.
    fn shares(first: &[f32], second: &[f32], steps: (usize, usize), noise: f32, out: &mut [f32]) {
        let edge = steps.0.max(steps.1);
        let count = out.len() - 2 * edge;
        let three = |values: &'_ [f32], step: usize, i: usize| {
            values[edge - step + i] + values[edge + i] + values[edge + step + i] + noise
        };
        let (first, second) = (&first[..count + 2 * edge], &second[..count + 2 * edge]);
        for (i, to) in out[edge..][..count].iter_mut().enumerate() {
            let (a, b) = (three(first, steps.0, i), three(second, steps.1, i));
            *to = a / (a + b);
        }
    }
}

widest! {
    /// Each value with its eight neighbours, the nearer ones counting more.
    fn low_passed(cfa: &[f32], w: usize, out: &mut [f32]) {
        let count = cfa.len() - 2 * w - 2;
        let at = |dy: usize, dx: usize| &cfa[dy * w + dx..][..count];
        let [a, b, c] = std::array::from_fn(|dx| at(0, dx));
        let [d, e, f] = std::array::from_fn(|dx| at(1, dx));
        let [g, h, k] = std::array::from_fn(|dx| at(2, dx));
        for (i, to) in out[w + 1..][..count].iter_mut().enumerate() {
            let near = b[i] + h[i] + d[i] + f[i];
            let far = a[i] + c[i] + g[i] + k[i];
            *to = e[i] + 0.5 * near + 0.25 * far;
        }
    }
}

/// Of a share and the mean of its neighbours the one that decides more clearly.
#[inline(always)]
fn clearer(own: f32, around: f32) -> f32 {
    if (0.5 - own).abs() < (0.5 - around).abs() { around } else { own }
}

/// The clearer share at a place whose diagonal neighbours are `[a, b, c, d]`.
#[inline(always)]
fn share_at(own: f32, [a, b, c, d]: [f32; 4]) -> f32 {
    clearer(own, 0.25 * (a + b + c + d))
}

/// Of two sides, each with how much the picture changes there and what it says: the one with less change counts more.
#[inline(always)]
fn steadier(a: (f32, f32), b: (f32, f32)) -> f32 {
    (a.0 * b.1 + b.0 * a.1) / (a.0 + b.0)
}

/// Columns at either end of a row that are not computed.
const EDGE: usize = 4;

/// A band in work: its mosaic, and which way is to be followed where.
struct Work<'a> {
    cfa: &'a [f32],
    share: &'a [f32],
    low: &'a [f32],
    width: usize,
}

/// A band with all three colours of every pixel (but in the outermost pixels of its margin), on `scale`.
pub(super) fn demosaiced(mosaic: &Mosaic, band: (usize, usize), gain: [f32; 3], scale: Scale) -> Band {
    let (cfa, w, h) = lifted(mosaic, band, gain, scale);
    // The pattern as it lies in the band: the margin is even, so only the first row counts.
    let colour = |x: usize, y: usize| usize::from(mosaic.pattern.at(x + MARGIN, band.0 + y + MARGIN));
    // Where red or blue stands in a row.
    let odd = |y: usize| usize::from(colour(0, y) == 1);
    let mut planes: [Vec<f32>; 3] = std::array::from_fn(|_| vec![0f32; w * h]);
    for y in 0..h {
        for first in 0..2 {
            let plane = &mut planes[colour(first, y)][y * w..(y + 1) * w];
            let values = &cfa[y * w..(y + 1) * w];
            for x in (first..w).step_by(2) {
                plane[x] = values[x];
            }
        }
    }
    // Share of the vertical: high where the picture changes along columns, so that rows are to be followed.
    let (mut first, mut second) = (vec![0f32; w * h], vec![0f32; w * h]);
    let noise = (NOISE_ENERGY * scale.noise).max(1e-10);
    let mut share = vec![0.5f32; w * h];
    squares(&cfa, w, &mut first);
    squares(&cfa, 1, &mut second);
    shares(&first, &second, (w, 1), noise, &mut share);
    let mut low = vec![0f32; w * h];
    low_passed(&cfa, w, &mut low);
    let count = w - 2 * EDGE;
    let mut line = vec![0f32; count];
    // What was computed along a row is kept at every other place.
    let keep = |plane: &mut [f32], line: &[f32], y: usize, first: usize| {
        let row = &mut plane[y * w + EDGE..][..count];
        for x in (first..count).step_by(2) {
            row[x] = line[x];
        }
    };
    let work = Work { cfa: &cfa, share: &share, low: &low, width: w };
    for y in EDGE..h - EDGE {
        green(&work, y * w + EDGE, &mut line);
        keep(&mut planes[1], &line, y, odd(y));
    }
    // Share of the falling diagonal, for blue at red and red at blue.
    squares(&cfa, w + 1, &mut first);
    squares(&cfa, w - 1, &mut second);
    let mut falling = low;
    shares(&first, &second, (w + 1, w - 1), noise, &mut falling);
    for y in EDGE..h - EDGE {
        let other = 2 - colour(EDGE + odd(y), y);
        across(&planes[other], &planes[1], &falling, w, y * w + EDGE, &mut line);
        keep(&mut planes[other], &line, y, odd(y));
    }
    for y in EDGE..h - EDGE {
        for c in [0, 2] {
            beside(&planes[c], &planes[1], &share, w, y * w + EDGE, &mut line);
            keep(&mut planes[c], &line, y, 1 - odd(y));
        }
    }
    Band { width: w, planes }
}

/// Along one direction from a place: how much the picture changes there, and what its nearest value says of green. `line`
/// leads from the place outwards, `back` lies on its other side, `low` is the low-passed light here and two places on.
#[inline(always)]
fn towards(line: [f32; 5], back: f32, low: [f32; 2]) -> (f32, f32) {
    let [own, near, second, third, fourth] = line;
    let change =
        EPSILON + (near - back).abs() + (own - second).abs() + (near - third).abs() + (second - fourth).abs();
    let ratio = (low[0] - low[1]) / (EPSILON + low[0].abs() + low[1].abs());
    (change, near * (1.0 + ratio))
}

widest! {
    /// Green at red and blue, along a row that begins at `from`.
    fn green(work: &Work<'_>, from: usize, out: &mut [f32]) {
        let n = out.len();
        let w = work.width as isize;
        let columns: [&[f32]; 9] = std::array::from_fn(|k| seen(work.cfa, from, (k as isize - 4) * w, n));
        let rows: [&[f32]; 9] = std::array::from_fn(|k| seen(work.cfa, from, k as isize - 4, n));
        let lows = [-2 * w, 2 * w, -2, 2, 0].map(|by| seen(work.low, from, by, n));
        let shares = [-w - 1, 1 - w, w - 1, w + 1, 0].map(|by| seen(work.share, from, by, n));
        for (i, to) in out.iter_mut().enumerate() {
            let share = share_at(shares[4][i], [shares[0][i], shares[1][i], shares[2][i], shares[3][i]]);
            let [c0, c1, c2, c3, c4, c5, c6, c7, c8] = columns.map(|line| line[i]);
            let [r0, r1, r2, r3, r4, r5, r6, r7, r8] = rows.map(|line| line[i]);
            let [up, down, left, right, own] = lows.map(|line| line[i]);
            let north = towards([c4, c3, c2, c1, c0], c5, [own, up]);
            let south = towards([c4, c5, c6, c7, c8], c3, [own, down]);
            let west = towards([r4, r3, r2, r1, r0], r5, [own, left]);
            let east = towards([r4, r5, r6, r7, r8], r3, [own, right]);
            let (vertical, horizontal) = (steadier(north, south), steadier(west, east));
            *to = share * horizontal + (1.0 - share) * vertical;
        }
    }
}

/// What a colour differs from green along one line, given three and one places before and behind; `greens` two and one. Of
/// the two sides the one where less changes counts more.
#[inline(always)]
fn apart_along(values: [f32; 4], greens: [f32; 4], here: f32) -> f32 {
    let ([a, b, c, d], [e, f, g, h]) = (values, greens);
    let before = (EPSILON + (b - c).abs() + (b - a).abs() + (here - e).abs(), b - f);
    let behind = (EPSILON + (c - b).abs() + (c - d).abs() + (here - h).abs(), c - g);
    steadier(before, behind)
}

/// The lines of values and of greens that lie along a direction.
#[inline(always)]
fn lines<'a>(plane: &'a [f32], green: &'a [f32], from: usize, step: isize, n: usize) -> [[&'a [f32]; 4]; 2] {
    let values = [-3 * step, -step, step, 3 * step].map(|by| seen(plane, from, by, n));
    let greens = [-2 * step, -step, step, 2 * step].map(|by| seen(green, from, by, n));
    [values, greens]
}

/// Along a row that begins at `from`: a colour from the differences to green along two directions, the second of which
/// counts by `share`.
#[inline(always)]
fn by_differences(
    (plane, green, share): (&[f32], &[f32], &[f32]),
    (first, second): (isize, isize),
    width: usize,
    from: usize,
    out: &mut [f32],
) {
    let n = out.len();
    let w = width as isize;
    let [first_values, first_greens] = lines(plane, green, from, first, n);
    let [second_values, second_greens] = lines(plane, green, from, second, n);
    let here = seen(green, from, 0, n);
    let shares = [-w - 1, 1 - w, w - 1, w + 1, 0].map(|by| seen(share, from, by, n));
    for (i, to) in out.iter_mut().enumerate() {
        let share = share_at(shares[4][i], [shares[0][i], shares[1][i], shares[2][i], shares[3][i]]);
        let along_first = apart_along(first_values.map(|l| l[i]), first_greens.map(|l| l[i]), here[i]);
        let along_second = apart_along(second_values.map(|l| l[i]), second_greens.map(|l| l[i]), here[i]);
        *to = here[i] + (1.0 - share) * along_first + share * along_second;
    }
}

widest! {
    /// Blue at red or red at blue, along the diagonals.
    fn across(plane: &[f32], green: &[f32], share: &[f32], width: usize, from: usize, out: &mut [f32]) {
        let w = width as isize;
        by_differences((plane, green, share), (w + 1, w - 1), width, from, out);
    }
}

widest! {
    /// Red or blue at green, along columns and rows.
    fn beside(plane: &[f32], green: &[f32], share: &[f32], width: usize, from: usize, out: &mut [f32]) {
        by_differences((plane, green, share), (width as isize, 1), width, from, out);
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
        (demosaiced(&mosaic, (0, h), [1.0; 3], Scale::as_it_is(0.0)), w, h)
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
