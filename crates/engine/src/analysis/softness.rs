//! How soft a lens draws, by how far from the middle: measured on the edges of pictures that were taken with it.
//!
//! Along rows and columns steps are looked for that rise or fall without turning back between two even ends. In linear light
//! the differences along such a step are the blur itself, whose deviation they tell; an edge that runs aslant is seen too wide
//! by the cosine of its angle. Most edges of a picture are softer than the lens draws, since they are out of focus or soft
//! themselves: of the edges in each ring around the middle the sharpest part counts.

use serde::{Deserialize, Serialize};

/// The deviation of the blur, in thousandths of the picture's long edge.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Softness {
    /// In the middle.
    pub middle: f64,
    /// In the corners.
    pub corner: f64,
}

/// An edge that was found.
#[derive(Clone, Copy, Debug)]
pub struct Edge {
    /// Distance from the middle, where the corner is 1.
    pub radius: f64,
    /// Deviation of its blur, in pixels.
    pub deviation: f64,
}

/// The longest edge that is followed, and the even ends that it needs, in pixels.
const LONGEST: usize = 24;
const ENDS: usize = 3;

/// How far its ends are apart at least, of their sum; how much its ends may change, of the step.
const CONTRAST: f32 = 0.25;
const EVEN: f32 = 0.06;

/// The steepest slant that is looked at: the tangent of its angle.
const SLANT: f32 = 0.4;

/// Rings around the middle, of equal area.
const RINGS: usize = 6;

/// The fewest edges of a ring that tell something, and the share of them that is sharper than the lens is taken for.
const FEWEST: usize = 12;
const SHARPEST: f64 = 0.2;

/// The edges of a picture, given as linear luminance row by row.
pub fn edges(light: &[f32], width: usize) -> Vec<Edge> {
    let height = light.len() / width.max(1);
    let mut found = Vec::new();
    if width < 4 * LONGEST || height < 4 * LONGEST {
        return found;
    }
    let corner = (width as f64).hypot(height as f64) / 2.0;
    let radius = |x: f64, y: f64| (x - width as f64 / 2.0).hypot(y - height as f64 / 2.0) / corner;
    // Every other row and column: neighbours tell the same.
    for y in (2..height - 2).step_by(2) {
        along(
            width,
            |k| light[y * width + k],
            |k| light[(y + 2) * width + k] - light[(y - 2) * width + k],
            |x, deviation| {
                found.push(Edge { radius: radius(x, y as f64 + 0.5), deviation });
            },
        );
    }
    for x in (2..width - 2).step_by(2) {
        along(
            height,
            |k| light[k * width + x],
            |k| light[k * width + x + 2] - light[k * width + x - 2],
            |y, deviation| {
                found.push(Edge { radius: radius(x as f64 + 0.5, y), deviation });
            },
        );
    }
    found
}

/// Steps along a line of values; `across` is the difference of the values two places to either side of the line.
fn along(
    count: usize,
    value: impl Fn(usize) -> f32,
    across: impl Fn(usize) -> f32,
    mut found: impl FnMut(f64, f64),
) {
    let mut k = ENDS;
    while k + ENDS + 1 < count {
        let rise = value(k + 1) - value(k);
        // A step begins where the line begins to change.
        let sign = if rise >= 0.0 { 1.0 } else { -1.0 };
        let mut end = k;
        while end + 1 < count - ENDS && end - k < LONGEST && (value(end + 1) - value(end)) * sign > 0.0 {
            end += 1;
        }
        if end - k >= 2 {
            if let Some((at, deviation)) = step(k, end, &value, &across) {
                found(at, deviation);
            }
            k = end;
        } else {
            k += 1;
        }
    }
}

/// Where a step is, and its deviation; nothing where it is no clean one.
fn step(
    from: usize,
    to: usize,
    value: &impl Fn(usize) -> f32,
    across: &impl Fn(usize) -> f32,
) -> Option<(f64, f64)> {
    let (low, high) = (value(from), value(to));
    let height = high - low;
    let clean = height.abs() > CONTRAST * (low + high).abs().max(1e-4)
        && (value(from) - value(from - ENDS)).abs() < EVEN * height.abs()
        && (value(to + ENDS) - value(to)).abs() < EVEN * height.abs();
    if !clean {
        return None;
    }
    let (mut sum, mut first, mut second) = (0.0f64, 0.0f64, 0.0f64);
    let (mut steepest, mut at) = (0f32, from);
    for k in from..to {
        let change = value(k + 1) - value(k);
        if change.abs() > steepest {
            (steepest, at) = (change.abs(), k);
        }
        let (change, place) = (f64::from(change / height), k as f64 + 1.0);
        sum += change;
        first += change * place;
        second += change * place * place;
    }
    let middle = first / sum;
    // A difference of neighbours is a mean over a pixel, which adds a twelfth.
    let variance = second / sum - middle * middle - 1.0 / 12.0;
    // What changes across, against what changes along: both over four pixels.
    let along_four = value((at + 2).min(to + ENDS)) - value(at.saturating_sub(2).max(from - ENDS));
    let slant = across(at) / along_four;
    let is_clear = slant.abs() < SLANT && variance > 0.0;
    if !is_clear {
        return None;
    }
    Some((middle, variance.sqrt() / f64::from(1.0 + slant * slant).sqrt()))
}

