//! A frame as alignment sees it: the root of its light, smoothed a little, at sizes that halve.

use crate::colour::working::luminance;
use crate::geometry::Size;

/// Added to light before its root is taken, so that noise in the dark is no larger than in the light.
const TOE: f32 = 0.002;

/// Light from which on a pixel may be clipped.
const CLIPPED: f32 = 0.94;

/// The shortest long edge of the smallest size.
const SMALLEST: usize = 70;

/// One size of a frame.
#[derive(Clone, Debug)]
pub(crate) struct Plane {
    pub(crate) width: usize,
    pub(crate) height: usize,
    /// Row by row.
    pub(crate) values: Vec<f32>,
}

/// A frame to be aligned, at all its sizes.
#[derive(Clone, Debug)]
pub struct AlignmentView {
    /// The largest first.
    pub(super) planes: Vec<Plane>,
}

/// Values from here on may be clipped.
pub(super) fn clipped() -> f32 {
    (CLIPPED + TOE).sqrt()
}

impl AlignmentView {
    /// Of working values (linear light, red, green and blue of each pixel by rows).
    pub fn new(size: Size, values: &[f32]) -> Self {
        let light = |pixel: &[f32; 3]| (luminance(pixel).clamp(0.0, 1.0) + TOE).sqrt();
        let (width, height) = (size.width as usize, size.height as usize);
        let values = values.as_chunks::<3>().0.iter().map(light).collect();
        Self { planes: Plane { width, height, values }.smoothed().sizes(SMALLEST) }
    }

    /// Half the width and height, in lengths of the long edge.
    pub fn shape(&self) -> (f64, f64) {
        let Plane { width, height, .. } = self.planes[0];
        let long = width.max(height).max(1) as f64;
        (width as f64 / long / 2.0, height as f64 / long / 2.0)
    }

    /// Pixels of a size per length of the long edge.
    pub(super) fn pixels(&self, level: usize) -> f64 {
        self.planes[0].width.max(self.planes[0].height) as f64 / f64::from(1u32 << level)
    }
}

impl Plane {
    /// By 1 2 1, both ways; beyond the edge its pixels count again.
    pub(crate) fn smoothed(&self) -> Self {
        let (w, h) = (self.width, self.height);
        let mut across = vec![0.0; w * h];
        for (row, out) in self.values.chunks_exact(w.max(1)).zip(across.chunks_exact_mut(w.max(1))) {
            for x in 0..w {
                out[x] = (row[x.saturating_sub(1)] + 2.0 * row[x] + row[(x + 1).min(w - 1)]) / 4.0;
            }
        }
        let mut values = vec![0.0; w * h];
        for (y, out) in values.chunks_exact_mut(w.max(1)).enumerate() {
            let row = |y: usize| &across[y * w..(y + 1) * w];
            let (above, here, below) = (row(y.saturating_sub(1)), row(y), row((y + 1).min(h - 1)));
            for x in 0..w {
                out[x] = (above[x] + 2.0 * here[x] + below[x]) / 4.0;
            }
        }
        Self { width: w, height: h, values }
    }

    /// It and its halves, the largest first, as long as the long edge is not shorter than `smallest`.
    pub(crate) fn sizes(self, smallest: usize) -> Vec<Self> {
        let mut planes = vec![self];
        while let Some(last) = planes.last().filter(|p| p.width.max(p.height) / 2 >= smallest) {
            let half = last.halved();
            planes.push(half);
        }
        planes
    }

    /// Half as large, by 1 3 3 1 both ways, so that pixels lie in the middle of the four they come from.
    pub(crate) fn halved(&self) -> Self {
        let (w, h) = (self.width, self.height);
        let (to_w, to_h) = (w / 2, h / 2);
        let mut across = vec![0.0; to_w * h];
        for (row, out) in self.values.chunks_exact(w).zip(across.chunks_exact_mut(to_w.max(1))) {
            for (x, out) in out.iter_mut().enumerate() {
                let at = 2 * x;
                let far = row[at.saturating_sub(1)] + row[(at + 2).min(w - 1)];
                *out = (far + 3.0 * (row[at] + row[at + 1])) / 8.0;
            }
        }
        let mut values = vec![0.0; to_w * to_h];
        for (y, out) in values.chunks_exact_mut(to_w.max(1)).enumerate() {
            let row = |y: usize| &across[y * to_w..(y + 1) * to_w];
            let at = 2 * y;
            let (a, b, c, d) = (row(at.saturating_sub(1)), row(at), row(at + 1), row((at + 2).min(h - 1)));
            for x in 0..to_w {
                out[x] = (a[x] + d[x] + 3.0 * (b[x] + c[x])) / 8.0;
            }
        }
        Self { width: to_w, height: to_h, values }
    }

