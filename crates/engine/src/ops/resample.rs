//! One resampling for any affine mapping: every neighbouring geometric step, and the scale asked for, in one
//! pass.
//!
//! Kernel: the cubic of R. Keys, "Cubic convolution interpolation for digital image processing" (1981),
//! a = −1/2, stretched by the local reduction so that nothing aliases; enlarging interpolates. Weights come
//! from a table of 256 sub-pixel phases, normalised, separable along the input's axes. Beyond the picture's
//! edge the edge pixel is repeated.
//!
//! Without rotation the same sums are done in two passes (columns, then rows, an output row at a time), which differ from
//! the direct way by rounding only. A small rotation is done in two passes too (E. Catmull and A. R. Smith, "3-D transformations of
//! images in scanline order", 1980): along the rows to the output's columns, then along those columns; the kernel is
//! then sheared by as much as the rows are, which at the few pixels it reaches does not show. Two pixels beside each other are
//! summed at a time, from memory that both passes read as it lies. Reads a tile's input, allocates one buffer for the rows.

use crate::geometry::{Affine, Rect, Size};
use crate::ops::planes::Pixel;
use crate::simd::{Lanes, Plain};
use multiversion::multiversion;
use std::cell::Cell;

/// Sub-pixel positions in the weight table.
const PHASES: usize = 256;

/// Bits of a position below its phase.
const FINE: u32 = 12;

/// Such positions in an input pixel.
const UNIT: f64 = (PHASES << FINE) as f64;

/// Phases farther off than any picture is wide.
const FAR: f64 = 1e9;

/// Keys' cubic with a = −1/2; support 2.
pub(crate) fn cubic(x: f64) -> f64 {
    let x = x.abs();
    if x < 1.0 {
        (1.5 * x - 2.5) * x * x + 1.0
    } else if x < 2.0 {
        ((-0.5 * x + 2.5) * x - 4.0) * x + 2.0
    } else {
        0.0
    }
}

/// Two neighbouring pixels, or their weights: as wide as the common vector registers.
pub(crate) type Pair = [f32; 8];

/// Weights along one axis.
pub(crate) struct Axis {
    /// Even number of taps.
    pub(crate) taps: usize,
    /// Half the kernel's width in input pixels.
    reach: f64,
    /// Per phase and pair of taps: each weight once for every lane of its pixel.
    wide: Vec<Pair>,
    /// Per phase and tap, once: where a weight is spread as it is used, an eighth of the cache is enough.
    narrow: Vec<f32>,
}

impl Axis {
    /// For `step` input pixels per output pixel.
    pub(crate) fn new(step: f64) -> Self {
        let stretch = step.max(1.0);
        let reach = 2.0 * stretch;
        let taps = 2 * reach.ceil() as usize;
        let mut wide = Vec::with_capacity(PHASES * taps / 2);
        let mut narrow = Vec::with_capacity(PHASES * taps);
        for phase in 0..PHASES {
            let offset = phase as f64 / PHASES as f64;
            let weights: Vec<f64> =
                (0..taps).map(|t| cubic((t as f64 + 1.0 - reach.ceil() - offset) / stretch)).collect();
            let sum: f64 = weights.iter().sum();
            narrow.extend(weights.iter().map(|w| (w / sum) as f32));
            wide.extend(weights.as_chunks::<2>().0.iter().map(|[v, w]| -> Pair {
                std::array::from_fn(|lane| (if lane < 4 { v / sum } else { w / sum }) as f32)
            }));
        }
        Self { taps, reach, wide, narrow }
    }

    /// First input pixel and phase for the continuous input coordinate `at`.
    #[inline(always)]
    pub(crate) fn place(&self, at: f64) -> (i64, usize) {
        // The centre of pixel i is at i + 1/2; round to the nearest phase.
        let fine = ((at - 0.5) * PHASES as f64 + 0.5).floor() as i64;
        let whole = fine >> PHASES.trailing_zeros();
        (whole + 1 - self.reach.ceil() as i64, fine as usize & (PHASES - 1))
    }

    /// The places of coordinates that lie `start` behind those in `along`, from input pixel `first` on.
    #[inline(always)]
    pub(crate) fn places(&self, along: &[f64], start: f64, first: i64, places: &mut [Place]) {
        let before = (1 - self.reach.ceil() as i64 - first) as i32;
        for (place, from) in places.iter_mut().zip(along) {
            let fine = ((from + start - 0.5) * PHASES as f64 + 0.5).floor();
            // As in `place`, for several at once. Sound: the limits lie within the type.
            let fine = unsafe { limited(fine, FAR).to_int_unchecked::<i32>() };
            let phase = fine & (PHASES as i32 - 1);
            *place = Place { at: (fine >> PHASES.trailing_zeros()) + before, phase };
        }
    }

