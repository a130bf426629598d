//! When a step applies and with which values: conditions in words, and tables of values per ISO.
//!
//! A condition is text such as `iso at least 1600 and not portrait`. Tests are joined with `and`, `or`, `not` and
//! parentheses (`and` binds tighter than `or`). A test on something the picture does not tell is not met.
//!
//! | test | |
//! | --- | --- |
//! | `iso at least 1600` | also `at most`, `above`, `below`, `is`; of `iso`, `shutter` (seconds, `1/250` too), `aperture`, `focal length`, `width`, `height`, `megapixels`, `rating` |
//! | `aperture from 2 to 5.6` | between the two, both included |
//! | `camera is "…"` | also `contains`, and `like` with `*` and `?`; of `camera`, `lens`, `name`, `keyword`; upper and lower case are the same |
//! | `taken from 18:00 to 6:00` | time of day by the camera's clock, over midnight too |
//! | `portrait`, `landscape`, `square` | how the upright picture stands |

use crate::context::FrameContext;

#[derive(Clone, Copy, Debug, PartialEq)]
enum Quantity {
    Iso,
    Shutter,
    Aperture,
    FocalLength,
    Width,
    Height,
    Megapixels,
    Rating,
}

const QUANTITIES: [(&str, Quantity); 8] = [
    ("iso", Quantity::Iso),
    ("shutter", Quantity::Shutter),
    ("aperture", Quantity::Aperture),
    ("focal length", Quantity::FocalLength),
    ("width", Quantity::Width),
    ("height", Quantity::Height),
    ("megapixels", Quantity::Megapixels),
    ("rating", Quantity::Rating),
];

#[derive(Clone, Copy, Debug, PartialEq)]
enum Wording {
    Camera,
    Lens,
    Name,
    Keyword,
}

const WORDINGS: [(&str, Wording); 4] = [
    ("camera", Wording::Camera),
    ("lens", Wording::Lens),
    ("name", Wording::Name),
    ("keyword", Wording::Keyword),
];

#[derive(Clone, Debug, PartialEq)]
enum Match {
    Is(String),
    Contains(String),
    Like(String),
}

#[derive(Clone, Debug, PartialEq)]
enum Test {
    All(Vec<Test>),
    Any(Vec<Test>),
    Not(Box<Test>),
    /// Both ends, and whether each is included.
    Number(Quantity, (f64, bool), (f64, bool)),
    Text(Wording, Match),
    /// Minutes of the day.
    Taken(u32, u32),
    Portrait,
    Landscape,
    Square,
}

/// A checked condition.
#[derive(Clone, Debug, PartialEq)]
pub struct Condition {
    pub(super) text: String,
    test: Test,
}

#[derive(Clone, Debug, PartialEq)]
enum Token {
    Word(String),
    Quoted(String),
    Open,
    Close,
}

fn tokens(text: &str) -> Result<Vec<Token>, String> {
    let mut tokens = Vec::new();
    let mut rest = text.trim_start();
    while let Some(c) = rest.chars().next() {
        let used = match c {
            '(' | ')' => {
                tokens.push(if c == '(' { Token::Open } else { Token::Close });
                1
            }
            '"' => {
                let Some(end) = rest[1..].find('"') else {
                    return Err(format!("the quotation opened at {rest} is not closed"));
                };
                tokens.push(Token::Quoted(rest[1..=end].to_owned()));
                end + 2
            }
            _ => {
                let end = rest.find(|c: char| c.is_whitespace() || "()\"".contains(c)).unwrap_or(rest.len());
                tokens.push(Token::Word(rest[..end].to_lowercase()));
                end
            }
        };
        rest = rest[used..].trim_start();
    }
    Ok(tokens)
}

/// Reads tokens from the front.
struct Reader {
    tokens: Vec<Token>,
    pub(super) at: usize,
}

impl Reader {
    fn takes(&mut self, words: &str) -> bool {
        let mut at = self.at;
        for word in words.split(' ') {
            match self.tokens.get(at) {
                Some(Token::Word(w)) if w == word => at += 1,
                _ => return false,
            }
        }
        self.at = at;
        true
    }

    fn here(&self) -> String {
        match self.tokens.get(self.at) {
            None => "the end".into(),
            Some(Token::Word(w)) => format!("\"{w}\""),
            Some(Token::Quoted(w)) => format!("the quotation \"{w}\""),
            Some(Token::Open) => "\"(\"".into(),
            Some(Token::Close) => "\")\"".into(),
        }
    }

