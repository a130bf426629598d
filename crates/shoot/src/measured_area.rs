//! Parts of a picture that are measured by themselves.

use rallo_engine::ops::mask::near_line;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Most areas of a sequence, most points of the strokes of one, and most letters of its name.
pub const MOST_AREAS: usize = 12;
const MOST_POINTS: usize = 2000;
const MOST_LETTERS: usize = 40;

/// A part of a picture, in shares of its width and height.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum MeasuredArea {
    /// Left, top, width, height.
    Rectangle([f64; 4]),
    /// The ellipse that fills left, top, width, height.
    Ellipse([f64; 4]),
    /// Painted with a round brush.
    Strokes(Vec<PaintedLine>),
}

/// An area, and what people call it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct NamedArea {
    /// Its name, of at most 40 letters; without one it is called by a letter.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// Its shape.
    #[serde(flatten)]
    pub shape: MeasuredArea,
}

impl NamedArea {
    /// Whether areas and their names make sense.
    ///
    /// # Errors
    /// [`AreaFault`], which names the area and what was expected.
    pub fn check(areas: &[Self]) -> Result<(), AreaFault> {
        let count = |area: &Self| area.name.chars().count();
        if let Some(at) = areas.iter().position(|area| count(area) > MOST_LETTERS) {
            let expected =
                format!("expected a name of at most {MOST_LETTERS} letters, got {}", count(&areas[at]));
            return Err(AreaFault { area: at, expected });
        }
        MeasuredArea::check(&Self::shapes(areas))
    }

    /// Their shapes alone.
    pub fn shapes(areas: &[Self]) -> Vec<MeasuredArea> {
        areas.iter().map(|area| area.shape.clone()).collect()
    }
}

/// A line painted with a brush.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PaintedLine {
    /// Points `[x, y]`.
    pub points: Vec<[f64; 2]>,
    /// Width of the brush, in hundredths of the picture's long edge.
    pub width: f64,
}

/// An area that makes no sense.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("areas[{area}]: {expected}")]
pub struct AreaFault {
    area: usize,
    expected: String,
}

impl MeasuredArea {
    /// The whole picture.
    pub const WHOLE: Self = Self::Rectangle([0.0, 0.0, 1.0, 1.0]);

    /// Whether areas make sense.
    ///
    /// # Errors
    /// [`AreaFault`], which names the area and what was expected.
    pub fn check(areas: &[Self]) -> Result<(), AreaFault> {
        let wrong = |area, expected: &str| Err(AreaFault { area, expected: expected.to_owned() });
        if areas.len() > MOST_AREAS {
            return wrong(MOST_AREAS, &format!("expected at most {MOST_AREAS} areas, got {}", areas.len()));
        }
        for (i, area) in areas.iter().enumerate() {
            match area {
                Self::Rectangle(part) | Self::Ellipse(part) => {
                    if !rallo_engine::step::is_part(*part) {
                        return wrong(
                            i,
                            "expected left, top, width and height as shares of the picture's sides, inside it",
                        );
                    }
                }
                Self::Strokes(lines) => {
                    let count: usize = lines.iter().map(|line| line.points.len()).sum();
                    if count == 0 || count > MOST_POINTS {
                        return wrong(i, &format!("expected 1 to {MOST_POINTS} points, got {count}"));
                    }
                    let sound = |line: &PaintedLine| {
                        (0.05..=100.0).contains(&line.width)
                            && line.points.iter().flatten().all(|v| (-1.0..=2.0).contains(v))
                    };
                    if !lines.iter().all(sound) {
                        return wrong(i, "expected widths from 0.05 to 100 and points on the picture");
                    }
                }
            }
        }
        Ok(())
    }

