//! What sequences of the demo have in common: layers of light that frames are mixed from, files, the truth beside.

use crate::film::{self, Exposure};
use crate::maths::{Dice, V3};
use crate::mesh::Mesh;
use crate::raster::{self, Eye};
use crate::shade::Light;
use rallo_engine::{Encoded, Pixels, Size};
use rallo_media::{CameraData, Chroma, Encoding, Extras, MediaError};
use serde::Serialize;
use std::path::Path;

/// What is true of a frame, for tests: written beside the pictures.
#[derive(Clone, Debug, Default, Serialize, serde::Deserialize, PartialEq)]
#[serde(default)]
pub struct Truth {
    /// Folder and file name.
    pub file: String,
    /// When it was really taken, camera's own time zone.
    pub taken: String,
    /// What the camera wrote.
    pub written: String,
    /// How far the camera had moved, in pixels of the frame, right and down.
    pub shift: [f32; 2],
    /// Error of the exposure in stops.
    pub flicker: f32,
    /// `night`, `fog`, `shadow`, `double`, `clock`, `blurred`, `covered`.
    pub labels: Vec<String>,
}

/// The light of one state of a scene: under the sky, and under the sun from a few directions.
pub struct Layers {
    pub sky: Vec<V3>,
    pub suns: Vec<Vec<V3>>,
    pub depth: Vec<f32>,
}

impl Layers {
    /// Renders a mesh once for each light; light adds up, so any weather can be mixed from them.
    pub fn new(
        mesh: &Mesh,
        eye: &Eye,
        suns: &[V3],
        size: (usize, usize),
        behind: &(dyn Fn(f32, f32) -> V3 + Sync),
    ) -> Self {
        let mut lights = vec![Light {
            sun: V3(0.2, 1.0, 0.2).unit(),
            key: V3::default(),
            sky: V3(0.6, 0.72, 0.86) * 0.8,
            bounce: V3(0.22, 0.18, 0.13),
        }];
        lights.extend(suns.iter().map(|sun| Light {
            sun: sun.unit(),
            key: V3(1.0, 0.92, 0.8) * 2.3,
            sky: V3::default(),
            bounce: V3::default(),
        }));
        let (mut layers, depth) = raster::render_lights(mesh, eye, &lights, size, behind);
        let sky = layers.remove(0);
        Self { sky, suns: layers, depth }
    }
}

/// Develops light and packs it as the camera would.
pub fn file(
    light: &[V3],
    from: (usize, usize),
    exposure: &Exposure,
    camera: &CameraData,
    seed: u32,
) -> Result<Vec<u8>, MediaError> {
    let pixels = film::develop(light, from, exposure, seed);
    let size = Size::new(exposure.width as u32, exposure.height as u32);
    let extras = Extras { exif: camera.write().ok(), ..Extras::default() };
    let encoding =
        Encoding::Jpeg { quality: 88, chroma: Chroma::Quarter, progressive: false, optimised: false };
    rallo_media::encode(&Encoded { size, pixels: Pixels::U8(pixels) }, encoding, &extras)
}

/// Writes a file under a temporary name first; one that is there is left alone.
pub fn put(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    if path.exists() {
        return Ok(());
    }
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let part = path.with_file_name(format!(".{name}.part"));
    std::fs::write(&part, bytes)?;
    std::fs::rename(&part, path)
}

/// A planted row: seedlings of the given height along a line.
pub fn row(mesh: &mut Mesh, from: V3, to: V3, count: usize, height: f32, dice: &mut Dice) {
    for i in 0..count {
        let at = from.mix(to, (i as f32 + 0.5) / count as f32);
        let at = at + V3(dice.between(-0.8, 0.8), 0.0, dice.between(-0.6, 0.6));
        // Every seedling throws its dice in full, so that it is the same one at any height.
        let mut frame_dice = Dice::new((dice.unit() * 1e9) as u64 | 1);
        let late = frame_dice.between(0.75, 1.15);
        let tall = height * late;
        if tall > 0.9 {
            mesh.plant(at, tall, 2 + frame_dice.index(2), 0.9 + tall * 0.34, &mut frame_dice);
        }
    }
}
