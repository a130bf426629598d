//! Which files a run will write, known before it runs.

use crate::files::file_names::name_of;
use crate::files::free_space::free_bytes;
use crate::frame_context::resolve_context;
use crate::preflight::input::Source;
use crate::preflight::problem::{self, Problem, Way};
use crate::render::memory_budget::default_memory;
use crate::render::variant;
use rallo_engine::step::Effect;
use rallo_engine::{Plan, Size};
use rallo_media::{Format, bytes_text};
use rallo_recipe::delivery::What;
use rallo_recipe::{FinishingTask, FrameContext, Line, Pictures, Recipe, ResolveContext, names};
use serde_json::json;
use std::collections::HashMap;
use std::path::{Component, Path, PathBuf};

/// The results of one picture.
#[derive(Clone, Debug, PartialEq)]
pub struct Planned {
    /// The original.
    pub source: PathBuf,
    /// Where its first result goes.
    pub target: PathBuf,
    /// Pixels of that result, where they are known.
    pub size: Option<Size>,
    /// Further results: other deliveries, other widths.
    pub more: Vec<(PathBuf, Option<Size>)>,
}

impl Planned {
    /// Every result, the first first.
    pub fn all(&self) -> impl Iterator<Item = (&Path, Option<Size>)> {
        let first = (self.target.as_path(), self.size);
        std::iter::once(first).chain(self.more.iter().map(|(p, s)| (p.as_path(), *s)))
    }
}

/// What a run would do.
#[derive(Clone, Debug, Default)]
pub struct Planning {
    /// The recipe, with what depends on the first picture settled; a run works by this.
    pub recipe: Option<Recipe>,
    /// Every picture with its results.
    pub pictures: Vec<Planned>,
    /// What the recipe's tasks for all pictures together write, in their order.
    pub tasks: Vec<PathBuf>,
    /// What stops it, or should be known.
    pub problems: Vec<Problem>,
}

impl Planning {
    /// What stops it.
    pub fn stop(&self) -> Option<&str> {
        self.problems.iter().find(|p| p.stops).map(|p| p.message.as_str())
    }
}

/// A folder's path with fields in braces, each part made safe by itself.
fn filled(path: &str, recipe: &Recipe, about: &ResolveContext) -> PathBuf {
    if !path.contains('{') {
        return PathBuf::from(path);
    }
    let mut out = PathBuf::new();
    for part in Path::new(path).components() {
        match part {
            Component::Normal(name) => {
                let name = name.to_string_lossy();
                out.push(if name.contains('{') {
                    names::expand(&name, &recipe.name, about)
                } else {
                    name.into()
                });
            }
            other => out.push(other),
        }
    }
    out
}

/// The folder a result goes to; `about` is the picture, or the first of those that lie together.
fn folder(
    delivery: &Pictures,
    recipe: &Recipe,
    about: &ResolveContext,
    source: &Path,
    base: &Path,
    to: Option<&Path>,
) -> PathBuf {
    let parent = source.parent().unwrap_or(base);
    let own_parts = || {
        let frame = FrameContext { folder: name_of(parent), ..about.frame.clone() };
        let whose = ResolveContext { frame, ..about.clone() };
        names::expand(&delivery.folder, &recipe.name, &whose)
    };
    // Several deliveries into one folder are told apart by the sub-folders they would have beside the originals.
    let apart = |to: &Path| match delivery.to.as_str() {
        "subfolder" if recipe.deliveries.len() > 1 => to.join(own_parts()),
        _ => to.to_owned(),
    };
    let beside = matches!(delivery.to.as_str(), "subfolder" | "same");
    let explicit = to.map(apart).or_else(|| (!beside).then(|| filled(&delivery.to, recipe, about)));
    match explicit {
        // Sub-folders of the shoot are kept, so that equal names in them do not clash.
        Some(to) => parent.strip_prefix(base).map_or(to.clone(), |below| to.join(below)),
        None if delivery.to == "same" => parent.to_owned(),
        None => parent.join(own_parts()),
    }
}

/// A name, or where the delivery numbers what is taken the first one with a number that is not.
fn free(name: &str, existing: &str, is_taken: impl Fn(&str) -> bool) -> String {
    let mut free = name.to_owned();
    let mut n = 2;
    while existing == "number" && is_taken(&free) {
        free = format!("{name}-{n}");
        n += 1;
    }
    free
}

