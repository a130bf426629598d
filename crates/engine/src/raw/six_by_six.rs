//! Demosaicing of 6 × 6 patterns: green along the direction in which it changes less, red and blue as the weighted mean of
//! their differences to green around.

use crate::raw::demosaic::{Band, MARGIN, lifted, mirrored};
use crate::raw::mosaic::Mosaic;
use crate::raw::scale::Scale;

/// How far greens are looked for: every row and column has one within two pixels.
const NEAR: usize = 2;

/// Reach of the mean of differences.
const AROUND: usize = 3;

/// The nearest greens before and after a place along one direction, and how much they differ.
#[inline(always)]
fn along(
    cfa: &[f32],
    is_green: &dyn Fn(usize, usize) -> bool,
    (x, y): (usize, usize),
    (dx, dy): (isize, isize),
    w: usize,
) -> (f32, f32) {
    let look = |sign: isize| {
        (1..=NEAR + 1).find_map(|k| {
            let step = sign * k as isize;
            let (px, py) = ((x as isize + dx * step) as usize, (y as isize + dy * step) as usize);
            is_green(px, py).then(|| (cfa[py * w + px], k as f32))
        })
    };
    match (look(-1), look(1)) {
        (Some((a, near)), Some((b, far))) => {
            ((a * far + b * near) / (near + far), (a - b).abs() / (near + far))
        }
        (Some((a, _)), None) | (None, Some((a, _))) => (a, 1.0),
        (None, None) => (cfa[y * w + x], 1e3),
    }
}

/// A band with all three colours of every pixel (but in the outermost pixels of its margin).
pub(super) fn demosaiced(mosaic: &Mosaic, band: (usize, usize), gain: [f32; 3], scale: Scale) -> Band {
    let (cfa, w, h) = lifted(mosaic, band, gain, scale);
    // The margin is mirrored; what lies in it is told by the place it stands for.
    let width = mosaic.size.width as usize;
    let height = mosaic.size.height as usize;
    let places = |count: usize, start: usize, length: usize| -> Vec<usize> {
        (0..count).map(|k| mirrored((start + k) as isize - MARGIN as isize, length)).collect()
    };
    let (columns, lines) = (places(w, 0, width), places(h, band.0, height));
    let colour = |x: usize, y: usize| mosaic.pattern.at(columns[x], lines[y]);
    let is_green = |x: usize, y: usize| colour(x, y) == 1;
    let mut planes: [Vec<f32>; 3] = std::array::from_fn(|_| vec![0f32; w * h]);
    for y in 3..h - 3 {
        for x in 3..w - 3 {
            let at = y * w + x;
            planes[1][at] = if is_green(x, y) {
                cfa[at]
            } else {
                let (rows, row_change) = along(&cfa, &is_green, (x, y), (1, 0), w);
                let (columns, column_change) = along(&cfa, &is_green, (x, y), (0, 1), w);
                let weight = |change: f32| 1.0 / (1e-4 + change * change);
                let (a, b) = (weight(row_change), weight(column_change));
                (rows * a + columns * b) / (a + b)
            };
        }
    }
    let reach = 3 + AROUND;
    for y in reach..h - reach {
        for x in reach..w - reach {
            let at = y * w + x;
            let own = colour(x, y);
            for (c, plane) in [(0u8, 0usize), (2, 2)] {
                if own == c {
                    planes[plane][at] = cfa[at];
                    continue;
                }
                let (mut sum, mut weights) = (0.0f32, 0.0f32);
                for v in y - AROUND..=y + AROUND {
                    for u in x - AROUND..=x + AROUND {
                        if colour(u, v) != c {
                            continue;
                        }
                        let there = v * w + u;
                        let (dx, dy) = (u.abs_diff(x) as f32, v.abs_diff(y) as f32);
                        let unlike = (planes[1][there] - planes[1][at]).abs();
                        let weight = 1.0 / ((1.0 + dx * dx + dy * dy) * (0.02 + unlike));
                        sum += weight * (cfa[there] - planes[1][there]);
                        weights += weight;
                    }
                }
                planes[plane][at] = (planes[1][at] + sum / weights.max(1e-9)).max(0.0);
            }
        }
    }
    Band { width: w, planes }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::raw::Pattern;

    /// Greens in pairs and crosses, red and blue by turns.
    const CELLS: [u8; 36] = [
        1, 1, 0, 1, 1, 2, //
        1, 1, 2, 1, 1, 0, //
        2, 0, 1, 0, 2, 1, //
        1, 1, 2, 1, 1, 0, //
        1, 1, 0, 1, 1, 2, //
        0, 2, 1, 2, 0, 1,
    ];

    #[test]
    fn a_plain_colour_and_a_ramp_come_back() {
        let (w, h) = (36usize, 30usize);
        let pattern = Pattern::new(6, 6, &CELLS).unwrap();
        let pixel = |x: usize, y: usize| {
            let light = 0.1 + 0.01 * x as f32 + 0.006 * y as f32;
            [light + 0.1, light, light + 0.05]
        };
        let values = (0..w * h).map(|i| pixel(i % w, i / w)[usize::from(pattern.at(i % w, i / w))]).collect();
        let mosaic = Mosaic::new(Size::new(w as u32, h as u32), pattern, values).unwrap();
        let band = demosaiced(&mosaic, (0, h), [1.0; 3], Scale::as_it_is(0.0));
        for y in 4..h - 4 {
            for x in 4..w - 4 {
                let at = (y + MARGIN) * band.width + x + MARGIN;
                for c in 0..3 {
                    let found = band.planes[c][at];
                    assert!(
                        (found - pixel(x, y)[c]).abs() < 6e-3,
                        "{x} {y} {c}: {found}, {}",
                        pixel(x, y)[c]
                    );
                }
            }
        }
    }
}
