//! The catalogue stills: what stands on the bench, how it is lit and taken.

use crate::film::{self, Exposure};
use crate::maths::{Dice, V3, fractal, smooth};
use crate::mesh::{Mesh, Stuff};
use crate::raster::{self, Eye};
use crate::sensor::{self, Shot};
use crate::shade::Light;
use jiff::civil::{DateTime, date};
use jiff::{SignedDuration, ToSpan};
use rallo_engine::{Encoded, Pixels, Size};
use rallo_media::{CameraData, Chroma, Encoding, Extras, MediaError};
use rayon::prelude::*;
use std::path::{Path, PathBuf};

/// What stands on the bench.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Subject {
    Three,
    Close,
    Rows,
    Packets,
    Tools,
    Tall,
    Stack,
    Tray,
}

/// One picture to be drawn.
#[derive(Clone, Debug)]
pub struct Still {
    /// File name.
    pub name: String,
    subject: Subject,
    seed: u64,
    /// Sensor pixels as the picture is seen.
    size: (usize, usize),
    camera: CameraData,
    tilt: f32,
    stops: f32,
    cast: (f32, f32),
    blur: f32,
}

impl Still {
    /// Pixels when upright.
    pub fn size(&self) -> Size {
        Size::new(self.size.0 as u32, self.size.1 as u32)
    }
    /// The same by a camera that writes this, on a sensor of so many pixels.
    pub fn taken_by(self, camera: CameraData, size: (usize, usize)) -> Self {
        Self { camera, size, ..self }
    }
    /// What its camera writes.
    pub fn camera(&self) -> &CameraData {
        &self.camera
    }
}

/// The made-up cameras: name, lens, focal length in millimetres, aperture.
const MARLOW: [(&str, &str, f64, f64); 2] =
    [("Marlow 24", "Marlow 50 mm f/2", 50.0, 4.0), ("Marlow 24", "Marlow 90 mm f/2.8 macro", 90.0, 2.8)];
const FEN: (&str, &str, f64, f64) = ("Fen Pocket", "Fen 8.8 mm f/1.8", 8.8, 1.8);

/// Subject, size, ISO, tilt in degrees, stops off, lens.
type Entry = (Subject, (usize, usize), u32, f32, f32, usize);

/// The nursery's catalogue: 26 stills.
pub fn catalogue(seed: u64) -> Vec<Still> {
    use Subject::*;
    let (full, turned) = ((6000, 4000), (4000, 6000));
    let (pocket, upright) = ((3264, 2448), (2448, 3264));
    let list: [Entry; 26] = [
        (Three, full, 200, 0.0, 0.0, 0),
        (Three, (4500, 3000), 800, -1.2, -0.4, 0),
        (Close, full, 100, 0.0, 0.1, 1),
        (Rows, (4500, 3000), 400, 0.9, 0.0, 0),
        (Packets, (3600, 2400), 800, 0.0, -0.2, 0),
        (Tools, (4500, 3000), 1600, -2.1, -0.1, 0),
        (Tall, turned, 400, 0.0, 0.0, 0),
        (Tall, (2400, 3600), 3200, 1.4, -0.3, 0),
        (Stack, pocket, 200, 0.0, 0.2, 2),
        (Tray, pocket, 100, 0.0, 0.1, 2),
        (Three, pocket, 6400, 0.0, -1.1, 2),
        (Packets, upright, 400, 0.7, 0.0, 2),
        (Close, upright, 800, 0.0, 0.3, 2),
        (Rows, pocket, 1600, -0.8, -0.3, 2),
        (Tools, pocket, 12800, 0.0, -1.3, 2),
        (Three, (3600, 2400), 12800, 0.0, -0.9, 0),
        (Tray, (3600, 2400), 3200, 1.8, 0.0, 0),
        (Stack, (2400, 3600), 6400, 0.0, -0.5, 0),
        (Close, (2400, 2400), 200, 0.0, 0.5, 1),
        (Tall, (2400, 3000), 1600, 0.0, 0.2, 0),
        (Rows, (3840, 2160), 100, 0.0, 0.4, 0),
        (Packets, (3000, 2000), 6400, -0.6, -0.6, 0),
        (Three, (3000, 2000), 100, 2.6, 0.9, 0),
        (Tools, (2048, 1536), 400, 0.0, 0.0, 2),
        (Tray, (1600, 1200), 800, 0.0, -0.2, 2),
        (Close, (1500, 1000), 3200, -0.9, 0.0, 1),
    ];
    let start = date(2026, 5, 4).at(8, 42, 10, 0);
    list.iter()
        .enumerate()
        .map(|(i, &(subject, size, iso, tilt, stops, lens))| {
            let mut dice = Dice::new(seed ^ ((i as u64 + 1) * 7919));
            let (camera, lens, focal, aperture) = if lens == 2 { FEN } else { MARLOW[lens] };
            let day = if i < 15 { 0 } else { 1 };
            let offset = SignedDuration::from_millis(
                (i as i64 * 217 + dice.index(160) as i64) * 1000 + dice.index(99) as i64 * 10,
            );
            let taken: DateTime = (start + day.days()).saturating_add(offset);
            let sideways = size.1 > size.0 && i % 3 != 0;
            let camera = CameraData {
                taken: Some(taken),
                offset: Some("+01:00".into()),
                camera: Some(camera.into()),
                lens: Some(lens.into()),
                focal_length: Some(focal),
                aperture: Some(aperture),
                shutter: Some(1.0 / [60.0, 125.0, 160.0, 250.0, 500.0][dice.index(5)]),
                iso: Some(iso),
                orientation: if sideways { 8 } else { 1 },
                white_balance: Some("automatic".into()),
                gps: None,
                embedded_lens: None,
            };
            Still {
                name: format!("TN_{:04}.jpg", 409 + i),
                subject,
                seed: seed ^ (i as u64 * 104_729 + 5),
                size,
                camera,
                tilt,
                stops,
                cast: (dice.between(0.94, 1.08), dice.between(0.92, 1.07)),
                blur: match (subject, focal as u32) {
                    (Subject::Close, 90) => 13.0,
                    (_, 8) => 5.0,
                    (Subject::Tray, _) => 5.5,
                    _ => 9.0,
                },
            }
        })
        .collect()
}

