//! Pixels of a sensor that count what is not there: hot, dead and stuck ones, mended before anything is made of the mosaic.
//!
//! A lens spreads every point of light over several pixels and all filters. A defect stands out alone: by far from all its
//! neighbours behind the same filter, while those behind the other filters show nothing of it.

use crate::raw::counts::{Counts, Limits};
use crate::raw::mosaic::Mosaic;
use multiversion::multiversion;
use rayon::prelude::*;

/// How far a defect stands out at least, of the most the sensor counts.
const LEAST: f32 = 0.012;

/// How often it stands out as far as its neighbours are apart.
const TIMES: f32 = 2.0;

/// What the neighbours behind other filters may show of it.
const NEAR: f32 = 0.12;

/// Neighbours behind the same filter that are asked, at most.
const MOST: usize = 24;

/// How far a place is to the right and down.
type Place = (isize, isize);

/// Places around a pixel, by whether they are behind the same filter.
struct Around {
    same: Vec<Place>,
    /// Those directly beside it behind other filters, each with the places behind that filter a little farther off.
    beside: Vec<(Place, Vec<Place>)>,
}

impl Around {
    fn of(mosaic: &Mosaic, x: usize, y: usize) -> Self {
        let side = mosaic.pattern.side();
        // Kept positive: the pattern repeats.
        let colour = |dx: isize, dy: isize| {
            mosaic.pattern.at(
                (x + 2 * side).wrapping_add_signed(dx) % side,
                (y + 2 * side).wrapping_add_signed(dy) % side,
            )
        };
        let own = colour(0, 0);
        let square =
            |reach: isize| (-reach..=reach).flat_map(move |dy| (-reach..=reach).map(move |dx| (dx, dy)));
        let same = square(2).filter(|p| *p != (0, 0) && colour(p.0, p.1) == own).take(MOST).collect();
        let beside = [(0, -1), (-1, 0), (1, 0), (0, 1)].into_iter().filter(|p| colour(p.0, p.1) != own);
        let beside = beside.map(|(dx, dy)| {
            let other = colour(dx, dy);
            let is_far = |p: &Place| p.0.abs().max(p.1.abs()) == 3 || p.0.abs().max(p.1.abs()) == 2;
            ((dx, dy), square(3).filter(|p| is_far(p) && colour(p.0, p.1) == other).take(MOST).collect())
        });
        Self { same, beside: beside.collect() }
    }
}

/// The middle of some values.
fn median(values: &mut [f32]) -> f32 {
    values.sort_unstable_by(f32::total_cmp);
    let middle = values.len() / 2;
    if values.len() % 2 == 1 { values[middle] } else { 0.5 * (values[middle - 1] + values[middle]) }
}

/// Pixels whose neighbours are all inside.
const EDGE: usize = 3;

/// Rows that are looked at by one hand: with their neighbours, about what its cache holds.
const ROWS: usize = 32;

/// Every defect: the place of its value, and what it is mended to.
pub(super) fn found(mosaic: &Mosaic) -> Vec<(usize, f32)> {
    let (w, h) = (mosaic.size.width as usize, mosaic.size.height as usize);
    if w <= 2 * EDGE || h <= 2 * EDGE {
        return Vec::new();
    }
    let side = mosaic.pattern.side();
    let cells: Vec<Around> = (0..side * side).map(|i| Around::of(mosaic, i % side, i / side)).collect();
    if side == 2
        && let Some(counts) = mosaic.counts()
        && let Some(limits) = counts.limits(LEAST)
    {
        return found_in_counts((w, h), counts, &limits, &cells);
    }
    let of_rows = |(room, stands_out): &mut (Vec<f32>, Vec<u8>), from: usize| {
        let count = ROWS.min(h - EDGE - from);
        let values = mosaic.rows(from - EDGE, count + 2 * EDGE, room);
        let mut found = Vec::new();
        for row in 0..count {
            let y = from + row;
            let mut look = |x: usize| {
                let around = &cells[y % side * side + x % side];
                let at = (row + EDGE) * w + x;
                let value = |(dx, dy): Place| values[at.wrapping_add_signed(dy * w as isize + dx)];
                found.extend(mended(value, around).map(|mended| (y * w + x, mended)));
            };
            if side == 2 {
                stands_out.resize(w, 0);
                standing_out(values, (row + EDGE) * w, w, stands_out);
                memchr::memchr_iter(1, &stands_out[EDGE..w - EDGE]).for_each(|x| look(EDGE + x));
            } else {
                (EDGE..w - EDGE).for_each(look);
            }
        }
        found
    };
    let bands: Vec<usize> = (EDGE..h - EDGE).step_by(ROWS).collect();
    bands.into_par_iter().map_init(Default::default, of_rows).flatten_iter().collect()
}

