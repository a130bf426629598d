//! Areas: where in the picture a step works, and how strongly.
//!
//! An [`Area`] is a list of shapes in relative coordinates (shares of the picture's width and height), so that it fits
//! the same picture at any size. Each shape gives a weight from 0 to 1 with a soft edge; the second and later ones are
//! added to, kept within, or taken out of what stands before. [`Mask`] is an area placed on a picture of known size
//! and scale. Painted strokes are drawn once, into a map of at most 1024 pixels a side.

use crate::colour::transfer::ENCODE;
use crate::geometry::Size;
use crate::ops::planes::{CHUNK, Planes};
use crate::step::ParamError;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::sync::Arc;

/// Most shapes an area may have.
pub const MAX_SHAPES: usize = 20;

/// Most points all strokes of one shape may have together.
pub const MAX_STROKE_POINTS: usize = 20_000;

/// How a shape meets what stands before it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Combine {
    /// Both.
    #[default]
    Add,
    /// Only where both are.
    Within,
    /// What stands before, without this.
    Without,
}

/// One line painted by hand.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stroke {
    /// Points `[x, y]` as shares of width and height.
    pub points: Vec<[f64; 2]>,
    /// Width of the brush, in hundredths of the long edge.
    pub width: f64,
    /// Takes away instead.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub erase: bool,
}

/// Where a shape lies.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase", deny_unknown_fields)]
pub enum Form {
    /// All before `from`, nothing after `to`, softly between.
    Gradient {
        /// `[x, y]`, shares of width and height.
        from: [f64; 2],
        /// `[x, y]`.
        to: [f64; 2],
    },
    /// Inside an ellipse.
    Ellipse {
        /// `[x, y]`.
        centre: [f64; 2],
        /// Half the width and half the height, as shares of the picture's.
        radii: [f64; 2],
        /// Turned clockwise by so many degrees.
        #[serde(default)]
        turn: f64,
        /// Share of the radius over which it fades, per cent.
        #[serde(default = "half")]
        soft: f64,
    },
    /// Where the picture is as bright as that.
    Brightness {
        /// 0 ..= 100, perceptual.
        low: f64,
        /// 0 ..= 100.
        high: f64,
        /// Fades over so much beyond both ends, 0 ..= 50.
        #[serde(default = "ten")]
        soft: f64,
    },
    /// Where the picture has that colour.
    Colour {
        /// Hue, 0 red, 120 green, 240 blue.
        hue: f64,
        /// Hues up to so many degrees away.
        width: f64,
        /// Fades over so many degrees more.
        #[serde(default = "thirty")]
        soft: f64,
    },
    /// Painted by hand.
    Strokes {
        /// In the order they were painted.
        strokes: Vec<Stroke>,
        /// Share of the brush's radius over which it fades, per cent.
        #[serde(default = "half")]
        soft: f64,
    },
}

fn half() -> f64 {
    50.0
}
fn ten() -> f64 {
    10.0
}
fn thirty() -> f64 {
    30.0
}

/// One shape of an area.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Shape {
    /// Where it lies.
    #[serde(flatten)]
    pub form: Form,
    /// Everything but the shape.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub invert: bool,
    /// How it meets what stands before it.
    #[serde(default, skip_serializing_if = "is_add")]
    pub combine: Combine,
}

fn is_add(combine: &Combine) -> bool {
    *combine == Combine::Add
}

/// Where a step works.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Area(pub Vec<Shape>);

