//! Lens values by hand: distortion, coloured fringes, fall-off towards the corners.
//!
//! Distortion: the radius is multiplied by `1 + k r²`, `r` being 1 in the corner (the lowest term of D. C. Brown,
//! "Close-range camera calibration", 1971), and the whole is enlarged just so far that no corner is empty. Fringes: red
//! and blue are looked up at their own scale about the middle. Fall-off: on linear light, multiplied by
//! `1 + f r⁴`-shaped gain, as the cosine law asks for. Geometry joins its neighbours' resampling.

use crate::geometry::Size;
use crate::ops::planes::{CHUNK, Planes};
use crate::ops::pointwise::{PixelOp, PointOp};
use crate::ops::warp::Lens as Mapping;
use crate::step::{Geometry, Kind, Op, Place, Step, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Straightens bent lines, brings coloured fringes together and lightens dark corners, with values set
    /// by hand. Best at the beginning: it goes by the middle of the picture as it comes to this line.
    pub struct Lens: PartialEq {
        id: "lens",
        title: "Lens values by hand",
        group: "repair",
        words: [
            "lens", "distortion", "barrel", "pincushion", "bent", "fringe", "aberration", "fall-off",
            "corners", "dark corners",
        ],
        neutral: r#"{"distortion": 0, "red": 0, "blue": 0, "falloff": 0}"#,
        starter: r#"{"distortion": 3}"#,
        facts: { moves_pixels: true, shapes: true, once: Some("corrected for their lens") },
    }
    parameters {
        /// Lines that bend outwards (above 0) or inwards (below 0) are straightened: so much of the
        /// corner's radius.
        distortion: f64 = 0.0, Kind::Number { min: -30.0, max: 30.0, step: 0.1 }, "%";
        /// Red made larger (above 0) or smaller against green.
        red: f64 = 0.0, Kind::Number { min: -5.0, max: 5.0, step: 0.05 }, "‰";
        /// Blue made larger (above 0) or smaller against green.
        blue: f64 = 0.0, Kind::Number { min: -5.0, max: 5.0, step: 0.05 }, "‰";
        /// Corners lightened (above 0) or darkened.
        falloff: f64 = 0.0, Kind::Number { min: -3.0, max: 3.0, step: 0.05 }, "stops";
    }
}

impl Step for Lens {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let mut phrases = Vec::new();
        if self.distortion != 0.0 {
            phrases.push("distortion {distortion}");
        }
        if self.red != 0.0 || self.blue != 0.0 {
            phrases.push("fringes red {red} and blue {blue}");
        }
        if self.falloff != 0.0 {
            phrases.push("corners {falloff} stops");
        }
        if phrases.is_empty() { "Lens as it is.".into() } else { format!("Lens: {}.", phrases.join(", ")) }
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        if self.distortion == 0.0 && self.red == 0.0 && self.blue == 0.0 {
            return None;
        }
        let (w, h) = (f64::from(size.width), f64::from(size.height));
        // A barrel draws the corners in: the straight picture's corner is looked up nearer to the middle.
        let k = -self.distortion / 100.0;
        let mut lens = Mapping {
            centre: (w / 2.0, h / 2.0),
            radius: 0.5 * w.hypot(h),
            bend: [k, 0.0],
            zoom: 1.0,
            scale: [1.0 - self.red / 1000.0, 1.0, 1.0 - self.blue / 1000.0],
        };
        // The farthest look-up is along an axis (bent inwards) or in the corner; all must stay inside.
        let most_scale = lens.scale.into_iter().fold(1.0, f64::max);
        let reach = |zoom: f64| {
            [w / w.hypot(h), h / w.hypot(h), 1.0]
                .map(|r| zoom * lens.factor(r * zoom))
                .into_iter()
                .fold(0.0, f64::max)
        };
        let (mut low, mut high) = (0.2, 3.0);
        for _ in 0..50 {
            let middle = 0.5 * (low + high);
            if reach(middle) * most_scale > 1.0 { high = middle } else { low = middle }
        }
        // Never shown smaller than it was: what a pincushion leaves outside is cut.
        lens.zoom = low.min(1.0);
        Some(Geometry { map: lens.into(), size })
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        if self.falloff == 0.0 {
            return Vec::new();
        }
        let (w, h) = (f64::from(place.size.width) * place.scale, f64::from(place.size.height) * place.scale);
        let gain = 2f64.powf(self.falloff) - 1.0;
        let op = Corners { centre: (w / 2.0, h / 2.0), per: 4.0 / (w * w + h * h), gain: gain as f32 };
        vec![Op::Point(PointOp::Pixels(Arc::new(op)))]
    }
}

