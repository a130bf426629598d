//! DNG, written by `rawler`. Linear: three values a pixel as the camera counted them, with all that makes other programs take
//! it for the camera's own raw. As a mosaic: what a camera writes.

use crate::MediaError;
use crate::decode::raw;
use crate::encode::extras::Extras;
use crate::metadata::exif::CameraData;
use image::{DynamicImage, ImageBuffer};
use rallo_engine::raw::{CameraColour, SensorNoise};
use rallo_engine::{Encoded, Pixels, Size};
use rawler::cfa::{CFA, PlaneColor};
use rawler::decoders::RawMetadata;
use rawler::dng::writer::DngWriter;
use rawler::dng::{CropMode, DNG_VERSION_V1_4, DngCompression, DngPhotometricConversion};
use rawler::exif::Exif;
use rawler::formats::tiff::{Rational, SRational, Value};
use rawler::imgop::xyz::Illuminant;
use rawler::pixarray::PixU16;
use rawler::rawimage::{BlackLevel, CFAConfig, RawPhotometricInterpretation, WhiteLevel};
use rawler::tags::{DngTag, ExifTag, TiffCommonTag};
use std::io::Cursor;
use std::sync::Arc;

/// Quality of the preview beside the raw, 0 ..= 1.
const PREVIEW_QUALITY: f32 = 0.85;

fn fail(message: impl ToString) -> MediaError {
    MediaError::Encode { format: "DNG", message: message.to_string() }
}

/// What a linear DNG is made of beside the original's own data.
pub struct LinearDng<'a> {
    /// Pixels as stored.
    pub size: Size,
    /// Red, green and blue by turns.
    pub values: Vec<u16>,
    /// The value of no light.
    pub black: u16,
    /// How the stored picture lies, as EXIF says it.
    pub orientation: u8,
    /// As it looks, upright or not as stored.
    pub preview: &'a Encoded,
    /// Whether it is packed without loss.
    pub packed: bool,
    /// The camera's colour, with the white that it is handed on with.
    pub colour: &'a CameraColour,
    /// Whether its shape is no longer the original's: then what the camera says of its lens no longer holds.
    pub is_shaped: bool,
}

/// A number as a signed fraction of ten thousand.
fn fraction(value: f64) -> SRational {
    SRational::new((value * 10_000.0).round() as i32, 10_000)
}

/// A DNG in the making.
type Writer<'a> = DngWriter<&'a mut Cursor<Vec<u8>>>;

/// The preview, which stands first in the file.
fn put_preview(writer: &mut Writer<'_>, preview: &Encoded) -> Result<(), MediaError> {
    let Pixels::U8(pixels) = &preview.pixels else {
        return Err(fail("the preview has more than 8 bits"));
    };
    let Size { width, height } = preview.size;
    let preview = ImageBuffer::from_raw(width, height, pixels.clone());
    let preview = DynamicImage::ImageRgb8(preview.ok_or_else(|| fail("the preview is not whole"))?);
    let mut frame = writer.subframe_on_root(1);
    frame.preview(&preview, PREVIEW_QUALITY).map_err(fail)?;
    frame.finalize().map_err(fail)
}

/// What is known of the camera's colour.
fn put_colour(writer: &mut Writer<'_>, colour: &CameraColour) {
    let root = writer.root_ifd_mut();
    let neutral = colour.neutral.map(|v| Rational::new((v * 100_000.0).round() as u32, 100_000));
    root.add_tag(DngTag::AsShotNeutral, &neutral[..]);
    root.add_tag(DngTag::BaselineExposure, fraction(colour.baseline));
    let slots = [
        (DngTag::ColorMatrix1, DngTag::ForwardMatrix1, DngTag::CalibrationIlluminant1),
        (DngTag::ColorMatrix2, DngTag::ForwardMatrix2, DngTag::CalibrationIlluminant2),
    ];
    for (calibration, (colour, forward, light)) in colour.calibrations.iter().zip(slots) {
        let flat = |m: &[[f64; 3]; 3]| m.as_flattened().iter().map(|v| fraction(*v)).collect::<Vec<_>>();
        root.add_tag(light, u16::from(illuminant(calibration.kelvin)));
        root.add_tag(colour, Value::SRational(flat(&calibration.to_camera)));
        if let Some(matrix) = &calibration.forward {
            root.add_tag(forward, Value::SRational(flat(matrix)));
        }
    }
}

