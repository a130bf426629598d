//! Perspective: makes lines that should be upright or level parallel again, and cuts to what is covered.
//!
//! Up to four lines are drawn along things that are upright or level in truth. Lines nearer to upright than to level
//! count as upright. The places where each pair meets are sent to infinity along the picture's axes (R. Hartley and A.
//! Zisserman, "Multiple View Geometry", 2nd ed., §2.7 and §8.6), the middle and the scale there stay; with one line of a
//! kind only its slant is mended. The result is the largest window of the same proportion that holds no empty corner.

use crate::analysis::line_detection::{Line, found_lines};
use crate::geometry::{Affine, Size};
use crate::ops::warp::{Projective, Warp};
use crate::step::{Effect, Geometry, Kind, ParamError, Step, Tool, ToolKind, View, Wants, step, values_of};
use serde_json::Value;

step! {
    /// Makes verticals and horizontals parallel again: draw two or four lines along things that are upright
    /// or level in truth, or let them be found; then the covered part is cut out in the same proportion.
    pub struct Perspective: PartialEq {
        id: "perspective",
        title: "Perspective",
        group: "geometry",
        words: [
            "perspective", "vertical", "verticals", "parallel", "keystone", "building", "leaning",
            "falling lines", "tilt",
        ],
        neutral: r#"{"lines": []}"#,
        starter: r#"{"automatic": true}"#,
        facts: {
            moves_pixels: true,
            shapes: true,
            tool: Some(Tool {
                kind: ToolKind::Lines,
                button: Some("Draw lines on the picture"),
                hint: "Draw up to four lines along what should be upright or level; a fifth starts over.",
                opens_at_once: true,
                shows_input: true,
            }),
            effects: &[Effect::Frames],
        },
    }
    parameters {
        /// Lines from one end to the other.
        lines: Vec<Line> = Vec::new(), Kind::Rows(&["x", "y", "to x", "to y"], 4);
        /// Lines are found in the picture; those drawn go before.
        automatic: bool = false, Kind::Flag;
        /// How much of it: a little less often looks more natural.
        strength: f64 = 100.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
    }
    measured {
        seen: Vec<Line> = Vec::new();
    }
}

type Vector = [f64; 3];

fn cross(a: Vector, b: Vector) -> Vector {
    [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]]
}

/// Where lines that are parallel in truth meet: a point in homogeneous coordinates about the middle, in units of the
/// long edge, with a length of 1 across. `axis` says which way is forward.
fn meeting(lines: &[Line], size: (f64, f64), axis: (f64, f64)) -> Option<Vector> {
    let long = size.0.max(size.1);
    let place = |x: f64, y: f64| [(x - 0.5) * size.0 / long, (y - 0.5) * size.1 / long, 1.0];
    let lines_at_infinity: Vec<Vector> =
        lines.iter().map(|l| cross(place(l[0], l[1]), place(l[2], l[3]))).collect();
    // One line alone only says how it leans: it meets its like infinitely far away.
    let mut sum = match lines_at_infinity[..] {
        [] => return None,
        [l] => [-l[1], l[0], 0.0],
        _ => [0.0; 3],
    };
    for (i, a) in lines_at_infinity.iter().enumerate() {
        for b in &lines_at_infinity[i + 1..] {
            let c = cross(*a, *b);
            let sign = (c[0] * axis.0 + c[1] * axis.1).signum();
            sum = std::array::from_fn(|k| sum[k] + sign * c[k]);
        }
    }
    let forward = (sum[0] * axis.0 + sum[1] * axis.1).signum();
    let length = sum[0].hypot(sum[1]);
    (length > 1e-9).then(|| sum.map(|v| v * forward / length))
}

impl Perspective {
    fn used(&self) -> &[Line] {
        if self.lines.is_empty() { &self.seen } else { &self.lines }
    }

    /// From the straight picture to the given one, both in units of the long edge about the middle. The middle stays,
    /// and so does the scale there along both axes.
    fn homography(&self, size: (f64, f64)) -> Option<Projective> {
        let upright = |l: &Line| ((l[3] - l[1]) * size.1).abs() > ((l[2] - l[0]) * size.0).abs();
        let (vertical, level): (Vec<Line>, Vec<Line>) = self.used().iter().partition(|l| upright(l));
        let down = meeting(&vertical, size, (0.0, 1.0));
        let right = meeting(&level, size, (1.0, 0.0));
        // What nothing is known of stands square to the other in the middle.
        let (right, down) = match (right, down) {
            (None, None) => return None,
            (None, Some(d)) => ([d[1], -d[0], 0.0], d),
            (Some(r), None) => (r, [-r[1], r[0], 0.0]),
            (Some(r), Some(d)) => (r, d),
        };
        let full = [right[0], down[0], 0.0, right[1], down[1], 0.0, right[2], down[2], 1.0];
        let same = [1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0];
        let share = self.strength / 100.0;
        Some(Projective(std::array::from_fn(|i| same[i] + (full[i] - same[i]) * share)))
    }
}

