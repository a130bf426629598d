//! The light of frames of a sequence: brightness, contrast and change, of the whole and of parts, measured on small frames
//! that are kept, so that a part that is added later needs no decoding.

use rallo_engine::colour::transfer::{Table, decode, encode};
use rallo_engine::colour::working::LUMINANCE;
use rallo_engine::sequence::usual;
use rallo_engine::{Plan, Source};
use rallo_media::{CameraData, FileSource, MediaError, content_hash};
use rallo_recipe::{FrameValue, Overrides, RampFrame, Recipe};
use rallo_shoot::MeasuredArea;
use rallo_shoot::sieve::Light;
use rayon::prelude::*;
use std::collections::HashMap;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

/// Long edge of a small frame.
const EDGE: f64 = 160.0;

/// Which lines of a recipe frames are measured behind.
#[derive(Clone, Copy)]
pub struct Behind<'a> {
    /// The recipe.
    pub recipe: &'a Recipe,
    /// So many of its lines.
    pub lines: usize,
}

/// A frame, small.
#[derive(Clone, Debug, PartialEq)]
pub struct SmallFrame {
    width: usize,
    height: usize,
    /// Red, green and blue by turns, as they are seen.
    values: Vec<u8>,
}

/// Why a frame cannot be measured.
#[derive(Debug, thiserror::Error)]
pub enum LightError {
    /// It cannot be opened or decoded.
    #[error(transparent)]
    Media(#[from] MediaError),
    /// It cannot be rendered.
    #[error("{0}")]
    Render(String),
}

impl SmallFrame {
    /// Of a picture, behind some lines of a recipe where that is asked for, with what holds for this frame of its `values`.
    fn of(
        source: &FileSource,
        path: &Path,
        behind: Option<Behind<'_>>,
        values: &[FrameValue],
    ) -> Result<Self, LightError> {
        let told = |e: &dyn std::fmt::Display| LightError::Render(e.to_string());
        let plan = match behind {
            None => Plan::new(Vec::new(), source.size()).map_err(|e| told(&e))?,
            Some(Behind { recipe, lines }) => {
                let facts = source.facts(path);
                let mut context = crate::resolve_context(path, Some(&facts), &crate::Decided::default(), 1);
                context.overrides = Overrides::new(recipe, values).map_err(|e| told(&e))?;
                let placed = recipe.placed(&context).into_iter();
                let before =
                    placed.filter(|(at, _)| at.is_none_or(|at| at < lines)).map(|(_, settings)| settings);
                Plan::for_picture(before.collect(), source).map_err(|e| told(&e))?
            }
        };
        let edge = f64::from(plan.size().long_edge().max(1));
        let program = plan.program((EDGE / edge).min(1.0));
        let (size, pixels) = program.render_working(source, program.size().rect()).map_err(|e| told(&e))?;
        let seen = |v: &f32| (ENCODED.at(*v).clamp(0.0, 1.0) * 255.0 + 0.5) as u8;
        let values = pixels.as_flattened().iter().map(seen).collect();
        Ok(Self { width: size.width as usize, height: size.height as usize, values })
    }

    fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let (head, values) = bytes.split_first_chunk::<4>()?;
        let side = |a: u8, b: u8| usize::from(u16::from_le_bytes([a, b]));
        let (width, height) = (side(head[0], head[1]), side(head[2], head[3]));
        (width > 0 && values.len() == width * height * 3).then(|| Self {
            width,
            height,
            values: values.to_vec(),
        })
    }

    fn bytes(&self) -> Vec<u8> {
        let side = |v: usize| (v as u16).to_le_bytes();
        [&side(self.width)[..], &side(self.height), &self.values].concat()
    }

    /// Its pixels.
    fn pixels(&self) -> &[[u8; 3]] {
        self.values.as_chunks::<3>().0
    }

    /// Equal for frames that look the same to the last digit.
    pub fn mark(&self) -> String {
        content_hash(&self.values)
    }

