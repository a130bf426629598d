//! A page of HTML for a course, with its pictures in order.

use crate::assemble::finishing::{Around, Done};
use crate::assemble::piece;
use crate::assemble::web_gallery::{MARK, address, escaped};
use crate::frame_context::subject;
use crate::render::fault::{Ended, Fault};
use crate::report::settings_sheet;
use rallo_job::{FailureKind, ItemState, ResultFile};
use rallo_media::FileSource;
use rallo_recipe::delivery::What;
use rallo_recipe::names;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

/// The page of a course pack: it opens without a server, and shows everything beside it.
pub(super) fn course_page(
    title: &str,
    folder: &Path,
    files: &[(ResultFile, &rallo_job::RunItem)],
    own: &[ResultFile],
    settings: &Path,
) -> String {
    let title = escaped(title);
    let within = |path: &Path| {
        let below = path.strip_prefix(folder).unwrap_or(path);
        below.iter().map(|p| address(&p.to_string_lossy())).collect::<Vec<_>>().join("/")
    };
    let mut text = format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n{MARK}\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<title>{title}</title>\n\
         <style>body{{font:17px/1.5 sans-serif;margin:0 auto;max-width:72rem;padding:2rem;background:#f5f4ef;color:#222}}\
         img,video{{max-width:100%;height:auto;display:block;background:#ddd}}\
         ol{{list-style:none;padding:0;display:grid;gap:1.2rem;grid-template-columns:repeat(auto-fill,minmax(20rem,1fr))}}\
         a{{color:#14532d}}</style>\n</head>\n<body>\n<h1>{title}</h1>\n"
    );
    for clip in own.iter().filter(|o| o.clip.is_some() || o.path.extension().is_some_and(|e| e == "mp4")) {
        let _ = writeln!(
            text,
            "<video controls preload=\"metadata\" src=\"{0}\"><a href=\"{0}\">The clip</a></video>",
            within(&clip.path)
        );
    }
    text += "<p>";
    for document in own.iter().filter(|o| o.path.extension().is_some_and(|e| e == "pdf")) {
        let _ = write!(text, "<a href=\"{}\">Hand-out (PDF)</a> · ", within(&document.path));
    }
    let _ = write!(text, "<a href=\"{}\">Settings sheet (PDF)</a></p>\n<ol>\n", within(settings));
    for (n, (output, item)) in files.iter().enumerate() {
        let stem = Path::new(&item.source).file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let to = within(&output.path);
        let _ = writeln!(
            text,
            "<li><a href=\"{to}\"><img src=\"{to}\" width=\"{}\" height=\"{}\" alt=\"{}\" loading=\"lazy\"></a>{}. {}</li>",
            output.width,
            output.height,
            escaped(&stem),
            n + 1,
            escaped(&stem)
        );
    }
    text + "</ol>\n</body>\n</html>\n"
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
            let source = FileSource::open(&item.source).ok()?;
            let about = subject(&item.source, Some(&source.facts(&item.source)), &item.decided, at + 1);
            settings_sheet::pair(&recipe, &source, &about).ok()
        });
        let sheet = settings_sheet::settings(self.recipe, &about, pair).map_err(|e| piece::fault(&e))?;
        let settings = self.write(self.beside(folder.join("settings.pdf"))?, &sheet)?;
        let title = names::text(&course.title, &self.recipe.name, &self.first());
        let files = self.files(delivery);
        let tasks = self.recipe.tasks();
        let own: Vec<ResultFile> = self
            .items
            .iter()
            .filter(|i| i.task.and_then(|t| tasks.get(t as usize)).is_some_and(|(at, _)| *at == delivery))
            .flat_map(|item| item.outputs.clone())
            .collect();
        let text = course_page(&title, &folder, &files, &own, &settings.path);
        let page = self.write(self.beside(page)?, text.as_bytes())?;
        let outputs = vec![settings, page];
        Ok(Done { ended: Ended { state: ItemState::Done, kind: None, reason: None, outputs }, mark: None })
    }
}
