//! Point-wise work: what happens to each pixel alone. Steps describe it as data, so that neighbouring steps
//! become one pass over a tile that stays in the cache.
//!
//! Allocates nothing per pixel: a chunk of 64 pixels is taken apart into three planes on the stack, every
//! operation runs over the planes, and the chunk is put back together.

use crate::RANGE;
use crate::colour::space::{self, InputColour, OutputColour};
use crate::colour::transfer::{CodedTable, Table};
use crate::colour::working::Matrix;
use crate::geometry::{Rect, Size};
use crate::image::picture::{Orientation, Picture, Samples};
use crate::ops::mask::Mask;
use crate::ops::planes::{CHUNK, Pixel, Planes};
use crate::simd::prefetch;
use multiversion::multiversion;
use std::sync::Arc;

/// A function of one channel in linear light.
pub type Curve = Arc<dyn Fn(f32) -> f32 + Send + Sync>;

/// One point-wise operation on working values.
#[derive(Clone)]
pub enum PointOp {
    /// Each pixel as a column vector, multiplied from the left.
    Matrix(Matrix),
    /// A function per channel.
    Curves([Curve; 3]),
    /// Anything else that needs no other pixel: of all three channels together, or of the place.
    Pixels(Arc<dyn PixelOp>),
}

/// Work on a run of pixels of one row, each by itself.
pub trait PixelOp: Send + Sync {
    /// Changes `planes` in place; the first pixel lies at column `x` of row `y` of the step's input, at the scale of
    /// the plan. Values may lie outside the range on the way in; lanes after the end of the row hold anything finite.
    fn run(&self, x: i64, y: i64, planes: &mut Planes);

    /// Whether it does the same to a colour wherever it stands.
    fn is_placeless(&self) -> bool {
        false
    }
}

/// Operations held back to an area and a share.
pub struct Masked {
    /// What is done.
    pub inner: PointProgram,
    /// Where; everywhere without one.
    pub mask: Option<Arc<Mask>>,
    /// How much, 0 ..= 1.
    pub mix: f32,
}

impl PixelOp for Masked {
    fn run(&self, x: i64, y: i64, planes: &mut Planes) {
        let before = planes.clone();
        self.inner.run_planes(x, y, planes);
        let mut weights = [self.mix; CHUNK];
        if let Some(mask) = &self.mask {
            mask.weigh(x, y, &before, &mut weights);
            weights = weights.map(|w| w * self.mix);
        }
        planes.mix(&before, &weights);
    }

    fn is_placeless(&self) -> bool {
        self.mask.is_none() && self.inner.is_placeless()
    }
}

impl PointOp {
    /// Whether it does the same to a colour wherever it stands.
    pub(crate) fn is_placeless(&self) -> bool {
        match self {
            Self::Matrix(_) | Self::Curves(_) => true,
            Self::Pixels(op) => op.is_placeless(),
        }
    }

    /// The same function on each channel.
    pub fn curve(function: impl Fn(f32) -> f32 + Send + Sync + 'static) -> Self {
        let curve: Curve = Arc::new(function);
        Self::Curves([curve.clone(), curve.clone(), curve])
    }

    /// This operation mixed with its input: 1 is all of it, 0 none.
    pub fn mixed(self, mix: f32) -> Self {
        if mix >= 1.0 {
            return self;
        }
        match self {
            Self::Matrix(m) => Self::Matrix(std::array::from_fn(|r| {
                std::array::from_fn(|c| m[r][c] * mix + space::IDENTITY[r][c] * (1.0 - mix))
            })),
            Self::Curves(f) => {
                Self::Curves(f.map(|f| -> Curve { Arc::new(move |x| f(x) * mix + x * (1.0 - mix)) }))
            }
            Self::Pixels(_) => {
                let inner = PointProgram::new(vec![self]);
                Self::Pixels(Arc::new(Masked { inner, mask: None, mix }))
            }
        }
    }
}

/// An operation ready to run.
enum Ready {
    Matrix(Matrix),
    /// One table for all channels.
    Same(Table),
    Each(Box<[Table; 3]>),
    Pixels(Arc<dyn PixelOp>),
}

