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
}

/// AVX registers. Only made inside functions that are entered after the processor was asked.
#[cfg(target_arch = "x86_64")]
#[derive(Clone, Copy)]
pub struct Avx(std::arch::x86_64::__m256);

// Sound: `resample` enters the code that uses `Avx` only behind `is_x86_feature_detected!("avx")`.
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
}
