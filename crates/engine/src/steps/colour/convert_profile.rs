//! Convert profile: the colour space results leave in.
//!
//! For the spaces that are built in, colours they cannot show are brought to their edge (components of linear light in
//! the space's own primaries below 0 become 0); values above white stay for the steps after it. For a profile from a
//! file each pixel goes there and back through the colour library, so that what is seen is what the profile shows.
//! The results themselves are encoded in the profile, and carry it.

use crate::colour::icc::Intent;
use crate::colour::space::{OutputColour, OutputProfile};
use crate::colour::working::Matrix;
use crate::ops::planes::{CHUNK, Planes};
use crate::ops::pointwise::{PixelOp, PointOp};
use crate::step::{Kind, Op, ParamError, Place, Step, file_bytes, step, values_of};
use serde_json::Value;
use std::sync::{Arc, LazyLock, Mutex};

step! {
    /// Converts to the colour space results leave in, and embeds its profile; deliveries that name no
    /// colour space of their own follow it. Intent and black point matter for profiles from files, such as
    /// a printer's.
    pub struct ConvertProfile: PartialEq {
        id: "convert_profile",
        title: "Convert profile",
        group: "colour",
        words: [
            "profile", "icc", "convert", "colour space", "color space", "srgb", "p3", "oprgb", "romm",
            "rec2020", "gamut", "print", "proof", "intent",
        ],
        neutral: r#"{"profile": "rec2020"}"#,
        starter: r#"{"profile": "srgb"}"#,
        facts: { starts_as_last_time: true },
    }
    parameters {
        /// The colour space: sRGB, Display P3, opRGB (IEC 61966-2-5), ROMM RGB, Rec. 2020, or a profile
        /// from a file.
        profile: String = "srgb".into(), Kind::Choice(&PROFILES);
        /// The profile, an .icc file for RGB; it is kept inside the recipe.
        file: String = String::new(), Kind::File(LARGEST);
        /// What becomes of colours a profile from a file cannot show.
        intent: String = "relative".into(), Kind::Choice(&["perceptual", "relative", "saturation", "absolute"]);
        /// Black point compensation: black becomes the darkest the profile shows, and shadows keep their
        /// steps.
        black_point: bool = true, Kind::Flag;
    }
}

const PROFILES: [&str; 6] = ["srgb", "display-p3", "op-rgb", "romm-rgb", "rec2020", "file"];

/// Largest profile as text, in bytes.
const LARGEST: usize = 8_000_000;

type LastProfile = Option<(ConvertProfile, Arc<OutputColour>)>;
/// The last profile from a file that was read: one recipe asks for it once for every tile.
static LAST: LazyLock<Mutex<LastProfile>> = LazyLock::new(|| Mutex::new(None));

impl ConvertProfile {
    fn read_file(&self) -> Result<Arc<OutputColour>, String> {
        let mut last = LAST.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        if let Some((step, colour)) = &*last
            && step == self
        {
            return Ok(colour.clone());
        }
        let icc = file_bytes(&self.file).map_err(|e| e.to_string())?;
        let intent =
            Intent::ALL.iter().find(|(n, _)| *n == self.intent).map_or(Intent::Relative, |(_, i)| *i);
        let colour =
            Arc::new(OutputColour::from_file(&icc, intent, self.black_point).map_err(|e| e.to_string())?);
        *last = Some((self.clone(), colour.clone()));
        Ok(colour)
    }
}

impl Step for ConvertProfile {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        match (self.profile.as_str(), self.file.is_empty()) {
            ("file", true) => "Convert to a {profile} still to be chosen.".into(),
            ("file", false) if self.black_point => {
                "Convert to a profile from a {profile}, intent {intent}, black point kept.".into()
            }
            ("file", false) => "Convert to a profile from a {profile}, intent {intent}.".into(),
            _ => "Convert to {profile}.".into(),
        }
    }
    fn check(&self) -> Result<(), ParamError> {
        if self.profile != "file" || self.file.is_empty() {
            return Ok(());
        }
        self.read_file().map(drop).map_err(|message| ParamError::new("file", message))
    }
    fn works(&self, _: &Place) -> bool {
        !(self.profile == "rec2020" || (self.profile == "file" && self.file.is_empty()))
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        if !self.works(place) {
            return Vec::new();
        }
        let op: Arc<dyn PixelOp> = match OutputProfile::named(&self.profile) {
            Some(space) => Arc::new(Edge::of(space)),
            None => match self.read_file() {
                Ok(colour) => Arc::new(Proof(colour)),
                Err(_) => return Vec::new(),
            },
        };
        vec![Op::Point(PointOp::Pixels(op))]
    }
    fn leaves_in(&self) -> Option<Arc<OutputColour>> {
        match OutputProfile::named(&self.profile) {
            Some(space) => Some(space.shared()),
            None if self.file.is_empty() => None,
            None => self.read_file().ok(),
        }
    }
}