    fn any(&mut self, depth: usize) -> Result<Test, String> {
        let mut terms = vec![self.all(depth)?];
        while self.takes("or") {
            terms.push(self.all(depth)?);
        }
        Ok(if terms.len() == 1 { terms.remove(0) } else { Test::Any(terms) })
    }

    fn all(&mut self, depth: usize) -> Result<Test, String> {
        let mut factors = vec![self.one(depth)?];
        while self.takes("and") {
            factors.push(self.one(depth)?);
        }
        Ok(if factors.len() == 1 { factors.remove(0) } else { Test::All(factors) })
    }

    fn one(&mut self, depth: usize) -> Result<Test, String> {
        if depth == 0 {
            return Err("this condition is nested too deeply".into());
        }
        if self.takes("not") {
            return Ok(Test::Not(Box::new(self.one(depth - 1)?)));
        }
        if self.tokens.get(self.at) == Some(&Token::Open) {
            self.at += 1;
            let inner = self.any(depth - 1)?;
            if self.tokens.get(self.at) != Some(&Token::Close) {
                return Err(format!("expected \")\" before {}", self.here()));
            }
            self.at += 1;
            return Ok(inner);
        }
        for (word, test) in
            [("portrait", Test::Portrait), ("landscape", Test::Landscape), ("square", Test::Square)]
        {
            if self.takes(word) {
                return Ok(test);
            }
        }
        if self.takes("taken from") {
            let from = self.time()?;
            self.want("to")?;
            return Ok(Test::Taken(from, self.time()?));
        }
        for (name, what) in QUANTITIES {
            if self.takes(name) {
                return self.number_test(name, what);
            }
        }
        for (name, what) in WORDINGS {
            if self.takes(name) {
                return self.text_test(name, what);
            }
        }
        let names: Vec<&str> = QUANTITIES.iter().map(|q| q.0).chain(WORDINGS.iter().map(|w| w.0)).collect();
        Err(format!(
            "expected {}, taken from, portrait, landscape, square or not, got {}",
            names.join(", "),
            self.here()
        ))
    }

    fn want(&mut self, word: &str) -> Result<(), String> {
        if self.takes(word) { Ok(()) } else { Err(format!("expected \"{word}\", got {}", self.here())) }
    }

    fn number_test(&mut self, name: &str, what: Quantity) -> Result<Test, String> {
        let (none, all) = ((f64::NEG_INFINITY, true), (f64::INFINITY, true));
        let test = |low, high| Test::Number(what, low, high);
        if self.takes("at least") {
            return Ok(test((self.number()?, true), all));
        }
        if self.takes("at most") {
            return Ok(test(none, (self.number()?, true)));
        }
        if self.takes("above") {
            return Ok(test((self.number()?, false), all));
        }
        if self.takes("below") {
            return Ok(test(none, (self.number()?, false)));
        }
        if self.takes("is") {
            let n = self.number()?;
            return Ok(test((n, true), (n, true)));
        }
        if self.takes("from") {
            let low = self.number()?;
            self.want("to")?;
            return Ok(test((low, true), (self.number()?, true)));
        }
        Err(format!("expected at least, at most, above, below, is or from after {name}, got {}", self.here()))
    }

    pub(super) fn number(&mut self) -> Result<f64, String> {
        let plain = |t: &str| t.parse::<f64>().ok().filter(|n| n.is_finite() && *n >= 0.0);
        let value = match self.tokens.get(self.at) {
            Some(Token::Word(w)) => match w.split_once('/') {
                Some((a, b)) => plain(a).zip(plain(b)).filter(|(_, b)| *b > 0.0).map(|(a, b)| a / b),
                None => plain(w),
            },
            _ => None,
        };
        let value = value.ok_or_else(|| format!("expected a number, got {}", self.here()))?;
        self.at += 1;
        Ok(value)
    }

    fn time(&mut self) -> Result<u32, String> {
        let value = match self.tokens.get(self.at) {
            Some(Token::Word(w)) => w.split_once(':').and_then(|(h, m)| {
                let (h, m) = (h.parse::<u32>().ok()?, m.parse::<u32>().ok()?);
                (h < 24 && m < 60).then_some(h * 60 + m)
            }),
            _ => None,
        };
        let value = value.ok_or_else(|| format!("expected a time such as 18:30, got {}", self.here()))?;
        self.at += 1;
        Ok(value)
    }

