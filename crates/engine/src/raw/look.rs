//! The look of a camera raw before the first line: tables of hue and saturation, and a tone.
//!
//! The tables are those of Adobe's DNG 1.7 (chapters 6 and 7, "hue/saturation/value mapping"): over hue and saturation, and
//! over value where they are deep, each with a turn of the hue and a factor for the two others, on linear light of ROMM RGB's
//! primaries.

use crate::colour::space::{apply, multiply};
use crate::colour::transfer::{self, Table};
use crate::colour::working::{Matrix, TO_XYZ};
use crate::raw::finish::{BLOCK, Block, one_by_one};
use multiversion::multiversion;
use std::sync::Arc;

/// XYZ under D65 to linear ROMM RGB: to D50 (linear Bradford), and to its primaries (ISO 22028-2).
const D65_TO_D50: Matrix = [
    [1.047_811_2, 0.022_886_6, -0.050_127],
    [0.029_542_4, 0.990_484_4, -0.017_049_1],
    [-0.009_234_5, 0.015_043_6, 0.752_131_6],
];
const XYZ_TO_ROMM: Matrix = [
    [1.345_943_3, -0.255_607_5, -0.051_111_8],
    [-0.544_598_9, 1.508_167_3, 0.020_535_1],
    [0.0, 0.0, 1.211_812_8],
];

/// One entry of a table.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Shift {
    /// Degrees the hue is turned by.
    pub hue: f32,
    /// What saturation is multiplied by.
    pub saturation: f32,
    /// What value is multiplied by.
    pub value: f32,
}

/// A table over hue, saturation and value.
#[derive(Clone, Debug, PartialEq)]
pub struct HueTable {
    hues: usize,
    saturations: usize,
    values: usize,
    /// Saturation after saturation, hue after hue, value after value.
    entries: Vec<Shift>,
    /// Whether value is looked up on the perceptual scale.
    encoded: bool,
}

impl HueTable {
    /// From entries in the order of the standard; none where their number does not fit.
    pub fn new(
        (hues, saturations, values): (usize, usize, usize),
        entries: Vec<Shift>,
        encoded: bool,
    ) -> Option<Self> {
        let count = hues.checked_mul(saturations)?.checked_mul(values)?;
        let fits = hues >= 1 && saturations >= 2 && values >= 1 && count == entries.len();
        let is_sane =
            |e: &Shift| [e.hue, e.saturation, e.value].iter().all(|v| v.is_finite() && v.abs() < 1e4);
        (fits && entries.iter().all(is_sane)).then_some(Self { hues, saturations, values, entries, encoded })
    }

    /// Between this table and another of the same shape; this one alone where they are not alike.
    pub fn mixed(&self, other: &Self, share: f64) -> Self {
        let shape = |t: &Self| (t.hues, t.saturations, t.values, t.encoded);
        if shape(self) != shape(other) {
            return self.clone();
        }
        let share = share as f32;
        let mix = |a: f32, b: f32| a * share + b * (1.0 - share);
        let entries = self.entries.iter().zip(&other.entries);
        let entries = entries.map(|(a, b)| Shift {
            hue: mix(a.hue, b.hue),
            saturation: mix(a.saturation, b.saturation),
            value: mix(a.value, b.value),
        });
        Self { entries: entries.collect(), ..self.clone() }
    }

