//! What lies in a folder, as the folder chooser shows it.

use super::html;
use super::start::days;
use crate::App;
use crate::api::folders::{Listing, listing, picture_address};
use crate::error::Result;
use crate::request::Query;
use crate::words;
use askama::Template;
use axum::extract::State;
use axum::response::Html;
use rallo_job::prelude::*;
use std::path::{Path, PathBuf};

/// What is asked for.
#[derive(serde::Deserialize)]
pub(super) struct Wanted {
    /// The folder; the allowed ones where none is named, or what is in the one there is.
    path: Option<PathBuf>,
    /// Whether one is looked for to write into.
    #[serde(default)]
    to_write: bool,
}

#[derive(Template)]
#[template(path = "folder-list.html")]
pub(super) struct FolderList {
    path: String,
    shown: String,
    parent: String,
    pictures: usize,
    to_write: bool,
    recent: Vec<Entry>,
    folders: Vec<Entry>,
    files: Vec<Entry>,
    clips: Vec<Entry>,
}

/// One line of the list.
#[derive(Default)]
struct Entry {
    path: String,
    name: String,
    said: String,
    pictures: usize,
    picture: String,
    samples: Vec<String>,
}

/// Shoots opened lately that are offered.
const RECENT: usize = 6;

pub(super) async fn folder_list(
    State(app): State<App>,
    Query(wanted): Query<Wanted>,
) -> Result<Html<String>> {
    let is_first = wanted.path.is_none();
    let only = match app.roots.folders() {
        [one] => Some(one.clone()),
        _ => None,
    };
    let shared = app.clone();
    let path = wanted.path.or(only);
    let listing = tokio::task::spawn_blocking(move || listing(&shared, path)).await??;
    let mut list = FolderList::new(listing, wanted.to_write);
    if is_first && !wanted.to_write {
        let mut shoots = app.store.shoots().await?;
        shoots.sort_by(|a, b| b.scanned.cmp(&a.scanned));
        let recent = shoots.into_iter().filter(|s| Path::new(&s.base).is_dir()).take(RECENT);
        list.recent = recent.map(|s| Entry { name: s.name, path: s.base, ..Entry::default() }).collect();
    }
    html(&list)
}

impl FolderList {
    fn new(listing: Listing, to_write: bool) -> Self {
        let text = |path: Option<PathBuf>| path.map(|p| p.display().to_string()).unwrap_or_default();
        let folder = |f: crate::api::folders::FolderEntry| {
            let mut said = match f.pictures {
                0 => String::new(),
                n => super::start::pictures(n),
            };
            let changed: Option<jiff::Timestamp> = f.changed.and_then(|t| t.parse().ok());
            if let Some(day) = changed.map(|t| t.to_zoned_datetime(jiff::tz::TimeZone::system()).date()) {
                said += if said.is_empty() { "" } else { ", " };
                said += &days(day, day);
            }
            let samples = f.samples.iter().map(|p| picture_address(p)).collect();
            let path = f.path.display().to_string();
            Entry { path, name: f.name, said, pictures: f.pictures, samples, ..Entry::default() }
        };
        let file = |f: crate::api::folders::FileEntry| Entry {
            picture: picture_address(&f.path),
            path: f.path.display().to_string(),
            name: f.name,
            ..Entry::default()
        };
        Self {
            shown: listing.name.unwrap_or_default(),
            path: text(listing.path),
            parent: text(listing.parent),
            pictures: listing.pictures,
            to_write,
            recent: Vec::new(),
            folders: listing.folders.into_iter().map(folder).collect(),
            files: if to_write { Vec::new() } else { listing.files.into_iter().map(file).collect() },
            clips: if to_write { Vec::new() } else { listing.clips.into_iter().map(file).collect() },
        }
    }
}
