//! Caption: a strip with a line of text made from the camera's data, inside the picture or on room of its own.
//!
//! All lengths are relative to the picture's long edge. A line that is wider than the strip is set smaller. Allocates the
//! text's pixels.

use crate::geometry::{Affine, Rect, Size, inner_long_edge};
use crate::ops::overlay::{Laid, Lay, Plate, Stamp};
use crate::ops::text;
use crate::step::{Effect, Geometry, Kind, Op, Place, Step, step, values_of};
use crate::steps::colour::tint::working;
use serde_json::Value;

step! {
    /// Adds a strip with a line of text: below or above the picture on room of its own, or inside it.
    /// Fields in braces stand for data of the picture; parts between dots or commas whose data are missing
    /// are left out.
    pub struct Caption: PartialEq {
        id: "caption",
        title: "Caption strip",
        group: "marks",
        words: [
            "caption", "strip", "text", "title", "label", "camera data", "exif", "bar", "footer",
            "description", "line", "date",
        ],
        neutral: r#"{"text": ""}"#,
        starter: r#"{}"#,
        facts: {
            moves_pixels: true,
            effects: &[Effect::Draws, Effect::AddsMargin],
            starts_as_last_time: true,
        },
    }
    parameters {
        /// The line; fields in braces such as {camera}, {iso} or {taken:%d %B %Y} are filled.
        text: String = "{camera} · {focal} · {aperture} · {shutter} · ISO {iso}".into(), Kind::Template(300);
        /// Where the strip lies: on room of its own, or over the picture.
        place: String = "below".into(), Kind::Choice(&WHERE);
        /// Height of the strip.
        height: f64 = 4.0, Kind::Number { min: 1.0, max: 30.0, step: 0.1 }, "% of the long edge";
        /// Size of the type.
        size: f64 = 1.8, Kind::Number { min: 0.5, max: 20.0, step: 0.1 }, "% of the long edge";
        /// Where in the strip the line stands.
        align: String = "left".into(), Kind::Choice(&["left", "centre", "right"]);
        /// Colour of the type.
        colour: String = "#222222".into(), Kind::Colour;
        /// Colour of the strip.
        ground: String = "#ffffff".into(), Kind::Colour;
        /// How much a strip inside the picture covers it.
        cover: f64 = 70.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
    }
}

const WHERE: [&str; 4] = ["below", "above", "inside at the bottom", "inside at the top"];

impl Caption {
    fn inside(&self) -> bool {
        self.place.starts_with("inside")
    }
    fn on_top(&self) -> bool {
        self.place == "above" || self.place.ends_with("top")
    }
    fn empty(&self) -> bool {
        self.text.trim().is_empty()
    }
    /// Rows of the strip for a picture of that long edge, at full scale.
    fn rows(&self, long: f64) -> f64 {
        (self.height / 100.0 * long).round().max(1.0)
    }
    /// Long edge of the picture without the strip.
    fn long(&self, place: &Place) -> Option<f64> {
        if self.inside() {
            return Some(f64::from(place.size.long_edge()));
        }
        let canvas = (f64::from(place.size.width), f64::from(place.size.height));
        inner_long_edge(canvas, |long| (0.0, self.rows(long)))
    }
}