    /// Linear luminance of every pixel.
    fn luminance(&self) -> Vec<f32> {
        let light = |p: &[u8; 3]| {
            p.iter().zip(LUMINANCE).map(|(v, share)| TABLE[usize::from(*v)] * share).sum::<f32>()
        };
        self.pixels().iter().map(light).collect()
    }
}

/// A small frame with the luminance of its pixels, as light and as it is seen.
struct Seen<'a> {
    frame: &'a SmallFrame,
    light: Vec<f32>,
    seen: Vec<f32>,
}

impl<'a> Seen<'a> {
    fn of(frame: &'a SmallFrame) -> Self {
        let light = frame.luminance();
        let seen = light.iter().map(|v| ENCODED.at(*v)).collect();
        Self { frame, light, seen }
    }

    /// What it looks like at a glance.
    fn glance(&self) -> Vec<f32> {
        usual::glance(&self.light, self.frame.width, self.frame.height)
    }

    /// Its light at some places, against the frame before it; `exposure` is how much light the camera let in, in stops.
    fn measured(&self, places: &[usize], before: Option<&Self>, exposure: Option<f64>) -> Light {
        let count = places.len().max(1) as f64;
        let mean = |values: &[f32]| places.iter().map(|at| f64::from(values[*at])).sum::<f64>() / count;
        let mut seen: Vec<f32> = places.iter().map(|at| self.seen[*at]).collect();
        let last = seen.len().max(1) - 1;
        let mut at = |share: f64| {
            let at = (share * last as f64).round() as usize;
            let is_there = at < seen.len();
            is_there.then(|| *seen.select_nth_unstable_by(at, f32::total_cmp).1)
        };
        let contrast = at(0.95).unwrap_or(0.0) - at(0.05).unwrap_or(0.0);
        let mut colour = [0u64; 3];
        for at in places {
            for (sum, value) in colour.iter_mut().zip(self.frame.pixels()[*at]) {
                *sum += u64::from(value);
            }
        }
        let size = |frame: &SmallFrame| (frame.width, frame.height);
        let change = before.filter(|b| size(b.frame) == size(self.frame)).map(|before| {
            // Equally bright first: flicker is no change of what is seen.
            let gain = (mean(&self.light) / mean(&before.light).max(1e-6)) as f32;
            let apart = |at: &usize| f64::from((self.seen[*at] - ENCODED.at(before.light[*at] * gain)).abs());
            places.iter().map(apart).sum::<f64>() / count * 100.0
        });
        let tidy = |v: f64| (v * 1000.0).round() / 1000.0;
        Light {
            brightness: tidy(mean(&self.seen) * 100.0),
            contrast: tidy(f64::from(contrast) * 100.0),
            change: change.map(tidy),
            colour: colour.map(|sum| tidy(sum as f64 / 2.55 / count)),
            scene: exposure.map(|stops| tidy((mean(&self.light) / MID_GREY).max(1e-4).log2() - stops)),
            unusual: None,
        }
    }
}

/// Luminance of mid grey.
const MID_GREY: f64 = 0.18;

/// How much light a camera let in: stops above ISO 100, f/1 and one second.
pub fn exposure(camera: &CameraData) -> Option<f64> {
    let (aperture, shutter, iso) = (camera.aperture?, camera.shutter?, f64::from(camera.iso?));
    let stops = (shutter * iso / 100.0 / (aperture * aperture)).log2();
    stops.is_finite().then_some(stops)
}

/// A frame that is to be measured.
#[derive(Clone, Debug)]
pub struct FrameFile {
    /// Its file.
    pub path: PathBuf,
    /// When it was taken, by the camera's clock.
    pub taken: Option<jiff::civil::DateTime>,
    /// As [`exposure`] tells.
    pub exposure: Option<f64>,
}

/// Hours since the midnight before the first frame, rising. Where frames have no times, they stand three minutes apart.
fn hours_of(frames: &[FrameFile]) -> Vec<f64> {
    let first =
        frames.iter().find_map(|f| f.taken).map(|t| t.date().to_datetime(jiff::civil::Time::midnight()));
    let mut last = 0.0;
    let hour = |frame: &FrameFile| {
        let told = frame.taken.zip(first).map(|(t, first)| t.duration_since(first).as_secs_f64() / 3600.0);
        last = told.filter(|h| *h > last).unwrap_or(last + 0.05);
        last
    };
    frames.iter().map(hour).collect()
}