    /// What is to be done at a hue (0 ..= 6), saturation and value.
    fn at(&self, hue: f32, saturation: f32, value: f32) -> Shift {
        let across = |at: f32, count: usize| {
            let at = at.clamp(0.0, 1.0) * (count - 1) as f32;
            let low = (at as usize).min(count.saturating_sub(2));
            (low, (low + 1).min(count - 1), at - low as f32)
        };
        let around = (hue / 6.0).rem_euclid(1.0) * self.hues as f32;
        let first = around as usize % self.hues;
        let hues = (first, (first + 1) % self.hues, around - around.floor());
        let value = if self.encoded { transfer::encode(value.min(1.0)) } else { value };
        let (saturations, values) = (across(saturation, self.saturations), across(value, self.values));
        let mut sum = Shift { hue: 0.0, saturation: 0.0, value: 0.0 };
        for (v, by_value) in [(values.0, 1.0 - values.2), (values.1, values.2)] {
            for (h, by_hue) in [(hues.0, 1.0 - hues.2), (hues.1, hues.2)] {
                for (s, by_saturation) in
                    [(saturations.0, 1.0 - saturations.2), (saturations.1, saturations.2)]
                {
                    let entry = self.entries[(v * self.hues + h) * self.saturations + s];
                    let weight = by_value * by_hue * by_saturation;
                    sum.hue += entry.hue * weight;
                    sum.saturation += entry.saturation * weight;
                    sum.value += entry.value * weight;
                }
            }
        }
        sum
    }

    fn run(&self, rgb: [f32; 3]) -> [f32; 3] {
        let [r, g, b] = rgb.map(|v| v.max(0.0));
        let value = r.max(g).max(b);
        let apart = value - r.min(g).min(b);
        if value <= 0.0 {
            return rgb;
        }
        let saturation = apart / value;
        let hue = if apart <= 0.0 {
            0.0
        } else if value == r {
            ((g - b) / apart).rem_euclid(6.0)
        } else if value == g {
            (b - r) / apart + 2.0
        } else {
            (r - g) / apart + 4.0
        };
        let shift = self.at(hue, saturation, value);
        let hue = (hue + shift.hue / 60.0).rem_euclid(6.0);
        let saturation = (saturation * shift.saturation).clamp(0.0, 1.0);
        let value = value * shift.value;
        let sector = hue as usize % 6;
        let part = hue - hue.floor();
        let low = value * (1.0 - saturation);
        let falling = value * (1.0 - saturation * part);
        let rising = value * (1.0 - saturation * (1.0 - part));
        match sector {
            0 => [value, rising, low],
            1 => [falling, value, low],
            2 => [low, value, rising],
            3 => [low, falling, value],
            4 => [rising, low, value],
            _ => [value, low, falling],
        }
    }
}

/// What a file or a profile beside it says of how its colours are to look.
#[derive(Clone, Default)]
pub struct ColourProfile {
    /// Corrections of hue and saturation, with the temperature of the light each is for: one or two.
    pub calibrations: Vec<(f64, HueTable)>,
    /// The look on top of that.
    pub look: Option<HueTable>,
    /// Light to light.
    pub tone: Option<Table>,
}

impl ColourProfile {
    /// Whether it says anything.
    pub fn is_empty(&self) -> bool {
        self.calibrations.is_empty() && self.look.is_none() && self.tone.is_none()
    }

    /// The correction for a light, mixed as the camera's matrices are.
    fn calibration(&self, kelvin: f64) -> Option<HueTable> {
        let by_light = |(a, b): (&(f64, HueTable), &(f64, HueTable))| {
            let share = (1.0 / kelvin - 1.0 / b.0) / (1.0 / a.0 - 1.0 / b.0);
            a.1.mixed(&b.1, if share.is_finite() { share.clamp(0.0, 1.0) } else { 0.5 })
        };
        match &self.calibrations[..] {
            [] => None,
            [(_, only)] => Some(only.clone()),
            [a, .., b] => Some(by_light(if a.0 < b.0 { (a, b) } else { (b, a) })),
        }
    }
}

/// A tone.
#[derive(Clone)]
pub enum Tone {
    /// Each channel by itself.
    Channels(Table),
    /// The brightest and the darkest channel by the table, and the third between them as before, so that hues stay.
    HueKept(Table),
}

/// All of it, ready to be applied to working values.
#[derive(Clone, Default)]
pub struct Look {
    tables: Option<Arc<Tables>>,
    tone: Option<Tone>,
}

struct Tables {
    to_romm: Matrix,
    from_romm: Matrix,
    before_exposure: Option<HueTable>,
    after_exposure: Option<HueTable>,
}

