//! Order: natural names, and sorting by anything a frame says or measures.

use crate::Frame;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::cmp::Ordering;

/// A key whose plain order is the natural order of names: runs of digits by their number, the rest without case.
pub fn natural_key(name: &str) -> String {
    let mut key = String::with_capacity(name.len() + 4);
    let mut chars = name.chars().peekable();
    while let Some(c) = chars.next() {
        if !c.is_ascii_digit() {
            key.extend(c.to_lowercase());
            continue;
        }
        let mut digits = String::from(c);
        while let Some(d) = chars.next_if(char::is_ascii_digit) {
            digits.push(d);
        }
        let digits = digits.trim_start_matches('0');
        // A digit, so that a number stands where digits stand; then how long it is; then the number.
        key.push('0');
        key.extend(char::from_u32(0x100 + digits.len() as u32));
        key.push_str(digits);
    }
    key
}

/// Natural order of two names.
pub fn natural(a: &str, b: &str) -> Ordering {
    natural_key(a).cmp(&natural_key(b)).then_with(|| a.cmp(b))
}

/// What frames can be sorted by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Sort {
    /// Path, naturally.
    #[default]
    Name,
    /// Corrected capture time.
    Time,
    /// As people dragged them; the rest by name behind.
    Hand,
    /// ISO speed.
    Iso,
    /// Shutter time.
    Shutter,
    /// f-number.
    Aperture,
    /// Focal length.
    FocalLength,
    /// Number of pixels.
    Pixels,
    /// Width over height.
    Proportion,
    /// Size of the file.
    Bytes,
    /// Rating, best first.
    Rating,
    /// Bits a sample, then the colour profile: the colour mode.
    ColourMode,
    /// Mean brightness.
    Brightness,
    /// Contrast.
    Contrast,
    /// Clipped black and white together.
    Clipped,
    /// Sharpness.
    Sharpness,
    /// Noise.
    Noise,
    /// Hue of the mean colour.
    Colour,
}

impl Sort {
    /// Every key, with its words.
    pub const ALL: [(Sort, &'static str); 18] = [
        (Sort::Name, "name"),
        (Sort::Time, "time"),
        (Sort::Hand, "hand"),
        (Sort::Iso, "ISO"),
        (Sort::Shutter, "shutter"),
        (Sort::Aperture, "aperture"),
        (Sort::FocalLength, "focal length"),
        (Sort::Pixels, "pixels"),
        (Sort::Proportion, "proportion"),
        (Sort::Bytes, "file size"),
        (Sort::Rating, "rating"),
        (Sort::ColourMode, "colour mode"),
        (Sort::Brightness, "brightness"),
        (Sort::Contrast, "contrast"),
        (Sort::Clipped, "clipped share"),
        (Sort::Sharpness, "sharpness"),
        (Sort::Noise, "noise"),
        (Sort::Colour, "mean colour"),
    ];

    fn number(self, f: &Frame) -> Option<f64> {
        let camera = f.facts.as_ref().map(|x| &x.camera);
        let facts = f.facts.as_ref();
        let measure = f.measures.as_ref();
        match self {
            Self::Name => None,
            Self::Time => f.seconds(),
            Self::Hand => f.marks.hand,
            Self::Iso => camera?.iso.map(f64::from),
            Self::Shutter => camera?.shutter,
            Self::Aperture => camera?.aperture,
            Self::FocalLength => camera?.focal_length,
            Self::Pixels => facts.map(|x| f64::from(x.width) * f64::from(x.height)),
            Self::Proportion => facts.map(|x| f64::from(x.width) / f64::from(x.height)),
            Self::Bytes => Some(f.bytes as f64),
            Self::Rating => Some(-f64::from(f.marks.rating)),
            Self::ColourMode => facts.map(|x| f64::from(x.bits)),
            Self::Brightness => measure.map(|m| m.brightness.into()),
            Self::Contrast => measure.map(|m| m.contrast.into()),
            Self::Clipped => measure.map(|m| f64::from(m.black + m.white)),
            Self::Sharpness => measure.map(|m| m.sharpness.into()),
            Self::Noise => measure.map(|m| m.noise.into()),
            Self::Colour => measure.map(|m| hue(m.colour)),
        }
    }
}

/// Hue in degrees, of an encoded colour; greys come first.
pub(crate) fn hue([r, g, b]: [u8; 3]) -> f64 {
    let [r, g, b] = [r, g, b].map(f64::from);
    // The usual two colour axes: red against green and blue, green against blue.
    let (x, y) = (r - (g + b) / 2.0, (g - b) * 3f64.sqrt() / 2.0);
    if x.hypot(y) < 3.0 { -1.0 } else { y.atan2(x).to_degrees().rem_euclid(360.0) }
}

/// An order.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Order {
    /// The key.
    pub by: Sort,
    /// The other way round; frames without the value stay last.
    pub descending: bool,
}