/// ISO speeds of the stills that are taken raw.
const RAW_ISO: [u32; 12] = [100, 100, 200, 200, 400, 800, 1600, 1600, 3200, 6400, 6400, 12_800];

/// Sensor of the camera that writes raw.
const RAW_SIZE: (usize, usize) = (3024, 2016);

/// Twelve subjects of the catalogue again, by a camera that writes raw.
pub fn raw_catalogue(seed: u64) -> Vec<Still> {
    let lying = catalogue(seed).into_iter().filter(|still| still.size.0 > still.size.1);
    let again = lying.zip(RAW_ISO).enumerate().map(|(i, (still, iso))| {
        let camera = CameraData {
            camera: Some("Marlow 24 R".into()),
            lens: Some("Marlow Field 35mm f/2".into()),
            focal_length: Some(35.0),
            aperture: Some(4.0),
            iso: Some(iso),
            orientation: 1,
            ..still.camera
        };
        let name = format!("TN_R{:03}.dng", 1 + i);
        Still { name, size: RAW_SIZE, camera, cast: (1.0, 1.0), ..still }
    });
    again.collect()
}

/// Takes them into `folder`; files that are there already are left alone.
///
/// # Errors
/// [`DemoError`] for the first picture that failed.
pub fn write_raw_catalogue(folder: &Path, seed: u64, done: impl Fn(&str) + Sync) -> Result<usize, DemoError> {
    write_each(folder, &raw_catalogue(seed), Still::raw_file, done)
}

const GLAZES: [V3; 4] = [V3(0.1, 0.2, 0.2), V3(0.5, 0.46, 0.36), V3(0.07, 0.1, 0.2), V3(0.3, 0.32, 0.24)];
const FLOWERS: [V3; 4] = [V3(0.62, 0.12, 0.2), V3(0.75, 0.7, 0.62), V3(0.42, 0.2, 0.5), V3(0.75, 0.42, 0.08)];

fn clay(dice: &mut Dice) -> Stuff {
    if dice.unit() < 0.72 { Stuff::Clay } else { Stuff::Glaze(GLAZES[dice.index(GLAZES.len())]) }
}

