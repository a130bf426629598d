//! Colour profiles from files (ICC.1:2022): what results leave in when a recipe names a file.
//!
//! The colour library converts; black point compensation follows ISO 18619: the darkest neutral the profile can show is
//! found by going there and back, and lightness is scaled so that black lands on it. On linear light that is one
//! straight line per channel.

use crate::colour::transfer::{CodedTable, Table};
use crate::colour::working::{WORKING, profile_name};
use crate::ops::planes::{CHUNK, Planes};
use moxcms::{
    ColorProfile, DataColorSpace, Layout, RenderingIntent, ToneReprCurve, TransformExecutor, TransformOptions,
};
use std::sync::{Arc, LazyLock};

/// What becomes of colours a profile cannot show.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Intent {
    /// All colours are drawn in, so that they keep their distances.
    Perceptual,
    /// Colours that fit stay, the others go to the nearest; white is the medium's white.
    Relative,
    /// Strength before hue.
    Saturation,
    /// As relative, and white is shown as it is.
    Absolute,
}

impl Intent {
    /// Every intent with its name in recipes.
    pub const ALL: [(&'static str, Intent); 4] = [
        ("perceptual", Self::Perceptual),
        ("relative", Self::Relative),
        ("saturation", Self::Saturation),
        ("absolute", Self::Absolute),
    ];

    fn library(self) -> RenderingIntent {
        match self {
            Self::Perceptual => RenderingIntent::Perceptual,
            Self::Relative => RenderingIntent::RelativeColorimetric,
            Self::Saturation => RenderingIntent::Saturation,
            Self::Absolute => RenderingIntent::AbsoluteColorimetric,
        }
    }
}

type Transform = Arc<dyn TransformExecutor<u16> + Send + Sync>;

/// A profile from a file, ready to convert to and back.
pub struct FileColour {
    there: Transform,
    back: Transform,
    /// What black becomes on linear light, for compensation; 0 without it.
    black: f32,
}

/// The working space's own curve, which the library's 16-bit samples are on.
static CURVE: LazyLock<(Table, CodedTable)> = LazyLock::new(|| {
    let curve = WORKING.red_trc.as_ref().expect("the built-in profile has a curve");
    let encode = curve.make_gamma_evaluator().expect("the built-in curve can be read");
    let decode = ToneReprCurve::make_linear_evaluator(curve).expect("the built-in curve can be read");
    (
        Table::new(|x| encode.evaluate_value(x.min(1.0)).clamp(0.0, 1.0)),
        CodedTable::new(|coded| decode.evaluate_value(coded.min(1.0)).clamp(0.0, 1.0)),
    )
});

/// Why a colour profile cannot be used for results.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ProfileError {
    /// It is none.
    #[error("this is no colour profile that can be read ({0})")]
    Unreadable(String),
    /// Its values are no red, green and blue.
    #[error(
        "{name} is a profile of {values} values; results have red, green and blue, so a profile of RGB is needed"
    )]
    NotRgb {
        /// What it calls itself.
        name: String,
        /// What its values are.
        values: String,
    },
    /// There is no way from the working colours to its own.
    #[error("{name} cannot be converted to ({reason})")]
    NoWay {
        /// What it calls itself.
        name: String,
        /// What the colour library says.
        reason: String,
    },
}

/// A profile of RGB colours, and what it calls itself.
///
/// # Errors
/// [`ProfileError`] where it is none, or is for other values.
pub(crate) fn of_rgb(icc: &[u8]) -> Result<(ColorProfile, String), ProfileError> {
    let profile = ColorProfile::new_from_slice(icc).map_err(|e| ProfileError::Unreadable(e.to_string()))?;
    let name = profile_name(&profile);
    match profile.color_space {
        DataColorSpace::Rgb => Ok((profile, name)),
        values => Err(ProfileError::NotRgb { name, values: format!("{values:?}") }),
    }
}

impl FileColour {
    /// Reads a profile of RGB colours.
    ///
    /// # Errors
    /// [`ProfileError`].
    pub fn read(icc: &[u8], intent: Intent, compensate: bool) -> Result<Self, ProfileError> {
        let (profile, name) = of_rgb(icc)?;
        let fail = |e: moxcms::CmsError| ProfileError::NoWay { name: name.clone(), reason: e.to_string() };
        let options = TransformOptions { rendering_intent: intent.library(), ..TransformOptions::default() };
        let there =
            WORKING.create_transform_16bit(Layout::Rgb, &profile, Layout::Rgb, options).map_err(fail)?;
        let back =
            profile.create_transform_16bit(Layout::Rgb, &WORKING, Layout::Rgb, options).map_err(fail)?;
        let mut colour = Self { there, back, black: 0.0 };
        if compensate {
            let mut darkest = Planes::EMPTY;
            colour.proof(&mut darkest);
            colour.black = darkest.luminance()[0].clamp(0.0, 0.2);
        }
        Ok(colour)
    }

    /// Working values to the profile's own, 0 ..= 1.
    pub(crate) fn encode(&self, planes: &mut Planes) {
        let line = |v: f32| self.black + (1.0 - self.black) * v.clamp(0.0, 1.0);
        for plane in [&mut planes.r, &mut planes.g, &mut planes.b] {
            for v in plane.iter_mut() {
                *v = line(*v);
            }
            CURVE.0.apply(plane);
        }
        through(&self.there, planes);
    }

    /// Working values as they will look in the profile: there and back.
    pub(crate) fn proof(&self, planes: &mut Planes) {
        self.encode(planes);
        through(&self.back, planes);
        for plane in [&mut planes.r, &mut planes.g, &mut planes.b] {
            CURVE.1.apply(plane);
            for v in plane.iter_mut() {
                *v = ((*v - self.black) / (1.0 - self.black)).max(0.0);
            }
        }
    }
}

/// A run of pixels through the library, 0 ..= 1 on both sides.
fn through(transform: &Transform, planes: &mut Planes) {
    let mut from = [0u16; CHUNK * 3];
    let mut to = [0u16; CHUNK * 3];
    for (i, p) in from.as_chunks_mut::<3>().0.iter_mut().enumerate() {
        *p = [planes.r[i], planes.g[i], planes.b[i]].map(|v| (v.clamp(0.0, 1.0) * 65_535.0 + 0.5) as u16);
    }
    // Lengths are the library's only condition, and they are right.
    if transform.transform(&from, &mut to).is_err() {
        return;
    }
    for (i, p) in to.as_chunks::<3>().0.iter().enumerate() {
        [planes.r[i], planes.g[i], planes.b[i]] = p.map(|v| f32::from(v) / 65_535.0);
    }
}