/// Longest side of a JPEG (ITU-T T.81, B.2.2).
const JPEG_SIDE: u32 = 65_500;

/// Longest side of a WebP (RFC 9649, 3.5.2).
const WEBP_SIDE: u32 = 16_383;

/// What a picture is too large for, if it is; `memory` are the bytes a run may take.
fn limit(delivery: &Pictures, plan: &Plan, memory: u64) -> Option<String> {
    let size = plan.size();
    let is = format!("the result has {} × {} pixels", size.width, size.height);
    let side = match delivery.format.as_str() {
        "jpeg" => JPEG_SIDE,
        "webp" => WEBP_SIDE,
        _ => u32::MAX,
    };
    if size.long_edge() > side {
        let format = if side == JPEG_SIDE { "JPEG" } else { "WebP" };
        return Some(format!(
            "{is}; a {format} has at most {side} a side, so it will fail; enlarge less or deliver PNG"
        ));
    }
    let needs = plan.working_bytes(1, if delivery.is_wide() { 2 } else { 1 });
    (needs > memory).then(|| {
        format!(
            "{is} and needs about {} of memory, of which {} are free for runs; it may fail or slow the computer down",
            bytes_text(needs),
            bytes_text(memory)
        )
    })
}

/// Names every result of a run over `sources` (in order; `{n}` counts them, `first` pictures being numbered before
/// these), with what is known of each source. `base` is the folder the sources were found in, `to` overrides the
/// recipe's target.
pub(super) fn name_all(
    recipe: &Recipe,
    sources: &[Source],
    base: &Path,
    to: Option<&Path>,
    first: usize,
) -> (Planning, Vec<ResolveContext>) {
    let mut problems = Vec::new();
    if recipe.deliveries.is_empty() {
        problems.push(Problem::stop("the recipe has no delivery: say what it should write"));
        return (Planning { problems, ..Planning::default() }, Vec::new());
    }
    let known = sources.iter().find(|s| s.facts.is_some());
    let settled = match known {
        Some(source) => {
            recipe.settled(&resolve_context(&source.path, source.facts.as_ref(), &source.decided, first + 1))
        }
        None => recipe.clone(),
    };
    let recipe = &settled;
    let variants = variant::variants(recipe);
    let mut planned = Vec::with_capacity(sources.len());
    let mut taken: HashMap<String, usize> = HashMap::new();
    let mut clashes: Vec<(usize, usize, PathBuf)> = Vec::new();
    let mut limits: Vec<(usize, String)> = Vec::new();
    let memory = default_memory();
    let subjects: Vec<ResolveContext> = sources
        .iter()
        .enumerate()
        .map(|(i, s)| resolve_context(&s.path, s.facts.as_ref(), &s.decided, first + i + 1))
        .collect();
    let one_of_all = subjects.first().cloned().unwrap_or_default();
    for (i, source) in sources.iter().enumerate() {
        let about = &subjects[i];
        let mut paths = Vec::with_capacity(variants.len());
        for variant in &variants {
            let delivery = &variant.delivery;
            let laid = source.facts.as_ref().map(|_| recipe.layout_for(delivery, variant.width, about));
            let laid = laid.transpose().unwrap_or_else(|e| {
                limits.push((i, e.to_string()));
                None
            });
            if let Some(message) = laid.as_ref().and_then(|plan| limit(delivery, plan, memory)) {
                limits.push((i, message));
            }
            let framed = delivery.frame.as_ref().map(|f| Size::new(f.width, f.height));
            let size = laid.map(|p| framed.unwrap_or(p.size()));
            let mut named = delivery.counted(about);
            (named.frame.width, named.frame.height) = size.map_or((0, 0), |s| (s.width, s.height));
            let mut name = names::expand(&delivery.name, &recipe.name, &named);
            if let Some(width) = variant.width.filter(|_| !delivery.name.contains("{width")) {
                name = format!("{name}-{width}");
            }
            // What is numbered in one row, or belongs together, lies in one folder.
            let beside = if is_together(recipe, variant.at) { &base.join("x") } else { &source.path };
            let whose = if is_together(recipe, variant.at) { &one_of_all } else { about };
            let folder = folder(delivery, recipe, whose, beside, base, to);
            // Compared without case: some file systems take a.jpg and A.JPG for one file.
            let original = source.path.extension().unwrap_or_default().to_string_lossy();
            let is_raw = source.facts.as_ref().is_some_and(|f| f.format == Format::Raw);
            let ending = delivery.ending_for(&original, is_raw);
            let path = |name: &str| folder.join(format!("{name}.{ending}"));
            let key = |name: &str| path(name).to_string_lossy().to_lowercase();
            let free = free(&name, &delivery.existing, |name| taken.contains_key(&key(name)));
            if let Some(&first) = taken.get(&key(&free)) {
                clashes.push((first, i, path(&free)));
            }
            taken.entry(key(&free)).or_insert(i);
            paths.push((path(&free), size));
        }
        let mut paths = paths.into_iter();
        let (target, size) = paths.next().unwrap_or_default();
        planned.push(Planned { source: source.path.clone(), target, size, more: paths.collect() });
    }
    let tasks = together(recipe, &one_of_all, &planned, base, to, &mut taken, &mut problems);
    if variants.is_empty() {
        // Pictures that only join others name what they join.
        for picture in &mut planned {
            picture.target = tasks.first().cloned().unwrap_or_default();
        }
    }
    problems.extend(too_large(recipe, sources, limits));
    problems.extend(clashing(recipe, &planned, &clashes));
    problems.extend(over_originals(sources, &planned, &tasks));
    (Planning { recipe: Some(settled), pictures: planned, tasks, problems }, subjects)
}

