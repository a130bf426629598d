//! Slate: a plate with a number and a title, in a corner or over the whole picture.
//!
//! All lengths are relative to the output's long edge. Allocates the text's pixels.

use crate::geometry::Rect;
use crate::ops::overlay::{Laid, Lay, Plate, Stamp};
use crate::ops::text;
use crate::step::{Effect, Kind, Op, PLACES, Place, Step, place_share, step, values_of};
use crate::steps::colour::tint::working;
use serde_json::Value;

step! {
    /// Puts a plate with a number and a title onto the picture, to tell takes, lessons or frames apart; or
    /// covers the picture with it. Fields in braces stand for data of the picture.
    pub struct Slate: PartialEq {
        id: "slate",
        title: "Slate",
        group: "marks",
        words: [
            "slate", "number", "numbering", "counter", "title", "board", "take", "lesson", "frame number",
            "card",
        ],
        neutral: r#"{"number": "", "title": ""}"#,
        starter: r#"{}"#,
        facts: { effects: &[Effect::Draws], starts_as_last_time: true },
    }
    parameters {
        /// The large line; {n:03} is the picture's number in the run.
        number: String = "{n:03}".into(), Kind::Template(40);
        /// The small line below it.
        title: String = String::new(), Kind::Template(120);
        /// Where the plate stands.
        place: String = "top left".into(), Kind::Choice(&PLACES);
        /// Size of the number's type; the title's is two fifths of it.
        size: f64 = 6.0, Kind::Number { min: 1.0, max: 30.0, step: 0.1 }, "% of the long edge";
        /// Colour of the type.
        colour: String = "#ffffff".into(), Kind::Colour;
        /// Colour of the plate.
        ground: String = "#222222".into(), Kind::Colour;
        /// How much the plate covers what lies under it.
        cover: f64 = 85.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
        /// The plate covers the whole picture.
        whole: bool = false, Kind::Flag;
    }
}

impl Slate {
    fn type_size(&self, place: &Place) -> f64 {
        self.size / 100.0 * f64::from(place.output.long_edge()) / place.to_output.max(1e-6) * place.scale
    }
}

impl Step for Slate {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let what = match (self.number.is_empty(), self.title.is_empty()) {
            (false, false) => "Slate {number}, {title}",
            (true, _) => "Slate {title}",
            (_, true) => "Slate {number}",
        };
        let at = if self.whole { "over the whole picture" } else { "{place}" };
        format!("{what} {at}, size {{size}}.")
    }
    fn works(&self, place: &Place) -> bool {
        let something = !self.number.trim().is_empty() || !self.title.trim().is_empty();
        something && self.type_size(place) >= 1.0
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        if !self.works(place) {
            return Vec::new();
        }
        let canvas = place.size.scaled(place.scale).rect();
        let size = self.type_size(place);
        let pad = size * 0.35;
        let room = (canvas.width as f64 * 0.94 - 2.0 * pad).max(1.0);
        // The number's line is as high as its capitals; the title hangs below with room for its descenders.
        let lines: Vec<(text::Letters, f64)> = [(&self.number, size), (&self.title, size * 0.4)]
            .into_iter()
            .filter_map(|(text, size)| Some((text::fitted(text, size as f32, room)?, size)))
            .collect();
        let wide = lines.iter().map(|(l, _)| l.width).max().unwrap_or(0) as f64;
        let high: f64 = lines.iter().map(|(_, size)| 0.68 * size).sum::<f64>()
            + if lines.len() > 1 { size * 0.3 } else { 0.0 };
        let (w, h) = (wide + 2.0 * pad, high + 2.0 * pad);
        let margin = size * 0.4;
        let (share_x, share_y) = place_share(&self.place);
        let left = margin + (canvas.width as f64 - w - 2.0 * margin) * share_x;
        let top = margin + (canvas.height as f64 - h - 2.0 * margin) * share_y;
        let plate = Rect::new(left.round() as i64, top.round() as i64, w.round() as i64, h.round() as i64);
        let rect = if self.whole { canvas } else { plate.within(canvas) };
        let opacity = (self.cover / 100.0) as f32;
        let mut ops = vec![Op::Mark(Box::new(Plate { rect, colour: working(&self.ground), opacity }))];
        let mut base = top + pad;
        for (letters, size) in &lines {
            base += 0.68 * size;
            let x = (left + pad + (wide - letters.width as f64) * share_x).round() as i64;
            let y = base.round() as i64 - letters.rise;
            let stamp = Stamp::lettered(letters, &self.colour);
            ops.push(Op::Mark(Box::new(Laid::new(stamp, Lay::Once(x, y), 1.0, canvas))));
            base += self.type_size(place) * 0.3;
        }
        ops
    }
    fn pixels(&self, place: &Place) -> Vec<(&'static str, f64)> {
        vec![("size", self.type_size(place))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn the_plate_stands_where_it_is_asked_and_holds_its_letters() {
        let scene = picture(Size::new(400, 300), |_, _| [0.5; 3]);
        let step = Slate {
            number: "007".into(),
            title: "Repotting".into(),
            cover: 100.0,
            size: 10.0,
            ..Slate::default()
        };
        for (place, x, y) in [("top left", 0, 0), ("bottom right", 200, 150)] {
            let (_, out) = whole(Slate { place: place.into(), ..step.clone() }, &scene);
            let ground = working("#222222");
            let changed: Vec<usize> = (0..out.len()).filter(|i| (out[*i][1] - 0.5).abs() > 1e-6).collect();
            let (columns, rows) = (changed.iter().map(|i| i % 400), changed.iter().map(|i| i / 400));
            let (left, right) = (columns.clone().min().unwrap(), columns.max().unwrap());
            let (top, bottom) = (rows.clone().min().unwrap(), rows.max().unwrap());
            assert!(
                (x..x + 200).contains(&left) && right < x + 200 && top >= y && bottom < y + 150,
                "{place}"
            );
            // A rectangle, its rim bare, letters inside.
            assert_eq!(changed.len(), (right - left + 1) * (bottom - top + 1));
            assert!((left..=right).all(|x| out[top * 400 + x] == ground && out[bottom * 400 + x] == ground));
            let light = changed.iter().filter(|i| out[**i][1] > 0.9).count();
            assert!(light > 300, "{place}: {light}");
        }
        let (_, out) = whole(Slate { whole: true, ..step }, &scene);
        assert!(out.iter().all(|p| p[1] != 0.5));
    }
}
