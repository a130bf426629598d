//! Dust spots: fixed places on the sensor, healed from their surroundings.
//!
//! Places are given on the sensor, so that a picture taken upright gets them where its dust is. Each spot takes the
//! texture of the most alike place around it (of twelve, by the difference along its rim) and, added to that, the
//! difference at the rim carried inwards by mean-value coordinates (Z. Farbman et al., "Coordinates for Instant Image
//! Cloning", 2009), so that no seam shows. Spots are healed once, at full size, before the picture is rendered.

use crate::geometry::Rect;
use crate::image::picture::Orientation;
use crate::ops::planes::Pixel;
use crate::step::{Kind, MarkOp, Op, ParamError, Place, Step, Tool, ToolKind, View, Wants, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Heals fixed places from their surroundings, such as dust on the sensor; they stay on the sensor when
    /// a picture is taken upright, and go with every later turn and crop.
    pub struct Dust {
        id: "dust",
        title: "Dust spots",
        group: "repair",
        words: ["dust", "spot", "spots", "heal", "sensor", "speck", "retouch", "blemish", "remove"],
        neutral: r#"{"spots": []}"#,
        starter: r#"{"spots": []}"#,
        facts: {
            tool: Some(Tool {
                kind: ToolKind::Spots,
                button: Some("Click on the spots"),
                hint: "Click on a spot to heal it; click again to leave it. Drag for a larger one.",
                opens_at_once: true,
                shows_input: true,
            }),
        },
    }
    parameters {
        /// Place on the sensor (shares of the stored width and height) and radius (share of the long edge,
        /// at most 0.03).
        spots: Vec<[f64; 3]> = Vec::new(), Kind::Rows(&["x", "y", "radius"], MOST);
    }
    measured {
        healed: Arc<Vec<Patch>> = Arc::default();
    }
}

/// Most spots.
const MOST: usize = 200;

/// A healed spot at full size.
#[derive(Debug)]
struct Patch {
    /// Middle and radius, in pixels of the upright picture.
    middle: (f64, f64),
    radius: f64,
    rect: Rect,
    pixels: Vec<[f32; 3]>,
}

/// What a spot's surroundings reach to, in radii.
const AROUND: f64 = 5.0;
/// Places along the rim.
const RIM: usize = 48;

/// Where a place on the sensor comes to lie in the upright picture, as shares.
fn upright(x: f64, y: f64, orientation: Orientation) -> (f64, f64) {
    match orientation.exif() {
        2 => (1.0 - x, y),
        3 => (1.0 - x, 1.0 - y),
        4 => (x, 1.0 - y),
        5 => (y, x),
        6 => (1.0 - y, x),
        7 => (1.0 - y, 1.0 - x),
        8 => (y, 1.0 - x),
        _ => (x, y),
    }
}

impl Step for Dust {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        "Heal {spots} dust spots.".into()
    }
    fn check(&self) -> Result<(), ParamError> {
        let wrong = |s: &[f64; 3]| {
            !(0.0..=1.0).contains(&s[0]) || !(0.0..=1.0).contains(&s[1]) || !(0.0002..=0.03).contains(&s[2])
        };
        match self.spots.iter().position(wrong) {
            Some(i) => Err(ParamError::new(
                format!("spots[{i}]"),
                "expected a place from 0 to 1 each way, and a radius from 0.0002 to 0.03",
            )),
            None => Ok(()),
        }
    }
    fn wants(&self) -> Wants {
        if self.spots.is_empty() { Wants::Nothing } else { Wants::Around(self.spots.clone(), AROUND) }
    }
    fn measured(&self, views: &[View]) -> Option<Box<dyn Step>> {
        let healed = views.iter().filter_map(heal).collect();
        Some(Box::new(Self { healed: Arc::new(healed), ..self.clone() }))
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        (0..self.healed.len())
            .map(|i| {
                let rect = self.healed[i].rect;
                let side = |v: i64| (v as f64 * place.scale).floor() as i64;
                let bounds = Rect::new(side(rect.x), side(rect.y), 0, 0);
                let (right, bottom) = (side(rect.right()) + 1, side(rect.bottom()) + 1);
                let bounds = Rect { width: right - bounds.x, height: bottom - bounds.y, ..bounds };
                let mark = Healed { all: self.healed.clone(), which: i, scale: place.scale, bounds };
                Op::Mark(Box::new(mark))
            })
            .collect()
    }
    fn needs_detail(&self) -> bool {
        true
    }
}

impl Wants {
    /// Where the surroundings of a place on the sensor lie in the upright picture, in pixels: middle, radius, rectangle.
    pub(crate) fn around(
        spot: [f64; 3],
        reach: f64,
        size: crate::geometry::Size,
        orientation: Orientation,
    ) -> ((f64, f64), f64, Rect) {
        let (x, y) = upright(spot[0], spot[1], orientation);
        let (x, y) = (x * f64::from(size.width), y * f64::from(size.height));
        let radius = (spot[2] * f64::from(size.long_edge())).max(1.0);
        let far = radius * reach + 2.0;
        let (left, top) = ((x - far).floor() as i64, (y - far).floor() as i64);
        let side = (2.0 * far).ceil() as i64 + 1;
        ((x, y), radius, Rect::new(left, top, side, side).within(size.rect()))
    }
}

