//! Channels as decoders give them, made red, green and blue: grey spread, transparent parts laid on a colour or kept.

use rallo_engine::Samples;

/// What the last channel says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Alpha {
    /// It is a colour like the others.
    None,
    /// How much of the pixel is covered.
    Straight,
    /// The same, and the colours are multiplied by it already.
    Premultiplied,
}

/// What becomes of transparent parts.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Ground {
    /// They are laid on this colour, 0 … 1.
    Colour([f32; 3]),
    /// Colours stay as they are, and how much is covered is told beside them.
    Kept,
}

/// How much of the pixels is covered.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Coverage {
    /// All of each.
    Full,
    /// Some were transparent, and are laid on a colour.
    Laid,
    /// 0 ..= 65535 for each.
    Kept(Vec<u16>),
}

/// Red, green and blue by turns.
pub(crate) struct Rgb {
    pub samples: Samples,
    pub coverage: Coverage,
}

impl From<Samples> for Rgb {
    fn from(samples: Samples) -> Self {
        Self { samples, coverage: Coverage::Full }
    }
}

/// A number that a channel is made of.
pub(crate) trait Sample: Copy + Send + Sync {
    /// A colour with coverage `alpha` on `ground`.
    fn on(self, alpha: Self, ground: Self, premultiplied: bool) -> Self;
    /// The colour without the coverage it is multiplied by.
    fn divided(self, alpha: Self) -> Self;
    /// From 0 … 1.
    fn of_unit(unit: f32) -> Self;
    /// To 0 … 1.
    fn unit(self) -> f32;
    /// From a number of its own range.
    fn of_number(number: f32) -> Self;
    fn samples(values: Vec<Self>) -> Samples;
}

macro_rules! whole_number {
    ($kind:ty, $samples:path) => {
        impl Sample for $kind {
            fn on(self, alpha: Self, ground: Self, premultiplied: bool) -> Self {
                let most = u64::from(<$kind>::MAX);
                let (value, alpha, ground) = (u64::from(self), u64::from(alpha), u64::from(ground));
                let own = if premultiplied { value.min(alpha) * most } else { value * alpha };
                ((own + ground * (most - alpha) + most / 2) / most) as $kind
            }
            fn divided(self, alpha: Self) -> Self {
                let most = u64::from(<$kind>::MAX);
                let (value, alpha) = (u64::from(self.min(alpha)), u64::from(alpha.max(1)));
                ((value * most + alpha / 2) / alpha) as $kind
            }
            fn of_unit(unit: f32) -> Self {
                (unit * <$kind>::MAX as f32 + 0.5) as $kind
            }
            fn unit(self) -> f32 {
                f32::from(self) / <$kind>::MAX as f32
            }
            fn of_number(number: f32) -> Self {
                (number + 0.5) as $kind
            }
            fn samples(values: Vec<Self>) -> Samples {
                $samples(values)
            }
        }
    };
}

whole_number!(u8, Samples::U8);
whole_number!(u16, Samples::U16);

impl Sample for f32 {
    fn on(self, alpha: Self, ground: Self, premultiplied: bool) -> Self {
        let alpha = alpha.clamp(0.0, 1.0);
        let own = if premultiplied { self } else { self * alpha };
        own + ground * (1.0 - alpha)
    }
    fn divided(self, alpha: Self) -> Self {
        if alpha > 0.0 { self / alpha } else { self }
    }
    fn of_unit(unit: f32) -> Self {
        unit
    }
    fn unit(self) -> f32 {
        self.clamp(0.0, 1.0)
    }
    fn of_number(number: f32) -> Self {
        number
    }
    fn samples(values: Vec<Self>) -> Samples {
        Samples::F32(values)
    }
}

