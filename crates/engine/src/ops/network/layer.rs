//! A layer of the network, in whole numbers: each output is a weighted sum over three by three pixels.
//!
//! Values are 16 bits, products are added up in 32, and what comes out is brought back to 16 by one multiplication that is
//! rounded by itself. Sums of whole numbers are exact in any order, so every processor gives the same bytes, whichever of the
//! three ways below it can go.

#[cfg(target_arch = "x86_64")]
use crate::simd::{Avx2Sums, Avx512Sums};
use crate::simd::{PairSums, PlainSums};

/// Outputs that are computed together.
const TOGETHER: usize = 16;

/// Largest value of a picture inside the network; weights are so small that no sum of products leaves 32 bits.
pub(super) const LARGEST: i32 = 16_383;

/// Largest sum of the weights of an output, with some room for their rounding.
const LARGEST_SUM: f32 = 130_000.0;

/// A layer.
pub(super) struct Layer {
    /// Values of a pixel that goes in; even.
    inputs: usize,
    /// Values of a pixel that comes out, in groups of [`TOGETHER`].
    outputs: usize,
    /// For each group, row and pair of values, two weights for each output.
    weights: Vec<i16>,
    /// What a sum is multiplied by.
    scale: Vec<f32>,
    /// What is added then.
    bias: Vec<f32>,
}

/// What becomes of a sum.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum Then {
    /// It is the output.
    Keep,
    /// It is the output where it is above 0, which is there elsewhere.
    Above,
    /// It is added to what is there.
    Add,
}

impl Layer {
    /// From the weights of each output, in the order of rows, columns and inputs, and what is added; `sizes` are what a value
    /// that is 1 goes in and comes out as.
    pub(super) fn new(inputs: usize, sizes: (f32, f32), outputs: &[(Vec<f32>, f32)]) -> Self {
        let groups = outputs.len().div_ceil(TOGETHER);
        let summed = 9 * inputs;
        let mut weights = vec![0i16; groups * TOGETHER * summed];
        let (mut scale, mut bias) = (vec![0.0; groups * TOGETHER], vec![0.0; groups * TOGETHER]);
        for (o, (own, own_bias)) in outputs.iter().enumerate() {
            let (most, sum) = own.iter().fold((1e-6f32, 1e-6f32), |(m, s), w| (m.max(w.abs()), s + w.abs()));
            let size = (f32::from(i16::MAX) / most).min(LARGEST_SUM / sum);
            for (i, weight) in own.iter().enumerate() {
                let at = ((o / TOGETHER * summed / 2 + i / 2) * TOGETHER + o % TOGETHER) * 2 + i % 2;
                weights[at] = (weight * size).round_ties_even() as i16;
            }
            scale[o] = sizes.1 / (size * sizes.0);
            bias[o] = own_bias * sizes.1;
        }
        Self { inputs, outputs: groups * TOGETHER, weights, scale, bias }
    }

    /// Values of each row that one result is summed over.
    fn run(&self) -> usize {
        3 * self.inputs
    }

    /// Values of each result.
    pub(super) fn outputs(&self) -> usize {
        self.outputs
    }

    /// A row of results from rows of input, each beginning with the run of the first result.
    pub(super) fn row(&self, from: [&[i16]; 3], to: &mut [i16], then: Then) {
        self.each(from, to.len() / self.outputs, |at, sums| {
            finish(sums, &self.scale, &self.bias, &mut to[at * self.outputs..][..sums.len()], then);
        });
    }

    /// The same as numbers with fractions.
    pub(super) fn row_of_fractions(&self, from: [&[i16]; 3], to: &mut [f32]) {
        self.each(from, to.len() / self.outputs, |at, sums| {
            let to = &mut to[at * self.outputs..][..sums.len()];
            for (to, sums) in to.chunks_exact_mut(self.outputs).zip(sums.chunks_exact(self.outputs)) {
                for (((to, sum), scale), bias) in to.iter_mut().zip(sums).zip(&self.scale).zip(&self.bias) {
                    *to = *sum as f32 * scale + bias;
                }
            }
        });
    }

    /// Sums of `count` results, some at a time, so that they stay near; `told` takes where they begin.
    #[inline(always)]
    fn each(&self, from: [&[i16]; 3], count: usize, mut told: impl FnMut(usize, &[i32])) {
        const NEAR: usize = 48;
        let mut sums = vec![0i32; NEAR * self.outputs];
        for first in (0..count).step_by(NEAR) {
            let here = NEAR.min(count - first);
            let sums = &mut sums[..here * self.outputs];
            self.sums(from, first, sums);
            told(first, sums);
        }
    }