/// A pot with a plant in it.
fn planted(mesh: &mut Mesh, at: V3, radius: f32, tall: f32, dice: &mut Dice) {
    let stuff = clay(dice);
    let soil = mesh.pot(at, radius, radius * dice.between(1.55, 1.8), stuff, true, dice.index(900) as u32);
    let (stems, leaf) = (3 + dice.index(4), dice.between(4.2, 6.4) * (radius / 6.5));
    mesh.plant(soil, tall, stems, leaf, dice);
    if dice.unit() < 0.3 {
        let colour = FLOWERS[dice.index(FLOWERS.len())];
        for _ in 0..3 {
            let top =
                soil + V3(dice.between(-3.0, 3.0), tall * dice.between(0.7, 1.0), dice.between(-3.0, 3.0));
            mesh.flower(top, radius * 0.34, colour, dice);
        }
    }
    if dice.unit() < 0.4 {
        mesh.tag(
            soil + V3(radius * 0.5, 0.0, radius * 0.45),
            dice.between(-0.4, 0.4),
            dice.index(500) as u32,
        );
    }
}

/// Builds the scene: what stands there, and from where it is seen.
fn build(still: &Still) -> (Mesh, Eye) {
    let mut dice = Dice::new(still.seed);
    let d = &mut dice;
    let mut mesh = Mesh::default();
    mesh.bench(34.0, -62.0, 190.0);
    let roll = still.tilt.to_radians();
    let eye = |at: V3, to: V3, field: f32| Eye { at, to, field: field.to_radians(), roll };
    let ground = V3::default();
    let view = match still.subject {
        Subject::Three => {
            for i in 0..3 {
                let x = (i as f32 - 1.0) * 19.0 + d.between(-1.5, 1.5);
                planted(
                    &mut mesh,
                    ground + V3(x, 0.0, d.between(-4.0, 3.0)),
                    6.4 + d.between(-0.4, 0.9),
                    d.between(13.0, 19.0),
                    d,
                );
            }
            eye(V3(d.between(-14.0, 14.0), d.between(19.0, 30.0), 92.0), V3(0.0, 11.5, 0.0), 39.0)
        }
        Subject::Close => {
            planted(&mut mesh, ground, 7.0, 16.0, d);
            for _ in 0..4 {
                planted(&mut mesh, V3(d.between(-50.0, 50.0), 0.0, d.between(-52.0, -26.0)), 6.5, 17.0, d);
            }
            eye(V3(d.between(-12.0, 12.0), d.between(22.0, 30.0), 50.0), V3(0.0, 12.5, 0.0), 38.0)
        }
        Subject::Rows => {
            for j in 0..5 {
                for i in -5i32..=5 {
                    let x = i as f32 * 14.5 + d.between(-1.0, 1.0) + (j % 2) as f32 * 7.0;
                    planted(
                        &mut mesh,
                        V3(x, 0.0, 16.0 - j as f32 * 15.0),
                        5.2 + d.between(-0.4, 0.5),
                        d.between(7.0, 13.0),
                        d,
                    );
                }
            }
            eye(V3(d.between(-30.0, 30.0), 44.0, 108.0), V3(0.0, 4.0, -6.0), 46.0)
        }
        Subject::Packets => {
            for i in 0..5 {
                let x = (i as f32 - 2.0) * 12.5 + d.between(-1.0, 1.0);
                mesh.packet(
                    V3(x, 0.0, d.between(-2.0, 3.0)),
                    10.5,
                    d.between(-0.25, 0.25),
                    i * 3 + d.index(40) as u32,
                );
            }
            for i in 0..3 {
                planted(&mut mesh, V3((i as f32 - 1.0) * 27.0, 0.0, -26.0), 6.8, 15.0, d);
            }
            mesh.twine(V3(d.between(-26.0, 26.0), 0.0, 14.0), 3.6);
            eye(V3(d.between(-16.0, 16.0), 24.0, 86.0), V3(0.0, 8.5, -2.0), 42.0)
        }
        Subject::Tools => {
            mesh.trowel(V3(-6.0, 0.0, 13.0), d.between(-0.5, -0.2));
            mesh.twine(V3(19.0, 0.0, 10.0), 4.4);
            for i in 0..3 {
                let stuff = clay(d);
                let filled = d.unit() < 0.6;
                mesh.pot(
                    V3(i as f32 * 15.5 - 21.0, 0.0, -9.0 + d.between(-3.0, 3.0)),
                    6.0 + i as f32 * 0.9,
                    10.5 + i as f32,
                    stuff,
                    filled,
                    40 + i,
                );
            }
            planted(&mut mesh, V3(29.0, 0.0, -12.0), 7.4, 17.0, d);
            mesh.packet(V3(2.0, 0.0, 3.5), 8.5, 0.3, 8);
            eye(V3(d.between(-20.0, 12.0), 38.0, 80.0), V3(2.0, 5.0, 0.0), 42.0)
        }
        Subject::Tall => {
            planted(&mut mesh, ground, 7.6, 33.0, d);
            planted(&mut mesh, V3(-26.0, 0.0, -34.0), 6.4, 15.0, d);
            planted(&mut mesh, V3(24.0, 0.0, -40.0), 6.4, 19.0, d);
            eye(V3(d.between(-10.0, 10.0), 27.0, 96.0), V3(0.0, 20.5, 0.0), 37.0)
        }
        Subject::Stack => {
            for (k, x) in [-15.0f32, 1.0, 15.5].into_iter().enumerate() {
                let radius = 6.2 + d.between(-0.3, 0.8);
                for i in 0..(5 - k) {
                    mesh.pot(
                        V3(
                            x + d.between(-0.25, 0.25),
                            i as f32 * 4.1,
                            d.between(-0.25, 0.25) - k as f32 * 2.0,
                        ),
                        radius,
                        10.6,
                        Stuff::Clay,
                        false,
                        (k * 10 + i) as u32 * 3,
                    );
                }
            }
            planted(&mut mesh, V3(30.0, 0.0, -24.0), 7.0, 15.0, d);
            planted(&mut mesh, V3(-34.0, 0.0, -30.0), 7.0, 16.0, d);
            eye(V3(d.between(-18.0, 18.0), 26.0, 82.0), V3(0.0, 12.5, 0.0), 40.0)
        }
        Subject::Tray => {
            for j in 0..5 {
                for i in 0..8 {
                    let at = V3((i as f32 - 3.5) * 7.4, 0.0, (j as f32 - 2.0) * 7.4);
                    let soil =
                        mesh.pot(at, 3.5, 5.2, Stuff::Glaze(V3(0.03, 0.03, 0.032)), true, (i * 9 + j) as u32);
                    if d.unit() < 0.93 {
                        mesh.plant(soil, d.between(3.0, 6.0), 1, d.between(2.3, 3.3), d);
                    }
                }
            }
            mesh.tag(V3(-24.0, 5.0, 17.5), 0.2, 77);
            eye(V3(d.between(-18.0, 18.0), 62.0, 56.0), V3(0.0, 3.0, 1.0), 46.0)
        }
    };
    (mesh, view)
}

