//! Colours other than red, green and blue: inks, CIELAB, and greys with a profile of their own.
//!
//! They become 16-bit samples of a wide RGB space, whose profile goes with them.

use moxcms::{ColorProfile, DataColorSpace, Layout, RenderingIntent, TransformOptions};
use rallo_engine::{OutputProfile, Samples};

/// Samples and the profile they are in; none for sRGB.
pub(crate) type Coloured = (Samples, Option<Vec<u8>>);

/// The space these colours are handed on in: it holds all that is printed.
fn wide() -> (ColorProfile, Vec<u8>) {
    (ColorProfile::new_pro_photo_rgb(), OutputProfile::RommRgb.colour().icc.clone())
}

fn through(
    icc: &[u8],
    space: DataColorSpace,
    layout: Layout,
    samples: &[u16],
    count: usize,
) -> Option<Coloured> {
    let profile = ColorProfile::new_from_slice(icc).ok().filter(|p| p.color_space == space)?;
    let (wide, icc) = wide();
    let options = TransformOptions {
        rendering_intent: RenderingIntent::RelativeColorimetric,
        ..TransformOptions::default()
    };
    let transform = profile.create_transform_16bit(layout, &wide, Layout::Rgb, options).ok()?;
    let mut rgb = vec![0; count * 3];
    transform.transform(samples, &mut rgb).ok()?;
    Some((Samples::U16(rgb), Some(icc)))
}

/// Inks as a share of 65,535, cyan, magenta, yellow and black by turns: through the profile, or as light that each
/// of them takes away, red = (1 − cyan) · (1 − black), in sRGB.
pub(crate) fn inks(cmyk: &[u16], icc: Option<&[u8]>) -> Coloured {
    let count = cmyk.len() / 4;
    icc.and_then(|icc| through(icc, DataColorSpace::Cmyk, Layout::Rgba, cmyk, count)).unwrap_or_else(|| {
        let left = |ink: u16, black: u16| {
            ((u32::from(u16::MAX - ink) * u32::from(u16::MAX - black) + 32_767) / 65_535) as u16
        };
        let pixels = cmyk.as_chunks::<4>().0.iter();
        (Samples::U16(pixels.flat_map(|p| [0, 1, 2].map(|c| left(p[c], p[3]))).collect()), None)
    })
}

/// Whether a profile is for greys.
pub(crate) fn is_grey(icc: &[u8]) -> bool {
    // The colour space stands at byte 16 of the head (ICC.1, 7.2.6).
    icc.get(16..20) == Some(b"GRAY")
}

/// Greys spread over three channels, through their own profile.
pub(crate) fn grey(samples: &Samples, icc: &[u8]) -> Option<Coloured> {
    let first_of = |all: &[u16]| all.iter().step_by(3).copied().collect::<Vec<u16>>();
    let grey: Vec<u16> = match samples {
        Samples::U8(v) => v.iter().step_by(3).map(|b| u16::from(*b) * 257).collect(),
        Samples::U16(v) => first_of(v),
        Samples::F32(_) => return None,
    };
    through(icc, DataColorSpace::Gray, Layout::Gray, &grey, grey.len())
}

/// The white of CIELAB in files: D50 (ICC.1, 6.3.4.3).
const D50: [f64; 3] = [0.9642, 1.0, 0.8249];

/// XYZ of that white to linear ROMM RGB (ISO 22028-2, annex A).
const TO_ROMM: [[f64; 3]; 3] = [[1.3460, -0.2556, -0.0511], [-0.5446, 1.5082, 0.0205], [0.0, 0.0, 1.2123]];

/// ROMM RGB's curve (ISO 22028-2, 4.4).
fn romm(linear: f64) -> u16 {
    let linear = linear.clamp(0.0, 1.0);
    let encoded = if linear < 1.0 / 512.0 { 16.0 * linear } else { linear.powf(1.0 / 1.8) };
    (encoded * 65_535.0 + 0.5) as u16
}

