//! The fixed camera over the seed beds: weeks of frames with nights, fog, passing shadows, flicker, a camera that
//! moves a little every day, doubles, gaps and a clock that was put back. Everything known is written down.

use crate::film::Exposure;
use crate::maths::{Dice, V3, fractal, smooth};
use crate::mesh::{Mesh, Stuff};
use crate::raster::Eye;
use crate::sensor::{self, Shot};
use crate::sequence::{Layers, Truth, file, put, row};
use crate::stills::DemoError;
use jiff::SignedDuration;
use jiff::civil::{DateTime, date};
use rallo_media::{CameraData, MediaError};
use rayon::prelude::*;
use std::path::Path;

/// Pixels of the camera.
pub const SIZE: (usize, usize) = (1920, 1280);
/// Pixels the scene is rendered at.
const RENDERED: (usize, usize) = (960, 640);
/// Days, and frames a day.
const DAYS: usize = 21;
const A_DAY: usize = 30;
/// States of growth the scene is rendered in.
const STAGES: usize = 6;

/// One frame of the fixed camera.
#[derive(Clone, Debug)]
pub struct BedFrame {
    /// Folder the card was copied to.
    pub folder: &'static str,
    /// File name.
    pub name: String,
    /// When it was really taken.
    pub taken: DateTime,
    /// What the camera's clock said.
    pub written: DateTime,
    /// How far the camera had moved, pixels right and down.
    pub shift: (f32, f32),
    /// Error of the exposure in stops.
    pub flicker: f32,
    fog: f32,
    cloud: f32,
    growth: f32,
    seed: u64,
    labels: Vec<&'static str>,
}

/// The scene at one state of growth, 0 ..= 1.
fn garden(growth: f32) -> (Mesh, Eye) {
    let mut mesh = Mesh::default();
    mesh.block(V3(0.0, -6.0, -40.0), V3(420.0, 5.0, 330.0), 0.0, Stuff::Soil, 3);
    let mut dice = Dice::new(77);
    for (k, x) in [-52.0f32, 0.0, 52.0].into_iter().enumerate() {
        let (long, wide) = (150.0, 38.0);
        let z = -22.0;
        for side in [-1.0f32, 1.0] {
            let seed = k as u32 * 4 + u32::from(side > 0.0);
            mesh.block(V3(x + side * wide / 2.0, -2.0, z), V3(2.2, 8.0, long), 0.0, Stuff::Wood, seed);
            mesh.block(V3(x, -2.0, z + side * long / 2.0), V3(wide, 8.0, 2.2), 0.0, Stuff::Wood, seed + 40);
        }
        mesh.block(V3(x, -2.0, z), V3(wide - 2.0, 6.0, long - 2.0), 0.0, Stuff::Soil, 11 + k as u32);
        for r in 0..3 {
            let at = x + (r as f32 - 1.0) * 11.0;
            let (from, to) = (V3(at, 4.0, z + long / 2.0 - 8.0), V3(at, 4.0, z - long / 2.0 + 8.0));
            // The beds were sown one after the other.
            let tall = 15.0 * (growth * 1.35 - 0.16 * k as f32).clamp(0.0, 1.0);
            row(&mut mesh, from, to, 11, tall, &mut dice);
        }
        mesh.tag(V3(x - 6.0, 4.0, z + long / 2.0 - 4.0), 0.15, 90 + k as u32);
    }
    // Boards to walk on.
    for x in [-26.0f32, 26.0] {
        mesh.block(V3(x, -1.2, -22.0), V3(9.0, 1.4, 160.0), 0.0, Stuff::Wood, (x + 90.0) as u32);
    }
    let mut dice = Dice::new(5);
    for i in 0..3 {
        let soil = mesh.pot(
            V3(-84.0 + i as f32 * 9.0, -1.0, 36.0 - i as f32 * 13.0),
            5.0,
            8.6,
            Stuff::Clay,
            true,
            i,
        );
        mesh.plant(soil, 9.0, 4, 3.4, &mut dice);
    }
    let eye =
        Eye { at: V3(4.0, 74.0, 112.0), to: V3(0.0, 0.0, -6.0), field: 62f32.to_radians(), roll: 0.012 };
    (mesh, eye)
}

