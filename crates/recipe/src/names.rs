//! Names of results: templates with fields in braces, made safe for common file systems.
//!
//! Fields: `{stem}` the original's name without its ending, `{n}` a number from 1 (`{n:04}` with leading
//! zeros), `{taken:%Y-%m-%d}` the capture time (strftime), `{recipe}`, `{folder}` the original's folder,
//! `{iso}`, `{width}` and `{height}` (of the result, in names), `{camera}`, `{lens}`, `{shutter}`, `{aperture}`,
//! `{focal}`. The ending is added by the format. The same fields stand in captions.
//!
//! Texts (`{stem}`, `{folder}`, `{recipe}`, `{camera}`, `{lens}`) can be changed on the way, in one or several ways with a
//! semicolon between: `lower`, `upper`, `title`, `first 4`, `last 4`, `without first 4`, `without last 4`, and `IMG_ > bed `,
//! which puts one text for another wherever it stands: `{stem:IMG_ > bed ; without last 2; title}`.

use crate::text::number;
use crate::{FrameContext, ResolveContext};
use jiff::civil::DateTime;

/// Every field's name.
pub const FIELDS: [&str; 13] = [
    "stem", "n", "taken", "recipe", "folder", "iso", "width", "height", "camera", "lens", "shutter",
    "aperture", "focal",
];

/// Longest name in bytes, without the ending: room is left for the ending, a number, a temporary mark, and one more where
/// the name must not begin as it does.
const LONGEST: usize = 199;

enum Piece<'a> {
    Text(&'a str),
    Field(&'a str, Option<&'a str>),
}

fn pieces(template: &str) -> Result<Vec<Piece<'_>>, String> {
    let mut pieces = Vec::new();
    let mut rest = template;
    while let Some(open) = rest.find('{') {
        pieces.push(Piece::Text(&rest[..open]));
        let Some(close) = rest[open..].find('}').map(|c| c + open) else {
            return Err(format!("the brace opened at {:?} is not closed", &rest[open..]));
        };
        let inside = &rest[open + 1..close];
        let (name, format) = inside.split_once(':').map_or((inside, None), |(n, f)| (n, Some(f)));
        if !FIELDS.contains(&name) {
            return Err(format!("unknown field {{{name}}}, known are {{{}}}", FIELDS.join("}, {")));
        }
        pieces.push(Piece::Field(name, format));
        rest = &rest[close + 1..];
    }
    if rest.contains('}') {
        return Err("a brace is closed that was not opened".into());
    }
    pieces.push(Piece::Text(rest));
    Ok(pieces)
}

/// Fields that can be changed on the way.
const TEXTS: [&str; 5] = ["stem", "folder", "recipe", "camera", "lens"];

/// One way of changing a text.
enum Change<'a> {
    Lower,
    Upper,
    Title,
    First(usize),
    Last(usize),
    WithoutFirst(usize),
    WithoutLast(usize),
    Replace(&'a str, &'a str),
}

fn changes(format: &str) -> Result<Vec<Change<'_>>, String> {
    fn one(text: &str) -> Option<Change<'_>> {
        if let Some((from, to)) = text.split_once('>') {
            // One blank beside the sign belongs to it, further ones to the texts.
            let from = from.strip_suffix(' ').unwrap_or(from);
            let to = to.strip_prefix(' ').unwrap_or(to);
            let from = from.strip_prefix(' ').unwrap_or(from);
            return (!from.is_empty()).then_some(Change::Replace(from, to));
        }
        let words: Vec<&str> = text.split_whitespace().collect();
        let number = |word: &str| word.parse::<usize>().ok().filter(|n| (1..=200).contains(n));
        Some(match &words[..] {
            ["lower"] => Change::Lower,
            ["upper"] => Change::Upper,
            ["title"] => Change::Title,
            ["first", n] => Change::First(number(n)?),
            ["last", n] => Change::Last(number(n)?),
            ["without", "first", n] => Change::WithoutFirst(number(n)?),
            ["without", "last", n] => Change::WithoutLast(number(n)?),
            _ => return None,
        })
    }
    format
        .split(';')
        .map(|text| {
            one(text).ok_or_else(|| {
                format!(
                    "{text:?} is no change of a name; there are lower, upper, title, first 4, last 4, without first 4, \
                     without last 4, and old > new"
                )
            })
        })
        .collect()
}

