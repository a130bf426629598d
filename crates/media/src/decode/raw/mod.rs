//! Camera raw, read by `rawler`: what the sensor counted, and what the file says of the camera's colour. The engine makes
//! the picture of it.

mod colour;
mod dng_head;
mod levels;
mod opcodes;
pub mod own_profiles;

use crate::MediaError;
use crate::decode::MAX_PIXELS;
use crate::decode::raw::dng_head::DngHead;
use crate::decode::raw::levels::Levels;
use crate::decode::raw::opcodes::Opcodes;
use crate::decode::tiff_directory::{self, Page};
use crate::decode::tiff_excerpt;
use rallo_engine::Size;
use rallo_engine::lens::EmbeddedLens;
use rallo_engine::raw::{ColourProfile, Mosaic, Pattern, Placed, Raw, Sensor};
use rawler::RawImage;
use rawler::decoders::RawDecodeParams;
use rawler::formats::tiff::Value;
use rawler::rawimage::{RawImageData, RawPhotometricInterpretation};
use rawler::rawsource::RawSource;
use rawler::tags::DngTag;
use std::sync::Arc;

/// What can be told before the pixels are unpacked.
pub(crate) struct RawHead {
    pub size: Size,
    pub bits: u8,
    /// What the camera wrote of its lens.
    pub lens: Option<EmbeddedLens>,
    pub notes: Vec<String>,
}

/// Refuses what a reader that does not look out never ends with, or has no room for.
fn safe(file: &[u8]) -> Result<(), MediaError> {
    tiff_directory::comes_to_an_end(file)?;
    match too_large(file) {
        Some((width, height)) => Err(MediaError::TooLarge { width, height }),
        None => Ok(()),
    }
}

fn image(file: &Arc<Vec<u8>>, without_pixels: bool) -> Result<RawImage, MediaError> {
    safe(file)?;
    let source = RawSource::new_from_shared_vec(file.clone());
    let refused = |e: rawler::RawlerError| {
        let text = e.to_string();
        MediaError::Unsupported(format!(
            "this camera raw is not read: {}",
            text.lines().next().unwrap_or("no reason")
        ))
    };
    let decoder = rawler::get_decoder(&source).map_err(refused)?;
    let image = decoder.raw_image(&source, &RawDecodeParams::default(), without_pixels).map_err(refused)?;
    if image.width as u64 * image.height as u64 > MAX_PIXELS {
        return Err(MediaError::TooLarge { width: image.width as u32, height: image.height as u32 });
    }
    Ok(image)
}

/// The size of a picture in the file, or of its tiles, that has more values than are read; the reader makes room for all of them
/// at once.
fn too_large(file: &[u8]) -> Option<(u32, u32)> {
    const MOST_VALUES: u64 = MAX_PIXELS * 3;
    let sides = [
        (tiff_directory::WIDTH, tiff_directory::LENGTH),
        (tiff_directory::TILE_WIDTH, tiff_directory::TILE_LENGTH),
    ];
    tiff_directory::every(file).iter().find_map(|page| {
        let samples = page.number_or(tiff_directory::SAMPLES, 1).max(1);
        sides.iter().find_map(|(across, down)| {
            let (width, height) = (page.number(*across)?, page.number(*down)?);
            let values = width.saturating_mul(height).saturating_mul(samples);
            let side = |v: u64| u32::try_from(v).unwrap_or(u32::MAX);
            (values > MOST_VALUES).then(|| (side(width), side(height)))
        })
    })
}

/// What else stands in a raw file, to be handed on.
pub(crate) struct Described {
    pub image: RawImage,
    pub metadata: rawler::decoders::RawMetadata,
    /// What a DNG calls the camera; empty elsewhere.
    pub name: String,
    /// What is said of how colours are to look.
    pub profile: Vec<(DngTag, Value)>,
    /// What is to be done to a picture after it was demosaiced: what the lens does.
    pub lens_opcodes: Option<Vec<u8>>,
}