/// L* 0 … 100, a* and b* of every pixel.
pub(crate) fn lab(values: &[[f32; 3]]) -> Coloured {
    // ISO/CIE 11664-4, solved for XYZ.
    let inverse = |t: f64| {
        if t > 6.0 / 29.0 { t.powi(3) } else { 3.0 * (6.0f64 / 29.0).powi(2) * (t - 4.0 / 29.0) }
    };
    let pixel = |[l, a, b]: &[f32; 3]| {
        let y = (f64::from(*l) + 16.0) / 116.0;
        let xyz = [y + f64::from(*a) / 500.0, y, y - f64::from(*b) / 200.0];
        let xyz: [f64; 3] = std::array::from_fn(|c| D50[c] * inverse(xyz[c]));
        TO_ROMM.map(|row| romm(row.iter().zip(xyz).map(|(m, v)| m * v).sum()))
    };
    (Samples::U16(values.iter().flat_map(pixel).collect()), Some(wide().1))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sixteen(coloured: Coloured) -> Vec<u16> {
        let Samples::U16(v) = coloured.0 else { panic!("16 bits") };
        v
    }

    #[test]
    fn inks_without_a_profile_take_their_light_away() {
        let full = u16::MAX;
        assert_eq!(sixteen(inks(&[0, 0, 0, 0], None)), [full; 3]);
        assert_eq!(sixteen(inks(&[full, 0, 0, 0], None)), [0, full, full]);
        assert_eq!(sixteen(inks(&[0, 0, 0, full], None)), [0; 3]);
        assert_eq!(sixteen(inks(&[32_768, 0, 0, 32_768], None)), [16_383, 32_767, 32_767]);
    }

    #[test]
    fn lab_white_is_white_and_its_middle_is_a_neutral_of_the_right_light() {
        let full = u16::MAX;
        let white = sixteen(lab(&[[100.0, 0.0, 0.0]]));
        assert!(white.iter().all(|v| full - v < 40), "{white:?}");
        assert_eq!(sixteen(lab(&[[0.0, 0.0, 0.0]])), [0; 3]);
        // L* 50 is a luminance of 0.18419.
        let grey = sixteen(lab(&[[50.0, 0.0, 0.0]]));
        let wanted = 0.184_19f64.powf(1.0 / 1.8) * 65_535.0;
        assert!(grey.iter().all(|v| (f64::from(*v) - wanted).abs() < 30.0), "{grey:?}, {wanted}");
    }

    /// A profile whose table has only the sixteen corners of full inks: between them light mixes as
    /// red = (1 − cyan) · (1 − black), and so on, of sRGB's primaries as ICC profiles have them, under D50.
    fn ink_profile() -> Vec<u8> {
        let to_xyz = SRGB_D50;
        let mut table = b"mft2\0\0\0\0\x04\x03\x02\0".to_vec();
        for v in [65_536i32, 0, 0, 0, 65_536, 0, 0, 0, 65_536] {
            table.extend(v.to_be_bytes());
        }
        let mut words: Vec<u16> = vec![2, 2];
        words.extend([0, 65_535].repeat(4));
        for corner in 0..16u32 {
            let ink = |at: u32| f64::from(corner >> (3 - at) & 1);
            let light = [0, 1, 2].map(|c| (1.0 - ink(c)) * (1.0 - ink(3)));
            words.extend(to_xyz.map(|row: [f64; 3]| {
                let value: f64 = row.iter().zip(light).map(|(m, v)| m * v).sum();
                (value * 32_768.0).round() as u16
            }));
        }
        words.extend([0, 65_535].repeat(3));
        table.extend(words.iter().flat_map(|w| w.to_be_bytes()));
        let mut white = b"XYZ \0\0\0\0".to_vec();
        white.extend(D50.iter().flat_map(|v| ((v * 65_536.0).round() as i32).to_be_bytes()));
        let mut head = vec![0u8; 128];
        head[8..12].copy_from_slice(&[2, 0x40, 0, 0]);
        head[12..24].copy_from_slice(b"prtrCMYKXYZ ");
        head[36..40].copy_from_slice(b"acsp");
        head[68..80].copy_from_slice(&white[8..20]);
        let start = 128 + 4 + 2 * 12;
        let mut profile = head;
        profile.extend(2u32.to_be_bytes());
        for (name, at, length) in [(b"A2B0", start, table.len()), (b"wtpt", start + table.len(), white.len())]
        {
            profile.extend(name);
            profile.extend((at as u32).to_be_bytes());
            profile.extend((length as u32).to_be_bytes());
        }
        profile.extend(table);
        profile.extend(white);
        let length = profile.len() as u32;
        profile[..4].copy_from_slice(&length.to_be_bytes());
        profile
    }

    /// sRGB's primaries under D50 (IEC 61966-2-1, annex F).
    const SRGB_D50: [[f64; 3]; 3] =
        [[0.4361, 0.3851, 0.1431], [0.2225, 0.7169, 0.0606], [0.0139, 0.0971, 0.7141]];

    #[test]
    fn inks_with_a_profile_are_the_colours_it_says() {
        let profile = ink_profile();
        for inks_of in
            [[0.0, 0.0, 0.0, 0.0], [0.5, 0.0, 0.0, 0.0], [0.2, 0.6, 0.4, 0.3], [0.0, 0.0, 0.0, 1.0]]
        {
            let cmyk = inks_of.map(|v: f64| (v * 65_535.0).round() as u16);
            let (samples, icc) = inks(&cmyk, Some(&profile));
            assert!(icc.is_some(), "the profile was not used");
            let Samples::U16(found) = samples else { panic!("16 bits") };
            let light = [0, 1, 2].map(|c| (1.0 - inks_of[c]) * (1.0 - inks_of[3]));
            let mix = |rows: &[[f64; 3]; 3], v: [f64; 3]| {
                rows.map(|row| row.iter().zip(v).map(|(m, v)| m * v).sum::<f64>())
            };
            let wanted = mix(&TO_ROMM, mix(&SRGB_D50, light)).map(romm);
            let apart = found.iter().zip(wanted).map(|(a, b)| a.abs_diff(b)).max().unwrap();
            assert!(apart < 400, "{inks_of:?}: {found:?}, {wanted:?}");
        }
    }

    #[test]
    fn a_profile_for_other_channels_is_not_used() {
        let srgb = ColorProfile::new_srgb().encode().unwrap();
        assert!(inks(&[0; 4], Some(&srgb)).1.is_none());
        assert!(!is_grey(&srgb));
        let grey_profile = ColorProfile::new_gray_with_gamma(2.2).encode().unwrap();
        assert!(is_grey(&grey_profile));
        let (samples, icc) = grey(&Samples::U8(vec![128; 3]), &grey_profile).unwrap();
        let Samples::U16(v) = samples else { panic!("16 bits") };
        // (128/255)^2.2 of light, in a space with the exponent 1/1.8.
        let wanted = (128.0f64 / 255.0).powf(2.2).powf(1.0 / 1.8) * 65_535.0;
        assert!(v.iter().all(|v| (f64::from(*v) - wanted).abs() < 60.0), "{v:?}, {wanted}");
        assert!(icc.is_some());
    }
}
