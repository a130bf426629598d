//! What a raw file says of its camera's colour and noise (Adobe's DNG 1.7, chapters 4 and 6).

use crate::decode::raw::own_profiles::OwnProfile;
use crate::decode::tiff_directory::Page;
use rallo_engine::colour::transfer::Table;
use rallo_engine::raw::{Calibration, CameraColour, ColourProfile, HueTable, SensorNoise, Shift};
use rawler::RawImage;
use rawler::formats::tiff::Value;
use rawler::imgop::xyz::Illuminant;
use rawler::tags::DngTag;

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

/// The lights and matrices that a page tells.
pub(super) fn calibrations(page: &Page<'_>) -> Vec<Calibration> {
    let slots = [
        (DngTag::CalibrationIlluminant1, DngTag::ColorMatrix1, DngTag::ForwardMatrix1),
        (DngTag::CalibrationIlluminant2, DngTag::ColorMatrix2, DngTag::ForwardMatrix2),
    ];
    let told = slots.into_iter().filter_map(|(light, colour, forward)| {
        let of = |tag: DngTag| {
            let flat: Vec<f32> = page.fractions(tag as u16).into_iter().map(|v| v as f32).collect();
            matrix(&flat)
        };
        Some(Calibration { kelvin: light_of(page, light), to_camera: of(colour)?, forward: of(forward) })
    });
    told.collect()
}

/// Temperature of the light that a tag names.
fn light_of(page: &Page<'_>, tag: DngTag) -> f64 {
    let named = page.number(tag as u16).and_then(|n| Illuminant::try_from(u16::try_from(n).ok()?).ok());
    kelvin(named.unwrap_or(Illuminant::D65))
}

/// The colour of the camera; where there is a profile of one's own for it, that one's matrices.
pub(super) fn camera(image: &RawImage, pages: &[Page<'_>], own: Option<&OwnProfile>) -> CameraColour {
    let read = || -> Vec<Calibration> {
        let forward = |light: Illuminant| {
            let told = pages.iter().find(|p| p.has(DngTag::CalibrationIlluminant1 as u16))?;
            let same = calibrations(told).into_iter().find(|c| c.kelvin == kelvin(light));
            same.and_then(|c| c.forward)
        };
        let each = image.color_matrix.iter().filter_map(|(light, flat)| {
            let (kelvin, to_camera) = (kelvin(*light), matrix(flat)?);
            Some(Calibration { kelvin, to_camera, forward: forward(*light) })
        });
        each.collect()
    };
    let table = own.and_then(|own| own.table.clone());
    let own = own.map(|own| own.calibrations.clone()).filter(|own| !own.is_empty());
    let mut calibrations = own.unwrap_or_else(read);
    calibrations.sort_by(|a, b| a.kelvin.total_cmp(&b.kelvin));
    let [r, g, b, _] = image.wb_coeffs.map(f64::from);
    let is_set = [r, g, b].iter().all(|v| v.is_finite() && *v > 0.0);
    let neutral = if image.cpp == 1 && super::is_grey(image) {
        [1.0; 3]
    } else if is_set {
        [g / r, 1.0, g / b]
    } else {
        daylight(&calibrations)
    };
    let told = |tag: DngTag| pages.iter().find_map(|p| p.fractions(tag as u16).first().copied());
    let baseline =
        told(DngTag::BaselineExposure).unwrap_or(0.0) + told(DngTag::BaselineExposureOffset).unwrap_or(0.0);
    CameraColour { calibrations, neutral, baseline, table }
}

/// What a page says of how colours are to look.
pub(super) fn profile(page: &Page<'_>) -> ColourProfile {
    let encoded = |tag: DngTag| page.number(tag as u16) == Some(1);
    let table = |dims: DngTag, data: DngTag, encoding: DngTag| {
        let [hues, saturations, values] = page.numbers(dims as u16)[..] else { return None };
        let size = |n: u64| usize::try_from(n).ok();
        let flat = page.fractions(data as u16);
        let shifts = flat.as_chunks::<3>().0.iter().map(|[hue, saturation, value]| Shift {
            hue: *hue as f32,
            saturation: *saturation as f32,
            value: *value as f32,
        });
        let dims = (size(hues)?, size(saturations)?, size(values)?);
        HueTable::new(dims, shifts.collect(), encoded(encoding))
    };
    let slots = [
        (DngTag::CalibrationIlluminant1, DngTag::ProfileHueSatMapData1),
        (DngTag::CalibrationIlluminant2, DngTag::ProfileHueSatMapData2),
    ];
    let calibrations = slots.into_iter().filter_map(|(light, data)| {
        let table = table(DngTag::ProfileHueSatMapDims, data, DngTag::ProfileHueSatMapEncoding)?;
        Some((light_of(page, light), table))
    });
    ColourProfile {
        calibrations: calibrations.collect(),
        look: table(
            DngTag::ProfileLookTableDims,
            DngTag::ProfileLookTableData,
            DngTag::ProfileLookTableEncoding,
        ),
        tone: tone(&page.fractions(DngTag::ProfileToneCurve as u16)),
    }
}

/// The same as it stands in the file, to be handed on.
pub(super) fn profile_tags(page: &Page<'_>) -> Vec<(DngTag, Value)> {
    let single =
        |tag: DngTag| Value::Float(page.fractions(tag as u16).into_iter().map(|v| v as f32).collect());
    let whole = |tag: DngTag| Value::Long(page.numbers(tag as u16).into_iter().map(|v| v as u32).collect());
    let tags = [
        (DngTag::ProfileHueSatMapDims, true),
        (DngTag::ProfileHueSatMapData1, false),
        (DngTag::ProfileHueSatMapData2, false),
        (DngTag::ProfileHueSatMapEncoding, true),
        (DngTag::ProfileToneCurve, false),
        (DngTag::ProfileLookTableDims, true),
        (DngTag::ProfileLookTableData, false),
        (DngTag::ProfileLookTableEncoding, true),
    ];
    let present = tags.into_iter().filter(|(tag, _)| page.has(*tag as u16));
    present.map(|(tag, is_whole)| (tag, if is_whole { whole(tag) } else { single(tag) })).collect()
}

/// A curve through points given by turns as light in and light out.
fn tone(flat: &[f64]) -> Option<Table> {
    let points = flat.as_chunks::<2>().0.to_vec();
    let rises = points.windows(2).all(|p| p[0][0] < p[1][0] && p[0][1] <= p[1][1]);
    let in_range = points.iter().flatten().all(|v| (-1e-6..=1.0 + 1e-6).contains(v));
    if points.len() < 2 || !rises || !in_range {
        return None;
    }
    Some(Table::new(move |light| {
        let x = f64::from(light);
        let after = points.partition_point(|p| p[0] <= x);
        let y = match (after.checked_sub(1).map(|k| points[k]), points.get(after)) {
            (Some(a), Some(b)) => a[1] + (b[1] - a[1]) * (x - a[0]) / (b[0] - a[0]),
            (Some(end), None) => end[1],
            (None, first) => first.map_or(x, |first| first[1]),
        };
        y as f32
    }))
}

/// The noise a DNG tells: two numbers for each plane, or for all; the mean of what the planes have.
pub(super) fn told_noise(pages: &[Page<'_>]) -> Option<SensorNoise> {
    let told = pages.iter().map(|p| p.fractions(DngTag::NoiseProfile as u16)).find(|v| v.len() >= 2)?;
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