    /// The sums of results from the one numbered `first`, in the best way this processor knows.
    fn sums(&self, from: [&[i16]; 3], first: usize, sums: &mut [i32]) {
        let count = sums.len() / self.outputs;
        assert!(self.inputs.is_multiple_of(2) && count > 0);
        // What the faster ways read is looked at here, once for all.
        let last = (first + count - 1) * self.inputs + self.run();
        assert!(from.iter().all(|row| row.len() >= last));
        assert!(self.weights.len() == self.outputs * 3 * self.run() && self.outputs.is_multiple_of(TOGETHER));
        #[cfg(target_arch = "x86_64")]
        {
            #[target_feature(enable = "avx512f,avx512bw,avx512vnni")]
            fn widest<const INPUTS: usize>(l: &Layer, from: [&[i16]; 3], first: usize, sums: &mut [i32]) {
                sums_in::<Avx512Sums, 16>(l, INPUTS, from, first, sums);
            }
            let is_widest = is_x86_feature_detected!("avx512bw") && is_x86_feature_detected!("avx512vnni");
            // Compiled for the widths of the networks that ship; sound: the processor is asked here.
            match (self.inputs, is_widest, is_x86_feature_detected!("avx2")) {
                (4, true, _) => return unsafe { widest::<4>(self, from, first, sums) },
                (8, true, _) => return unsafe { widest::<8>(self, from, first, sums) },
                (14, true, _) => return unsafe { widest::<14>(self, from, first, sums) },
                (32, true, _) => return unsafe { widest::<32>(self, from, first, sums) },
                (48, true, _) => return unsafe { widest::<48>(self, from, first, sums) },
                (4, _, true) => return unsafe { wide::<4>(self, from, first, sums) },
                (8, _, true) => return unsafe { wide::<8>(self, from, first, sums) },
                (14, _, true) => return unsafe { wide::<14>(self, from, first, sums) },
                (32, _, true) => return unsafe { wide::<32>(self, from, first, sums) },
                (48, _, true) => return unsafe { wide::<48>(self, from, first, sums) },
                _ => {}
            }
        }
        sums_in::<PlainSums, 1>(self, self.inputs, from, first, sums);
    }
}

/// Eight sums to an instruction.
#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn wide<const INPUTS: usize>(layer: &Layer, from: [&[i16]; 3], first: usize, sums: &mut [i32]) {
    sums_in::<Avx2Sums, 6>(layer, INPUTS, from, first, sums);
}

/// The sums of results, of which so many at a time stay in registers. `inputs` are the layer's, told anew so that they can be
/// known when this is compiled.
#[inline(always)]
fn sums_in<S: PairSums, const RESULTS: usize>(
    layer: &Layer,
    inputs: usize,
    from: [&[i16]; 3],
    first: usize,
    sums: &mut [i32],
) {
    let (outputs, count) = (layer.outputs, sums.len() / layer.outputs);
    let mut weights = layer.weights.as_ptr();
    for group in 0..outputs / TOGETHER {
        let mut x = 0;
        while x < count {
            // Fewer than a whole set are computed one after the other, in the same registers.
            let set = if x + RESULTS <= count { RESULTS } else { 1 };
            let mut sum = [S::zero(); RESULTS];
            let mut at = weights;
            for row in from {
                // Sound: `Layer::sums` looked at the lengths of rows and weights; pairs of numbers need no alignment of their own.
                unsafe {
                    let mut values = row.as_ptr().add((first + x) * inputs);
                    for _ in 0..3 * inputs / 2 {
                        let weights = S::weights(&*at.cast::<[i16; 2 * TOGETHER]>());
                        let mut add = |p: usize| {
                            sum[p] =
                                sum[p].plus_products(*values.add(p * inputs).cast::<[i16; 2]>(), weights);
                        };
                        add(0);
                        if set == RESULTS {
                            (1..RESULTS).for_each(add);
                        }
                        at = at.add(2 * TOGETHER);
                        values = values.add(2);
                    }
                }
            }
            for (p, sum) in sum.iter().enumerate().take(set) {
                let to = &mut sums[(x + p) * outputs + group * TOGETHER..];
                if let Some(to) = to.first_chunk_mut() {
                    sum.store(to);
                }
            }
            x += set;
        }
        weights = weights.wrapping_add(9 * inputs * TOGETHER);
    }
}

/// What becomes of sums.
#[multiversion::multiversion(targets("x86_64+avx+avx2", "x86_64+sse4.1"))]
fn finish(sums: &[i32], scale: &[f32], bias: &[f32], to: &mut [i16], then: Then) {
    for (to, sums) in to.chunks_exact_mut(scale.len()).zip(sums.chunks_exact(scale.len())) {
        let all = to.iter_mut().zip(sums).zip(scale.iter().zip(bias));
        let value = |sum: i32, scale: f32, bias: f32| sum as f32 * scale + bias;
        match then {
            Then::Keep => all.for_each(|((to, sum), (scale, bias))| *to = whole(value(*sum, *scale, *bias))),
            Then::Above => {
                all.for_each(|((to, sum), (scale, bias))| *to = whole(value(*sum, *scale, *bias).max(0.0)));
            }
            Then::Add => all.for_each(|((to, sum), (scale, bias))| {
                let sum = i32::from(*to) + i32::from(whole(value(*sum, *scale, *bias)));
                *to = sum.clamp(-LARGEST, LARGEST) as i16;
            }),
        }
    }
}