/// Where the sun stands in the layers: morning, noon, evening.
const SUNS: [V3; 3] = [V3(0.95, 0.55, 0.25), V3(0.15, 1.1, 0.45), V3(-0.95, 0.5, 0.2)];

fn layers(stage: usize) -> Layers {
    let (mesh, eye) = garden(stage as f32 / (STAGES - 1) as f32);
    let hedge = |x: f32, y: f32| {
        let leaf = fractal(V3(x * 9.0, y * 9.0, 1.0), 4);
        V3(0.02, 0.045, 0.014).mix(V3(0.1, 0.16, 0.05), smooth(0.3, 0.75, leaf))
    };
    Layers::new(&mesh, &eye, &SUNS, RENDERED, &hedge)
}

/// Height of the sun over the horizon, −1 … 1, on a spring day.
fn sun_height(hour: f32) -> f32 {
    ((hour - 13.2) / 24.0 * std::f32::consts::TAU).cos() * 0.95 + 0.22
}

fn hour_of(t: DateTime) -> f32 {
    f32::from(t.hour()) + f32::from(t.minute()) / 60.0 + f32::from(t.second()) / 3600.0
}

/// Every frame of the fixed camera, in the order it was really taken.
pub fn bed(seed: u64) -> Vec<BedFrame> {
    let mut dice = Dice::new(seed ^ 0xbed);
    let start = date(2026, 4, 6).at(0, 10, 0, 0);
    let mut frames = Vec::new();
    let mut moved = (0.0f32, 0.0f32);
    let mut numbers = [0usize; 3];
    for day in 0..DAYS {
        moved.0 = (moved.0 + dice.between(-1.6, 1.6)).clamp(-6.0, 6.0);
        moved.1 = (moved.1 + dice.between(-1.2, 1.2)).clamp(-5.0, 5.0);
        let foggy = dice.unit() < 0.3;
        let clouds = dice.unit();
        // The cards were copied in another order than they were filled.
        let card = [1, 0, 2][day / 7];
        for k in 0..A_DAY {
            let minutes = (day * 1440 + k * 1440 / A_DAY) as i64;
            let taken = start.saturating_add(SignedDuration::from_secs(minutes * 60 + 7));
            let flicker = dice.between(-0.16, 0.16);
            let (patch, number) = (dice.unit(), dice.unit());
            // The camera slept now and then.
            if matches!((day, k), (3, 11) | (9, 17) | (9, 18) | (15, 6)) {
                continue;
            }
            let late = card == 2 && (day, k) >= (16, 14);
            let written = if late { taken.saturating_add(SignedDuration::from_hours(-1)) } else { taken };
            let hour = hour_of(taken);
            let fog = if foggy { smooth(10.5, 6.5, hour) * smooth(4.0, 6.0, hour) } else { 0.0 };
            let shadow = clouds > 0.35 && patch < 0.3 && sun_height(hour) > 0.15;
            let mut labels = Vec::new();
            for (is, label) in [
                (sun_height(hour) < -0.06, "night"),
                (fog > 0.25, "fog"),
                (shadow, "shadow"),
                (late, "clock"),
            ] {
                if is {
                    labels.push(label);
                }
            }
            numbers[card] += 1;
            let frame = BedFrame {
                folder: ["Bed card 1", "Bed card 2", "Bed card 3"][card],
                name: format!("BED_{:04}.jpg", numbers[card]),
                taken,
                written,
                shift: moved,
                flicker,
                fog,
                cloud: if shadow { 0.35 + 0.5 * number } else { 0.0 },
                growth: (day as f32 + k as f32 / A_DAY as f32) / DAYS as f32,
                seed: seed ^ ((day * 100 + k) as u64 * 7907),
                labels,
            };
            frames.push(frame.clone());
            // Now and then the shutter fired twice.
            if matches!((day, k), (2, 14) | (7, 9) | (12, 20) | (18, 12)) {
                numbers[card] += 1;
                let mut twice = frame;
                twice.name = format!("BED_{:04}.jpg", numbers[card]);
                twice.taken = twice.taken.saturating_add(SignedDuration::from_secs(2));
                twice.written = twice.written.saturating_add(SignedDuration::from_secs(2));
                twice.seed ^= 0x5eed;
                twice.labels.push("double");
                frames.push(twice);
            }
        }
    }
    frames
}