/// Pictures that the recipe, a format or the memory does not take.
fn too_large(recipe: &Recipe, sources: &[Source], mut limits: Vec<(usize, String)>) -> Option<Problem> {
    limits.dedup_by_key(|(i, _)| *i);
    let (at, message) = limits.first()?;
    let name = name_of(&sources[*at].path);
    let more = match limits.len() {
        1 => String::new(),
        n => format!(" ({n} pictures in all)"),
    };
    let mut problem = Problem::note(format!("{name}{more}: {message}"));
    let affected: Vec<usize> = limits.iter().map(|(i, _)| *i).collect();
    if affected.len() < sources.len() {
        problem = problem.or("Leave out what is too large", Way::LeaveOut { pictures: affected });
    }
    let enlarges = |l: &Line| l.on && l.kind().info.facts.has(Effect::Enlarges);
    for (at, line) in recipe.steps.iter().enumerate().filter(|(_, l)| enlarges(l)) {
        let off = Way::Line { line: at, param: "on".into(), value: json!(false) };
        let title = line.kind().info.title.to_lowercase();
        problem = problem.or(format!("Switch line {}, {title}, off", at + 1), off);
    }
    Some(problem)
}

/// Results that would have one name: pairs of pictures, with the name.
fn clashing(recipe: &Recipe, planned: &[Planned], clashes: &[(usize, usize, PathBuf)]) -> Option<Problem> {
    let (a, b, path) = clashes.first()?;
    let more = match clashes.len() {
        1 => String::new(),
        n => format!(" ({} more such pairs)", n - 1),
    };
    let written = name_of(path);
    if a == b {
        let message = format!(
            "two deliveries would both write {written} of {}{more}; give them other names or folders",
            name_of(&planned[*a].source)
        );
        let apart = problem::delivery("name", json!("{stem}-{width}"));
        return Some(Problem::stop(message).or("The width behind each name", apart));
    }
    // What is in the name already tells them not apart.
    let template = recipe.deliveries.first().map(|d| d.target().name).unwrap_or_default();
    let fields = if template.contains("{stem") { "{n:04}" } else { "{n:04} or {stem}" };
    let both = Problem::stop(format!(
        "{} and {} would both be written as {written}{more}; add {fields} to the name",
        name_of(&planned[*a].source),
        name_of(&planned[*b].source),
    ));
    let numbered = problem::delivery("name", json!(format!("{template}-{{n:04}}")));
    Some(
        both.or("Number all names", numbered)
            .or("Number only those that are taken", problem::delivery("existing", json!("number"))),
    )
}

