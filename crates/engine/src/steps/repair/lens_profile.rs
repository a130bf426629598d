//! Lens profile: distortion, coloured fringes and fall-off as they were measured for this lens, found by what the picture
//! says of its camera and lens (see `lens.rs`).
//!
//! All three colours are looked up at their own radius in one resampling together with the geometry around; light is
//! multiplied by its gain at the place where it was found. The whole is enlarged just so far that no corner is empty.

use crate::geometry::Size;
use crate::lens::{self, Correction, Profile, TakenWith};
use crate::ops::planes::{CHUNK, Planes};
use crate::ops::pointwise::{PixelOp, PointOp};
use crate::ops::warp::Radial;
use crate::plan::key_of;
use crate::step::{Geometry, Kind, Op, Place, Step, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Takes out what the lens does, by its profile: straightens bent lines, brings coloured fringes together and
    /// lightens dark corners. The profile is found by camera and lens; a frame without one stays as it is.
    pub struct LensProfile {
        id: "lens_profile",
        title: "Lens profile",
        group: "repair",
        words: [
            "lens", "profile", "distortion", "barrel", "bent", "fringe", "aberration", "fall-off", "corners",
            "optics",
        ],
        neutral: r#"{"distortion": 0, "fringes": 0, "falloff": 0}"#,
        starter: "{}",
        facts: { moves_pixels: true, shapes: true, once: Some("corrected for their lens") },
    }
    parameters {
        /// How much of the distortion is taken out.
        distortion: f64 = 100.0, Kind::Number { min: 0.0, max: 150.0, step: 1.0 }, "%";
        /// How much of the coloured fringes.
        fringes: f64 = 100.0, Kind::Number { min: 0.0, max: 150.0, step: 1.0 }, "%";
        /// How much of the fall-off of light towards the corners.
        falloff: f64 = 100.0, Kind::Number { min: 0.0, max: 150.0, step: 1.0 }, "%";
        /// The lens, where the pictures do not name it or name another one; empty: as they say.
        lens: String = String::new(), Kind::Text(120);
    }
    measured {
        taken: TakenWith = TakenWith::default();
        profile: Option<Arc<Profile>> = None;
    }
}

impl LensProfile {
    fn correction(&self, size: Size) -> Option<Correction> {
        let (distortion, fringes) = (self.distortion / 100.0, self.fringes / 100.0);
        Some(self.profile.as_ref()?.correction(&self.taken, (size.width, size.height), distortion, fringes))
    }

    fn mapping(&self, size: Size) -> Option<Radial> {
        let Correction { centre, radius, factors, sideways, .. } = self.correction(size)?;
        let is_still = factors.iter().flatten().all(|f| (f - 1.0).abs() < 1e-7)
            && sideways.iter().flatten().all(|k| *k == 0.0);
        if is_still {
            return None;
        }
        let mut map = Radial { centre, radius, zoom: 1.0, factors: Arc::new(factors), sideways };
        let (mut low, mut high) = (0.2, 1.0);
        if map.stays_inside(size) {
            return Some(map);
        }
        for _ in 0..40 {
            map.zoom = 0.5 * (low + high);
            if map.stays_inside(size) { low = map.zoom } else { high = map.zoom }
        }
        Some(Radial { zoom: low, ..map })
    }
}

