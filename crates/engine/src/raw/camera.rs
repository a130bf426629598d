//! The colour of a camera: what its filters let through, and how that becomes colours for the eye.
//!
//! After the model of Adobe's DNG 1.7, chapter 6: matrices for one or two kinds of light, between which is interpolated by the
//! light's temperature.

use crate::colour::light::Light;
use crate::colour::working::Matrix;
use crate::raw::InputTable;
use std::sync::Arc;

type Matrix64 = [[f64; 3]; 3];

/// How a camera sees under one kind of light.
#[derive(Clone, Debug, PartialEq)]
pub struct Calibration {
    /// The light's temperature in kelvin.
    pub kelvin: f64,
    /// CIE XYZ to the camera's own red, green and blue.
    pub to_camera: Matrix64,
    /// Balanced camera values to XYZ under D50, where the maker gives it: it goes before the other.
    pub forward: Option<Matrix64>,
}

/// What a file says about its camera's colour.
#[derive(Clone, Debug, PartialEq)]
pub struct CameraColour {
    /// One or two kinds of light.
    pub calibrations: Vec<Calibration>,
    /// What the camera counts of something neutral, as it was set when the picture was taken; green is 1.
    pub neutral: [f64; 3],
    /// Stops that the picture is to be brighter than the sensor's own white says.
    pub baseline: f64,
    /// A profile of one's own, which goes before the matrices where colours are made; they still tell the light.
    pub table: Option<Arc<InputTable>>,
}

/// D65 and D50 as chromaticities.
const D65: [f64; 2] = [0.3127, 0.3290];
const D50: [f64; 2] = [0.3457, 0.3585];

/// XYZ to cone responses (Bradford).
const CONES: Matrix64 = [[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]];

/// XYZ under D65 to linear light on BT.2020's primaries (ITU-R BT.2020-2).
const TO_WORKING: Matrix64 = [
    [1.716_651_2, -0.355_670_8, -0.253_366_3],
    [-0.666_684_4, 1.616_481_2, 0.015_768_5],
    [0.017_639_9, -0.042_770_6, 0.942_103_1],
];

/// Standard sRGB-like filters, for a camera of which nothing is known: XYZ under D65 to linear sRGB.
const UNKNOWN: Matrix64 = [
    [3.2404542, -1.5371385, -0.4985314],
    [-0.9692660, 1.8760108, 0.0415560],
    [0.0556434, -0.2040259, 1.0572252],
];

fn product(a: &Matrix64, b: &Matrix64) -> Matrix64 {
    std::array::from_fn(|r| std::array::from_fn(|c| (0..3).map(|k| a[r][k] * b[k][c]).sum()))
}

fn applied(m: &Matrix64, v: [f64; 3]) -> [f64; 3] {
    m.map(|row| row.iter().zip(v).map(|(m, v)| m * v).sum())
}

pub(super) fn inverse(m: &Matrix64) -> Option<Matrix64> {
    let minor = |r: usize, c: usize| {
        let (r, c) = ([(r + 1) % 3, (r + 2) % 3], [(c + 1) % 3, (c + 2) % 3]);
        m[r[0]][c[0]] * m[r[1]][c[1]] - m[r[0]][c[1]] * m[r[1]][c[0]]
    };
    let whole: f64 = (0..3).map(|c| m[0][c] * minor(0, c)).sum();
    (whole.is_finite() && whole.abs() > 1e-9)
        .then(|| std::array::from_fn(|r| std::array::from_fn(|c| minor(c, r) / whole)))
}

/// XYZ of a chromaticity with a luminance of 1.
fn xyz([x, y]: [f64; 2]) -> [f64; 3] {
    [x / y, 1.0, (1.0 - x - y) / y]
}

/// Colours seen under one white as they look under another.
fn adapted(from: [f64; 3], to: [f64; 3]) -> Matrix64 {
    let (seen, wanted) = (applied(&CONES, from), applied(&CONES, to));
    let scale: Matrix64 =
        std::array::from_fn(|r| std::array::from_fn(|c| if r == c { wanted[r] / seen[r] } else { 0.0 }));
    let back = inverse(&CONES).unwrap_or(CONES);
    product(&back, &product(&scale, &CONES))
}

/// Correlated colour temperature of a chromaticity (C. S. McCamy, 1992), within what photographs are taken under.
fn kelvin([x, y]: [f64; 2]) -> f64 {
    let n = (x - 0.3320) / (0.1858 - y);
    let kelvin = 449.0 * n.powi(3) + 3525.0 * n.powi(2) + 6823.3 * n + 5520.33;
    if kelvin.is_finite() { kelvin.clamp(1500.0, 25_000.0) } else { 6504.0 }
}

