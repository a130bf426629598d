//! The stop-motion lesson "repotting a seedling": a small clay pot, a larger one, a trowel, three frames a pose.

use crate::bed::write_truth;
use crate::film::{self, Exposure};
use crate::maths::{Dice, V3, smooth};
use crate::mesh::{Mesh, Stuff};
use crate::raster::{self, Eye};
use crate::sequence::{Truth, file, put};
use crate::shade::Light;
use crate::stills::{DemoError, distance};
use jiff::SignedDuration;
use jiff::civil::date;
use rallo_media::CameraData;
use rayon::prelude::*;
use std::path::Path;

/// Pixels of the camera.
pub const SIZE: (usize, usize) = (2160, 1440);
const RENDERED: (usize, usize) = (864, 576);
/// Poses, and frames of each.
const POSES: usize = 41;
const OF_EACH: usize = 3;
/// Frames at which the lens was bumped out of focus, and at which a sleeve covered it, once each.
const BUMPED: usize = 46;
const COVERED: usize = 82;

/// Frames of the lesson.
pub const FRAMES: usize = POSES * OF_EACH;

/// The table at one pose.
fn pose(at: usize) -> (Mesh, Eye) {
    let t = at as f32 / (POSES - 1) as f32;
    let mut mesh = Mesh::default();
    mesh.bench(34.0, -62.0, 190.0);
    // The plant: in the small pot, lifted over, set down, a little taller for the fresh soil.
    let lift = smooth(0.3, 0.42, t);
    let over = smooth(0.36, 0.56, t);
    let down = smooth(0.52, 0.64, t);
    let (small, large) = (V3(-17.0, 0.0, 4.0), V3(13.0, 0.0, -1.0));
    mesh.pot(small, 5.0, 8.4, Stuff::Clay, lift < 0.05, 4);
    let soil = mesh.pot(large, 8.6, 13.6, Stuff::Clay, false, 9);
    let filled = 0.25 + 0.35 * smooth(0.02, 0.28, t) + 0.4 * smooth(0.66, 0.84, t);
    mesh.block(V3(large.0, 1.0, large.2), V3(7.4, 11.4 * filled, 7.4), 0.4, Stuff::Soil, 6);
    let from = small + V3(0.0, 7.6, 0.0);
    let to = V3(large.0, 7.2, large.2);
    let height = from.1 + (to.1 - from.1) * over + 10.0 * lift * (1.0 - down);
    let root = V3(from.0 + (to.0 - from.0) * over, height, from.2 + (to.2 - from.2) * over);
    if lift > 0.05 && down < 0.95 {
        mesh.pot(root - V3(0.0, 6.2, 0.0), 4.3, 6.4, Stuff::Soil, true, 2);
    }
    let mut dice = Dice::new(2026);
    mesh.plant(root, 13.5 + 1.5 * smooth(0.8, 1.0, t), 4, 4.6, &mut dice);
    // The trowel lies on the bench, elsewhere each time while soil is put in: nobody holds it when a picture is taken.
    let works = (t < 0.28) || (0.66..0.84).contains(&t);
    let swing = if works { ((at % 8) as f32 / 8.0 * std::f32::consts::TAU).sin() } else { -1.0 };
    mesh.trowel(V3(-2.0 + 7.0 * swing, 0.0, 19.0 - 3.0 * swing), -0.35 + 0.2 * swing);
    if t > 0.88 {
        mesh.tag(soil + V3(4.6, -1.0 - 4.0 * smooth(0.96, 0.88, t), 3.6), 0.2, 31);
    }
    let eye = Eye { at: V3(6.0, 32.0, 88.0), to: V3(-1.0, 10.0, 0.0), field: 40f32.to_radians(), roll: 0.0 };
    (mesh, eye)
}

/// What is true of frame `index`.
pub fn truth(index: usize) -> Truth {
    let mut labels = Vec::new();
    if index == BUMPED {
        labels.push("blurred".to_owned());
    }
    if index == COVERED {
        labels.push("covered".to_owned());
    }
    let taken =
        date(2026, 5, 12).at(10, 2, 11, 0).saturating_add(SignedDuration::from_secs(index as i64 * 14));
    Truth {
        file: format!("Lesson repotting/LESSON_{:04}.jpg", index + 1),
        taken: taken.to_string(),
        written: taken.to_string(),
        shift: [0.0, 0.0],
        flicker: Dice::new(index as u64 + 91).between(-0.05, 0.05),
        labels,
    }
}

/// Draws the lesson below `folder` (`Lesson repotting` and `lesson-truth.json`); `done` is told each file.
///
/// # Errors
/// [`DemoError`] for the first frame that failed.
pub fn write_lesson(folder: &Path, seed: u64, done: impl Fn(&str) + Sync) -> Result<usize, DemoError> {
    let light = Light {
        sun: V3(-0.55, 0.95, 0.5).unit(),
        key: V3(1.0, 0.92, 0.8) * 2.1,
        sky: V3(0.6, 0.72, 0.86) * 0.7,
        bounce: V3(0.24, 0.17, 0.11),
    };
    (0..POSES).into_par_iter().with_max_len(1).try_for_each(|at| -> Result<(), DemoError> {
        let held = at * OF_EACH..(at + 1) * OF_EACH;
        let path = |i: usize| folder.join(truth(i).file);
        if held.clone().all(|i| path(i).exists()) {
            return Ok(());
        }
        let (mesh, eye) = pose(at);
        let frame = raster::render(&mesh, &eye, &light, RENDERED, &distance(seed ^ 0x1e55));
        let exposure = |i: usize| Exposure {
            focus: (eye.to - eye.at).length() - 3.0,
            blur: 6.0,
            gain: if i == COVERED { 0.002 } else { 0.6 * 2f32.powf(truth(i).flicker) },
            iso: 400,
            cast: (1.0, 1.0),
            width: SIZE.0,
            height: SIZE.1,
            moved: (0.0, 0.0),
        };
        let sharp = film::focus(&frame, &exposure(at * OF_EACH));
        for i in held {
            let bumped;
            let light = if i == BUMPED {
                // Focused on the edge of the bench: everything else is soft.
                bumped = film::focus(&frame, &Exposure { focus: 38.0, blur: 9.0, ..exposure(i) });
                &bumped
            } else {
                &sharp
            };
            let camera = CameraData {
                taken: truth(i).written.parse().ok(),
                offset: Some("+01:00".into()),
                camera: Some("Marlow 24".into()),
                lens: Some("Marlow 50 mm f/2".into()),
                focal_length: Some(50.0),
                aperture: Some(5.6),
                shutter: Some(1.0 / 60.0),
                iso: Some(400),
                orientation: 1,
                white_balance: Some("by hand".into()),
                gps: None,
                embedded_lens: None,
            };
            let bytes = file(light, RENDERED, &exposure(i), &camera, seed as u32 ^ (i as u32 * 7919))?;
            put(&path(i), &bytes).map_err(|e| DemoError::Io(path(i), e))?;
            done(&truth(i).file);
        }
        Ok(())
    })?;
    let truths: Vec<Truth> = (0..FRAMES).map(truth).collect();
    write_truth(&folder.join("lesson-truth.json"), &truths)?;
    Ok(FRAMES)
}