impl BedFrame {
    /// What is true of it.
    pub fn truth(&self) -> Truth {
        let mut labels = self.labels.clone();
        labels.sort_unstable();
        Truth {
            file: format!("{}/{}", self.folder, self.name),
            taken: self.taken.to_string(),
            written: self.written.to_string(),
            shift: [self.shift.0, self.shift.1],
            flicker: self.flicker,
            labels: labels.into_iter().map(str::to_owned).collect(),
        }
    }
}

/// Two neighbouring states of growth, held while frames between them are developed.
pub struct Scene {
    stage: usize,
    held: [Layers; 2],
}

impl Scene {
    /// Renders the states around `growth`.
    fn at(stage: usize) -> Self {
        Self { stage, held: [layers(stage), layers(stage + 1)] }
    }

    fn next(self) -> Self {
        let [_, second] = self.held;
        Self { stage: self.stage + 1, held: [second, layers(self.stage + 2)] }
    }

    /// The light on the sensor, and what the camera made of it.
    fn light(&self, frame: &BedFrame) -> (Vec<V3>, f32, u32) {
        let hour = hour_of(frame.taken);
        let height = sun_height(hour);
        let day = smooth(-0.1, 0.12, height);
        let share = (frame.growth * (STAGES - 1) as f32 - self.stage as f32).clamp(0.0, 1.0);
        // How much each direction of the sun counts now.
        let morning = smooth(12.5, 7.5, hour);
        let evening = smooth(13.5, 18.5, hour);
        let weights =
            [morning, (1.0 - morning - evening).max(0.0), evening].map(|w| w * smooth(0.0, 0.3, height));
        let low = smooth(0.45, 0.0, height);
        let sun = V3(1.0, 1.0, 1.0).mix(V3(1.15, 0.68, 0.4), low) * (1.0 - 0.75 * frame.fog);
        let sky = V3(1.0, 1.0, 1.0).mix(V3(1.05, 0.9, 0.86), low) * (day * (0.55 + 0.35 * frame.fog))
            + V3(0.0016, 0.002, 0.0032);
        let (w, h) = RENDERED;
        let drift = (frame.seed % 1000) as f32;
        let [a, b] = &self.held;
        let light: Vec<V3> = (0..w * h)
            .map(|i| {
                let mix = |u: &[V3], v: &[V3]| u[i].mix(v[i], share);
                let mut sunlight = V3::default();
                for (k, weight) in weights.iter().enumerate() {
                    if *weight > 0.0 {
                        sunlight = sunlight + mix(&a.suns[k], &b.suns[k]) * *weight;
                    }
                }
                let mut covered = 1.0;
                if frame.cloud > 0.0 {
                    let (x, y) = ((i % w) as f32 / w as f32, (i / w) as f32 / h as f32);
                    let patch = fractal(V3(x * 1.6 + drift, y * 1.6, 2.0), 2);
                    covered = 1.0 - frame.cloud * smooth(0.35, 0.6, patch);
                }
                let clear = mix(&a.sky, &b.sky) * sky + sunlight * sun * covered;
                if frame.fog > 0.0 {
                    let far = if a.depth[i].is_finite() { a.depth[i] } else { 400.0 };
                    let veil = 1.0 - (-far * 0.009 * frame.fog).exp();
                    return clear.mix(V3(0.42, 0.45, 0.48) * day, veil);
                }
                clear
            })
            .collect();
        // The camera meters the middle, coarsely, and runs out of light at night.
        let step = 37;
        let mean = light.iter().step_by(step).map(|v| v.0 * 0.2 + v.1 * 0.7 + v.2 * 0.1).sum::<f32>()
            / (light.len() / step) as f32;
        let wanted = 0.13 / mean.max(1e-5);
        let gain = wanted.min(14.0);
        let iso = [(1.4, 100), (3.0, 200), (6.0, 400), (10.0, 800)]
            .iter()
            .find(|(g, _)| gain < *g)
            .map_or(1600, |(_, i)| *i);
        (light, gain * 2f32.powf(frame.flicker), iso)
    }