impl CameraColour {
    /// Whether the matrices can be used at all.
    pub fn is_known(&self) -> bool {
        self.calibrations.iter().any(|c| inverse(&c.to_camera).is_some())
    }

    /// A mix of what is given for each light, by the reciprocal of the temperature.
    fn mixed(&self, kelvin: f64, of: impl Fn(&Calibration) -> Option<Matrix64>) -> Option<Matrix64> {
        let mut given: Vec<(f64, Matrix64)> =
            self.calibrations.iter().filter_map(|c| Some((c.kelvin, of(c)?))).collect();
        given.sort_by(|a, b| a.0.total_cmp(&b.0));
        match given[..] {
            [] => None,
            [(_, only)] => Some(only),
            [(warm, a), .., (cool, b)] => {
                let share = (1.0 / kelvin - 1.0 / cool) / (1.0 / warm - 1.0 / cool);
                let share = if share.is_finite() { share.clamp(0.0, 1.0) } else { 0.5 };
                Some(std::array::from_fn(|r| {
                    std::array::from_fn(|c| a[r][c] * share + b[r][c] * (1.0 - share))
                }))
            }
        }
    }

    /// What is counted of something neutral, where that makes sense.
    fn counted(&self) -> [f64; 3] {
        self.neutral.map(|n| if n.is_finite() && n > 1e-6 { n } else { 1.0 })
    }

    fn to_camera(&self, kelvin: f64) -> Matrix64 {
        self.mixed(kelvin, |c| inverse(&c.to_camera).map(|_| c.to_camera)).unwrap_or(UNKNOWN)
    }

    /// The chromaticity of the light that the camera was set to.
    pub fn white(&self) -> [f64; 2] {
        let mut white = D50;
        for _ in 0..30 {
            let Some(back) = inverse(&self.to_camera(kelvin(white))) else { return D65 };
            let [x, y, z] = applied(&back, self.counted());
            let sum = x + y + z;
            if !(sum.is_finite() && x > 0.0 && y > 0.0 && sum > 0.0) {
                return D65;
            }
            let next = [x / sum, y / sum];
            let still = (next[0] - white[0]).abs() + (next[1] - white[1]).abs() < 1e-7;
            white = next;
            if still {
                break;
            }
        }
        white
    }

    /// Temperature of that light in kelvin.
    pub fn kelvin(&self) -> f64 {
        kelvin(self.white())
    }

    /// That light, as it is described.
    pub fn light(&self) -> Light {
        Light::of(self.white())
    }

    /// The same camera, set to another light.
    pub fn under(&self, light: Light) -> Self {
        let white = light.chromaticity();
        let counted = applied(&self.to_camera(kelvin(white)), xyz(white));
        // A light that a filter does not see at all is none.
        let is_seen = counted.iter().all(|c| c.is_finite() && *c > 1e-6);
        let neutral = if is_seen { counted.map(|c| c / counted[1]) } else { self.neutral };
        Self { neutral, ..self.clone() }
    }

    /// The light under which something of which the camera counts this is neutral.
    pub fn light_of(&self, counted: [f64; 3]) -> Light {
        Self { neutral: counted.map(|c| c / counted[1].max(1e-9)), ..self.clone() }.light()
    }

    /// What each channel is multiplied by so that neutral things count alike; the least is 1.
    pub fn gains(&self) -> [f32; 3] {
        let raw = self.counted().map(|n| 1.0 / n);
        let least = raw.iter().copied().fold(f64::INFINITY, f64::min);
        raw.map(|g| (g / least) as f32)
    }

