//! Eight floats at a time, with the instruction set chosen at run time: the only place with vector intrinsics.
//!
//! Multiplication and addition stay apart (no fused rounding), so that every instruction set gives the same
//! bits.

/// Eight floats.
pub trait Lanes: Copy {
    /// All zero.
    fn zero() -> Self;
    /// The same value in all.
    fn splat(value: f32) -> Self;
    /// From memory.
    fn load(from: &[f32; 8]) -> Self;
    /// `self + a · b`, rounded twice.
    fn plus_product(self, a: Self, b: Self) -> Self;
    /// As an array.
    fn array(self) -> [f32; 8];
    /// To memory.
    fn store(self, to: &mut [f32; 8]);
    /// The first four plus the last four, of this one and then of another.
    fn folded(self, other: Self) -> Self;
    /// Within 0 ..= `most`, where NaN is 0.
    fn limited(self, most: Self) -> Self;
    /// `self + other`.
    fn plus(self, other: Self) -> Self;
    /// `self − other`.
    fn minus(self, other: Self) -> Self;
    /// `self · other`.
    fn times(self, other: Self) -> Self;
    /// `self / other`.
    fn over(self, other: Self) -> Self;
    /// 1 where the size of `self` is above `limit`, 0 elsewhere.
    fn above(self, limit: Self) -> Self;
    /// Rows and columns exchanged.
    fn transposed(rows: [Self; 8]) -> [Self; 8];
}

/// Eight rows of eight, `width` floats from row to row, from the beginning of `from`.
///
/// # Panics
/// Where `from` is too short for them.
#[inline(always)]
pub fn load_block<L: Lanes>(from: &[f32], width: usize) -> [L; 8] {
    assert!(from.len() >= 7 * width + 8);
    // Sound: the last row read ends at 7 · width + 8, which was just looked at.
    let mut rows = [L::zero(); 8];
    for (v, row) in rows.iter_mut().enumerate() {
        *row = unsafe { L::load(&*from.as_ptr().add(v * width).cast::<[f32; 8]>()) };
    }
    rows
}

/// Adds `block · weights` to such rows of `sums`, and `weights` to those of `totals`.
///
/// # Panics
/// Where they are too short.
#[inline(always)]
pub fn add_block<L: Lanes>(
    sums: &mut [f32],
    totals: &mut [f32],
    width: usize,
    block: &[L; 8],
    weights: &[L; 8],
) {
    assert!(sums.len() >= 7 * width + 8 && totals.len() >= 7 * width + 8);
    for v in 0..8 {
        // Sound: as in `load_block`; the two do not overlap, being borrowed apart.
        let (s, t) = unsafe {
            (
                &mut *sums.as_mut_ptr().add(v * width).cast::<[f32; 8]>(),
                &mut *totals.as_mut_ptr().add(v * width).cast::<[f32; 8]>(),
            )
        };
        L::load(s).plus_product(block[v], weights[v]).store(s);
        L::load(t).plus(weights[v]).store(t);
    }
}

/// Arrays, for the compiler to make of what it can.
#[derive(Clone, Copy)]
pub struct Plain([f32; 8]);

impl Lanes for Plain {
    #[inline(always)]
    fn zero() -> Self {
        Self([0.0; 8])
    }
    #[inline(always)]
    fn splat(value: f32) -> Self {
        Self([value; 8])
    }
    #[inline(always)]
    fn load(from: &[f32; 8]) -> Self {
        Self(*from)
    }
    #[inline(always)]
    fn plus_product(self, a: Self, b: Self) -> Self {
        Self(std::array::from_fn(|i| self.0[i] + a.0[i] * b.0[i]))
    }
    #[inline(always)]
    fn array(self) -> [f32; 8] {
        self.0
    }
    #[inline(always)]
    fn store(self, to: &mut [f32; 8]) {
        *to = self.0;
    }
    #[inline(always)]
    fn folded(self, other: Self) -> Self {
        let fold = |v: &[f32; 8], c: usize| v[c] + v[c + 4];
        Self(std::array::from_fn(|i| if i < 4 { fold(&self.0, i) } else { fold(&other.0, i - 4) }))
    }
    #[inline(always)]
    fn limited(self, most: Self) -> Self {
        Self(std::array::from_fn(|i| self.0[i].max(0.0).min(most.0[i])))
    }
    #[inline(always)]
    fn plus(self, other: Self) -> Self {
        Self(std::array::from_fn(|i| self.0[i] + other.0[i]))
    }
    #[inline(always)]
    fn minus(self, other: Self) -> Self {
        Self(std::array::from_fn(|i| self.0[i] - other.0[i]))
    }
    #[inline(always)]
    fn times(self, other: Self) -> Self {
        Self(std::array::from_fn(|i| self.0[i] * other.0[i]))
    }
    #[inline(always)]
    fn over(self, other: Self) -> Self {
        Self(std::array::from_fn(|i| self.0[i] / other.0[i]))
    }
    #[inline(always)]
    fn above(self, limit: Self) -> Self {
        Self(std::array::from_fn(|i| if self.0[i].abs() > limit.0[i] { 1.0 } else { 0.0 }))
    }
    #[inline(always)]
    fn transposed(rows: [Self; 8]) -> [Self; 8] {
        std::array::from_fn(|r| Self(std::array::from_fn(|c| rows[c].0[r])))
    }
}

/// AVX registers. Only made inside functions that are entered after the processor was asked.
#[cfg(target_arch = "x86_64")]
#[derive(Clone, Copy)]
pub struct Avx(std::arch::x86_64::__m256);

