//! Colour in and out: ICC profiles to and from the working space.
//!
//! The working space is linear light on the primaries of ITU-R BT.2020 with a D65 white: wide enough for
//! every camera and screen profile in use, without imaginary primaries. Profiles that are a matrix and three
//! tone curves are read into a table per channel and one 3 × 3 matrix; everything else is converted once, on
//! the way in, by the colour library.

use crate::colour::icc::{FileColour, Intent, ProfileError};
use crate::colour::transfer::{CodedTable, Table};
use crate::colour::working::{Matrix, WORKING, profile_name};
use moxcms::{
    CmsError, ColorDateTime, ColorProfile, DataColorSpace, Layout, LocalizableString, ProfileText,
    ToneReprCurve, TransformOptions,
};
use std::sync::{Arc, LazyLock, Mutex};

/// The matrix that changes nothing.
pub const IDENTITY: Matrix = [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]];

/// `left · right`.
pub fn multiply(left: &Matrix, right: &Matrix) -> Matrix {
    std::array::from_fn(|r| std::array::from_fn(|c| (0..3).map(|k| left[r][k] * right[k][c]).sum()))
}

/// `matrix · vector`.
#[inline(always)]
pub fn apply(matrix: &Matrix, v: [f32; 3]) -> [f32; 3] {
    std::array::from_fn(|r| matrix[r][0] * v[0] + matrix[r][1] * v[1] + matrix[r][2] * v[2])
}

fn inverse(m: &moxcms::Matrix3d) -> moxcms::Matrix3d {
    m.inverse()
}

fn to_f32(m: moxcms::Matrix3d) -> Matrix {
    std::array::from_fn(|r| std::array::from_fn(|c| m.v[r][c] as f32))
}

/// How a picture's stored samples become working values.
#[derive(Clone)]
pub struct InputColour {
    /// Linear light per stored 8-bit value and channel.
    pub(crate) byte: [[f32; 256]; 3],
    /// Linear light of the stored value (16-bit and float samples), per channel.
    pub(crate) table: [CodedTable; 3],
    /// Linear light of the profile's primaries to the working space.
    pub(crate) to_working: Matrix,
    /// Whether float samples are linear light themselves.
    pub(crate) straight: bool,
    /// Where 16-bit samples are the square root of light's share of so many times white, how many.
    pub(crate) headroom: Option<f32>,
    /// What the profile calls itself.
    pub name: String,
}

impl InputColour {
    /// sRGB (IEC 61966-2-1), assumed where a picture says nothing.
    pub fn srgb() -> Self {
        Self::from_profile(&ColorProfile::new_srgb(), "sRGB").expect("the built-in profile is complete")
    }

    /// The same, made once.
    pub(crate) fn shared_srgb() -> Arc<Self> {
        static SRGB: LazyLock<Arc<InputColour>> = LazyLock::new(|| Arc::new(InputColour::srgb()));
        SRGB.clone()
    }

    /// The working space's own curve and primaries, for pictures converted on the way in.
    pub fn working(name: &str) -> Self {
        Self::from_profile(&WORKING, name).expect("the built-in profile is complete")
    }

    /// Working values as they are, in floating point or 16 bits.
    pub(crate) fn plain() -> Self {
        let straight = || CodedTable::new(|coded| coded);
        Self {
            byte: [[0.0; 256]; 3],
            table: [straight(), straight(), straight()],
            to_working: IDENTITY,
            straight: true,
            headroom: None,
            name: "working values".into(),
        }
    }

    /// Working light up to `headroom` times white, stored as the square root of its share of that.
    pub(crate) fn scene(headroom: f32) -> Self {
        let light = || CodedTable::new(|coded| coded * coded * headroom);
        let byte = std::array::from_fn(|v| (v as f32 / 255.0).powi(2) * headroom);
        Self {
            byte: [byte; 3],
            table: [light(), light(), light()],
            to_working: IDENTITY,
            straight: false,
            headroom: Some(headroom),
            name: "camera raw".into(),
        }
    }

    /// From a profile made of a matrix and three curves.
    ///
    /// # Errors
    /// The colour library's, when a curve is missing or cannot be read.
    pub fn from_profile(profile: &ColorProfile, name: &str) -> Result<Self, CmsError> {
        let curve = |trc: &Option<ToneReprCurve>| {
            trc.as_ref().ok_or(CmsError::InvalidProfile)?.make_linear_evaluator()
        };
        let curves = [curve(&profile.red_trc)?, curve(&profile.green_trc)?, curve(&profile.blue_trc)?];
        let byte = std::array::from_fn(|c| {
            std::array::from_fn(|v| curves[c].evaluate_value(v as f32 / 255.0).clamp(0.0, 1.0))
        });
        let table = std::array::from_fn(|c| {
            CodedTable::new(|coded| curves[c].evaluate_value(coded.min(1.0)).clamp(0.0, 1.0))
        });
        let to_working = to_f32(inverse(&WORKING.colorant_matrix()).mat_mul_const(profile.colorant_matrix()));
        Ok(Self { byte, table, to_working, straight: false, headroom: None, name: name.to_owned() })
    }
}