impl Order {
    /// Positions of `frames` in this order; equal ones by name, those without the value last.
    pub fn of(self, frames: &[Frame]) -> Vec<usize> {
        let mut keyed: Vec<(Option<f64>, String, usize)> = frames
            .iter()
            .enumerate()
            .map(|(i, f)| (self.by.number(f), natural_key(&f.path.to_string_lossy()), i))
            .collect();
        keyed.sort_by(|a, b| {
            let names = || a.1.cmp(&b.1).then(a.2.cmp(&b.2));
            match (a.0, b.0) {
                (Some(x), Some(y)) => {
                    let order = x.total_cmp(&y);
                    if self.descending { order.reverse() } else { order }.then_with(names)
                }
                (Some(_), None) => Ordering::Less,
                (None, Some(_)) => Ordering::Greater,
                (None, None) if self.descending && self.by == Sort::Name => names().reverse(),
                (None, None) => names(),
            }
        });
        keyed.into_iter().map(|(_, _, i)| i).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::tests::frame;

    #[test]
    fn two_comes_before_ten() {
        let mut names =
            ["IMG_10", "img_2", "IMG_1", "a", "IMG_02b", "IMG_2a", "IMG_", "IMG_100000000000000000000"];
        names.sort_by(|a, b| natural(a, b));
        assert_eq!(
            names,
            ["a", "IMG_", "IMG_1", "img_2", "IMG_2a", "IMG_02b", "IMG_10", "IMG_100000000000000000000"]
        );
    }

    #[test]
    fn frames_without_the_value_stay_last_either_way() {
        let mut frames = vec![frame(1, "c.jpg", 5.0), frame(2, "a.jpg", 9.0), frame(3, "b.jpg", 1.0)];
        frames.push(Frame { facts: None, ..frame(4, "d.jpg", 0.0) });
        let ids = |by, descending| -> Vec<i64> {
            Order { by, descending }.of(&frames).into_iter().map(|i| frames[i].id).collect()
        };
        assert_eq!(ids(Sort::Time, false), [3, 1, 2, 4]);
        assert_eq!(ids(Sort::Time, true), [2, 1, 3, 4]);
        assert_eq!(ids(Sort::Name, false), [2, 3, 1, 4]);
        assert_eq!(ids(Sort::Name, true), [4, 1, 3, 2]);
    }

    #[test]
    fn a_shifted_frame_moves_in_time_and_a_dragged_one_by_hand() {
        let mut frames = vec![frame(1, "a.jpg", 0.0), frame(2, "b.jpg", 10.0)];
        frames[0].marks.shift = 20_000;
        assert_eq!(Order { by: Sort::Time, descending: false }.of(&frames), [1, 0]);
        frames[1].marks.hand = Some(0.0);
        assert_eq!(Order { by: Sort::Hand, descending: false }.of(&frames), [1, 0]);
    }

    #[test]
    fn hues_stand_in_their_order() {
        assert!(hue([128, 128, 128]) < hue([200, 20, 20]));
        assert!(hue([200, 20, 20]) < hue([20, 200, 20]) && hue([20, 200, 20]) < hue([20, 20, 200]));
    }
}