impl Look {
    /// Nothing but a tone, each channel by itself.
    pub fn of_tone(tone: Option<Table>) -> Self {
        Self { tables: None, tone: tone.map(Tone::Channels) }
    }

    /// Colours as they were measured: corrected where the profile says so, and bright light brought softly to white.
    pub fn neutral(profile: &ColourProfile, kelvin: f64) -> Self {
        Self { tables: tables(profile.calibration(kelvin), None), tone: Some(Tone::Channels(shoulder())) }
    }

    /// As the profile means it; where it has no tone, by `tone`.
    pub fn of_profile(profile: &ColourProfile, kelvin: f64, tone: Option<Table>) -> Self {
        let own = profile.tone.clone().map(Tone::HueKept);
        Self {
            tables: tables(profile.calibration(kelvin), profile.look.clone()),
            tone: own.or(tone.map(Tone::Channels)),
        }
    }

    /// Changes working light to how it looks, where `exposure` multiplies light.
    pub(super) fn run(&self, block: &mut Block, exposure: f32) {
        match &self.tables {
            None => exposed(block, exposure),
            Some(tables) => one_by_one(block, |light| tables.run(light, exposure)),
        }
        match &self.tone {
            None => {}
            Some(Tone::Channels(table)) => toned(table, block),
            Some(Tone::HueKept(table)) => hue_kept(table, block),
        }
    }
}

fn tables(before_exposure: Option<HueTable>, after_exposure: Option<HueTable>) -> Option<Arc<Tables>> {
    if before_exposure.is_none() && after_exposure.is_none() {
        return None;
    }
    let to_romm = multiply(&XYZ_TO_ROMM, &multiply(&D65_TO_D50, &TO_XYZ));
    let from_romm = inverse(&to_romm);
    Some(Arc::new(Tables { to_romm, from_romm, before_exposure, after_exposure }))
}

fn inverse(m: &Matrix) -> Matrix {
    let wide = m.map(|row| row.map(f64::from));
    super::camera::inverse(&wide).map_or(*m, |m| m.map(|row| row.map(|v| v as f32)))
}

impl Tables {
    fn run(&self, light: [f32; 3], exposure: f32) -> [f32; 3] {
        let mut rgb = apply(&self.to_romm, light);
        if let Some(table) = &self.before_exposure {
            rgb = table.run(rgb);
        }
        rgb = rgb.map(|v| v * exposure);
        if let Some(table) = &self.after_exposure {
            rgb = table.run(rgb);
        }
        apply(&self.from_romm, rgb).map(|v| v.max(0.0))
    }
}

#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn exposed(block: &mut Block, exposure: f32) {
    for v in block.as_flattened_mut() {
        *v = (*v * exposure).max(0.0);
    }
}

#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn toned(table: &Table, block: &mut Block) {
    for plane in block {
        table.apply(plane);
    }
}

#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2", "x86_64+sse4.1", "aarch64+neon"))]
fn hue_kept(table: &Table, block: &mut Block) {
    let [mut high, mut low] = [[0f32; BLOCK]; 2];
    for i in 0..BLOCK {
        let [r, g, b] = [block[0][i], block[1][i], block[2][i]];
        high[i] = r.max(g).max(b);
        low[i] = r.min(g).min(b);
    }
    let (mut new_high, mut new_low) = (high, low);
    table.apply(&mut new_high);
    table.apply(&mut new_low);
    for plane in block {
        for i in 0..BLOCK {
            let apart = high[i] - low[i];
            let stretch = if apart > 0.0 { (new_high[i] - new_low[i]) / apart } else { 0.0 };
            plane[i] = new_low[i] + (plane[i] - low[i]) * stretch;
        }
    }
}

/// From here on bright light is brought softly to white.
const SHOULDER: f32 = 0.9;

