//! Channels as decoders give them, made red, green and blue: grey spread, transparent parts laid on a colour.

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

/// A number that a channel is made of.
pub(crate) trait Sample: Copy + Send + Sync {
    /// A colour with coverage `alpha` on `ground`.
    fn on(self, alpha: Self, ground: Self, premultiplied: bool) -> Self;
    /// From 0 … 1.
    fn of_unit(unit: f32) -> Self;
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
            fn of_unit(unit: f32) -> Self {
                (unit * <$kind>::MAX as f32 + 0.5) as $kind
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
    fn of_unit(unit: f32) -> Self {
        unit
    }
    fn samples(values: Vec<Self>) -> Samples {
        Samples::F32(values)
    }
}

/// One to four or more channels by turns, made three. Of more than three colours the first three count.
pub(crate) fn to_rgb<T: Sample>(values: Vec<T>, channels: usize, alpha: Alpha, ground: [f32; 3]) -> Samples {
    let colours = channels - usize::from(alpha != Alpha::None);
    if channels == 3 && colours == 3 {
        return T::samples(values);
    }
    let ground = ground.map(T::of_unit);
    let pixels = values.chunks_exact(channels.max(1));
    let mut rgb = Vec::with_capacity(pixels.len() * 3);
    for pixel in pixels {
        let colour = if colours >= 3 { [pixel[0], pixel[1], pixel[2]] } else { [pixel[0]; 3] };
        rgb.extend(if alpha == Alpha::None {
            colour
        } else {
            let cover = pixel[channels - 1];
            std::array::from_fn(|c| colour[c].on(cover, ground[c], alpha == Alpha::Premultiplied))
        });
    }
    T::samples(rgb)
}

#[cfg(test)]
mod tests {
    use super::*;

    const WHITE: [f32; 3] = [1.0; 3];

    fn eight(values: Vec<u8>, channels: usize, alpha: Alpha, ground: [f32; 3]) -> Vec<u8> {
        let Samples::U8(rgb) = to_rgb(values, channels, alpha, ground) else { panic!("8 bits stay 8") };
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
        let Samples::U16(wide) = to_rgb(vec![65_535u16, 0, 0, 32_768], 4, Alpha::Straight, [0.0; 3]) else {
            panic!("16 bits stay 16")
        };
        assert_eq!(wide, [32_768, 0, 0]);
        let Samples::F32(light) = to_rgb(vec![4.0f32, 0.5], 2, Alpha::Straight, WHITE) else { panic!() };
        assert_eq!(light, [2.5; 3]);
    }
}
