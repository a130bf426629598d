//! Camera raw, read by `rawler`: what the sensor counted, and what the file says of the camera's colour. The engine makes
//! the picture of it.

use crate::MediaError;
use crate::decode::MAX_PIXELS;
use crate::decode::tiff_directory::Directory;
use rallo_engine::Size;
use rallo_engine::raw::{Calibration, CameraColour, Mosaic, Pattern, Raw, Sensor, SensorNoise};
use rawler::RawImage;
use rawler::decoders::RawDecodeParams;
use rawler::imgop::xyz::Illuminant;
use rawler::rawimage::{RawImageData, RawPhotometricInterpretation};
use rawler::rawsource::RawSource;

/// Tags of a DNG that the reader does not hand on (Adobe's DNG 1.7, chapter 4).
const CALIBRATION_LIGHTS: [u16; 2] = [50_778, 50_779];
const FORWARD_MATRICES: [u16; 2] = [50_964, 50_965];
const BASELINE_EXPOSURE: u16 = 50_730;
const NOISE_PROFILE: u16 = 51_041;
const UNIQUE_NAME: u16 = 50_708;

/// What can be told before the pixels are unpacked.
pub(crate) struct RawHead {
    pub size: Size,
    pub bits: u8,
}

fn image(file: &[u8], without_pixels: bool) -> Result<RawImage, MediaError> {
    let source = RawSource::new_from_slice(file);
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

/// What else stands in a raw file, to be handed on.
pub(crate) struct Described {
    pub image: RawImage,
    pub metadata: rawler::decoders::RawMetadata,
    pub camera: Camera,
}

/// Name and colour of a camera.
pub(crate) struct Camera {
    pub name: String,
    pub colour: CameraColour,
}

/// Everything but the pixels.
///
/// # Errors
/// As [`head`].
pub(crate) fn described(file: &[u8]) -> Result<Described, MediaError> {
    let image = image(file, true)?;
    let source = RawSource::new_from_slice(file);
    let refused =
        |e: rawler::RawlerError| MediaError::Unsupported(format!("this camera raw is not read: {e}"));
    let decoder = rawler::get_decoder(&source).map_err(refused)?;
    let metadata = decoder.raw_metadata(&source, &RawDecodeParams::default()).map_err(refused)?;
    let directory = Directory::read(file).ok();
    let name = directory.as_ref().and_then(|d| d.pages.first()?.bytes(UNIQUE_NAME));
    let name = name.map(|bytes| String::from_utf8_lossy(bytes).trim_end_matches('\0').to_owned());
    let camera = Camera { name: name.unwrap_or_default(), colour: camera(&image, file) };
    Ok(Described { image, metadata, camera })
}

/// The part of the sensor that is the picture: left, top, width, height.
fn part(image: &RawImage) -> Option<[usize; 4]> {
    let area = image.crop_area.or(image.active_area);
    let [left, top, wide, high] =
        area.map_or([0, 0, image.width, image.height], |r| [r.p.x, r.p.y, r.d.w, r.d.h]);
    let fits = wide > 1 && high > 1 && left + wide <= image.width && top + high <= image.height;
    fits.then_some([left, top, wide, high])
}

/// Size and depth.
///
/// # Errors
/// [`MediaError`] for what cannot be developed.
pub(crate) fn head(file: &[u8]) -> Result<RawHead, MediaError> {
    let image = image(file, true)?;
    filters(&image)?;
    let [_, _, width, height] = part(&image)
        .ok_or_else(|| MediaError::Damaged("the raw's picture lies outside its sensor".into()))?;
    Ok(RawHead { size: Size::new(width as u32, height as u32), bits: image.bps.clamp(1, 32) as u8 })
}

/// The colour filters; none where every pixel has all three colours.
fn filters(image: &RawImage) -> Result<Option<Pattern>, MediaError> {
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
                .map(Some)
                .map_err(|e| unsupported(&format!("it has {e}")))
        }
        RawPhotometricInterpretation::LinearRaw if image.cpp == 3 => Ok(None),
        RawPhotometricInterpretation::BlackIsZero => Err(unsupported("it has no colours")),
        _ => Err(unsupported(&format!("it has {} values a pixel", image.cpp))),
    }
}

/// Everything.
///
/// # Errors
/// [`MediaError`] for what cannot be developed.
pub(crate) fn read(file: &[u8]) -> Result<Raw, MediaError> {
    let image = image(file, false)?;
    let pattern = filters(&image)?;
    let [left, top, width, height] = part(&image)
        .ok_or_else(|| MediaError::Damaged("the raw's picture lies outside its sensor".into()))?;
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
    let value = |x: usize, y: usize, c: usize| {
        let at = y * stride + x * channels + c;
        let raw = match &image.data {
            RawImageData::Integer(v) => f32::from(v[at]),
            RawImageData::Float(v) => v[at],
        };
        levels.light(raw, x, y, c)
    };
    let mut values = Vec::with_capacity(width * height * channels);
    for y in top..top + height {
        for x in left..left + width {
            values.extend((0..channels).map(|c| value(x, y, c)));
        }
    }
    let sensor = match pattern {
        Some(pattern) => Sensor::Mosaic(
            Mosaic::new(size, pattern.shifted(left, top), values)
                .map_err(|e| MediaError::Damaged(e.to_string()))?,
        ),
        None => Sensor::Linear(size, values),
    };
    Ok(Raw::new(sensor, camera(&image, file), told_noise(file)))
}

