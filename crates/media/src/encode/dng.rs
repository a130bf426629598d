//! Linear DNG: three values a pixel as the camera counted them, with all that makes other programs take it for the
//! camera's own raw. Written by `rawler`, which read the original.

use crate::MediaError;
use crate::decode::raw;
use crate::encode::extras::Extras;
use image::{DynamicImage, ImageBuffer};
use rallo_engine::raw::LINEAR_BLACK;
use rallo_engine::{Encoded, Pixels, Size};
use rawler::dng::writer::DngWriter;
use rawler::dng::{CropMode, DNG_VERSION_V1_4, DngCompression, DngPhotometricConversion};
use rawler::formats::tiff::{Rational, SRational, Value};
use rawler::imgop::xyz::Illuminant;
use rawler::pixarray::PixU16;
use rawler::rawimage::{BlackLevel, RawPhotometricInterpretation, WhiteLevel};
use rawler::tags::{DngTag, ExifTag, TiffCommonTag};
use std::io::Cursor;

/// Quality of the preview beside the raw, 0 ..= 1.
const PREVIEW_QUALITY: f32 = 0.85;

fn fail(message: impl ToString) -> MediaError {
    MediaError::Encode { format: "DNG", message: message.to_string() }
}

/// What a linear DNG is made of beside the original's own data.
pub struct LinearDng<'a> {
    /// Pixels as stored.
    pub size: Size,
    /// Red, green and blue by turns, black at [`LINEAR_BLACK`].
    pub values: Vec<u16>,
    /// How the stored picture lies, as EXIF says it.
    pub orientation: u8,
    /// As it looks, upright or not as stored.
    pub preview: &'a Encoded,
    /// Whether it is packed without loss.
    pub packed: bool,
}

/// A number as a signed fraction of ten thousand.
fn fraction(value: f64) -> SRational {
    SRational::new((value * 10_000.0).round() as i32, 10_000)
}

/// Writes one for the camera raw `original`.
///
/// # Errors
/// [`MediaError::Encode`].
pub fn linear_dng(original: &[u8], dng: LinearDng<'_>, extras: &Extras) -> Result<Vec<u8>, MediaError> {
    let raw::Described { mut image, metadata, camera } = raw::described(original)?;
    let Size { width, height } = dng.size;
    let (width, height) = (width as usize, height as usize);
    let mut written = rawler::RawImage::new(
        image.camera.clone(),
        PixU16::new_with(dng.values, width * 3, height),
        3,
        image.wb_coeffs,
        RawPhotometricInterpretation::LinearRaw,
        Some(BlackLevel::new(&[u32::from(LINEAR_BLACK); 3], 1, 1, 3)),
        Some(WhiteLevel::new_bits(16, 3)),
        false,
    );
    (written.width, written.height) = (width, height);
    (written.active_area, written.crop_area) = (None, None);
    written.color_matrix = std::mem::take(&mut image.color_matrix);
    let mut file = Cursor::new(Vec::new());
    let mut writer = DngWriter::new(&mut file, DNG_VERSION_V1_4).map_err(fail)?;
    {
        let Pixels::U8(pixels) = &dng.preview.pixels else {
            return Err(fail("the preview has more than 8 bits"));
        };
        let Size { width, height } = dng.preview.size;
        let preview = ImageBuffer::from_raw(width, height, pixels.clone());
        let preview = DynamicImage::ImageRgb8(preview.ok_or_else(|| fail("the preview is not whole"))?);
        let mut frame = writer.subframe_on_root(1);
        frame.preview(&preview, PREVIEW_QUALITY).map_err(fail)?;
        frame.finalize().map_err(fail)?;
    }
    {
        let compression = if dng.packed { DngCompression::Lossless } else { DngCompression::Uncompressed };
        let mut frame = writer.subframe(0);
        frame
            .raw_image(&written, CropMode::None, compression, DngPhotometricConversion::Original, 1)
            .map_err(fail)?;
        frame.finalize().map_err(fail)?;
    }
    writer.load_base_tags(&image).map_err(fail)?;
    if extras.exif.is_some() {
        writer.load_metadata(&metadata).map_err(fail)?;
    }
    let root = writer.root_ifd_mut();
    root.add_tag(TiffCommonTag::Orientation, u16::from(dng.orientation));
    if !camera.name.is_empty() {
        root.add_tag(DngTag::UniqueCameraModel, camera.name.as_str());
    } else if image.clean_model.is_empty() {
        root.add_tag(DngTag::UniqueCameraModel, "unknown camera");
    }
    // What the reader took from the file and does not write again.
    let neutral = camera.colour.neutral.map(|v| Rational::new((v * 100_000.0).round() as u32, 100_000));
    root.add_tag(DngTag::AsShotNeutral, &neutral[..]);
    root.add_tag(DngTag::BaselineExposure, fraction(camera.colour.baseline));
    let slots = [
        (DngTag::ColorMatrix1, DngTag::ForwardMatrix1, DngTag::CalibrationIlluminant1),
        (DngTag::ColorMatrix2, DngTag::ForwardMatrix2, DngTag::CalibrationIlluminant2),
    ];
    for (calibration, (colour, forward, light)) in camera.colour.calibrations.iter().zip(slots) {
        let flat = |m: &[[f64; 3]; 3]| m.as_flattened().iter().map(|v| fraction(*v)).collect::<Vec<_>>();
        root.add_tag(light, u16::from(illuminant(calibration.kelvin)));
        root.add_tag(colour, Value::SRational(flat(&calibration.to_camera)));
        if let Some(matrix) = &calibration.forward {
            root.add_tag(forward, Value::SRational(flat(matrix)));
        }
    }
    if let Some(made) = &extras.made {
        root.add_tag(ExifTag::ApplicationNotes, made.xmp(&extras.words).as_bytes());
    }
    writer.close().map_err(fail)?;
    Ok(file.into_inner())
}

/// The light of that temperature that EXIF has a name for.
fn illuminant(kelvin: f64) -> Illuminant {
    let known = [
        (2856.0, Illuminant::A),
        (3200.0, Illuminant::IsoStudioTungsten),
        (4230.0, Illuminant::CoolWhiteFluorescent),
        (5003.0, Illuminant::D50),
        (5503.0, Illuminant::D55),
        (6504.0, Illuminant::D65),
        (7504.0, Illuminant::D75),
    ];
    let apart = |k: f64| (1.0 / k - 1.0 / kelvin).abs();
    known
        .into_iter()
        .min_by(|a, b| apart(a.0).total_cmp(&apart(b.0)))
        .map_or(Illuminant::D65, |(_, light)| light)
}
