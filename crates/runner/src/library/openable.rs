//! What could be opened as a shoot: folders with pictures in the folders the program may use, and shoots that lie there as
//! documents. Folders are only listed; of each shoot one or two pictures are looked into, for their dates.

use crate::Roots;
use jiff::civil::Date;
use rallo_media::has_picture_ending;
use rallo_shoot::document::{Document, Place};
use rallo_shoot::natural_key;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// Something that can be opened.
#[derive(Clone, Debug)]
pub struct Openable {
    /// Its name: the folder's, or the document's.
    pub name: String,
    /// The folders it is made of.
    pub places: Vec<Place>,
    /// The document that says so.
    pub document: Option<PathBuf>,
    /// Files in these folders that look like pictures.
    pub pictures: usize,
    /// One of them to show: taken nearest to noon of some from the first to the last, else the one in the middle.
    pub cover: PathBuf,
    /// Days of the first and the last picture, in the order of their names.
    pub days: Option<(Date, Date)>,
    /// All of these files, in the order of the folders and of their names.
    files: Vec<PathBuf>,
    /// When something in it was last added or removed.
    changed: SystemTime,
}

/// How a shoot's document is called.
pub const DOCUMENT_ENDING: &str = ".rallo-shoot.json";

/// Folders that are listed at most, so that a huge tree does not keep anybody waiting.
const LISTED: usize = 600;

/// Looks through `roots`, the folders in them, and once more below folders that have no pictures themselves; a document that
/// names anything else is not told. `known` are folders that need not be told. At most `most` are told, what was changed last
/// first, documents before folders.
pub fn openable(roots: &Roots, known: &dyn Fn(&Path) -> bool, most: usize) -> Vec<Openable> {
    let mut listed = 0;
    let (mut documents, mut folders) = (Vec::new(), Vec::new());
    let mut level: Vec<PathBuf> = roots.folders().to_vec();
    for depth in 0..3 {
        let mut below = Vec::new();
        for folder in level {
            if listed == LISTED {
                break;
            }
            listed += 1;
            let Ok(inside) = Inside::of(&folder) else { continue };
            documents.extend(inside.documents.iter().filter_map(|file| of_document(file, roots)));
            if depth == 0 || inside.pictures.is_empty() {
                below.extend(inside.folders.iter().cloned());
            }
            folders.extend(of_folder(folder, inside));
        }
        level = below;
    }
    let is_in_one = |folder: &Openable| {
        let path = &folder.places[0].path;
        documents.iter().any(|d: &Openable| d.places.iter().any(|p| p.path == *path))
    };
    folders.retain(|f| !known(&f.places[0].path) && !is_in_one(f));
    documents.retain(|d| d.places.iter().any(|p| !known(&p.path)));
    for found in [&mut documents, &mut folders] {
        found.sort_by_key(|f| (std::cmp::Reverse(f.changed), f.name.clone()));
    }
    documents.append(&mut folders);
    documents.truncate(most);
    documents.iter_mut().for_each(look_closer);
    documents
}

/// What lies in one folder.
#[derive(Default)]
struct Inside {
    pictures: Vec<PathBuf>,
    folders: Vec<PathBuf>,
    documents: Vec<PathBuf>,
    changed: Option<SystemTime>,
}

impl Inside {
    fn of(folder: &Path) -> std::io::Result<Self> {
        let mut inside = Self { changed: folder.metadata()?.modified().ok(), ..Self::default() };
        for entry in std::fs::read_dir(folder)?.flatten() {
            let path = entry.path();
            let name = entry.file_name().to_string_lossy().into_owned();
            let Ok(kind) = entry.file_type() else { continue };
            if name.starts_with('.') {
                continue;
            }
            if kind.is_dir() {
                inside.folders.push(path);
            } else if has_picture_ending(&path) {
                inside.pictures.push(path);
            } else if name.ends_with(DOCUMENT_ENDING) {
                inside.documents.push(path);
            }
        }
        inside.pictures.sort_by_cached_key(|p| natural_key(&p.to_string_lossy()));
        Ok(inside)
    }
}

fn of_folder(folder: PathBuf, inside: Inside) -> Option<Openable> {
    let cover = inside.pictures.get(inside.pictures.len() / 2)?.clone();
    Some(Openable {
        name: folder.file_name().unwrap_or(folder.as_os_str()).to_string_lossy().into_owned(),
        places: vec![Place { path: folder, deep: false }],
        document: None,
        pictures: inside.pictures.len(),
        cover,
        days: None,
        files: inside.pictures,
        changed: inside.changed.unwrap_or(SystemTime::UNIX_EPOCH),
    })
}