    /// The same for positions in [`UNIT`]s: whole numbers, so that a pixel's place is the same in every tile.
    #[inline(always)]
    fn fine_places(&self, along: &[i64], start: f64, first: i64, places: &mut [Place]) {
        let before = (1 - self.reach.ceil() as i64 - first) as i32;
        // Half a phase is for the rounding; what is far above falls away below, and keeps the sum above zero until then.
        let start = ((start - 0.5) * UNIT).round() as i64 + (1 << (FINE - 1)) + (1 << 56);
        for (place, from) in places.iter_mut().zip(along) {
            let fine = ((from + start) as u64 >> FINE) as u32 as i32;
            let phase = fine & (PHASES as i32 - 1);
            *place = Place { at: (fine >> PHASES.trailing_zeros()) + before, phase };
        }
    }

    #[inline(always)]
    pub(crate) fn weights(&self, phase: usize) -> &[Pair] {
        &self.wide[phase * self.taps / 2..(phase + 1) * self.taps / 2]
    }

    /// The same, each once.
    #[inline(always)]
    pub(crate) fn narrow_weights(&self, phase: usize) -> &[f32] {
        &self.narrow[phase * self.taps..(phase + 1) * self.taps]
    }
}

/// A number no farther from 0 than `most`, also where it is none.
#[inline(always)]
fn limited(value: f64, most: f64) -> f64 {
    value.max(-most).min(most)
}

/// Where a window of taps begins, and its phase.
#[derive(Clone, Copy, Default)]
pub(crate) struct Place {
    pub(crate) at: i32,
    pub(crate) phase: i32,
}

/// Input columns per input row (and rows per column) up to which a turned mapping is done in two passes.
const SHEAR: f64 = 0.12;

/// The first of two passes for a turned mapping: the input column for an output column and an input row.
#[derive(Clone, Copy)]
struct Shear {
    /// Input columns per output column.
    x: f64,
    /// Input columns per input row.
    v: f64,
    /// Offset.
    c: f64,
}

impl Shear {
    fn of(map: &Affine) -> Option<Self> {
        let turned = map.b != 0.0 || map.d != 0.0;
        let small = map.b.abs() < SHEAR * map.e.abs() && map.d.abs() < SHEAR * map.a.abs();
        (turned && small).then(|| {
            let v = map.b / map.e;
            Self { x: map.a - v * map.d, v, c: map.c - v * map.f }
        })
    }
}

/// Reduction that a clip's frames may be interpolated by.
const NEARLY: f64 = 1.1;

/// A resampling, ready for any tile.
pub struct Resampler {
    map: Affine,
    x: Axis,
    y: Axis,
    input: Size,
    shear: Option<Shear>,
}

impl Resampler {
    /// `map` goes from output to input coordinates; `input` is the whole input's size.
    pub fn new(map: Affine, input: Size) -> Self {
        let (sx, sy) = map.steps();
        Self { map, x: Axis::new(sx), y: Axis::new(sy), input, shear: Shear::of(&map) }
    }

    /// As [`new`](Self::new), but a reduction by less than [`NEARLY`] is interpolated: two taps less each way, and what little
    /// lies above the output's finest detail is not held back. For frames of a clip.
    pub fn quick(map: Affine, input: Size) -> Self {
        let nearly = |step: f64| if step < NEARLY { step.min(1.0) } else { step };
        let (sx, sy) = map.steps();
        Self { x: Axis::new(nearly(sx)), y: Axis::new(nearly(sy)), ..Self::new(map, input) }
    }

    /// How far it moves the picture, if that is all it does.
    pub(crate) fn moves(&self) -> Option<(f64, f64)> {
        let Affine { a, b, c, d, e, f } = self.map;
        ((a, b, d, e) == (1.0, 0.0, 0.0, 1.0)).then_some((c, f))
    }

    /// The part of the input needed for `out`, inside the input.
    pub fn needs(&self, out: Rect) -> Rect {
        let (x0, x1) = (out.x as f64 + 0.5, out.right() as f64 - 0.5);
        let (y0, y1) = (out.y as f64 + 0.5, out.bottom() as f64 - 0.5);
        let corners = [(x0, y0), (x1, y0), (x0, y1), (x1, y1)].map(|(x, y)| self.map.at(x, y));
        // Rows above and below are read at columns moved by the shear.
        let aside = self.shear.map_or(0.0, |s| s.v.abs() * (self.y.reach.ceil() + 2.0) + 1.0);
        let span = |values: [f64; 4], axis: &Axis, side: u32, more: f64| {
            let low = values.iter().copied().fold(f64::INFINITY, f64::min) - more;
            let high = values.iter().copied().fold(f64::NEG_INFINITY, f64::max) + more;
            let first = axis.place(low).0.clamp(0, i64::from(side) - 1);
            let last = (axis.place(high).0 + axis.taps as i64).clamp(first + 1, i64::from(side));
            (first, last - first)
        };
        let (x, width) = span(corners.map(|c| c.0), &self.x, self.input.width, aside);
        let (y, height) = span(corners.map(|c| c.1), &self.y, self.input.height, 0.0);
        Rect::new(x, y, width, height)
    }

