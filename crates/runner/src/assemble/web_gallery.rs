//! The page beside the results of a web delivery: every picture in all its widths and formats, each with the lines that put
//! it into a page of one's own (HTML's `picture` and `srcset`).

use crate::files::atomic_file::write_whole;
use crate::render::variant::variants;
use askama::Template;
use rallo_job::{Records, RunItem, WrittenFile};
use rallo_media::content_hash;
use rallo_recipe::Recipe;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// One file for the page.
struct Shown {
    name: String,
    width: u32,
    height: u32,
}

/// The mark by which our own page is known again.
pub(crate) const MARK: &str = "<meta name=\"generator\" content=\"Rallo\">";

/// Formats by how much a browser prefers them, the last as what every one shows.
const ORDER: [(&str, &str); 5] = [
    ("jxl", "image/jxl"),
    ("avif", "image/avif"),
    ("webp", "image/webp"),
    ("png", "image/png"),
    ("jpg", "image/jpeg"),
];

/// A file's name in an address.
pub fn address(name: &str) -> String {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"-_.~".contains(&b);
    name.bytes().map(|b| if plain(b) { char::from(b).to_string() } else { format!("%{b:02X}") }).collect()
}

/// One format of a picture, in all its widths.
struct Format {
    kind: &'static str,
    srcset: String,
}

/// The lines that put one picture into a page.
#[derive(Template)]
#[template(path = "picture.html")]
struct PictureLines<'a> {
    others: Vec<Format>,
    largest: String,
    srcset: String,
    width: u32,
    height: u32,
    alt: &'a str,
}

/// The lines for one picture; `files` may be of several formats and widths.
fn lines(files: &[Shown], alt: &str) -> Result<String, askama::Error> {
    let of = |ending: &str| {
        let mut files: Vec<&Shown> =
            files.iter().filter(|f| Path::new(&f.name).extension().is_some_and(|e| e == ending)).collect();
        files.sort_by_key(|f| f.width);
        files
    };
    let srcset = |files: &[&Shown]| {
        files.iter().map(|f| format!("{} {}w", address(&f.name), f.width)).collect::<Vec<_>>().join(", ")
    };
    let mut groups: Vec<(&str, Vec<&Shown>)> = ORDER
        .iter()
        .map(|(ending, kind)| (*kind, of(ending)))
        .filter(|(_, files)| !files.is_empty())
        .collect();
    let Some((_, last)) = groups.pop() else { return Ok(String::new()) };
    let largest = last[last.len() - 1];
    PictureLines {
        others: groups.iter().map(|(kind, files)| Format { kind, srcset: srcset(files) }).collect(),
        largest: address(&largest.name),
        srcset: srcset(&last),
        width: largest.width,
        height: largest.height,
        alt,
    }
    .render()
}

/// One picture of the page.
struct Entry<'a> {
    name: &'a str,
    lines: String,
}

#[derive(Template)]
#[template(path = "web_gallery.html")]
struct Gallery<'a> {
    title: &'a str,
    pictures: Vec<Entry<'a>>,
}

/// The whole page.
fn page(title: &str, pictures: &[(String, Vec<Shown>)]) -> Result<String, askama::Error> {
    let entry = |(name, files): &'_ (String, Vec<Shown>)| lines(files, name);
    let mut entries = Vec::new();
    for picture in pictures {
        entries.push(Entry { name: &picture.0, lines: entry(picture)? });
    }
    Ok(Gallery { title, pictures: entries }.render()? + "\n")
}

