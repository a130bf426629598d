//! Denoising of camera raw where its noise is known best: before demosaicing and tone.
//!
//! What the sensor counted is brought to the scale where its noise is even (`noise.rs`). The learned way takes out its noise and
//! fills in its colours there in one go (`learned`). The others demosaic it and denoise that by the same methods as any picture
//! (`ops/denoise`), with the noise that demosaicing leaves of even noise: its spread over the frequencies is measured once on noise
//! alone. Then back to light, colour and tone.

use crate::colour::light::Light;
use crate::geometry::{Rect, Size};
use crate::image::picture::Orientation;
use crate::ops::denoise::dct::{Block, SIDE, forward};
use crate::ops::denoise::noise::{NODES, PlaneNoise};
use crate::ops::denoise::{Noise, Planes, Strength, Way, apart_encoded, blocks, sliding, together_encoded};
use crate::raw::demosaic::MARGIN;
use crate::raw::develop::{ROWS, band_of};
use crate::raw::finish::{BLOCK, Finish};
use crate::raw::learned;
use crate::raw::look::Look;
use crate::raw::mosaic::Mosaic;
use crate::raw::noise::SensorNoise;
use crate::raw::scale::Scale;
use crate::raw::{CameraColour, Raw, Sensor};
use rayon::prelude::*;
use std::sync::Arc;

/// Parts of a mosaic begin at multiples of this, so that both patterns begin anew.
const GRID: i64 = 12;

/// Side of the noise that is demosaiced to learn what becomes of it.
const TRIAL: usize = 192;

/// What a step does to camera raw before it is demosaiced.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct MosaicDenoise {
    /// How strongly.
    pub strength: Strength,
    /// In which way; the learned one stands back for the thorough one where filters are not 2 × 2.
    pub way: Way,
}

/// Colour noise after demosaicing on the even scale is coarse, and is taken out so much more strongly than a picture's own
/// (with 1 instead, `benches/raw --only denoise` shows 0.6 dB less at ISO 1600 and 1 dB less at ISO 25600).
const COLOUR: f32 = 1.8;

/// Share of the scale that no light may take at most in the learned way; it was trained with no more.
const WIDEST: f32 = 0.85;

/// A camera raw as it is developed for a recipe.
#[derive(Clone)]
pub struct RawView {
    /// What the file holds.
    pub raw: Arc<Raw>,
    /// The camera's colour, set to the light that is wanted.
    pub camera: CameraColour,
    /// What it looks like.
    pub look: Look,
    /// How it was turned.
    pub orientation: Orientation,
}

impl std::fmt::Debug for RawView {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("RawView").field("orientation", &self.orientation).finish_non_exhaustive()
    }
}

/// The scale on which everything is done, and the noise on it.
pub(super) struct Steady {
    sensor: SensorNoise,
    /// What each filter's values are multiplied by on the scale, so that neutral things are alike, and white is 1.
    factors: [f32; 3],
    noise: Noise,
}

impl Steady {
    pub(super) fn new(mosaic: &Mosaic, gains: [f32; 3], sensor: SensorNoise) -> Self {
        let roots = gains.map(f32::sqrt);
        let most = roots.iter().copied().fold(0f32, f32::max) * sensor.steady(1.0);
        let factors = roots.map(|r| r / most);
        Self { sensor, factors, noise: left_of_noise(mosaic, factors) }
    }

    /// Whether light takes enough of the scale for what computes in steps of it: where a file tells almost nothing but noise of
    /// reading, it does not.
    fn is_wide(&self) -> bool {
        self.sensor.steady(0.0) < WIDEST * self.sensor.steady(1.0)
    }