fn shoulder() -> Table {
    Table::new(|light| {
        let over = (light - SHOULDER).max(0.0) / (1.0 - SHOULDER);
        if over == 0.0 { light } else { SHOULDER + (1.0 - SHOULDER) * (1.0 - (-over).exp()) }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn even(shift: Shift) -> HueTable {
        HueTable::new((6, 2, 1), vec![shift; 12], false).unwrap()
    }

    #[test]
    fn a_table_turns_hues_and_weakens_colours() {
        let same = even(Shift { hue: 0.0, saturation: 1.0, value: 1.0 });
        for rgb in [[0.8, 0.3, 0.1], [0.1, 0.6, 0.5], [0.2, 0.2, 0.2], [1.4, 0.4, 1.0]] {
            let found = same.run(rgb);
            assert!((0..3).all(|c| (found[c] - rgb[c]).abs() < 1e-6), "{rgb:?} {found:?}");
        }
        // A third of the circle: red is green, green is blue.
        let third = even(Shift { hue: 120.0, saturation: 1.0, value: 1.0 });
        let found = third.run([0.8, 0.3, 0.1]);
        assert!((0..3).all(|c| (found[c] - [0.1, 0.8, 0.3][c]).abs() < 1e-6), "{found:?}");
        let pale = even(Shift { hue: 0.0, saturation: 0.5, value: 2.0 });
        let found = pale.run([0.4, 0.2, 0.1]);
        assert!((0..3).all(|c| (found[c] - [0.8, 0.6, 0.5][c]).abs() < 1e-6), "{found:?}");
        // Only strong colours, where the table says so.
        let grey = Shift { hue: 0.0, saturation: 1.0, value: 1.0 };
        let strong = Shift { value: 0.5, ..grey };
        let table = HueTable::new((1, 2, 1), vec![grey, strong], false).unwrap();
        assert_eq!(table.run([0.5; 3]), [0.5; 3]);
        assert!((table.run([0.5, 0.0, 0.0])[0] - 0.25).abs() < 1e-6);
        assert!(HueTable::new((6, 2, 1), vec![grey; 11], false).is_none());
    }

    #[test]
    fn greys_stay_and_a_table_that_changes_nothing_changes_nothing() {
        let profile = ColourProfile {
            calibrations: vec![(5000.0, even(Shift { hue: 0.0, saturation: 1.0, value: 1.0 }))],
            ..ColourProfile::default()
        };
        let look = Look::of_profile(&profile, 5000.0, None);
        for light in [[0.2, 0.2, 0.2], [0.5, 0.3, 0.1], [0.05, 0.2, 0.4]] {
            let mut block = light.map(|v| [v; BLOCK]);
            look.run(&mut block, 1.0);
            let found = block.map(|plane| plane[BLOCK - 1]);
            assert!((0..3).all(|c| (found[c] - light[c]).abs() < 2e-3), "{light:?} {found:?}");
        }
    }

    #[test]
    fn between_two_lights_the_corrections_are_mixed() {
        let shift = |saturation| even(Shift { hue: 0.0, saturation, value: 1.0 });
        let profile = ColourProfile {
            calibrations: vec![(6504.0, shift(1.0)), (2856.0, shift(2.0))],
            ..ColourProfile::default()
        };
        let at = |kelvin: f64| profile.calibration(kelvin).unwrap().entries[0].saturation;
        assert_eq!((at(2000.0), at(9000.0)), (2.0, 1.0));
        let middle = 2.0 / (1.0 / 2856.0 + 1.0 / 6504.0);
        assert!((at(middle) - 1.5).abs() < 1e-5);
    }

    #[test]
    fn a_tone_that_keeps_hues_keeps_the_middle_channel_in_its_place() {
        let table = Table::new(|v| v * v);
        let mut block = [0.8, 0.5, 0.2].map(|v| [v; BLOCK]);
        hue_kept(&table, &mut block);
        let [r, g, b] = block.map(|plane| plane[0]);
        assert!((r - 0.64).abs() < 1e-4 && (b - 0.04).abs() < 1e-4 && (g - 0.34).abs() < 1e-4);
        let soft = shoulder();
        assert!((soft.at(0.5) - 0.5).abs() < 1e-4 && soft.at(1.0) < 1.0 && soft.at(4.0) <= 1.0);
    }
}
