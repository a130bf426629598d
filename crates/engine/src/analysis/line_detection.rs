//! Lines found in a picture that are upright or level in truth, and how they lean.
//!
//! Edge pixels vote for lines (P. Hough's transform, in the parameters position in the middle and slant, each pixel only
//! for slants near its own gradient's: D. Ballard, 1981). Lines that meet in one point have slants that rise evenly
//! with their position; that straight course is fitted to the strongest lines, those off it counting less and less
//! (iteratively reweighted, J. Tukey's biweight). The result is given as two lines on the course.

use crate::colour::transfer::encode;
use crate::colour::working::LUMINANCE;
use crate::step::View;

/// A line from one place to another: x, y, to x, to y as shares of width and height.
pub type Line = [f64; 4];

/// Largest slant looked for (columns per row).
const SLANT: f64 = 0.4;
/// Width of a slant's bin.
const BIN: f64 = 0.008;
/// Slope of the light, per pixel on the perceptual scale, from which on a pixel votes.
const FAINT: f32 = 0.02;
/// Lines looked at.
const MOST: usize = 14;

/// Two lines for the verticals and two for the levels, each only where the picture has some.
pub fn found_lines(view: &View) -> Vec<Line> {
    let (w, h) = (view.size.width as usize, view.size.height as usize);
    if w < 32 || h < 32 {
        return Vec::new();
    }
    let light: Vec<f32> = view
        .pixels
        .iter()
        .map(|p| encode(LUMINANCE[0] * p[0] + LUMINANCE[1] * p[1] + LUMINANCE[2] * p[2]))
        .collect();
    let light = smoothed(&light, w, h);
    let turned: Vec<f32> =
        (0..w).flat_map(|x| (0..h).map(move |y| (x, y))).map(|(x, y)| light[y * w + x]).collect();
    let mut lines: Vec<Line> = verticals(&light, w, h);
    lines.extend(verticals(&turned, h, w).into_iter().map(|[x, y, u, v]| [y, x, v, u]));
    lines
}

/// Smoothed a little (binomial, five pixels wide), so that a gradient's direction is not that of the pixels' stairs.
fn smoothed(light: &[f32], w: usize, h: usize) -> Vec<f32> {
    const KERNEL: [f32; 5] = [1.0 / 16.0, 4.0 / 16.0, 6.0 / 16.0, 4.0 / 16.0, 1.0 / 16.0];
    let near = |v: usize, k: usize, side: usize| (v + k).saturating_sub(2).min(side - 1);
    let mut across = vec![0f32; light.len()];
    let mut out = vec![0f32; light.len()];
    for y in 0..h {
        for x in 0..w {
            across[y * w + x] = (0..5).map(|k| KERNEL[k] * light[y * w + near(x, k, w)]).sum();
        }
    }
    for y in 0..h {
        for x in 0..w {
            out[y * w + x] = (0..5).map(|k| KERNEL[k] * across[near(y, k, h) * w + x]).sum();
        }
    }
    out
}

/// Position in the middle row (pixels), slant, votes.
type Found = (f64, f64, f64);

fn verticals(light: &[f32], w: usize, h: usize) -> Vec<Line> {
    let peaks = peaks(light, w, h);
    let Some((offset, rise)) = course(&peaks, w as f64) else { return Vec::new() };
    let half = h as f64 / 2.0;
    let line = |share: f64| {
        let middle = share * w as f64;
        let slant = offset + rise * middle;
        let at = |y: f64| (middle + slant * y) / w as f64;
        // Drawn over the middle four fifths.
        [at(0.8 * half), 0.9, at(-0.8 * half), 0.1]
    };
    vec![line(0.2), line(0.8)]
}

