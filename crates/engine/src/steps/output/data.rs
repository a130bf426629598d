//! Data: what results carry beside their pixels: creator, copyright, caption, keywords, capture time, resolution, and what
//! of the original's data is kept. Changes no pixel; the program that writes the file asks for the values.

use crate::step::{Kind, ParamError, Step, step, values_of};
use serde_json::Value;

step! {
    /// Writes creator, copyright, caption and keywords into the results, moves the capture time in them,
    /// sets their resolution tag, and says what of the original's data is kept. Fields in braces stand for
    /// data of the picture.
    pub struct Data: PartialEq {
        id: "data",
        title: "Data",
        group: "data",
        words: [
            "data", "metadata", "exif", "iptc", "xmp", "creator", "author", "copyright", "caption",
            "keywords", "tags", "gps", "privacy", "strip", "remove", "dpi", "ppi", "resolution", "time",
            "clock", "serial",
        ],
        neutral: r#"{}"#,
        starter: r#"{"creator": "Thistlewick Nursery", "copyright": "© {taken:%Y} Thistlewick Nursery"}"#,
        facts: { starts_as_last_time: true },
    }
    parameters {
        /// Who made the picture.
        creator: String = String::new(), Kind::Template(200);
        /// The notice of rights.
        copyright: String = String::new(), Kind::Template(300);
        /// What the picture shows.
        caption: String = String::new(), Kind::Template(2000);
        /// Keywords given to every result.
        add: Vec<String> = Vec::new(), Kind::Words(100);
        /// Keywords taken away.
        remove: Vec<String> = Vec::new(), Kind::Words(100);
        /// Moves the capture time the results carry: -1:30 is one and a half hours back, +2d 0:00 two days
        /// on.
        shift: String = String::new(), Kind::Text(30), "h:mm";
        /// Resolution tag, for programs that print by it; the pixels stay.
        resolution: Option<u32> = None, Kind::Whole { min: 1, max: 9600 }, "pixels per inch";
        /// What of the original's data the results keep: all of it, all but where it was taken, all but
        /// that and the serial numbers and owner of the camera, or nothing.
        keep: String = "all".into(), Kind::Choice(&KEEP);
    }
}

/// What is kept of the original's data.
pub const KEEP: [&str; 4] = ["all", "without place", "without place and serial numbers", "nothing"];

/// Seconds of a shift: an optional sign, optional days (`2d`), `h:mm` or `h:mm:ss`; nothing for anything else.
pub fn seconds(shift: &str) -> Option<i64> {
    let text = shift.trim();
    let (sign, text) = match text.strip_prefix(['-', '−']) {
        Some(rest) => (-1, rest),
        None => (1, text.strip_prefix('+').unwrap_or(text)),
    };
    let number = |s: &str, most: i64| {
        let digits = !s.is_empty() && s.bytes().all(|b| b.is_ascii_digit());
        digits.then(|| s.parse::<i64>().ok()).flatten().filter(|n| *n <= most)
    };
    let (days, clock) = match text.split_once('d') {
        Some((days, rest)) => (number(days.trim(), 36_500)?, rest.trim()),
        None => (0, text.trim()),
    };
    let mut parts = clock.split(':');
    let (hours, minutes) = (number(parts.next()?, 10_000)?, number(parts.next()?, 59)?);
    let rest = parts.next().map_or(Some(0), |s| number(s, 59))?;
    parts.next().is_none().then_some(sign * (days * 86_400 + hours * 3600 + minutes * 60 + rest))
}

impl Step for Data {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let phrases = [
            (!self.creator.is_empty(), "creator {creator}"),
            (!self.copyright.is_empty(), "copyright {copyright}"),
            (!self.caption.is_empty(), "caption {caption}"),
            (!self.add.is_empty(), "keywords {add} added"),
            (!self.remove.is_empty(), "keywords {remove} removed"),
            (!self.shift.trim().is_empty(), "capture time moved by {shift}"),
            (self.resolution.is_some(), "resolution {resolution} pixels per inch"),
        ];
        let mut parts: Vec<&str> = phrases.iter().filter(|s| s.0).map(|s| s.1).collect();
        if self.keep != "all" || parts.is_empty() {
            parts.push("of the original's data {keep} kept");
        }
        format!("Data: {}.", parts.join(", "))
    }
    fn check(&self) -> Result<(), ParamError> {
        if self.shift.trim().is_empty() || seconds(&self.shift).is_some() {
            return Ok(());
        }
        let message =
            format!("expected hours and minutes such as +1:00, -0:30:15 or +2d 0:00, got {}", self.shift);
        Err(ParamError::new("shift", message))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shifts_are_read_as_people_write_them() {
        for (text, want) in [
            ("+1:00", Some(3600)),
            ("1:00", Some(3600)),
            ("-0:30:15", Some(-1815)),
            ("−12:00", Some(-43_200)),
            ("+2d 0:00", Some(172_800)),
            ("-1d 2:30", Some(-95_400)),
            ("1:60", None),
            ("1", None),
            ("an hour", None),
            ("1:2:3:4", None),
            ("--1:00", None),
        ] {
            assert_eq!(seconds(text), want, "{text}");
        }
        let wrong = Data { shift: "soon".into(), ..Data::default() };
        assert_eq!(wrong.check().unwrap_err().path, "shift");
    }
}