    /// The value at a place in pixels, between the four around it; beyond the edge its own.
    pub(crate) fn near(&self, x: f32, y: f32) -> f32 {
        let ([a, b, c, d], u, v) = around((self.width, self.height), x, y);
        let [a, b, c, d] = [a, b, c, d].map(|at| self.values[at]);
        (a * (1.0 - u) + b * u) * (1.0 - v) + (c * (1.0 - u) + d * u) * v
    }

    /// Whether values between pixels are known at a place in pixels (the middle of the first pixel is 0.5).
    pub(super) fn holds(&self, (x, y): (f64, f64)) -> bool {
        let fits = |at: f64, length: usize| at >= 1.5 && at + 1.5 < length as f64;
        fits(x, self.width) && fits(y, self.height)
    }

    /// The value at a place that it [`holds`](Self::holds), by cubic interpolation.
    pub(super) fn at(&self, x: f64, y: f64) -> f32 {
        // Cutting off is rounding down here, and much quicker.
        let (x, y) = (x - 0.5, y - 0.5);
        let (left, top) = (x as usize, y as usize);
        let across = cubic((x - left as f64) as f32);
        let down = cubic((y - top as f64) as f32);
        let mut sum = 0.0;
        for (k, share) in down.iter().enumerate() {
            let from = (top - 1 + k) * self.width + left - 1;
            let row = &self.values[from..from + 4];
            sum +=
                share * (across[0] * row[0] + across[1] * row[1] + across[2] * row[2] + across[3] * row[3]);
        }
        sum
    }
}

/// The four pixels around a place, row by row (the middle of the first pixel is 0.5; beyond the edge its own), and how far it is from
/// the first of them.
pub(crate) fn around((width, height): (usize, usize), x: f32, y: f32) -> ([usize; 4], f32, f32) {
    let (x, y) = ((x - 0.5).clamp(0.0, (width - 1) as f32), (y - 0.5).clamp(0.0, (height - 1) as f32));
    let (left, top) = (x as usize, y as usize);
    let (right, low) = ((left + 1).min(width - 1), (top + 1).min(height - 1));
    let pixels = [top * width + left, top * width + right, low * width + left, low * width + right];
    (pixels, x - left as f32, y - top as f32)
}

/// Weights of four neighbours (Catmull-Rom) at a share of the way from the second to the third.
pub(crate) fn cubic(t: f32) -> [f32; 4] {
    let (t2, t3) = (t * t, t * t * t);
    [
        0.5 * (-t + 2.0 * t2 - t3),
        0.5 * (2.0 - 5.0 * t2 + 3.0 * t3),
        0.5 * (t + 4.0 * t2 - 3.0 * t3),
        0.5 * (t3 - t2),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_halve_and_lie_on_each_other() {
        let size = Size::new(320, 200);
        // A slope: its value at a place is the same at every size.
        let light = |x: usize, y: usize| (0.3 + 0.001 * x as f32 + 0.0005 * y as f32).powi(2) - TOE;
        let values: Vec<f32> = (0..320 * 200).flat_map(|i| [light(i % 320, i / 320); 3]).collect();
        let view = AlignmentView::new(size, &values);
        assert_eq!(view.planes.iter().map(|p| p.width).collect::<Vec<_>>(), [320, 160, 80]);
        for (level, plane) in view.planes.iter().enumerate() {
            let by = f64::from(1u32 << level);
            let value = plane.at(160.0 / by, 96.0 / by);
            let truth = 0.3 + 0.001 * 159.5 + 0.0005 * 95.5;
            assert!((value - truth).abs() < 1e-4, "{level}: {value} {truth}");
        }
        let holds = |x, y| view.planes[0].holds((x, y));
        assert!(holds(1.5, 50.0) && !holds(0.7, 50.0) && !holds(160.0, 199.0));
        assert_eq!(view.shape(), (0.5, 0.3125));
    }
}