/// One to four or more channels by turns, made three. Of more than three colours the first three count.
pub(crate) fn to_rgb<T: Sample>(values: Vec<T>, channels: usize, alpha: Alpha, ground: Ground) -> Rgb {
    let colours = channels - usize::from(alpha != Alpha::None);
    if channels == 3 && colours == 3 {
        return T::samples(values).into();
    }
    let is_multiplied = alpha == Alpha::Premultiplied;
    let laid_on = if let Ground::Colour(colour) = ground { Some(colour.map(T::of_unit)) } else { None };
    let pixels = values.chunks_exact(channels.max(1));
    let mut rgb = Vec::with_capacity(pixels.len() * 3);
    let mut kept = Vec::with_capacity(if laid_on.is_none() { pixels.len() } else { 0 });
    let mut is_full = true;
    for pixel in pixels {
        let colour = if colours >= 3 { [pixel[0], pixel[1], pixel[2]] } else { [pixel[0]; 3] };
        if alpha == Alpha::None {
            rgb.extend(colour);
            continue;
        }
        let cover = pixel[channels - 1];
        is_full &= cover.unit() >= 1.0;
        match laid_on {
            Some(ground) => {
                rgb.extend((0..3).map(|c| colour[c].on(cover, ground[c], is_multiplied)));
            }
            None => {
                rgb.extend(if is_multiplied { colour.map(|c| c.divided(cover)) } else { colour });
                kept.push((cover.unit() * 65_535.0 + 0.5) as u16);
            }
        }
    }
    let coverage = match laid_on {
        _ if is_full => Coverage::Full,
        Some(_) => Coverage::Laid,
        None => Coverage::Kept(kept),
    };
    Rgb { samples: T::samples(rgb), coverage }
}

/// Gives what is not covered at all the colours of what lies around it, so that nothing else bleeds into the edge where
/// pixels are mixed: means over squares of twice the side, one after another, until every square has a colour.
pub(crate) fn fill_uncovered(samples: &mut Samples, coverage: &[u16], width: usize) {
    match samples {
        Samples::U8(v) => fill(v, coverage, width),
        Samples::U16(v) => fill(v, coverage, width),
        Samples::F32(v) => fill(v, coverage, width),
    }
}

