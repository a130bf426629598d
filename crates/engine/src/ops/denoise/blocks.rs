//! The thorough way: blocks that look alike are found, laid on each other, and filtered together.
//!
//! Block matching and filtering in three dimensions (K. Dabov, A. Foi, V. Katkovnik and K. Egiazarian, "Image Denoising
//! by Sparse 3-D Transform-Domain Collaborative Filtering", 2007), its form for colour (the same authors, "Color Image
//! Denoising via Sparse 3D Collaborative Filtering with Grouping Constraint in Luminance-Chrominance Space", 2007:
//! matching on lightness only), with the noise's own spread over the frequencies in place of a single deviation. Two
//! passes: dropping what is below the noise, then an empirical Wiener filter going by the first result.
//!
//! Reference blocks lie on a fixed grid; sums are taken in a fixed order over bands on a fixed grid of their own, so that
//! any part of a picture comes out as in the whole, with any number of threads. Allocates sums for every band.

use super::dct::{Block, SIDE, forward_in, inverse_in, load};
use super::noise::PlaneNoise;
use super::{Noise, Planes, Strength, starts};
use crate::geometry::Rect;
use crate::simd::{Lanes, Plain, add_block};
use rayon::prelude::*;
use std::sync::LazyLock;

/// Pixels from reference block to reference block.
const STEP: usize = 4;
/// How far alike blocks are looked for, each way.
const REACH: usize = 12;
/// Up to this far away, every place is looked at.
const NEAR: usize = 2;
/// Most blocks filtered together.
const GROUP: usize = 16;
/// Rows of a band; a multiple of the step.
const BAND: i64 = 64;
/// Reference blocks whose matches are looked for at a time: their columns are three times 64.
const RUN: usize = 47;
/// In deviations: what is dropped.
const DROP: f32 = 2.7;

/// Pixels beyond the result that are needed: in each pass a block of the result is joined by one that lies [`REACH`] away,
/// which is looked for as far around.
pub const HALO: i64 = 2 * (2 * REACH + SIDE) as i64;

/// Denoises `noisy`, which covers `have`; what lies outside of `rect` is left unfinished.
pub fn run(noisy: &Planes, have: Rect, rect: Rect, noise: &Noise, strength: Strength) -> Planes {
    if noisy.width < SIDE || noisy.height < SIDE {
        return noisy.clone();
    }
    // The second pass looks at the first one's result so far around what it makes.
    let around = rect.grown(HALO / 2).within(have);
    let first = pass(noisy, None, have, around, noise, strength);
    pass(noisy, Some(&first), have, rect, noise, strength)
}

/// Those first rows or columns, counted from `from`, whose blocks reach into `start .. end`: the blocks filtered together
/// with one lie up to [`REACH`] away from it.
fn reaching(positions: Vec<usize>, from: i64, start: i64, end: i64) -> Vec<usize> {
    let reach = REACH as i64;
    let near = |at: &usize| (start - reach - SIDE as i64 + 1..end + reach).contains(&(from + *at as i64));
    positions.into_iter().filter(near).collect()
}

struct Work<'a> {
    noisy: &'a Planes,
    basic: Option<&'a Planes>,
    /// What blocks are compared by.
    light: &'a [f32],
    noise: &'a Noise,
    /// Deviation per plane and coefficient, times the strength.
    deviations: [[f32; SIDE * SIDE]; 3],
    on: [bool; 3],
    have: Rect,
    /// First columns of the reference blocks.
    columns: Vec<usize>,
    window: Block,
}

/// Weights of a block's pixels: the window of J. Kaiser with β = 2.
fn window() -> Block {
    let bessel = |x: f64| {
        let (mut sum, mut term) = (1.0, 1.0);
        for k in 1..20 {
            term *= (x / 2.0 / f64::from(k)).powi(2);
            sum += term;
        }
        sum
    };
    let side: [f64; SIDE] = std::array::from_fn(|i| {
        let t = 2.0 * i as f64 / (SIDE - 1) as f64 - 1.0;
        bessel(2.0 * (1.0 - t * t).sqrt()) / bessel(2.0)
    });
    std::array::from_fn(|y| std::array::from_fn(|x| (side[y] * side[x]) as f32))
}

