//! Border: widens the canvas around the picture and fills it with a colour, with room below for a caption and a thin
//! line inside. The picture's own pixels stay as they are.

use crate::geometry::{Affine, Rect, Size, inner_long_edge};
use crate::ops::planes::Pixel;
use crate::step::{Effect, Geometry, Kind, MarkOp, Op, Place, Step, step, values_of};
use crate::steps::colour::tint::working;
use serde_json::Value;

step! {
    /// Puts a border around the picture, with room below for a caption and a thin line where it meets the
    /// picture; all sizes are relative to the picture.
    pub struct Border: PartialEq {
        id: "border",
        title: "Border",
        group: "marks",
        words: [
            "border", "frame", "canvas", "passe-partout", "mat", "white edge", "margin", "square", "line",
        ],
        neutral: r#"{"width": 0, "below": 0, "line": 0}"#,
        starter: r#"{"width": 3}"#,
        facts: {
            moves_pixels: true,
            effects: &[Effect::Draws, Effect::AddsMargin],
            starts_as_last_time: true,
        },
    }
    parameters {
        /// Width of the border, in hundredths of the long edge.
        width: f64 = 3.0, Kind::Number { min: 0.0, max: 50.0, step: 0.1 }, "% of the long edge";
        /// More room below, for a caption.
        below: f64 = 0.0, Kind::Number { min: 0.0, max: 50.0, step: 0.1 }, "% of the long edge";
        /// Colour of the border.
        colour: String = "#ffffff".into(), Kind::Colour;
        /// Width of the line inside; 0 is none.
        line: f64 = 0.0, Kind::Number { min: 0.0, max: 5.0, step: 0.05 }, "% of the long edge";
        /// Colour of the line.
        line_colour: String = "#222222".into(), Kind::Colour;
        /// How far the line stands from the picture.
        gap: f64 = 0.0, Kind::Number { min: 0.0, max: 20.0, step: 0.1 }, "% of the long edge";
    }
}

impl Border {
    /// Pixels at full scale of so many hundredths, for a picture of that long edge.
    fn length(share: f64, long: f64) -> f64 {
        (share / 100.0 * long).round()
    }

    /// Width and room below at full scale.
    fn widths(&self, size: Size) -> (f64, f64) {
        let long = f64::from(size.long_edge());
        (Self::length(self.width, long), Self::length(self.below, long))
    }
}

impl Step for Border {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let mut text = "Border {width} in {colour}".to_owned();
        if self.below > 0.0 {
            text += ", {below} more below";
        }
        if self.line > 0.0 {
            text += ", a line {line} in {line_colour}";
        }
        text + "."
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        let (width, below) = self.widths(size);
        if width == 0.0 && below == 0.0 {
            return None;
        }
        let side = |n: u32, more: f64| (f64::from(n) + more) as u32;
        let size = Size::new(side(size.width, 2.0 * width), side(size.height, 2.0 * width + below));
        Some(Geometry { map: Affine::shift(-width, -width).into(), size })
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        // The place is that of the whole canvas; the picture's own long edge is found from it.
        let canvas = (f64::from(place.size.width), f64::from(place.size.height));
        let Some(long) = self.inner_long(canvas) else { return Vec::new() };
        let (width, below) = (Self::length(self.width, long), Self::length(self.below, long));
        let scaled = |x: f64, y: f64, right: f64, bottom: f64| {
            let at = |v: f64| (v * place.scale).round() as i64;
            Rect::new(at(x), at(y), at(right) - at(x), at(bottom) - at(y))
        };
        let inside =
            |by: f64| scaled(width - by, width - by, canvas.0 - width + by, canvas.1 - width - below + by);
        let (gap, line) = (self.gap / 100.0 * long, self.line / 100.0 * long);
        // A line is seen at any scale: it is at least a pixel wide.
        let line = if line > 0.0 { line.max(1.0 / place.scale) } else { 0.0 };
        if width == 0.0 && below == 0.0 && line == 0.0 {
            return Vec::new();
        }
        let whole = |w: u32, h: u32| place_rect(w, h, place.scale);
        vec![Op::Mark(Box::new(Drawn {
            bounds: whole(place.size.width, place.size.height),
            picture: inside(0.0),
            line: (line > 0.0).then(|| (inside(gap + line), inside(gap))),
            colour: working(&self.colour),
            line_colour: working(&self.line_colour),
        }))]
    }
    fn pixels(&self, place: &Place) -> Vec<(&'static str, f64)> {
        let long = f64::from(place.size.long_edge());
        let px = |share: f64| share / 100.0 * long * place.scale;
        vec![
            ("width", px(self.width)),
            ("below", px(self.below)),
            ("line", px(self.line)),
            ("gap", px(self.gap)),
        ]
    }
}

