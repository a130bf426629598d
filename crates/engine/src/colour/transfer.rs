//! The perceptual scale, and tables that apply a tone function to linear light.

use crate::RANGE;
use crate::simd::limited;
use std::sync::LazyLock;

/// Linear light to the perceptual scale: the transfer function of IEC 61966-2-1 (sRGB), carried on above 1.
pub fn encode(linear: f32) -> f32 {
    if linear <= 0.003_130_8 { linear.max(0.0) * 12.92 } else { 1.055 * linear.powf(1.0 / 2.4) - 0.055 }
}

/// The perceptual scale to linear light, inverse of [`encode`].
pub fn decode(value: f32) -> f32 {
    if value <= 0.040_45 { value.max(0.0) / 12.92 } else { ((value + 0.055) / 1.055).powf(2.4) }
}

/// The end of the range of linear light.
const BRIGHTEST: f32 = *RANGE.end();

/// A value and the difference to the next one, as one number: both are fetched at once, for many places at a time.
#[derive(Clone)]
struct Pairs(Box<[u64]>);

impl Pairs {
    /// Of the values at places that follow each other, the differences times `unit`.
    fn new(values: &[f32], unit: f32) -> Self {
        let pair = |v: &[f32]| u64::from(v[0].to_bits()) | u64::from(((v[1] - v[0]) * unit).to_bits()) << 32;
        Self(values.windows(2).map(pair).collect())
    }

    /// The value `part` behind a place.
    ///
    /// # Safety
    /// There is such a place.
    #[inline(always)]
    unsafe fn behind(&self, place: usize, part: f32) -> f32 {
        // Sound: as the caller has promised.
        let pair = unsafe { *self.0.get_unchecked(place) };
        f32::from_bits(pair as u32) + f32::from_bits((pair >> 32) as u32) * part
    }
}

/// What is added to linear light before it is looked up: below it places lie evenly, above it they spread with the light.
const FOOT: f32 = 1.0 / 4096.0;
/// Bits of a float below those that number its place: 256 places in each doubling of the light.
const FINE: u32 = 15;
/// Doublings from the foot to the end of the range.
const DOUBLINGS: usize = 16;
/// The last place.
const LAST: usize = DOUBLINGS << (23 - FINE);

/// A function of linear light as a table, interpolated linearly.
///
/// Places spread with the light, as the eye sees it; a float's own bits number them, so that nothing but an addition is needed to
/// find one. The error against the function is below 1/20 of a 16-bit step for smooth tone functions.
#[derive(Clone)]
pub struct Table(Pairs);

impl Table {
    /// Samples `function`, which maps linear light (0 ..= 16) to any value.
    pub fn new(function: impl Fn(f32) -> f32) -> Self {
        let place = |i: usize| f32::from_bits(FOOT.to_bits() + ((i as u32) << FINE));
        let values: Vec<f32> = (0..=LAST + 1).map(|i| function(place(i) - FOOT)).collect();
        Self(Pairs::new(&values, 1.0 / (1 << FINE) as f32))
    }

    /// The function at `linear`, which is limited to the table's range.
    #[inline(always)]
    pub fn at(&self, linear: f32) -> f32 {
        let bits = (limited(linear, BRIGHTEST) + FOOT).to_bits() - FOOT.to_bits();
        let part = (bits & ((1 << FINE) - 1)) as i32 as f32;
        // Sound: the limits above left at most the end of the range, which lies in the last place.
        unsafe { self.0.behind((bits >> FINE) as usize, part) }
    }

    /// Applies the function to every value of `values`, in place.
    #[inline(always)]
    pub fn apply<const N: usize>(&self, values: &mut [f32; N]) {
        for value in values {
            *value = self.at(*value);
        }
    }
}

/// Places per unit of a coded value.
const STEPS: usize = 1024;
/// The largest coded value a table knows: the square root of the brightest light.
const REACH: usize = 4;

/// A function of a value on the perceptual scale, or on any other scale as even to the eye, as a table, interpolated linearly.
#[derive(Clone)]
pub struct CodedTable(Pairs);

impl CodedTable {
    /// Samples `function`, which maps coded values (0 ..= 4) to any value.
    pub fn new(function: impl Fn(f32) -> f32) -> Self {
        let values: Vec<f32> = (0..=STEPS * REACH + 1).map(|i| function(i as f32 / STEPS as f32)).collect();
        Self(Pairs::new(&values, 1.0))
    }

    /// The function at `coded`, which is limited to the table's range.
    #[inline(always)]
    pub fn at(&self, coded: f32) -> f32 {
        let position = limited(coded, REACH as f32) * STEPS as f32;
        // Sound: the limits left 0 ..= 4096, and there are 4097 places.
        unsafe {
            let place = position.to_int_unchecked::<i32>();
            self.0.behind(place as usize, position - place as f32)
        }
    }

    /// Applies the function to every value of `values`, in place.
    #[inline(always)]
    pub fn apply<const N: usize>(&self, values: &mut [f32; N]) {
        for value in values {
            *value = self.at(*value);
        }
    }
}

/// [`encode`] as a table.
pub static ENCODE: LazyLock<Table> = LazyLock::new(|| Table::new(encode));
/// [`decode`] as a table.
pub static DECODE: LazyLock<CodedTable> = LazyLock::new(|| CodedTable::new(decode));

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
        assert_eq!(run[3], table.at(0.0));
    }

    #[test]
    fn the_table_of_coded_values_follows_the_function() {
        for i in 0..100_000 {
            let v = i as f32 / 30_000.0;
            assert!((encode(DECODE.at(v)) - v).abs() < 1.0 / 65_535.0, "{v}");
        }
        let mut run = [0.3f32, -1.0, 40.0, f32::NAN];
        DECODE.apply(&mut run);
        assert_eq!(run, [DECODE.at(0.3), 0.0, DECODE.at(4.0), 0.0]);
    }

    #[test]
    fn the_deepest_tones_are_as_exact_as_the_others() {
        for i in 0..20_000 {
            let x = i as f32 / 20_000.0 * 0.004;
            assert!((ENCODE.at(x) - encode(x)).abs() < 0.05 / 65_535.0, "{x}");
        }
    }
}
