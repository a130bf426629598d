//! Names of results: templates with fields in braces, made safe for common file systems.
//!
//! Fields: `{stem}` the original's name without its ending, `{n}` a number from 1 (`{n:04}` with leading
//! zeros), `{taken:%Y-%m-%d}` the capture time (strftime), `{recipe}`, `{folder}` the original's folder,
//! `{iso}`, `{width}` and `{height}` of the result. The ending is added by the format.

use jiff::civil::DateTime;

/// What fields stand for.
#[derive(Clone, Debug)]
pub struct Facts<'a> {
    /// Original's name without its ending.
    pub stem: &'a str,
    /// Position in the run, from 1.
    pub number: usize,
    /// Capture time.
    pub taken: Option<DateTime>,
    /// The recipe's name.
    pub recipe: &'a str,
    /// Name of the original's folder.
    pub folder: &'a str,
    /// ISO speed.
    pub iso: Option<u32>,
    /// Pixels per row of the result.
    pub width: u32,
    /// Rows of the result.
    pub height: u32,
}

/// Every field's name.
pub const FIELDS: [&str; 8] = ["stem", "n", "taken", "recipe", "folder", "iso", "width", "height"];

/// Longest name in bytes, without the ending: room is left for the ending, a number and a temporary mark.
const LONGEST: usize = 200;

enum Piece<'a> {
    Text(&'a str),
    Field(&'a str, Option<&'a str>),
}

fn pieces(template: &str) -> Result<Vec<Piece<'_>>, String> {
    let mut all = Vec::new();
    let mut rest = template;
    while let Some(open) = rest.find('{') {
        all.push(Piece::Text(&rest[..open]));
        let Some(close) = rest[open..].find('}').map(|c| c + open) else {
            return Err(format!("the brace opened at {:?} is not closed", &rest[open..]));
        };
        let inside = &rest[open + 1..close];
        let (name, format) = inside.split_once(':').map_or((inside, None), |(n, f)| (n, Some(f)));
        if !FIELDS.contains(&name) {
            return Err(format!("unknown field {{{name}}}, known are {{{}}}", FIELDS.join("}, {")));
        }
        all.push(Piece::Field(name, format));
        rest = &rest[close + 1..];
    }
    if rest.contains('}') {
        return Err("a brace is closed that was not opened".into());
    }
    all.push(Piece::Text(rest));
    Ok(all)
}

/// Number of digits a format such as `04` asks for.
fn digits(format: &str) -> Option<usize> {
    format.parse::<usize>().ok().filter(|n| (1..=12).contains(n))
}

/// Checks a template.
///
/// # Errors
/// What is wrong with it, for people.
pub fn check(template: &str) -> Result<(), String> {
    if template.trim().is_empty() {
        return Err("expected a name such as {stem}-web".into());
    }
    for piece in pieces(template)? {
        match piece {
            Piece::Field("taken", Some(format)) => {
                jiff::fmt::strtime::format(format, DateTime::default())
                    .map_err(|e| format!("{{taken:{format}}} is not a time format: {e}"))?;
            }
            Piece::Field("n", Some(format)) if digits(format).is_none() => {
                return Err(format!("{{n:{format}}} is not a number format, write {{n:04}} for four digits"));
            }
            Piece::Field(name, Some(format)) if !["n", "taken"].contains(&name) => {
                return Err(format!("{{{name}}} takes no format, got {format:?}"));
            }
            _ => {}
        }
    }
    Ok(())
}

/// A name from a template, safe, without the ending. Data that are not there leave `undated` or `none`.
pub fn expand(template: &str, facts: &Facts) -> String {
    let number = |n: usize, format: Option<&str>| {
        let width = format.and_then(digits).unwrap_or(1);
        format!("{n:0width$}")
    };
    let text: String = pieces(template)
        .unwrap_or_default()
        .into_iter()
        .map(|piece| match piece {
            Piece::Text(text) => text.to_owned(),
            Piece::Field(name, format) => match name {
                "stem" => facts.stem.to_owned(),
                "n" => number(facts.number, format),
                "taken" => facts.taken.map_or("undated".into(), |t| {
                    jiff::fmt::strtime::format(format.unwrap_or("%Y-%m-%d_%H-%M-%S"), t)
                        .unwrap_or_else(|_| "undated".into())
                }),
                "recipe" => facts.recipe.to_owned(),
                "folder" => facts.folder.to_owned(),
                "iso" => facts.iso.map_or("none".into(), |i| i.to_string()),
                "width" => facts.width.to_string(),
                _ => facts.height.to_string(),
            },
        })
        .collect();
    safe(&text)
}

/// Makes a name that Linux, macOS and Windows file systems all take.
pub fn safe(name: &str) -> String {
    let mut text: String =
        name.chars().map(|c| if c.is_control() || "/\\:*?\"<>|".contains(c) { '-' } else { c }).collect();
    while text.len() > LONGEST {
        text.pop();
    }
    let trimmed = text.trim().trim_end_matches(['.', ' ']);
    let mut out = if trimmed.is_empty() { "untitled".to_owned() } else { trimmed.to_owned() };
    if out.starts_with('.') {
        out.insert(0, '_');
    }
    let device = out.split('.').next().unwrap_or_default().to_ascii_uppercase();
    let numbered = device.len() == 4 && device.ends_with(|c: char| c.is_ascii_digit() && c != '0');
    let reserved = ["CON", "PRN", "AUX", "NUL"].contains(&device.as_str())
        || (numbered && (device.starts_with("COM") || device.starts_with("LPT")));
    if reserved { format!("_{out}") } else { out }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts() -> Facts<'static> {
        Facts {
            stem: "TN_0412",
            number: 7,
            taken: Some(DateTime::new(2026, 5, 4, 9, 31, 7, 0).unwrap()),
            recipe: "Catalogue, web",
            folder: "card 1",
            iso: Some(800),
            width: 1600,
            height: 900,
        }
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
        ] {
            check(template).unwrap();
            assert_eq!(expand(template, &facts()), want);
        }
        let bare = Facts { taken: None, iso: None, ..facts() };
        assert_eq!(expand("{taken:%Y}-{iso}", &bare), "undated-none");
    }

    #[test]
    fn wrong_templates_say_what_is_wrong() {
        for (template, want) in [
            ("", "expected a name such as {stem}-web"),
            (
                "{stam}",
                "unknown field {stam}, known are {stem}, {n}, {taken}, {recipe}, {folder}, {iso}, {width}, {height}",
            ),
            ("{stem", "the brace opened at \"{stem\" is not closed"),
            ("stem}", "a brace is closed that was not opened"),
            ("{n:x}", "{n:x} is not a number format, write {n:04} for four digits"),
            ("{iso:3}", "{iso} takes no format, got \"3\""),
        ] {
            assert_eq!(check(template).unwrap_err(), want);
        }
        assert!(check("{taken:%Q-}").unwrap_err().starts_with("{taken:%Q-} is not a time format"));
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
        ] {
            assert_eq!(safe(name), want);
        }
        let long = safe(&"ü".repeat(300));
        assert!(long.len() <= LONGEST && long.chars().all(|c| c == 'ü'));
    }
}