impl Step for LensProfile {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let mut phrases = Vec::new();
        if self.distortion > 0.0 {
            phrases.push("distortion {distortion}");
        }
        if self.fringes > 0.0 {
            phrases.push("fringes {fringes}");
        }
        if self.falloff > 0.0 {
            phrases.push("corners {falloff}");
        }
        let what = if phrases.is_empty() { "nothing".into() } else { phrases.join(", ") };
        if self.lens.is_empty() {
            format!("Lens profile: {what}.")
        } else {
            format!("Profile of {{lens}}: {what}.")
        }
    }
    fn for_frame(&self, taken: &dyn Fn() -> TakenWith) -> Option<Box<dyn Step>> {
        let taken = taken();
        let profile = lens::find(&taken, &self.lens);
        Some(Box::new(Self { taken, profile, ..self.clone() }))
    }
    fn known_of_frame(&self) -> Option<String> {
        let profile = self.profile.as_ref()?;
        let by = (profile, self.taken.focal_length, self.taken.aperture);
        Some(format!("{:016x}", key_of(&by)))
    }
    fn offers(&self) -> Vec<String> {
        let misses = self.profile.is_none() && self.lens.is_empty();
        if misses { lens::near(&self.taken) } else { Vec::new() }
    }
    fn note(&self) -> Option<String> {
        Some(match &self.profile {
            Some(profile) => format!("Profile: {}.", profile.name()),
            None => match (&self.taken.lens, self.lens.is_empty()) {
                (_, false) => "There is no profile by that name; this frame stays as it is.".into(),
                (Some(lens), true) => format!("There is no profile of {lens}; this frame stays as it is."),
                (None, true) => {
                    "This frame does not say which lens it was taken with; it stays as it is.".into()
                }
            },
        })
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        if self.distortion == 0.0 && self.fringes == 0.0 {
            return None;
        }
        Some(Geometry { map: self.mapping(size)?.into(), size })
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        if self.falloff == 0.0 {
            return Vec::new();
        }
        let Some(correction) = self.correction(place.size) else { return Vec::new() };
        let map = self.mapping(place.size);
        let share = self.falloff / 100.0;
        // Light is found at another radius than where it is shown.
        let gain = |i: usize| {
            let shown = i as f64 / (correction.gains.len() - 1) as f64 * lens::REACH;
            let found = map.as_ref().map_or(shown, |map| map.found(shown));
            1.0 + (lens::at(&correction.gains, found) - 1.0) * share
        };
        let gains: Vec<f32> = (0..correction.gains.len()).map(|i| gain(i) as f32).collect();
        if gains.iter().all(|g| (g - 1.0).abs() < 1e-6) {
            return Vec::new();
        }
        let (x, y) = correction.centre;
        let op = Corners {
            centre: (x * place.scale, y * place.scale),
            per: (gains.len() - 1) as f64 / (correction.radius * place.scale * lens::REACH),
            gains,
        };
        vec![Op::Point(PointOp::Pixels(Arc::new(op)))]
    }
}

/// Multiplies light by its gain.
struct Corners {
    centre: (f64, f64),
    /// Places of the table for a pixel.
    per: f64,
    gains: Vec<f32>,
}