    /// Its values.
    fn of(&self, mosaic: &Mosaic, part: Rect) -> Mosaic {
        let width = mosaic.size.width as usize;
        let counted = mosaic.values();
        let mut values = Vec::with_capacity(part.area());
        for y in part.y as usize..part.bottom() as usize {
            for x in part.x as usize..part.right() as usize {
                let factor = self.factors[usize::from(mosaic.pattern.at(x, y))];
                values.push(self.sensor.steady(counted[y * width + x]) * factor);
            }
        }
        let size = Size::new(part.width as u32, part.height as u32);
        Mosaic::of_light(size, mosaic.pattern.shifted(part.x as usize, part.y as usize), values)
    }

    /// Light from the scale, of the part `stored` of `have`, whose pixels `even` tells by their number.
    fn light(&self, have: Rect, stored: Rect, even: impl Fn(usize) -> [f32; 3] + Sync) -> Vec<[f32; 3]> {
        let rows: Vec<usize> = (stored.y - have.y..stored.bottom() - have.y)
            .map(|y| (y * have.width + stored.x - have.x) as usize)
            .collect();
        let width = stored.width as usize;
        let pixel = |at: usize| {
            let even = even(at);
            std::array::from_fn(|c| self.sensor.value(even[c] / self.factors[c]))
        };
        rows.into_par_iter().flat_map_iter(|at| (at..at + width).map(pixel)).collect()
    }
}

/// All three colours of every pixel of a small mosaic on the scale with those factors.
fn demosaiced(mosaic: &Mosaic, factors: [f32; 3]) -> Vec<[f32; 3]> {
    let [r, g, b] = factors.map(|f| f * f);
    let scale = Scale::as_it_is(0.25 * (r + 2.0 * g + b));
    let (w, h) = (mosaic.size.width as usize, mosaic.size.height as usize);
    let bands: Vec<usize> = (0..h).step_by(ROWS).collect();
    let of_band = |from: usize| {
        let rows = ROWS.min(h - from);
        let band = band_of(mosaic, (from, rows), [1.0; 3], scale);
        let row = move |y: usize| (y + MARGIN) * band.width + MARGIN;
        (0..rows)
            .flat_map(|y| (row(y)..row(y) + w).map(|at| [0, 1, 2].map(|c| band.planes[c][at])))
            .collect::<Vec<[f32; 3]>>()
    };
    bands.into_par_iter().flat_map_iter(of_band).collect()
}

fn planes(pixels: &[[f32; 3]], width: usize) -> Planes {
    let mut planes = [0; 3].map(|_| Vec::with_capacity(pixels.len()));
    for pixel in pixels {
        let parts = apart_encoded(*pixel);
        for (plane, part) in planes.iter_mut().zip(parts) {
            plane.push(part);
        }
    }
    Planes { width, height: pixels.len() / width.max(1), planes }
}

/// What demosaicing leaves of even noise on a flat grey.
fn left_of_noise(mosaic: &Mosaic, factors: [f32; 3]) -> Noise {
    let mut state = 0x2545_f491_4f6c_dd1du64;
    let mut chance = || {
        (0..12)
            .map(|_| {
                state ^= state << 13;
                state ^= state >> 7;
                state ^= state << 17;
                (state >> 40) as f32 / (1u64 << 24) as f32
            })
            .sum::<f32>()
            - 6.0
    };
    let at = |i: usize| factors[usize::from(mosaic.pattern.at(i % TRIAL, i / TRIAL))];
    let values = (0..TRIAL * TRIAL).map(|i| 0.5 + chance() * at(i)).collect();
    let size = Size::new(TRIAL as u32, TRIAL as u32);
    let trial = planes(&demosaiced(&Mosaic::of_light(size, mosaic.pattern.clone(), values), factors), TRIAL);
    let inner = |from: usize| (from..TRIAL - from - SIDE).step_by(SIDE);
    let mut energy = [[0f64; SIDE * SIDE]; 3];
    let mut count = 0.0;
    for y in inner(MARGIN) {
        for x in inner(MARGIN) {
            count += 1.0;
            for (plane, energy) in trial.planes.iter().zip(&mut energy) {
                let block: Block =
                    std::array::from_fn(|v| std::array::from_fn(|u| plane[(y + v) * TRIAL + x + u]));
                for (sum, value) in energy.iter_mut().zip(forward(&block).as_flattened()) {
                    *sum += f64::from(*value).powi(2);
                }
            }
        }
    }
    Noise(energy.map(|mut energy| {
        energy.iter_mut().for_each(|v| *v /= count);
        // The constant part of a block holds the grey itself; its noise is as its neighbours'.
        energy[0] = (energy[1] + energy[SIDE]) / 2.0;
        let mean = energy.iter().sum::<f64>() / (SIDE * SIDE) as f64;
        PlaneNoise {
            deviation: [mean.sqrt() as f32; NODES],
            spread: std::array::from_fn(|k| (energy[k] / mean) as f32),
        }
    }))
}