    fn text_test(&mut self, name: &str, what: Wording) -> Result<Test, String> {
        type Make = fn(String) -> Match;
        let make: Make = if self.takes("is") {
            Match::Is
        } else if self.takes("contains") {
            Match::Contains
        } else if self.takes("like") {
            Match::Like
        } else {
            return Err(format!("expected is, contains or like after {name}, got {}", self.here()));
        };
        match self.tokens.get(self.at) {
            Some(Token::Quoted(w) | Token::Word(w)) => {
                let test = Test::Text(what, make(w.to_lowercase()));
                self.at += 1;
                Ok(test)
            }
            _ => Err(format!("expected a text in quotation marks, got {}", self.here())),
        }
    }
}

/// Whether `text` is like `pattern`, where `*` stands for anything and `?` for one character.
fn like(pattern: &[char], text: &[char]) -> bool {
    let (mut p, mut t, mut star, mut mark) = (0, 0, None, 0);
    while t < text.len() {
        if p < pattern.len() && (pattern[p] == '?' || pattern[p] == text[t]) && pattern[p] != '*' {
            (p, t) = (p + 1, t + 1);
        } else if p < pattern.len() && pattern[p] == '*' {
            (star, mark) = (Some(p), t);
            p += 1;
        } else if let Some(s) = star {
            mark += 1;
            (p, t) = (s + 1, mark);
        } else {
            return false;
        }
    }
    pattern[p..].iter().all(|c| *c == '*')
}

impl Test {
    fn met(&self, s: &FrameContext) -> bool {
        match self {
            Self::All(all) => all.iter().all(|t| t.met(s)),
            Self::Any(all) => all.iter().any(|t| t.met(s)),
            Self::Not(one) => !one.met(s),
            Self::Number(what, (low, with_low), (high, with_high)) => {
                let side = |n: u32| (n > 0).then(|| f64::from(n));
                let value = match what {
                    Quantity::Iso => s.iso.map(f64::from),
                    Quantity::Shutter => s.shutter,
                    Quantity::Aperture => s.aperture,
                    Quantity::FocalLength => s.focal_length,
                    Quantity::Width => side(s.width),
                    Quantity::Height => side(s.height),
                    Quantity::Megapixels => side(s.width).map(|w| w * f64::from(s.height) / 1e6),
                    Quantity::Rating => Some(f64::from(s.rating)),
                };
                // A shutter time of 1/250 is not written exactly.
                let near = |a: f64, b: f64| (a - b).abs() <= 1e-4 * b.abs();
                value.is_some_and(|v| {
                    (v > *low && (*with_low || !near(v, *low)) || *with_low && near(v, *low))
                        && (v < *high && (*with_high || !near(v, *high)) || *with_high && near(v, *high))
                })
            }
            Self::Text(what, pattern) => {
                let fits = |text: &str| {
                    let text = text.to_lowercase();
                    match pattern {
                        Match::Is(p) => text == *p,
                        Match::Contains(p) => text.contains(p.as_str()),
                        Match::Like(p) => {
                            let chars = |t: &str| t.chars().collect::<Vec<_>>();
                            like(&chars(p), &chars(&text))
                        }
                    }
                };
                match what {
                    Wording::Camera => s.camera.as_deref().is_some_and(fits),
                    Wording::Lens => s.lens.as_deref().is_some_and(fits),
                    Wording::Name => fits(&s.stem),
                    Wording::Keyword => s.keywords.iter().any(|k| fits(k)),
                }
            }
            Self::Taken(from, to) => s.taken.is_some_and(|t| {
                let now = t.hour() as u32 * 60 + t.minute() as u32;
                if from <= to { (*from..=*to).contains(&now) } else { now >= *from || now <= *to }
            }),
            Self::Portrait => s.height > s.width,
            Self::Landscape => s.width > s.height,
            Self::Square => s.width == s.height && s.width > 0,
        }
    }
}

/// Why a text is no condition: what was expected at which word, and what came.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct ConditionError(String);

impl From<String> for ConditionError {
    fn from(message: String) -> Self {
        Self(message)
    }
}

impl Condition {
    /// Reads a condition.
    ///
    /// # Errors
    /// [`ConditionError`].
    pub fn parse(text: &str) -> Result<Self, ConditionError> {
        if text.len() > 1000 {
            return Err(ConditionError("expected at most 1000 characters".into()));
        }
        let mut reader = Reader { tokens: tokens(text)?, at: 0 };
        let test = reader.any(20)?;
        if reader.at < reader.tokens.len() {
            return Err(ConditionError(format!("expected and, or, or the end, got {}", reader.here())));
        }
        Ok(Self { text: text.trim().to_owned(), test })
    }