fn fill<T: Sample + Into<f32>>(rgb: &mut [T], coverage: &[u16], width: usize) {
    let height = coverage.len() / width.max(1);
    // The sum of the covered colours in a square, and how many they are.
    let of = |colour: [T; 3]| colour.map(Into::into);
    let pixels = rgb.as_chunks_mut::<3>().0;
    let mut level: Vec<[f32; 4]> = pixels
        .iter()
        .zip(coverage)
        .map(|(colour, cover)| {
            let [r, g, b] = of(*colour);
            if *cover > 0 { [r, g, b, 1.0] } else { [0.0; 4] }
        })
        .collect();
    let mut sides = (width, height);
    let mut side = 1;
    let mut open: Vec<usize> = (0..coverage.len()).filter(|i| coverage[*i] == 0).collect();
    while !open.is_empty() && sides != (1, 1) && sides.0 * sides.1 > 0 {
        let next = (sides.0.div_ceil(2), sides.1.div_ceil(2));
        let mut sums = vec![[0.0f32; 4]; next.0 * next.1];
        for (i, square) in level.iter().enumerate() {
            let sum = &mut sums[i / sides.0 / 2 * next.0 + i % sides.0 / 2];
            for (to, from) in sum.iter_mut().zip(square) {
                *to += from;
            }
        }
        (level, sides, side) = (sums, next, side * 2);
        open.retain(|i| {
            let [r, g, b, count] = level[i / width / side * sides.0 + i % width / side];
            if count == 0.0 {
                return true;
            }
            pixels[*i] = [r, g, b].map(|sum| T::of_number(sum / count));
            false
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const WHITE: [f32; 3] = [1.0; 3];

    fn eight(values: Vec<u8>, channels: usize, alpha: Alpha, ground: [f32; 3]) -> Vec<u8> {
        let Samples::U8(rgb) = to_rgb(values, channels, alpha, Ground::Colour(ground)).samples else {
            panic!("8 bits stay 8")
        };
        rgb
    }

    #[test]
    fn grey_is_spread_and_colours_stay() {
        assert_eq!(eight(vec![7, 9], 1, Alpha::None, WHITE), [7, 7, 7, 9, 9, 9]);
        assert_eq!(eight(vec![1, 2, 3], 3, Alpha::None, WHITE), [1, 2, 3]);
        assert_eq!(eight(vec![1, 2, 3, 4, 5], 5, Alpha::None, WHITE), [1, 2, 3]);
    }

    #[test]
    fn transparent_parts_show_the_ground() {
        let green = [0.0, 1.0, 0.0];
        assert_eq!(eight(vec![200, 100, 50, 0], 4, Alpha::Straight, green), [0, 255, 0]);
        assert_eq!(eight(vec![200, 100, 50, 255], 4, Alpha::Straight, green), [200, 100, 50]);
        // Half covered: 0.5 · 200 + 0.5 · 255.
        assert_eq!(eight(vec![200, 128], 2, Alpha::Straight, WHITE), [227; 3]);
        assert_eq!(eight(vec![100, 128], 2, Alpha::Premultiplied, WHITE), [227; 3]);
        let black = Ground::Colour([0.0; 3]);
        let Samples::U16(wide) = to_rgb(vec![65_535u16, 0, 0, 32_768], 4, Alpha::Straight, black).samples
        else {
            panic!("16 bits stay 16")
        };
        assert_eq!(wide, [32_768, 0, 0]);
        let white = Ground::Colour(WHITE);
        let Samples::F32(light) = to_rgb(vec![4.0f32, 0.5], 2, Alpha::Straight, white).samples else {
            panic!()
        };
        assert_eq!(light, [2.5; 3]);
    }

    #[test]
    fn coverage_is_told_where_it_is_to_be_kept() {
        let pixels = || vec![200u8, 100, 50, 255, 9, 9, 9, 0, 40, 20, 10, 51];
        let rgb = to_rgb(pixels(), 4, Alpha::Premultiplied, Ground::Kept);
        assert_eq!(rgb.coverage, Coverage::Kept(vec![65_535, 0, 13_107]));
        let Samples::U8(colours) = rgb.samples else { panic!() };
        assert_eq!((&colours[..3], &colours[6..]), (&[200, 100, 50][..], &[200, 100, 50][..]));
        assert_eq!(to_rgb(pixels(), 4, Alpha::Straight, Ground::Colour(WHITE)).coverage, Coverage::Laid);
        let opaque = vec![1u8, 2, 3, 255];
        assert_eq!(to_rgb(opaque, 4, Alpha::Straight, Ground::Kept).coverage, Coverage::Full);
    }

    #[test]
    fn what_is_not_covered_takes_the_colour_of_what_is_near() {
        // Red on the left, blue on the right, nothing between.
        let width = 64;
        let cover: Vec<u16> =
            (0..width * 4).map(|i| if matches!(i % width, 0..8 | 56..) { 65_535 } else { 0 }).collect();
        let colours = (0..width * 4).flat_map(|i| match i % width {
            0..8 => [250u8, 0, 0],
            56.. => [0, 0, 250],
            _ => [7, 255, 7],
        });
        let mut samples = Samples::U8(colours.collect());
        fill_uncovered(&mut samples, &cover, width);
        let Samples::U8(filled) = samples else { panic!() };
        let pixel = |x: usize| &filled[3 * (width + x)..3 * (width + x) + 3];
        assert_eq!(
            (pixel(3), pixel(9), pixel(54), pixel(60)),
            (&[250, 0, 0][..], &[250, 0, 0][..], &[0, 0, 250][..], &[0, 0, 250][..])
        );
        assert!(filled.as_chunks::<3>().0.iter().all(|p| p[1] == 0));
        // Where nothing is covered there is nothing to take.
        let mut samples = Samples::U8(vec![5; 12]);
        fill_uncovered(&mut samples, &[0; 4], 2);
        let Samples::U8(same) = samples else { panic!() };
        assert_eq!(same, [5; 12]);
    }
}