/// Writes one for the camera raw `original`.
///
/// # Errors
/// [`MediaError::Encode`].
pub fn linear_dng(
    original: &Arc<Vec<u8>>,
    dng: LinearDng<'_>,
    extras: &Extras,
) -> Result<Vec<u8>, MediaError> {
    let raw::Described { mut image, metadata, name, profile, lens_opcodes } = raw::described(original)?;
    let Size { width, height } = dng.size;
    let (width, height) = (width as usize, height as usize);
    let mut written = rawler::RawImage::new(
        image.camera.clone(),
        PixU16::new_with(dng.values, width * 3, height),
        3,
        image.wb_coeffs,
        RawPhotometricInterpretation::LinearRaw,
        Some(BlackLevel::new(&[u32::from(dng.black); 3], 1, 1, 3)),
        Some(WhiteLevel::new_bits(16, 3)),
        false,
    );
    (written.width, written.height) = (width, height);
    (written.active_area, written.crop_area) = (None, None);
    written.color_matrix = std::mem::take(&mut image.color_matrix);
    let mut file = Cursor::new(Vec::new());
    let mut writer = DngWriter::new(&mut file, DNG_VERSION_V1_4).map_err(fail)?;
    put_preview(&mut writer, dng.preview)?;
    {
        let mut frame = writer.subframe(0);
        frame
            .raw_image(
                &written,
                CropMode::None,
                packing(dng.packed, dng.size),
                DngPhotometricConversion::Original,
                1,
            )
            .map_err(fail)?;
        if let Some(opcodes) = lens_opcodes.filter(|_| !dng.is_shaped) {
            frame.ifd_mut().add_tag(DngTag::OpcodeList3, Value::Undefined(opcodes));
        }
        frame.finalize().map_err(fail)?;
    }
    writer.load_base_tags(&image).map_err(fail)?;
    if extras.exif.is_some() {
        writer.load_metadata(&metadata).map_err(fail)?;
    }
    // What the reader took from the file and does not write again.
    put_colour(&mut writer, dng.colour);
    let root = writer.root_ifd_mut();
    root.add_tag(TiffCommonTag::Orientation, u16::from(dng.orientation));
    if !name.is_empty() {
        root.add_tag(DngTag::UniqueCameraModel, name.as_str());
    } else if image.clean_model.is_empty() {
        root.add_tag(DngTag::UniqueCameraModel, "unknown camera");
    }
    for (tag, value) in profile {
        root.add_tag(tag, value);
    }
    if let Some(made) = &extras.made {
        root.add_tag(ExifTag::ApplicationNotes, made.xmp(&extras.words).as_bytes());
    }
    writer.close().map_err(fail)?;
    Ok(file.into_inner())
}

/// Side of the tiles that are packed.
const TILE: u32 = 256;

/// A picture smaller than a tile is not packed: libraw reads its colours wrongly then.
fn packing(packed: bool, size: Size) -> DngCompression {
    let is_large = size.width.min(size.height) >= TILE;
    if packed && is_large { DngCompression::Lossless } else { DngCompression::Uncompressed }
}

/// What a camera's sensor counted, to be written as the camera would.
pub struct MosaicDng<'a> {
    /// Pixels each way.
    pub size: Size,
    /// One value a pixel.
    pub counts: Vec<u16>,
    /// The value of no light, and of the most.
    pub levels: (u16, u16),
    /// Filters of 2 × 2 pixels, row by row: 0 red, 1 green, 2 blue.
    pub filters: [u8; 4],
    /// The camera's colour.
    pub colour: &'a CameraColour,
    /// Its noise, where it is to be told.
    pub noise: Option<SensorNoise>,
    /// How the picture was taken.
    pub taken: &'a CameraData,
    /// The camera's own picture.
    pub preview: &'a Encoded,
}