    /// Fills `out` for the output rectangle `rect` from `input`, which covers `have` (at least [`needs`](Self::needs)).
    pub fn run(&self, input: &[Pixel], have: Rect, rect: Rect, out: &mut Vec<Pixel>) {
        // Every pixel is written below.
        out.resize(rect.area(), [0.0; 4]);
        if self.map.b == 0.0 && self.map.d == 0.0 {
            columns_then_rows(self, input, have, rect, out);
        } else if self.shear.is_some() {
            sheared(self, input, have, rect, out);
        } else {
            directly(self, input, have, rect, out);
        }
    }
}

/// Sum of `weights · pixels` over a row of an even number of taps, even and odd taps apart.
#[inline(always)]
pub(crate) fn row_sum<L: Lanes>(pixels: &[Pixel], weights: &[Pair]) -> L {
    let mut sum = L::zero();
    for (p, w) in pixels.as_flattened().as_chunks::<8>().0.iter().zip(weights) {
        sum = sum.plus_product(L::load(p), L::load(w));
    }
    sum
}

/// The sum over a window of `2 N` columns that lies inside the input, the weights of a row held in registers.
#[inline(always)]
fn window_sum<L: Lanes, const N: usize>(window: &[Pixel], width: usize, xw: &[Pair], yw: &[f32]) -> L {
    let mut held = [L::zero(); N];
    for (h, w) in held.iter_mut().zip(xw) {
        *h = L::load(w);
    }
    let mut sum = L::zero();
    let mut at = 0;
    for w in yw {
        let row = window[at..at + 2 * N].as_flattened().as_chunks::<8>().0;
        let mut part = L::zero();
        for i in 0..N {
            part = part.plus_product(L::load(&row[i]), held[i]);
        }
        sum = sum.plus_product(part, L::splat(*w));
        at += width;
    }
    sum
}

/// The sum over a window that lies inside the input, in the way that is fastest for the number of taps.
#[inline(always)]
pub(crate) fn any_window<L: Lanes>(window: &[Pixel], width: usize, xw: &[Pair], yw: &[f32]) -> L {
    match xw.len() {
        2 => window_sum::<L, 2>(window, width, xw, yw),
        4 => window_sum::<L, 4>(window, width, xw, yw),
        6 => window_sum::<L, 6>(window, width, xw, yw),
        count => {
            let mut sum = L::zero();
            for (t, w) in yw.iter().enumerate() {
                let part = row_sum(&window[t * width..t * width + 2 * count], xw);
                sum = sum.plus_product(part, L::splat(*w));
            }
            sum
        }
    }
}

/// Even and odd taps together.
#[inline(always)]
pub(crate) fn together<L: Lanes>(sum: L) -> Pixel {
    let sum = sum.array();
    std::array::from_fn(|c| sum[c] + sum[c + 4])
}

/// A function in the widest version this processor runs.
macro_rules! widest {
    ($name:ident, $generic:ident) => {
        fn $name(r: &Resampler, input: &[Pixel], have: Rect, rect: Rect, out: &mut [Pixel]) {
            #[cfg(target_arch = "x86_64")]
            {
                #[target_feature(enable = "avx,avx2")]
                fn wide(r: &Resampler, input: &[Pixel], have: Rect, rect: Rect, out: &mut [Pixel]) {
                    $generic::<crate::simd::Avx>(r, input, have, rect, out);
                }
                if is_x86_feature_detected!("avx2") {
                    // Sound: the processor was just asked.
                    return unsafe { wide(r, input, have, rect, out) };
                }
            }
            $generic::<Plain>(r, input, have, rect, out);
        }
    };
}
widest!(directly, directly_in);
widest!(columns_then_rows, columns_then_rows_in);
widest!(sheared, sheared_in);

/// The taps of one row, with the edge pixel repeated outside.
#[inline(always)]
pub(crate) fn taps<'a>(row: &'a [Pixel], first: i64, count: usize, spare: &'a mut [Pixel]) -> &'a [Pixel] {
    if first >= 0 && first as usize + count <= row.len() {
        return &row[first as usize..first as usize + count];
    }
    let last = row.len() as i64 - 1;
    for (i, p) in spare[..count].iter_mut().enumerate() {
        *p = row[(first + i as i64).clamp(0, last) as usize];
    }
    &spare[..count]
}