    /// Balanced camera values to working values; neutral stays neutral.
    pub fn to_working(&self) -> Matrix {
        let white = self.white();
        let forward = self.mixed(kelvin(white), |c| c.forward);
        let to_xyz = match forward {
            Some(forward) => product(&adapted(xyz(D50), xyz(D65)), &forward),
            None => {
                let counted = self.counted();
                let back = inverse(&self.to_camera(kelvin(white))).unwrap_or(UNKNOWN);
                let unbalanced: Matrix64 =
                    std::array::from_fn(|r| std::array::from_fn(|c| back[r][c] * counted[c]));
                product(&adapted(xyz(white), xyz(D65)), &unbalanced)
            }
        };
        let matrix = product(&TO_WORKING, &to_xyz);
        // Each row adds up to 1, so that neutral stays so to the last digit, whatever the matrices were rounded to.
        matrix.map(|row| {
            let sum: f64 = row.iter().sum();
            let scale = if sum.abs() > 1e-6 { 1.0 / sum } else { 1.0 };
            row.map(|v| (v * scale) as f32)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A camera whose filters are linear sRGB's own.
    fn plain(neutral: [f64; 3]) -> CameraColour {
        let calibration = Calibration { kelvin: 6504.0, to_camera: UNKNOWN, forward: None };
        CameraColour { calibrations: vec![calibration], neutral, baseline: 0.0, table: None }
    }

    #[test]
    fn a_camera_that_sees_srgb_shows_srgb() {
        let camera = plain([1.0; 3]);
        assert!((camera.kelvin() - 6504.0).abs() < 30.0, "{}", camera.kelvin());
        // Linear sRGB red in BT.2020 (ITU-R BT.2087-0).
        let red = camera.to_working().map(|row| row[0]);
        for (found, wanted) in red.iter().zip([0.6274, 0.0691, 0.0164]) {
            assert!((found - wanted).abs() < 2e-3, "{red:?}");
        }
        assert_eq!(camera.gains(), [1.0; 3]);
    }

    #[test]
    fn neutral_things_are_neutral_under_every_light() {
        for neutral in [[0.5, 1.0, 0.7], [0.8, 1.0, 0.4], [0.45, 1.0, 0.9]] {
            let camera = plain(neutral);
            for row in camera.to_working() {
                assert!((row.iter().sum::<f32>() - 1.0).abs() < 1e-5);
            }
            let gains = camera.gains();
            let balanced = [0, 1, 2].map(|c| neutral[c] as f32 * gains[c]);
            assert!(balanced.iter().all(|v| (v - balanced[0]).abs() < 1e-5), "{balanced:?}");
        }
    }

    #[test]
    fn between_two_lights_the_matrices_are_mixed() {
        let warm =
            Calibration { kelvin: 2856.0, to_camera: UNKNOWN.map(|row| row.map(|v| v * 0.5)), forward: None };
        let cool = Calibration { kelvin: 6504.0, to_camera: UNKNOWN, forward: None };
        let camera =
            CameraColour { calibrations: vec![cool, warm], neutral: [1.0; 3], baseline: 0.0, table: None };
        assert_eq!(camera.to_camera(2856.0)[0][0], UNKNOWN[0][0] * 0.5);
        assert_eq!(camera.to_camera(20_000.0)[0][0], UNKNOWN[0][0]);
        let middle = 2.0 / (1.0 / 2856.0 + 1.0 / 6504.0);
        assert!((camera.to_camera(middle)[0][0] - UNKNOWN[0][0] * 0.75).abs() < 1e-9);
    }

    #[test]
    fn a_camera_can_be_set_to_any_light_and_a_neutral_thing_tells_it() {
        let camera = plain([1.0; 3]);
        for (kelvin, duv) in [(2900.0, 0.0), (4200.0, 0.01), (6504.0, 0.0032), (9000.0, -0.005)] {
            let light = Light { kelvin, duv };
            let set = camera.under(light);
            let found = set.light();
            assert!(
                (found.kelvin / kelvin - 1.0).abs() < 2e-3 && (found.duv - duv).abs() < 2e-4,
                "{found:?}"
            );
            // What it counts of a grey card under that light tells the light.
            let told = camera.light_of(set.neutral.map(|n| n * 0.3));
            assert!((told.kelvin / kelvin - 1.0).abs() < 2e-3 && (told.duv - duv).abs() < 2e-4, "{told:?}");
        }
        // In warm light red counts more and blue less.
        let warm = camera.under(Light { kelvin: 2900.0, duv: 0.0 }).neutral;
        assert!(warm[0] > 1.2 && warm[2] < 0.6, "{warm:?}");
    }

    #[test]
    fn nonsense_gives_a_picture_all_the_same() {
        let broken = Calibration { kelvin: 6504.0, to_camera: [[0.0; 3]; 3], forward: None };
        let camera = CameraColour {
            calibrations: vec![broken],
            neutral: [0.0, f64::NAN, 1.0],
            baseline: 0.0,
            table: None,
        };
        assert!(!camera.is_known());
        assert!(camera.to_working().iter().flatten().all(|v| v.is_finite()));
        assert!(camera.gains().iter().all(|v| v.is_finite()));
    }
}