impl RawView {
    /// The light under which what lies around a place of the upright picture is neutral, by what the sensor counted; nothing
    /// where it is too dark to tell or fills the sensor.
    pub fn neutral_light(&self, x: usize, y: usize) -> Option<Light> {
        /// Pixels to each side that are asked.
        const AROUND: usize = 6;
        let size = self.raw.sensor.size();
        let (u, v) = self.orientation.stored(x, y, size);
        let (w, h) = (size.width as usize, size.height as usize);
        let (mut sum, mut count) = ([0f64; 3], [0f64; 3]);
        let mut most = 0f32;
        for y in v.saturating_sub(AROUND)..(v + AROUND + 1).min(h) {
            for x in u.saturating_sub(AROUND)..(u + AROUND + 1).min(w) {
                let mut add = |c: usize, value: f32| {
                    sum[c] += f64::from(value);
                    count[c] += 1.0;
                    most = most.max(value);
                };
                match &self.raw.sensor {
                    Sensor::Mosaic(mosaic) => {
                        add(usize::from(mosaic.pattern.at(x, y)), mosaic.values()[y * w + x]);
                    }
                    Sensor::Linear(_, values) => (0..3).for_each(|c| add(c, values[(y * w + x) * 3 + c])),
                }
            }
        }
        let counted: [f64; 3] = std::array::from_fn(|c| sum[c] / count[c].max(1.0));
        let tells = most < 0.98 && counted.iter().all(|c| *c > 1e-3);
        tells.then(|| self.camera.light_of(counted))
    }

    /// Whether it can be denoised before it is demosaiced.
    pub fn has_mosaic(&self) -> bool {
        self.raw.steady().is_some()
    }

    /// Whether the learned way knows its filters and its noise.
    pub fn is_learned(&self) -> bool {
        matches!(&self.raw.sensor, Sensor::Mosaic(mosaic) if learned::knows(mosaic))
            && self.raw.steady().is_some_and(Steady::is_wide)
    }

    /// Working values of `rect` of the upright picture, denoised; nothing where there is no mosaic.
    pub fn denoised(&self, rect: Rect, work: MosaicDenoise) -> Option<Vec<[f32; 3]>> {
        let Sensor::Mosaic(mosaic) = &self.raw.sensor else { return None };
        let stored = self.stored(rect, mosaic.size);
        let counted = self.counted(stored, work)?;
        let gains = self.camera.gains();
        let finish = Finish::of(&self.camera, &self.look);
        let mut out = Vec::with_capacity(rect.area());
        for y in rect.y..rect.bottom() {
            let count = rect.width as usize;
            finish.light(count, &mut out, |from, block| {
                for i in 0..BLOCK.min(count - from) {
                    let x = rect.x as usize + from + i;
                    let (u, v) = self.orientation.stored(x, y as usize, mosaic.size);
                    let at = (v as i64 - stored.y) * stored.width + u as i64 - stored.x;
                    let counted = counted[at as usize];
                    for c in 0..3 {
                        block[c][i] = counted[c] * gains[c];
                    }
                }
            });
        }
        Some(out)
    }