impl Step for Perspective {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let what = match (self.lines.len(), self.automatic) {
            (0, true) => "lines found ({automatic})",
            (0, false) => "no lines yet",
            _ => "{lines} lines",
        };
        if self.strength < 100.0 {
            format!("Perspective by {what}, {{strength}} of it.")
        } else {
            format!("Perspective by {what}.")
        }
    }
    fn check(&self) -> Result<(), ParamError> {
        for (i, l) in self.lines.iter().enumerate() {
            if (l[0] - l[2]).hypot(l[1] - l[3]) < 0.02 {
                return Err(ParamError::new(format!("lines[{i}]"), "this line is too short to go by"));
            }
        }
        Ok(())
    }
    fn wants(&self) -> Wants {
        if self.automatic && self.lines.is_empty() { Wants::Overview } else { Wants::Nothing }
    }
    fn measured(&self, views: &[View]) -> Option<Box<dyn Step>> {
        Some(Box::new(Self { seen: found_lines(views.first()?), ..self.clone() }))
    }
    fn found(&self) -> Vec<(&'static str, f64)> {
        if self.automatic { vec![("lines", self.used().len() as f64)] } else { Vec::new() }
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        let (w, h) = (f64::from(size.width), f64::from(size.height));
        let long = w.max(h);
        if self.strength == 0.0 {
            return None;
        }
        let turn = self.homography((w, h))?;
        // Straight coordinates in units of the long edge -> input pixels.
        let to_pixels = Projective::of(&Affine { a: long, b: 0.0, c: w / 2.0, d: 0.0, e: long, f: h / 2.0 });
        let to_input = turn.then(&to_pixels);
        let inside = |cx: f64, cy: f64, half: f64| {
            let (a, b) = (half * w / long, half * h / long);
            [(-1.0, -1.0), (1.0, -1.0), (-1.0, 1.0), (1.0, 1.0)].into_iter().all(|(sx, sy)| {
                let (x, y) = (cx + sx * a, cy + sy * b);
                let ahead = turn.0[6] * x + turn.0[7] * y + turn.0[8];
                let (u, v) = to_input.at(x, y);
                ahead > 0.05 && u >= -1e-6 && v >= -1e-6 && u <= w + 1e-6 && v <= h + 1e-6
            })
        };
        // The largest window: a search over its middle, ever finer, growing as far as it can at each.
        let grown = |cx: f64, cy: f64| {
            let (mut low, mut high) = (0.0, 1.5);
            for _ in 0..30 {
                let middle = 0.5 * (low + high);
                if inside(cx, cy, middle) { low = middle } else { high = middle }
            }
            low
        };
        let start = turn.inverse().map_or((0.0, 0.0), |i| i.at(0.0, 0.0));
        let (mut best, mut step) = ((start.0, start.1, grown(start.0, start.1)), 0.1);
        while step > 0.001 {
            let before = best.2;
            for (dx, dy) in [
                (-1.0, 0.0),
                (1.0, 0.0),
                (0.0, -1.0),
                (0.0, 1.0),
                (-1.0, -1.0),
                (1.0, 1.0),
                (-1.0, 1.0),
                (1.0, -1.0),
            ] {
                let (x, y) = (best.0 + dx * step, best.1 + dy * step);
                let half = grown(x, y);
                if half > best.2 {
                    best = (x, y, half);
                }
            }
            if best.2 <= before + 1e-9 {
                step /= 2.0;
            }
        }
        let (cx, cy, half) = best;
        // Lines that meet inside the picture leave nothing to show.
        if half < 0.05 {
            return None;
        }
        // As many pixels as the window has in the input, about: no detail is lost, none is made up.
        let scale = Warp::from(to_input).magnification(2.0 * cx, 2.0 * cy).recip();
        let side = |n: f64| (2.0 * half * n / long * scale).round().clamp(1.0, n.max(1.0));
        let out = Size::new(side(w) as u32, side(h) as u32);
        let (ow, oh) = (f64::from(out.width), f64::from(out.height));
        let window = Affine {
            a: 2.0 * half * w / long / ow,
            b: 0.0,
            c: cx - half * w / long,
            d: 0.0,
            e: 2.0 * half * h / long / oh,
            f: cy - half * h / long,
        };
        Some(Geometry { map: Projective::of(&window).then(&to_input).into(), size: out })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{picture, whole};

    /// Where a place in the input comes to lie in the output, as shares; found by search.
    fn output(g: &Geometry, x: f64, y: f64) -> (f64, f64) {
        let (w, h) = (f64::from(g.size.width), f64::from(g.size.height));
        let (mut at, mut step) = ((w / 2.0, h / 2.0), w.max(h) / 2.0);
        let far = |p: (f64, f64)| {
            let (u, v) = g.map.at(p.0, p.1, 1);
            (u - x).hypot(v - y)
        };
        while step > 1e-4 {
            let around = [(1.0, 0.0), (-1.0, 0.0), (0.0, 1.0), (0.0, -1.0)]
                .map(|d| (at.0 + d.0 * step, at.1 + d.1 * step));
            match around.into_iter().min_by(|a, b| far(*a).total_cmp(&far(*b))) {
                Some(next) if far(next) < far(at) => at = next,
                _ => step /= 2.0,
            }
        }
        at
    }

    #[test]
    fn drawn_lines_become_upright_and_level() {
        let size = Size::new(900, 600);
        let lines =
            vec![[0.2, 0.9, 0.3, 0.1], [0.85, 0.9, 0.72, 0.1], [0.1, 0.2, 0.9, 0.26], [0.1, 0.9, 0.9, 0.84]];
        let g = Perspective { lines: lines.clone(), ..Perspective::default() }.geometry(size).unwrap();
        for (i, l) in lines.iter().enumerate() {
            let (a, b) = (output(&g, l[0] * 900.0, l[1] * 600.0), output(&g, l[2] * 900.0, l[3] * 600.0));
            let slant = if i < 2 { (a.0 - b.0) / (a.1 - b.1) } else { (a.1 - b.1) / (a.0 - b.0) };
            assert!(slant.abs() < 1e-3, "line {i} still leans by {slant}");
        }
        let two = Perspective { lines: lines[..2].to_vec(), ..Perspective::default() };
        let g = two.geometry(size).unwrap();
        for l in &lines[..2] {
            let (a, b) = (output(&g, l[0] * 900.0, l[1] * 600.0), output(&g, l[2] * 900.0, l[3] * 600.0));
            assert!(((a.0 - b.0) / (a.1 - b.1)).abs() < 1e-3);
        }
        // The same proportion, and no corner outside.
        let (w, h) = (f64::from(g.size.width), f64::from(g.size.height));
        assert!((w / h - 1.5).abs() < 0.01 && w > 500.0, "{:?}", g.size);
        for (x, y) in [(0.0, 0.0), (w, 0.0), (0.0, h), (w, h)] {
            let (u, v) = g.map.at(x, y, 1);
            assert!(u > -0.5 && v > -0.5 && u < 900.5 && v < 600.5, "{u} {v}");
        }
    }

    #[test]
    fn lines_are_found_in_a_leaning_facade() {
        // Dark posts that all point to one place above the picture, over an uneven ground.
        let scene = picture(Size::new(600, 400), |x, y| {
            let (x, y) = (f64::from(x), f64::from(y));
            let top = (310.0, -1500.0);
            // Along the lines through that place, measured where they cross the middle row.
            let at = top.0 + (x - top.0) * (200.0 - top.1) / (y - top.1);
            let off = (at / 60.0 - (at / 60.0).round()).abs() * 60.0;
            let post = (off - 4.0).clamp(0.0, 1.0);
            let ground = 0.4 + 0.1 * (x * 0.013).sin() * (y * 0.021).cos();
            [(0.08 + (ground - 0.08) * post) as f32; 3]
        });
        let (_, before) = whole(Perspective::default(), &scene);
        let (size, after) = whole(Perspective { automatic: true, ..Perspective::default() }, &scene);
        let lean = |all: &[[f32; 3]], w: usize, h: usize| {
            // The posts' edges near the top and the bottom, from the left: how far they move.
            let edges = |y: usize| -> Vec<f64> {
                (1..w)
                    .filter(|x| all[y * w + x - 1][1] > 0.2 && all[y * w + x][1] <= 0.2)
                    .map(|x| x as f64)
                    .collect()
            };
            let (top, low) = (edges(h / 10), edges(h - h / 10));
            let (first, last) = (low[1] - top[1], low[low.len() - 2] - top[top.len().min(low.len()) - 2]);
            (first - last).abs() / (h as f64 * 0.8)
        };
        let (was, is) = (lean(&before, 600, 400), lean(&after, size.width as usize, size.height as usize));
        assert!(was > 0.1 && is < 0.02, "leaned {was}, leans {is}");
    }

    #[test]
    fn strength_holds_back_and_short_lines_are_refused() {
        let lines = vec![[0.2, 0.9, 0.3, 0.1], [0.85, 0.9, 0.72, 0.1]];
        let full = Perspective { lines: lines.clone(), ..Perspective::default() };
        let half = Perspective { strength: 50.0, ..full.clone() };
        let size = Size::new(900, 600);
        let slant = |step: &Perspective| {
            let g = step.geometry(size).unwrap();
            let l = lines[0];
            let (a, b) = (output(&g, l[0] * 900.0, l[1] * 600.0), output(&g, l[2] * 900.0, l[3] * 600.0));
            (a.0 - b.0) / (a.1 - b.1)
        };
        let was = (lines[0][0] - lines[0][2]) * 900.0 / ((lines[0][1] - lines[0][3]) * 600.0);
        assert!(slant(&full).abs() < 1e-3);
        assert!((slant(&half) / was - 0.5).abs() < 0.1, "{} of {was}", slant(&half));
        let short = Perspective { lines: vec![[0.5, 0.5, 0.505, 0.5]], ..Perspective::default() };
        assert_eq!(short.check().unwrap_err().path, "lines[0]");
    }
}
