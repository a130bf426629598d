//! Stamps: small pictures with transparency that marks lay onto the picture, once or again and again.
//!
//! A stamp is laid over on the perceptual scale. Colours come in as sRGB with coverage not yet multiplied in; texels are
//! 16 bits a channel, 8 bytes a texel.

use crate::colour::hex::parse_colour;
use crate::colour::space::{InputColour, apply};
use crate::colour::transfer::{decode, encode};
use crate::geometry::Rect;
use crate::ops::planes::Pixel;
use crate::ops::text::Letters;
use crate::step::MarkOp;

/// Colours (perceptual, working primaries) and coverage, 0 ..= 65535 each.
pub type Texel = [u16; 4];

/// A picture with transparency.
#[derive(Clone)]
pub struct Stamp {
    /// Pixels per row.
    pub width: usize,
    /// Rows.
    pub height: usize,
    /// Row by row.
    pub texels: Vec<Texel>,
}

impl Stamp {
    /// Letters in one colour.
    pub fn lettered(letters: &Letters, colour: &str) -> Self {
        let [r, g, b] = Colours::new().working(parse_colour(colour).unwrap_or([0; 3])).map(wide);
        let texels = letters.cover.iter().map(|c| [r, g, b, u16::from(*c) * 257]).collect();
        Self { width: letters.width, height: letters.height, texels }
    }
}

/// A rectangle in one colour.
pub struct Plate {
    /// What it covers.
    pub rect: Rect,
    /// Working values.
    pub colour: [f32; 3],
    /// 0 ..= 1, on the perceptual scale.
    pub opacity: f32,
}

impl MarkOp for Plate {
    fn bounds(&self) -> Rect {
        self.rect
    }
    fn run(&self, rect: Rect, pixels: &mut [Pixel]) {
        let part = self.rect.within(rect);
        let top = self.colour.map(encode);
        for y in part.y..part.bottom() {
            let at = ((y - rect.y) * rect.width + part.x - rect.x) as usize;
            for pixel in &mut pixels[at..at + part.width as usize] {
                for c in 0..3 {
                    let under = encode(pixel[c]);
                    let mixed = decode(under + (top[c] - under) * self.opacity);
                    pixel[c] = if self.opacity >= 1.0 { self.colour[c] } else { mixed };
                }
            }
        }
    }
}

/// 0 ..= 1 as 16 bits.
pub fn wide(v: f32) -> u16 {
    (v.clamp(0.0, 1.0) * 65_535.0 + 0.5) as u16
}

/// sRGB bytes to perceptual working values.
pub struct Colours {
    srgb: InputColour,
}

impl Colours {
    /// The tables, once for a stamp.
    pub fn new() -> Self {
        Self { srgb: InputColour::srgb() }
    }

    /// One colour.
    pub fn working(&self, bytes: [u8; 3]) -> [f32; 3] {
        let linear = std::array::from_fn(|c| self.srgb.byte[c][usize::from(bytes[c])]);
        apply(&self.srgb.to_working, linear).map(encode)
    }
}

/// Where stamps lie.
#[derive(Clone, Copy, Debug)]
pub enum Lay {
    /// Once, its upper left corner there.
    Once(i64, i64),
    /// All over, in rows of that pitch; every second row moved by half. One stamp lies there.
    Over { at: (i64, i64), pitch: (i64, i64) },
}

/// A stamp on its picture.
pub struct Laid {
    stamp: Stamp,
    lay: Lay,
    /// 0 ..= 1.
    opacity: f32,
    bounds: Rect,
}

impl Laid {
    /// Onto a picture that covers `picture`.
    pub fn new(stamp: Stamp, lay: Lay, opacity: f32, picture: Rect) -> Self {
        let bounds = match lay {
            Lay::Once(x, y) => Rect::new(x, y, stamp.width as i64, stamp.height as i64),
            Lay::Over { .. } => picture,
        };
        Self { stamp, lay, opacity, bounds }
    }