fn place_rect(width: u32, height: u32, scale: f64) -> Rect {
    Size::new(width, height).scaled(scale).rect()
}

impl Border {
    /// The picture's long edge inside a canvas of that size; nothing where there is no such picture.
    fn inner_long(&self, canvas: (f64, f64)) -> Option<f64> {
        inner_long_edge(canvas, |long| {
            let (width, below) = (Self::length(self.width, long), Self::length(self.below, long));
            (2.0 * width, 2.0 * width + below)
        })
    }
}

struct Drawn {
    bounds: Rect,
    /// Where the picture shows.
    picture: Rect,
    /// The line's outer and inner edge.
    line: Option<(Rect, Rect)>,
    colour: [f32; 3],
    line_colour: [f32; 3],
}

impl MarkOp for Drawn {
    fn bounds(&self) -> Rect {
        self.bounds
    }
    fn run(&self, rect: Rect, pixels: &mut [Pixel]) {
        paint(rect, pixels, &rect, &self.picture, self.colour);
        if let Some((outer, inner)) = &self.line {
            paint(rect, pixels, outer, inner, self.line_colour);
        }
    }
}

/// Paints what of `pixels`, which cover `rect`, lies in `outer` and not in `inner`.
fn paint(rect: Rect, pixels: &mut [Pixel], outer: &Rect, inner: &Rect, colour: [f32; 3]) {
    let column = |x: i64| (x - rect.x).clamp(0, rect.width) as usize;
    let (left, right) = (column(outer.x), column(outer.right()));
    for (j, row) in pixels.chunks_mut(rect.width as usize).enumerate() {
        let y = rect.y + j as i64;
        if y < outer.y || y >= outer.bottom() {
            continue;
        }
        let (first, last) = if y >= inner.y && y < inner.bottom() {
            (column(inner.x).clamp(left, right), column(inner.right()).clamp(left, right))
        } else {
            (right, right)
        };
        for pixel in row[left..first].iter_mut() {
            pixel[..3].copy_from_slice(&colour);
        }
        for pixel in row[last.max(first)..right].iter_mut() {
            pixel[..3].copy_from_slice(&colour);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn the_picture_stays_and_the_border_is_around_it() {
        let scene = picture(Size::new(200, 100), |x, y| [x as f32 / 400.0, y as f32 / 200.0, 0.25]);
        let step = Border {
            width: 5.0,
            below: 10.0,
            colour: "#ff0000".into(),
            line: 1.0,
            gap: 1.0,
            ..Border::default()
        };
        let (size, out) = whole(step, &scene);
        assert_eq!(size, Size::new(220, 140));
        let at = |x: usize, y: usize| out[y * 220 + x];
        let red = working("#ff0000");
        for (x, y) in [(0, 0), (219, 139), (110, 120), (5, 50)] {
            assert_eq!(at(x, y), red, "{x},{y}");
        }
        for (x, y) in [(10, 10), (209, 109), (110, 60)] {
            let want = [(x - 10) as f32 / 400.0, (y - 10) as f32 / 200.0, 0.25];
            assert!(at(x, y).iter().zip(want).all(|(a, b)| (a - b).abs() < 1e-6), "{x},{y}");
        }
        // The gap is two pixels wide, then comes the line.
        assert_eq!(
            (at(8, 50), at(7, 50), at(6, 50), at(5, 50)),
            (red, working("#222222"), working("#222222"), red)
        );
    }

    #[test]
    fn the_long_edge_is_found_whatever_the_rounding() {
        for long in [37u32, 100, 333, 1001, 6001] {
            for (width, below) in [(0.4, 0.0), (3.3, 7.7), (50.0, 50.0), (0.0, 12.5)] {
                for size in
                    [Size::new(long, long / 2 + 1), Size::new(long / 3 + 1, long), Size::new(long, long)]
                {
                    let step = Border { width, below, ..Border::default() };
                    let Some(g) = step.geometry(size) else { continue };
                    let canvas = (f64::from(g.size.width), f64::from(g.size.height));
                    assert_eq!(step.inner_long(canvas), Some(f64::from(long)), "{width} {below} {size:?}");
                }
            }
        }
    }
}
