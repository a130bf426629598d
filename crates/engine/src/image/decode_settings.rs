//! What happens before a recipe's first line: how a file becomes a picture.

use crate::colour::hex::parse_colour;
use crate::colour::space::OutputProfile;
use crate::step::{Kind, Param};
use serde::{Deserialize, Serialize};

/// What can be set of it, each by its name in a recipe's `decode`.
pub static READING: [Param; 4] = [
    Param {
        name: "raw.look",
        about: "What camera raw looks like before the first line: as bright and with as much contrast as the camera's own preview, or light as it was counted.",
        unit: "",
        kind: Kind::Choice(&["camera", "linear"]),
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

/// How files are read. It is part of a recipe, and of the key of everything that is kept of a picture.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
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
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct RawSettings {
    /// What it looks like before the first line.
    pub look: RawLook,
}

impl RawSettings {
    fn is_usual(&self) -> bool {
        *self == Self::default()
    }
}

/// What a camera raw looks like before the first line.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RawLook {
    /// As bright and with as much contrast as the camera's own preview; linear where it has none.
    #[default]
    Camera,
    /// Light as it was counted.
    Linear,
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
        Ok(())
    }

    /// Every value that can be set, by the names of [`READING`].
    pub fn values(&self) -> serde_json::Value {
        serde_json::json!({
            "raw.look": self.raw.look,
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
        if self.raw.look == RawLook::Linear {
            text += "|raw linear";
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
        let Kind::Choice(names) = READING[1].kind else { panic!() };
        assert_eq!(names.to_vec(), OutputProfile::ALL.map(|(name, _)| name).to_vec());
    }
}