/// Brings colours to the edge of a space.
struct Edge {
    there: Matrix,
    back: Matrix,
}

impl Edge {
    fn of(space: OutputProfile) -> Self {
        let colour = space.colour();
        Self { there: colour.from_working, back: colour.to_working }
    }
}

impl PixelOp for Edge {
    fn run(&self, _: i64, _: i64, planes: &mut Planes) {
        let before = planes.clone();
        planes.matrix(&self.there);
        let mut outside = [0f32; CHUNK];
        for i in 0..CHUNK {
            // Rounding alone is no colour outside.
            let least = planes.r[i].min(planes.g[i]).min(planes.b[i]);
            outside[i] = if least < -1e-6 { 1.0 } else { 0.0 };
        }
        for plane in [&mut planes.r, &mut planes.g, &mut planes.b] {
            for v in plane {
                *v = v.max(0.0);
            }
        }
        planes.matrix(&self.back);
        planes.mix(&before, &outside);
    }

    fn is_placeless(&self) -> bool {
        true
    }
}

struct Proof(Arc<OutputColour>);

impl PixelOp for Proof {
    fn run(&self, _: i64, _: i64, planes: &mut Planes) {
        if let Some(file) = &self.0.file {
            file.proof(planes);
        }
    }

    fn is_placeless(&self) -> bool {
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::decode;
    use crate::steps::testing::one_pixel;
    use moxcms::{
        ColorProfile, DataColorSpace, LutDataType, LutStore, LutType, LutWarehouse, Matrix3d, RenderingIntent,
    };

    /// Working values of an encoded colour of one of the spaces.
    fn of(space: OutputProfile, rgb: [f32; 3]) -> [f32; 3] {
        crate::colour::space::apply(&space.colour().to_working, rgb)
    }

    #[test]
    fn colours_inside_stay_and_those_outside_come_to_the_edge() {
        let to_srgb = ConvertProfile::default();
        for rgb in [[0.2, 0.5, 0.1], [1.0, 0.0, 0.0], [3.0, 2.0, 0.5]] {
            let inside = of(OutputProfile::Srgb, rgb);
            for (got, want) in one_pixel(&to_srgb, inside).iter().zip(inside) {
                assert!((got - want).abs() < 1e-5 * (1.0 + want), "{rgb:?}");
            }
        }
        // The green of Rec. 2020 has −0.59 of red and −0.10 of blue in sRGB: they become nothing.
        let edge = crate::colour::space::apply(
            &OutputProfile::Srgb.colour().from_working,
            one_pixel(&to_srgb, [0.0, 1.0, 0.0]),
        );
        assert!(edge[0].abs() < 1e-5 && edge[2].abs() < 1e-5 && (edge[1] - 1.1329).abs() < 1e-3, "{edge:?}");
    }

    /// A printer of our own: what it shows is grey of the sum of its values, between a black of 2 % and white; and a
    /// table there that knows it cannot go darker.
    fn printer() -> Vec<u8> {
        let mut profile = ColorProfile::new_srgb();
        profile.pcs = DataColorSpace::Lab;
        profile.rendering_intent = RenderingIntent::RelativeColorimetric;
        (profile.red_trc, profile.green_trc, profile.blue_trc) = (None, None, None);
        const SIDE: usize = 17;
        // Lab in such tables: 65280 is an L* of 100 (ICC.1:2022, table 12).
        const FULL: f64 = 65_280.0 / 65_535.0;
        let grid = |f: &dyn Fn([f64; 3]) -> [f64; 3]| {
            let at = |i: usize| i as f64 / (SIDE - 1) as f64;
            let mut all = Vec::new();
            for a in 0..SIDE {
                for b in 0..SIDE {
                    for c in 0..SIDE {
                        all.extend(f([at(a), at(b), at(c)]).map(|v| (v.clamp(0.0, 1.0) * 65_535.0) as u16));
                    }
                }
            }
            all
        };
        let line: Vec<u16> = [0u16, 65_535].repeat(3);
        let table = |clut: Vec<u16>| {
            LutWarehouse::Lut(LutDataType {
                num_input_channels: 3,
                num_output_channels: 3,
                num_clut_grid_points: SIDE as u8,
                matrix: Matrix3d::IDENTITY,
                num_input_table_entries: 2,
                num_output_table_entries: 2,
                input_table: LutStore::Store16(line.clone()),
                clut_table: LutStore::Store16(clut),
                output_table: LutStore::Store16(line.clone()),
                lut_type: LutType::Lut16,
            })
        };
        // L* as a share of 100; a* and b* of 0 are 128 of 255.
        const BLACK: f64 = 0.155;
        let shows = |p: [f64; 3]| {
            let mean = (p[0] + p[1] + p[2]) / 3.0;
            [(BLACK + (1.0 - BLACK) * mean) * FULL, 32_768.0 / 65_535.0, 32_768.0 / 65_535.0]
        };
        let asks = |lab: [f64; 3]| [((lab[0] / FULL - BLACK) / (1.0 - BLACK)).clamp(0.0, 1.0); 3];
        profile.lut_a_to_b_colorimetric = Some(table(grid(&shows)));
        profile.lut_b_to_a_colorimetric = Some(table(grid(&asks)));
        profile.lut_a_to_b_perceptual = profile.lut_a_to_b_colorimetric.clone();
        profile.lut_b_to_a_perceptual = profile.lut_b_to_a_colorimetric.clone();
        profile.encode().unwrap()
    }

    fn as_url(bytes: &[u8]) -> String {
        let hex: String = bytes.iter().map(|b| format!("%{b:02x}")).collect();
        format!("data:application/vnd.iccprofile,{hex}")
    }

    #[test]
    fn a_profile_from_a_file_shows_what_it_can() {
        let file = as_url(&printer());
        let bare = ConvertProfile {
            profile: "file".into(),
            file: file.clone(),
            black_point: false,
            ..ConvertProfile::default()
        };
        bare.check().unwrap();
        let grey = |step: &ConvertProfile, v: f32| one_pixel(step, [v; 3])[1];
        // L* 15.5 is 2 % of white: everything darker ends there; white stays.
        assert!((grey(&bare, 0.0) - 0.0202).abs() < 2e-3, "{}", grey(&bare, 0.0));
        assert!((grey(&bare, 0.01) - grey(&bare, 0.0)).abs() < 1e-3);
        // The table's last cell reaches beyond white, which costs it 0.9 % there.
        assert!(
            (grey(&bare, 1.0) - 1.0).abs() < 1e-2 && (grey(&bare, 0.3) - 0.3).abs() < 5e-3,
            "{} {}",
            grey(&bare, 1.0),
            grey(&bare, 0.3)
        );
        // Compensated, black is shown as black, and dark tones keep their steps.
        let kept = ConvertProfile { black_point: true, ..bare.clone() };
        // The table bends within a cell at its black, which costs 0.3 % there.
        assert!(grey(&kept, 0.0) < 3e-3, "{}", grey(&kept, 0.0));
        assert!((grey(&kept, 0.01) - 0.01).abs() < 3e-3 && (grey(&kept, 0.3) - 0.3).abs() < 6e-3);
        // Colours become grey on it.
        let red = one_pixel(&kept, [0.5, 0.05, 0.05]);
        assert!((red[0] - red[1]).abs() < 5e-3, "{red:?}");
        // And the samples are what the table asks for: 0 at black, 1 at white, (L* − 15.5) / 84.5 between.
        let colours = kept.leaves_in().unwrap();
        let mut out = vec![0u16; 9];
        let mid = decode(0.5);
        let line = |v: f32| [v, v, v, 0.0];
        let nothing = crate::ops::pointwise::PointProgram::new(Vec::new());
        let row = crate::Rect::new(0, 0, 3, 1);
        crate::ops::pointwise::encode_16(
            &colours,
            &nothing,
            row,
            &[line(0.0), line(1.0), line(mid)],
            &mut out,
        );
        assert!(out[0] < 1300 && out[3] > 64_900, "{out:?}");
        assert_eq!(colours.icc, file_bytes(&file).unwrap());
    }

    #[test]
    fn wrong_files_are_named() {
        let with =
            |file: String| ConvertProfile { profile: "file".into(), file, ..ConvertProfile::default() };
        let error = with("hello".into()).check().unwrap_err();
        assert!(
            error.path == "file" && error.message.contains("no colour profile that can be read"),
            "{error}"
        );
        let grey = ColorProfile::new_gray_with_gamma(2.2).encode().unwrap();
        let error = with(as_url(&grey)).check().unwrap_err();
        assert!(error.message.contains("a profile of RGB is needed"), "{error}");
        assert!(with(String::new()).check().is_ok() && with(String::new()).leaves_in().is_none());
    }
}