impl Step for Caption {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let mut text = "Caption {text} {place}, strip {height}, type {size}".to_owned();
        if self.inside() {
            text += ", {cover} covered";
        }
        text + "."
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        if self.inside() || self.empty() {
            return None;
        }
        let rows = self.rows(f64::from(size.long_edge()));
        let up = if self.on_top() { rows } else { 0.0 };
        let size = Size::new(size.width, size.height + rows as u32);
        Some(Geometry { map: Affine::shift(0.0, -up).into(), size })
    }
    fn works(&self, _: &Place) -> bool {
        !self.empty()
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        let Some(long) = self.long(place).filter(|_| !self.empty()) else { return Vec::new() };
        let canvas = place.size.scaled(place.scale).rect();
        let rows = self.rows(long);
        let at = |full: f64| (full * place.scale).round() as i64;
        let full = f64::from(place.size.height);
        let (top, bottom) =
            if self.on_top() { (0, at(rows).max(1)) } else { (at(full - rows), canvas.bottom()) };
        let strip = Rect::new(0, top, canvas.width, bottom - top).within(canvas);
        let opacity = if self.inside() { self.cover / 100.0 } else { 1.0 };
        let plate = Plate { rect: strip, colour: working(&self.ground), opacity: opacity as f32 };
        let mut ops = vec![Op::Mark(Box::new(plate))];
        let size = self.size / 100.0 * long * place.scale;
        let margin = (size * 0.8).max(1.0);
        let room = strip.width as f64 - 2.0 * margin;
        if size < 1.0 || room < 1.0 {
            return ops;
        }
        if let Some(letters) = text::fitted(&self.text, size as f32, room) {
            let share = match self.align.as_str() {
                "left" => 0.0,
                "right" => 1.0,
                _ => 0.5,
            };
            let x = (margin + (room - letters.width as f64) * share).round() as i64;
            // The middle of the capitals, 0.34 of the size above the base line, lies in the middle of the strip:
            // lines with and without letters that hang down stand alike.
            let base = strip.y as f64 + strip.height as f64 / 2.0 + 0.34 * size;
            let y = base.round() as i64 - letters.rise;
            let stamp = Stamp::lettered(&letters, &self.colour);
            ops.push(Op::Mark(Box::new(Laid::new(stamp, Lay::Once(x, y), 1.0, canvas))));
        }
        ops
    }
    fn pixels(&self, place: &Place) -> Vec<(&'static str, f64)> {
        let long = self.long(place).unwrap_or_else(|| f64::from(place.size.long_edge()));
        let px = |share: f64| share / 100.0 * long * place.scale;
        vec![("height", px(self.height)), ("size", px(self.size))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{picture, whole};

    fn step() -> Caption {
        Caption { text: "Marlow 24".into(), height: 10.0, size: 6.0, ..Caption::default() }
    }

    #[test]
    fn the_strip_has_room_of_its_own_and_the_picture_stays() {
        let scene = picture(Size::new(200, 100), |x, y| [x as f32 / 400.0, y as f32 / 200.0, 0.25]);
        for (place, moved, strip) in [("below", 0, 110), ("above", 20, 10)] {
            let (size, out) = whole(Caption { place: place.into(), ..step() }, &scene);
            assert_eq!(size, Size::new(200, 120), "{place}");
            for (x, y) in [(0usize, 0usize), (199, 99), (70, 40)] {
                let want = [x as f32 / 400.0, y as f32 / 200.0, 0.25];
                let got = out[(y + moved) * 200 + x];
                assert!(got.iter().zip(want).all(|(a, b)| (a - b).abs() < 1e-6), "{place} {x},{y}");
            }
            let white = working("#ffffff");
            assert_eq!(out[strip * 200 + 190], white);
            // The line stands at the left, dark on white.
            let ink = |from: usize, to: usize| {
                (from..to)
                    .filter(|x| (-6..7).any(|dy| out[(strip as i64 + dy) as usize * 200 + x][1] < 0.2))
                    .count()
            };
            assert!(ink(0, 100) > 20 && ink(100, 200) == 0, "{place}");
        }
    }

    #[test]
    fn inside_it_covers_a_share_of_the_picture() {
        let scene = picture(Size::new(200, 100), |_, _| [0.2; 3]);
        let inside = Caption {
            place: "inside at the bottom".into(),
            ground: "#000000".into(),
            cover: 50.0,
            align: "right".into(),
            ..step()
        };
        let (size, out) = whole(inside, &scene);
        assert_eq!(size, Size::new(200, 100));
        let (under, strip) =
            (crate::colour::transfer::encode(0.2), crate::colour::transfer::encode(out[90 * 200 + 10][1]));
        assert!((strip - under / 2.0).abs() < 1e-3, "{strip} {under}");
        assert!((out[70 * 200 + 10][1] - 0.2).abs() < 1e-6);
    }

    #[test]
    fn a_long_line_is_set_smaller_and_stays_inside() {
        let scene = picture(Size::new(300, 200), |_, _| [0.5; 3]);
        let (_, out) = whole(Caption { text: "Thistlewick Nursery ".repeat(9), ..step() }, &scene);
        let white = working("#ffffff");
        let columns = |x: usize| (200..230).all(|y| out[y * 300 + x] == white);
        assert!((0..8).all(columns) && (292..300).all(columns));
        assert!(!(8..292).all(columns));
    }
}
