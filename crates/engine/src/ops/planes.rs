//! A chunk of pixels taken apart into three planes.

use crate::colour::transfer::{CodedTable, DECODE, ENCODE, Table};
use crate::colour::working::LUMINANCE;
use multiversion::multiversion;

/// A pixel in flight: red, green, blue, and one lane that only keeps pixels aligned.
pub type Pixel = [f32; 4];

/// The pixels taken apart into planes at a time.
pub const CHUNK: usize = 64;

/// A run of pixels, taken apart by channel.
#[derive(Clone)]
pub struct Planes {
    /// Red.
    pub r: [f32; CHUNK],
    /// Green.
    pub g: [f32; CHUNK],
    /// Blue.
    pub b: [f32; CHUNK],
}

impl Planes {
    /// All black.
    pub const EMPTY: Self = Self { r: [0.0; CHUNK], g: [0.0; CHUNK], b: [0.0; CHUNK] };

    /// Luminance of each pixel.
    #[inline(always)]
    pub fn luminance(&self) -> [f32; CHUNK] {
        std::array::from_fn(|i| {
            LUMINANCE[0] * self.r[i] + LUMINANCE[1] * self.g[i] + LUMINANCE[2] * self.b[i]
        })
    }

    /// From linear light to the perceptual scale, each channel by itself.
    pub fn encode(&mut self) {
        encode_all(self);
    }

    /// From the perceptual scale to linear light; what lies below 0 becomes black.
    pub fn decode(&mut self) {
        decode_all(self);
    }

    /// Each pixel times its own factor.
    #[inline(always)]
    pub fn scale(&mut self, factors: &[f32; CHUNK]) {
        for plane in [&mut self.r, &mut self.g, &mut self.b] {
            for (v, f) in plane.iter_mut().zip(factors) {
                *v *= f;
            }
        }
    }

    /// Goes back to `before` where the weights are 0.
    #[inline(always)]
    pub fn mix(&mut self, before: &Planes, weights: &[f32; CHUNK]) {
        let pairs = [(&mut self.r, &before.r), (&mut self.g, &before.g), (&mut self.b, &before.b)];
        for (plane, before) in pairs {
            for i in 0..CHUNK {
                plane[i] = before[i] + (plane[i] - before[i]) * weights[i];
            }
        }
    }

    /// Puts the pixels back together.
    #[inline(always)]
    pub fn store(&self, out: &mut [Pixel]) {
        for (i, p) in out.iter_mut().enumerate() {
            *p = [self.r[i], self.g[i], self.b[i], 0.0];
        }
    }

    /// Fills from pixels; lanes after the last one keep what they hold.
    #[inline(always)]
    pub fn load(&mut self, from: &[Pixel]) {
        for (i, p) in from.iter().enumerate() {
            self.r[i] = p[0];
            self.g[i] = p[1];
            self.b[i] = p[2];
        }
    }
}

#[multiversion(targets(
    "x86_64+avx512f+avx512vl+avx512dq+avx512bw",
    "x86_64+avx2",
    "x86_64+sse4.1",
    "aarch64+neon"
))]
pub(crate) fn encode_all(planes: &mut Planes) {
    let table: &Table = &ENCODE;
    table.apply(&mut planes.r);
    table.apply(&mut planes.g);
    table.apply(&mut planes.b);
}

#[multiversion(targets(
    "x86_64+avx512f+avx512vl+avx512dq+avx512bw",
    "x86_64+avx2",
    "x86_64+sse4.1",
    "aarch64+neon"
))]
pub(crate) fn decode_all(planes: &mut Planes) {
    let table: &CodedTable = &DECODE;
    table.apply(&mut planes.r);
    table.apply(&mut planes.g);
    table.apply(&mut planes.b);
}