/// Everything but the pixels.
///
/// # Errors
/// As [`head`].
pub(crate) fn described(file: &Arc<Vec<u8>>) -> Result<Described, MediaError> {
    let image = image(file, true)?;
    let source = RawSource::new_from_shared_vec(file.clone());
    let refused =
        |e: rawler::RawlerError| MediaError::Unsupported(format!("this camera raw is not read: {e}"));
    let decoder = rawler::get_decoder(&source).map_err(refused)?;
    let metadata = decoder.raw_metadata(&source, &RawDecodeParams::default()).map_err(refused)?;
    let pages = tiff_directory::every(file);
    let name = unique_name(&pages).unwrap_or_default();
    let profile = pages.first().map(colour::profile_tags).unwrap_or_default();
    let lens_opcodes = pages.iter().find_map(|p| p.bytes(DngTag::OpcodeList3 as u16)).map(<[u8]>::to_vec);
    Ok(Described { image, metadata, name, profile, lens_opcodes })
}

/// The part of the sensor that is the picture: left, top, width, height.
fn part(image: &RawImage) -> Option<[usize; 4]> {
    let area = image.crop_area.or(image.active_area);
    let [left, top, wide, high] =
        area.map_or([0, 0, image.width, image.height], |r| [r.p.x, r.p.y, r.d.w, r.d.h]);
    let fits = wide > 1 && high > 1 && left + wide <= image.width && top + high <= image.height;
    fits.then_some([left, top, wide, high])
}

