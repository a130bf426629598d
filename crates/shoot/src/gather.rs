//! Gathering: which copies scattered frames become, and under which names. Nothing is copied here.
//!
//! The order of the names is the order of capture: frames taken within one second get a number behind the time.
//! The same picture found twice (equal content) is copied once.

use jiff::civil::DateTime;
use rallo_recipe::names::{self, TemplateError};
use rallo_recipe::{FrameContext, ResolveContext};
use serde::Serialize;
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

/// The names copies get unless people ask for others.
pub const TEMPLATE: &str = "{taken:%Y%m%d-%H%M%S}_{stem}";

/// A file that may be copied.
#[derive(Clone, Debug)]
pub struct Candidate {
    /// The file.
    pub path: PathBuf,
    /// Its size.
    pub bytes: u64,
    /// Corrected capture time.
    pub taken: Option<DateTime>,
    /// ISO speed.
    pub iso: Option<u32>,
    /// Pixels.
    pub size: (u32, u32),
    /// Hash of its content.
    pub content: String,
}

/// What becomes of one file.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "snake_case", tag = "what")]
pub enum Becomes {
    /// A copy of this name.
    Copy {
        /// The name.
        name: String,
    },
    /// Nothing: the same picture is copied from another file.
    Same {
        /// That file.
        of: PathBuf,
    },
    /// Nothing: a file with this name and content is there.
    There {
        /// The name.
        name: String,
    },
}

/// One line of a plan.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Line {
    /// The file.
    pub source: PathBuf,
    /// Its size.
    pub bytes: u64,
    /// Hash of its content.
    pub content: String,
    /// What becomes of it.
    pub becomes: Becomes,
}

/// Plans the copies. `there` gives the content hash of a file of that name in the target folder, if it exists.
///
/// # Errors
/// [`TemplateError`].
pub fn plan(
    candidates: &[Candidate],
    template: &str,
    there: &dyn Fn(&str) -> Option<String>,
) -> Result<Vec<Line>, TemplateError> {
    names::check(template)?;
    // In order of capture, undated ones last; equal times as the names go.
    let mut order: Vec<usize> = (0..candidates.len()).collect();
    order.sort_by_cached_key(|i| {
        let c = &candidates[*i];
        (c.taken.is_none(), c.taken, crate::natural_key(&c.path.to_string_lossy()))
    });
    let mut first: HashMap<&str, usize> = HashMap::new();
    let mut seconds: HashMap<DateTime, usize> = HashMap::new();
    for &i in &order {
        let c = &candidates[i];
        if first.contains_key(c.content.as_str()) {
            continue;
        }
        first.insert(&c.content, i);
        if let Some(second) = c.taken.map(whole_second) {
            *seconds.entry(second).or_default() += 1;
        }
    }
    let mut within: HashMap<DateTime, usize> = HashMap::new();
    let mut used: HashSet<String> = HashSet::new();
    let mut lines: Vec<Option<Line>> = vec![None; candidates.len()];
    let mut number = 0;
    for &i in &order {
        let c = &candidates[i];
        let line =
            |becomes| Line { source: c.path.clone(), bytes: c.bytes, content: c.content.clone(), becomes };
        if first[c.content.as_str()] != i {
            lines[i] = Some(line(Becomes::Same { of: candidates[first[c.content.as_str()]].path.clone() }));
            continue;
        }
        number += 1;
        let clash = c.taken.map(whole_second).filter(|s| seconds[s] > 1).map(|s| {
            let n = within.entry(s).or_default();
            *n += 1;
            // As many digits as the second needs, so that 2 stands before 10.
            let width = seconds[&s].to_string().len();
            format!("{n:0width$}")
        });
        let stem = expand(template, c, number, clash.as_deref());
        let ending = c
            .path
            .extension()
            .map(|e| format!(".{}", e.to_string_lossy().to_lowercase()))
            .unwrap_or_default();
        let mut name = format!("{stem}{ending}");
        let mut again = 2;
        let becomes = loop {
            let free = !used.contains(&name.to_lowercase());
            match there(&name).filter(|_| free) {
                Some(content) if content == c.content => break Becomes::There { name: name.clone() },
                None if free => break Becomes::Copy { name: name.clone() },
                _ => {}
            }
            name = format!("{stem}-{again}{ending}");
            again += 1;
        };
        used.insert(name.to_lowercase());
        lines[i] = Some(line(becomes));
    }
    Ok(order.into_iter().filter_map(|i| lines[i].take()).collect())
}