/// Writes the pages of a run that has ended, one for each folder of a delivery that wants one.
///
/// # Errors
/// The records'; a page that cannot be written is in the log.
pub async fn write(records: &dyn Records, run: i64) -> rallo_job::Result<()> {
    let row = records.run(run).await?;
    let Ok(recipe) = Recipe::parse(&row.document) else { return Ok(()) };
    let wanted: Vec<bool> = variants(&recipe).iter().map(|v| v.delivery.page).collect();
    if !wanted.contains(&true) {
        return Ok(());
    }
    let mut folders: BTreeMap<PathBuf, Vec<(String, Vec<Shown>)>> = BTreeMap::new();
    for item in records.items(run).await? {
        for (folder, shown) in shown(&item, &wanted) {
            let name = Path::new(&item.source).file_stem().unwrap_or_default().to_string_lossy().into_owned();
            folders.entry(folder).or_default().push((name, shown));
        }
    }
    for (folder, pictures) in folders {
        let text = match page(&recipe.name, &pictures) {
            Ok(text) => text,
            Err(e) => {
                tracing::warn!("run {run}: its page was not written: {e}");
                continue;
            }
        };
        let hash = content_hash(text.as_bytes());
        let length = text.len() as i64;
        let written = tokio::task::spawn_blocking(move || put(&folder, &text)).await;
        match written {
            Ok(Ok(path)) => {
                let path = path.to_string_lossy().into_owned();
                records.keep_result(&WrittenFile { path, hash, bytes: length, mark: None }, run).await?;
            }
            Ok(Err(e)) => tracing::warn!("run {run}: its page was not written: {e}"),
            Err(e) => tracing::warn!("run {run}: its page was not written: {e}"),
        }
    }
    Ok(())
}

/// An item's files for pages, by folder.
fn shown(item: &RunItem, wanted: &[bool]) -> BTreeMap<PathBuf, Vec<Shown>> {
    let mut groups: BTreeMap<PathBuf, Vec<Shown>> = BTreeMap::new();
    for output in item.outputs.clone() {
        if output.variant.is_some_and(|k| wanted.get(k) == Some(&true)) {
            let name = output.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let folder = output.path.parent().unwrap_or(Path::new("/")).to_owned();
            groups.entry(folder).or_default().push(Shown {
                name,
                width: output.width,
                height: output.height,
            });
        }
    }
    groups
}

/// Writes a page as `index.html`, or beside one that is not ours.
fn put(folder: &Path, text: &str) -> std::io::Result<PathBuf> {
    let names = std::iter::once("index.html".to_owned()).chain((2..1000).map(|n| format!("index-{n}.html")));
    let free = |p: &PathBuf| match std::fs::read_to_string(p) {
        Ok(there) => there.contains(MARK),
        Err(e) => e.kind() == std::io::ErrorKind::NotFound,
    };
    let path = names.map(|n| folder.join(n)).find(free);
    let path = path.ok_or_else(|| std::io::Error::other("no free name for it"))?;
    write_whole(&path, text.as_bytes(), true)?;
    Ok(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_lines_have_every_width_and_the_preferred_format_first() {
        let file = |name: &str, width| Shown { name: name.into(), width, height: width / 2 };
        let files = [
            file("a b-960.jpg", 960),
            file("a b-480.jpg", 480),
            file("a-480.webp", 480),
            file("a-960.webp", 960),
        ];
        let text = lines(&files, "pots & \"trays\"").unwrap();
        assert_eq!(
            text,
            "<picture>\n  <source type=\"image/webp\" srcset=\"a-480.webp 480w, a-960.webp 960w\" sizes=\"100vw\">\n  \
             <img src=\"a%20b-960.jpg\" srcset=\"a%20b-480.jpg 480w, a%20b-960.jpg 960w\" sizes=\"100vw\" width=\"960\" \
             height=\"480\" alt=\"pots &amp; &quot;trays&quot;\" loading=\"lazy\">\n</picture>"
        );
        let page = page("<Web>", &[("a".into(), files.into())]).unwrap();
        assert!(page.contains("<h1>&lt;Web&gt;</h1>") && page.contains("<pre>&lt;picture&gt;"));
    }

    #[test]
    fn a_page_that_is_not_ours_stays() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("index.html"), "somebody's").unwrap();
        let text = page("x", &[]).unwrap();
        for _ in 0..2 {
            assert!(put(folder.path(), &text).unwrap().ends_with("index-2.html"));
        }
        assert_eq!(std::fs::read_to_string(folder.path().join("index.html")).unwrap(), "somebody's");
    }
}