/// Sums over some rows.
struct Band {
    first: usize,
    rows: usize,
    sum: [Vec<f32>; 3],
    weight: [Vec<f32>; 3],
}

fn pass(
    noisy: &Planes,
    basic: Option<&Planes>,
    have: Rect,
    rect: Rect,
    noise: &Noise,
    strength: Strength,
) -> Planes {
    let mut work = Work::new(noisy, basic, have, noise, strength);
    work.columns = reaching(work.columns, have.x, rect.x, rect.right());
    let rows = reaching(starts(have.y, noisy.height, STEP), have.y, rect.y, rect.bottom());
    // By the grid of bands in the whole picture.
    let band_of = |row: usize| (have.y + row as i64).div_euclid(BAND);
    let bands: Vec<&[usize]> = rows.chunk_by(|a, b| band_of(*a) == band_of(*b)).collect();
    let mut out = noisy.clone();
    let (w, h) = (noisy.width, noisy.height);
    let (mut sum, mut weight) = ([0; 3].map(|_| vec![0f32; w * h]), [0; 3].map(|_| vec![0f32; w * h]));
    // A few bands at a time, so that their sums do not all stand in memory at once.
    for some in bands.chunks(4 * rayon::current_num_threads()) {
        let done: Vec<Band> = some.par_iter().map(|rows| work.band(rows)).collect();
        for band in done {
            for c in 0..3 {
                let at = band.first * w;
                let add = |to: &mut [f32], from: &[f32]| {
                    for (t, f) in to.iter_mut().zip(from) {
                        *t += f;
                    }
                };
                add(&mut sum[c][at..at + band.rows * w], &band.sum[c]);
                add(&mut weight[c][at..at + band.rows * w], &band.weight[c]);
            }
        }
    }
    for c in 0..3 {
        for ((o, s), w) in out.planes[c].iter_mut().zip(&sum[c]).zip(&weight[c]) {
            if *w > 0.0 {
                *o = s / w;
            }
        }
    }
    out
}

/// The blocks most like each of a run of reference blocks: distances and positions, the nearest first.
struct Alike {
    distance: [[f32; GROUP]; RUN],
    at: [[u32; GROUP]; RUN],
    count: [usize; RUN],
}

impl Alike {
    fn empty() -> Self {
        Self { distance: [[f32::INFINITY; GROUP]; RUN], at: [[0; GROUP]; RUN], count: [0; RUN] }
    }

    #[inline(always)]
    fn offer(&mut self, i: usize, distance: f32, at: u32) {
        let (d, p) = (&mut self.distance[i], &mut self.at[i]);
        let mut k = self.count[i].min(GROUP - 1);
        while k > 0 && d[k - 1] > distance {
            (d[k], p[k]) = (d[k - 1], p[k - 1]);
            k -= 1;
        }
        (d[k], p[k]) = (distance, at);
        self.count[i] = (self.count[i] + 1).min(GROUP);
    }
}

impl<'a> Work<'a> {
    fn new(
        noisy: &'a Planes,
        basic: Option<&'a Planes>,
        have: Rect,
        noise: &'a Noise,
        strength: Strength,
    ) -> Self {
        let factors = [strength.light, strength.colour, strength.colour];
        let detail = 1.25 - 0.5 * strength.detail;
        Self {
            noisy,
            basic,
            light: &basic.unwrap_or(noisy).planes[0],
            noise,
            deviations: std::array::from_fn(|c| {
                std::array::from_fn(|k| noise.0[c].spread[k].sqrt() * factors[c] * detail)
            }),
            on: factors.map(|f| f > 0.0),
            have,
            columns: starts(have.x, noisy.width, STEP),
            window: window(),
        }
    }