fn whole_second(time: DateTime) -> DateTime {
    time.with().subsec_nanosecond(0).build().unwrap_or(time)
}

/// The template filled in; `clash` stands behind the time, or at the end where there is none.
fn expand(template: &str, c: &Candidate, number: usize, clash: Option<&str>) -> String {
    let with = match (clash, template.find("{taken")) {
        (Some(n), Some(at)) => {
            let end = template[at..].find('}').map_or(template.len(), |e| at + e + 1);
            format!("{}-{n}{}", &template[..end], &template[end..])
        }
        _ => template.to_owned(),
    };
    let name = |p: Option<&Path>| {
        p.and_then(Path::file_name).map(|n| n.to_string_lossy().into_owned()).unwrap_or_default()
    };
    let stem = c.path.file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default();
    let frame = FrameContext {
        stem,
        taken: c.taken,
        folder: name(c.path.parent()),
        iso: c.iso,
        width: c.size.0,
        height: c.size.1,
        ..FrameContext::default()
    };
    names::expand(&with, "", &ResolveContext::nth(frame, number))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn one(path: &str, taken: &str, content: &str) -> Candidate {
        Candidate {
            path: path.into(),
            bytes: 10,
            taken: taken.parse().ok(),
            iso: Some(100),
            size: (3, 2),
            content: content.into(),
        }
    }

    fn names(lines: &[Line]) -> Vec<String> {
        lines
            .iter()
            .map(|l| match &l.becomes {
                Becomes::Copy { name } => name.clone(),
                Becomes::Same { of } => format!("same as {}", of.display()),
                Becomes::There { name } => format!("there {name}"),
            })
            .collect()
    }

    #[test]
    fn the_order_of_names_is_the_order_of_capture() {
        let all = [
            one("/b/IMG_1.JPG", "2026-05-04T09:31:07.80", "h1"),
            one("/a/IMG_1.JPG", "2026-05-04T09:31:07.20", "h2"),
            one("/a/IMG_2.JPG", "2026-05-04T09:31:08", "h3"),
            one("/c/IMG_9.JPG", "2026-05-04T09:31:06.9", "h4"),
        ];
        let lines = plan(&all, TEMPLATE, &|_| None).unwrap();
        let got = names(&lines);
        assert_eq!(
            got,
            [
                "20260504-093106_IMG_9.jpg",
                "20260504-093107-1_IMG_1.jpg",
                "20260504-093107-2_IMG_1.jpg",
                "20260504-093108_IMG_2.jpg"
            ]
        );
        let mut sorted = got.clone();
        sorted.sort();
        assert_eq!(sorted, got);
    }

    #[test]
    fn the_same_picture_is_copied_once() {
        let all = [
            one("/a/1.jpg", "2026-05-04T09:00:00", "x"),
            one("/b/copy of 1.jpg", "2026-05-04T09:00:00", "x"),
            one("/b/2.jpg", "", "y"),
        ];
        let got = names(&plan(&all, TEMPLATE, &|_| None).unwrap());
        assert_eq!(got, ["20260504-090000_1.jpg", "same as /a/1.jpg", "undated_2.jpg"]);
    }

    #[test]
    fn what_is_there_is_left_alone_and_clashes_get_a_number() {
        let all = [one("/a/1.jpg", "", "x"), one("/b/1.jpg", "", "y"), one("/c/1.jpg", "", "z")];
        let there = |name: &str| match name {
            "1.jpg" => Some("x".to_owned()),
            "1-2.jpg" => Some("something else".to_owned()),
            _ => None,
        };
        assert_eq!(names(&plan(&all, "{stem}", &there).unwrap()), ["there 1.jpg", "1-3.jpg", "1-4.jpg"]);
        assert!(plan(&all, "{stam}", &there).unwrap_err().to_string().contains("unknown field"));
    }
}
