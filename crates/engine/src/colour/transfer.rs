//! The perceptual scale, and tables that apply a tone function to linear light.

use std::sync::LazyLock;

/// Linear light to the perceptual scale: the transfer function of IEC 61966-2-1 (sRGB), carried on above 1.
pub fn encode(linear: f32) -> f32 {
    if linear <= 0.003_130_8 { linear.max(0.0) * 12.92 } else { 1.055 * linear.powf(1.0 / 2.4) - 0.055 }
}

/// The perceptual scale to linear light, inverse of [`encode`].
pub fn decode(value: f32) -> f32 {
    if value <= 0.040_45 { value.max(0.0) / 12.92 } else { ((value + 0.055) / 1.055).powf(2.4) }
}

/// Table entries per unit of the square root of linear light.
const STEPS: usize = 1024;
/// The table reaches to this square root of linear light (4² = 16, the end of the range).
const REACH: usize = 4;

/// A function of linear light as a table over the square root of its argument, interpolated linearly.
///
/// The square root spreads the dark tones as the eye does; with 1024 entries a unit the error against the
/// function is below 1/20 of a 16-bit step for smooth tone functions.
#[derive(Clone)]
pub struct Table {
    /// Value and difference to the next value.
    pairs: Box<[[f32; 2]]>,
}

impl Table {
    /// Samples `function`, which maps linear light (0 ..= 16) to any value.
    pub fn new(function: impl Fn(f32) -> f32) -> Self {
        let count = STEPS * REACH + 1;
        let at = |i: usize| {
            let root = i as f64 / STEPS as f64;
            function((root * root) as f32)
        };
        let values: Vec<f32> = (0..=count).map(at).collect();
        Self { pairs: values.windows(2).map(|v| [v[0], v[1] - v[0]]).collect() }
    }

    /// The function at `linear`, which is limited to the table's range.
    #[inline(always)]
    pub fn at(&self, linear: f32) -> f32 {
        self.at_root(linear.clamp(0.0, (REACH * REACH) as f32).sqrt() * STEPS as f32)
    }

    /// As [`at`](Self::at) for `√linear · 1024`, already limited to the range.
    #[inline(always)]
    pub fn at_root(&self, position: f32) -> f32 {
        let index = position as i32;
        // The position is limited by the callers; the minimum keeps this free of a panic in any case.
        let [value, rise] = self.pairs[(index as usize).min(STEPS * REACH)];
        value + rise * (position - index as f32)
    }

    /// Applies the function to every value of `values`, in place.
    #[inline(always)]
    pub fn apply<const N: usize>(&self, values: &mut [f32; N]) {
        let mut position = [0f32; N];
        for i in 0..N {
            // `max` first turns NaN into 0.
            position[i] = values[i].max(0.0).min((REACH * REACH) as f32).sqrt() * STEPS as f32;
        }
        let mut index = [0i32; N];
        for i in 0..N {
            // Sound: the limits above left 0 ..= 4096.
            index[i] = unsafe { position[i].to_int_unchecked::<i32>() };
        }
        let pairs = &self.pairs[..STEPS * REACH + 1];
        for i in 0..N {
            // Sound: 0 ..= 4096 by the limits above, and the table has 4097 entries.
            let pair = unsafe { pairs.get_unchecked(index[i] as usize) };
            values[i] = pair[0] + pair[1] * (position[i] - index[i] as f32);
        }
    }
}

/// [`encode`] as a table.
pub static ENCODE: LazyLock<Table> = LazyLock::new(|| Table::new(encode));
/// [`decode`] of the square root of its argument, so that a table over the root serves.
pub static DECODE: LazyLock<Table> = LazyLock::new(|| Table::new(|squared| decode(squared.sqrt())));

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn encode_and_decode_are_inverse_and_known() {
        for i in 0..=400 {
            let v = i as f32 / 100.0;
            assert!((encode(decode(v)) - v).abs() < 2e-6 * (1.0 + v), "{v}");
        }
        // Mid grey of the standard: 18 % reflectance is 46.1 % of the scale.
        assert!((encode(0.18) - 0.461_36).abs() < 1e-4);
    }

    #[test]
    fn the_table_follows_the_function() {
        let table = Table::new(|x| decode(encode(x) * 0.9 + 0.02));
        for i in 0..100_000 {
            let x = i as f32 / 100_000.0;
            let want = decode(encode(x) * 0.9 + 0.02);
            assert!((encode(table.at(x)) - encode(want)).abs() < 1.0 / 65_535.0, "{x}");
        }
        let mut run = [0.3f32, -1.0, 40.0, f32::NAN, 0.0, 1.0, 16.0, 0.5];
        table.apply(&mut run);
        assert_eq!(run[0], table.at(0.3));
        assert_eq!(run[1], table.at(0.0));
        assert_eq!(run[2], table.at(16.0));
        assert!(run[3].is_finite());
    }
}
