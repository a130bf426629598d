//! What happens before a recipe's first line: how a file becomes a picture.

use crate::colour::space::OutputProfile;
use serde::{Deserialize, Serialize};

/// How files are read. It is part of a recipe, and of the key of everything that is kept of a picture.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct DecodeSettings {
    /// The colours that a file is taken to be in where it names none: one of [`OutputProfile::ALL`]; without it sRGB.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub assumed_profile: Option<String>,
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
        match &self.assumed_profile {
            Some(name) if OutputProfile::named(name).is_none() => {
                let names: Vec<&str> = OutputProfile::ALL.iter().map(|(name, _)| *name).collect();
                Err(("assumed_profile", format!("expected one of {}, got {name}", names.join(", "))))
            }
            _ => Ok(()),
        }
    }

    /// The profile of files that name none, other than sRGB.
    pub fn assumed(&self) -> Option<OutputProfile> {
        self.assumed_profile.as_deref().and_then(OutputProfile::named)
    }

    /// A text that is equal for settings that read a file alike; empty for the usual ones.
    pub fn fingerprint(&self) -> String {
        match &self.assumed_profile {
            Some(name) => format!("|assumed profile {name}"),
            None => String::new(),
        }
    }
}