    fn band(&self, rows: &[usize]) -> Band {
        let (w, h) = (self.noisy.width, self.noisy.height);
        let first = rows[0].saturating_sub(REACH);
        let last = (rows[rows.len() - 1] + REACH + SIDE).min(h);
        let empty = || [0; 3].map(|_| vec![0f32; (last - first) * w]);
        let mut band = Band { first, rows: last - first, sum: empty(), weight: empty() };
        let mut alike = Box::new(Alike::empty());
        for &row in rows {
            for columns in self.columns.chunks(RUN) {
                if !crate::pace::go_on() {
                    return band;
                }
                *alike = Alike::empty();
                find(self, row, columns, &mut alike);
                filter(self, &alike, row * w, columns, &mut band);
            }
        }
        band
    }
}

/// In the widest version this processor runs.
fn find(work: &Work, row: usize, columns: &[usize], alike: &mut Alike) {
    #[cfg(target_arch = "x86_64")]
    {
        #[target_feature(enable = "avx,avx2")]
        fn wide(work: &Work, row: usize, columns: &[usize], alike: &mut Alike) {
            find_in::<crate::simd::Avx>(work, row, columns, alike);
        }
        if is_x86_feature_detected!("avx2") {
            // Sound: the processor was just asked.
            return unsafe { wide(work, row, columns, alike) };
        }
    }
    find_in::<Plain>(work, row, columns, alike);
}

/// As [`find`].
fn filter(work: &Work, alike: &Alike, line: usize, columns: &[usize], band: &mut Band) {
    #[cfg(target_arch = "x86_64")]
    {
        #[target_feature(enable = "avx,avx2")]
        fn wide(work: &Work, alike: &Alike, line: usize, columns: &[usize], band: &mut Band) {
            filter_in::<crate::simd::Avx>(work, alike, line, columns, band);
        }
        if is_x86_feature_detected!("avx2") {
            // Sound: the processor was just asked.
            return unsafe { wide(work, alike, line, columns, band) };
        }
    }
    filter_in::<Plain>(work, alike, line, columns, band);
}

/// Sum of eight neighbours, in the order every way of summing them keeps.
#[inline(always)]
fn eight(s: &[f32]) -> f32 {
    ((s[0] + s[1]) + (s[2] + s[3])) + ((s[4] + s[5]) + (s[6] + s[7]))
}

/// Finds the blocks most like those at `columns` of `row`.
#[inline(always)]
fn find_in<L: Lanes>(work: &Work, row: usize, columns: &[usize], alike: &mut Alike) {
    let (light, w, h, have) = (work.light, work.noisy.width, work.noisy.height, work.have);
    let every = work.basic.is_some();
    let (left, right) = (columns[0], columns[columns.len() - 1] + SIDE);
    let mut across = [0f32; RUN * STEP + 3 * SIDE];
    let mut four = [0f32; RUN + 2];
    let mut distances = [0f32; RUN];
    let mut worst = [f32::INFINITY; RUN];
    let mut wanted = [true; RUN];
    for (wanted, column) in wanted.iter_mut().zip(columns) {
        *wanted = every || on_board(have, *column, row);
    }
    // Whether the columns follow each other evenly, so that sums of four serve two blocks.
    let even = columns.windows(2).all(|c| c[1] - c[0] == STEP);
    let moves: [Option<Move>; 2 * REACH + 1] =
        std::array::from_fn(|i| Move::new(i as i64 - REACH as i64, left, right, w, columns));
    // From the middle outwards: what is near is mostly most alike, and little has to change places afterwards.
    for &(down, across_by) in ORDER.iter() {
        let other = row as i64 + down;
        if other < 0 || other > (h - SIDE) as i64 {
            continue;
        }
        let other = other as usize;
        if let Some(Move { dx, from, to, first, last }) = moves[(across_by + REACH as i64) as usize] {
            let start = (other * w + from) as i64 + dx;
            columns_apart::<L>(light, w, row * w + from, start as usize, &mut across[from - left..to - left]);
            if even {
                let sums = &across[first * STEP..];
                for (q, s) in four.iter_mut().zip(sums.as_chunks::<STEP>().0).take(last - first + 1) {
                    *q = (s[0] + s[1]) + (s[2] + s[3]);
                }
                for (d, q) in distances[first..last].iter_mut().zip(four.windows(2)) {
                    *d = q[0] + q[1];
                }
            } else {
                for i in first..last {
                    distances[i] = eight(&across[columns[i] - left..][..SIDE]);
                }
            }
            for i in first..last {
                if distances[i] < worst[i] && wanted[i] {
                    alike.offer(i, distances[i], ((other * w + columns[i]) as i64 + dx) as u32);
                    worst[i] = alike.distance[i][GROUP - 1];
                }
            }
        }
    }
}