/// A run of point-wise operations, fused: neighbouring matrices are multiplied, neighbouring functions are
/// composed before they are sampled.
pub struct PointProgram {
    ready: Vec<Ready>,
}

impl Planes {
    #[inline(always)]
    pub(crate) fn matrix(&mut self, m: &Matrix) {
        for i in 0..CHUNK {
            let (r, g, b) = (self.r[i], self.g[i], self.b[i]);
            self.r[i] = m[0][0] * r + m[0][1] * g + m[0][2] * b;
            self.g[i] = m[1][0] * r + m[1][1] * g + m[1][2] * b;
            self.b[i] = m[2][0] * r + m[2][1] * g + m[2][2] * b;
        }
    }

    #[inline(always)]
    fn limit(&mut self) {
        for plane in [&mut self.r, &mut self.g, &mut self.b] {
            for v in plane {
                *v = v.clamp(*RANGE.start(), *RANGE.end());
            }
        }
    }

    #[inline(always)]
    fn run(&mut self, x: i64, y: i64, ready: &[Ready]) {
        for op in ready {
            match op {
                Ready::Matrix(m) => self.matrix(m),
                Ready::Same(t) => {
                    t.apply(&mut self.r);
                    t.apply(&mut self.g);
                    t.apply(&mut self.b);
                }
                Ready::Each(t) => {
                    t[0].apply(&mut self.r);
                    t[1].apply(&mut self.g);
                    t[2].apply(&mut self.b);
                }
                Ready::Pixels(op) => op.run(x, y, self),
            }
        }
    }

    /// The last of a plan's point-wise work, as [`PointProgram::run`] does it.
    #[inline(always)]
    fn finish(&mut self, last: &PointProgram, x: i64, y: i64) {
        if !last.is_empty() {
            self.run(x, y, &last.ready);
            self.limit();
        }
    }

    /// From working values to samples 0 ..= 1 of a colour space.
    #[inline(always)]
    fn encode_for(&mut self, colour: &OutputColour) {
        if let Some(file) = &colour.file {
            file.encode(self);
            return;
        }
        self.matrix(&colour.from_working);
        colour.encode.apply(&mut self.r);
        colour.encode.apply(&mut self.g);
        colour.encode.apply(&mut self.b);
    }

    /// Each value of 0 ..= 1 on a scale of whole numbers 0 ..= `most`, rounded; what lies beyond becomes the nearest end.
    #[inline(always)]
    fn levels(&self, most: f32) -> [[i32; CHUNK]; 3] {
        let mut levels = [[0; CHUNK]; 3];
        // No closure: one that is not inlined has the narrowest instructions only.
        for (out, plane) in levels.iter_mut().zip([&self.r, &self.g, &self.b]) {
            for (to, value) in out.iter_mut().zip(plane) {
                // `max` first turns NaN into 0. Sound: the limits leave 0 ..= `most`, which is far within the type.
                *to = unsafe { (value * most + 0.5).max(0.0).min(most).to_int_unchecked() };
            }
        }
        levels
    }
}

impl PointProgram {
    /// Fuses `ops`, in order.
    pub fn new(ops: Vec<PointOp>) -> Self {
        let mut fused: Vec<PointOp> = Vec::with_capacity(ops.len());
        for op in ops {
            match (fused.last_mut(), op) {
                (Some(PointOp::Matrix(last)), PointOp::Matrix(next)) => *last = space::multiply(&next, last),
                (Some(PointOp::Curves(last)), PointOp::Curves(next)) => {
                    let same = Arc::ptr_eq(&last[0], &last[1])
                        && Arc::ptr_eq(&last[1], &last[2])
                        && Arc::ptr_eq(&next[0], &next[1])
                        && Arc::ptr_eq(&next[1], &next[2]);
                    let join = |c: usize| -> Curve {
                        let (first, second) = (last[c].clone(), next[c].clone());
                        Arc::new(move |x| second(first(x).clamp(*RANGE.start(), *RANGE.end())))
                    };
                    *last = if same {
                        let joined = join(0);
                        [joined.clone(), joined.clone(), joined]
                    } else {
                        [join(0), join(1), join(2)]
                    };
                }
                (_, op) => fused.push(op),
            }
        }
        let ready = fused
            .into_iter()
            .map(|op| match op {
                PointOp::Matrix(m) => Ready::Matrix(m),
                PointOp::Curves(f) if Arc::ptr_eq(&f[0], &f[1]) && Arc::ptr_eq(&f[1], &f[2]) => {
                    Ready::Same(Table::new(|x| f[0](x)))
                }
                PointOp::Curves(f) => Ready::Each(Box::new(f.map(|f| Table::new(|x| f(x))))),
                PointOp::Pixels(op) => Ready::Pixels(op),
            })
            .collect();
        Self { ready }
    }

