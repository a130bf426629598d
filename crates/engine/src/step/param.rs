//! Parameters: the values they take, checking them, and reading the forms that are text.

use crate::colour::hex::parse_colour;
use data_url::DataUrl;
use serde_json::Value;
use std::fmt::Debug;

/// What values a parameter takes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Kind {
    /// A number `min ..= max`; `step` is one notch of a control.
    Number {
        /// Smallest value.
        min: f64,
        /// Largest value.
        max: f64,
        /// One notch.
        step: f64,
    },
    /// A whole number or nothing.
    Whole {
        /// Smallest value.
        min: u32,
        /// Largest value.
        max: u32,
    },
    /// One of a few words.
    Choice(&'static [&'static str]),
    /// Text of at most so many characters.
    Text(usize),
    /// Yes or no.
    Flag,
    /// Points `[in, out]`, both 0 ..= 1, `in` rising.
    Points,
    /// `W:H`, or `original`.
    Proportion,
    /// `[width, height]` in pixels, or nothing.
    Pair,
    /// `[x, y, width, height]` in pixels, or nothing.
    Window,
    /// `[x, y, width, height]` as shares of the picture's sides, or nothing.
    Part,
    /// `#rrggbb`.
    Colour,
    /// Text of at most so many characters, with fields in braces that stand for data of the picture.
    Template(usize),
    /// Three numbers `[red, green, blue]`, each `min ..= max`.
    Triple {
        /// Smallest value.
        min: f64,
        /// Largest value.
        max: f64,
        /// One notch.
        step: f64,
    },
    /// A place `[x, y]` as shares of width and height.
    Spot,
    /// At most so many rows of numbers, each as long as the names say; shares of the picture's sides (lengths of its
    /// long edge).
    Rows(&'static [&'static str], usize),
    /// At most so many marks `[at, factor]` of something that changes over a sequence: places from 0 to 1 that rise, and factors
    /// from 0.1 to 10.
    Course(usize),
    /// What was measured once and is kept: numbers in an order of the step's own, or nothing.
    Kept(usize),
    /// A list of at most so many words.
    Words(usize),
    /// The text of a file (binary ones as a `data:` URL) of at most so many bytes, or nothing.
    File(usize),
}

impl Kind {
    /// One word, as programs name it, and a few, as people do.
    pub fn names(self) -> (&'static str, &'static str) {
        match self {
            Self::Number { .. } => ("number", "number"),
            Self::Whole { .. } => ("whole", "whole number or nothing"),
            Self::Choice(_) => ("choice", "choice"),
            Self::Text(_) => ("text", "text"),
            Self::Flag => ("flag", "yes or no"),
            Self::Points => ("points", "points [in, out]"),
            Self::Proportion => ("proportion", "proportion W:H"),
            Self::Pair => ("pair", "[width, height] or nothing"),
            Self::Window => ("window", "[x, y, width, height] or nothing"),
            Self::Part => ("part", "[x, y, width, height] as shares, or nothing"),
            Self::Colour => ("colour", "colour #rrggbb"),
            Self::Template(_) => ("template", "text with fields in braces"),
            Self::Triple { .. } => ("triple", "[red, green, blue]"),
            Self::Spot => ("spot", "[x, y] as shares of width and height"),
            Self::Rows(..) => ("rows", "rows of numbers as shares of the picture"),
            Self::Course(_) => ("course", "marks [at, factor] over the sequence"),
            Self::Kept(_) => ("kept", "what was measured once, or nothing"),
            Self::Words(_) => ("words", "list of words"),
            Self::File(_) => ("file", "text of a file"),
        }
    }

    /// Smallest and largest value, where there are any; for texts and lists the largest is a length.
    pub fn range(self) -> (Option<f64>, Option<f64>) {
        match self {
            Self::Number { min, max, .. } | Self::Triple { min, max, .. } => (Some(min), Some(max)),
            Self::Whole { min, max } => (Some(min.into()), Some(max.into())),
            Self::Text(n)
            | Self::Template(n)
            | Self::Words(n)
            | Self::File(n)
            | Self::Course(n)
            | Self::Rows(_, n) => (None, Some(n as f64)),
            Self::Points | Self::Part => (Some(0.0), Some(1.0)),
            Self::Pair => (Some(1.0), None),
            Self::Window => (Some(0.0), None),
            Self::Choice(_) | Self::Flag | Self::Proportion | Self::Colour | Self::Spot | Self::Kept(_) => {
                (None, None)
            }
        }
    }

    /// One notch of a control.
    pub fn notch(self) -> Option<f64> {
        match self {
            Self::Number { step, .. } | Self::Triple { step, .. } => Some(step),
            Self::Whole { .. } => Some(10.0),
            _ => None,
        }
    }
}

