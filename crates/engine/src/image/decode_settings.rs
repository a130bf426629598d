//! What happens before a recipe's first line: how a file becomes a picture.

use crate::colour::hex::parse_colour;
use crate::colour::light::{DUV, KELVIN, Light};
use crate::colour::space::OutputProfile;
use crate::step::{Kind, Param};
use serde::{Deserialize, Serialize};
use std::sync::OnceLock;

/// What can be set of it, each by its name in a recipe's `decode`.
pub static READING: [Param; 8] = [
    Param {
        name: "raw.look",
        about: "What camera raw looks like before the first line: as the camera means it (by the file's own colour profile, or as bright and with as much contrast as its preview), neutral (colours as they were measured), or linear (light as it was counted).",
        unit: "",
        kind: Kind::Choice(&["camera", "neutral", "linear"]),
    },
    Param {
        name: "raw.white",
        about: "What is taken for white in camera raw: what the camera was set to, or the light given below.",
        unit: "",
        kind: Kind::Choice(&["as_shot", "given"]),
    },
    Param {
        name: "raw.kelvin",
        about: "The temperature of the light that is given.",
        unit: "K",
        kind: Kind::Number { min: KELVIN.0, max: KELVIN.1, step: 50.0 },
    },
    Param {
        name: "raw.duv",
        about: "How far the light that is given lies beside the black bodies (CIE 1960): above 0 it is greener, below 0 more magenta.",
        unit: "Duv",
        kind: Kind::Number { min: -DUV, max: DUV, step: 0.0005 },
    },
    Param {
        name: "raw.mend_defects",
        about: "Whether hot, dead and stuck pixels of the sensor are mended in camera raw before anything is made of it.",
        unit: "",
        kind: Kind::Flag,
    },
    Param {
        name: "assumed_profile",
        about: "The colours that a file is taken to be in where it names none.",
        unit: "",
        kind: Kind::Choice(&["srgb", "display-p3", "op-rgb", "romm-rgb", "rec2020"]),
    },
    Param {
        name: "background",
        about: "The colour that transparent parts are laid on, where the format of the result knows none.",
        unit: "",
        kind: Kind::Colour,
    },
    Param {
        name: "use_part",
        about: "Whether the part that is there is used of files that are cut off or damaged; otherwise they fail.",
        unit: "",
        kind: Kind::Flag,
    },
];

/// What all reading depends on besides: files of the person's that were there when the program began.
static BESIDES: OnceLock<String> = OnceLock::new();

/// Says that all reading depends on something by this name, which is part of the key of all that is kept of pictures. What
/// is said first holds.
pub fn reading_depends_on(name: &str) {
    BESIDES.get_or_init(|| name.to_owned());
}

/// How files are read. It is part of a recipe, and of the key of everything that is kept of a picture.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct DecodeSettings {
    /// The colours that a file is taken to be in where it names none: one of [`OutputProfile::ALL`]; without it sRGB.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub assumed_profile: Option<String>,
    /// The colour that transparent parts are laid on, as `#rrggbb`; without it white.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub background: Option<String>,
    /// Whether the part that is there is taken of a picture that is cut off or damaged; otherwise it fails.
    #[serde(skip_serializing_if = "is_false")]
    pub use_part: bool,
    /// How camera raw is developed.
    #[serde(skip_serializing_if = "RawSettings::is_usual")]
    pub raw: RawSettings,
}

/// How camera raw is developed, before everything else.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct RawSettings {
    /// What it looks like before the first line.
    #[serde(skip_serializing_if = "is_usual")]
    pub look: RawLook,
    /// What is taken for white.
    #[serde(skip_serializing_if = "is_usual")]
    pub white: RawWhite,
    /// Temperature of the light that is given.
    #[serde(skip_serializing_if = "is_usual_kelvin")]
    pub kelvin: f64,
    /// How far it lies beside the black bodies.
    #[serde(skip_serializing_if = "is_usual")]
    pub duv: f64,
    /// Whether the sensor's defects are mended.
    #[serde(skip_serializing_if = "Clone::clone")]
    pub mend_defects: bool,
}

/// The temperature that stands where none is given.
const USUAL_KELVIN: f64 = 5500.0;

fn is_usual<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

fn is_usual_kelvin(kelvin: &f64) -> bool {
    *kelvin == USUAL_KELVIN
}

impl Default for RawSettings {
    fn default() -> Self {
        let (look, white) = (RawLook::Camera, RawWhite::AsShot);
        Self { look, white, kelvin: USUAL_KELVIN, duv: 0.0, mend_defects: true }
    }
}

impl RawSettings {
    fn is_usual(&self) -> bool {
        *self == Self::default()
    }

    /// The light that is taken for white, where it is given.
    pub fn given_white(&self) -> Option<Light> {
        (self.white == RawWhite::Given).then_some(Light { kelvin: self.kelvin, duv: self.duv })
    }

    /// What differs from the usual, as a text.
    fn fingerprint(&self) -> String {
        let mut text = String::new();
        match self.look {
            RawLook::Camera => {}
            RawLook::Neutral => text += "|raw neutral",
            RawLook::Linear => text += "|raw linear",
        }
        if let Some(Light { kelvin, duv }) = self.given_white() {
            text += &format!("|raw white {kelvin} {duv}");
        }
        if !self.mend_defects {
            text += "|raw with its defects";
        }
        text
    }
}