/// As [`found`], of whole numbers: only those that stand out are made light, and what is around them.
fn found_in_counts(
    (w, h): (usize, usize),
    counts: &Counts,
    limits: &[Limits; 2],
    cells: &[Around],
) -> Vec<(usize, f32)> {
    let of_row = |stands_out: &mut Vec<u8>, y: usize| {
        stands_out.resize(w, 0);
        let rows = [y - 2, y, y + 2].map(|y| counts.row(y, w));
        counts_standing_out(rows, &limits[y % 2], stands_out);
        let mut found = Vec::new();
        for x in memchr::memchr_iter(1, &stands_out[EDGE..w - EDGE]).map(|x| EDGE + x) {
            let value = |(dx, dy): Place| counts.at(x.wrapping_add_signed(dx), y.wrapping_add_signed(dy));
            found.extend(mended(value, &cells[y % 2 * 2 + x % 2]).map(|mended| (y * w + x, mended)));
        }
        found
    };
    (EDGE..h - EDGE).into_par_iter().map_init(Vec::new, of_row).flatten_iter().collect()
}

/// As [`standing_out`] for numbers: the rows two above and two below, and its own between them. Rather too many than one too few.
#[multiversion(targets("x86_64+avx512f+avx512vl+avx512bw", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn counts_standing_out(rows: [&[u16]; 3], limits: &Limits, out: &mut [u8]) {
    let [above, own, below] = rows;
    let count = own.len() - 4;
    let together = limits.least.len();
    for (k, out) in out[2..2 + count].chunks_mut(together).enumerate() {
        let (from, long) = (k * together, out.len());
        let (left, mid, right) = (&own[from..][..long], &own[from + 2..][..long], &own[from + 4..][..long]);
        let (up, down) = (&above[from + 2..][..long], &below[from + 2..][..long]);
        let (least, most) = (&limits.least[..long], &limits.most[..long]);
        let apart = &limits.apart[..long];
        for i in 0..long {
            let high = left[i].max(right[i]).max(up[i].max(down[i])).min(most[i]).max(least[i]);
            let low = left[i].min(right[i]).min(up[i].min(down[i])).min(most[i]).max(least[i]);
            let own = mid[i].min(most[i]).max(least[i]);
            let far = apart[i].saturating_add(high - low).saturating_add(high - low);
            out[i] = u8::from((own.saturating_sub(high) >= far) | (low.saturating_sub(own) >= far));
        }
    }
}

/// Which values of a row, 1 or 0, stand out as far as a defect from the four neighbours two places away, which are behind the same of
/// 2 × 2 filters: hardly any, and no others need a closer look at all of their neighbours, which are at least as far apart.
#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn standing_out(values: &[f32], start: usize, width: usize, out: &mut [u8]) {
    let count = width - 4;
    let row = |from: usize| &values[from..][..count];
    let (own, left, right) = (row(start + 2), row(start), row(start + 4));
    let (up, down) = (row(start + 2 - 2 * width), row(start + 2 + 2 * width));
    for (i, to) in out[2..2 + count].iter_mut().enumerate() {
        let high = left[i].max(right[i]).max(up[i].max(down[i]));
        let low = left[i].min(right[i]).min(up[i].min(down[i]));
        let far = LEAST + TIMES * (high - low);
        *to = u8::from((own[i] - high >= far) | (low - own[i] >= far));
    }
}