/// Linear light of every 8-bit value.
static TABLE: std::sync::LazyLock<[f32; 256]> =
    std::sync::LazyLock::new(|| std::array::from_fn(|i| decode(i as f32 / 255.0)));

/// Light as it is seen.
static ENCODED: std::sync::LazyLock<Table> = std::sync::LazyLock::new(|| Table::new(encode));

/// One frame of a sequence.
#[derive(Debug)]
pub struct MeasuredFrame {
    /// Its file.
    pub path: PathBuf,
    /// When it was taken, by the camera's clock.
    pub taken: Option<jiff::civil::DateTime>,
    /// Equal for frames that look the same.
    pub mark: String,
    /// The light of the whole, and of each part; or why it could not be measured.
    pub light: Result<(Light, Vec<Light>), LightError>,
}

/// Where small frames are kept.
pub fn folder_of(data: &Path) -> PathBuf {
    data.join("small-frames")
}

/// A frame as it is kept, or made and kept now; frames behind lines of a recipe are not kept.
fn small(
    path: &Path,
    kept: Option<&Path>,
    behind: Option<Behind<'_>>,
    values: &[FrameValue],
) -> Result<SmallFrame, LightError> {
    let name = std::fs::metadata(path).ok().and_then(|meta| {
        let changed = meta.modified().ok()?.duration_since(std::time::UNIX_EPOCH).ok()?;
        Some(content_hash(format!("{}|{}|{}", path.display(), meta.len(), changed.as_nanos()).as_bytes()))
    });
    let file = kept.zip(name).filter(|_| behind.is_none()).map(|(folder, name)| folder.join(name));
    if let Some(known) = file.as_ref().and_then(|f| SmallFrame::from_bytes(&std::fs::read(f).ok()?)) {
        return Ok(known);
    }
    let source = FileSource::open(path)?;
    let source = match behind {
        Some(Behind { recipe, .. }) => source.decoding_by(&recipe.decode),
        None => source,
    };
    let made = SmallFrame::of(&source, path, behind, values)?;
    if let Some(file) = file {
        // What cannot be kept is made again the next time.
        let _ = crate::files::atomic_file::write_whole(&file, &made.bytes(), true);
    }
    Ok(made)
}

/// What is told of a frame.
#[derive(Debug)]
pub struct FrameLight {
    /// Equal for frames that look the same.
    pub mark: String,
    /// The light of the whole, and of each part; or why it could not be measured.
    pub light: Result<(Light, Vec<Light>), LightError>,
}

/// Frames that are held in memory together.
const TOGETHER: usize = 256;