/// What lies far behind the bench, already out of focus: hedge, light through leaves, a path.
pub(crate) fn distance(seed: u64) -> impl Fn(f32, f32) -> V3 {
    let mut dice = Dice::new(seed ^ 0xb0ce);
    let discs: Vec<(f32, f32, f32, V3)> = (0..70)
        .map(|_| {
            let (x, y) = (dice.between(-1.15, 1.15), dice.between(-1.1, 0.5));
            let green = V3(0.2, 0.34, 0.08).mix(V3(0.5, 0.52, 0.22), dice.unit());
            let colour = if dice.unit() < 0.12 { FLOWERS[dice.index(4)] } else { green };
            (x, y, dice.between(0.03, 0.11), colour * dice.between(0.05, 0.55))
        })
        .collect();
    let s = (seed % 997) as f32;
    move |x, y| {
        let hedge = fractal(V3(x * 2.2 + s, y * 2.2, 0.3), 3);
        let mut light = V3(0.016, 0.034, 0.012).mix(V3(0.13, 0.19, 0.06), smooth(0.3, 0.78, hedge));
        light = light.mix(
            V3(0.5, 0.56, 0.5),
            smooth(0.2, -0.75, y) * 0.3 * smooth(0.35, 0.7, fractal(V3(x * 1.1 + s, 3.0, y), 2)),
        );
        for (cx, cy, r, colour) in &discs {
            let d = ((x - cx) * (x - cx) + (y - cy) * (y - cy)).sqrt();
            if d < *r {
                // A lens's disc: even, a little brighter at the rim.
                let rim = 0.8 + 0.35 * (d / r).powi(4);
                light = light + *colour * (rim * 0.45 * smooth(*r, r * 0.93, d));
            }
        }
        light
    }
}

impl Still {
    /// Draws the picture: interleaved 8-bit sRGB, upright.
    pub fn draw(&self) -> Vec<u8> {
        let (light, small, exposure) = self.light();
        film::develop(&light, small, &exposure, self.seed as u32)
    }