/// A result that would be written over an original.
fn over_originals(sources: &[Source], planned: &[Planned], tasks: &[PathBuf]) -> Option<Problem> {
    let originals: std::collections::HashSet<&Path> = sources.iter().map(|s| s.path.as_path()).collect();
    let results = planned.iter().flat_map(Planned::all).map(|(p, _)| p);
    let over = results.chain(tasks.iter().map(PathBuf::as_path)).find(|p| originals.contains(p))?;
    let over = Problem::stop(format!(
        "{} would be written over an original; choose another name or folder",
        over.display()
    ));
    Some(
        over.or("Into a sub-folder instead", problem::delivery("to", json!("subfolder")))
            .or("Another folder", Way::Folder),
    )
}

/// Files of all pictures that would go where something stands.
pub(super) fn taken_already(recipe: &Recipe, targets: &[PathBuf]) -> Vec<Problem> {
    let mut clashes = Vec::new();
    for ((at, task), path) in recipe.tasks().into_iter().zip(targets) {
        let existing = recipe.deliveries[at].target().existing;
        if !matches!(task, FinishingTask::Assembly(_) | FinishingTask::Zip)
            || existing == "number"
            || !path.exists()
        {
            continue;
        }
        let to = |value: &str| problem::delivery_at(at, "existing", json!(value));
        let name = name_of(path);
        let problem = if existing == "replace" {
            Problem::note(format!("{name} is there already; where it is an earlier result it is replaced."))
        } else {
            Problem::note(format!(
                "{name} is there already. Of the same pictures and values it stays as it is; else the {} will fail.",
                task.word()
            ))
            .or("Replace an older result", to("replace"))
        };
        clashes.push(problem.or("Give the new one a number", to("number")));
    }
    clashes
}

/// Whether a delivery's files lie in one folder, however many folders the pictures come from.
fn is_together(recipe: &Recipe, at: usize) -> bool {
    matches!(recipe.deliveries[at].what, What::Frames(_) | What::Course(_))
}

/// Where the recipe's tasks for all pictures together write; `about` is the first picture.
fn together(
    recipe: &Recipe,
    about: &ResolveContext,
    planned: &[Planned],
    base: &Path,
    to: Option<&Path>,
    taken: &mut HashMap<String, usize>,
    problems: &mut Vec<Problem>,
) -> Vec<PathBuf> {
    let variants = variant::variants(recipe);
    let mut clashes = Vec::new();
    for (at, task) in recipe.tasks() {
        let delivery = &recipe.deliveries[at];
        // Where its pictures lie, or would.
        let first_variant = variants.iter().position(|v| v.at == at);
        let lie: Vec<&Path> = planned
            .iter()
            .filter_map(|p| p.all().nth(first_variant?).and_then(|(path, _)| path.parent()))
            .collect();
        let files = lie.iter().fold(None::<PathBuf>, |common, folder| match common {
            None => Some(folder.to_path_buf()),
            Some(common) => common.ancestors().find(|a| folder.starts_with(a)).map(Path::to_path_buf),
        });
        let stage =
            Pictures { to: delivery.target().to, folder: delivery.target().folder, ..Pictures::default() };
        let home = || folder(&stage, recipe, about, &base.join("x"), base, to);
        let files = files.unwrap_or_else(home);
        let path = match &task {
            FinishingTask::Assembly(assembly) => {
                let name = names::expand(&assembly.target().name, &recipe.name, about);
                let path = |name: &str| home().join(format!("{name}.{}", assembly.ending()));
                let key = |name: &str| path(name).to_string_lossy().to_lowercase();
                let free = free(&name, &assembly.target().existing, |name| taken.contains_key(&key(name)));
                if taken.contains_key(&key(&free)) {
                    let file = name_of(&path(&free));
                    problems.push(Problem::stop(format!(
                        "two deliveries would both write {file}; give them other names or folders"
                    )));
                }
                taken.insert(key(&free), usize::MAX);
                path(&free)
            }
            FinishingTask::Check => files,
            FinishingTask::Archive => files.join("SHA256SUMS"),
            FinishingTask::Course => home().join("index.html"),
            FinishingTask::Zip => {
                let name = format!("{}.zip", name_of(&files));
                files.parent().unwrap_or(&files).join(name)
            }
        };
        clashes.push(path);
    }
    clashes
}

