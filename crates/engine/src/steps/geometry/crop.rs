//! Crop: keeps a window of the picture, by proportion and place or by pixels. Whole pixels, nothing resampled
//! by itself.

use crate::geometry::{Affine, Size};
use crate::step::{
    Effect, Geometry, Kind, PLACES, Step, Tool, ToolKind, place_share, proportion, step, values_of,
};
use serde_json::Value;

step! {
    /// Keeps a part of the picture: the largest window of a proportion at a place, made smaller or moved if
    /// wanted, or exact pixels.
    pub struct Crop: PartialEq {
        id: "crop",
        title: "Crop",
        group: "geometry",
        words: [
            "crop", "cut", "trim", "16:9", "4:5", "1:1", "3:2", "square", "portrait", "proportion",
            "aspect",
        ],
        neutral: r#"{"proportion": "original"}"#,
        starter: r#"{"proportion": "16:9", "place": "centre"}"#,
        facts: {
            moves_pixels: true,
            shapes: true,
            tool: Some(Tool {
                kind: ToolKind::Window,
                button: Some("Crop on the picture"),
                hint: "Drag the window; its corner changes the size.",
                opens_at_once: false,
                shows_input: true,
            }),
            effects: &[Effect::Frames],
        },
    }
    parameters {
        /// Width to height, such as 16:9, or original.
        proportion: String = "original".into(), Kind::Proportion;
        /// Where the window sits.
        place: String = "centre".into(), Kind::Choice(&PLACES);
        /// Size of the window against the largest that fits.
        size: f64 = 100.0, Kind::Number { min: 1.0, max: 100.0, step: 1.0 }, "%";
        /// Moved to the right, in hundredths of the picture's width.
        right: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 0.5 }, "%";
        /// Moved down, in hundredths of the picture's height.
        down: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 0.5 }, "%";
        /// Exactly these pixels [x, y, width, height] instead; cut to what the picture has.
        pixels: Option<[u32; 4]> = None, Kind::Window, "px";
    }
}

impl Step for Crop {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn brief(&self) -> Option<String> {
        let is_shape = self.pixels.is_none() && self.proportion != "original";
        is_shape.then(|| self.proportion.clone())
    }
    fn sentence(&self) -> String {
        if self.pixels.is_some() {
            return "Crop to the pixels {pixels}.".into();
        }
        let mut text = String::from("Crop to {proportion}, {place}");
        if self.size < 100.0 {
            text += ", {size} of it";
        }
        if self.right != 0.0 {
            text += ", {right} to the right";
        }
        if self.down != 0.0 {
            text += ", {down} down";
        }
        text + "."
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        let (w, h) = (f64::from(size.width), f64::from(size.height));
        let (x, y, width, height) = match self.pixels {
            Some([x, y, width, height]) => {
                let (x, y) = (x.min(size.width - 1), y.min(size.height - 1));
                (x, y, width.clamp(1, size.width - x), height.clamp(1, size.height - y))
            }
            None => {
                let ratio = proportion(&self.proportion).map_or(w / h, |(a, b)| a / b);
                let (ww, wh) = if w / h > ratio { (h * ratio, h) } else { (w, w / ratio) };
                let side = |n: f64, limit: u32| ((n * self.size / 100.0).round() as u32).clamp(1, limit);
                let (width, height) = (side(ww, size.width), side(wh, size.height));
                let (sx, sy) = place_share(&self.place);
                let at = |room: u32, share: f64, moved: f64| {
                    (f64::from(room) * share + moved).round().clamp(0.0, f64::from(room)) as u32
                };
                let x = at(size.width - width, sx, w * self.right / 100.0);
                let y = at(size.height - height, sy, h * self.down / 100.0);
                (x, y, width, height)
            }
        };
        let is_whole = (x, y, width, height) == (0, 0, size.width, size.height);
        (!is_whole).then(|| Geometry {
            map: Affine::shift(x.into(), y.into()).into(),
            size: Size::new(width, height),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn window(crop: Crop, size: Size) -> (i64, i64, u32, u32) {
        let g = crop.geometry(size).unwrap();
        let (x, y) = g.map.as_affine().and_then(Affine::as_shift).unwrap();
        (x, y, g.size.width, g.size.height)
    }

    #[test]
    fn windows_known_by_hand() {
        let size = Size::new(6000, 4000);
        let crop = |proportion: &str, place: &str| Crop {
            proportion: proportion.into(),
            place: place.into(),
            ..Crop::default()
        };
        assert_eq!(window(crop("16:9", "centre"), size), (0, 312 + 1, 6000, 3375));
        assert_eq!(window(crop("1:1", "right"), size), (2000, 0, 4000, 4000));
        assert_eq!(window(crop("4:5", "top left"), size), (0, 0, 3200, 4000));
        let small = Crop { size: 50.0, right: 10.0, down: -100.0, ..Crop::default() };
        assert_eq!(window(small, size), (2100, 0, 3000, 2000));
        let exact = Crop { pixels: Some([5900, 10, 500, 20]), ..Crop::default() };
        assert_eq!(window(exact, size), (5900, 10, 100, 20));
        assert!(crop("3:2", "top").geometry(size).is_none());
    }
}