// Sound: code that uses `Avx` is only entered behind `is_x86_feature_detected!("avx2")`.
#[cfg(target_arch = "x86_64")]
impl Lanes for Avx {
    #[inline(always)]
    fn zero() -> Self {
        unsafe { Self(std::arch::x86_64::_mm256_setzero_ps()) }
    }
    #[inline(always)]
    fn splat(value: f32) -> Self {
        unsafe { Self(std::arch::x86_64::_mm256_set1_ps(value)) }
    }
    #[inline(always)]
    fn load(from: &[f32; 8]) -> Self {
        unsafe { Self(std::arch::x86_64::_mm256_loadu_ps(from.as_ptr())) }
    }
    #[inline(always)]
    fn plus_product(self, a: Self, b: Self) -> Self {
        use std::arch::x86_64::{_mm256_add_ps, _mm256_mul_ps};
        unsafe { Self(_mm256_add_ps(self.0, _mm256_mul_ps(a.0, b.0))) }
    }
    #[inline(always)]
    fn array(self) -> [f32; 8] {
        let mut out = [0.0; 8];
        unsafe { std::arch::x86_64::_mm256_storeu_ps(out.as_mut_ptr(), self.0) };
        out
    }
    #[inline(always)]
    fn store(self, to: &mut [f32; 8]) {
        unsafe { std::arch::x86_64::_mm256_storeu_ps(to.as_mut_ptr(), self.0) }
    }
    #[inline(always)]
    fn folded(self, other: Self) -> Self {
        use std::arch::x86_64::{_mm256_add_ps, _mm256_permute2f128_ps};
        unsafe {
            let first = _mm256_permute2f128_ps::<0x20>(self.0, other.0);
            Self(_mm256_add_ps(first, _mm256_permute2f128_ps::<0x31>(self.0, other.0)))
        }
    }
    #[inline(always)]
    fn limited(self, most: Self) -> Self {
        use std::arch::x86_64::{_mm256_max_ps, _mm256_min_ps, _mm256_setzero_ps};
        // Of a pair with a NaN the second is taken.
        unsafe { Self(_mm256_min_ps(_mm256_max_ps(self.0, _mm256_setzero_ps()), most.0)) }
    }
    #[inline(always)]
    fn plus(self, other: Self) -> Self {
        unsafe { Self(std::arch::x86_64::_mm256_add_ps(self.0, other.0)) }
    }
    #[inline(always)]
    fn minus(self, other: Self) -> Self {
        unsafe { Self(std::arch::x86_64::_mm256_sub_ps(self.0, other.0)) }
    }
    #[inline(always)]
    fn times(self, other: Self) -> Self {
        unsafe { Self(std::arch::x86_64::_mm256_mul_ps(self.0, other.0)) }
    }
    #[inline(always)]
    fn over(self, other: Self) -> Self {
        unsafe { Self(std::arch::x86_64::_mm256_div_ps(self.0, other.0)) }
    }
    #[inline(always)]
    fn above(self, limit: Self) -> Self {
        use std::arch::x86_64::{_CMP_GT_OQ, _mm256_and_ps, _mm256_andnot_ps, _mm256_cmp_ps, _mm256_set1_ps};
        unsafe {
            let size = _mm256_andnot_ps(_mm256_set1_ps(-0.0), self.0);
            Self(_mm256_and_ps(_mm256_cmp_ps::<_CMP_GT_OQ>(size, limit.0), _mm256_set1_ps(1.0)))
        }
    }
    #[inline(always)]
    fn transposed(rows: [Self; 8]) -> [Self; 8] {
        use std::arch::x86_64::{
            _mm256_permute2f128_ps, _mm256_shuffle_ps, _mm256_unpackhi_ps, _mm256_unpacklo_ps,
        };
        unsafe {
            let pair = |i: usize| {
                let (a, b) = (rows[2 * i].0, rows[2 * i + 1].0);
                (_mm256_unpacklo_ps(a, b), _mm256_unpackhi_ps(a, b))
            };
            let (p, q, r, s) = (pair(0), pair(1), pair(2), pair(3));
            let low = [
                _mm256_shuffle_ps::<0x44>(p.0, q.0),
                _mm256_shuffle_ps::<0xee>(p.0, q.0),
                _mm256_shuffle_ps::<0x44>(p.1, q.1),
                _mm256_shuffle_ps::<0xee>(p.1, q.1),
            ];
            let high = [
                _mm256_shuffle_ps::<0x44>(r.0, s.0),
                _mm256_shuffle_ps::<0xee>(r.0, s.0),
                _mm256_shuffle_ps::<0x44>(r.1, s.1),
                _mm256_shuffle_ps::<0xee>(r.1, s.1),
            ];
            [
                Self(_mm256_permute2f128_ps::<0x20>(low[0], high[0])),
                Self(_mm256_permute2f128_ps::<0x20>(low[1], high[1])),
                Self(_mm256_permute2f128_ps::<0x20>(low[2], high[2])),
                Self(_mm256_permute2f128_ps::<0x20>(low[3], high[3])),
                Self(_mm256_permute2f128_ps::<0x31>(low[0], high[0])),
                Self(_mm256_permute2f128_ps::<0x31>(low[1], high[1])),
                Self(_mm256_permute2f128_ps::<0x31>(low[2], high[2])),
                Self(_mm256_permute2f128_ps::<0x31>(low[3], high[3])),
            ]
        }
    }
}