/// Whether the disk that holds `folder` has room for about `bytes`; a warning where it has not.
pub fn room(folder: &Path, bytes: u64) -> Option<Problem> {
    let there = folder.ancestors().find(|p| p.exists())?;
    let free = free_bytes(there)?;
    let message =
        format!("The results need about {}, the disk has {} left.", bytes_text(bytes), bytes_text(free));
    let problem = Problem { stops: free < bytes, message, mends: Vec::new() };
    (free < bytes + 100_000_000).then(|| problem.or("Another folder", Way::Folder))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Decided;
    use crate::preflight::plan;

    fn sources(names: &[&str]) -> Vec<Source> {
        names
            .iter()
            .map(|n| Source { path: Path::new("/shoot").join(n), facts: None, decided: Decided::default() })
            .collect()
    }

    fn recipe(name: &str, existing: &str) -> Recipe {
        let mut recipe = Recipe::new("Web: small");
        let one = Pictures { name: name.into(), existing: existing.into(), ..Pictures::default() };
        recipe.deliveries = vec![one.into()];
        recipe
    }

    #[test]
    fn results_go_beside_their_originals_or_keep_their_subfolders() {
        let all = sources(&["a.jpg", "card/b.JPG"]);
        let planning = plan(&recipe("{stem}-web", "fail"), &all, Path::new("/shoot"), None);
        assert!(planning.problems.is_empty());
        let targets: Vec<_> = planning.pictures.iter().map(|p| p.target.to_str().unwrap()).collect();
        assert_eq!(targets, ["/shoot/Web- small/a-web.jpg", "/shoot/card/Web- small/b-web.jpg"]);
        let planning = plan(&recipe("{stem}", "fail"), &all, Path::new("/shoot"), Some(Path::new("/out")));
        let targets: Vec<_> = planning.pictures.iter().map(|p| p.target.to_str().unwrap()).collect();
        assert_eq!(targets, ["/out/a.jpg", "/out/card/b.jpg"]);
    }

    #[test]
    fn folders_have_fields_and_the_same_folder_can_be_meant() {
        let all = sources(&["a.jpg", "card/b.jpg"]);
        let of = |to: &str, folder: &str| {
            let one = Pictures {
                to: to.into(),
                folder: folder.into(),
                name: "{stem}-x".into(),
                ..Pictures::default()
            };
            let mut recipe = Recipe::new("Web");
            recipe.deliveries = vec![one.into()];
            let planning = plan(&recipe, &all, Path::new("/shoot"), None);
            planning.pictures.iter().map(|p| p.target.to_str().unwrap().to_owned()).collect::<Vec<_>>()
        };
        assert_eq!(of("same", ""), ["/shoot/a-x.jpg", "/shoot/card/b-x.jpg"]);
        assert_eq!(of("subfolder", "{recipe} {stem}"), ["/shoot/Web a/a-x.jpg", "/shoot/card/Web b/b-x.jpg"]);
        assert_eq!(of("/out/{recipe:lower}/{stem}", ""), ["/out/web/a/a-x.jpg", "/out/web/b/card/b-x.jpg"]);
    }

    #[test]
    fn two_results_with_one_name_are_found_before_anything_runs() {
        let all = sources(&["a.jpg", "A.png", "b.jpg"]);
        let problems = plan(&recipe("{stem}", "fail"), &all, Path::new("/shoot"), None).problems;
        assert!(
            problems[0].stops
                && problems[0].message.starts_with("a.jpg and A.png would both be written as A.jpg;")
        );
        // What the name has already is not advised.
        assert!(problems[0].message.ends_with("add {n:04} to the name"), "{}", problems[0].message);
        let problems = plan(&recipe("{camera}", "fail"), &all, Path::new("/shoot"), None).problems;
        assert!(problems[0].message.ends_with("add {n:04} or {stem} to the name"), "{}", problems[0].message);
        let planning = plan(&recipe("{stem}", "number"), &all, Path::new("/shoot"), None);
        let planned = planning.pictures;
        assert!(planning.problems.is_empty());
        assert!(planned[1].target.ends_with("A-2.jpg"), "{planned:?}");
    }

    #[test]
    fn an_original_is_never_a_target() {
        let all = sources(&["a.jpg", "b.jpg"]);
        let problems =
            plan(&recipe("{stem}", "replace"), &all, Path::new("/shoot"), Some(Path::new("/shoot"))).problems;
        assert!(problems[0].stops && problems[0].message.contains("over an original"));
    }
}
