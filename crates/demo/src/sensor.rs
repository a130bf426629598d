//! A made-up camera that writes raw: a lens with distortion, fringes and fall-off, filters of its own, a sensor that counts
//! electrons, a few of its pixels broken. Everything by formula, so that the truth is known.

use crate::film;
use crate::maths::{V3, hash};
use rallo_engine::colour::transfer::{self, Table};
use rallo_engine::raw::{
    Calibration, CameraColour, Look, Mosaic, Pattern, Raw, Sensor, SensorNoise, develop,
};
use rallo_engine::{Orientation, OutputProfile, Picture, Plan, Pyramid, Size};
use rallo_media::{CameraData, MediaError, MosaicDng, mosaic_dng};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

/// Values of no light and of the most.
pub const LEVELS: (u16, u16) = (512, 16_383);

/// Electrons that fill a pixel at ISO 100, and those that reading adds.
const FULL: f32 = 60_000.0;
const READ: f32 = 3.0;

/// What the meter leaves above white, in stops.
const HEADROOM: f64 = 0.5;

/// Filters, row by row: red, green; green, blue.
const FILTERS: [u8; 4] = [0, 1, 1, 2];

/// XYZ to the camera's red, green and blue before they are balanced, and what a grey card in daylight counts.
const SEES: [[f64; 3]; 3] = [[0.72, 0.18, 0.06], [-0.32, 1.16, 0.18], [-0.02, 0.16, 0.78]];
const NEUTRAL: [f64; 3] = [0.52, 1.0, 0.66];
const D65: [f64; 3] = [0.950_47, 1.0, 1.088_83];

/// Linear sRGB to XYZ (IEC 61966-2-1).
const TO_XYZ: [[f64; 3]; 3] = [
    [0.412_456_4, 0.357_576_1, 0.180_437_5],
    [0.212_672_9, 0.715_152_2, 0.072_175],
    [0.019_333_9, 0.119_192, 0.950_304_1],
];

/// What a lens does, in the terms of the open lens database: `poly3` for distortion and fringes, `pa` for fall-off.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct Lens {
    /// Bends lines: the radius is 1 at the middle of the long sides.
    pub k1: f64,
    /// How much larger red and blue are drawn.
    pub red: f64,
    /// As `red`.
    pub blue: f64,
    /// Factors of the second, fourth and sixth power of the radius, which is 1 in the corner.
    pub fall_off: [f64; 3],
}

/// Of the stills' camera.
pub const FIELD: Lens = Lens { k1: -0.03, red: 1.0006, blue: 0.9995, fall_off: [-0.5, 0.15, -0.05] };
/// Of the fixed camera.
pub const POST: Lens = Lens { k1: -0.06, red: 1.0004, blue: 0.9997, fall_off: [-0.35, 0.08, -0.02] };

/// Both as profiles of the open lens database.
pub fn lens_profiles() -> String {
    let lens = |maker: &str, model: &str, camera: &str, focal: f64, aperture: f64, lens: &Lens| {
        let [k1, k2, k3] = lens.fall_off;
        format!(
            r#"<mount><name>{maker} R</name></mount>
<camera><maker>{maker}</maker><model>{camera}</model><mount>{maker} R</mount><cropfactor>1.5</cropfactor></camera>
<lens><maker>{maker}</maker><model>{model}</model><mount>{maker} R</mount><cropfactor>1.5</cropfactor><calibration>
<distortion model="poly3" focal="{focal}" k1="{}"/>
<tca model="poly3" focal="{focal}" vr="{}" vb="{}"/>
<vignetting model="pa" focal="{focal}" aperture="{aperture}" distance="1000" k1="{k1}" k2="{k2}" k3="{k3}"/>
</calibration></lens>
"#,
            lens.k1, lens.red, lens.blue
        )
    };
    let field = lens("Marlow", "Field 35mm f/2", "24 R", 35.0, 4.0, &FIELD);
    let post = lens("Fen", "Post 6mm f/2.8", "Post R", 6.0, 2.8, &POST);
    format!("<lensdatabase version=\"1\">\n{field}{post}</lensdatabase>\n")
}

/// The camera's colour.
pub fn colour() -> CameraColour {
    let seen = SEES.map(|row| (0..3).map(|c| row[c] * D65[c]).sum::<f64>());
    let to_camera = std::array::from_fn(|r| SEES[r].map(|v| v * NEUTRAL[r] / seen[r]));
    let calibration = Calibration { kelvin: 6504.0, to_camera, forward: None };
    CameraColour { calibrations: vec![calibration], neutral: NEUTRAL, baseline: HEADROOM, table: None }
}