impl Area {
    /// Reads and checks an area: a list of shapes, or one shape alone.
    ///
    /// # Errors
    /// [`ParamError`] with a path such as `area[1].radii`.
    pub fn read(value: &Value) -> Result<Self, ParamError> {
        let list = match value {
            Value::Array(all) => all.clone(),
            one => vec![one.clone()],
        };
        if list.is_empty() || list.len() > MAX_SHAPES {
            return Err(ParamError::new(
                "area",
                format!("expected 1 to {MAX_SHAPES} shapes, got {}", list.len()),
            ));
        }
        let mut shapes = Vec::with_capacity(list.len());
        for (i, one) in list.iter().enumerate() {
            let at = format!("area[{i}]");
            let mut fields = one.clone();
            let mut take = |key: &str| fields.as_object_mut().and_then(|m| m.remove(key));
            let (invert, combine) = (take("invert"), take("combine"));
            let invert = match invert {
                None => false,
                Some(Value::Bool(b)) => b,
                Some(_) => return Err(ParamError::new(format!("{at}.invert"), "expected true or false")),
            };
            let combine = match combine {
                None => Combine::Add,
                Some(v) => serde_json::from_value(v).map_err(|_| {
                    ParamError::new(format!("{at}.combine"), "expected one of add, within, without")
                })?,
            };
            let form: Form =
                serde_json::from_value(fields).map_err(|e| ParamError::new(&at, e.to_string()))?;
            check(&at, &form)?;
            shapes.push(Shape { form, invert, combine });
        }
        Ok(Self(shapes))
    }

    /// In plain words, such as `in a gradient and an ellipse`.
    pub fn words(&self) -> String {
        let word = |shape: &Shape| {
            let name = match shape.form {
                Form::Gradient { .. } => "a gradient",
                Form::Ellipse { .. } => "an ellipse",
                Form::Brightness { .. } => "a range of brightness",
                Form::Colour { .. } => "a range of colour",
                Form::Strokes { .. } => "painted strokes",
            };
            if shape.invert { format!("all but {name}") } else { name.to_owned() }
        };
        let mut text = String::from("in ");
        for (i, shape) in self.0.iter().enumerate() {
            if i > 0 {
                text += match shape.combine {
                    Combine::Add => " and ",
                    Combine::Within => " within ",
                    Combine::Without => " without ",
                };
            }
            text += &word(shape);
        }
        text
    }
}

fn check(at: &str, form: &Form) -> Result<(), ParamError> {
    let range = |name: &str, value: f64, min: f64, max: f64| {
        if value.is_finite() && (min..=max).contains(&value) {
            return Ok(());
        }
        Err(ParamError::new(
            format!("{at}.{name}"),
            format!("expected a number from {min} to {max}, got {value}"),
        ))
    };
    let point = |name: &str, p: &[f64; 2]| p.iter().try_for_each(|v| range(name, *v, -2.0, 3.0));
    match form {
        Form::Gradient { from, to } => {
            point("from", from)?;
            point("to", to)?;
            if (from[0] - to[0]).hypot(from[1] - to[1]) < 1e-4 {
                return Err(ParamError::new(format!("{at}.to"), "expected another place than from"));
            }
            Ok(())
        }
        Form::Ellipse { centre, radii, turn, soft } => {
            point("centre", centre)?;
            radii.iter().try_for_each(|v| range("radii", *v, 0.001, 3.0))?;
            range("turn", *turn, -180.0, 180.0)?;
            range("soft", *soft, 0.0, 100.0)
        }
        Form::Brightness { low, high, soft } => {
            range("low", *low, 0.0, 100.0)?;
            range("high", *high, *low, 100.0)?;
            range("soft", *soft, 0.0, 50.0)
        }
        Form::Colour { hue, width, soft } => {
            range("hue", *hue, 0.0, 360.0)?;
            range("width", *width, 0.0, 180.0)?;
            range("soft", *soft, 0.0, 90.0)
        }
        Form::Strokes { strokes, soft } => {
            range("soft", *soft, 0.0, 100.0)?;
            let count: usize = strokes.iter().map(|s| s.points.len()).sum();
            if count > MAX_STROKE_POINTS {
                return Err(ParamError::new(
                    format!("{at}.strokes"),
                    format!("expected at most {MAX_STROKE_POINTS} points, got {count}"),
                ));
            }
            strokes.iter().enumerate().try_for_each(|(k, s)| {
                range(&format!("strokes[{k}].width"), s.width, 0.05, 100.0)?;
                s.points.iter().try_for_each(|p| point(&format!("strokes[{k}].points"), p))
            })
        }
    }
}