/// A spot with its surroundings, to be healed.
struct Sick<'a> {
    view: &'a View,
    rect: Rect,
    middle: (f64, f64),
    radius: f64,
}

impl Sick<'_> {
    /// The value at a place in pixels, by the nearest pixel; nothing outside of what is known.
    fn at(&self, x: f64, y: f64) -> Option<[f32; 3]> {
        let (x, y) = (x.floor() as i64 - self.rect.x, y.floor() as i64 - self.rect.y);
        let inside = x >= 0 && y >= 0 && x < self.rect.width && y < self.rect.height;
        inside.then(|| self.view.pixels[(y * self.rect.width + x) as usize])
    }

    fn rim(&self, i: usize) -> (f64, f64) {
        let angle = std::f64::consts::TAU * i as f64 / RIM as f64;
        (self.middle.0 + self.radius * angle.cos(), self.middle.1 + self.radius * angle.sin())
    }

    /// The difference between the spot's rim and the same rim moved by (`dx`, `dy`), and how large it is.
    fn differences(&self, dx: f64, dy: f64) -> Option<(Vec<[f32; 3]>, f64)> {
        let (mut all, mut sum) = (Vec::with_capacity(RIM), 0.0);
        let mut mean = [0f64; 3];
        for i in 0..RIM {
            let (x, y) = self.rim(i);
            // At the picture's edge the spot's own rim may be missing: the nearest pixel stands for it.
            let near = |v: f64, from: i64, side: i64| v.clamp(from as f64, (from + side) as f64 - 0.5);
            let rim_pixel =
                self.at(near(x, self.rect.x, self.rect.width), near(y, self.rect.y, self.rect.height))?;
            let other = self.at(x + dx, y + dy)?;
            let d: [f32; 3] = std::array::from_fn(|c| rim_pixel[c] - other[c]);
            for c in 0..3 {
                mean[c] += f64::from(d[c]) / RIM as f64;
            }
            all.push(d);
        }
        for d in &all {
            sum += (0..3).map(|c| (f64::from(d[c]) - mean[c]).powi(2)).sum::<f64>();
        }
        Some((all, sum))
    }
}

/// How different a donor's rim is, where it lies from the spot, and the differences along the rim.
type Donor = (f64, (f64, f64), Vec<[f32; 3]>);

/// Heals a spot in the middle of a view.
fn heal(view: &View) -> Option<Patch> {
    let (middle, radius, rect) = view.around?;
    let sick = Sick { view, rect, middle, radius };
    // Twelve places around, far enough away not to overlap; the most alike is taken.
    let mut best: Option<Donor> = None;
    for (k, far) in (0..12).map(|k| (k, if k % 2 == 0 { 2.5 } else { 3.5 })) {
        let angle = std::f64::consts::TAU * f64::from(k) / 12.0;
        let (dx, dy) = ((far * radius * angle.cos()).round(), (far * radius * angle.sin()).round());
        if let Some((all, sum)) = sick.differences(dx, dy)
            && best.as_ref().is_none_or(|b| sum < b.0)
        {
            best = Some((sum, (dx, dy), all));
        }
    }
    let (_, (dx, dy), differences) = best?;
    let reach = radius.ceil() as i64 + 1;
    let patch = Rect::new(
        middle.0.floor() as i64 - reach,
        middle.1.floor() as i64 - reach,
        2 * reach + 1,
        2 * reach + 1,
    )
    .within(rect);
    let mut pixels = Vec::with_capacity(patch.area());
    for y in patch.y..patch.bottom() {
        for x in patch.x..patch.right() {
            let (px, py) = (x as f64 + 0.5, y as f64 + 0.5);
            let pixel = sick.at(px, py)?;
            let far = (px - middle.0).hypot(py - middle.1);
            let donor = sick.at(px + dx, py + dy).filter(|_| far < radius);
            pixels.push(match donor {
                None => pixel,
                Some(donor) => {
                    let more = membrane(&sick, &differences, px, py);
                    // The last tenth fades over.
                    let t = ((radius - far) / (0.1 * radius).max(0.5)).clamp(0.0, 1.0) as f32;
                    std::array::from_fn(|c| pixel[c] + (donor[c] + more[c] - pixel[c]).max(-pixel[c]) * t)
                }
            });
        }
    }
    Some(Patch { middle, radius, rect: patch, pixels })
}