    /// Whether the picture meets it.
    pub fn met(&self, frame: &FrameContext) -> bool {
        self.test.met(frame)
    }

    /// As it was written.
    pub fn text(&self) -> &str {
        &self.text
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::iso_table::IsoTable;
    use jiff::civil::DateTime;
    use serde_json::json;

    fn frame() -> FrameContext {
        FrameContext {
            stem: "TN_0412".into(),
            taken: Some(DateTime::new(2026, 5, 4, 21, 31, 7, 0).unwrap()),
            camera: Some("Thistle Two".into()),
            shutter: Some(0.004),
            aperture: Some(5.6),
            iso: Some(1600),
            width: 4000,
            height: 6000,
            rating: 3,
            keywords: vec!["Seedlings".into(), "pots".into()],
            ..FrameContext::default()
        }
    }

    #[test]
    fn conditions_are_met_or_not() {
        for (text, want) in [
            ("iso at least 1600", true),
            ("iso above 1600", false),
            ("iso from 800 to 1600", true),
            ("shutter is 1/250", true),
            ("shutter below 1/250", false),
            ("aperture at most 5.6", true),
            ("focal length at least 1", false),
            ("not focal length at least 1", true),
            ("megapixels is 24", true),
            ("portrait", true),
            ("landscape or square", false),
            ("camera is \"thistle two\"", true),
            ("name like \"tn_*2\" and rating at least 3", true),
            ("name like \"tn_?12\"", false),
            ("keyword is seedlings", true),
            ("keyword contains eed", true),
            ("lens contains \"50\"", false),
            ("taken from 18:00 to 6:00", true),
            ("taken from 6:00 to 18:00", false),
            ("iso is 100 or portrait and rating is 3", true),
            ("(iso is 100 or portrait) and rating is 2", false),
            ("not (portrait and not rating is 3)", true),
        ] {
            let c = Condition::parse(text).unwrap_or_else(|e| panic!("{text}: {e}"));
            assert_eq!(c.met(&frame()), want, "{text}");
        }
    }

    #[test]
    fn wrong_conditions_say_what_was_expected() {
        for (text, want) in [
            ("iso 1600", "expected at least, at most, above, below, is or from after iso, got \"1600\""),
            ("iso at least many", "expected a number, got \"many\""),
            (
                "speed is 3",
                "expected iso, shutter, aperture, focal length, width, height, megapixels, rating, camera, lens, name, keyword, taken from, portrait, landscape, square or not, got \"speed\"",
            ),
            ("(portrait", "expected \")\" before the end"),
            ("portrait landscape", "expected and, or, or the end, got \"landscape\""),
            ("name is \"x", "the quotation opened at \"x is not closed"),
            ("taken from 25:00 to 3:00", "expected a time such as 18:30, got \"25:00\""),
        ] {
            assert_eq!(Condition::parse(text).unwrap_err().to_string(), want);
        }
        assert!(Condition::parse("").is_err());
        assert!(Condition::parse(&"not ".repeat(50)).unwrap_err().to_string().contains("too deeply"));
    }

    #[test]
    fn a_ladder_goes_evenly_by_stops() {
        let kind = rallo_engine::step_kind("unsharp_mask").unwrap();
        let iso_table =
            IsoTable::read(kind, &json!({"6400": {"amount": 20}, "100": {"amount": 80, "threshold": 1}}))
                .unwrap();
        let amount = |iso: u32| iso_table.at(kind, iso)["amount"].as_f64().unwrap();
        // Six stops from 80 to 20: ten a stop.
        assert_eq!([50, 100, 200, 800, 6400, 51_200].map(amount), [80.0, 80.0, 70.0, 50.0, 20.0, 20.0]);
        assert_eq!(iso_table.at(kind, 3200)["threshold"], json!(1));
        assert_eq!(iso_table.ends(), (100, 6400));
        assert_eq!(iso_table.to_value()["100"]["amount"], json!(80));
        for (value, path) in [
            (json!({}), "by_iso"),
            (json!({"fast": {"amount": 1}}), "by_iso.fast"),
            (json!({"100": {"amount": 101}}), "by_iso.100.amount"),
            (json!({"100": {"strength": 1}}), "by_iso.100.strength"),
        ] {
            assert_eq!(IsoTable::read(kind, &value).unwrap_err().0, path);
        }
    }
}