/// The noise of its counts at an ISO.
pub fn noise(iso: u32) -> SensorNoise {
    let full = FULL * 100.0 / iso.max(1) as f32;
    SensorNoise { shot: 1.0 / full, read: (READ / full).powi(2) }
}

/// How the camera is set for one picture.
pub struct Shot<'a> {
    /// Linear light (sRGB's primaries), as large as `from` says.
    pub light: &'a [V3],
    /// Pixels of that light.
    pub from: (usize, usize),
    /// Pixels of the sensor.
    pub size: (usize, usize),
    /// What the light is multiplied by.
    pub gain: f32,
    /// How far the picture has moved on the sensor.
    pub moved: (f32, f32),
    /// The lens.
    pub lens: Lens,
    /// The same for the same picture.
    pub seed: u32,
}

/// Nearly normal, variance 1: the sum of twelve bytes of hashes.
fn bell(seed: u32) -> f32 {
    let sum: u32 = (0..3u32)
        .map(|k| hash(seed.wrapping_mul(3).wrapping_add(k)))
        .map(|h| (h & 255) + (h >> 8 & 255) + (h >> 16 & 255) + (h >> 24))
        .sum();
    (sum as f32 - 1530.0) / 256.0
}

/// Places that are broken on every picture of a sensor, and what they count.
pub fn defects((w, h): (usize, usize)) -> Vec<(usize, u16)> {
    let broken = (0..16u32).map(|i| {
        let (x, y) = (hash(i * 2 + 77) as usize % (w - 20) + 10, hash(i * 2 + 78) as usize % (h - 20) + 10);
        (y * w + x, if i % 4 == 3 { LEVELS.0 } else { LEVELS.0 + 9000 + (i * 400) as u16 })
    });
    broken.collect()
}