/// 0 below 0, 1 above 1, smooth between.
fn smooth(t: f32) -> f32 {
    let t = t.clamp(0.0, 1.0);
    t * t * (3.0 - 2.0 * t)
}

/// Tells `each` pixel that may lie within a radius of a line of straight pieces, by its index, and how far it is from the piece that
/// is looked at; `points` are shares of the sides.
pub fn near_line(
    points: &[[f64; 2]],
    radius: f64,
    (width, height): (usize, usize),
    mut each: impl FnMut(usize, f64),
) {
    let place = |p: &[f64; 2]| (p[0] * width as f64, p[1] * height as f64);
    for (i, p) in points.iter().enumerate() {
        let (a, b) = (place(&points[i.saturating_sub(1)]), place(p));
        let low = |v: f64| (v - radius - 1.0).max(0.0) as usize;
        let high = |v: f64, side: usize| ((v + radius + 2.0).max(0.0) as usize).min(side);
        let (dx, dy) = (b.0 - a.0, b.1 - a.1);
        let length = (dx * dx + dy * dy).max(1e-12);
        for y in low(a.1.min(b.1))..high(a.1.max(b.1), height) {
            for x in low(a.0.min(b.0))..high(a.0.max(b.0), width) {
                let (px, py) = (x as f64 + 0.5 - a.0, y as f64 + 0.5 - a.1);
                let t = ((px * dx + py * dy) / length).clamp(0.0, 1.0);
                each(y * width + x, (px - t * dx).hypot(py - t * dy));
            }
        }
    }
}

/// Longest side of the map strokes are drawn into.
const MAP: f64 = 1024.0;

/// Strokes as drawn.
struct Painted {
    width: usize,
    height: usize,
    weights: Vec<f32>,
}

impl Painted {
    fn new(strokes: &[Stroke], soft: f64, size: Size) -> Self {
        let scale = (MAP / f64::from(size.long_edge())).min(1.0);
        let small = size.times(scale);
        let (width, height) = (small.width as usize, small.height as usize);
        let mut weights = vec![0f32; width * height];
        for stroke in strokes {
            let radius = (stroke.width / 200.0 * f64::from(small.long_edge())).max(0.5);
            let inner = radius * (1.0 - soft / 100.0);
            // A stroke covers once, however often it crosses itself.
            let mut cover = vec![0f32; width * height];
            near_line(&stroke.points, radius, (width, height), |at, far| {
                // At least one pixel of the map to fade over.
                let weight = smooth(((radius - far) / (radius - inner).max(1.0)) as f32);
                cover[at] = cover[at].max(weight);
            });
            for (w, c) in weights.iter_mut().zip(cover) {
                *w = if stroke.erase { *w * (1.0 - c) } else { *w + c - *w * c };
            }
        }
        Self { width, height, weights }
    }

    fn at(&self, x: f64, y: f64) -> f32 {
        let at = |v: f64, side: usize| {
            let v = (v * side as f64 - 0.5).clamp(0.0, side as f64 - 1.0);
            let whole = (v as usize).min(side.saturating_sub(2));
            (whole, (whole + 1).min(side - 1), (v - whole as f64) as f32)
        };
        let ((x0, x1, s), (y0, y1, t)) = (at(x, self.width), at(y, self.height));
        let v = |x: usize, y: usize| self.weights[y * self.width + x];
        (v(x0, y0) * (1.0 - s) + v(x1, y0) * s) * (1.0 - t) + (v(x0, y1) * (1.0 - s) + v(x1, y1) * s) * t
    }
}