    /// Runs over planes in place; the first pixel lies at column `x` of row `y`.
    pub fn run_planes(&self, x: i64, y: i64, planes: &mut Planes) {
        run_planes(&self.ready, x, y, planes);
    }

    /// Whether it does nothing.
    pub fn is_empty(&self) -> bool {
        self.ready.is_empty()
    }

    /// Whether it does the same everywhere.
    pub(crate) fn is_placeless(&self) -> bool {
        self.ready.iter().all(|op| !matches!(op, Ready::Pixels(op) if !op.is_placeless()))
    }

    /// This, and `next` after it.
    pub(crate) fn then(mut self, next: Self) -> Self {
        self.ready.extend(next.ready);
        self
    }

    /// Runs in place over pixels that cover `rect`.
    pub fn run(&self, rect: Rect, pixels: &mut [Pixel]) {
        if !self.is_empty() {
            run_in_place(&self.ready, rect, pixels);
        }
    }

    /// Reads `rect` (upright coordinates, inside the picture) of `picture` into working values and runs over them.
    pub fn read(&self, picture: &Picture, rect: Rect, out: &mut Vec<Pixel>) {
        // Every pixel is written below.
        out.resize(rect.area(), [0.0; 4]);
        let ready = match self.ready.split_first() {
            // The source's matrix and the first one of the program are one.
            Some((Ready::Matrix(first), rest)) => {
                let joined = space::multiply(first, &picture.colour.to_working);
                return read_rows(picture, &joined, rest, rect, out);
            }
            _ => &self.ready,
        };
        read_rows(picture, &picture.colour.to_working, ready, rect, out);
    }
}

#[multiversion(targets(
    "x86_64+avx512f+avx512vl+avx512dq+avx512bw",
    "x86_64+avx2",
    "x86_64+sse4.1",
    "aarch64+neon"
))]
fn run_in_place(ready: &[Ready], rect: Rect, pixels: &mut [Pixel]) {
    let mut planes = Planes::EMPTY;
    for (y, row) in pixels.chunks_mut(rect.width.max(1) as usize).enumerate() {
        for (i, chunk) in row.chunks_mut(CHUNK).enumerate() {
            planes.load(chunk);
            planes.run(rect.x + (i * CHUNK) as i64, rect.y + y as i64, ready);
            planes.limit();
            planes.store(chunk);
        }
    }
}

#[multiversion(targets(
    "x86_64+avx512f+avx512vl+avx512dq+avx512bw",
    "x86_64+avx2",
    "x86_64+sse4.1",
    "aarch64+neon"
))]
fn run_planes(ready: &[Ready], x: i64, y: i64, planes: &mut Planes) {
    planes.run(x, y, ready);
    planes.limit();
}

