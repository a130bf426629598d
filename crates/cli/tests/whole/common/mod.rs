//! Shared by the program's tests: pictures drawn for the purpose, and starting the program.
#![allow(dead_code, missing_docs)]

pub mod broker;
pub mod desk;
pub mod place;
pub mod web;

use rallo_engine::{Encoded, Pixels, Size};
use rallo_media::{CameraData, Chroma, Encoding, Extras};
use std::path::Path;
use std::process::{Command, Output};

pub const CATALOGUE: &str = r#"{"format": "rallo-recipe", "version": 1, "name": "Catalogue, web",
 "steps": [
  {"step": "exposure", "stops": 0.35},
  {"step": "white_balance", "temperature": 6, "tint": -2},
  {"step": "curve", "all": [[0, 0], [0.25, 0.21], [0.75, 0.8], [1, 1]]},
  {"step": "saturation", "amount": 8},
  {"step": "straighten", "degrees": 1.2},
  {"step": "crop", "proportion": "16:9", "place": "centre"},
  {"step": "resize", "long_edge": 400},
  {"step": "unsharp_mask", "amount": 80, "radius": 0.5, "threshold": 2},
  {"step": "watermark", "text": "Thistlewick", "place": "bottom right", "size": 3, "opacity": 60}],
 "deliveries": [
  {"kind": "pictures", "format": "jpeg", "quality": 82, "name": "{stem}-web", "to": "subfolder"}]}"#;

/// A picture of soft hills, told apart by `seed`.
pub fn picture(width: u32, height: u32, seed: u32) -> Encoded {
    let wave = |x: f32, k: f32| (x * k + seed as f32).sin() * 0.5 + 0.5;
    let pixels = (0..width * height)
        .flat_map(|i| {
            let (x, y) = ((i % width) as f32 / width as f32, (i / width) as f32 / height as f32);
            let hill = wave(x, 6.0) * 0.3 + 0.4;
            let light = if y > hill { 0.35 + 0.3 * wave(x + y, 9.0) } else { 0.9 - 0.4 * y };
            [light * 0.9, light, light * 0.7].map(|v| (v * 255.0) as u8)
        })
        .collect();
    Encoded { size: Size::new(width, height), pixels: Pixels::U8(pixels) }
}

pub fn write_jpeg(path: &Path, width: u32, height: u32, seed: u32) {
    let camera = CameraData {
        camera: Some("Marlow 24".into()),
        iso: Some(100 * seed),
        orientation: 1,
        ..CameraData::default()
    };
    let extras = Extras { exif: camera.write().ok(), ..Extras::default() };
    let encoding = Encoding::Jpeg { quality: 92, chroma: Chroma::Half, progressive: false, optimised: false };
    std::fs::write(path, rallo_media::encode(&picture(width, height, seed), encoding, &extras).unwrap())
        .unwrap();
}

pub fn write_png(path: &Path, width: u32, height: u32) {
    let bytes = rallo_media::encode(&picture(width, height, 5), Encoding::Png, &Extras::default()).unwrap();
    std::fs::write(path, bytes).unwrap();
}

/// The program, with data of its own for this test's process.
pub fn program() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_rallo"));
    let data = Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("data-{}", std::process::id()));
    command.env("RALLO_DATA", data);
    command
}

pub fn rallo(args: &[&str]) -> Output {
    program().args(args).output().unwrap()
}

/// Every file below a folder with its bytes and time, to show that nothing changed.
pub fn state(folder: &Path) -> Vec<(std::path::PathBuf, Vec<u8>, std::time::SystemTime)> {
    let mut all: Vec<_> = std::fs::read_dir(folder)
        .unwrap()
        .flatten()
        .filter(|e| e.path().is_file())
        .map(|e| (e.path(), std::fs::read(e.path()).unwrap(), e.metadata().unwrap().modified().unwrap()))
        .collect();
    all.sort();
    all
}

/// Every file in a folder and the folders in it.
pub fn files_below(folder: &Path) -> Vec<std::path::PathBuf> {
    let mut files = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() { folders.push(path) } else { files.push(path) }
        }
    }
    files
}