    /// The light behind the lens, its pixels, and how the camera is set.
    fn light(&self) -> (Vec<V3>, (usize, usize), Exposure) {
        let (mesh, eye) = build(self);
        let mut dice = Dice::new(self.seed ^ 0x11);
        let light = Light {
            sun: V3(dice.between(-0.75, 0.75), dice.between(0.75, 1.15), dice.between(-0.35, 0.5)).unit(),
            key: V3(1.0, 0.9, 0.74) * dice.between(2.0, 2.7),
            sky: V3(0.6, 0.72, 0.86) * dice.between(0.55, 0.8),
            bounce: V3(0.24, 0.17, 0.11),
        };
        let (w, h) = self.size;
        // Large sensors are drawn at less than half their pixels each way: no lens here resolves more.
        let scale = if w * h > 3_000_000 { 0.41 } else { 0.75 };
        let small = ((w as f32 * scale) as usize, (h as f32 * scale) as usize);
        let frame = raster::render(&mesh, &eye, &light, small, &distance(self.seed));
        let exposure = Exposure {
            focus: (eye.to - eye.at).length() - 4.0,
            blur: self.blur,
            gain: 0.62 * 2f32.powf(self.stops),
            iso: self.camera.iso.unwrap_or(100),
            cast: self.cast,
            width: w,
            height: h,
            moved: (0.0, 0.0),
        };
        (film::focus(&frame, &exposure), small, exposure)
    }

    /// The finished file of the camera that writes raw.
    ///
    /// # Errors
    /// When it cannot be encoded.
    pub fn raw_file(&self) -> Result<Vec<u8>, MediaError> {
        let (light, from, exposure) = self.light();
        let (lens, gain) = (sensor::FIELD, exposure.gain);
        let size = (exposure.width, exposure.height);
        let shot =
            Shot { light: &light, from, size, gain, moved: exposure.moved, lens, seed: self.seed as u32 };
        shot.file(&self.camera)
    }

    /// The finished file, as the camera would write it.
    ///
    /// # Errors
    /// When it cannot be encoded.
    pub fn file(&self) -> Result<Vec<u8>, MediaError> {
        let (w, h) = self.size;
        let pixels = self.draw();
        // A camera held upright stores the picture lying on its side.
        let (size, pixels) = if self.camera.orientation == 8 {
            let mut stored = vec![0u8; pixels.len()];
            for y in 0..h {
                for x in 0..w {
                    // Shown turned a quarter anticlockwise: upright (x, y) is stored at (h − 1 − y, x).
                    let to = (x * h + (h - 1 - y)) * 3;
                    stored[to..to + 3].copy_from_slice(&pixels[(y * w + x) * 3..][..3]);
                }
            }
            (Size::new(h as u32, w as u32), stored)
        } else {
            (self.size(), pixels)
        };
        let extras = Extras { exif: self.camera.write().ok(), ..Extras::default() };
        let encoding =
            Encoding::Jpeg { quality: 92, chroma: Chroma::Half, progressive: false, optimised: false };
        rallo_media::encode(&Encoded { size, pixels: Pixels::U8(pixels) }, encoding, &extras)
    }
}

/// Why the demo pictures could not be written.
#[derive(Debug, thiserror::Error)]
pub enum DemoError {
    /// The system refused.
    #[error("cannot write {0}: {1}")]
    Io(PathBuf, std::io::Error),
    /// A picture could not be encoded.
    #[error(transparent)]
    Media(#[from] MediaError),
}

/// Draws the catalogue into `folder`, several pictures at a time; `done` is told each finished file's name.
/// Files that are there already are left alone.
///
/// # Errors
/// [`DemoError`] for the first picture that failed.
pub fn write_catalogue(folder: &Path, seed: u64, done: impl Fn(&str) + Sync) -> Result<usize, DemoError> {
    write_each(folder, &catalogue(seed), Still::file, done)
}

/// Writes stills that are not there yet, several at a time.
fn write_each(
    folder: &Path,
    stills: &[Still],
    file: impl Fn(&Still) -> Result<Vec<u8>, MediaError> + Sync,
    done: impl Fn(&str) + Sync,
) -> Result<usize, DemoError> {
    std::fs::create_dir_all(folder).map_err(|e| DemoError::Io(folder.to_owned(), e))?;
    stills.par_iter().with_max_len(1).try_for_each(|still| -> Result<(), DemoError> {
        let path = folder.join(&still.name);
        if path.exists() {
            return Ok(());
        }
        let file = file(still)?;
        let part = folder.join(format!(".{}.part", still.name));
        std::fs::write(&part, file).map_err(|e| DemoError::Io(part.clone(), e))?;
        std::fs::rename(&part, &path).map_err(|e| DemoError::Io(path, e))?;
        done(&still.name);
        Ok(())
    })?;
    Ok(stills.len())
}