/// What a DNG calls the camera.
fn unique_name(pages: &[Page<'_>]) -> Option<String> {
    let bytes = pages.iter().find_map(|p| p.bytes(DngTag::UniqueCameraModel as u16))?;
    Some(String::from_utf8_lossy(bytes).trim_end_matches('\0').to_owned())
}

/// Size and depth, and what is told of the lens.
///
/// # Errors
/// [`MediaError`] for what cannot be developed.
pub(crate) fn head(file: &Arc<Vec<u8>>) -> Result<RawHead, MediaError> {
    let pages = tiff_directory::every(file);
    let (size, bits) = match quick_head(file, &pages)? {
        Some(DngHead { size, bits }) => (size, bits),
        None => {
            let image = image(file, true)?;
            filters(&image)?;
            let [_, _, width, height] = part(&image)
                .ok_or_else(|| MediaError::Damaged("the raw's picture lies outside its sensor".into()))?;
            (Size::new(width as u32, height as u32), image.bps.clamp(1, 32) as u8)
        }
    };
    let Opcodes { lens, left_out, .. } = Opcodes::of(&pages);
    let told = |names: Vec<&str>| format!("The file also asks for {}, which is not done.", names.join(", "));
    let notes = if left_out.is_empty() { Vec::new() } else { vec![told(left_out)] };
    Ok(RawHead { size, bits, lens, notes })
}

/// Whether the beginning of a file says all that [`head`] tells: that of a DNG whose directories come before its pixels.
pub(crate) fn is_told_by(beginning: &[u8]) -> bool {
    tiff_excerpt::says_all(beginning) && dng_head::of(&tiff_directory::every(beginning)).is_some()
}

/// Size and depth as a DNG's directories alone tell them, where there is no doubt.
fn quick_head(file: &[u8], pages: &[Page<'_>]) -> Result<Option<DngHead>, MediaError> {
    safe(file)?;
    let head = dng_head::of(pages);
    match head {
        Some(DngHead { size, .. }) if size.area() > MAX_PIXELS => {
            Err(MediaError::TooLarge { width: size.width, height: size.height })
        }
        head => Ok(head),
    }
}

/// What stands before a sensor's pixels.
enum Filters {
    /// A repeating pattern of colours.
    Pattern(Pattern),
    /// Every pixel has all three colours.
    AllColours,
    /// Every pixel counts all light.
    None,
}

/// Whether a sensor counts light without colours.
fn is_grey(image: &RawImage) -> bool {
    matches!(image.photometric, RawPhotometricInterpretation::BlackIsZero)
}

fn filters(image: &RawImage) -> Result<Filters, MediaError> {
    let unsupported =
        |what: &str| MediaError::Unsupported(format!("this camera raw is not developed: {what}"));
    if image.fuji_rotation_width.is_some() {
        return Err(unsupported("its sensor stands on a corner"));
    }
    match &image.photometric {
        RawPhotometricInterpretation::Cfa(config) if image.cpp == 1 => {
            let cfa = &config.cfa;
            let cells: Vec<u8> =
                (0..cfa.height).flat_map(|y| (0..cfa.width).map(move |x| cfa.color_at(y, x) as u8)).collect();
            Pattern::new(cfa.width, cfa.height, &cells)
                .map(Filters::Pattern)
                .map_err(|e| unsupported(&format!("it has {e}")))
        }
        RawPhotometricInterpretation::LinearRaw if image.cpp == 3 => Ok(Filters::AllColours),
        RawPhotometricInterpretation::BlackIsZero | RawPhotometricInterpretation::LinearRaw
            if image.cpp == 1 =>
        {
            Ok(Filters::None)
        }
        _ => Err(unsupported(&format!("it has {} values a pixel", image.cpp))),
    }
}

/// Everything; its defects mended where that is asked for.
///
/// # Errors
/// [`MediaError`] for what cannot be developed.
pub(crate) fn read(file: &Arc<Vec<u8>>, mend: bool) -> Result<Raw, MediaError> {
    let mut image = image(file, false)?;
    let filters = filters(&image)?;
    let part = part(&image)
        .ok_or_else(|| MediaError::Damaged("the raw's picture lies outside its sensor".into()))?;
    let [left, top, width, height] = part;
    let size = Size::new(width as u32, height as u32);
    let cut_off = || MediaError::Damaged("the raw holds fewer values than its sensor has pixels".into());
    let channels = image.cpp;
    let count = match &image.data {
        RawImageData::Integer(v) => v.len(),
        RawImageData::Float(v) => v.len(),
    };
    let stride = count / image.height.max(1);
    if stride < (left + width) * channels || count < stride * (top + height) {
        return Err(cut_off());
    }
    let levels = Levels::of(&image);
    let data = std::mem::replace(&mut image.data, RawImageData::Integer(Vec::new()));
    let values = |data| levels.part(data, stride, part, channels);
    let mut sensor = match filters {
        Filters::Pattern(pattern) => {
            let pattern = pattern.shifted(left, top);
            let mosaic = match data {
                RawImageData::Integer(numbers) => {
                    Mosaic::of_counts(size, pattern, levels.counts(numbers, stride, part))
                }
                data => Mosaic::new(size, pattern, values(&data)),
            };
            Sensor::Mosaic(mosaic.map_err(|e| MediaError::Damaged(e.to_string()))?)
        }
        Filters::AllColours => Sensor::Linear(size, values(&data)),
        Filters::None => Sensor::Linear(size, values(&data).iter().flat_map(|v| [*v; 3]).collect()),
    };
    let pages = tiff_directory::every(file);
    let active =
        image.active_area.map_or((0, 0, image.width, image.height), |a| (a.p.x, a.p.y, a.d.w, a.d.h));
    let placed = Placed {
        offset: (left.saturating_sub(active.0), top.saturating_sub(active.1)),
        active: (active.2, active.3),
    };
    for map in &Opcodes::of(&pages).gain_maps {
        map.apply(&mut sensor, placed);
    }
    let name = unique_name(&pages).unwrap_or_else(|| format!("{} {}", image.clean_make, image.clean_model));
    let own = own_profiles::of_camera(&name);
    let camera = colour::camera(&image, &pages, own.as_deref());
    let told = pages.first().map(colour::profile).unwrap_or_default();
    let profile = match own.as_deref() {
        // It makes the colours by itself; how bright they are to be is left.
        Some(own) if own.table.is_some() => ColourProfile { tone: told.tone, ..ColourProfile::default() },
        Some(own) if !own.colours.is_empty() => own.colours.clone(),
        _ => told,
    };
    let raw = Raw::new(sensor, camera, colour::told_noise(&pages)).with_profile(profile);
    Ok(if mend { raw.mended() } else { raw })
}