/// Black and white of every place.
struct Levels {
    black: Vec<f32>,
    /// Cells across and down, and values a pixel.
    repeat: (usize, usize, usize),
    /// Where the cells begin.
    origin: (usize, usize),
    white: Vec<f32>,
}

impl Levels {
    fn of(image: &RawImage) -> Self {
        let black = &image.blacklevel;
        let repeat = (black.width.max(1), black.height.max(1), black.cpp.max(1));
        let mut values = black.as_vec();
        values.resize(repeat.0 * repeat.1 * repeat.2, values.last().copied().unwrap_or(0.0));
        let origin = image.active_area.map_or((0, 0), |a| (a.p.x, a.p.y));
        let mut white = image.whitelevel.as_vec();
        if white.is_empty() {
            white.push(((1u64 << image.bps.clamp(1, 16)) - 1) as f32);
        }
        Self { black: values, repeat, origin, white }
    }

    /// 0 for no light, 1 for the most that is counted.
    #[inline(always)]
    fn light(&self, raw: f32, x: usize, y: usize, channel: usize) -> f32 {
        let (w, h, channels) = self.repeat;
        let column = (x + w * 64 - self.origin.0 % w) % w;
        let row = (y + h * 64 - self.origin.1 % h) % h;
        let black = self.black[(row * w + column) * channels + channel.min(channels - 1)];
        let white = self.white[channel.min(self.white.len() - 1)];
        let light = (raw - black) / (white - black).max(1.0);
        // A little below black is noise, whose mean has to stay.
        if light.is_finite() { light.clamp(-0.1, 1.0) } else { 0.0 }
    }
}

/// Temperatures of the lights that EXIF has names for.
fn kelvin(light: Illuminant) -> f64 {
    match light {
        Illuminant::A | Illuminant::Tungsten => 2856.0,
        Illuminant::IsoStudioTungsten => 3200.0,
        Illuminant::B => 4874.0,
        Illuminant::C => 6774.0,
        Illuminant::D50 => 5003.0,
        Illuminant::D55 | Illuminant::Daylight | Illuminant::FineWeather | Illuminant::Flash => 5503.0,
        Illuminant::CloudyWeather => 6000.0,
        Illuminant::D75 | Illuminant::Shade => 7504.0,
        Illuminant::DaylightFluorescent => 6430.0,
        Illuminant::DaylightWhiteFluorescent => 5000.0,
        Illuminant::CoolWhiteFluorescent | Illuminant::Fluorescent => 4230.0,
        Illuminant::WhiteFluorescent => 3450.0,
        Illuminant::D65 | Illuminant::Unknown => 6504.0,
    }
}

fn matrix(flat: &[f32]) -> Option<[[f64; 3]; 3]> {
    let nine: &[f32; 9] = flat.first_chunk()?;
    Some(std::array::from_fn(|r| std::array::from_fn(|c| f64::from(nine[r * 3 + c]))))
}

fn camera(image: &RawImage, file: &[u8]) -> CameraColour {
    let directory = Directory::read(file).ok();
    let first = directory.as_ref().and_then(|d| d.pages.first());
    let forward = |light: Illuminant| {
        let page = first?;
        let k = CALIBRATION_LIGHTS
            .iter()
            .position(|tag| page.number(*tag) == Some(u64::from(u16::from(light))))?;
        let flat: Vec<f32> = page.fractions(FORWARD_MATRICES[k]).into_iter().map(|v| v as f32).collect();
        matrix(&flat)
    };
    let mut calibrations: Vec<Calibration> = image
        .color_matrix
        .iter()
        .filter_map(|(light, flat)| {
            Some(Calibration { kelvin: kelvin(*light), to_camera: matrix(flat)?, forward: forward(*light) })
        })
        .collect();
    calibrations.sort_by(|a, b| a.kelvin.total_cmp(&b.kelvin));
    let [r, g, b, _] = image.wb_coeffs.map(f64::from);
    let is_set = [r, g, b].iter().all(|v| v.is_finite() && *v > 0.0);
    let neutral = if is_set { [g / r, 1.0, g / b] } else { daylight(&calibrations) };
    let baseline = first.and_then(|p| p.fractions(BASELINE_EXPOSURE).first().copied()).unwrap_or(0.0);
    CameraColour { calibrations, neutral, baseline }
}

/// The noise a DNG tells: two numbers for each plane, or for all; the mean of what the planes have.
fn told_noise(file: &[u8]) -> Option<SensorNoise> {
    let directory = Directory::read(file).ok()?;
    let told = directory.pages.iter().map(|page| page.fractions(NOISE_PROFILE)).find(|v| v.len() >= 2)?;
    let pairs = told.as_chunks::<2>().0;
    let mean = |k: usize| pairs.iter().map(|pair| pair[k]).sum::<f64>() / pairs.len() as f64;
    SensorNoise::told(mean(0), mean(1))
}

/// What a camera that was not set counts of something neutral in daylight.
fn daylight(calibrations: &[Calibration]) -> [f64; 3] {
    // XYZ of D65 with a luminance of 1.
    let white = [0.9504, 1.0, 1.0889];
    let Some(cool) = calibrations.last() else { return [1.0; 3] };
    let seen = cool.to_camera.map(|row| row.iter().zip(white).map(|(m, v)| m * v).sum::<f64>());
    if seen.iter().all(|v| *v > 1e-6) { seen.map(|v| v / seen[1]) } else { [1.0; 3] }
}