/// One parameter.
#[derive(Debug)]
pub struct Param {
    /// Name in recipes.
    pub name: &'static str,
    /// What it does, for people.
    pub about: &'static str,
    /// Unit, empty where there is none.
    pub unit: &'static str,
    /// Values.
    pub kind: Kind,
}

/// Most points a curve may have.
pub const MAX_POINTS: usize = 32;

/// Largest side a recipe may ask for, in pixels.
pub const MAX_SIDE: u32 = 65_535;

/// The nine places of a picture, row by row.
pub const PLACES: [&str; 9] =
    ["top left", "top", "top right", "left", "centre", "right", "bottom left", "bottom", "bottom right"];

/// Where a place lies, as shares of the free room (0, ½ or 1 each way).
pub fn place_share(place: &str) -> (f64, f64) {
    let at = PLACES.iter().position(|p| *p == place).unwrap_or(4);
    ((at % 3) as f64 / 2.0, (at / 3) as f64 / 2.0)
}

/// A value that a parameter does not take; `path` is the parameter (and what lies inside it).
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("{path}: {message}")]
pub struct ParamError {
    /// Parameter name, with an index where the fault is inside.
    pub path: String,
    /// What was expected and what came.
    pub message: String,
}

impl ParamError {
    /// Says what was expected at `path`.
    pub fn new(path: impl Into<String>, message: impl Into<String>) -> Self {
        Self { path: path.into(), message: message.into() }
    }
}

/// `W:H` as numbers.
pub fn proportion(text: &str) -> Option<(f64, f64)> {
    let (w, h) = text.split_once(':')?;
    let side = |s: &str| s.trim().parse::<f64>().ok().filter(|v| v.is_finite() && *v > 0.0 && *v < 1e5);
    Some((side(w)?, side(h)?))
}

/// Whether `[x, y, width, height]`, as shares of a picture's sides, is a part of it.
pub fn is_part(part: [f64; 4]) -> bool {
    let [x, y, w, h] = part;
    let is_share = |v: &f64| (0.0..=1.0).contains(v);
    part.iter().all(is_share) && w > 0.0 && h > 0.0 && x + w <= 1.0 + 1e-9 && y + h <= 1.0 + 1e-9
}

/// A short form of a value for messages.
pub(super) fn short(value: &Value) -> String {
    let text = value.to_string();
    if text.chars().count() > 40 { text.chars().take(40).chain(['…']).collect() } else { text }
}

/// How many numbers a list holds, if it holds nothing but numbers in that range.
pub(super) fn numbers(value: &Value, min: f64, max: f64) -> Option<usize> {
    let items = value.as_array()?;
    let fits = |v: &Value| v.as_f64().is_some_and(|n| (min..=max).contains(&n));
    items.iter().all(fits).then_some(items.len())
}