#[inline(always)]
fn directly_in<L: Lanes>(r: &Resampler, input: &[Pixel], have: Rect, rect: Rect, out: &mut [Pixel]) {
    let width = have.width as usize;
    let mut spare = vec![[0.0; 4]; r.x.taps];
    for (j, row) in out.chunks_mut(rect.width as usize).enumerate() {
        let y = (rect.y + j as i64) as f64 + 0.5;
        for (i, pixel) in row.iter_mut().enumerate() {
            let (u, v) = r.map.at((rect.x + i as i64) as f64 + 0.5, y);
            let (x0, xp) = r.x.place(u);
            let (y0, yp) = r.y.place(v);
            let (xw, yw) = (r.x.weights(xp), r.y.narrow_weights(yp));
            let mut sum = L::zero();
            let (x0, y0) = (x0 - have.x, y0 - have.y);
            let high = have.height as usize;
            let inside =
                x0 >= 0 && x0 as usize + r.x.taps <= width && y0 >= 0 && y0 as usize + r.y.taps <= high;
            if inside {
                sum = any_window(&input[y0 as usize * width + x0 as usize..], width, xw, yw);
            } else {
                for (t, w) in yw.iter().enumerate() {
                    let line = (y0 + t as i64).clamp(0, have.height - 1) as usize * width;
                    let row = taps(&input[line..line + width], x0, r.x.taps, &mut spare);
                    sum = sum.plus_product(row_sum(row, xw), L::splat(*w));
                }
            }
            *pixel = together(sum).map(|v| v.clamp(0.0, 16.0));
        }
    }
}

/// The columns of an output row first, then along that row, which stays in the cache.
#[inline(always)]
fn columns_then_rows_in<L: Lanes>(r: &Resampler, input: &[Pixel], have: Rect, rect: Rect, out: &mut [Pixel]) {
    let (wide, width, taps) = (have.width as usize, rect.width as usize, r.x.taps);
    // The line with its ends repeated as far as the kernel reaches: every window lies inside.
    let mut line = vec![[0f32; 4]; wide + 2 * taps];
    let place = |i: usize| {
        let (x0, phase) = r.x.place(r.map.at((rect.x + i as i64) as f64 + 0.5, 0.0).0);
        let at = (x0 - have.x).clamp(-(taps as i64), wide as i64) + taps as i64;
        Place { at: at as i32, phase: phase as i32 }
    };
    let places: Vec<Place> = (0..width).map(place).collect();
    for (j, row) in out.chunks_mut(width).enumerate() {
        let (y0, phase) = r.y.place(r.map.at(0.0, (rect.y + j as i64) as f64 + 0.5).1);
        let weighed: Vec<(&[Pixel], f32)> =
            r.y.narrow_weights(phase)
                .iter()
                .enumerate()
                .map(|(t, w)| {
                    let at = (y0 - have.y + t as i64).clamp(0, have.height - 1) as usize * wide;
                    (&input[at..at + wide], *w)
                })
                .collect();
        blended(&weighed, &mut line[taps..taps + wide]);
        let (first, last) = (line[taps], line[taps + wide - 1]);
        line[..taps].fill(first);
        line[taps + wide..].fill(last);
        let limits = (L::zero(), L::splat(16.0));
        any_along::<L>(&line, &places, &r.x, limits, row);
    }
}

/// The sum of rows, each with its weight; in the way that is fastest for their number.
fn blended(rows: &[(&[Pixel], f32)], out: &mut [Pixel]) {
    match rows.len() {
        4 => blended_few::<4>(rows, out),
        6 => blended_few::<6>(rows, out),
        8 => blended_few::<8>(rows, out),
        10 => blended_few::<10>(rows, out),
        _ => blended_many(rows, out),
    }
}

/// As [`blended`], for `N` rows.
#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn blended_few<const N: usize>(rows: &[(&[Pixel], f32)], out: &mut [Pixel]) {
    let out = out.as_flattened_mut();
    let (mut values, mut weights) = ([&[] as &[f32]; N], [0f32; N]);
    for (i, (row, weight)) in rows.iter().enumerate().take(N) {
        (values[i], weights[i]) = (&row.as_flattened()[..out.len()], *weight);
    }
    for (i, to) in out.iter_mut().enumerate() {
        let mut sum = 0.0;
        for n in 0..N {
            sum += values[n][i] * weights[n];
        }
        *to = sum;
    }
}

/// As [`blended`], for any number.
#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn blended_many(rows: &[(&[Pixel], f32)], out: &mut [Pixel]) {
    for (b, to) in out.as_flattened_mut().chunks_mut(64).enumerate() {
        to.fill(0.0);
        for (row, weight) in rows {
            for (to, from) in to.iter_mut().zip(&row.as_flattened()[64 * b..]) {
                *to += from * weight;
            }
        }
    }
}