enum Placed {
    /// `a·x + b·y + c`, then smooth.
    Gradient(f64, f64, f64),
    Ellipse {
        centre: (f64, f64),
        axes: [f64; 4],
        inner: f64,
    },
    Brightness {
        low: f32,
        high: f32,
        soft: f32,
    },
    Colour {
        hue: f32,
        width: f32,
        soft: f32,
    },
    Strokes(Painted, (f64, f64)),
}

/// An area on a picture of known size, at a known scale.
pub struct Mask {
    shapes: Vec<(Placed, bool, Combine)>,
}

impl Mask {
    /// Places `area` on a picture of `size` (at full scale), rendered at `scale`.
    pub fn new(area: &Area, size: Size, scale: f64) -> Arc<Self> {
        let (w, h) = (f64::from(size.width) * scale, f64::from(size.height) * scale);
        let shapes = area
            .0
            .iter()
            .map(|shape| {
                let placed = match &shape.form {
                    Form::Gradient { from, to } => {
                        let (dx, dy) = ((to[0] - from[0]) * w, (to[1] - from[1]) * h);
                        let length = dx * dx + dy * dy;
                        let (a, b) = (-dx / length, -dy / length);
                        Placed::Gradient(a, b, 1.0 - a * from[0] * w - b * from[1] * h)
                    }
                    Form::Ellipse { centre, radii, turn, soft } => {
                        let (sin, cos) = turn.to_radians().sin_cos();
                        let (rx, ry) = ((radii[0] * w).max(0.5), (radii[1] * h).max(0.5));
                        Placed::Ellipse {
                            centre: (centre[0] * w, centre[1] * h),
                            axes: [cos / rx, sin / rx, -sin / ry, cos / ry],
                            // At least about a pixel to fade over.
                            inner: (1.0 - soft / 100.0).min(1.0 - 1.0 / rx.max(ry).max(1.001)),
                        }
                    }
                    Form::Brightness { low, high, soft } => Placed::Brightness {
                        low: *low as f32 / 100.0,
                        high: *high as f32 / 100.0,
                        soft: (*soft as f32 / 100.0).max(1e-3),
                    },
                    Form::Colour { hue, width, soft } => Placed::Colour {
                        hue: hue.to_radians() as f32,
                        width: width.to_radians() as f32,
                        soft: soft.to_radians().max(0.01) as f32,
                    },
                    Form::Strokes { strokes, soft } => {
                        Placed::Strokes(Painted::new(strokes, *soft, size), (w, h))
                    }
                };
                (placed, shape.invert, shape.combine)
            })
            .collect();
        Arc::new(Self { shapes })
    }

    /// The weights of a run of pixels whose first lies at column `x` of row `y`; `planes` holds the step's input.
    pub fn weigh(&self, x: i64, y: i64, planes: &Planes, out: &mut [f32; CHUNK]) {
        for (n, (placed, invert, combine)) in self.shapes.iter().enumerate() {
            let mut weights = [0f32; CHUNK];
            placed.weigh(x as f64 + 0.5, y as f64 + 0.5, planes, &mut weights);
            if *invert {
                weights = weights.map(|w| 1.0 - w);
            }
            for (o, w) in out.iter_mut().zip(weights) {
                *o = match (n, combine) {
                    (0, _) => w,
                    (_, Combine::Add) => *o + w - *o * w,
                    (_, Combine::Within) => *o * w,
                    (_, Combine::Without) => *o * (1.0 - w),
                };
            }
        }
    }
}

