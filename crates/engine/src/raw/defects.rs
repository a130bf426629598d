//! Pixels of a sensor that count what is not there: hot, dead and stuck ones, mended before anything is made of the mosaic.
//!
//! A lens spreads every point of light over several pixels and all filters. A defect stands out alone: by far from all its
//! neighbours behind the same filter, while those behind the other filters show nothing of it.

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
    let of_rows = |(room, stands_out): &mut (Vec<f32>, Vec<u8>), from: usize| {
        let count = ROWS.min(h - EDGE - from);
        let values = mosaic.rows(from - EDGE, count + 2 * EDGE, room);
        let mut found = Vec::new();
        for row in 0..count {
            let y = from + row;
            let mut look = |x: usize| {
                let around = &cells[y % side * side + x % side];
                let at = (row + EDGE) * w + x;
                found.extend(mended(values, w, around, at).map(|mended| (y * w + x, mended)));
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

/// What a defect should count; nothing where the pixel is none.
#[inline(always)]
fn mended(values: &[f32], width: usize, around: &Around, at: usize) -> Option<f32> {
    let value = |(dx, dy): Place| values[at.wrapping_add_signed(dy * width as isize + dx)];
    let own = values[at];
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
    use crate::raw::Pattern;
    use crate::raw::noise::tests::chance;

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