/// [`along`] in the way that is fastest for the number of taps.
#[inline(always)]
fn any_along<L: Lanes>(line: &[Pixel], places: &[Place], axis: &Axis, limits: (L, L), out: &mut [Pixel]) {
    // Looked at for all of them beforehand, several at once: the sums go on without.
    let (mut first, mut last) = (0, 0);
    for place in places {
        first = place.at.min(first);
        last = place.at.max(last);
    }
    assert!(first == 0 && last as usize + axis.taps <= line.len());
    match axis.taps / 2 {
        2 => along::<L, 2>(line, places, axis, limits, out),
        3 => along::<L, 3>(line, places, axis, limits, out),
        4 => along::<L, 4>(line, places, axis, limits, out),
        5 => along::<L, 5>(line, places, axis, limits, out),
        6 => along::<L, 6>(line, places, axis, limits, out),
        _ => along::<L, 0>(line, places, axis, limits, out),
    }
}

/// Along a line: each pixel from the window and the phase that belong to it, by `N` pairs of taps, any number for 0. All windows lie
/// inside the line.
#[inline(always)]
fn along<L: Lanes, const N: usize>(
    line: &[Pixel],
    places: &[Place],
    axis: &Axis,
    (least, most): (L, L),
    out: &mut [Pixel],
) {
    let (pairs, rest) = out.as_chunks_mut::<2>();
    let (twos, last) = places.as_chunks::<2>();
    for (to, two) in pairs.iter_mut().zip(twos) {
        let first = placed_sum::<L, N>(line, two[0], axis);
        let both = first.folded(placed_sum::<L, N>(line, two[1], axis)).between(least, most);
        if let Some(to) = to.as_flattened_mut().first_chunk_mut::<8>() {
            both.store(to);
        }
    }
    for (pixel, place) in rest.iter_mut().zip(last) {
        *pixel = together(placed_sum::<L, N>(line, *place, axis).folded(L::zero()).between(least, most));
    }
}

/// The sum over the window at a place of the line, which lies inside it, with the weights of its phase. No closure: one would be
/// compiled for the common instruction set.
#[inline(always)]
fn placed_sum<L: Lanes, const N: usize>(line: &[Pixel], Place { at, phase }: Place, axis: &Axis) -> L {
    let (at, phase) = (at as usize, phase as usize & (PHASES - 1));
    if N == 0 {
        return row_sum(&line[at..at + axis.taps], axis.weights(phase));
    }
    debug_assert!(at + 2 * N <= line.len() && axis.wide.len() == PHASES * N);
    // Sound: the caller has looked at the place, and there are N pairs of weights for each phase.
    let (window, weights) = unsafe {
        let window = line.as_ptr().add(at).cast::<[Pair; N]>();
        (&*window, &*axis.wide.as_ptr().add(phase * N).cast::<[Pair; N]>())
    };
    let mut sum = L::zero();
    for i in 0..N {
        sum = sum.plus_product(L::load(&window[i]), L::load(&weights[i]));
    }
    sum
}

thread_local! {
    /// What lies between the two passes of a small rotation.
    static MIDDLE: Cell<Vec<Pixel>> = const { Cell::new(Vec::new()) };
}

/// Most pixels of it that a thread keeps: more than a tile needs, less than anybody misses.
const KEPT: usize = 1 << 20;