/// A document that cannot be read, or names nothing that is there, is not told.
fn of_document(file: &Path, roots: &Roots) -> Option<Openable> {
    let near = file.parent()?;
    let document = Document::parse(&std::fs::read_to_string(file).ok()?, near).ok()?;
    let mut pictures = Vec::new();
    for place in &document.places {
        pictures.extend(Inside::of(&roots.existing(&place.path).ok()?).ok()?.pictures);
    }
    Some(Openable {
        cover: pictures.get(pictures.len() / 2)?.clone(),
        pictures: pictures.len(),
        name: document.name,
        places: document.places,
        document: Some(file.to_owned()),
        days: None,
        files: pictures,
        changed: file.metadata().ok()?.modified().ok()?,
    })
}

/// Pictures of a shoot that are looked into for one to show, beside the first and the last.
const LOOKED_INTO: usize = 4;

/// Looks into a few pictures, for days and for one that was not taken at night.
fn look_closer(found: &mut Openable) {
    let mut all = std::mem::take(&mut found.files);
    all.sort_by_cached_key(|p| natural_key(&p.file_name().unwrap_or_default().to_string_lossy()));
    let taken = |path: &PathBuf| rallo_media::decode::taken(path);
    let day = |path: Option<&PathBuf>| path.and_then(taken).map(|t| t.date());
    found.days = day(all.first()).zip(day(all.last())).map(|(a, b)| (a.min(b), a.max(b)));
    let some = (1..=LOOKED_INTO).map(|i| &all[i * all.len() / (LOOKED_INTO + 1)]);
    let from_noon = |path: &PathBuf| taken(path).map(|t| (t.hour() - 12).abs());
    let best = some.filter_map(|path| Some((from_noon(path)?, path))).min_by_key(|(hours, _)| *hours);
    if let Some((_, cover)) = best {
        found.cover = cover.clone();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn picture(at: &Path) {
        std::fs::create_dir_all(at.parent().unwrap()).unwrap();
        std::fs::write(at, "not looked into").unwrap();
    }

    fn allowed(root: &Path) -> Roots {
        Roots::new(&[root.to_owned()]).unwrap()
    }

    fn names(found: &[Openable]) -> Vec<&str> {
        let mut names: Vec<&str> = found.iter().map(|f| f.name.as_str()).collect();
        names.sort_unstable();
        names
    }

    #[test]
    fn folders_with_pictures_are_told_and_results_below_them_are_not() {
        let root = tempfile::tempdir().unwrap();
        for name in
            ["pots/a.jpg", "pots/b.jpg", "pots/web/a.jpg", "2026/may/c.jpg", ".hidden/d.jpg", "notes/n.txt"]
        {
            picture(&root.path().join(name));
        }
        let found = openable(&allowed(root.path()), &|_| false, 9);
        assert_eq!(names(&found), ["may", "pots"]);
        let pots = found.iter().find(|f| f.name == "pots").unwrap();
        assert_eq!((pots.pictures, pots.cover.file_name().unwrap().to_str()), (2, Some("b.jpg")));
        let known = root.path().join("pots");
        assert_eq!(names(&openable(&allowed(root.path()), &|p| p == known, 9)), ["may"]);
        assert_eq!(openable(&allowed(root.path()), &|_| false, 1).len(), 1);
    }

    #[test]
    fn a_document_stands_for_its_folders() {
        let root = tempfile::tempdir().unwrap();
        for name in ["card 1/a.jpg", "card 2/b.jpg", "others/c.jpg"] {
            picture(&root.path().join(name));
        }
        let places = ["card 1", "card 2"].map(|p| Place { path: root.path().join(p), deep: false });
        let document = Document::new("Seed beds", &places, Default::default(), &[], root.path());
        let text = serde_json::to_string(&document).unwrap();
        std::fs::write(root.path().join("beds.rallo-shoot.json"), text).unwrap();
        std::fs::write(root.path().join("broken.rallo-shoot.json"), "{").unwrap();
        let found = openable(&allowed(root.path()), &|_| false, 9);
        assert_eq!(names(&found), ["Seed beds", "others"]);
        assert_eq!((found[0].pictures, found[0].places.len()), (2, 2));
    }

    #[test]
    fn a_document_that_names_what_is_not_allowed_is_not_told() {
        let (root, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        picture(&root.path().join("pots/a.jpg"));
        picture(&outside.path().join("b.jpg"));
        let place = Place { path: outside.path().to_owned(), deep: false };
        let document = Document::new("Others", &[place], Default::default(), &[], root.path());
        std::fs::write(
            root.path().join("others.rallo-shoot.json"),
            serde_json::to_string(&document).unwrap(),
        )
        .unwrap();
        assert_eq!(names(&openable(&allowed(root.path()), &|_| false, 9)), ["pots"]);
    }
}