/// Takes a row of upright pixels out of the stored samples, as linear light of the profile.
#[inline(always)]
fn gather(picture: &Picture, colour: &InputColour, x: usize, y: usize, n: usize, planes: &mut Planes) {
    let stored: Size = picture.stored;
    let start = picture.orientation.stored(x, y, stored);
    // One step to the right in the upright picture is this many stored pixels.
    let stride: isize = if stored.area() == 1 {
        0
    } else {
        let w = stored.width as isize;
        [0, 1, -1, -1, 1, w, -w, -w, w][usize::from(picture.orientation.exif())]
    };
    let mut at = ((start.1 * stored.width as usize + start.0) * 3) as isize;
    match &picture.samples {
        Samples::U8(v) if stride == 1 => {
            let row = &v[at as usize..at as usize + 3 * n];
            for (i, p) in row.as_chunks::<3>().0.iter().enumerate().take(CHUNK) {
                planes.r[i] = colour.byte[0][usize::from(p[0])];
                planes.g[i] = colour.byte[1][usize::from(p[1])];
                planes.b[i] = colour.byte[2][usize::from(p[2])];
            }
        }
        Samples::U8(v) => {
            for i in 0..n {
                let p = &v[at as usize..at as usize + 3];
                planes.r[i] = colour.byte[0][usize::from(p[0])];
                planes.g[i] = colour.byte[1][usize::from(p[1])];
                planes.b[i] = colour.byte[2][usize::from(p[2])];
                at += stride * 3;
            }
        }
        Samples::U16(v) if let Some(most) = colour.headroom => {
            let light = |s: u16| {
                let root = f32::from(s) * (1.0 / 65_535.0);
                root * root * most
            };
            if stride == 1 {
                let row = &v[at as usize..at as usize + 3 * n];
                for (i, p) in row.as_chunks::<3>().0.iter().enumerate().take(CHUNK) {
                    planes.r[i] = light(p[0]);
                    planes.g[i] = light(p[1]);
                    planes.b[i] = light(p[2]);
                }
            } else {
                for i in 0..n {
                    let p = &v[at as usize..at as usize + 3];
                    planes.r[i] = light(p[0]);
                    planes.g[i] = light(p[1]);
                    planes.b[i] = light(p[2]);
                    at += stride * 3;
                }
            }
        }
        Samples::U16(v) => {
            let value = |t: &CodedTable, s: u16| t.at(f32::from(s) * (1.0 / 65_535.0));
            for i in 0..n {
                let p = &v[at as usize..at as usize + 3];
                planes.r[i] = value(&colour.table[0], p[0]);
                planes.g[i] = value(&colour.table[1], p[1]);
                planes.b[i] = value(&colour.table[2], p[2]);
                at += stride * 3;
            }
        }
        Samples::F32(v) if stride == 1 && colour.straight => {
            let light = |s: f32| if s.is_finite() { s.max(0.0) } else { 0.0 };
            let row = &v[at as usize..at as usize + 3 * n];
            for (i, p) in row.as_chunks::<3>().0.iter().enumerate().take(CHUNK) {
                planes.r[i] = light(p[0]);
                planes.g[i] = light(p[1]);
                planes.b[i] = light(p[2]);
            }
        }
        Samples::F32(v) => {
            // Above white the light is carried on in proportion.
            let value = |t: &CodedTable, s: f32| {
                let s = if s.is_finite() { s.max(0.0) } else { 0.0 };
                if s <= 1.0 { t.at(s) } else { t.at(1.0) * s }
            };
            for i in 0..n {
                let p = &v[at as usize..at as usize + 3];
                planes.r[i] = value(&colour.table[0], p[0]);
                planes.g[i] = value(&colour.table[1], p[1]);
                planes.b[i] = value(&colour.table[2], p[2]);
                at += stride * 3;
            }
        }
    }
}

/// Rows that are asked for before they are read: a tile's rows lie far apart in memory, which the processor does not foresee.
const AHEAD: usize = 2;

/// Asks for the bytes of a row of `rect`, where they lie beside each other.
#[inline(always)]
fn fetch(picture: &Picture, rect: Rect, row: usize) {
    let Samples::U8(bytes) = &picture.samples else { return };
    if picture.orientation == Orientation::UPRIGHT {
        let start = ((rect.y as usize + row) * picture.stored.width as usize + rect.x as usize) * 3;
        (start..start + 3 * rect.width as usize).step_by(64).for_each(|at| prefetch(bytes, at));
    }
}