/// What an embedded profile asks for.
pub enum Embedded {
    /// Read directly.
    Shaper(Arc<InputColour>),
    /// Needs the colour library on every pixel, once, on the way in.
    Convert(Box<ColorProfile>, String),
}

/// Profiles that are kept as they were read.
const KEPT: usize = 8;

/// Profiles that were read lately, the last one at the end: one camera writes the same into all its pictures.
static LATELY: Mutex<Vec<(Vec<u8>, Arc<InputColour>)>> = Mutex::new(Vec::new());

/// Reads an embedded ICC profile; `None` when it is unreadable or not for RGB, so that sRGB is assumed.
pub fn embedded(icc: &[u8]) -> Option<Embedded> {
    let lately = || LATELY.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
    if let Some((_, known)) = lately().iter().find(|(bytes, _)| bytes == icc) {
        return Some(Embedded::Shaper(known.clone()));
    }
    let read = read_embedded(icc)?;
    if let Embedded::Shaper(colour) = &read {
        let mut lately = lately();
        if lately.len() == KEPT {
            lately.remove(0);
        }
        lately.push((icc.to_vec(), colour.clone()));
    }
    Some(read)
}

fn read_embedded(icc: &[u8]) -> Option<Embedded> {
    let profile = ColorProfile::new_from_slice(icc).ok()?;
    if profile.color_space != DataColorSpace::Rgb {
        return None;
    }
    let name = profile_name(&profile);
    let has_table = profile.lut_a_to_b_perceptual.is_some() || profile.lut_a_to_b_colorimetric.is_some();
    match InputColour::from_profile(&profile, &name) {
        Ok(colour) if !has_table => Some(Embedded::Shaper(Arc::new(colour))),
        _ if has_table => Some(Embedded::Convert(Box::new(profile), name)),
        _ => None,
    }
}

/// Converts RGB samples (interleaved, 16 bit) through a table profile to the working space's own encoding.
///
/// # Errors
/// The colour library's, when the profile cannot be used.
pub fn convert_16(profile: &ColorProfile, samples: &[u16]) -> Result<Vec<u16>, CmsError> {
    let transform =
        profile.create_transform_16bit(Layout::Rgb, &WORKING, Layout::Rgb, TransformOptions::default())?;
    let mut out = vec![0; samples.len()];
    transform.transform(samples, &mut out)?;
    Ok(out)
}

/// The colour spaces that are built in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum OutputProfile {
    /// IEC 61966-2-1, for screens and the web.
    Srgb,
    /// Display P3.
    DisplayP3,
    /// opRGB (IEC 61966-2-5).
    OpRgb,
    /// ROMM RGB (ISO 22028-2).
    RommRgb,
    /// ITU-R BT.2020.
    Rec2020,
}

/// Working values to encoded samples of one profile.
pub struct OutputColour {
    pub(crate) from_working: Matrix,
    pub(crate) to_working: Matrix,
    pub(crate) encode: Table,
    /// For profiles from files: the colour library does it all.
    pub(crate) file: Option<FileColour>,
    /// The ICC profile to embed.
    pub icc: Vec<u8>,
}

impl std::fmt::Debug for OutputColour {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "OutputColour of a profile of {} bytes", self.icc.len())
    }
}

impl OutputColour {
    /// From a profile's file.
    ///
    /// # Errors
    /// [`ProfileError`].
    pub fn from_file(icc: &[u8], intent: Intent, black_point: bool) -> Result<Self, ProfileError> {
        let file = FileColour::read(icc, intent, black_point)?;
        let encode = Table::new(|x| x);
        Ok(Self { from_working: IDENTITY, to_working: IDENTITY, encode, file: Some(file), icc: icc.to_vec() })
    }
}

impl OutputColour {
    /// What the profile calls itself.
    pub fn name(&self) -> String {
        ColorProfile::new_from_slice(&self.icc).map(|p| profile_name(&p)).unwrap_or_default()
    }
}