fn peaks(light: &[f32], w: usize, h: usize) -> Vec<Found> {
    let slants = (2.0 * SLANT / BIN) as usize + 1;
    // Positions beyond the picture on both sides count too.
    let (pad, step) = (w / 4, 2.0);
    let columns = (w + 2 * pad) / 2 + 1;
    let mut votes = vec![0f32; columns * slants];
    for y in 1..h - 1 {
        for x in 1..w - 1 {
            let at = |dx: usize, dy: usize| light[(y + dy - 1) * w + x + dx - 1];
            let gx = (at(2, 0) + 2.0 * at(2, 1) + at(2, 2) - at(0, 0) - 2.0 * at(0, 1) - at(0, 2)) / 8.0;
            let gy = (at(0, 2) + 2.0 * at(1, 2) + at(2, 2) - at(0, 0) - 2.0 * at(1, 0) - at(2, 0)) / 8.0;
            if gx.abs() < FAINT || gy.abs() > 0.5 * gx.abs() {
                continue;
            }
            let pixel_slant = f64::from(-gy / gx);
            let below = y as f64 + 0.5 - h as f64 / 2.0;
            // A pixel's own slant is known within some hundredths.
            for k in -6i32..=6 {
                let slant = pixel_slant + f64::from(k) * BIN;
                let row = ((slant + SLANT) / BIN).round();
                let column = ((x as f64 + 0.5 - slant * below + pad as f64) / step).round();
                if row < 0.0 || row >= slants as f64 || column < 0.0 || column >= columns as f64 {
                    continue;
                }
                votes[row as usize * columns + column as usize] += 1.0;
            }
        }
    }
    let mut found = Vec::new();
    let least = 0.2 * h as f32;
    while found.len() < MOST {
        let (mut best, mut most) = (0, 0f32);
        for (i, v) in votes.iter().enumerate() {
            if *v > most {
                (best, most) = (i, *v);
            }
        }
        if most < least {
            break;
        }
        let (row, column) = (best / columns, best % columns);
        // Position and slant as the centre of the votes around.
        let (mut sum, mut s, mut p) = (0.0, 0.0, 0.0);
        for r in row.saturating_sub(2)..(row + 3).min(slants) {
            for c in column.saturating_sub(2)..(column + 3).min(columns) {
                let v = f64::from(votes[r * columns + c]).powi(2);
                sum += v;
                s += v * r as f64;
                p += v * c as f64;
            }
        }
        found.push((p / sum * step - pad as f64, s / sum * BIN - SLANT, f64::from(most)));
        for r in row.saturating_sub(12)..(row + 13).min(slants) {
            for c in column.saturating_sub(5)..(column + 6).min(columns) {
                votes[r * columns + c] = 0.0;
            }
        }
    }
    found
}

/// The course of slants over positions: `slant = offset + rise · position`, if the lines agree on one.
fn course(peaks: &[Found], width: f64) -> Option<(f64, f64)> {
    if peaks.len() < 2 {
        return None;
    }
    let fit = |weights: &[f64]| -> Option<(f64, f64)> {
        let mut n = [0.0; 5];
        for ((x, s, _), w) in peaks.iter().zip(weights) {
            let x = x / width - 0.5;
            for (sum, v) in n.iter_mut().zip([1.0, x, x * x, *s, x * s]) {
                *sum += w * v;
            }
        }
        let det = n[0] * n[2] - n[1] * n[1];
        // Lines all at one place tell nothing about the course.
        (det > 1e-3 * n[0] * n[0])
            .then(|| ((n[3] * n[2] - n[1] * n[4]) / det, (n[0] * n[4] - n[1] * n[3]) / det))
    };
    let mut weights: Vec<f64> = peaks.iter().map(|p| p.2).collect();
    let (mut a, mut b) = fit(&weights)?;
    let mut reach = 0.15;
    for _ in 0..20 {
        for ((x, s, votes), w) in peaks.iter().zip(&mut weights) {
            let off = (s - a - b * (x / width - 0.5)) / reach;
            *w = votes * if off.abs() < 1.0 { (1.0 - off * off).powi(2) } else { 0.0 };
        }
        (a, b) = fit(&weights)?;
        reach = f64::max(reach * 0.8, 0.02);
    }
    let total: f64 = peaks.iter().map(|p| p.2).sum();
    // At least half the votes must agree.
    (weights.iter().sum::<f64>() > 0.4 * total).then(|| (a - 0.5 * b, b / width))
}