#[inline(always)]
fn sheared_in<L: Lanes>(r: &Resampler, input: &[Pixel], have: Rect, rect: Rect, out: &mut [Pixel]) {
    let Some(shear) = r.shear else { return };
    let (wide, width, high, taps) =
        (have.width as usize, rect.width as usize, have.height as usize, r.x.taps);
    let columns = |step: f64| -> Vec<i64> {
        (0..width).map(|i| (step * ((rect.x + i as i64) as f64 + 0.5) * UNIT).round() as i64).collect()
    };
    let mut places = vec![Place::default(); width];
    let mut spare = vec![[0f32; 4]; wide + 2 * taps];
    // What lies between the passes stays with the thread: a fresh piece of memory for each tile would be cleared each time.
    let mut middle = MIDDLE.take();
    middle.resize(middle.len().max(width * high), [0.0; 4]);
    let along_rows = columns(shear.x);
    // Between the passes nothing is held back.
    let open = (L::splat(f32::NEG_INFINITY), L::splat(f32::INFINITY));
    for ((j, line), to) in input.chunks(wide).enumerate().zip(middle[..width * high].chunks_mut(width)) {
        let start = shear.v * ((have.y + j as i64) as f64 + 0.5) + shear.c;
        r.x.fine_places(&along_rows, start, have.x, &mut places);
        let is_inside = |place: &Place| place.at >= 0 && place.at as usize + taps <= wide;
        let line = match (places.first(), places.last()) {
            (Some(first), Some(last)) if is_inside(first) && is_inside(last) => line,
            _ => {
                // With its ends repeated as far as the kernel reaches.
                let (first, last) = (line[0], line[wide - 1]);
                spare[..taps].fill(first);
                spare[taps..taps + wide].copy_from_slice(line);
                spare[taps + wide..].fill(last);
                let (least, most) = (-(taps as i32), wide as i32);
                places.iter_mut().for_each(|place| place.at = place.at.clamp(least, most) - least);
                &spare
            }
        };
        any_along::<L>(line, &places, &r.x, open, to);
    }
    let rows = &middle[..width * high];
    let along_columns = columns(r.map.d);
    for (j, row) in out.chunks_mut(width).enumerate() {
        let start = r.map.e * ((rect.y + j as i64) as f64 + 0.5) + r.map.f;
        r.y.fine_places(&along_columns, start, have.y, &mut places);
        match r.y.taps / 2 {
            2 => down::<L, 2>(rows, &places, &r.y, row),
            3 => down::<L, 3>(rows, &places, &r.y, row),
            4 => down::<L, 4>(rows, &places, &r.y, row),
            5 => down::<L, 5>(rows, &places, &r.y, row),
            6 => down::<L, 6>(rows, &places, &r.y, row),
            _ => down::<L, 0>(rows, &places, &r.y, row),
        }
    }
    if middle.len() <= KEPT {
        MIDDLE.set(middle);
    }
}

/// Down the columns of rows as wide as `out`: each pixel from the window that belongs to it, by `N` pairs of taps, any number for 0.
#[inline(always)]
fn down<L: Lanes, const N: usize>(rows: &[Pixel], places: &[Place], axis: &Axis, out: &mut [Pixel]) {
    let (width, most) = (out.len(), L::splat(16.0));
    let high = rows.len() / width;
    let (twos, _) = places.as_chunks::<2>();
    let mut done = 0;
    for (i, [a, b]) in twos.iter().enumerate() {
        let is_inside = a.at >= 0 && a.at as usize + axis.taps <= high;
        if a.at == b.at && is_inside {
            let (first, second) = (axis.weights(a.phase as usize), axis.weights(b.phase as usize));
            let window = &rows[a.at as usize * width + 2 * i..];
            let both = beside::<L, N>(window, width, first, second).between(L::zero(), most);
            if let Some(to) = out[2 * i..].as_flattened_mut().first_chunk_mut::<8>() {
                both.store(to);
            }
        } else {
            for at in [2 * i, 2 * i + 1] {
                out[at] = column_sum(rows, width, at, places[at], axis);
            }
        }
        done = 2 * i + 2;
    }
    for at in done..width {
        out[at] = column_sum(rows, width, at, places[at], axis);
    }
}

/// The sums over windows of two columns that begin at the same row, even and odd taps apart.
#[inline(always)]
fn beside<L: Lanes, const N: usize>(window: &[Pixel], width: usize, first: &[Pair], second: &[Pair]) -> L {
    let count = if N == 0 { first.len() } else { N };
    let (mut even, mut odd) = (L::zero(), L::zero());
    for n in 0..count {
        let (a, b) = (first[n].as_chunks::<4>().0, second[n].as_chunks::<4>().0);
        let at = 2 * n * width;
        let (Some(upper), Some(lower)) = (
            window[at..].as_flattened().first_chunk::<8>(),
            window[at + width..].as_flattened().first_chunk::<8>(),
        ) else {
            return L::zero();
        };
        even = even.plus_product(L::load(upper), L::halves(&a[0], &b[0]));
        odd = odd.plus_product(L::load(lower), L::halves(&a[1], &b[1]));
    }
    even.plus(odd)
}

