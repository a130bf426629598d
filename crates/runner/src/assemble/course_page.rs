//! A page of HTML for a course, with its pictures in order.

use crate::assemble::finishing::{Around, Done};
use crate::assemble::web_gallery::address;
use crate::frame_context::resolve_context;
use crate::render::fault::{Ended, Fault, fault};
use crate::report::settings_sheet;
use askama::Template;
use rallo_job::{FailureKind, ItemState, ResultFile, RunItem};
use rallo_media::FileSource;
use rallo_recipe::delivery::What;
use rallo_recipe::names;
use std::path::{Path, PathBuf};

/// One picture of the page.
struct Entry {
    address: String,
    width: u32,
    height: u32,
    name: String,
    number: usize,
}

/// The page of a course pack: it opens without a server, and shows everything beside it.
#[derive(Template)]
#[template(path = "course_page.html")]
struct CoursePage<'a> {
    title: &'a str,
    clips: Vec<String>,
    documents: Vec<String>,
    settings: String,
    files: Vec<Entry>,
}

fn course_page(
    title: &str,
    folder: &Path,
    files: &[(ResultFile, &RunItem)],
    own: &[ResultFile],
    settings: &Path,
) -> Result<String, Fault> {
    let within = |path: &Path| {
        let below = path.strip_prefix(folder).unwrap_or(path);
        below.iter().map(|p| address(&p.to_string_lossy())).collect::<Vec<_>>().join("/")
    };
    let has = |file: &ResultFile, ending: &str| file.path.extension().is_some_and(|e| e == ending);
    let entry = |(n, (output, item)): (usize, &(ResultFile, &RunItem))| Entry {
        address: within(&output.path),
        width: output.width,
        height: output.height,
        name: Path::new(&item.source).file_stem().unwrap_or_default().to_string_lossy().into_owned(),
        number: n + 1,
    };
    let page = CoursePage {
        title,
        clips: own.iter().filter(|o| o.clip.is_some() || has(o, "mp4")).map(|o| within(&o.path)).collect(),
        documents: own.iter().filter(|o| has(o, "pdf")).map(|o| within(&o.path)).collect(),
        settings: within(settings),
        files: files.iter().enumerate().map(entry).collect(),
    };
    let text = page.render().map_err(|e| Fault::new(FailureKind::Inside, e.to_string()))?;
    Ok(text + "\n")
}

impl Around<'_> {
    /// The settings sheet and the page of a course pack.
    pub(super) fn course(&self, delivery: usize) -> Result<Done, Fault> {
        let What::Course(course) = &self.recipe.deliveries[delivery].what else {
            return Err(Fault::new(FailureKind::Recipe, "this delivery is no course pack"));
        };
        let page = PathBuf::from(&self.item.target);
        let folder = page.parent().unwrap_or(Path::new("/")).to_owned();
        let about = format!("{} pictures", self.pictures().count());
        let pair = (0..self.pictures().count()).find_map(|at| {
            let (recipe, item) = self.picture(at)?;
            let source = FileSource::open(&item.source).ok()?.decoding_by(&recipe.decode);
            let about =
                resolve_context(&item.source, Some(&source.facts(&item.source)), &item.decided, at + 1);
            settings_sheet::pair(&recipe, &source, &about).ok()
        });
        let sheet = settings_sheet::settings(self.recipe, &about, pair).map_err(|e| fault(&e))?;
        let settings = self.write(self.beside(folder.join("settings.pdf"))?, &sheet)?;
        let title = names::text(&course.title, &self.recipe.name, &self.first());
        let files = self.files(delivery);
        let tasks = self.recipe.tasks();
        let pictures_of_page: Vec<ResultFile> = self
            .items
            .iter()
            .filter(|i| i.task.and_then(|t| tasks.get(t as usize)).is_some_and(|(at, _)| *at == delivery))
            .flat_map(|item| item.outputs.clone())
            .collect();
        let text = course_page(&title, &folder, &files, &pictures_of_page, &settings.path)?;
        let page = self.write(self.beside(page)?, text.as_bytes())?;
        let outputs = vec![settings, page];
        Ok(Done { ended: Ended { state: ItemState::Done, kind: None, reason: None, outputs }, mark: None })
    }
}