impl OutputProfile {
    /// Every profile with its name in recipes.
    pub const ALL: [(&'static str, OutputProfile); 5] = [
        ("srgb", Self::Srgb),
        ("display-p3", Self::DisplayP3),
        ("op-rgb", Self::OpRgb),
        ("romm-rgb", Self::RommRgb),
        ("rec2020", Self::Rec2020),
    ];

    /// The profile of that name in recipes.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.iter().find(|(n, _)| *n == name).map(|(_, p)| *p)
    }

    fn profile(self) -> ColorProfile {
        let mut profile = match self {
            Self::Srgb => ColorProfile::new_srgb(),
            Self::DisplayP3 => ColorProfile::new_display_p3(),
            Self::OpRgb => ColorProfile::new_adobe_rgb(),
            Self::RommRgb => ColorProfile::new_pro_photo_rgb(),
            Self::Rec2020 => ColorProfile::new_bt2020(),
        };
        let own_name = match self {
            Self::OpRgb => Some("opRGB (IEC 61966-2-5)"),
            Self::RommRgb => Some("ROMM RGB (ISO 22028-2)"),
            _ => None,
        };
        if let Some(name) = own_name {
            let text = LocalizableString::new("en".into(), "GB".into(), name.into());
            profile.description = Some(ProfileText::Localizable(vec![text]));
        }
        // The library stamps the present time; results must be the same bytes whenever they are made.
        profile.creation_date_time =
            ColorDateTime { year: 2026, month: 1, day_of_the_month: 1, hours: 0, minutes: 0, seconds: 0 };
        profile
    }

    /// The conversion, made once per process.
    pub fn colour(self) -> &'static OutputColour {
        self.held()
    }

    /// As [`colour`](Self::colour), to be kept beside those from files.
    pub fn shared(self) -> Arc<OutputColour> {
        self.held().clone()
    }

    fn held(self) -> &'static Arc<OutputColour> {
        static ALL: LazyLock<[Arc<OutputColour>; 5]> = LazyLock::new(|| {
            OutputProfile::ALL.map(|(_, which)| {
                let profile = which.profile();
                let curve = profile.red_trc.as_ref().map(ToneReprCurve::make_gamma_evaluator);
                let curve = curve.and_then(Result::ok).expect("the built-in profiles have a tone curve");
                let (own, working) = (profile.colorant_matrix(), WORKING.colorant_matrix());
                Arc::new(OutputColour {
                    from_working: to_f32(inverse(&own).mat_mul_const(working)),
                    to_working: to_f32(inverse(&working).mat_mul_const(own)),
                    encode: Table::new(|x| curve.evaluate_value(x.min(1.0)).clamp(0.0, 1.0)),
                    file: None,
                    icc: profile.encode().expect("the built-in profiles can be written"),
                })
            })
        });
        &ALL[self as usize]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shaper_path_agrees_with_the_colour_library() {
        // Independent: the library's own 16-bit transform from Display P3 to BT.2020.
        let p3 = ColorProfile::new_display_p3();
        let ours = InputColour::from_profile(&p3, "p3").unwrap();
        let out = OutputProfile::Rec2020.colour();
        let samples: Vec<u16> = (0..3000u32).map(|i| (i * 7919 % 65_536) as u16).collect();
        let theirs = convert_16(&p3, &samples).unwrap();
        for (rgb, want) in samples.as_chunks::<3>().0.iter().zip(theirs.as_chunks::<3>().0) {
            let linear = std::array::from_fn(|c| ours.table[c].at(f32::from(rgb[c]) / 65_535.0));
            let working = apply(&ours.to_working, linear);
            for c in 0..3 {
                let got = out.encode.at(working[c].clamp(0.0, 1.0)) * 65_535.0;
                assert!((got - f32::from(want[c])).abs() < 40.0, "{rgb:?}: {got} against {}", want[c]);
            }
        }
    }

    #[test]
    fn embedded_profiles_do_not_tell_when_they_were_made() {
        // Bytes 24 .. 36 of an ICC profile are its date (ICC.1:2022, 7.2.8).
        for (name, profile) in OutputProfile::ALL {
            assert_eq!(profile.colour().icc[24..36], [7, 234, 0, 1, 0, 1, 0, 0, 0, 0, 0, 0], "{name}");
        }
    }

    #[test]
    fn profiles_that_leave_can_come_back() {
        for (name, profile) in OutputProfile::ALL {
            let Some(Embedded::Shaper(back)) = embedded(&profile.colour().icc) else {
                panic!("{name} was not read back")
            };
            let there = multiply(&profile.colour().from_working, &back.to_working);
            for r in 0..3 {
                for c in 0..3 {
                    assert!((there[r][c] - IDENTITY[r][c]).abs() < 2e-3, "{name}: {there:?}");
                }
            }
        }
        assert!(embedded(b"not a profile").is_none());
    }
}