/// The rim's differences carried to a place inside, by mean-value coordinates.
fn membrane(sick: &Sick, differences: &[[f32; 3]], x: f64, y: f64) -> [f32; 3] {
    let mut sum = [0f64; 3];
    let mut total = 0.0;
    let to = |i: usize| {
        let (rx, ry) = sick.rim(i % RIM);
        (rx - x, ry - y)
    };
    // Half the angle under which each piece of the rim is seen.
    let half = |i: usize| {
        let (a, b) = (to(i), to(i + 1));
        let (cross, dot) = (a.0 * b.1 - a.1 * b.0, a.0 * b.0 + a.1 * b.1);
        (cross.atan2(dot) / 2.0).tan()
    };
    let mut before = half(RIM - 1);
    for (i, d) in differences.iter().enumerate() {
        let after = half(i);
        let (dx, dy) = to(i);
        let weight = (before + after) / dx.hypot(dy).max(1e-6);
        total += weight;
        for c in 0..3 {
            sum[c] += weight * f64::from(d[c]);
        }
        before = after;
    }
    sum.map(|s| (s / total) as f32)
}

struct Healed {
    all: Arc<Vec<Patch>>,
    which: usize,
    scale: f64,
    bounds: Rect,
}

impl MarkOp for Healed {
    fn bounds(&self) -> Rect {
        self.bounds
    }
    fn run(&self, rect: Rect, pixels: &mut [Pixel]) {
        let patch = &self.all[self.which];
        let part = self.bounds.within(rect);
        for y in part.y..part.bottom() {
            for x in part.x..part.right() {
                // The pixels of full size this one stands for; only those inside the spot count.
                let range = |v: i64| {
                    let from = v as f64 / self.scale;
                    (
                        from.floor() as i64,
                        (((v + 1) as f64 / self.scale).ceil() as i64).max(from.floor() as i64 + 1),
                    )
                };
                let ((left, right), (top, bottom)) = (range(x), range(y));
                let (mut sum, mut inside, mut all) = ([0f32; 3], 0f32, 0f32);
                for v in top..bottom {
                    for u in left..right {
                        all += 1.0;
                        let (dx, dy) = (u as f64 + 0.5 - patch.middle.0, v as f64 + 0.5 - patch.middle.1);
                        let r = patch.rect;
                        let known = u >= r.x && v >= r.y && u < r.right() && v < r.bottom();
                        if known && dx.hypot(dy) < patch.radius {
                            let p = patch.pixels[((v - r.y) * r.width + u - r.x) as usize];
                            for c in 0..3 {
                                sum[c] += p[c];
                            }
                            inside += 1.0;
                        }
                    }
                }
                if inside > 0.0 {
                    let pixel = &mut pixels[((y - rect.y) * rect.width + x - rect.x) as usize];
                    let share = inside / all;
                    for c in 0..3 {
                        pixel[c] += (sum[c] / inside - pixel[c]) * share;
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    fn ground(x: f64, y: f64) -> [f32; 3] {
        let v = 0.3 + 0.001 * x + 0.02 * (x * 0.7).sin() * (y * 0.5).cos();
        [v as f32, (v * 0.9) as f32, (v * 0.7) as f32]
    }

    #[test]
    fn a_spot_becomes_what_is_around_it() {
        let scene = picture(Size::new(300, 200), |x, y| {
            let far = (f64::from(x) - 120.0).hypot(f64::from(y) - 80.0);
            let dark = 1.0 - 0.5 * (1.0 - (far / 6.0).min(1.0)) as f32;
            ground(x.into(), y.into()).map(|v| v * dark)
        });
        let spots = vec![[120.5 / 300.0, 80.5 / 200.0, 9.0 / 300.0]];
        let (_, out) = whole(Dust { spots, ..Dust::default() }, &scene);
        for (i, p) in out.iter().enumerate() {
            let (x, y) = ((i % 300) as f64, (i / 300) as f64);
            let want = ground(x, y);
            let far = (x - 120.0).hypot(y - 80.0);
            // The ramp is met; the texture is another piece of the same kind.
            let most = if far < 9.0 { 0.055 } else { 1e-6 };
            assert!((p[0] - want[0]).abs() < most, "{x},{y}: {} instead of {}", p[0], want[0]);
        }
        let mean = |of: &dyn Fn(usize) -> f32| {
            let all: Vec<f32> = (0..60_000)
                .filter(|i| ((i % 300) as f64 - 120.0).hypot((i / 300) as f64 - 80.0) < 6.0)
                .map(of)
                .collect();
            all.iter().sum::<f32>() / all.len() as f32
        };
        let (got, want) = (mean(&|i| out[i][0]), mean(&|i| ground((i % 300) as f64, (i / 300) as f64)[0]));
        assert!((got / want - 1.0).abs() < 0.02, "{got} {want}");
    }

    #[test]
    fn places_are_on_the_sensor() {
        // Turned clockwise (6), the sensor's left top comes to lie at the right top.
        for (exif, want) in [(1, (0.1, 0.2)), (6, (0.8, 0.1)), (8, (0.2, 0.9)), (3, (0.9, 0.8))] {
            let (x, y) = upright(0.1, 0.2, Orientation::from_exif(exif));
            assert!((x - want.0).abs() < 1e-12 && (y - want.1).abs() < 1e-12, "{exif}: {x} {y}");
        }
        assert!(Dust { spots: vec![[0.5, 0.5, 0.5]], ..Dust::default() }.check().is_err());
    }
}