#[multiversion(targets(
    "x86_64+avx512f+avx512vl+avx512dq+avx512bw",
    "x86_64+avx2",
    "x86_64+sse4.1",
    "aarch64+neon"
))]
fn read_rows(picture: &Picture, matrix: &Matrix, rest: &[Ready], rect: Rect, out: &mut [Pixel]) {
    let mut planes = Planes::EMPTY;
    let width = rect.width as usize;
    for (y, row) in out.chunks_mut(width).enumerate() {
        fetch(picture, rect, y + AHEAD);
        for (i, chunk) in row.chunks_mut(CHUNK).enumerate() {
            let x = rect.x as usize + i * CHUNK;
            gather(picture, &picture.colour, x, rect.y as usize + y, chunk.len(), &mut planes);
            planes.matrix(matrix);
            planes.run(x as i64, rect.y + y as i64, rest);
            planes.limit();
            planes.store(chunk);
        }
    }
}

/// Does what is left of a program to working values over `rect`, and encodes them into samples of `colour`.
#[multiversion(targets(
    "x86_64+avx512f+avx512vl+avx512dq+avx512bw",
    "x86_64+avx2",
    "x86_64+sse4.1",
    "aarch64+neon"
))]
pub fn encode_8(colour: &OutputColour, last: &PointProgram, rect: Rect, pixels: &[Pixel], out: &mut [u8]) {
    encode_levels(colour, last, rect, pixels, 255.0, |level| level as u8, out);
}

/// As [`encode_8`], to 16 bits.
#[multiversion(targets(
    "x86_64+avx512f+avx512vl+avx512dq+avx512bw",
    "x86_64+avx2",
    "x86_64+sse4.1",
    "aarch64+neon"
))]
pub fn encode_16(colour: &OutputColour, last: &PointProgram, rect: Rect, pixels: &[Pixel], out: &mut [u16]) {
    encode_levels(colour, last, rect, pixels, 65_535.0, |level| level as u16, out);
}

/// Samples of whole numbers 0 ..= `most`.
#[inline(always)]
fn encode_levels<T>(
    colour: &OutputColour,
    last: &PointProgram,
    rect: Rect,
    pixels: &[Pixel],
    most: f32,
    sample: impl Fn(i32) -> T,
    out: &mut [T],
) {
    let mut planes = Planes::EMPTY;
    let width = rect.width.max(1) as usize;
    for (y, (row, to)) in pixels.chunks(width).zip(out.chunks_mut(3 * width)).enumerate() {
        for (i, (chunk, to)) in row.chunks(CHUNK).zip(to.chunks_mut(3 * CHUNK)).enumerate() {
            planes.load(chunk);
            planes.finish(last, rect.x + (i * CHUNK) as i64, rect.y + y as i64);
            planes.encode_for(colour);
            let levels = planes.levels(most);
            for (i, p) in to.as_chunks_mut::<3>().0.iter_mut().enumerate().take(CHUNK) {
                *p = [sample(levels[0][i]), sample(levels[1][i]), sample(levels[2][i])];
            }
        }
    }
}