    /// The finished file, as the camera would write it.
    ///
    /// # Errors
    /// When it cannot be encoded.
    pub fn file(&self, frame: &BedFrame) -> Result<Vec<u8>, MediaError> {
        let (light, gain, iso) = self.light(frame);
        let camera = Self::taken(frame, gain, iso);
        let exposure = Exposure {
            focus: 100.0,
            blur: 0.0,
            gain,
            iso,
            cast: (1.0, 1.0),
            width: SIZE.0,
            height: SIZE.1,
            moved: frame.shift,
        };
        file(&light, RENDERED, &exposure, &camera, frame.seed as u32)
    }

    /// The finished file of the camera that writes raw.
    ///
    /// # Errors
    /// When it cannot be encoded.
    pub fn raw_file(&self, frame: &BedFrame) -> Result<Vec<u8>, MediaError> {
        let (light, gain, iso) = self.light(frame);
        let taken = CameraData {
            camera: Some("Fen Post R".into()),
            lens: Some("Fen Post 6mm f/2.8".into()),
            focal_length: Some(6.0),
            ..Self::taken(frame, gain, iso)
        };
        let (from, lens, seed) = (RENDERED, sensor::POST, frame.seed as u32);
        Shot { light: &light, from, size: SIZE, gain, moved: frame.shift, lens, seed }.file(&taken)
    }

    /// How the camera was set.
    fn taken(frame: &BedFrame, gain: f32, iso: u32) -> CameraData {
        CameraData {
            taken: Some(frame.written),
            offset: Some("+01:00".into()),
            camera: Some("Fen Post".into()),
            lens: Some("Fen 4.5 mm f/2.8".into()),
            focal_length: Some(4.5),
            aperture: Some(2.8),
            shutter: Some(if gain > 6.0 {
                0.5
            } else {
                f64::from((1.0 / (60.0 / gain).max(4.0)).max(0.001))
            }),
            iso: Some(iso),
            orientation: 1,
            white_balance: Some("automatic".into()),
            gps: None,
            embedded_lens: None,
        }
    }
}

/// The finished file of one frame, with a scene rendered for it alone.
///
/// # Errors
/// When it cannot be encoded.
pub fn bed_file(frame: &BedFrame) -> Result<Vec<u8>, MediaError> {
    Scene::at(stage_of(frame)).file(frame)
}

/// Draws the fixed camera's frames below `folder` (three folders and `bed-truth.json`); `done` is told each file.
///
/// # Errors
/// [`DemoError`] for the first frame that failed.
pub fn write_bed(folder: &Path, seed: u64, done: impl Fn(&str) + Sync) -> Result<usize, DemoError> {
    write_all(folder, &bed(seed), "bed-truth.json", Scene::file, done)
}

/// Frames of three days, by a fixed camera that writes raw.
pub fn raw_bed(seed: u64) -> Vec<BedFrame> {
    let days = bed(seed).into_iter().filter(|f| !f.labels.contains(&"double")).skip(4).take(60);
    let named = days.enumerate().map(|(i, frame)| {
        let name = format!("FR_{:04}.dng", i + 1);
        BedFrame { folder: "Seed bed raw", name, ..frame }
    });
    named.collect()
}