/// The nearest whole number within the largest; halves to the even one: a number with 1.5 · 2²³ added has its whole part in
/// its last bits.
#[inline(always)]
fn whole(value: f32) -> i16 {
    const ROUND: f32 = 12_582_912.0;
    let rounded = value.clamp(-LARGEST as f32, LARGEST as f32) + ROUND;
    (rounded.to_bits() as i32).wrapping_sub(ROUND.to_bits() as i32) as i16
}

#[cfg(test)]
mod tests {
    use super::*;

    fn some(count: usize, most: i32, seed: u64) -> Vec<i32> {
        let mut state = seed;
        (0..count)
            .map(|_| {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                (state >> 33) as i32 % (2 * most + 1) - most
            })
            .collect()
    }

    fn layer(inputs: usize, outputs: usize) -> Layer {
        let weights =
            |o: usize| some(9 * inputs, 1000, o as u64 + 3).iter().map(|w| *w as f32 / 1000.0).collect();
        let all: Vec<(Vec<f32>, f32)> = (0..outputs).map(|o| (weights(o), o as f32 / 10.0)).collect();
        Layer::new(inputs, (4000.0, 200.0), &all)
    }

    fn input(pixels: usize, inputs: usize, most: i32) -> [Vec<i16>; 3] {
        std::array::from_fn(|r| {
            some((pixels + 2) * inputs, most, r as u64).iter().map(|v| *v as i16).collect()
        })
    }

    #[test]
    fn every_way_gives_the_same_sums() {
        for (inputs, outputs) in [(4, 32), (8, 48), (14, 48), (32, 32), (48, 48), (48, 12)] {
            let layer = layer(inputs, outputs);
            for count in [1, 5, 6, 7, 12, 13, 40] {
                let input = input(count + 1, inputs, LARGEST);
                let from = input.each_ref().map(Vec::as_slice);
                let mut plain = vec![0; count * layer.outputs];
                sums_in::<PlainSums, 1>(&layer, inputs, from, 1, &mut plain);
                let mut own = vec![0; count * layer.outputs];
                layer.sums(from, 1, &mut own);
                assert!(plain == own, "{inputs} values, {count} results");
                #[cfg(target_arch = "x86_64")]
                if is_x86_feature_detected!("avx2") {
                    own.fill(0);
                    // Sound: the processor was just asked, and the lengths are those above.
                    match inputs {
                        4 => unsafe { wide::<4>(&layer, from, 1, &mut own) },
                        8 => unsafe { wide::<8>(&layer, from, 1, &mut own) },
                        14 => unsafe { wide::<14>(&layer, from, 1, &mut own) },
                        32 => unsafe { wide::<32>(&layer, from, 1, &mut own) },
                        _ => unsafe { wide::<48>(&layer, from, 1, &mut own) },
                    }
                    assert!(plain == own, "{inputs} values, {count} results, eight at once");
                }
            }
        }
    }

    #[test]
    fn a_row_is_the_weighted_sum_nearly() {
        let layer = layer(48, 32);
        let input = input(10, 48, 4000);
        let from = input.each_ref().map(Vec::as_slice);
        let mut row = vec![0i16; 10 * 32];
        layer.row(from, &mut row, Then::Keep);
        let mut fractions = vec![0f32; 10 * 32];
        layer.row_of_fractions(from, &mut fractions);
        for (x, o) in [(0, 0), (3, 7), (9, 31)] {
            let weights = some(9 * 48, 1000, o as u64 + 3);
            let values = input.iter().flat_map(|r| &r[x * 48..x * 48 + 3 * 48]);
            let sum: f64 =
                values.zip(&weights).map(|(v, w)| f64::from(*v) / 4000.0 * f64::from(*w) / 1000.0).sum();
            let known = (sum + o as f64 / 10.0) * 200.0;
            let (whole, fraction) = (f64::from(row[x * 32 + o]), f64::from(fractions[x * 32 + o]));
            // Sums of 432 products are about 1400; weights have some 600 steps here.
            assert!(
                (fraction - known).abs() < 5.0 && (whole - fraction).abs() <= 0.5,
                "{known}: {whole} {fraction}"
            );
        }
        let mut more = row.clone();
        layer.row(from, &mut more, Then::Add);
        assert!(more.iter().zip(&row).all(|(m, r)| *m == 2 * r));
        layer.row(from, &mut more, Then::Above);
        assert!(more.iter().zip(&row).all(|(m, r)| *m == (*r).max(0)));
    }
}