/// Writes it.
///
/// # Errors
/// [`MediaError::Encode`].
pub fn mosaic_dng(dng: MosaicDng<'_>) -> Result<Vec<u8>, MediaError> {
    let (width, height) = (dng.size.width as usize, dng.size.height as usize);
    let named = dng.taken.camera.clone().unwrap_or_else(|| "unknown camera".into());
    let (make, model) = named.split_once(' ').unwrap_or((&named, &named));
    let mut camera = rawler::decoders::Camera::new();
    (camera.make, camera.clean_make) = (make.to_owned(), make.to_owned());
    (camera.model, camera.clean_model) = (model.to_owned(), model.to_owned());
    let letters: String = dng.filters.iter().map(|c| ['R', 'G', 'B'][usize::from(*c % 3)]).collect();
    let filters = CFAConfig::new(&CFA::new(&letters), &PlaneColor::default());
    let (black, white) = dng.levels;
    let gains = dng.colour.gains();
    let mut image = rawler::RawImage::new(
        camera,
        PixU16::new_with(dng.counts, width, height),
        1,
        [gains[0] / gains[1], 1.0, gains[2] / gains[1], f32::NAN],
        RawPhotometricInterpretation::Cfa(filters),
        Some(BlackLevel::new(&[u32::from(black)], 1, 1, 1)),
        Some(WhiteLevel::new(vec![u32::from(white)])),
        false,
    );
    (image.active_area, image.crop_area) = (None, None);
    let mut file = Cursor::new(Vec::new());
    let mut writer = DngWriter::new(&mut file, DNG_VERSION_V1_4).map_err(fail)?;
    put_preview(&mut writer, dng.preview)?;
    {
        let mut frame = writer.subframe(0);
        frame
            .raw_image(&image, CropMode::None, packing(true, dng.size), DngPhotometricConversion::Original, 1)
            .map_err(fail)?;
        if let Some(noise) = dng.noise {
            let pair = vec![f64::from(noise.shot), f64::from(noise.read)];
            frame.ifd_mut().add_tag(DngTag::NoiseProfile, Value::Double(pair));
        }
        frame.finalize().map_err(fail)?;
    }
    writer.load_base_tags(&image).map_err(fail)?;
    let exif = exif_of(dng.taken);
    let (make, model) = (make.to_owned(), model.to_owned());
    let metadata = RawMetadata { exif, model, make, lens: None, unique_image_id: None, rating: None };
    writer.load_metadata(&metadata).map_err(fail)?;
    put_colour(&mut writer, dng.colour);
    writer.root_ifd_mut().add_tag(TiffCommonTag::Orientation, dng.taken.orientation.max(1) as u16);
    writer.close().map_err(fail)?;
    Ok(file.into_inner())
}

/// How a picture was taken, as the writer takes it.
fn exif_of(taken: &CameraData) -> Exif {
    let ratio = |v: f64| {
        if v < 0.3 {
            Rational::new(1, (1.0 / v).round() as u32)
        } else {
            Rational::new((v * 100.0).round() as u32, 100)
        }
    };
    let time = taken.taken.map(|t| t.strftime("%Y:%m:%d %H:%M:%S").to_string());
    Exif {
        exposure_time: taken.shutter.map(ratio),
        fnumber: taken.aperture.map(ratio),
        focal_length: taken.focal_length.map(ratio),
        iso_speed_ratings: taken.iso.map(|iso| iso.min(65_535) as u16),
        sub_sec_time_original: taken.taken.map(|t| format!("{:03}", t.subsec_nanosecond() / 1_000_000)),
        date_time_original: time.clone(),
        create_date: time,
        offset_time_original: taken.offset.clone(),
        lens_model: taken.lens.clone(),
        ..Exif::default()
    }
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