impl PixelOp for Corners {
    fn run(&self, x: i64, y: i64, planes: &mut Planes) {
        let dy = y as f64 + 0.5 - self.centre.1;
        let last = self.gains.len() - 2;
        let factors: [f32; CHUNK] = std::array::from_fn(|i| {
            let dx = (x + i as i64) as f64 + 0.5 - self.centre.0;
            let place = dx.hypot(dy) * self.per;
            let low = (place as usize).min(last);
            let part = (place - low as f64).min(1.0) as f32;
            self.gains[low] + (self.gains[low + 1] - self.gains[low]) * part
        });
        planes.scale(&factors);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lens::{MADE_UP, at};
    use crate::steps::testing::{picture, whole};

    const SIZE: Size = Size { width: 600, height: 400 };

    fn resolved(step: LensProfile) -> LensProfile {
        lens::add(MADE_UP).unwrap();
        let taken = TakenWith {
            camera: Some("Marlow 24 R".into()),
            lens: Some("Field 35mm f/2".into()),
            focal_length: Some(35.0),
            aperture: Some(2.0),
            embedded: None,
        };
        let profile = lens::find(&taken, "");
        LensProfile { taken, profile, ..step }
    }

    /// A scene as the lens takes it: each colour where it falls, darkened where the lens is dark. `scene` is over pixels of
    /// the straight picture.
    fn taken(scene: impl Fn(f64, f64) -> f64 + Sync + 'static) -> crate::Picture {
        let step = resolved(LensProfile::default());
        let Correction { centre, radius, factors, gains, .. } = step.correction(SIZE).unwrap();
        picture(SIZE, move |x, y| {
            let (dx, dy) = (f64::from(x) + 0.5 - centre.0, f64::from(y) + 0.5 - centre.1);
            let found = dx.hypot(dy) / radius;
            [0, 1, 2].map(|c| {
                // The straight radius whose look-up is here.
                let mut straight = found;
                for _ in 0..60 {
                    straight = found / at(&factors[c], straight);
                }
                let grow = if found > 0.0 { straight / found } else { 1.0 };
                (scene(centre.0 + dx * grow, centre.1 + dy * grow) / at(&gains, found)) as f32
            })
        })
    }

    /// Middle of a bright line around column `near`.
    fn middle(out: &[[f32; 3]], y: usize, near: usize, channel: usize) -> f64 {
        let (mut sum, mut weight) = (0.0, 0.0);
        for x in near - 12..near + 12 {
            let v = f64::from(out[y * 600 + x][channel] - 0.1).max(0.0);
            sum += v * (x as f64 + 0.5);
            weight += v;
        }
        sum / weight
    }

    #[test]
    fn lines_are_straight_fringes_gone_and_corners_as_bright_as_the_middle() {
        // Bright lines every 60 pixels of the straight picture.
        let grid = taken(|x, _| {
            let off = (x + 30.0).rem_euclid(60.0) - 30.0;
            0.1 + 0.3 * (-off * off / 6.0).exp()
        });
        let (_, out) = whole(resolved(LensProfile::default()), &grid);
        let (_, bent) = whole(LensProfile::default(), &grid);
        let step = resolved(LensProfile::default());
        let map = step.mapping(SIZE).unwrap();
        // The whole is enlarged a little: where each line is to be found then.
        let shown = |x: f64| map.centre.0 + (x - map.centre.0) / map.zoom;
        for line in [120.0, 240.0, 420.0] {
            let column = shown(line) as usize;
            let rows = [20, 110, 200, 290, 380];
            let places = rows.map(|y| middle(&out, y, column, 1));
            let spread = |places: &[f64]| {
                places.iter().cloned().fold(f64::MIN, f64::max)
                    - places.iter().cloned().fold(f64::MAX, f64::min)
            };
            assert!(spread(&places) < 0.3, "the line at {line} bends by {}: {places:?}", spread(&places));
            for y in rows {
                for c in [0, 2] {
                    let fringe = middle(&out, y, column, c) - middle(&out, y, column, 1);
                    assert!(fringe.abs() < 0.1, "fringe of {fringe} at {line}, {y}");
                }
            }
            assert!((places[2] - shown(line)).abs() < 0.3);
        }
        let was = [20, 200, 380].map(|y| middle(&bent, y, 120, 1));
        assert!((was[0] - was[1]).abs() > 0.5, "the lens bends it: {was:?}");
        let flat = taken(|_, _| 0.3);
        let (_, out) = whole(resolved(LensProfile::default()), &flat);
        let light = |x: usize, y: usize| f64::from(out[y * 600 + x][1]);
        for (x, y) in [(0, 0), (599, 0), (0, 399), (599, 399), (300, 200), (150, 300)] {
            assert!((light(x, y) / 0.3 - 1.0).abs() < 0.01, "{} at {x}, {y}", light(x, y));
        }
    }

    #[test]
    fn nothing_is_done_without_a_profile_and_less_where_less_is_wanted() {
        let flat = picture(SIZE, |x, _| [x as f32 / 600.0; 3]);
        let (_, plain) = whole(LensProfile::default(), &flat);
        assert!((plain[300][0] - 300.0 / 600.0).abs() < 1e-3);
        assert!(LensProfile::default().note().unwrap().contains("does not say which lens"));
        let none =
            resolved(LensProfile { distortion: 0.0, fringes: 0.0, falloff: 0.0, ..LensProfile::default() });
        assert!(none.geometry(SIZE).is_none());
        let half =
            resolved(LensProfile { falloff: 50.0, distortion: 0.0, fringes: 0.0, ..LensProfile::default() });
        let all = resolved(LensProfile { distortion: 0.0, fringes: 0.0, ..LensProfile::default() });
        let even = picture(SIZE, |_, _| [0.2; 3]);
        let corner = |step: LensProfile| whole(step, &even).1[0][1] / 0.2 - 1.0;
        let (half, all) = (corner(half), corner(all));
        assert!(all > 0.2 && (half / all - 0.5).abs() < 0.02, "{half} {all}");
        assert!(resolved(LensProfile::default()).note().unwrap().contains("Marlow Field 35mm f/2"));
    }

    #[test]
    fn no_look_up_leaves_the_picture() {
        for (width, height) in [(600, 400), (400, 600), (500, 500)] {
            let size = Size::new(width, height);
            let map = resolved(LensProfile::default()).mapping(size).unwrap();
            assert!(map.stays_inside(size) && map.zoom <= 1.0 && map.zoom > 0.9, "{}", map.zoom);
        }
    }
}