impl Placed {
    fn weigh(&self, x: f64, y: f64, planes: &Planes, weights: &mut [f32; CHUNK]) {
        match self {
            Self::Gradient(a, b, c) => {
                for (i, w) in weights.iter_mut().enumerate() {
                    *w = smooth((a * (x + i as f64) + b * y + c) as f32);
                }
            }
            Self::Ellipse { centre, axes, inner } => {
                for (i, w) in weights.iter_mut().enumerate() {
                    let (dx, dy) = (x + i as f64 - centre.0, y - centre.1);
                    let far = (axes[0] * dx + axes[1] * dy).hypot(axes[2] * dx + axes[3] * dy);
                    *w = smooth(((1.0 - far) / (1.0 - inner)) as f32);
                }
            }
            Self::Brightness { low, high, soft } => {
                let mut light = planes.luminance();
                ENCODE.apply(&mut light);
                for (w, v) in weights.iter_mut().zip(light) {
                    let beyond = (low - v).max(v - high).max(0.0);
                    *w = smooth(1.0 - beyond / soft);
                }
            }
            Self::Colour { hue, width, soft } => {
                let (mut r, mut g, mut b) = (planes.r, planes.g, planes.b);
                for plane in [&mut r, &mut g, &mut b] {
                    ENCODE.apply(plane);
                }
                for i in 0..CHUNK {
                    let (a, c) = (r[i] - 0.5 * (g[i] + b[i]), 0.866_025_4 * (g[i] - b[i]));
                    let chroma = a.hypot(c);
                    let mut away = (c.atan2(a) - hue).abs() % std::f32::consts::TAU;
                    if away > std::f32::consts::PI {
                        away = std::f32::consts::TAU - away;
                    }
                    // Grey has no hue: weak colours count less and less.
                    weights[i] = smooth(1.0 - (away - width) / soft) * smooth(chroma / 0.08);
                }
            }
            Self::Strokes(painted, (w, h)) => {
                for (i, weight) in weights.iter_mut().enumerate() {
                    *weight = painted.at((x + i as f64) / w, y / h);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::decode;
    use serde_json::json;

    fn grey(value: f32) -> [f32; 3] {
        [decode(value); 3]
    }

    fn weight(area: Value, size: Size, at: (i64, i64), pixel: [f32; 3]) -> f32 {
        let mask = Mask::new(&Area::read(&area).unwrap(), size, 1.0);
        let planes = Planes { r: [pixel[0]; CHUNK], g: [pixel[1]; CHUNK], b: [pixel[2]; CHUNK] };
        let mut out = [0.0; CHUNK];
        mask.weigh(at.0, at.1, &planes, &mut out);
        out[0]
    }

    #[test]
    fn shapes_have_their_known_weights() {
        let size = Size::new(200, 100);
        let half = grey(0.5);
        let sky = json!({"kind": "gradient", "from": [0.0, 0.2], "to": [0.0, 0.8]});
        assert_eq!(weight(sky.clone(), size, (10, 5), half), 1.0);
        assert_eq!(weight(sky.clone(), size, (10, 90), half), 0.0);
        assert!((weight(sky.clone(), size, (10, 49), half) - 0.5).abs() < 0.02);
        // A slanted line: equal weights across it, in pixels and not in shares.
        let slant = json!({"kind": "gradient", "from": [0.25, 0.25], "to": [0.75, 0.75]});
        // The line goes by (100, 50) pixels; a step across it is (−50, 100).
        let (a, b) = (weight(slant.clone(), size, (100, 50), half), weight(slant, size, (80, 90), half));
        assert!((a - b).abs() < 0.02, "{a} {b}");
        let round = json!({"kind": "ellipse", "centre": [0.5, 0.5], "radii": [0.25, 0.5], "soft": 20});
        assert_eq!(weight(round.clone(), size, (100, 50), half), 1.0);
        assert_eq!(weight(round.clone(), size, (135, 50), half), 1.0);
        assert_eq!(weight(round.clone(), size, (152, 50), half), 0.0);
        assert!((weight(round, size, (144, 49), half) - 0.5).abs() < 0.15);
        let dark = json!({"kind": "brightness", "low": 0, "high": 30, "soft": 20});
        assert_eq!(weight(dark.clone(), size, (0, 0), grey(0.3)), 1.0);
        assert!((weight(dark.clone(), size, (0, 0), grey(0.4)) - 0.5).abs() < 0.01);
        assert_eq!(weight(dark, size, (0, 0), grey(0.55)), 0.0);
        let green = json!({"kind": "colour", "hue": 120, "width": 20, "soft": 20});
        assert!(weight(green.clone(), size, (0, 0), [0.1, 0.6, 0.1]) > 0.99);
        assert_eq!(weight(green.clone(), size, (0, 0), [0.6, 0.1, 0.1]), 0.0);
        assert!(weight(green, size, (0, 0), half) < 0.01);
    }

    #[test]
    fn shapes_are_inverted_and_combined() {
        let size = Size::new(100, 100);
        let left = json!({"kind": "strokes", "soft": 0, "strokes": [{"points": [[0.2, 0.0], [0.2, 1.0]], "width": 40}]});
        let at = |area: Value, x: i64| weight(area, size, (x, 50), [0.2; 3]);
        assert_eq!((at(left.clone(), 20), at(left.clone(), 60)), (1.0, 0.0));
        let mut out = left.clone();
        out["invert"] = json!(true);
        assert_eq!((at(out.clone(), 20), at(out, 60)), (0.0, 1.0));
        let top = json!({"kind": "gradient", "from": [0, 0.9], "to": [0, 1]});
        let with = |combine: &str| {
            let mut second = top.clone();
            second["combine"] = json!(combine);
            json!([left, second])
        };
        assert_eq!((at(with("add"), 20), at(with("add"), 60)), (1.0, 1.0));
        assert_eq!((at(with("within"), 20), at(with("within"), 60)), (1.0, 0.0));
        assert_eq!((at(with("without"), 20), at(with("without"), 60)), (0.0, 0.0));
        let erased = json!({"kind": "strokes", "strokes": [
            {"points": [[0.5, 0.5]], "width": 60}, {"points": [[0.5, 0.5]], "width": 20, "erase": true}]});
        assert_eq!(at(erased.clone(), 50), 0.0);
        assert_eq!(at(erased, 35), 1.0);
    }

    #[test]
    fn a_mask_is_the_same_at_every_scale() {
        let area = Area::read(&json!([
            {"kind": "ellipse", "centre": [0.4, 0.6], "radii": [0.3, 0.2], "turn": 30},
            {"kind": "strokes", "strokes": [{"points": [[0.1, 0.1], [0.9, 0.3]], "width": 10}]}
        ]))
        .unwrap();
        let planes = Planes::EMPTY;
        let (full, half) =
            (Mask::new(&area, Size::new(3000, 2000), 1.0), Mask::new(&area, Size::new(3000, 2000), 0.25));
        for (x, y) in [(1000, 1200), (1700, 1300), (500, 260), (2200, 520), (100, 1900)] {
            let (mut a, mut b) = ([0.0; CHUNK], [0.0; CHUNK]);
            full.weigh(x, y, &planes, &mut a);
            half.weigh(x / 4, y / 4, &planes, &mut b);
            assert!((a[0] - b[0]).abs() < 0.02, "{x},{y}: {} {}", a[0], b[0]);
        }
    }

    #[test]
    fn faults_are_told_with_their_place() {
        let message = |v: Value| Area::read(&v).unwrap_err().to_string();
        assert!(
            message(json!([{"kind": "ellipse", "centre": [0.5, 0.5], "radii": [0, 1]}]))
                .starts_with("area[0].radii")
        );
        assert!(message(json!([{"kind": "blob"}])).starts_with("area[0]: unknown variant `blob`"));
        assert!(message(json!({"kind": "gradient", "from": [0, 0], "to": [0, 0]})).contains("another place"));
        assert!(message(json!([{"kind": "brightness", "low": 50, "high": 20}])).contains("from 50 to 100"));
        assert!(message(json!([])).contains("1 to 20 shapes"));
    }
}