/// Measures frames, each against the one before it. Small frames are kept in `kept`, where there is one. `done` is told each
/// frame, and may end it all: then nothing comes back.
pub fn lights(
    frames: &[FrameFile],
    areas: &[MeasuredArea],
    kept: Option<&Path>,
    behind: Option<Behind<'_>>,
    done: impl Fn(&Path) -> ControlFlow<()> + Sync,
) -> Option<Vec<FrameLight>> {
    if let Some(folder) = kept {
        let _ = std::fs::create_dir_all(folder);
    }
    // Where an area lies is the same in all frames of one size.
    let mut places: HashMap<(usize, usize), Vec<Vec<usize>>> = HashMap::new();
    let mut out: Vec<FrameLight> = Vec::with_capacity(frames.len());
    let mut glances: Vec<Option<Vec<f32>>> = Vec::with_capacity(frames.len());
    let mut last: Option<SmallFrame> = None;
    let ramped = behind.map_or_else(Vec::new, |behind| ramped(behind.recipe, frames));
    for (chunk, some) in frames.chunks(TOGETHER).enumerate() {
        let made = |(i, FrameFile { path, .. }): (usize, &FrameFile)| {
            let values = ramped.get(chunk * TOGETHER + i).map_or(&[][..], Vec::as_slice);
            let frame = small(path, kept, behind, values);
            done(path).is_continue().then_some(frame)
        };
        let small: Vec<Result<SmallFrame, LightError>> =
            some.par_iter().enumerate().map(made).collect::<Option<_>>()?;
        for frame in small.iter().flatten() {
            let all = std::iter::once(&MeasuredArea::WHOLE).chain(areas);
            places
                .entry((frame.width, frame.height))
                .or_insert_with(|| all.map(|area| area.places(frame.width, frame.height)).collect());
        }
        let seen: Vec<Option<Seen<'_>>> =
            small.par_iter().map(|frame| frame.as_ref().ok().map(Seen::of)).collect();
        let earlier = last.as_ref().map(Seen::of);
        let light = |i: usize| {
            let own = seen[i].as_ref()?;
            let before = seen[..i].iter().rev().find_map(Option::as_ref).or(earlier.as_ref());
            let exposure = some[i].exposure;
            let mut places = places.get(&(own.frame.width, own.frame.height))?.iter();
            let whole = places.next()?;
            let of_areas: Vec<Light> =
                places.map(|of_area| own.measured(of_area, before, exposure)).collect();
            Some((own.frame.mark(), (own.measured(whole, before, exposure), of_areas), own.glance()))
        };
        let told: Vec<_> = (0..small.len()).into_par_iter().map(light).collect();
        drop((seen, earlier));
        last = small.iter().rev().find_map(|b| b.as_ref().ok()).cloned().or(last);
        for (small, told) in small.into_iter().zip(told) {
            let (mark, light, glance) = match (small, told) {
                (Ok(_), Some((mark, light, glance))) => (mark, Ok(light), Some(glance)),
                (Ok(_), None) => (String::new(), Ok(Default::default()), None),
                (Err(e), _) => (String::new(), Err(e), None),
            };
            out.push(FrameLight { mark, light });
            glances.push(glance);
        }
    }
    let unusual = usual::unusual(&hours_of(frames), &glances);
    for (frame, stops) in out.iter_mut().zip(unusual) {
        if let Ok((whole, _)) = &mut frame.light {
            whole.unusual = stops.map(|stops| (stops * 1e5).round() / 1e3);
        }
    }
    Some(out)
}

/// Of every frame the values of lines that change over the sequence.
fn ramped(recipe: &Recipe, frames: &[FrameFile]) -> Vec<Vec<FrameValue>> {
    let name = |path: &Path| path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let frame = |frame: &FrameFile| RampFrame { name: name(&frame.path), taken: frame.taken };
    recipe.ramped(&frames.iter().map(frame).collect::<Vec<_>>())
}

/// Files in the order of time; those without one behind the others, by name.
pub fn in_order(paths: &[PathBuf]) -> Vec<FrameFile> {
    let told = |path: &PathBuf| {
        let camera = rallo_media::decode::facts(path).map(|facts| facts.camera).ok();
        FrameFile {
            path: path.clone(),
            taken: camera.as_ref().and_then(|c| c.taken),
            exposure: camera.as_ref().and_then(exposure),
        }
    };
    let mut frames: Vec<FrameFile> = paths.par_iter().map(told).collect();
    frames.sort_by(|a, b| {
        let by_name = || rallo_shoot::natural(&a.path.to_string_lossy(), &b.path.to_string_lossy());
        (a.taken.is_none(), a.taken).cmp(&(b.taken.is_none(), b.taken)).then_with(by_name)
    });
    frames
}