/// What a camera raw looks like before the first line.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RawLook {
    /// By the file's colour profile; without one as bright and with as much contrast as the camera's own preview; linear
    /// where it has neither.
    #[default]
    Camera,
    /// Colours as they were measured, bright light softly brought to white.
    Neutral,
    /// Light as it was counted.
    Linear,
}

/// What is taken for white in a camera raw.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RawWhite {
    /// What the camera was set to.
    #[default]
    AsShot,
    /// The light that is given.
    Given,
}

fn is_false(value: &bool) -> bool {
    !value
}

impl DecodeSettings {
    /// Whether files are read as they are without a word.
    pub fn is_usual(&self) -> bool {
        *self == Self::default()
    }

    /// What is wrong with them, for people.
    ///
    /// # Errors
    /// The name of the field, and what is expected there.
    pub fn check(&self) -> Result<(), (&'static str, String)> {
        if let Some(name) = &self.assumed_profile
            && OutputProfile::named(name).is_none()
        {
            let names: Vec<&str> = OutputProfile::ALL.iter().map(|(name, _)| *name).collect();
            return Err(("assumed_profile", format!("expected one of {}, got {name}", names.join(", "))));
        }
        if let Some(colour) = &self.background
            && parse_colour(colour).is_none()
        {
            return Err(("background", format!("expected a colour such as #ffffff, got {colour}")));
        }
        let RawSettings { kelvin, duv, .. } = self.raw;
        if !(KELVIN.0..=KELVIN.1).contains(&kelvin) {
            let range = format!("expected {} to {} K, got {kelvin}", KELVIN.0, KELVIN.1);
            return Err(("raw.kelvin", range));
        }
        if !(-DUV..=DUV).contains(&duv) {
            return Err(("raw.duv", format!("expected {} to {DUV}, got {duv}", -DUV)));
        }
        Ok(())
    }

    /// Every value that can be set, by the names of [`READING`].
    pub fn values(&self) -> serde_json::Value {
        serde_json::json!({
            "raw.look": self.raw.look,
            "raw.white": self.raw.white,
            "raw.kelvin": self.raw.kelvin,
            "raw.duv": self.raw.duv,
            "raw.mend_defects": self.raw.mend_defects,
            "assumed_profile": self.assumed_profile.as_deref().unwrap_or("srgb"),
            "background": self.background.as_deref().unwrap_or("#ffffff"),
            "use_part": self.use_part,
        })
    }

    /// The profile of files that name none, other than sRGB.
    pub fn assumed(&self) -> Option<OutputProfile> {
        self.assumed_profile.as_deref().and_then(OutputProfile::named)
    }

    /// The colour that transparent parts are laid on, 0 … 1.
    pub fn ground(&self) -> [f32; 3] {
        let colour = self.background.as_deref().and_then(parse_colour).unwrap_or([255; 3]);
        colour.map(|v| f32::from(v) / 255.0)
    }

    /// A text that is equal for settings that read a file alike; empty for the usual ones.
    pub fn fingerprint(&self) -> String {
        let mut text = String::new();
        if let Some(name) = &self.assumed_profile {
            text += &format!("|assumed profile {name}");
        }
        if let Some(colour) = &self.background {
            text += &format!("|on {}", colour.to_lowercase());
        }
        if self.use_part {
            text += "|part of damaged files";
        }
        text += &self.raw.fingerprint();
        if let Some(besides) = BESIDES.get() {
            text += &format!("|with {besides}");
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_can_be_set_is_what_there_is() {
        let values = DecodeSettings::default().values();
        assert_eq!(values.as_object().unwrap().len(), READING.len());
        for param in &READING {
            param.check(&values[param.name]).unwrap();
        }
        let Kind::Choice(names) = READING[5].kind else { panic!() };
        assert_eq!(names.to_vec(), OutputProfile::ALL.map(|(name, _)| name).to_vec());
    }

    #[test]
    fn what_is_said_of_raw_is_checked_and_told_apart() {
        let read = |text: &str| serde_json::from_str::<DecodeSettings>(text).unwrap();
        let given = read(r#"{"raw": {"white": "given", "kelvin": 3200, "duv": 0.002}}"#);
        assert_eq!(given.raw.given_white(), Some(Light { kelvin: 3200.0, duv: 0.002 }));
        assert!(given.check().is_ok() && !given.is_usual());
        let all = [
            DecodeSettings::default(),
            given.clone(),
            read(r#"{"raw": {"white": "given", "kelvin": 3250, "duv": 0.002}}"#),
            read(r#"{"raw": {"look": "neutral"}}"#),
            read(r#"{"raw": {"mend_defects": false}}"#),
        ];
        let texts: std::collections::HashSet<String> = all.iter().map(DecodeSettings::fingerprint).collect();
        assert_eq!(texts.len(), all.len());
        // A temperature that is not used changes nothing.
        assert_eq!(read(r#"{"raw": {"kelvin": 3200}}"#).fingerprint(), "");
        for (text, at) in
            [(r#"{"raw": {"kelvin": 900}}"#, "raw.kelvin"), (r#"{"raw": {"duv": 0.3}}"#, "raw.duv")]
        {
            assert_eq!(read(text).check().unwrap_err().0, at);
        }
    }
}
