//! Gain maps: what a camera says its sensor's values are to be multiplied by, place by place, before anything else (Adobe's
//! DNG 1.7, chapter 7, opcode 9).

use crate::geometry::Size;
use crate::raw::Sensor;

/// A coarse grid of factors over a part of the sensor.
#[derive(Clone, Debug, PartialEq)]
pub struct GainMap {
    /// Top, left, bottom and right of the part, in pixels of the sensor's active area.
    pub area: [u32; 4],
    /// First plane, and how many, of a sensor with several values a pixel.
    pub planes: (u32, u32),
    /// Every how many rows and columns a pixel is multiplied.
    pub pitch: (u32, u32),
    /// Points down and across.
    pub points: (usize, usize),
    /// Where the first point is, and how far it is to the next, down and across, as shares of the active area.
    pub origin: (f64, f64),
    /// As `origin`.
    pub spacing: (f64, f64),
    /// Factors of each point.
    pub map_planes: usize,
    /// Factors, point after point along the rows.
    pub factors: Vec<f32>,
}

/// Where a picture lies inside the sensor's active area.
#[derive(Clone, Copy, Debug)]
pub struct Placed {
    /// Pixels to the right and down.
    pub offset: (usize, usize),
    /// Width and height of the active area.
    pub active: (usize, usize),
}

impl GainMap {
    fn is_whole(&self) -> bool {
        let count = self.points.0.checked_mul(self.points.1).and_then(|n| n.checked_mul(self.map_planes));
        let positive = |v: (f64, f64)| v.0.is_finite() && v.1.is_finite() && v.0 >= 0.0 && v.1 >= 0.0;
        count == Some(self.factors.len())
            && !self.factors.is_empty()
            && self.pitch.0 > 0
            && self.pitch.1 > 0
            && positive(self.spacing)
            && self.factors.iter().all(|f| f.is_finite())
    }

    /// The factor at a place of the active area, given as shares.
    fn at(&self, down: f64, across: f64, plane: usize) -> f32 {
        let along = |place: f64, origin: f64, spacing: f64, points: usize| {
            let at = if spacing > 0.0 { (place - origin) / spacing } else { 0.0 };
            let at = at.clamp(0.0, (points - 1) as f64);
            let low = (at as usize).min(points.saturating_sub(2));
            (low, (low + 1).min(points - 1), (at - low as f64) as f32)
        };
        let (top, bottom, v) = along(down, self.origin.0, self.spacing.0, self.points.0);
        let (left, right, u) = along(across, self.origin.1, self.spacing.1, self.points.1);
        let plane = plane.min(self.map_planes - 1);
        let factor = |row: usize, column: usize| {
            self.factors[(row * self.points.1 + column) * self.map_planes + plane]
        };
        let row = |row: usize| factor(row, left) * (1.0 - u) + factor(row, right) * u;
        row(top) * (1.0 - v) + row(bottom) * v
    }

    /// Multiplies what the sensor gave; values stay within what it can count.
    pub fn apply(&self, sensor: &mut Sensor, placed: Placed) {
        if !self.is_whole() {
            return;
        }
        match sensor {
            Sensor::Mosaic(mosaic) => {
                let size = mosaic.size;
                mosaic.change(|values| self.multiply(values, (size, 1), placed));
            }
            Sensor::Linear(size, values) => self.multiply(values, (*size, 3), placed),
        }
    }

    /// Multiplies so many values a pixel.
    fn multiply(&self, values: &mut [f32], (size, channels): (Size, usize), placed: Placed) {
        let width = size.width as usize;
        let [top, left, bottom, right] = self.area.map(|v| v as usize);
        let rows = (top..bottom).step_by(self.pitch.0 as usize);
        for row in rows.filter_map(|y| y.checked_sub(placed.offset.1)).filter(|y| *y < size.height as usize) {
            let down = ((row + placed.offset.1) as f64 + 0.5) / placed.active.1 as f64;
            let columns = (left..right).step_by(self.pitch.1 as usize);
            for column in columns.filter_map(|x| x.checked_sub(placed.offset.0)).filter(|x| *x < width) {
                let across = ((column + placed.offset.0) as f64 + 0.5) / placed.active.0 as f64;
                let first = (self.planes.0 as usize).min(channels);
                let last = first.saturating_add(self.planes.1 as usize).min(channels);
                for plane in first..last {
                    let value = &mut values[(row * width + column) * channels + plane];
                    *value = (*value * self.at(down, across, plane - first)).min(1.0);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::raw::{Mosaic, Pattern};

    #[test]
    fn every_other_pixel_is_multiplied_by_what_lies_between_the_points() {
        let pattern = Pattern::new(2, 2, &[0, 1, 1, 2]).unwrap();
        let mut sensor = Sensor::Mosaic(Mosaic::new(Size::new(20, 10), pattern, vec![0.25; 200]).unwrap());
        let map = GainMap {
            area: [0, 0, 14, 24],
            planes: (0, 1),
            pitch: (2, 2),
            points: (1, 2),
            origin: (0.0, 0.0),
            spacing: (1.0, 1.0),
            map_planes: 1,
            factors: vec![1.0, 3.0],
        };
        // The picture begins four columns and two rows inside the active area.
        map.apply(&mut sensor, Placed { offset: (4, 2), active: (24, 14) });
        let Sensor::Mosaic(mosaic) = &sensor else { panic!() };
        for y in 0..10 {
            for x in 0..20 {
                let gain = 1.0 + 2.0 * ((x + 4) as f32 + 0.5) / 24.0;
                let wanted = if x % 2 == 0 && y % 2 == 0 { 0.25 * gain } else { 0.25 };
                let found = mosaic.values()[y * 20 + x];
                assert!((found - wanted).abs() < 1e-6, "{x} {y}: {found} instead of {wanted}");
            }
        }
        let broken = GainMap { factors: vec![1.0], ..map };
        broken.apply(&mut sensor, Placed { offset: (0, 0), active: (20, 10) });
    }
}