/// The sum over one column's window, with the edge pixel repeated outside.
fn column_sum(rows: &[Pixel], width: usize, column: usize, Place { at, phase }: Place, axis: &Axis) -> Pixel {
    let last = (rows.len() / width) as i64 - 1;
    let mut sums = [[0f32; 4]; 2];
    for (n, pair) in axis.weights(phase as usize).iter().enumerate() {
        for (odd, w) in [pair[0], pair[4]].into_iter().enumerate() {
            let row = (i64::from(at) + (2 * n + odd) as i64).clamp(0, last) as usize;
            let pixel = rows[row * width + column];
            for c in 0..4 {
                sums[odd][c] += pixel[c] * w;
            }
        }
    }
    // What is no number is 0, as for several at once.
    std::array::from_fn(|c| {
        let sum = sums[0][c] + sums[1][c];
        if sum > 0.0 { sum.min(16.0) } else { 0.0 }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wave(x: f64, y: f64) -> f64 {
        0.5 + 0.2 * (x * 0.11).sin() + 0.2 * (y * 0.07 + x * 0.03).cos()
    }

    fn picture(size: Size) -> Vec<Pixel> {
        (0..size.height)
            .flat_map(|y| {
                (0..size.width).map(move |x| [wave(f64::from(x) + 0.5, f64::from(y) + 0.5) as f32; 4])
            })
            .collect()
    }

    /// The picture over `rect`.
    fn part(size: Size, rect: Rect) -> Vec<Pixel> {
        let all = picture(size);
        let places = (rect.y..rect.bottom()).flat_map(|y| (rect.x..rect.right()).map(move |x| (x, y)));
        places.map(|(x, y)| all[(y * i64::from(size.width) + x) as usize]).collect()
    }

    fn run(map: Affine, size: Size, out: Rect) -> Vec<Pixel> {
        let r = Resampler::new(map, size);
        let need = r.needs(out);
        let part = part(size, need);
        let mut got = Vec::new();
        r.run(&part, need, out, &mut got);
        got
    }

    #[test]
    fn a_turned_and_reduced_wave_is_the_wave_at_the_mapped_places() {
        let (s, c) = (0.3f64.sin(), 0.3f64.cos());
        let map = Affine { a: 1.7 * c, b: -1.7 * s, c: 90.0, d: 1.7 * s, e: 1.7 * c, f: 20.0 };
        let got = run(map, Size::new(300, 260), Rect::new(20, 10, 60, 50));
        for (i, p) in got.iter().enumerate() {
            let (x, y) = map.at(20.5 + (i % 60) as f64, 10.5 + (i / 60) as f64);
            assert!((f64::from(p[0]) - wave(x, y)).abs() < 4e-3, "{i}: {} {}", p[0], wave(x, y));
        }
    }

    #[test]
    fn a_small_turn_in_two_passes_is_the_turn() {
        let size = Size::new(300, 260);
        for (angle, scale) in [(0.021f64, 1.875), (-0.05, 1.0), (0.1, 0.6), (0.02, 3.7)] {
            let (s, c) = (angle.sin() * scale, angle.cos() * scale);
            let map = Affine { a: c, b: -s, c: 25.0, d: s, e: c, f: 20.0 };
            let r = Resampler::new(map, size);
            assert!(r.shear.is_some());
            let out = Rect::new(4, 3, 50, 40);
            let got = run(map, size, out);
            let need = r.needs(out);
            let part = part(size, need);
            let (mut direct, mut plain) = (vec![[0.0; 4]; out.area()], vec![[0.0; 4]; out.area()]);
            directly(&r, &part, need, out, &mut direct);
            sheared_in::<Plain>(&r, &part, need, out, &mut plain);
            // Every instruction set gives the same bits.
            assert_eq!(got, plain);
            for (i, p) in got.iter().enumerate() {
                let (x, y) = map.at(4.5 + (i % 50) as f64, 3.5 + (i / 50) as f64);
                let inside = (8.0..292.0).contains(&x) && (8.0..252.0).contains(&y);
                assert!(
                    !inside || (f64::from(p[0]) - wave(x, y)).abs() < 4e-3,
                    "{angle}: {} {}",
                    p[0],
                    wave(x, y)
                );
                assert!((p[0] - direct[i][0]).abs() < 1e-3, "{angle} at {i}: {} {}", p[0], direct[i][0]);
            }
            // Tiles equal the whole.
            for tile in out.tiles(17, 11) {
                for (i, p) in run(map, size, tile).iter().enumerate() {
                    let (x, y) = (tile.x - 4 + i as i64 % tile.width, tile.y - 3 + i as i64 / tile.width);
                    assert_eq!(*p, got[(y * 50 + x) as usize]);
                }
            }
        }
    }

    #[test]
    fn both_ways_differ_by_rounding_only() {
        let size = Size::new(97, 83);
        let map = Affine { a: 2.3, c: 1.1, e: 1.9, f: 0.4, ..Affine::IDENTITY };
        let r = Resampler::new(map, size);
        let out = Rect::new(0, 0, 42, 44);
        let have = size.rect();
        let (mut one, mut two) = (vec![[0.0; 4]; out.area()], vec![[0.0; 4]; out.area()]);
        columns_then_rows(&r, &picture(size), have, out, &mut one);
        directly(&r, &picture(size), have, out, &mut two);
        // Every instruction set gives the same bits.
        let mut plain = vec![[0.0; 4]; out.area()];
        columns_then_rows_in::<Plain>(&r, &picture(size), have, out, &mut plain);
        assert_eq!(one, plain);
        directly_in::<Plain>(&r, &picture(size), have, out, &mut plain);
        assert_eq!(two, plain);
        for (a, b) in one.iter().zip(&two) {
            assert!((0..4).all(|c| (a[c] - b[c]).abs() < 2e-6), "{a:?} {b:?}");
        }
    }

    #[test]
    fn every_number_of_taps_and_any_width_sums_the_same() {
        // From enlarging (4 taps) to reducing so far that no width is known beforehand; odd sides, parts at the edges.
        let size = Size::new(211, 127);
        for (step, out) in [
            (0.37, Rect::new(0, 0, 33, 21)),
            (1.04, Rect::new(150, 90, 51, 32)),
            (1.51, Rect::new(100, 60, 39, 24)),
            (2.02, Rect::new(3, 1, 101, 61)),
            (2.49, Rect::new(0, 0, 1, 1)),
            (2.9, Rect::new(60, 30, 12, 13)),
            (3.7, Rect::new(0, 0, 57, 34)),
            (9.1, Rect::new(20, 10, 3, 3)),
        ] {
            let map = Affine { a: step, c: 0.3, e: step * 0.98, f: -0.2, ..Affine::IDENTITY };
            let r = Resampler::new(map, size);
            let have = r.needs(out);
            let part = part(size, have);
            // What was there before is written over.
            let mut got = vec![[7.0; 4]; out.area() + 5];
            r.run(&part, have, out, &mut got);
            assert_eq!(got.len(), out.area(), "{step}");
            let mut direct = vec![[0.0; 4]; out.area()];
            directly_in::<Plain>(&r, &part, have, out, &mut direct);
            let mut plain = vec![[0.0; 4]; out.area()];
            columns_then_rows_in::<Plain>(&r, &part, have, out, &mut plain);
            assert_eq!(got, plain, "{step}: every instruction set gives the same bits");
            for (i, (a, b)) in got.iter().zip(&direct).enumerate() {
                assert!((a[0] - b[0]).abs() < 4e-6, "{step} at {i}: {a:?} {b:?}");
            }
        }
    }

    #[test]
    fn the_quick_way_interpolates_where_it_nearly_fits_and_is_the_same_elsewhere() {
        let size = Size::new(90, 70);
        for (step, nearly) in [(1.04, true), (0.6, false), (1.2, false), (2.0, false)] {
            let map = Affine { a: step, e: step, ..Affine::IDENTITY };
            let (usual, quick) = (Resampler::new(map, size), Resampler::quick(map, size));
            assert_eq!(quick.x.taps < usual.x.taps, nearly, "{step}");
            let out = Rect::new(0, 0, 40, 30);
            let (mut a, mut b) = (Vec::new(), Vec::new());
            for (r, to) in [(&usual, &mut a), (&quick, &mut b)] {
                let need = r.needs(out);
                let part = part(size, need);
                r.run(&part, need, out, to);
            }
            // What is no finer than a few pixels comes out the same.
            let apart = a.iter().zip(&b).map(|(a, b)| (a[0] - b[0]).abs()).fold(0.0, f32::max);
            assert!(apart <= if nearly { 2e-3 } else { 0.0 }, "{step}: {apart}");
        }
    }

    #[test]
    fn what_lies_beyond_the_range_and_is_no_number_is_limited() {
        let size = Size::new(16, 16);
        let r = Resampler::new(Affine::scale(1.3, 1.3), size);
        let out = Rect::new(0, 0, 11, 11);
        for (value, want) in [(-3.0, 0.0), (40.0, 16.0), (f32::NAN, 0.0), (2.5, 2.5)] {
            let mut got = Vec::new();
            r.run(&vec![[value; 4]; 256], size.rect(), out, &mut got);
            assert!(got.iter().flatten().all(|v| (v - want).abs() < 1e-5), "{value}: {:?}", got[0]);
        }
    }

    #[test]
    fn no_scaling_and_whole_shifts_copy_exactly() {
        let size = Size::new(40, 30);
        let got = run(Affine::shift(3.0, 4.0), size, Rect::new(0, 0, 30, 20));
        let all = picture(size);
        for y in 0..20 {
            for x in 0..30 {
                assert_eq!(got[y * 30 + x], all[(y + 4) * 40 + x + 3]);
            }
        }
    }

    #[test]
    fn tiles_equal_the_whole() {
        let map = Affine { a: 0.9, b: 0.2, c: -4.0, d: -0.2, e: 0.9, f: 6.0 };
        let size = Size::new(64, 64);
        let whole = run(map, size, Rect::new(0, 0, 60, 60));
        for tile in Rect::new(0, 0, 60, 60).tiles(17, 23) {
            let part = run(map, size, tile);
            for (i, p) in part.iter().enumerate() {
                let (x, y) =
                    (tile.x as usize + i % tile.width as usize, tile.y as usize + i / tile.width as usize);
                assert_eq!(*p, whole[y * 60 + x]);
            }
        }
    }
}