/// What the edges of pictures with that long edge tell of their lens; nothing where they are too few.
pub fn of_edges(edges: &[Edge], long_edge: f64) -> Option<Softness> {
    let mut rings: [Vec<f64>; RINGS] = Default::default();
    for edge in edges {
        rings[((edge.radius.powi(2) * RINGS as f64) as usize).min(RINGS - 1)].push(edge.deviation);
    }
    // The variance over the square of the radius, a straight line through the rings, by how much each tells.
    let (mut w, mut wx, mut wy, mut wxx, mut wxy) = (0.0, 0.0, 0.0, 0.0, 0.0);
    let mut told = 0;
    for (i, ring) in rings.iter_mut().enumerate().filter(|(_, ring)| ring.len() >= FEWEST) {
        let at = (ring.len() as f64 * SHARPEST) as usize;
        let deviation = *ring.select_nth_unstable_by(at, f64::total_cmp).1;
        let (x, y) = ((i as f64 + 0.5) / RINGS as f64, deviation * deviation);
        let weight = (ring.len() as f64).sqrt() / (y * y);
        w += weight;
        wx += weight * x;
        wy += weight * y;
        wxx += weight * x * x;
        wxy += weight * x * y;
        told += 1;
    }
    // The middle alone tells nothing of the corners.
    if told < 3 {
        return None;
    }
    let slope = (w * wxy - wx * wy) / (w * wxx - wx * wx);
    let base = (wy - slope * wx) / w;
    let (middle, corner) = (base.max(0.01), (base + slope).max(base).max(0.01));
    let share = |variance: f64| variance.sqrt() / long_edge * 1000.0;
    Some(Softness { middle: share(middle), corner: share(corner) })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The share of a step that is reached at a distance, blurred by a Gaussian.
    fn reached(distance: f64, deviation: f64) -> f64 {
        let x = distance / (deviation * 2f64.sqrt());
        let t = 1.0 / (1.0 + 0.327_591_1 * x.abs());
        // A. Abramowitz and I. Stegun, 7.1.26.
        let p = t
            * (0.254_829_592
                + t * (-0.284_496_736 + t * (1.421_413_741 + t * (-1.453_152_027 + t * 1.061_405_429))));
        0.5 + 0.5 * (1.0 - p * (-x * x).exp()).copysign(x)
    }

    /// Slanted stripes 40 pixels wide, blurred more to the corners; every third is out of focus.
    fn stripes(w: usize, h: usize, middle: f64, corner: f64) -> Vec<f32> {
        let half = (w as f64).hypot(h as f64) / 2.0;
        let pixel = |i: usize| {
            let (x, y) = ((i % w) as f64 + 0.5, (i / w) as f64 + 0.5);
            let r2 = ((x - w as f64 / 2.0).powi(2) + (y - h as f64 / 2.0).powi(2)) / (half * half);
            let (sin, cos) = 0.1f64.sin_cos();
            let along = if (i % w / 200).is_multiple_of(2) { x * cos + y * sin } else { y * cos - x * sin };
            let stripe = (along / 40.0).round();
            let soft = if stripe.rem_euclid(3.0) == 0.0 { 3.0 } else { 0.0 };
            let deviation = (middle * middle + (corner * corner - middle * middle) * r2 + soft).sqrt();
            let share = reached(along - stripe * 40.0, deviation);
            let share = if stripe.rem_euclid(2.0) == 0.0 { share } else { 1.0 - share };
            (0.1 + 0.5 * share) as f32
        };
        (0..w * h).map(pixel).collect()
    }

    #[test]
    fn a_known_softness_is_found_in_the_middle_and_in_the_corners() {
        for (middle, corner) in [(0.9, 0.9), (0.8, 2.0), (1.2, 3.0)] {
            let (w, h) = (1200, 800);
            let found = of_edges(&edges(&stripes(w, h, middle, corner), w), w as f64).unwrap();
            let pixels = |v: f64| v / 1000.0 * w as f64;
            let (a, b) = (pixels(found.middle), pixels(found.corner));
            assert!((a / middle - 1.0).abs() < 0.12, "{middle}, {corner}: {a}, {b}");
            assert!((b / corner - 1.0).abs() < 0.12, "{middle}, {corner}: {a}, {b}");
        }
    }

    #[test]
    fn noise_and_even_pictures_tell_nothing() {
        let noise = |i: usize| ((i as f64 * 12.9898).sin() * 43_758.547).fract() as f32 * 0.02 + 0.3;
        assert!(of_edges(&edges(&vec![0.3; 400 * 300], 400), 400.0).is_none());
        let noisy: Vec<f32> = (0..400 * 300).map(noise).collect();
        assert!(of_edges(&edges(&noisy, 400), 400.0).is_none());
    }
}
