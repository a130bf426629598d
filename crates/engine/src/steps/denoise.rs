//! Denoise: takes out noise as strong, and as coarse, as it is measured in the picture.
//!
//! The methods and their papers are in `denoise/`. Works on sRGB-encoded values, at full size before anything else
//! changes the noise. On a reduced picture the same noise is taken for weaker by the reduction.

use crate::denoise::{Noise, Planes, Strength, blocks, sliding};
use crate::geometry::Rect;
use crate::step::{Kind, Op, Param, Place, Step, StepInfo, StepKind, View, Wants, WholeOp, values_of};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::sync::Arc;

/// Description.
pub static INFO: StepInfo = StepInfo {
    id: "denoise",
    title: "Denoise",
    group: "repair",
    about: "Takes out noise, measured in the picture by lightness and frequency, brightness and colour noise each with its own strength. Thorough compares blocks all over the neighbourhood, quick looks at every block alone. Belongs first, before anything that sharpens or raises contrast.",
    words: &["noise", "denoise", "noisy", "grainy", "grain", "iso", "smooth", "blotches", "speckle", "night"],
    neutral: r#"{"brightness": 0, "colour": 0}"#,
    starter: r#"{"method": "thorough"}"#,
};

static PARAMS: [Param; 5] = [
    Param {
        name: "method",
        about: "Thorough for the result, quick where time counts.",
        unit: "",
        kind: Kind::Choice(&["thorough", "quick"]),
    },
    Param {
        name: "brightness",
        about: "Strength against brightness noise; 50 takes out what was measured.",
        unit: "",
        kind: Kind::Number { min: 0.0, max: 100.0, step: 1.0 },
    },
    Param {
        name: "colour",
        about: "Strength against colour noise; 50 takes out what was measured.",
        unit: "",
        kind: Kind::Number { min: 0.0, max: 100.0, step: 1.0 },
    },
    Param {
        name: "detail",
        about: "How much faint detail is kept, at the price of some noise; 50 is even-handed.",
        unit: "",
        kind: Kind::Number { min: 0.0, max: 100.0, step: 1.0 },
    },
    Param {
        name: "level",
        about: "0: measured in every picture. Otherwise the noise's deviation, of 255, taken for white.",
        unit: "",
        kind: Kind::Number { min: 0.0, max: 100.0, step: 0.5 },
    },
];

/// Registration.
pub static KIND: StepKind = StepKind::of::<Denoise>(&INFO, &PARAMS);

/// Values of the step.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(default)]
pub struct Denoise {
    /// `thorough` or `quick`.
    pub method: String,
    /// 0 ..= 100, 50 is what was measured.
    pub brightness: f64,
    /// 0 ..= 100, 50 is what was measured.
    pub colour: f64,
    /// 0 ..= 100.
    pub detail: f64,
    /// 0 measured, or 0 ..= 100 of 255.
    pub level: f64,
    #[serde(skip)]
    noise: Option<Arc<Noise>>,
}

impl Default for Denoise {
    fn default() -> Self {
        Self {
            method: "thorough".into(),
            brightness: 50.0,
            colour: 50.0,
            detail: 50.0,
            level: 0.0,
            noise: None,
        }
    }
}

impl Step for Denoise {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let how = if self.method == "quick" { "Denoise quickly ({method})" } else { "Denoise, {method}" };
        let level = if self.level > 0.0 { ", noise {level}" } else { "" };
        format!("{how}: brightness {{brightness}}, colour {{colour}}, keep detail {{detail}}{level}.")
    }
    fn wants(&self) -> Wants {
        let nothing = self.level > 0.0 || (self.brightness == 0.0 && self.colour == 0.0);
        if nothing { Wants::Nothing } else { Wants::Detail }
    }
    fn measured(&self, views: &[View]) -> Option<Box<dyn Step>> {
        Some(Box::new(Self { noise: Some(Arc::new(Noise::measured(views))), ..self.clone() }))
    }
    fn found(&self) -> Vec<(&'static str, f64)> {
        self.noise.as_ref().map(|n| vec![("noise", f64::from(n.level()))]).unwrap_or_default()
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        if self.brightness == 0.0 && self.colour == 0.0 {
            return Vec::new();
        }
        let noise = match &self.noise {
            Some(noise) => noise.clone(),
            None if self.level > 0.0 => Arc::new(Noise::white((self.level / 255.0) as f32)),
            None => return Vec::new(),
        };
        // A reduced picture is the mean of so many pixels, and has so much less noise.
        let scale = place.scale as f32;
        let strength = Strength {
            light: (self.brightness / 50.0) as f32 * scale,
            colour: (self.colour / 50.0) as f32 * scale,
            detail: (self.detail / 100.0) as f32,
        };
        vec![Op::Whole(Box::new(Work { noise, strength, thorough: self.method == "thorough" }))]
    }
    fn needs_detail(&self) -> bool {
        true
    }
}

struct Work {
    noise: Arc<Noise>,
    strength: Strength,
    thorough: bool,
}

impl WholeOp for Work {
    fn halo(&self) -> i64 {
        if self.thorough { blocks::HALO } else { sliding::HALO }
    }
    fn run(&self, input: Vec<[f32; 3]>, have: Rect, rect: Rect) -> Vec<[f32; 3]> {
        let noisy = Planes::of(&input, have.width as usize);
        drop(input);
        let done = if self.thorough {
            blocks::run(&noisy, have, &self.noise, self.strength)
        } else {
            sliding::run(&noisy, have, &self.noise, self.strength)
        };
        drop(noisy);
        let mut out = vec![[0f32; 3]; rect.area()];
        out.par_chunks_mut(rect.width as usize).enumerate().for_each(|(j, row)| {
            let at = ((rect.y - have.y + j as i64) * have.width + rect.x - have.x) as usize;
            for (i, pixel) in row.iter_mut().enumerate() {
                *pixel = done.pixel(at + i);
            }
        });
        out
    }
}