    /// What the camera would have counted behind all three filters in a part of the stored picture, without its noise;
    /// nothing where there is no mosaic.
    pub(super) fn counted(&self, stored: Rect, work: MosaicDenoise) -> Option<Vec<[f32; 3]>> {
        let (Sensor::Mosaic(mosaic), Some(steady)) = (&self.raw.sensor, self.raw.steady()) else {
            return None;
        };
        let whole = mosaic.size.rect();
        let is_learned = work.way == Way::Learned && self.is_learned();
        let halo = match work.way {
            Way::Learned if is_learned => learned::HALO,
            Way::Learned | Way::Thorough => blocks::HALO,
            Way::Quick => sliding::HALO,
        };
        let have = stored.grown(halo).within(whole);
        if is_learned {
            let even = learned::run(&steady.of(mosaic, have), steady.factors, work.strength)?;
            return Some(steady.light(have, stored, |at| even[at]));
        }
        let strength = Strength { colour: work.strength.colour * COLOUR, ..work.strength };
        // What demosaicing needs around that, from where the patterns begin.
        let down = |v: i64| v.div_euclid(GRID) * GRID;
        let around = have.grown(MARGIN as i64).within(whole);
        let (x, y) = (down(around.x), down(around.y));
        let part = Rect::new(x, y, around.right() - x, around.bottom() - y);
        let pixels = demosaiced(&steady.of(mosaic, part), steady.factors);
        let width = have.width as usize;
        let kept: Vec<[f32; 3]> = (have.y - part.y..have.bottom() - part.y)
            .flat_map(|y| {
                let at = (y * part.width + have.x - part.x) as usize;
                pixels[at..at + width].iter().copied()
            })
            .collect();
        drop(pixels);
        let noisy = planes(&kept, width);
        drop(kept);
        let done = if work.way == Way::Quick {
            sliding::run(&noisy, have, &steady.noise, strength)
        } else {
            blocks::run(&noisy, have, stored, &steady.noise, strength)
        };
        Some(steady.light(have, stored, |at| {
            together_encoded([done.planes[0][at], done.planes[1][at], done.planes[2][at]])
        }))
    }