/// A text with its changes, one after the other.
fn changed_text(text: String, format: Option<&str>) -> String {
    let changes_of_name = format.and_then(|f| changes(f).ok()).unwrap_or_default();
    changes_of_name.into_iter().fold(text, |text, change| {
        let count = text.chars().count();
        match change {
            Change::Lower => text.to_lowercase(),
            Change::Upper => text.to_uppercase(),
            Change::Title => {
                let mut begins = true;
                let mut out = String::new();
                for c in text.chars() {
                    if begins {
                        out.extend(c.to_uppercase())
                    } else {
                        out.extend(c.to_lowercase())
                    }
                    begins = !c.is_alphanumeric();
                }
                out
            }
            Change::First(n) => text.chars().take(n).collect(),
            Change::Last(n) => text.chars().skip(count.saturating_sub(n)).collect(),
            Change::WithoutFirst(n) => text.chars().skip(n).collect(),
            Change::WithoutLast(n) => text.chars().take(count.saturating_sub(n)).collect(),
            Change::Replace(from, to) => text.replace(from, to),
        }
    })
}

/// Number of digits a format such as `04` asks for.
fn digits(format: &str) -> Option<usize> {
    format.parse::<usize>().ok().filter(|n| (1..=12).contains(n))
}

/// Why a text is no template for names: what is wrong with which of its fields.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct TemplateError(String);

impl From<String> for TemplateError {
    fn from(message: String) -> Self {
        Self(message)
    }
}

/// Checks a template.
///
/// # Errors
/// [`TemplateError`].
pub fn check(template: &str) -> Result<(), TemplateError> {
    if template.trim().is_empty() {
        return Err(TemplateError("expected a name such as {stem}-web".into()));
    }
    for piece in pieces(template)? {
        match piece {
            Piece::Field("taken", Some(format)) => {
                jiff::fmt::strtime::format(format, DateTime::default())
                    .map_err(|e| format!("{{taken:{format}}} is not a time format: {e}"))?;
            }
            Piece::Field("n", Some(format)) if digits(format).is_none() => {
                return Err(TemplateError(format!(
                    "{{n:{format}}} is not a number format, write {{n:04}} for four digits"
                )));
            }
            Piece::Field(name, Some(format)) if TEXTS.contains(&name) => {
                changes(format)?;
            }
            Piece::Field(name, Some(format)) if !["n", "taken"].contains(&name) => {
                return Err(TemplateError(format!("{{{name}}} takes no format, got {format:?}")));
            }
            _ => {}
        }
    }
    Ok(())
}

/// Checks a template for a text, which may be empty.
///
/// # Errors
/// As [`check`].
pub fn check_text(template: &str) -> Result<(), TemplateError> {
    if template.trim().is_empty() { Ok(()) } else { check(template) }
}

/// A name from a template, safe, without the ending. Data that are not there leave `undated` or `none`.
pub fn expand(template: &str, recipe: &str, context: &ResolveContext) -> String {
    safe(&filled(template, recipe, context, "none", "undated"))
}

/// How a name differs from what its template says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Changed {
    /// It was too long.
    Cut,
    /// Characters that not every file system takes were replaced or left out.
    Characters,
}

/// Whether the name a template gives had to be changed, and how.
pub fn changed(template: &str, recipe: &str, context: &ResolveContext) -> Option<Changed> {
    let raw = filled(template, recipe, context, "none", "undated");
    if raw.len() > LONGEST { Some(Changed::Cut) } else { (safe(&raw) != raw).then_some(Changed::Characters) }
}

/// What stands between the parts of a text.
const BETWEEN: [&str; 3] = [" · ", " | ", ", "];

/// A text from a template; a part between dots, bars or commas is left out where its fields have no data at all.
pub fn text(template: &str, recipe: &str, context: &ResolveContext) -> String {
    let mut out = String::new();
    let mut rest = template;
    let mut before = "";
    loop {
        let next = BETWEEN.iter().filter_map(|b| outside_braces(rest, b).map(|at| (at, *b))).min();
        let part = next.map_or(rest, |(at, _)| &rest[..at]);
        let text = filled(part, recipe, context, "", "");
        let bare = part.contains('{') && text == filled(part, recipe, &nobody(context), "", "");
        let has = |field: &str| matches!(field, "n" | "recipe" | "stem" | "folder" | "width" | "height");
        let fields = pieces(part).unwrap_or_default();
        let known = fields.iter().any(|p| matches!(p, Piece::Field(name, _) if has(name)));
        if !bare || known {
            if !out.is_empty() {
                out += before;
            }
            out += text.trim();
        }
        match next {
            Some((at, between)) => (rest, before) = (&rest[at + between.len()..], between),
            None => return out,
        }
    }
}

