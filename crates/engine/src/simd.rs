//! Eight floats at a time, or sixteen sums of whole numbers, with the instruction set chosen at run time: the only place with
//! vector intrinsics.
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
    /// Within `least` ..= `most`, where NaN is `least`.
    fn between(self, least: Self, most: Self) -> Self;
    /// Four from one place in memory and four from another.
    fn halves(first: &[f32; 4], second: &[f32; 4]) -> Self;
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

/// A value within 0 ..= `most`, where what is no number is 0.
#[inline(always)]
pub fn limited(value: f32, most: f32) -> f32 {
    value.max(0.0).min(most)
}

/// Asks for a place in memory that is read soon.
#[inline(always)]
pub fn prefetch(from: &[u8], at: usize) {
    #[cfg(target_arch = "x86_64")]
    if at < from.len() {
        // Sound: nothing is read, and the place lies inside.
        unsafe {
            std::arch::x86_64::_mm_prefetch::<{ std::arch::x86_64::_MM_HINT_T0 }>(
                from.as_ptr().add(at).cast(),
            )
        };
    }
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
    fn between(self, least: Self, most: Self) -> Self {
        Self(std::array::from_fn(|i| self.0[i].max(least.0[i]).min(most.0[i])))
    }
    #[inline(always)]
    fn halves(first: &[f32; 4], second: &[f32; 4]) -> Self {
        Self(std::array::from_fn(|i| if i < 4 { first[i] } else { second[i - 4] }))
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
    fn between(self, least: Self, most: Self) -> Self {
        use std::arch::x86_64::{_mm256_max_ps, _mm256_min_ps};
        // Of a pair with a NaN the second is taken.
        unsafe { Self(_mm256_min_ps(_mm256_max_ps(self.0, least.0), most.0)) }
    }
    #[inline(always)]
    fn halves(first: &[f32; 4], second: &[f32; 4]) -> Self {
        use std::arch::x86_64::{_mm_loadu_ps, _mm256_castps128_ps256, _mm256_insertf128_ps};
        unsafe {
            let low = _mm256_castps128_ps256(_mm_loadu_ps(first.as_ptr()));
            Self(_mm256_insertf128_ps::<1>(low, _mm_loadu_ps(second.as_ptr())))
        }
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

/// Sixteen sums of products of pairs of whole numbers; sums that stay in 32 bits are exact, in whatever order.
pub trait PairSums: Copy {
    /// Two numbers for each sum.
    type Weights: Copy;
    /// All zero.
    fn zero() -> Self;
    /// Weights from memory: two for the first sum, two for the second, and so on.
    fn weights(from: &[i16; 32]) -> Self::Weights;
    /// With the product of both numbers and the weights of each sum added.
    fn plus_products(self, two: [i16; 2], weights: Self::Weights) -> Self;
    /// To memory.
    fn store(self, to: &mut [i32; 16]);
}

/// Arrays, for the compiler to make of what it can.
#[derive(Clone, Copy)]
pub struct PlainSums([i32; 16]);

impl PairSums for PlainSums {
    type Weights = [i16; 32];
    #[inline(always)]
    fn zero() -> Self {
        Self([0; 16])
    }
    #[inline(always)]
    fn weights(from: &[i16; 32]) -> [i16; 32] {
        *from
    }
    #[inline(always)]
    fn plus_products(mut self, two: [i16; 2], weights: [i16; 32]) -> Self {
        for (sum, w) in self.0.iter_mut().zip(weights.as_chunks::<2>().0) {
            *sum += i32::from(two[0]) * i32::from(w[0]) + i32::from(two[1]) * i32::from(w[1]);
        }
        self
    }
    #[inline(always)]
    fn store(self, to: &mut [i32; 16]) {
        *to = self.0;
    }
}

/// Both numbers in each place of a register.
#[cfg(target_arch = "x86_64")]
#[inline(always)]
fn both(two: [i16; 2]) -> i32 {
    i32::from(two[0] as u16) | i32::from(two[1]) << 16
}

/// AVX2 registers, eight sums in each. Only made inside functions that are entered after the processor was asked.
#[cfg(target_arch = "x86_64")]
#[derive(Clone, Copy)]
pub struct Avx2Sums([std::arch::x86_64::__m256i; 2]);

// Sound: code that uses `Avx2Sums` is only entered behind `is_x86_feature_detected!("avx2")`.
#[cfg(target_arch = "x86_64")]
impl PairSums for Avx2Sums {
    type Weights = [std::arch::x86_64::__m256i; 2];
    #[inline(always)]
    fn zero() -> Self {
        unsafe { Self([std::arch::x86_64::_mm256_setzero_si256(); 2]) }
    }
    #[inline(always)]
    fn weights(from: &[i16; 32]) -> Self::Weights {
        use std::arch::x86_64::_mm256_loadu_si256;
        unsafe {
            [_mm256_loadu_si256(from.as_ptr().cast()), _mm256_loadu_si256(from.as_ptr().add(16).cast())]
        }
    }
    #[inline(always)]
    fn plus_products(self, two: [i16; 2], weights: Self::Weights) -> Self {
        use std::arch::x86_64::{_mm256_add_epi32, _mm256_madd_epi16, _mm256_set1_epi32};
        unsafe {
            let two = _mm256_set1_epi32(both(two));
            let of = |k: usize| _mm256_add_epi32(self.0[k], _mm256_madd_epi16(two, weights[k]));
            Self([of(0), of(1)])
        }
    }
    #[inline(always)]
    fn store(self, to: &mut [i32; 16]) {
        use std::arch::x86_64::_mm256_storeu_si256;
        unsafe {
            _mm256_storeu_si256(to.as_mut_ptr().cast(), self.0[0]);
            _mm256_storeu_si256(to.as_mut_ptr().add(8).cast(), self.0[1]);
        }
    }
}

/// An AVX-512 register, which multiplies and adds at once. Only made inside functions that are entered after the processor was
/// asked.
#[cfg(target_arch = "x86_64")]
#[derive(Clone, Copy)]
pub struct Avx512Sums(std::arch::x86_64::__m512i);

// Sound: code that uses `Avx512Sums` is only entered behind `is_x86_feature_detected!("avx512vnni")` and `("avx512bw")`.
#[cfg(target_arch = "x86_64")]
impl PairSums for Avx512Sums {
    type Weights = std::arch::x86_64::__m512i;
    #[inline(always)]
    fn zero() -> Self {
        unsafe { Self(std::arch::x86_64::_mm512_setzero_si512()) }
    }
    #[inline(always)]
    fn weights(from: &[i16; 32]) -> Self::Weights {
        unsafe { std::arch::x86_64::_mm512_loadu_si512(from.as_ptr().cast()) }
    }
    #[inline(always)]
    fn plus_products(self, two: [i16; 2], weights: Self::Weights) -> Self {
        use std::arch::x86_64::{_mm512_dpwssd_epi32, _mm512_set1_epi32};
        unsafe { Self(_mm512_dpwssd_epi32(self.0, _mm512_set1_epi32(both(two)), weights)) }
    }
    #[inline(always)]
    fn store(self, to: &mut [i32; 16]) {
        unsafe { std::arch::x86_64::_mm512_storeu_si512(to.as_mut_ptr().cast(), self.0) };
    }
}