impl Shot<'_> {
    /// The light on the sensor behind each filter, by its share of the most, without noise.
    fn exposed(&self) -> Vec<f32> {
        let ((w, h), (fw, fh)) = (self.size, self.from);
        let side = w.min(h) as f64 / 2.0;
        let corner = (w as f64).hypot(h as f64) / 2.0;
        let (colour, lens) = (colour(), self.lens);
        let to_camera: [[f32; 3]; 3] = std::array::from_fn(|r| {
            std::array::from_fn(|c| {
                (0..3).map(|k| colour.calibrations[0].to_camera[r][k] * TO_XYZ[k][c]).sum::<f64>() as f32
            })
        });
        let exposure = self.gain * 2f32.powf(-HEADROOM as f32);
        // How far from the middle the straight picture has what the lens draws at a radius, over the radius; so much is
        // drawn larger that the corners have light.
        let straight = |drawn: f64| {
            let mut r = drawn;
            for _ in 0..20 {
                let (value, slope) =
                    (r * (1.0 - lens.k1 + lens.k1 * r * r), 1.0 - lens.k1 + 3.0 * lens.k1 * r * r);
                r -= (value - drawn) / slope;
            }
            r
        };
        let corner_zoom = corner / side / straight(corner / side * lens.red.max(1.0));
        let table: Vec<f64> = (0..=2000)
            .map(|i| f64::from(i).max(0.5) / 2000.0 * 1.05 * corner / side)
            .map(|r| straight(r) / r * corner_zoom.min(1.0))
            .collect();
        let factor = |r: f64| {
            let at = (r / (1.05 * corner / side) * 2000.0).min(1999.0);
            let low = at as usize;
            table[low] + (table[low + 1] - table[low]) * (at - low as f64)
        };
        let counted = |i: usize| {
            let (x, y) = (i % w, i / w);
            let c = usize::from(FILTERS[y % 2 * 2 + x % 2]);
            let own = [lens.red, 1.0, lens.blue][c];
            let (dx, dy) = (
                x as f64 + 0.5 - w as f64 / 2.0 - f64::from(self.moved.0),
                y as f64 + 0.5 - h as f64 / 2.0 - f64::from(self.moved.1),
            );
            let r = dx.hypot(dy);
            let out = factor(r / side / own) / own;
            let u = (w as f64 / 2.0 + dx * out) * fw as f64 / w as f64 - 0.5;
            let v = (h as f64 / 2.0 + dy * out) * fh as f64 / h as f64 - 0.5;
            let light = self.at(u as f32, v as f32);
            let row = to_camera[c];
            let seen = row[0] * light.0 + row[1] * light.1 + row[2] * light.2;
            let k = lens.fall_off;
            let share = (r / corner).powi(2);
            let falls = 1.0 + share * (k[0] + share * (k[1] + share * k[2]));
            (seen * exposure * falls as f32).clamp(0.0, 1.0)
        };
        (0..w * h).into_par_iter().map(counted).collect()
    }

    /// The light between its pixels (Keys, a = −1/2).
    fn at(&self, u: f32, v: f32) -> V3 {
        let (fw, fh) = self.from;
        let (x, y) = (u.floor(), v.floor());
        let (kx, ky) = (film::cubic_weights(u - x), film::cubic_weights(v - y));
        let mut sum = V3::default();
        for (j, wy) in ky.iter().enumerate() {
            let row = (y as i64 - 1 + j as i64).clamp(0, fh as i64 - 1) as usize * fw;
            for (i, wx) in kx.iter().enumerate() {
                let column = (x as i64 - 1 + i as i64).clamp(0, fw as i64 - 1) as usize;
                sum = sum + self.light[row + column] * (wx * wy);
            }
        }
        sum
    }

    /// What the sensor counts.
    pub fn counts(&self, iso: u32) -> Vec<u16> {
        let noise = noise(iso);
        let range = f32::from(LEVELS.1 - LEVELS.0);
        let mut counts: Vec<u16> = self
            .exposed()
            .into_par_iter()
            .enumerate()
            .map(|(i, light)| {
                let chance = bell(i as u32 ^ self.seed.wrapping_mul(0x9e37_79b1));
                let seen = light + (noise.shot * light + noise.read).sqrt() * chance;
                (seen * range + f32::from(LEVELS.0) + 0.5).clamp(0.0, f32::from(LEVELS.1)) as u16
            })
            .collect();
        for (at, count) in defects(self.size) {
            counts[at] = count;
        }
        counts
    }

    /// The finished file, as the camera would write it.
    ///
    /// # Errors
    /// When it cannot be encoded.
    pub fn file(&self, taken: &CameraData) -> Result<Vec<u8>, MediaError> {
        let iso = taken.iso.unwrap_or(100);
        let size = Size::new(self.size.0 as u32, self.size.1 as u32);
        let counts = self.counts(iso);
        let colour = colour();
        let range = f32::from(LEVELS.1 - LEVELS.0);
        let values = counts.iter().map(|v| (f32::from(*v) - f32::from(LEVELS.0)) / range).collect();
        let broken = |e: &dyn std::fmt::Display| MediaError::Damaged(e.to_string());
        let pattern = Pattern::new(2, 2, &FILTERS).map_err(|e| broken(&e))?;
        let mosaic = Mosaic::new(size, pattern, values).map_err(|e| broken(&e))?;
        let raw = Raw::new(Sensor::Mosaic(mosaic), colour.clone(), None).mended();
        // The camera's own picture, half as large.
        let tone = Table::new(|light| transfer::decode(f32::from(film::tone(light)) / 255.0));
        let developed = develop(&raw, &raw.camera, 1, &Look::of_tone(Some(tone)));
        let picture = Picture::developed(developed, Orientation::UPRIGHT).map_err(|e| broken(&e))?;
        let source = Pyramid::new(picture);
        let plan = Plan::new(Vec::new(), rallo_engine::Source::size(&source)).map_err(|e| broken(&e))?;
        let program = plan.program(1.0);
        let preview = program
            .render(&source, program.size().rect(), OutputProfile::Srgb.colour())
            .map_err(|e| broken(&e))?;
        let noise = Some(noise(iso));
        let (levels, filters) = (LEVELS, FILTERS);
        mosaic_dng(MosaicDng {
            size,
            counts,
            levels,
            filters,
            colour: &colour,
            noise,
            taken,
            preview: &preview,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_engine::Source;
    use rallo_media::{FileSource, Format};

    fn taken(iso: u32) -> CameraData {
        let still = crate::stills::raw_catalogue(1).swap_remove(0);
        CameraData { iso: Some(iso), ..still.camera().clone() }
    }

    fn shot(light: &[V3], from: (usize, usize), lens: Lens) -> Shot<'_> {
        Shot { light, from, size: (400, 260), gain: 1.0, moved: (0.0, 0.0), lens, seed: 3 }
    }

    const STRAIGHT: Lens = Lens { k1: 0.0, red: 1.0, blue: 1.0, fall_off: [0.0; 3] };

    #[test]
    fn the_file_is_camera_raw_that_shows_the_colours_that_were_there() {
        let light = vec![V3(0.4, 0.2, 0.1); 100 * 65];
        let file = shot(&light, (100, 65), STRAIGHT).file(&taken(400)).unwrap();
        let source = FileSource::from_bytes(file).unwrap();
        assert!(source.format() == Format::Raw && !source.is_preview());
        let camera = source.camera();
        assert_eq!((camera.camera.as_deref(), camera.iso), (Some("Marlow 24 R"), Some(400)));
        assert_eq!((camera.focal_length, camera.aperture), (Some(35.0), Some(4.0)));
        let told = source.raw().unwrap().raw.noise().unwrap();
        assert!((told.shot / noise(400).shot - 1.0).abs() < 1e-3);
        let settings: rallo_engine::DecodeSettings =
            serde_json::from_str(r#"{"raw": {"look": "linear"}}"#).unwrap();
        let source = source.decoding_by(&settings);
        let program = Plan::new(Vec::new(), source.size()).unwrap().program(0.25);
        let (_, pixels) = program.render_working(&source, program.size().rect()).unwrap();
        let mean: [f32; 3] =
            std::array::from_fn(|c| pixels.iter().map(|p| p[c]).sum::<f32>() / pixels.len() as f32);
        // Linear sRGB in BT.2020 (ITU-R BT.2087-0).
        let wanted = [
            0.6274 * 0.4 + 0.3293 * 0.2 + 0.0433 * 0.1,
            0.0691 * 0.4 + 0.9195 * 0.2 + 0.0114 * 0.1,
            0.0164 * 0.4 + 0.0880 * 0.2 + 0.8956 * 0.1,
        ];
        for c in 0..3 {
            assert!((mean[c] / wanted[c] - 1.0).abs() < 0.02, "{mean:?} instead of {wanted:?}");
        }
    }

    #[test]
    fn a_line_is_bent_and_the_profile_of_the_lens_straightens_it() {
        let (w, h) = (800usize, 520usize);
        let light: Vec<V3> = (0..w * h)
            .map(|i| if (i / w).abs_diff(60) < 8 { V3(0.7, 0.7, 0.7) } else { V3(0.05, 0.05, 0.05) })
            .collect();
        let file = shot(&light, (w, h), FIELD).file(&taken(100)).unwrap();
        let source = FileSource::from_bytes(file).unwrap();
        rallo_engine::lens::add(&lens_profiles()).unwrap();
        let kind = rallo_engine::step_kind("lens_profile").unwrap();
        let step = kind.parse(&serde_json::Map::new()).unwrap();
        let with = source.camera().taken_with();
        let step = step.for_frame(&|| with.clone()).unwrap();
        // The middle of the line in a column, by its light.
        let height = |steps: Vec<rallo_engine::Settings>, x: usize| {
            let program = Plan::for_picture(steps, &source).unwrap().program(1.0);
            let (size, pixels) = program.render_working(&source, program.size().rect()).unwrap();
            let (mut sum, mut weights) = (0.0, 0.0);
            for y in 0..size.height as usize / 3 {
                let light = f64::from(pixels[y * size.width as usize + x][1] - 0.12).max(0.0);
                sum += light * y as f64;
                weights += light;
            }
            sum / weights
        };
        let bent = height(Vec::new(), 200) - height(Vec::new(), 20);
        let by_profile = rallo_engine::Settings::from(step);
        let left = height(vec![by_profile.clone()], 200) - height(vec![by_profile], 20);
        assert!(bent.abs() > 2.0 && left.abs() < 0.3, "{bent} before, {left} after");
    }

    #[test]
    fn noise_grows_with_iso_and_broken_pixels_stay_where_they_are() {
        let light = vec![V3(0.2, 0.2, 0.2); 100 * 65];
        let spread = |iso: u32| {
            let counts = shot(&light, (100, 65), STRAIGHT).counts(iso);
            // Of the greens of even rows, far from the broken ones.
            let greens: Vec<f64> = (0..260)
                .step_by(2)
                .flat_map(|y| (1..400).step_by(2).map(move |x| y * 400 + x))
                .map(|i| f64::from(counts[i]))
                .filter(|v| (1000.0..6000.0).contains(v))
                .collect();
            let mean = greens.iter().sum::<f64>() / greens.len() as f64;
            let variance = greens.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / greens.len() as f64;
            let share = (mean - f64::from(LEVELS.0)) / f64::from(LEVELS.1 - LEVELS.0);
            let told = noise(iso);
            let wanted = f64::from(told.shot) * share + f64::from(told.read);
            (variance / f64::from(LEVELS.1 - LEVELS.0).powi(2)) / wanted
        };
        for iso in [400, 6400] {
            assert!((spread(iso) - 1.0).abs() < 0.05, "{iso}: {}", spread(iso));
        }
        let all = |seed: u32| Shot { seed, ..shot(&light, (100, 65), STRAIGHT) }.counts(100);
        let (a, b) = (all(1), all(2));
        assert!(defects((400, 260)).iter().all(|(at, count)| a[*at] == *count && b[*at] == *count));
    }
}