/// Whether a reference block stands on a black square of the chessboard of steps: of these the first pass, and colour,
/// make do with. Blocks off the grid, flush with an end, always count.
#[inline(always)]
fn on_board(have: Rect, column: usize, row: usize) -> bool {
    let step = STEP as i64;
    let (x, y) = (have.x + column as i64, have.y + row as i64);
    x.rem_euclid(step) != 0 || y.rem_euclid(step) != 0 || (x / step + y / step) % 2 == 0
}

/// Moves down and across, the nearest first: close by every one, farther away every second one as on a chessboard.
static ORDER: LazyLock<Vec<(i64, i64)>> = LazyLock::new(|| {
    let (reach, near) = (REACH as i64, NEAR as i64);
    let mut offsets: Vec<(i64, i64)> = (-reach..=reach)
        .flat_map(|y| (-reach..=reach).map(move |x| (y, x)))
        .filter(|(y, x)| (y.abs() <= near && x.abs() <= near) || (y + x) % 2 == 0)
        .collect();
    offsets.sort_by_key(|(y, x)| (y * y + x * x, *y, *x));
    offsets
});

/// A move across, with the columns and the reference blocks that stay inside the picture.
#[derive(Clone, Copy)]
struct Move {
    dx: i64,
    from: usize,
    to: usize,
    first: usize,
    last: usize,
}

impl Move {
    fn new(dx: i64, left: usize, right: usize, w: usize, columns: &[usize]) -> Option<Self> {
        let from = (left as i64 + dx).max(0) - dx;
        let to = (right as i64 + dx).min(w as i64) - dx;
        (to - from >= SIDE as i64).then(|| {
            let (from, to) = (from as usize, to as usize);
            let first = columns.partition_point(|c| *c < from);
            let last = columns.partition_point(|c| c + SIDE <= to);
            Self { dx, from, to, first, last: last.max(first) }
        })
    }
}

/// Per column, the sum over eight rows of the squared difference between two places of the plane.
#[inline(always)]
fn columns_apart<L: Lanes>(light: &[f32], w: usize, a: usize, b: usize, sums: &mut [f32]) {
    let (wide, rest) = sums.as_chunks_mut::<64>();
    let mut at = 0;
    for to in wide {
        // Eight times eight columns, held in registers while the rows go by.
        let mut sum = [L::zero(); 8];
        for v in 0..SIDE {
            let (one, two) = (&light[a + v * w + at..][..64], &light[b + v * w + at..][..64]);
            let (one, two) = (one.as_chunks::<8>().0, two.as_chunks::<8>().0);
            for i in 0..8 {
                let d = L::load(&one[i]).minus(L::load(&two[i]));
                sum[i] = sum[i].plus_product(d, d);
            }
        }
        for (sum, to) in sum.into_iter().zip(to.as_chunks_mut::<8>().0) {
            sum.store(to);
        }
        at += 64;
    }
    for (i, to) in rest.iter_mut().enumerate() {
        let mut sum = 0f32;
        for v in 0..SIDE {
            let d = light[a + v * w + at + i] - light[b + v * w + at + i];
            sum += d * d;
        }
        *to = sum;
    }
}