/// What a defect should count; nothing where the pixel is none. `value` tells what is counted around it.
#[inline(always)]
fn mended(value: impl Fn(Place) -> f32, around: &Around) -> Option<f32> {
    let own = value((0, 0));
    let (mut low, mut high) = (f32::INFINITY, f32::NEG_INFINITY);
    // Hardly any pixel stands out from the first few.
    for place in &around.same {
        let other = value(*place);
        low = low.min(other);
        high = high.max(other);
        if own <= high + LEAST && own >= low - LEAST {
            return None;
        }
    }
    let excess = if own > high { own - high } else { own - low };
    if excess.abs() < LEAST + TIMES * (high - low) {
        return None;
    }
    let middle = |places: &[Place]| {
        let mut values = [0f32; MOST];
        for (to, place) in values.iter_mut().zip(places) {
            *to = value(*place);
        }
        median(&mut values[..places.len()])
    };
    let same = middle(&around.same);
    let full = own - same;
    // What others show of it, as a share of their own light, so that filters may be of different strengths.
    let share = full / same.max(LEAST);
    let shows = around.beside.iter().any(|(place, far)| {
        let usual = middle(far);
        (value(*place) - usual) / usual.max(LEAST) * share.signum() > NEAR * share.abs()
    });
    (!shows).then_some(same)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::raw::noise::tests::chance;
    use crate::raw::{Levels, Pattern};

    const SIZE: (usize, usize) = (120, 90);

    /// Stars as a lens draws them, an edge, a thin line, and noise.
    fn scene(x: usize, y: usize) -> f32 {
        let star = |cx: f64, cy: f64| {
            let (dx, dy) = (x as f64 + 0.5 - cx, y as f64 + 0.5 - cy);
            (-(dx * dx + dy * dy) / (2.0 * 0.7 * 0.7)).exp() as f32 * 0.6
        };
        let edge = if x > 80 { 0.3 } else { 0.05 };
        let line = if y == 70 { 0.25 } else { 0.0 };
        edge + line + star(20.2, 30.7) + star(50.5, 50.5) + star(40.0, 12.3)
    }

    fn mosaic(defects: &[(usize, usize, f32)], cells: &[u8]) -> Mosaic {
        let side = if cells.len() == 4 { 2 } else { 6 };
        let pattern = Pattern::new(side, side, cells).unwrap();
        let mut values: Vec<f32> = (0..SIZE.0 * SIZE.1)
            .map(|i| {
                let (x, y) = (i % SIZE.0, i / SIZE.0);
                let light = scene(x, y) * [0.5, 1.0, 0.7][usize::from(pattern.at(x, y))];
                light + chance(i as u64) * (4e-5 * light + 1e-7).sqrt()
            })
            .collect();
        for (x, y, value) in defects {
            values[y * SIZE.0 + x] = *value;
        }
        Mosaic::new(Size::new(SIZE.0 as u32, SIZE.1 as u32), pattern, values).unwrap()
    }

    #[test]
    fn defects_are_found_and_nothing_else() {
        let defects = [(10, 60, 0.9), (60, 20, 0.2), (100, 40, 0.0), (33, 33, 1.0), (90, 80, 0.95)];
        let found = found(&mosaic(&defects, &[0, 1, 1, 2]));
        let mut places: Vec<(usize, usize)> =
            found.iter().map(|(at, _)| (at % SIZE.0, at / SIZE.0)).collect();
        places.sort_unstable();
        let mut wanted: Vec<(usize, usize)> = defects.iter().map(|d| (d.0, d.1)).collect();
        wanted.sort_unstable();
        assert_eq!(places, wanted);
        let pattern = Pattern::new(2, 2, &[0, 1, 1, 2]).unwrap();
        for (at, value) in found {
            let (x, y) = (at % SIZE.0, at / SIZE.0);
            let light = scene(x, y) * [0.5, 1.0, 0.7][usize::from(pattern.at(x, y))];
            assert!((value - light).abs() < 0.02, "{x} {y}: {value} instead of {light}");
        }
    }

    #[test]
    fn numbers_have_the_defects_that_their_light_has() {
        // Some that stand out by hardly more and hardly less than is asked for, beside white and beside black.
        let pattern = Pattern::new(2, 2, &[0, 1, 1, 2]).unwrap();
        let size = Size::new(SIZE.0 as u32, SIZE.1 as u32);
        let black = |x: usize, y: usize| 200.0 + 3.0 * x as f32 + 5.0 * y as f32;
        let levels = || Levels::new((2, 2), |x, y| (black(x, y), 4000.5));
        for strength in [0.05, 1.0, 4.0] {
            let number = |i: usize| {
                let (x, y) = (i % SIZE.0, i / SIZE.0);
                let light = scene(x, y) * strength + 0.002 * chance(i as u64);
                let dark = black(x % 2, y % 2);
                let odd = i * 7919 % 200 < 2;
                let off = if odd { 0.012 + 0.04 * chance(i as u64 + 9000) } else { 0.0 };
                ((light + off) * (4000.5 - dark) + dark + 0.5).clamp(0.0, 4095.0) as u16
            };
            let numbers: Vec<u16> = (0..SIZE.0 * SIZE.1).map(number).collect();
            let counts = Counts { numbers, start: 0, stride: SIZE.0, levels: levels() };
            let counted = Mosaic::of_counts(size, pattern.clone(), counts).unwrap();
            assert!(counted.counts().unwrap().limits(LEAST).is_some());
            let in_numbers = found(&counted);
            let light = Mosaic::new(size, pattern.clone(), counted.values().to_vec()).unwrap();
            let in_light = found(&light);
            assert!(in_light.len() > 5, "{strength}: {}", in_light.len());
            assert_eq!(in_numbers, in_light, "{strength}");
        }
        // Where light takes few numbers, or neighbours mean different things, they are looked at as light.
        let few = |levels| Counts { numbers: vec![7; 64], start: 0, stride: 8, levels };
        assert!(few(Levels::new((1, 1), |_, _| (0.0, 255.0))).limits(LEAST).is_none());
        assert!(few(Levels::new((4, 2), |x, _| (x as f32, 4000.0))).limits(LEAST).is_none());
    }

    #[test]
    fn a_sensor_with_six_by_six_filters_is_mended_too() {
        const CELLS: [u8; 36] = [
            1, 1, 0, 1, 1, 2, 1, 1, 2, 1, 1, 0, 2, 0, 1, 0, 2, 1, 1, 1, 2, 1, 1, 0, 1, 1, 0, 1, 1, 2, 0, 2,
            1, 2, 0, 1,
        ];
        let found = found(&mosaic(&[(10, 60, 0.9), (61, 22, 0.5)], &CELLS));
        let places: Vec<(usize, usize)> = found.iter().map(|(at, _)| (at % SIZE.0, at / SIZE.0)).collect();
        assert_eq!(places, [(61, 22), (10, 60)]);
    }
}