    /// The pixels inside it of a picture of that size, row by row.
    pub fn places(&self, width: usize, height: usize) -> Vec<usize> {
        let (w, h) = (width as f64, height as f64);
        let rows = |part: &[f64; 4]| {
            let edge = |share: f64, side: f64| ((share * side).round().max(0.0) as usize).min(side as usize);
            let [left, top] = [edge(part[0], w), edge(part[1], h)];
            let [right, bottom] = [edge(part[0] + part[2], w), edge(part[1] + part[3], h)];
            (top..bottom).flat_map(move |y| (left..right.max(left)).map(move |x| y * width + x))
        };
        match self {
            Self::Rectangle(part) => rows(part).collect(),
            Self::Ellipse(part) => {
                let [x, y, across, down] = *part;
                let inside = |at: &usize| {
                    let (px, py) = ((at % width) as f64 + 0.5, (at / width) as f64 + 0.5);
                    let dx = (px / w - x - across / 2.0) / (across / 2.0);
                    let dy = (py / h - y - down / 2.0) / (down / 2.0);
                    dx * dx + dy * dy <= 1.0
                };
                rows(part).filter(inside).collect()
            }
            Self::Strokes(lines) => {
                let mut inside = vec![false; width * height];
                for line in lines {
                    line.mark(&mut inside, width, height);
                }
                inside.iter().enumerate().filter(|(_, is)| **is).map(|(at, _)| at).collect()
            }
        }
    }
}

impl PaintedLine {
    /// Marks the pixels under it.
    fn mark(&self, inside: &mut [bool], width: usize, height: usize) {
        let radius = (self.width / 200.0 * width.max(height) as f64).max(0.5);
        near_line(&self.points, radius, (width, height), |at, far| inside[at] |= far <= radius);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn areas_hold_as_many_pixels_as_their_formula_says() {
        let count = |area: &MeasuredArea| area.places(200, 100).len() as f64;
        assert_eq!(count(&MeasuredArea::WHOLE), 20_000.0);
        assert_eq!(count(&MeasuredArea::Rectangle([0.25, 0.5, 0.5, 0.2])), 2000.0);
        let ellipse = count(&MeasuredArea::Ellipse([0.2, 0.2, 0.6, 0.6]));
        assert!((ellipse / (std::f64::consts::PI * 60.0 * 30.0) - 1.0).abs() < 0.01, "{ellipse}");
        let line = PaintedLine { points: vec![[0.2, 0.5], [0.8, 0.5]], width: 10.0 };
        let painted = count(&MeasuredArea::Strokes(vec![line.clone(), line]));
        let expected = 120.0 * 20.0 + std::f64::consts::PI * 100.0;
        assert!((painted / expected - 1.0).abs() < 0.02, "{painted} for {expected}");
    }

    #[test]
    fn what_makes_no_sense_is_named() {
        let line = |width: f64, points: usize| {
            MeasuredArea::Strokes(vec![PaintedLine { points: vec![[0.5, 0.5]; points], width }])
        };
        for wrong in [
            MeasuredArea::Rectangle([0.5, 0.5, 0.6, 0.2]),
            MeasuredArea::Ellipse([0.0, 0.0, 0.0, 0.5]),
            line(0.0, 3),
            line(5.0, 0),
            line(5.0, MOST_POINTS + 1),
        ] {
            let told = MeasuredArea::check(&[MeasuredArea::WHOLE, wrong]).unwrap_err().to_string();
            assert!(told.starts_with("areas[1]: expected"), "{told}");
        }
        assert!(MeasuredArea::check(&vec![MeasuredArea::WHOLE; MOST_AREAS + 1]).is_err());
        let named =
            |letters: usize| NamedArea { name: "ä".repeat(letters), shape: MeasuredArea::WHOLE.clone() };
        assert_eq!(NamedArea::check(&[named(40), named(0)]), Ok(()));
        let told = NamedArea::check(&[named(0), named(41)]).unwrap_err().to_string();
        assert!(told.starts_with("areas[1]: expected a name"), "{told}");
        assert_eq!(MeasuredArea::check(&[line(5.0, 3)]), Ok(()));
    }
}