/// A group of blocks.
type Group<L> = [[L; SIDE]; GROUP];

/// One row of a group of `N` along the group, orthonormal (A. Haar, 1910).
#[inline(always)]
fn haar_row<L: Lanes, const N: usize>(group: &mut Group<L>, v: usize) {
    let half = L::splat(std::f32::consts::FRAC_1_SQRT_2);
    let mut values = [L::zero(); N];
    for (a, block) in values.iter_mut().zip(group.iter()) {
        *a = block[v];
    }
    let mut n = N;
    while n > 1 {
        for i in 0..n / 2 {
            let (a, b) = (values[2 * i], values[2 * i + 1]);
            values[i] = a.plus(b).times(half);
            // Differences are done with: they go where they stay.
            group[n / 2 + i][v] = a.minus(b).times(half);
        }
        n /= 2;
    }
    group[0][v] = values[0];
}

/// The inverse of [`haar_row`].
#[inline(always)]
fn haar_row_back<L: Lanes, const N: usize>(group: &mut Group<L>, v: usize) {
    let half = L::splat(std::f32::consts::FRAC_1_SQRT_2);
    let mut values = [L::zero(); N];
    values[0] = group[0][v];
    let mut n = 2;
    while n <= N {
        for i in (0..n / 2).rev() {
            let (a, b) = (values[i], group[n / 2 + i][v]);
            values[2 * i] = a.plus(b).times(half);
            values[2 * i + 1] = a.minus(b).times(half);
        }
        n *= 2;
    }
    for (i, a) in values.into_iter().enumerate() {
        group[i][v] = a;
    }
}

#[inline(always)]
fn haar<L: Lanes>(group: &mut Group<L>, count: usize) {
    for v in 0..SIDE {
        match count {
            16 => haar_row::<L, 16>(group, v),
            8 => haar_row::<L, 8>(group, v),
            4 => haar_row::<L, 4>(group, v),
            2 => haar_row::<L, 2>(group, v),
            _ => {}
        }
    }
}

#[inline(always)]
fn haar_back<L: Lanes>(group: &mut Group<L>, count: usize) {
    for v in 0..SIDE {
        match count {
            16 => haar_row_back::<L, 16>(group, v),
            8 => haar_row_back::<L, 8>(group, v),
            4 => haar_row_back::<L, 4>(group, v),
            2 => haar_row_back::<L, 2>(group, v),
            _ => {}
        }
    }
}

/// Filters the groups of a run of reference blocks; `line` is where their row begins.
#[inline(always)]
fn filter_in<L: Lanes>(work: &Work, alike: &Alike, line: usize, columns: &[usize], band: &mut Band) {
    let (mut group, mut clean) = ([[L::zero(); SIDE]; GROUP], [[L::zero(); SIDE]; GROUP]);
    for (i, column) in columns.iter().enumerate() {
        let similar = &alike.at[i][..alike.count[i]];
        if similar.is_empty() {
            continue;
        }
        // Colour, which changes more slowly than lightness, by every second group.
        let planes = if on_board(work.have, *column, line / work.noisy.width) { 3 } else { 1 };
        one_group(work, similar, line + column, planes, band, (&mut group, &mut clean));
    }
}