impl Param {
    /// Checks a value against the kind and range.
    ///
    /// # Errors
    /// [`ParamError`] with what was expected and what came.
    pub fn check(&self, value: &Value) -> Result<(), ParamError> {
        let fail = |wanted: String| {
            Err(ParamError::new(self.name, format!("expected {wanted}, got {}", short(value))))
        };
        let whole =
            |v: &Value, min: u32, max: u32| v.as_u64().is_some_and(|n| n >= min.into() && n <= max.into());
        match self.kind {
            Kind::Number { min, max, .. } => match value.as_f64() {
                Some(n) if n >= min && n <= max => Ok(()),
                _ => fail(format!("a number from {min} to {max}")),
            },
            Kind::Whole { min, max } => {
                if value.is_null() || whole(value, min, max) {
                    return Ok(());
                }
                fail(format!("a whole number from {min} to {max}"))
            }
            Kind::Choice(all) => match value.as_str() {
                Some(s) if all.contains(&s) => Ok(()),
                _ => fail(format!("one of {}", all.join(", "))),
            },
            Kind::Text(max) => match value.as_str() {
                Some(s) if s.chars().count() <= max => Ok(()),
                _ => fail(format!("text of at most {max} characters")),
            },
            Kind::Template(max) => match value.as_str() {
                Some(s) if s.chars().count() <= max => Ok(()),
                _ => fail(format!("text of at most {max} characters")),
            },
            Kind::File(max) => match value.as_str() {
                Some(s) if s.len() <= max => Ok(()),
                _ => fail(format!("the text of a file of at most {} kB", max / 1000)),
            },
            Kind::Words(max) => {
                let word =
                    |v: &Value| v.as_str().is_some_and(|s| !s.trim().is_empty() && s.chars().count() <= 200);
                match value.as_array() {
                    Some(items) if items.len() <= max && items.iter().all(word) => Ok(()),
                    _ => fail(format!("a list of at most {max} words")),
                }
            }
            Kind::Triple { min, max, .. } => {
                if numbers(value, min, max).is_some_and(|n| n == 3) {
                    return Ok(());
                }
                fail(format!("[red, green, blue], each from {min} to {max}"))
            }
            Kind::Spot => {
                if numbers(value, -2.0, 3.0).is_some_and(|n| n == 2) {
                    return Ok(());
                }
                fail("[x, y] as shares of width and height".into())
            }
            Kind::Kept(count) => {
                if value.is_null() || numbers(value, -1e6, 1e6).is_some_and(|n| n == count) {
                    return Ok(());
                }
                fail(format!("nothing, or {count} numbers as they were measured"))
            }
            Kind::Rows(names, most) => {
                let row = |v: &Value| numbers(v, -2.0, 3.0).is_some_and(|n| n == names.len());
                match value.as_array() {
                    Some(items) if items.len() <= most && items.iter().all(row) => Ok(()),
                    _ => fail(format!("at most {most} rows [{}] as shares of the picture", names.join(", "))),
                }
            }
            Kind::Course(most) => {
                let mark = |v: &Value| {
                    let (at, factor) = (v.get(0)?.as_f64()?, v.get(1)?.as_f64()?);
                    let fits = (0.0..=1.0).contains(&at) && (0.1..=10.0).contains(&factor);
                    (fits && v.as_array().is_some_and(|a| a.len() == 2)).then_some(at)
                };
                let places: Option<Vec<f64>> =
                    value.as_array().and_then(|all| all.iter().map(mark).collect());
                match places {
                    Some(all) if all.len() <= most && all.windows(2).all(|w| w[0] < w[1]) => Ok(()),
                    _ => fail(format!(
                        "at most {most} marks [at, factor], at rising from 0 to 1, factors from 0.1 to 10"
                    )),
                }
            }
            Kind::Flag if value.is_boolean() => Ok(()),
            Kind::Flag => fail("true or false".into()),
            Kind::Points => self.check_points(value),
            Kind::Proportion => match value.as_str() {
                Some("original") => Ok(()),
                Some(s) if proportion(s).is_some() => Ok(()),
                _ => fail("W:H".into()),
            },
            Kind::Pair | Kind::Window => {
                let (count, words) = if self.kind == Kind::Pair {
                    (2, "[width, height]")
                } else {
                    (4, "[x, y, width, height]")
                };
                let fits = |items: &Vec<Value>| {
                    items.len() == count
                        && items
                            .iter()
                            .enumerate()
                            .all(|(i, v)| whole(v, u32::from(count == 2 || i >= 2), MAX_SIDE))
                };
                if value.is_null() || value.as_array().is_some_and(fits) {
                    return Ok(());
                }
                fail(format!("{words} in whole pixels"))
            }
            Kind::Part => {
                let part: Option<[f64; 4]> = serde_json::from_value(value.clone()).ok();
                if value.is_null() || part.is_some_and(is_part) {
                    return Ok(());
                }
                fail("[x, y, width, height] as shares of the picture's sides, inside it".into())
            }
            Kind::Colour => match value.as_str().and_then(parse_colour) {
                Some(_) => Ok(()),
                None => fail("a colour such as #ffffff".into()),
            },
        }
    }

    fn check_points(&self, value: &Value) -> Result<(), ParamError> {
        let Some(points) = value.as_array().filter(|p| (2..=MAX_POINTS).contains(&p.len())) else {
            return Err(ParamError::new(
                self.name,
                format!("expected 2 to {MAX_POINTS} points [in, out], got {}", short(value)),
            ));
        };
        let mut before = f64::NEG_INFINITY;
        for (i, point) in points.iter().enumerate() {
            let path = format!("{}[{i}]", self.name);
            let pair = point.as_array().filter(|p| p.len() == 2);
            let number = |k: usize| pair.and_then(|p| p[k].as_f64()).filter(|v| (0.0..=1.0).contains(v));
            let (Some(x), Some(_)) = (number(0), number(1)) else {
                return Err(ParamError::new(
                    path,
                    format!("expected [in, out] from 0 to 1, got {}", short(point)),
                ));
            };
            if x < before + 0.001 {
                return Err(ParamError::new(
                    path,
                    format!("in must rise from point to point, got {x} after {before}"),
                ));
            }
            before = x;
        }
        Ok(())
    }
}

/// Why a [`Kind::File`] value holds no file.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum FileError {
    /// It begins as a `data:` URL and is none.
    #[error("this is no data: URL ({0})")]
    Url(String),
    /// What the URL holds is no base64.
    #[error("this is no base64 ({0})")]
    Base64(String),
}

/// The bytes of a [`Kind::File`] value: those of a `data:` URL, or the text's own.
///
/// # Errors
/// [`FileError`].
pub fn file_bytes(text: &str) -> Result<Vec<u8>, FileError> {
    if !text.starts_with("data:") {
        return Ok(text.as_bytes().to_vec());
    }
    let url = DataUrl::process(text).map_err(|e| FileError::Url(format!("{e:?}")))?;
    url.decode_to_vec().map(|(bytes, _)| bytes).map_err(|e| FileError::Base64(format!("{e:?}")))
}