/// As [`encode_8`], to floats.
pub fn encode_32(
    colour: &OutputColour,
    last: &PointProgram,
    rect: Rect,
    pixels: &mut [Pixel],
    out: &mut [f32],
) {
    last.run(rect, pixels);
    let mut planes = Planes::EMPTY;
    for (chunk, out) in pixels.chunks(CHUNK).zip(out.chunks_mut(CHUNK * 3)) {
        planes.load(chunk);
        planes.encode_for(colour);
        for (i, p) in out.as_chunks_mut::<3>().0.iter_mut().enumerate().take(CHUNK) {
            *p = [planes.r[i], planes.g[i], planes.b[i]].map(|v| v.clamp(0.0, 1.0));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer;

    #[test]
    fn fused_operations_equal_one_after_another() {
        let warm = [[1.1, 0.02, 0.0], [0.0, 1.0, 0.0], [0.0, -0.01, 0.9]];
        let ops = vec![
            PointOp::Matrix(warm),
            PointOp::Matrix([[2.0, 0.0, 0.0], [0.0, 2.0, 0.0], [0.0, 0.0, 2.0]]),
            PointOp::curve(|x| transfer::decode(transfer::encode(x) * 0.8)),
            PointOp::curve(|x| transfer::decode(transfer::encode(x) + 0.1)).mixed(0.5),
        ];
        let start: Vec<Pixel> =
            (0..130).map(|i| [i as f32 / 130.0, 0.4, 1.0 - i as f32 / 200.0, 0.0]).collect();
        let mut fused = start.clone();
        let rect = Rect::new(0, 0, 130, 1);
        PointProgram::new(ops.clone()).run(rect, &mut fused);
        let mut single = start;
        for op in ops {
            PointProgram::new(vec![op]).run(rect, &mut single);
        }
        for (a, b) in fused.iter().zip(&single) {
            for c in 0..3 {
                assert!((a[c] - b[c]).abs() < 2e-5, "{a:?} {b:?}");
            }
        }
    }

    #[test]
    fn eight_bits_survive_the_way_there_and_back() {
        let px: Vec<u8> = (0..256 * 3).map(|i| ((i * 37 + i / 3) % 256) as u8).collect();
        let size = Size::new(16, 16);
        let p = Picture::new(size, Samples::U8(px.clone()), crate::Orientation::UPRIGHT, None).unwrap();
        let mut flight = Vec::new();
        PointProgram::new(vec![]).read(&p, size.rect(), &mut flight);
        let mut out = vec![0; px.len()];
        let nothing = PointProgram::new(Vec::new());
        encode_8(crate::OutputProfile::Srgb.colour(), &nothing, size.rect(), &flight, &mut out);
        assert_eq!(out, px);
    }

    #[test]
    fn what_is_left_for_the_encoding_is_what_it_is_before_it() {
        // A place and a colour count in it, and rows are no multiple of what is done at a time.
        struct Slope;
        impl PixelOp for Slope {
            fn run(&self, x: i64, y: i64, planes: &mut Planes) {
                for i in 0..CHUNK {
                    planes.g[i] = (x + i as i64) as f32 / 400.0 + y as f32 / 90.0;
                }
            }
        }
        let ops = || {
            vec![
                PointOp::Pixels(Arc::new(Slope)),
                PointOp::curve(|x| x * 0.8),
                PointOp::Matrix([[0.9, 0.1, 0.0], [0.0, 1.0, 0.0], [0.2, 0.0, 0.8]]),
            ]
        };
        let rect = Rect::new(37, 11, 150, 9);
        let start: Vec<Pixel> =
            (0..rect.area()).map(|i| [i as f32 / 900.0, 0.2, (i % 31) as f32 / 20.0 - 0.1, 0.0]).collect();
        let (last, nothing) = (PointProgram::new(ops()), PointProgram::new(Vec::new()));
        let mut done = start.clone();
        last.run(rect, &mut done);
        let colour = crate::OutputProfile::DisplayP3.colour();
        let (mut a8, mut b8) = (vec![0u8; 3 * rect.area()], vec![0u8; 3 * rect.area()]);
        encode_8(colour, &last, rect, &start, &mut a8);
        encode_8(colour, &nothing, rect, &done, &mut b8);
        assert!(a8 == b8 && a8.iter().any(|v| *v != a8[0]));
        let (mut a16, mut b16) = (vec![0u16; 3 * rect.area()], vec![0u16; 3 * rect.area()]);
        encode_16(colour, &last, rect, &start, &mut a16);
        encode_16(colour, &nothing, rect, &done, &mut b16);
        assert!(a16 == b16);
        let (mut a32, mut b32) = (vec![0f32; 3 * rect.area()], vec![0f32; 3 * rect.area()]);
        encode_32(colour, &last, rect, &mut start.clone(), &mut a32);
        encode_32(colour, &nothing, rect, &mut done, &mut b32);
        assert!(a32 == b32);
        // The levels are the floats, rounded.
        let off = |a: f32, b: f32| (a - b).abs();
        assert!(a32.iter().zip(&a8).all(|(f, e)| off(f * 255.0, f32::from(*e)) <= 0.501));
        assert!(a32.iter().zip(&a16).all(|(f, w)| off(f * 65_535.0, f32::from(*w)) <= 0.51));
    }
}