/// Filters one group and adds it to the sums.
#[inline(always)]
fn one_group<L: Lanes>(
    work: &Work,
    similar: &[u32],
    reference: usize,
    planes: usize,
    band: &mut Band,
    (group, clean): (&mut Group<L>, &mut Group<L>),
) {
    let w = work.noisy.width;
    let count = 1 << similar.len().ilog2();
    let similar = &similar[..count];
    let mut mean = L::zero();
    for row in load::<L>(work.light, w, reference) {
        mean = mean.plus(row);
    }
    let mean = eight(&mean.array()) / (SIDE * SIDE) as f32;
    for c in 0..planes {
        if !work.on[c] {
            continue;
        }
        for (to, at) in group.iter_mut().zip(similar) {
            *to = forward_in(&load::<L>(&work.noisy.planes[c], w, *at as usize));
        }
        haar(group, count);
        let noise: &PlaneNoise = &work.noise.0[c];
        let level = noise.at(mean).max(1e-6);
        let deviations = work.deviations[c].as_chunks::<SIDE>().0;
        let mut kept = L::zero();
        match work.basic {
            None => {
                let constant = group[0][0].array()[0];
                for v in 0..SIDE {
                    let limit = L::load(&deviations[v]).times(L::splat(DROP * level));
                    for block in &mut group[..count] {
                        let keep = block[v].above(limit);
                        kept = kept.plus(keep);
                        block[v] = block[v].times(keep);
                    }
                }
                // The mean always stays.
                let mut first = group[0][0].array();
                first[0] = constant;
                group[0][0] = L::load(&first);
            }
            Some(basic) => {
                for (to, at) in clean.iter_mut().zip(similar) {
                    *to = forward_in(&load::<L>(&basic.planes[c], w, *at as usize));
                }
                haar(clean, count);
                for v in 0..SIDE {
                    let d = L::load(&deviations[v]).times(L::splat(level));
                    let power = L::splat(1e-12).plus_product(d, d);
                    for (block, clean) in group[..count].iter_mut().zip(clean.iter()) {
                        let b = clean[v].times(clean[v]);
                        let share = b.over(b.plus(power));
                        kept = kept.plus_product(share, share);
                        block[v] = block[v].times(share);
                    }
                }
            }
        }
        haar_back(group, count);
        let group_weight = 1.0 / (eight(&kept.array()).max(0.5) * level * level);
        let mut weights = [L::splat(group_weight); SIDE];
        for (weight, row) in weights.iter_mut().zip(&work.window) {
            *weight = weight.times(L::load(row));
        }
        for (block, at) in group.iter().zip(similar) {
            let block = inverse_in(block);
            let start = *at as usize - band.first * w;
            add_block(&mut band.sum[c][start..], &mut band.weight[c][start..], w, &block, &weights);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_instruction_set_gives_the_same_bits() {
        let (w, h) = (96usize, 80usize);
        let value =
            |i: usize, k: usize| ((i * 7919 + k * 104_729) % 1000) as f32 / 1500.0 + (i % w) as f32 / 200.0;
        let noisy = Planes {
            width: w,
            height: h,
            planes: [0, 1, 2].map(|k| (0..w * h).map(|i| value(i, k)).collect()),
        };
        let noise = Noise::white(0.1);
        let strength = Strength { light: 1.0, colour: 1.0, detail: 0.5 };
        let have = Rect::new(0, 0, w as i64, h as i64);
        let first = pass(&noisy, None, have, have, &noise, strength);
        for basic in [None, Some(&first)] {
            let work = Work::new(&noisy, basic, have, &noise, strength);
            let columns = &work.columns[..20];
            let (mut one, mut two) = (Box::new(Alike::empty()), Box::new(Alike::empty()));
            find(&work, 24, columns, &mut one);
            find_in::<Plain>(&work, 24, columns, &mut two);
            assert_eq!(one.at[..20], two.at[..20]);
            // The block itself is always the first.
            let own = |i: usize| one.count[i] == 0 || one.at[i][0] as usize == 24 * w + columns[i];
            assert!((0..20).all(own) && one.count[0] == GROUP);
            let empty = || [0; 3].map(|_| vec![0f32; w * h]);
            let band = || Band { first: 0, rows: h, sum: empty(), weight: empty() };
            let (mut a, mut b) = (band(), band());
            filter(&work, &one, 24 * w, columns, &mut a);
            filter_in::<Plain>(&work, &one, 24 * w, columns, &mut b);
            assert!(a.sum == b.sum && a.weight == b.weight);
        }
    }
}