/// Measures frames in the order of time (those without one behind the others, by name), as [`lights`] does.
pub fn measure(
    paths: &[PathBuf],
    areas: &[MeasuredArea],
    kept: Option<&Path>,
    behind: Option<Behind<'_>>,
    done: impl Fn(&Path) + Sync,
) -> Vec<MeasuredFrame> {
    let frames = in_order(paths);
    let told = |path: &Path| {
        done(path);
        ControlFlow::Continue(())
    };
    let lights = lights(&frames, areas, kept, behind, told).unwrap_or_default();
    let measured = |(FrameFile { path, taken, .. }, FrameLight { mark, light }): (FrameFile, FrameLight)| {
        MeasuredFrame { path, taken, mark, light }
    };
    frames.into_iter().zip(lights).map(measured).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn frame(pixel: impl Fn(usize, usize) -> u8) -> SmallFrame {
        let values = (0..160 * 100).flat_map(|i| [pixel(i % 160, i / 160); 3]).collect();
        SmallFrame { width: 160, height: 100, values }
    }

    /// Its light in a part.
    fn light_of(
        frame: &SmallFrame,
        area: &MeasuredArea,
        before: Option<&SmallFrame>,
        exposure: Option<f64>,
    ) -> Light {
        let before = before.map(Seen::of);
        Seen::of(frame).measured(&area.places(frame.width, frame.height), before.as_ref(), exposure)
    }

    #[test]
    fn light_is_what_it_is_said_to_be() {
        let grey = light_of(&frame(|_, _| 128), &MeasuredArea::WHOLE, None, None);
        assert!((grey.brightness - 50.2).abs() < 0.1 && grey.contrast == 0.0 && grey.change.is_none());
        assert!(grey.colour.iter().all(|c| (c - 50.2).abs() < 0.1), "{grey:?}");
        let halves = frame(|x, _| if x < 80 { 51 } else { 204 });
        let light = light_of(&halves, &MeasuredArea::WHOLE, None, None);
        assert!((light.brightness - 50.0).abs() < 0.1 && (light.contrast - 60.0).abs() < 0.1, "{light:?}");
        let left = light_of(&halves, &MeasuredArea::Rectangle([0.0, 0.0, 0.5, 1.0]), None, None);
        assert!((left.brightness - 20.0).abs() < 0.1 && left.contrast == 0.0, "{left:?}");
    }

    #[test]
    fn the_light_of_the_scene_is_what_the_camera_let_in_taken_off() {
        let grey = light_of(&frame(|_, _| 118), &MeasuredArea::WHOLE, None, None);
        assert_eq!((grey.scene, grey.unusual), (None, None));
        // Mid grey at ISO 100, f/8 and 1/125: by definition of the exposure value 6 + 7 stops.
        let camera = CameraData {
            aperture: Some(8.0),
            shutter: Some(1.0 / 125.0),
            iso: Some(100),
            ..CameraData::default()
        };
        let light = light_of(&frame(|_, _| 118), &MeasuredArea::WHOLE, None, exposure(&camera));
        assert!((light.scene.unwrap() - 12.97).abs() < 0.03, "{light:?}");
        assert_eq!(exposure(&CameraData { shutter: Some(0.0), ..camera }), None);
    }

    #[test]
    fn what_flickers_is_no_change_and_what_moves_is() {
        let texture = |x: usize, y: usize| 60 + ((x / 9 + y / 7) % 5) as u8 * 20;
        let before = frame(texture);
        // A tenth brighter in light.
        let brighter =
            frame(|x, y| (encode(decode(f32::from(texture(x, y)) / 255.0) * 1.1) * 255.0).round() as u8);
        let flickers = light_of(&brighter, &MeasuredArea::WHOLE, Some(&before), None).change.unwrap();
        assert!(flickers < 0.3, "{flickers}");
        let moved = light_of(&frame(|x, y| texture(x + 9, y)), &MeasuredArea::WHOLE, Some(&before), None)
            .change
            .unwrap();
        assert!(moved > 5.0, "{moved}");
        assert_eq!(light_of(&before, &MeasuredArea::WHOLE, Some(&before), None).change, Some(0.0));
    }

    #[test]
    fn a_frame_comes_back_from_where_it_is_kept() {
        let known = frame(|x, y| (x + y) as u8);
        assert_eq!(SmallFrame::from_bytes(&known.bytes()), Some(known.clone()));
        let bytes = known.bytes();
        for cut in [0, 3, 4, 100, bytes.len() - 1] {
            assert_eq!(SmallFrame::from_bytes(&bytes[..cut]), None);
        }
        assert_ne!(known.mark(), frame(|_, _| 5).mark());
    }
}