    /// The texel over a pixel, if there is one.
    fn texel(&self, x: i64, y: i64) -> Option<&Texel> {
        let (u, v) = match self.lay {
            Lay::Once(left, top) => (x - left, y - top),
            Lay::Over { at, pitch } => {
                let (row, v) = ((y - at.1).div_euclid(pitch.1), (y - at.1).rem_euclid(pitch.1));
                let moved = if row.rem_euclid(2) == 1 { pitch.0 / 2 } else { 0 };
                ((x - at.0 - moved).rem_euclid(pitch.0), v)
            }
        };
        let inside = u >= 0 && v >= 0 && u < self.stamp.width as i64 && v < self.stamp.height as i64;
        inside.then(|| &self.stamp.texels[v as usize * self.stamp.width + u as usize])
    }
}

impl MarkOp for Laid {
    fn bounds(&self) -> Rect {
        self.bounds
    }
    fn run(&self, rect: Rect, pixels: &mut [Pixel]) {
        let part = self.bounds.within(rect);
        for y in part.y..part.bottom() {
            let line = (y - rect.y) * rect.width - rect.x;
            for x in part.x..part.right() {
                let Some(texel) = self.texel(x, y).filter(|t| t[3] > 0) else { continue };
                let cover = f32::from(texel[3]) / 65_535.0 * self.opacity;
                let pixel = &mut pixels[(line + x) as usize];
                for c in 0..3 {
                    let under = encode(pixel[c]);
                    pixel[c] = decode(under + (f32::from(texel[c]) / 65_535.0 - under) * cover);
                }
            }
        }
    }
}

/// Coverage grown by a soft disc of radius `reach`: the largest coverage under a kernel that falls off to 0.
pub fn widened(cover: &[u8], w: usize, h: usize, reach: f64) -> Vec<u8> {
    let r = reach.ceil() as i64;
    let mut kernel = Vec::new();
    for dy in -r..=r {
        for dx in -r..=r {
            let far = (((dx * dx + dy * dy) as f64).sqrt() - reach * 0.5).max(0.0);
            let weight = (1.0 - far / (reach * 0.5 + 0.5)).clamp(0.0, 1.0);
            if weight > 0.0 {
                kernel.push((dx, dy, (weight * 256.0) as u32));
            }
        }
    }
    let mut out = vec![0u8; w * h];
    for y in 0..h as i64 {
        for x in 0..w as i64 {
            // What is drawn spreads; there is less of it than of what is not.
            let c = u32::from(cover[(y * w as i64 + x) as usize]);
            if c == 0 {
                continue;
            }
            for &(dx, dy, weight) in &kernel {
                let (u, v) = (x + dx, y + dy);
                if u >= 0 && v >= 0 && u < w as i64 && v < h as i64 {
                    let to = &mut out[(v * w as i64 + u) as usize];
                    *to = (*to).max((c * weight / 256) as u8);
                }
            }
        }
    }
    out
}

/// Means over (2 `r` + 1)² neighbours, twice: close to a Gaussian of that many pixels.
pub fn softened(cover: &[u8], w: usize, h: usize, r: usize) -> Vec<f32> {
    let mut values: Vec<f32> = cover.iter().map(|c| f32::from(*c) / 255.0).collect();
    let mut line = Vec::new();
    let share = 1.0 / (2 * r + 1) as f32;
    for _ in 0..2 {
        for (count, length, step, jump) in [(h, w, 1, w), (w, h, w, 1)] {
            for i in 0..count {
                line.clear();
                line.extend((0..length).map(|k| values[i * jump + k * step]));
                let at = |k: i64| if k < 0 || k >= length as i64 { 0.0 } else { line[k as usize] };
                let mut sum: f32 = (-(r as i64)..r as i64).map(at).sum();
                for k in 0..length {
                    sum += at((k + r) as i64);
                    values[i * jump + k * step] = sum * share;
                    sum -= at(k as i64 - r as i64);
                }
            }
        }
    }
    values
}
