//! Camera raw as it is handed on as raw: three values a pixel, as the camera counts them.

use crate::geometry::Size;
use crate::raw::demosaic::MARGIN;
use crate::raw::develop::{ROWS, band_of};
use crate::raw::{MosaicDenoise, RawView, Sensor};

/// The value of no light, so that noise around it keeps its mean.
const BLACK: u16 = 512;

/// Rows that are worked on at a time.
const STRIP: i64 = 1024;

/// Red, green and blue by turns as the camera counts them.
pub struct Linear {
    /// Pixels each way.
    pub size: Size,
    /// From `black` for no light to 65535 for the most.
    pub values: Vec<u16>,
    /// The value of no light.
    pub black: u16,
}

impl RawView {
    /// The whole as stored, to be handed on as raw; denoised where that is asked for.
    pub fn linear(&self, work: Option<MosaicDenoise>) -> Linear {
        let number = |v: f32| {
            let range = 65_535.0 - f32::from(BLACK);
            (v * range + f32::from(BLACK) + 0.5).clamp(0.0, 65_535.0) as u16
        };
        let mosaic = match &self.raw.sensor {
            Sensor::Linear(size, values) => {
                let values = values.iter().map(|v| number(*v)).collect();
                return Linear { size: *size, values, black: BLACK };
            }
            Sensor::Mosaic(mosaic) => mosaic,
        };
        let whole = mosaic.size.rect();
        let mut out = Vec::with_capacity(whole.area() * 3);
        for strip in whole.tiles(whole.width, STRIP) {
            if let Some(counted) = work.and_then(|work| self.counted(strip, work)) {
                out.extend(counted.iter().flatten().map(|v| number(*v)));
                continue;
            }
            let gains = self.raw.camera.gains();
            for from in (strip.y as usize..strip.bottom() as usize).step_by(ROWS) {
                let rows = ROWS.min(strip.bottom() as usize - from);
                let band = band_of(mosaic, (from, rows), gains, self.raw.scale(gains));
                for y in 0..rows {
                    let start = (y + MARGIN) * band.width + MARGIN;
                    let pixels = start..start + whole.width as usize;
                    out.extend(
                        pixels
                            .flat_map(|at| (0..3).map(move |c| (c, at)))
                            .map(|(c, at)| number(band.planes[c][at] / gains[c])),
                    );
                }
            }
        }
        Linear { size: mosaic.size, values: out, black: BLACK }
    }
}