/// Where `what` first stands outside of braces.
fn outside_braces(text: &str, what: &str) -> Option<usize> {
    text.match_indices(what).map(|(at, _)| at).find(|at| {
        let before = &text[..*at];
        before.matches('{').count() == before.matches('}').count()
    })
}

/// The same picture, of which the camera wrote nothing.
fn nobody(context: &ResolveContext) -> ResolveContext {
    let frame = FrameContext {
        taken: None,
        iso: None,
        camera: None,
        lens: None,
        shutter: None,
        aperture: None,
        focal_length: None,
        ..context.frame.clone()
    };
    ResolveContext { frame, ..context.clone() }
}

fn filled(template: &str, recipe: &str, context: &ResolveContext, none: &str, undated: &str) -> String {
    let frame = &context.frame;
    let count = |n: usize, format: Option<&str>| {
        let width = format.and_then(digits).unwrap_or(1);
        format!("{n:0width$}")
    };
    let or_none = |value: Option<String>| value.unwrap_or_else(|| none.into());
    let usual = if undated.is_empty() { "%-d %B %Y, %H:%M" } else { "%Y-%m-%d_%H-%M-%S" };
    pieces(template)
        .unwrap_or_default()
        .into_iter()
        .map(|piece| match piece {
            Piece::Text(text) => text.to_owned(),
            Piece::Field(name, format) => match name {
                "stem" => changed_text(frame.stem.clone(), format),
                "n" => count(context.sequence.number, format),
                "taken" => frame.taken.map_or(undated.into(), |t| {
                    jiff::fmt::strtime::format(format.unwrap_or(usual), t).unwrap_or_else(|_| undated.into())
                }),
                "recipe" => changed_text(recipe.to_owned(), format),
                "folder" => changed_text(frame.folder.clone(), format),
                "iso" => or_none(frame.iso.map(|i| i.to_string())),
                "width" => frame.width.to_string(),
                "height" => frame.height.to_string(),
                "camera" => changed_text(or_none(frame.camera.clone()), format),
                "lens" => changed_text(or_none(frame.lens.clone()), format),
                "shutter" => or_none(frame.shutter.map(|s| {
                    if s < 0.4 { format!("1/{:.0} s", 1.0 / s) } else { format!("{} s", number(s)) }
                })),
                "aperture" => or_none(frame.aperture.map(|a| format!("f/{}", number(a)))),
                _ => or_none(frame.focal_length.map(|f| format!("{} mm", number(f)))),
            },
        })
        .collect()
}

/// Makes a name that Linux, macOS and Windows file systems all take: at most 200 bytes, nothing they keep for themselves,
/// no blank at either end and no dot at the last. What it gives stays as it is when it is made safe once more.
pub fn safe(name: &str) -> String {
    let blank_or_dot = |c: char| c.is_whitespace() || c == '.';
    let text: String =
        name.chars().map(|c| if c.is_control() || "/\\:*?\"<>|".contains(c) { '-' } else { c }).collect();
    let mut out = text.trim_start().trim_end_matches(blank_or_dot).to_owned();
    if out.is_empty() {
        return "untitled".into();
    }
    if out.starts_with('.') || is_device(&out) {
        out.insert(0, '_');
    }
    while out.len() > LONGEST {
        out.pop();
    }
    out.truncate(out.trim_end_matches(blank_or_dot).len());
    out
}