    /// The part of the stored picture that a part of the upright one is.
    fn stored(&self, rect: Rect, size: Size) -> Rect {
        let corner = |x: i64, y: i64| self.orientation.stored(x as usize, y as usize, size);
        let (a, b) = (corner(rect.x, rect.y), corner(rect.right() - 1, rect.bottom() - 1));
        let (x, y) = (a.0.min(b.0) as i64, a.1.min(b.1) as i64);
        Rect::new(x, y, a.0.max(b.0) as i64 + 1 - x, a.1.max(b.1) as i64 + 1 - y)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::raw::develop::HEADROOM;
    use crate::raw::noise::tests::chance;
    use crate::raw::{Calibration, CameraColour, Linear, Pattern, develop};

    const SIZE: (usize, usize) = (190, 150);
    const NOISE: SensorNoise = SensorNoise { shot: 2e-3, read: 4e-6 };

    /// Discs of several colours on a ramp.
    fn scene(x: usize, y: usize) -> [f32; 3] {
        let (fx, fy) = (x as f32, y as f32);
        let ramp = 0.05 + 0.3 * fx / SIZE.0 as f32;
        let disc = |cx: f32, cy: f32, r: f32| (fx - cx).hypot(fy - cy) < r;
        if disc(50.0, 50.0, 30.0) {
            [0.5, 0.2, 0.1]
        } else if disc(130.0, 90.0, 40.0) {
            [0.1, 0.35, 0.3]
        } else {
            [ramp, ramp, ramp]
        }
    }

    fn camera() -> CameraColour {
        // A camera whose filters are the working space's own primaries.
        let to_camera = [
            [1.716_651_2, -0.355_670_8, -0.253_366_3],
            [-0.666_684_4, 1.616_481_2, 0.015_768_5],
            [0.017_639_9, -0.042_770_6, 0.942_103_1],
        ];
        let neutral = [0.5, 1.0, 0.7];
        let seen = std::array::from_fn(|r| std::array::from_fn(|c| to_camera[r][c] * neutral[r]));
        let calibration = Calibration { kelvin: 6504.0, to_camera: seen, forward: None };
        CameraColour { calibrations: vec![calibration], neutral, baseline: 0.0, table: None }
    }

    fn view(orientation: u32, noisy: bool) -> RawView {
        let pattern = Pattern::new(2, 2, &[0, 1, 1, 2]).unwrap();
        let neutral = camera().neutral;
        let values = (0..SIZE.0 * SIZE.1).map(|i| {
            let (x, y) = (i % SIZE.0, i / SIZE.0);
            let c = usize::from(pattern.at(x, y));
            let light = scene(x, y)[c] * neutral[c] as f32;
            let noise = chance(i as u64) * (NOISE.shot * light + NOISE.read).sqrt();
            if noisy { light + noise } else { light }
        });
        let size = Size::new(SIZE.0 as u32, SIZE.1 as u32);
        let mosaic = Mosaic::new(size, pattern.clone(), values.collect()).unwrap();
        let raw = Raw::new(Sensor::Mosaic(mosaic), camera(), Some(NOISE));
        RawView {
            raw: Arc::new(raw),
            camera: camera(),
            look: Look::default(),
            orientation: Orientation::from_exif(orientation),
        }
    }

    const WORK: MosaicDenoise =
        MosaicDenoise { strength: Strength { light: 1.0, colour: 1.0, detail: 0.5 }, way: Way::Thorough };

    /// Mean square of what differs from the scene, of square roots, which are near to what is seen.
    fn apart(pixels: &[[f32; 3]]) -> f32 {
        let each = |(i, pixel): (usize, &[f32; 3])| {
            let wanted = scene(i % SIZE.0, i / SIZE.0);
            (0..3).map(|c| (pixel[c].max(0.0).sqrt() - wanted[c].sqrt()).powi(2)).sum::<f32>() / 3.0
        };
        pixels.iter().enumerate().map(each).sum::<f32>() / pixels.len() as f32
    }

    fn whole() -> Rect {
        Rect::new(0, 0, SIZE.0 as i64, SIZE.1 as i64)
    }

    #[test]
    fn noise_goes_and_the_picture_stays() {
        let noisy = view(1, true);
        let plain = develop(&noisy.raw, &noisy.raw.camera, 0, &Look::default());
        let light = |p: &[u16; 3]| p.map(|v| (f32::from(v) / 65_535.0).powi(2) * HEADROOM);
        let plain: Vec<[f32; 3]> = plain.samples.as_chunks::<3>().0.iter().map(light).collect();
        for way in [Way::Learned, Way::Thorough, Way::Quick] {
            let done = noisy.denoised(whole(), MosaicDenoise { way, ..WORK }).unwrap();
            let gain = 10.0 * (apart(&plain) / apart(&done)).log10();
            // The edges of the discs are the demosaicing's; the rest is noise.
            assert!(gain > 6.0, "{way:?}: {gain} dB");
            // Without noise nothing is lost that the noise would not have hidden.
            let clean = view(1, false).denoised(whole(), MosaicDenoise { way, ..WORK }).unwrap();
            assert!(apart(&clean) < apart(&plain) / 4.0);
        }
    }

    #[test]
    fn noise_of_lightness_and_of_colour_is_left_as_far_as_is_wanted() {
        let noisy = view(1, true);
        let colour_noise = |light: f32, colour: f32| {
            let strength = Strength { light, colour, detail: 0.5 };
            let done = noisy.denoised(whole(), MosaicDenoise { strength, way: Way::Learned }).unwrap();
            // On the grey ramp above the discs.
            let grey = (5..15).flat_map(|y| (5..180).map(move |x| y * SIZE.0 + x));
            let (mut light, mut colour) = (0.0f64, 0.0f64);
            for at in grey {
                let pixel = done[at].map(|v| f64::from(v.max(0.0).sqrt()));
                let wanted = f64::from(scene(at % SIZE.0, at / SIZE.0)[0].sqrt());
                light += (pixel.iter().sum::<f64>() / 3.0 - wanted).powi(2);
                colour += (pixel[0] - pixel[2]).powi(2);
            }
            (light, colour)
        };
        let all: Vec<(f64, f64)> =
            [(1.0, 1.0), (0.5, 1.0), (0.0, 1.0)].map(|(l, c)| colour_noise(l, c)).into();
        assert!(all.windows(2).all(|w| w[0].0 * 1.5 < w[1].0), "{all:?}");
        assert!((all[2].1 / all[0].1 - 1.0).abs() < 0.3, "{all:?}");
        let all: Vec<(f64, f64)> =
            [(1.0, 1.0), (1.0, 0.5), (1.0, 0.0)].map(|(l, c)| colour_noise(l, c)).into();
        assert!(all.windows(2).all(|w| w[0].1 * 1.5 < w[1].1), "{all:?}");
    }

    #[test]
    fn any_part_is_as_it_is_in_the_whole_however_the_picture_lies() {
        let upright = view(1, true);
        let all = upright.denoised(whole(), WORK).unwrap();
        for way in [Way::Learned, Way::Thorough] {
            let strength = Strength { colour: 0.5, ..WORK.strength };
            let work = MosaicDenoise { way, strength };
            let all = upright.denoised(whole(), work).unwrap();
            for rect in [Rect::new(0, 0, 40, 30), Rect::new(61, 33, 75, 64), Rect::new(150, 130, 40, 20)] {
                let part = upright.denoised(rect, work).unwrap();
                for (i, pixel) in part.iter().enumerate() {
                    let (x, y) = (
                        rect.x as usize + i % rect.width as usize,
                        rect.y as usize + i / rect.width as usize,
                    );
                    assert_eq!(*pixel, all[y * SIZE.0 + x], "{way:?}: {x} {y} of {rect:?}");
                }
            }
        }
        let turned = view(6, true);
        let part = turned.denoised(Rect::new(20, 40, 50, 60), WORK).unwrap();
        for (i, pixel) in part.iter().enumerate() {
            let (u, v) =
                turned.orientation.stored(20 + i % 50, 40 + i / 50, Size::new(SIZE.0 as u32, SIZE.1 as u32));
            assert_eq!(*pixel, all[v * SIZE.0 + u]);
        }
    }

    #[test]
    fn a_grey_tells_the_light_however_the_picture_lies() {
        // The ramp is grey; the camera was set for it.
        let wanted = camera().light();
        for orientation in [1, 6] {
            let view = view(orientation, true);
            let (x, y) = if orientation == 1 { (170, 20) } else { (SIZE.1 - 1 - 20, 170) };
            let found = view.neutral_light(x, y).unwrap();
            assert!((found.kelvin / wanted.kelvin - 1.0).abs() < 0.02, "{found:?} instead of {wanted:?}");
        }
        let red = view(1, true).neutral_light(50, 50).unwrap();
        assert!(red.kelvin < 3500.0, "{red:?}");
    }

    #[test]
    fn what_is_handed_on_as_raw_is_what_the_camera_counts() {
        let Linear { size, values, .. } = view(1, false).linear(None);
        assert_eq!(size, Size::new(SIZE.0 as u32, SIZE.1 as u32));
        for (x, y) in [(50, 50), (130, 90), (170, 20)] {
            let at = (y * SIZE.0 + x) * 3;
            for c in 0..3 {
                let found = (f32::from(values[at + c]) - 512.0) / (65_535.0 - 512.0);
                let wanted = scene(x, y)[c] * camera().neutral[c] as f32;
                assert!((found - wanted).abs() < 0.004, "{found} {wanted}");
            }
        }
        let denoised = view(1, true).linear(Some(WORK)).values;
        let at = (90 * SIZE.0 + 130) * 3 + 1;
        assert!((f32::from(denoised[at]) - f32::from(values[at])).abs() < 900.0);
    }
}