/// Takes them below `folder`, with `bed-raw-truth.json`; `done` is told each file.
///
/// # Errors
/// [`DemoError`] for the first frame that failed.
pub fn write_raw_bed(folder: &Path, seed: u64, done: impl Fn(&str) + Sync) -> Result<usize, DemoError> {
    write_all(folder, &raw_bed(seed), "bed-raw-truth.json", Scene::raw_file, done)
}

/// Writes the frames that are not there yet, with a scene for each state of growth, and what is true of all; how many there are.
fn write_all(
    folder: &Path,
    frames: &[BedFrame],
    truth: &str,
    file: impl Fn(&Scene, &BedFrame) -> Result<Vec<u8>, MediaError> + Sync,
    done: impl Fn(&str) + Sync,
) -> Result<usize, DemoError> {
    let missing: Vec<&BedFrame> =
        frames.iter().filter(|f| !folder.join(f.folder).join(&f.name).exists()).collect();
    let mut scene: Option<Scene> = None;
    for stage in 0..STAGES - 1 {
        let here: Vec<&&BedFrame> = missing.iter().filter(|f| stage_of(f) == stage).collect();
        if here.is_empty() {
            continue;
        }
        let now = match scene.take() {
            Some(before) if before.stage + 1 == stage => before.next(),
            _ => Scene::at(stage),
        };
        here.par_iter().with_max_len(1).try_for_each(|frame| -> Result<(), DemoError> {
            let path = folder.join(frame.folder).join(&frame.name);
            put(&path, &file(&now, frame)?).map_err(|e| DemoError::Io(path, e))?;
            done(&frame.name);
            Ok(())
        })?;
        scene = Some(now);
    }
    let told: Vec<Truth> = frames.iter().map(BedFrame::truth).collect();
    write_truth(&folder.join(truth), &told)?;
    Ok(frames.len())
}

/// Writes what is true of a sequence.
pub(crate) fn write_truth(path: &Path, truth: &[Truth]) -> Result<(), DemoError> {
    let text = serde_json::to_string_pretty(truth).unwrap_or_default();
    std::fs::write(path, text + "\n").map_err(|e| DemoError::Io(path.to_owned(), e))
}

fn stage_of(frame: &BedFrame) -> usize {
    ((frame.growth * (STAGES - 1) as f32) as usize).min(STAGES - 2)
}

/// The fixed camera as a device: develops one frame after the other.
pub struct BedCamera {
    scene: Option<Scene>,
    seed: u64,
}

impl BedCamera {
    /// A camera over the beds of this seed.
    pub fn new(seed: u64) -> Self {
        Self { scene: None, seed }
    }

    /// Takes a picture of the beds as they are at `taken` (growth counts from the sixth of April 2026), with what
    /// the clock says.
    ///
    /// # Errors
    /// When it cannot be encoded.
    pub fn shoot(&mut self, taken: DateTime, written: DateTime) -> Result<Vec<u8>, MediaError> {
        let days = taken.duration_since(date(2026, 4, 6).at(0, 0, 0, 0)).as_secs_f64() / 86_400.0;
        let mut dice =
            Dice::new(self.seed ^ taken.duration_since(date(2000, 1, 1).at(0, 0, 0, 0)).as_secs() as u64);
        let frame = BedFrame {
            folder: "",
            name: String::new(),
            taken,
            written,
            shift: (0.0, 0.0),
            flicker: dice.between(-0.1, 0.1),
            fog: 0.0,
            cloud: 0.0,
            growth: (days / DAYS as f64).rem_euclid(1.0) as f32,
            seed: (dice.unit() * 1e9) as u64,
            labels: Vec::new(),
        };
        let stage = stage_of(&frame);
        let scene = match self.scene.take() {
            Some(scene) if scene.stage == stage => scene,
            Some(scene) if scene.stage + 1 == stage => scene.next(),
            _ => Scene::at(stage),
        };
        let bytes = scene.file(&frame);
        self.scene = Some(scene);
        bytes
    }
}