struct Corners {
    centre: (f64, f64),
    /// One over the square of half the diagonal.
    per: f64,
    gain: f32,
}

impl PixelOp for Corners {
    fn run(&self, x: i64, y: i64, planes: &mut Planes) {
        let dy = y as f64 + 0.5 - self.centre.1;
        let factors: [f32; CHUNK] = std::array::from_fn(|i| {
            let dx = (x + i as i64) as f64 + 0.5 - self.centre.0;
            let r2 = ((dx * dx + dy * dy) * self.per) as f32;
            1.0 + self.gain * r2 * (0.5 + 0.5 * r2)
        });
        planes.scale(&factors);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{picture, whole};

    /// A picture of thin bright lines as a lens with that distortion (and scale of red) would take it.
    fn bent(distortion: f64, red: f64) -> crate::Picture {
        let (w, h) = (600.0f64, 400.0f64);
        let radius = 0.5 * w.hypot(h);
        let k = -distortion / 100.0;
        picture(Size::new(600, 400), move |x, y| {
            let value = |scale: f64| {
                let (dx, dy) = (f64::from(x) + 0.5 - w / 2.0, f64::from(y) + 0.5 - h / 2.0);
                let (dx, dy) = (dx / scale, dy / scale);
                // The straight place whose look-up is here: solved by fixed-point steps.
                let want = dx.hypot(dy) / radius;
                let mut r = want;
                for _ in 0..60 {
                    r = want / (1.0 + k * r * r);
                }
                let grow = if want > 0.0 { r / want } else { 1.0 };
                let u = dx * grow;
                0.2 + 0.6 * (-(u - 180.0) * (u - 180.0) / 18.0).exp()
            };
            let plain = value(1.0) as f32;
            [value(1.0 - red / 1000.0) as f32, plain, plain]
        })
    }

    fn middle(out: &[[f32; 3]], y: usize, channel: usize) -> f64 {
        let (mut sum, mut weight) = (0.0, 0.0);
        for x in 400..560 {
            let v = f64::from(out[y * 600 + x][channel] - 0.2).max(0.0);
            sum += v * x as f64;
            weight += v;
        }
        sum / weight
    }

    #[test]
    fn a_bent_line_becomes_straight() {
        for distortion in [6.0, -6.0] {
            let scene = bent(distortion, 0.0);
            let (_, out) = whole(Lens { distortion, ..Lens::default() }, &scene);
            let all: Vec<f64> = [20, 100, 200, 300, 380].map(|y| middle(&out, y, 1)).to_vec();
            let spread =
                all.iter().cloned().fold(f64::MIN, f64::max) - all.iter().cloned().fold(f64::MAX, f64::min);
            assert!(spread < 0.2, "{distortion}: the line still bends by {spread} pixels: {all:?}");
        }
    }

    #[test]
    fn fringes_come_together_and_corners_get_their_stops() {
        let scene = bent(0.0, 4.0);
        let (_, out) = whole(Lens { red: 4.0, ..Lens::default() }, &scene);
        let off = middle(&out, 200, 0) - middle(&out, 200, 1);
        assert!(off.abs() < 0.05, "red is still {off} pixels off");
        let flat = picture(Size::new(301, 201), |_, _| [0.2; 3]);
        let (_, out) = whole(Lens { falloff: 1.0, ..Lens::default() }, &flat);
        assert!((out[0][1] - 0.4).abs() < 0.005 && out[100 * 301 + 150] == [0.2; 3], "{:?}", out[0]);
    }

    #[test]
    fn no_look_up_leaves_the_picture() {
        for distortion in [-30.0, -5.0, 4.0, 30.0] {
            for size in [Size::new(600, 400), Size::new(400, 600), Size::new(500, 500)] {
                let g = Lens { distortion, red: 3.0, blue: -2.0, falloff: 0.0 }.geometry(size).unwrap();
                let (w, h) = (f64::from(size.width), f64::from(size.height));
                for (x, y) in [(0.0, 0.0), (w / 2.0, 0.0), (0.0, h / 2.0), (w, h), (w, h / 2.0)] {
                    for c in 0..3 {
                        let (u, v) = g.map.at(x, y, c);
                        let inside = u > -0.5 && v > -0.5 && u < w + 0.5 && v < h + 0.5;
                        assert!(inside, "{distortion} of {size:?} at {x},{y}: {u},{v}");
                    }
                }
            }
        }
    }
}