/// Whether Windows keeps a name for a device, whatever follows a dot.
fn is_device(name: &str) -> bool {
    let stem = name.split('.').next().unwrap_or_default().trim_end().to_ascii_uppercase();
    let numbered = ["COM", "LPT"].iter().filter_map(|port| stem.strip_prefix(port));
    ["CON", "PRN", "AUX", "NUL"].contains(&stem.as_str())
        || numbered.into_iter().any(|n| n.chars().count() == 1 && n.contains(|c| "123456789¹²³".contains(c)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts() -> ResolveContext {
        let frame = FrameContext {
            stem: "TN_0412".into(),
            taken: Some(DateTime::new(2026, 5, 4, 9, 31, 7, 0).unwrap()),
            folder: "card 1".into(),
            iso: Some(800),
            shutter: Some(0.004),
            aperture: Some(5.6),
            width: 1600,
            height: 900,
            ..FrameContext::default()
        };
        ResolveContext::nth(frame, 7)
    }

    #[test]
    fn fields_are_filled() {
        for (template, want) in [
            ("{stem}-web", "TN_0412-web"),
            ("{n:04}", "0007"),
            ("{n}", "7"),
            ("{taken:%Y-%m-%d} {stem}", "2026-05-04 TN_0412"),
            ("{taken}", "2026-05-04_09-31-07"),
            ("{recipe}/{folder}", "Catalogue, web-card 1"),
            ("{width}x{height}@{iso}", "1600x900@800"),
            ("{aperture} {lens}", "f-5.6 none"),
        ] {
            check(template).unwrap();
            assert_eq!(expand(template, "Catalogue, web", &facts()), want);
        }
        let frame = FrameContext { taken: None, iso: None, ..facts().frame };
        let bare = ResolveContext { frame, ..facts() };
        assert_eq!(expand("{taken:%Y}-{iso}", "", &bare), "undated-none");
        assert_eq!(text("{shutter}, {aperture} {lens}", "", &bare), "1/250 s, f/5.6");
        assert_eq!(text("{taken}", "", &facts()), "4 May 2026, 09:31");
        let camera = "{camera} · {focal} · {aperture} · ISO {iso} · {taken:%d, %m}";
        assert_eq!(text(camera, "", &facts()), "f/5.6 · ISO 800 · 04, 05");
        assert_eq!(text(camera, "", &bare), "f/5.6");
        assert_eq!(text("No. {n} | {lens}, in {folder}", "", &bare), "No. 7, in card 1");
        assert!(check_text("").is_ok() && check_text("{no}").is_err());
    }

    #[test]
    fn texts_are_changed_on_the_way() {
        for (template, want) in [
            ("{stem:lower}", "tn_0412"),
            ("{stem:TN_ > bed no. }", "bed no. 0412"),
            ("{stem:TN_>}", "0412"),
            ("{stem:last 4}-{folder:upper; first 4}", "0412-CARD"),
            ("{stem:without first 3; without last 2}", "04"),
            ("{recipe:title}", "Catalogue, Web"),
            ("{folder:card > Karte;upper}", "KARTE 1"),
        ] {
            check(template).unwrap();
            assert_eq!(expand(template, "catalogue, web", &facts()), want, "{template}");
        }
        for wrong in ["{stem:louder}", "{stem:first}", "{stem: > x}", "{stem:first 0}", "{iso:lower}"] {
            assert!(check(wrong).is_err(), "{wrong}");
        }
        assert!(
            check("{stem:louder}").unwrap_err().to_string().starts_with("\"louder\" is no change of a name")
        );
    }

    #[test]
    fn wrong_templates_say_what_is_wrong() {
        for (template, want) in [
            ("", "expected a name such as {stem}-web"),
            (
                "{stam}",
                "unknown field {stam}, known are {stem}, {n}, {taken}, {recipe}, {folder}, {iso}, {width}, {height}, {camera}, {lens}, {shutter}, {aperture}, {focal}",
            ),
            ("{stem", "the brace opened at \"{stem\" is not closed"),
            ("stem}", "a brace is closed that was not opened"),
            ("{n:x}", "{n:x} is not a number format, write {n:04} for four digits"),
            ("{iso:3}", "{iso} takes no format, got \"3\""),
        ] {
            assert_eq!(check(template).unwrap_err().to_string(), want);
        }
        assert!(
            check("{taken:%Q-}").unwrap_err().to_string().starts_with("{taken:%Q-} is not a time format")
        );
    }

    #[test]
    fn names_are_safe_everywhere() {
        for (name, want) in [
            ("a/b\\c:d*e", "a-b-c-d-e"),
            ("..", "untitled"),
            (".hidden", "_.hidden"),
            ("con", "_con"),
            ("COM1.x", "_COM1.x"),
            ("trailing. ", "trailing"),
            ("   ", "untitled"),
            ("a beginning\u{a0}.", "a beginning"),
            (" . \u{a0}. ", "untitled"),
            ("Con .tif", "_Con .tif"),
            ("lpt².jpg", "_lpt².jpg"),
            ("COM10.x", "COM10.x"),
            ("console.jpg", "console.jpg"),
        ] {
            assert_eq!(safe(name), want);
        }
        let long = safe(&"ü".repeat(300));
        assert!(long.len() <= LONGEST && long.chars().all(|c| c == 'ü'));
        for longest in
            [".".to_owned() + &"a".repeat(LONGEST - 1), "nul.".to_owned() + &"a".repeat(LONGEST - 4)]
        {
            let name = safe(&longest);
            assert!(name.len() == LONGEST && name.starts_with('_') && safe(&name) == name, "{name}");
        }
        let ended = safe(&("a".repeat(LONGEST - 1) + ". b"));
        assert_eq!(ended, "a".repeat(LONGEST - 1));
    }
}
