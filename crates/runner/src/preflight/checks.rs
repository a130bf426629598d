//! What should be known before a run, each with what mends it.

use crate::files::file_names::name_of;
use crate::frame_context::{Decided, resolve_context};
use crate::preflight::input::Source;
use crate::preflight::output_paths::Planned;
use crate::preflight::problem::{Problem, Way, delivery, delivery_at, line};
use crate::render::{existing_file, variant};
use rallo_engine::lens;
use rallo_engine::{Size, registry};
use rallo_recipe::{FrameContext, RampFrame, Recipe, ResolveContext, names};
use serde_json::json;
use std::collections::{BTreeMap, HashMap};
use std::path::Path;

/// What is known beside recipe and pictures.
#[derive(Clone, Debug, Default)]
pub struct About {
    /// The lens of the picture the recipe was recorded on.
    pub lens: Option<String>,
    /// The recipe's version, and the one last looked at as a proof.
    pub versions: Option<(i64, i64)>,
}

/// Everything that should be known before `recipe` runs over `sources`, which will be written as `planned`.
pub fn warnings(recipe: &Recipe, sources: &[Source], planned: &[Planned], about: &About) -> Vec<Problem> {
    let subjects: Vec<ResolveContext> = sources
        .iter()
        .enumerate()
        .map(|(i, s)| resolve_context(&s.path, s.facts.as_ref(), &s.decided, i + 1))
        .collect();
    let mut findings = done_before(recipe, sources);
    findings.extend(names_changed(recipe, sources, &subjects, planned));
    findings.extend(smaller_than_asked(recipe, sources, &subjects));
    findings.extend(other_lenses(recipe, &subjects, sources, about));
    findings.extend(proportions(recipe));
    findings.extend(mixed_sizes(recipe, planned));
    findings.extend(there_already(recipe, sources, planned));
    findings.extend(carried(recipe, sources));
    findings.extend(without_profile(recipe, sources));
    findings.extend(lost_marks(recipe, sources));
    if let Some((version, seen)) = about.versions.filter(|(v, seen)| seen < v) {
        findings.push(
            Problem::note(format!(
                "The recipe was changed since its proof: version {seen} was looked at, this is version {version}."
            ))
            .or("Look at the proof", Way::Go { to: "/proof" }),
        );
    }
    findings
}

fn file(source: &Source) -> String {
    name_of(&source.path)
}

/// `a.jpg`, or `a.jpg and 11 more`.
fn some(pictures: &[usize], sources: &[Source]) -> String {
    let first = pictures.first().map(|i| file(&sources[*i])).unwrap_or_default();
    match pictures.len() {
        0 | 1 => first,
        2 => format!("{first} and one more"),
        n => format!("{first} and {} more", n - 1),
    }
}

/// Results of earlier runs among the pictures, and what would be done to them a second time.
fn done_before(recipe: &Recipe, sources: &[Source]) -> Vec<Problem> {
    let mut findings = Vec::new();
    let mut reported: Vec<usize> = Vec::new();
    for (step, word) in registry().iter().filter_map(|kind| Some((kind.info, kind.info.facts.once?))) {
        let id = step.id;
        let Some(at) = recipe.steps.iter().position(|l| l.on && l.id == id) else { continue };
        let done = |s: &Source| s.facts.as_ref().is_some_and(|f| f.done.iter().any(|d| d == id));
        let pictures: Vec<usize> = (0..sources.len()).filter(|i| done(&sources[*i])).collect();
        if pictures.is_empty() {
            continue;
        }
        reported.extend(&pictures);
        let message = format!(
            "An earlier run has {word} {} already; line {} would do it a second time.",
            some(&pictures, sources),
            at + 1
        );
        let leave = if pictures.len() == 1 { "Leave it out" } else { "Leave them out" };
        let mut problem = Problem::note(message);
        if pictures.len() < sources.len() {
            problem = problem.or(leave, Way::LeaveOut { pictures });
        }
        findings.push(problem.or(format!("Switch line {} off", at + 1), line(at, "on", json!(false))));
    }
    let results = |i: &usize| sources[*i].facts.as_ref().is_some_and(|f| !f.done.is_empty());
    let pictures: Vec<usize> = (0..sources.len()).filter(results).filter(|i| !reported.contains(i)).collect();
    if !pictures.is_empty() && pictures.len() < sources.len() {
        let what = if pictures.len() == 1 { "is a result" } else { "are results" };
        let message = format!("{} {what} of an earlier run.", some(&pictures, sources));
        findings.push(Problem::note(message).or("Leave out results", Way::LeaveOut { pictures }));
    }
    findings
}

/// Names that are not as the template says, because a file system would not take them.
fn names_changed(
    recipe: &Recipe,
    sources: &[Source],
    subjects: &[ResolveContext],
    planned: &[Planned],
) -> Vec<Problem> {
    let sized = |i: usize| {
        let size = planned.get(i).and_then(|p| p.size).map_or((0, 0), |s| (s.width, s.height));
        let known = subjects[i].clone();
        let frame = FrameContext { width: size.0, height: size.1, ..known.frame };
        ResolveContext { frame, ..known }
    };
    let files = recipe.files();
    let of = |at: usize| if files.len() > 1 { format!(" in delivery {}", at + 1) } else { String::new() };
    let mut findings = Vec::new();
    for (at, one) in &files {
        let changed = |i| Some((i, names::changed(&one.name, &recipe.name, &sized(i))?));
        let changed: Vec<(usize, names::Changed)> = (0..sources.len()).filter_map(changed).collect();
        let Some((first, how)) = changed.first() else { continue };
        let name = format!("The name for {}{}", file(&sources[*first]), of(*at));
        let more =
            if changed.len() > 1 { format!(" ({} names in all)", changed.len()) } else { String::new() };
        let message = match how {
            names::Changed::Cut => format!("{name} is longer than file systems take and is cut{more}."),
            names::Changed::Characters => format!(
                "{name} has characters that not every file system takes; a line stands for them{more}."
            ),
        };
        let number = delivery_at(*at, "name", json!("{n:04}"));
        findings.push(Problem::note(message).or("Number them instead", number));
    }
    findings
}

/// Pictures that have fewer pixels than a line makes of the others.
fn smaller_than_asked(recipe: &Recipe, sources: &[Source], subjects: &[ResolveContext]) -> Vec<Problem> {
    let mut findings = Vec::new();
    for (at, of) in recipe.steps.iter().enumerate().filter(|(_, l)| l.on && l.id == "resize") {
        let values = of.step.values();
        if values["enlarge"] == json!(true) {
            continue;
        }
        let Ok(larger) = recipe.answered(&[(at, "enlarge".into(), json!(true))]) else { continue };
        let size = |recipe: &Recipe, i: usize| recipe.layout(&subjects[i]).ok().map(|p| p.size());
        let is_small = |i: &usize| {
            sources[*i].facts.is_some()
                && size(recipe, *i).zip(size(&larger, *i)).is_some_and(|(a, b)| a != b)
        };
        let pictures: Vec<usize> = (0..sources.len()).filter(is_small).collect();
        if pictures.is_empty() {
            continue;
        }
        let message = format!(
            "{} {} fewer pixels than line {} asks for and {} as {} after the lines before.",
            some(&pictures, sources),
            if pictures.len() == 1 { "has" } else { "have" },
            at + 1,
            if pictures.len() == 1 { "stays" } else { "stay" },
            if pictures.len() == 1 { "it is" } else { "they are" },
        );
        let mut problem = Problem::note(message).or("Enlarge them", line(at, "enlarge", json!(true)));
        if pictures.len() < sources.len() {
            problem = problem.or("Leave them out", Way::LeaveOut { pictures });
        }
        findings.push(problem);
    }
    findings
}

/// Values of a lens line hold for the lens of the sample.
fn other_lenses(
    recipe: &Recipe,
    subjects: &[ResolveContext],
    sources: &[Source],
    about: &About,
) -> Option<Problem> {
    let lens = about.lens.as_ref()?;
    let at = recipe.steps.iter().position(|l| l.on && l.id == "lens" && l.when.is_none())?;
    let other = |i: &usize| subjects[*i].frame.lens.as_ref() != Some(lens);
    let pictures: Vec<usize> = (0..subjects.len()).filter(other).collect();
    if pictures.is_empty() {
        return None;
    }
    let message = format!(
        "Line {} was set on a picture of the lens {lens}; {} {} another lens, or none that is named.",
        at + 1,
        some(&pictures, sources),
        if pictures.len() == 1 { "has" } else { "have" },
    );
    let quoted = lens.replace('"', "");
    let only = line(at, "when", json!(format!("lens is \"{quoted}\"")));
    Some(Problem::note(message).or(format!("Line {} only for {lens}", at + 1), only))
}

/// A proportion that a crop makes and a later size does not have.
fn proportions(recipe: &Recipe) -> Vec<Problem> {
    let mut findings = Vec::new();
    let on = |id: &'static str| recipe.steps.iter().enumerate().filter(move |(_, l)| l.on && l.id == id);
    for (at, crop) in on("crop") {
        let text = crop.step.values()["proportion"].as_str().unwrap_or_default().to_owned();
        let parts = text.split_once(':').and_then(|(w, h)| Some((w.parse().ok()?, h.parse().ok()?)));
        let Some((w, h)) = parts.filter(|(w, h): &(f64, f64)| *w > 0.0 && *h > 0.0) else { continue };
        for (then, resize) in on("resize").filter(|(then, _)| *then > at) {
            let values = resize.step.values();
            for kind in ["fill", "exact"] {
                let Some([bw, bh]) = serde_json::from_value::<[f64; 2]>(values[kind].clone()).ok() else {
                    continue;
                };
                // A crop turns its proportion with the picture; either way round is meant.
                let differs = |a: f64, b: f64| (a / b - 1.0).abs() > 0.01;
                if differs(w / h, bw / bh) && differs(h / w, bw / bh) {
                    let what = if kind == "fill" { "cuts off more" } else { "stretches the picture" };
                    let message = format!(
                        "Line {} crops to {text}, but the {bw} × {bh} pixels of line {} have another proportion: it {what}.",
                        at + 1,
                        then + 1
                    );
                    let by = divisor(bw as u64, bh as u64).max(1) as f64;
                    let proportion = format!("{}:{}", bw / by, bh / by);
                    let label = format!("Crop to {proportion}");
                    findings
                        .push(Problem::note(message).or(label, line(at, "proportion", json!(proportion))));
                }
            }
        }
    }
    findings
}

/// The greatest common divisor.
fn divisor(a: u64, b: u64) -> u64 {
    if b == 0 { a } else { divisor(b, a % b) }
}

/// Numbered results of several sizes are no clip.
fn mixed_sizes(recipe: &Recipe, planned: &[Planned]) -> Option<Problem> {
    if !recipe.files().first()?.1.name.contains("{n") {
        return None;
    }
    let mut sizes: HashMap<(u32, u32), Vec<usize>> = HashMap::new();
    for (i, Size { width, height }) in planned.iter().enumerate().filter_map(|(i, p)| Some((i, p.size?))) {
        sizes.entry((width, height)).or_default().push(i);
    }
    let most = sizes.iter().max_by_key(|(size, pictures)| (pictures.len(), **size))?;
    let (most, count) = (*most.0, most.1.len());
    let mut others: Vec<usize> =
        sizes.iter().filter(|(s, _)| **s != most).flat_map(|(_, a)| a.clone()).collect();
    if others.is_empty() {
        return None;
    }
    others.sort_unstable();
    let message = format!(
        "The results are numbered and of {} sizes ({count} have {} × {}): a video editor takes only frames of one size as a clip.",
        sizes.len(),
        most.0,
        most.1
    );
    let label = format!("Leave out the {} others", others.len());
    Some(Problem::note(message).or(label, Way::LeaveOut { pictures: others }))
}

/// Marks of values that change over the sequence whose frames are not among those of the run.
fn lost_marks(recipe: &Recipe, sources: &[Source]) -> Option<Problem> {
    if !recipe.has_ramps() {
        return None;
    }
    let frames: Vec<RampFrame> = sources.iter().map(|s| RampFrame { name: file(s), taken: None }).collect();
    let lost = recipe.lost_marks(&frames);
    let (line, name) = lost.first()?;
    let more = if lost.len() > 1 { format!(", and {} more are not", lost.len() - 1) } else { String::new() };
    Some(Problem::note(format!(
        "line {} has a mark at {name}, which is not among these frames{more}: it counts for nothing",
        line + 1
    )))
}

/// Pictures for which a line looks for a lens profile and finds none.
fn without_profile(recipe: &Recipe, sources: &[Source]) -> Option<Problem> {
    let line = recipe.steps.iter().position(|line| line.on && line.id == "lens_profile")?;
    let named = recipe.steps[line].step.values()["lens"].as_str().unwrap_or_default().to_owned();
    let mut lenses: Vec<String> = Vec::new();
    let mut without = Vec::new();
    for (i, source) in sources.iter().enumerate() {
        let Some(facts) = &source.facts else { continue };
        let taken = facts.camera.taken_with();
        if lens::find(&taken, &named).is_none() {
            without.push(i);
            let name = taken.lens.unwrap_or_else(|| "no lens named".into());
            if !lenses.contains(&name) {
                lenses.push(name);
            }
        }
    }
    if without.is_empty() {
        return None;
    }
    let (count, stays) = match without.len() {
        1 => ("1 picture has".to_owned(), "stays as it is"),
        many => (format!("{many} pictures have"), "stay as they are"),
    };
    lenses.truncate(4);
    let message = format!(
        "{count} no lens profile ({}) and {stays} there. Line {} can name the lens; or put a profile into the folder lens-profiles beside the program's data and start it again.",
        lenses.join(", "),
        line + 1
    );
    Some(Problem::note(message).or("Leave them out", Way::LeaveOut { pictures: without }))
}

/// What a delivery of camera raw as raw leaves out.
fn as_raw(recipe: &Recipe, at: usize, shaped: bool, sources: &[Source]) -> Vec<Problem> {
    let is_raw = |s: &Source| s.facts.as_ref().is_some_and(|f| f.format == rallo_media::Format::Raw);
    let others = sources.iter().filter(|s| !is_raw(s)).count();
    let mut findings = Vec::new();
    if others > 0 {
        let what = match others {
            1 => "1 picture is no camera raw and goes along as it is".to_owned(),
            many => format!("{many} pictures are no camera raw and go along as they are"),
        };
        findings.push(Problem::note(format!("{what} with delivery {}.", at + 1)));
    }
    let is_in = |line: &rallo_recipe::Line| {
        ["denoise", "data"].contains(&line.id) || (shaped && line.kind().info.facts.shapes)
    };
    if recipe.steps.iter().any(|line| line.on && !is_in(line)) {
        let and = if shaped { ", and what shapes the picture," } else { "" };
        findings.push(Problem::note(format!(
            "Delivery {} hands on raw: of the lines only Denoise{and} is in its files, and Denoise only where it comes first.",
            at + 1
        )));
    }
    findings
}

/// Pixels that could be carried over, and lines that do not apply where they are.
fn carried(recipe: &Recipe, sources: &[Source]) -> Vec<Problem> {
    let mut findings = Vec::new();
    for (at, one) in recipe.files() {
        let to = |format: &str| delivery_at(at, "format", json!(format));
        let bare =
            one.long_edge.is_none() && one.widths.is_empty() && one.sharpen == 0.0 && one.lines.is_empty();
        let same = |s: &Source| {
            s.facts.as_ref().is_some_and(|f| format!("{:?}", f.format).eq_ignore_ascii_case(&one.format))
        };
        if one.is_dng() {
            findings.extend(as_raw(recipe, at, one.shaped, sources));
        } else if one.is_carried() && !one.is_copy() && (recipe.changes_pixels() || !bare) {
            let what = "change pixels, and delivery";
            findings.push(
                Problem::note(format!(
                    "Lines {what} {} carries the originals' pixels over as they are: its files do not have what the lines do.",
                    at + 1
                ))
                .or("Encode them as JPEG", to("jpeg")),
            );
        } else if !one.is_carried()
            && one.frame.is_none()
            && bare
            && one.limit.is_none()
            && one.profile.is_none()
            && !recipe.changes_pixels()
            && !sources.is_empty()
            && sources.iter().all(same)
        {
            findings.push(
                Problem::note(format!(
                    "No line changes pixels, and delivery {} writes the format the originals have: they would be encoded again for nothing.",
                    at + 1
                ))
                .or("Carry the pixels over as they are", to("as it is")),
            );
        }
    }
    findings
}

/// Whether two files are of the same bytes.
fn same_bytes(a: &Path, b: &Path) -> bool {
    let length = |p: &Path| p.metadata().ok().map(|m| m.len());
    let hash = |p: &Path| rallo_media::file_hash(p).ok();
    length(a).is_some() && length(a) == length(b) && hash(a) == hash(b)
}

/// Files that are looked into to tell what stands where results would go.
const LOOKED_INTO: usize = 400;

/// What stands where results would go.
fn there_already(recipe: &Recipe, sources: &[Source], planned: &[Planned]) -> Vec<Problem> {
    let variants = variant::variants(recipe);
    let results = planned.iter().enumerate().flat_map(|(i, p)| {
        p.all().zip(&variants).map(move |((path, _), one)| (i, path, one)).collect::<Vec<_>>()
    });
    let there: Vec<_> = results.filter(|(_, path, _)| path.exists()).collect();
    // By what stands there, and what the delivery says of that.
    let mut kinds: BTreeMap<(existing_file::There, &str), usize> = BTreeMap::new();
    for (i, path, one) in there.iter().take(LOOKED_INTO) {
        let decided: &Decided = &sources[*i].decided;
        let about = resolve_context(&planned[*i].source, sources[*i].facts.as_ref(), decided, i + 1);
        // A plain copy bears no mark: it is known by its bytes.
        let is_copy = one.delivery.is_carried() && same_bytes(path, &sources[*i].path);
        let kind = if is_copy {
            existing_file::There::Same
        } else {
            existing_file::there(recipe, one, path, decided.shift, &about)
        };
        *kinds.entry((kind, &one.delivery.existing)).or_default() += 1;
    }
    let of = if there.len() > LOOKED_INTO {
        format!(" (of the first {LOOKED_INTO} looked at, of {} that exist)", there.len())
    } else {
        String::new()
    };
    let results = |n: usize| if n == 1 { "One result is".to_owned() } else { format!("{n} results are") };
    let mut findings = Vec::new();
    for ((kind, existing), n) in kinds {
        let fails = existing == "fail";
        let number = || delivery("existing", json!("number"));
        findings.push(match kind {
            existing_file::There::Same => Problem::note(format!(
                "{} there already, made by this recipe; where the original is unchanged it is skipped{of}.",
                results(n)
            )),
            existing_file::There::Result if fails => Problem::note(format!(
                "{} there already, of another recipe or with other values; those pictures will fail{of}.",
                results(n)
            ))
            .or("Replace the older results", delivery("existing", json!("replace")))
            .or("Give the new ones a number", number()),
            existing_file::There::Other if existing != "number" => Problem::note(format!(
                "{} of that name {} there already and {} no result; those pictures will fail{of}.",
                if n == 1 { "One file".into() } else { format!("{n} files") },
                if n == 1 { "is" } else { "are" },
                if n == 1 { "is" } else { "are" },
            ))
            .or("Give the results a number", number())
            .or("Another folder", Way::Folder),
            _ => continue,
        });
    }
    findings
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_media::{CameraData, Facts, Format};
    use serde_json::Value;

    fn source(name: &str, (width, height): (u32, u32), lens: &str, done: &[&str]) -> Source {
        let facts = Facts {
            path: name.into(),
            format: Format::Jpeg,
            width,
            height,
            bits: 8,
            profile: "sRGB".into(),
            bytes: 1,
            rating: 0,
            keywords: Vec::new(),
            notes: Vec::new(),
            done: done.iter().map(|d| (*d).to_owned()).collect(),
            camera: CameraData { lens: Some(lens.into()), ..CameraData::default() },
        };
        Source { path: Path::new("/p").join(name), facts: Some(facts), decided: Decided::default() }
    }

    fn recipe(steps: Value, name: &str) -> Recipe {
        let value = json!({"format": "rallo-recipe", "version": 1, "name": "Web", "steps": steps,
            "deliveries": [{"kind": "pictures", "name": name}]});
        Recipe::from_value(&value).unwrap()
    }

    fn told(recipe: &Recipe, sources: &[Source], about: &About) -> Vec<Problem> {
        let crate::preflight::output_paths::Planning { pictures: planned, problems, .. } =
            crate::preflight::plan(recipe, sources, Path::new("/p"), None);
        assert_eq!(problems, []);
        warnings(recipe, sources, &planned, about)
    }

    #[test]
    fn marks_of_other_sequences_are_told() {
        let all = [source("a.jpg", (300, 200), "50 mm", &[]), source("b.jpg", (300, 200), "50 mm", &[])];
        let steps = |marks: Value| json!([{"step": "exposure", "ramp": {"stops": marks}}]);
        let about = About { lens: Some("50 mm".into()), versions: Some((3, 3)) };
        assert_eq!(told(&recipe(steps(json!([[0, 0], ["b.jpg", 1]])), "{stem}"), &all, &about), []);
        let lost = told(&recipe(steps(json!([["b", 0], ["c.jpg", 1], ["d", 0.5]])), "{stem}"), &all, &about);
        assert_eq!(lost.len(), 1);
        assert!(
            lost[0]
                .message
                .starts_with("line 1 has a mark at c.jpg, which is not among these frames, and 1 more")
        );
    }

    #[test]
    fn nothing_is_said_where_all_is_well() {
        let all = [source("a.jpg", (3000, 2000), "50 mm", &[]), source("b.jpg", (2000, 3000), "50 mm", &[])];
        let steps = json!([{"step": "lens", "distortion": 2}, {"step": "crop", "proportion": "3:2"},
            {"step": "resize", "fill": [1200, 800]}]);
        let about = About { lens: Some("50 mm".into()), versions: Some((3, 3)) };
        assert_eq!(told(&recipe(steps, "{stem}"), &all, &about), []);
    }

    #[test]
    fn what_was_done_before_can_be_left_out_or_switched_off() {
        let all = [
            source("a.jpg", (900, 600), "x", &[]),
            source("b.jpg", (900, 600), "x", &["denoise"]),
            source("c.jpg", (900, 600), "x", &["crop"]),
        ];
        let recipe = recipe(json!([{"step": "exposure"}, {"step": "denoise"}]), "{stem}");
        let told = told(&recipe, &all, &About::default());
        assert_eq!(told.len(), 2);
        assert_eq!(
            told[0].message,
            "An earlier run has denoised b.jpg already; line 2 would do it a second time."
        );
        assert_eq!(told[0].mends[0].way, Way::LeaveOut { pictures: vec![1] });
        assert_eq!(told[0].mends[1].way, line(1, "on", json!(false)));
        assert_eq!(told[1].mends[0].way, Way::LeaveOut { pictures: vec![2] });
    }

    #[test]
    fn small_pictures_other_lenses_and_an_old_proof_are_named_with_what_mends_them() {
        let all = [source("a.jpg", (3000, 2000), "50 mm", &[]), source("b.jpg", (900, 600), "35 mm", &[])];
        let recipe = recipe(
            json!([{"step": "lens", "distortion": 2}, {"step": "resize", "long_edge": 1600}]),
            "{stem}",
        );
        let about = About { lens: Some("50 mm".into()), versions: Some((7, 5)) };
        let told = told(&recipe, &all, &about);
        let messages: Vec<&str> = told.iter().map(|p| p.message.as_str()).collect();
        assert_eq!(
            messages[0],
            "b.jpg has fewer pixels than line 2 asks for and stays as it is after the lines before."
        );
        assert!(messages[1].starts_with("Line 1 was set on a picture of the lens 50 mm; b.jpg has another"));
        assert!(messages[2].contains("version 5 was looked at, this is version 7"));
        // Each mend makes its warning go.
        for problem in &told[..2] {
            let Way::Line { line, param, value } = &problem.mends[0].way else { panic!() };
            let mended = recipe.answered(&[(*line, param.clone(), value.clone())]).unwrap();
            assert!(!self::told(&mended, &all, &about).iter().any(|p| p.message == problem.message));
        }
    }

    #[test]
    fn proportions_names_and_sizes_that_disagree_are_told() {
        let all = [
            source("a.jpg", (3000, 2000), "x", &[]),
            source("b.jpg", (3000, 2000), "x", &[]),
            source("c.jpg", (1000, 1000), "x", &[]),
        ];
        let of = recipe(
            json!([{"step": "crop", "proportion": "16:9"}, {"step": "resize", "exact": [800, 600]}]),
            "{stem}: one",
        );
        let told_of = told(&of, &all, &About::default());
        assert!(told_of[0].message.contains("characters that not every file system takes"));
        assert!(told_of[0].message.ends_with("(3 names in all)."));
        let stretched = told_of.iter().find(|p| p.message.contains("it stretches the picture")).unwrap();
        assert_eq!(stretched.mends[0].way, line(0, "proportion", json!("4:3")));
        let numbered = recipe(json!([{"step": "resize", "long_edge": 500}]), "frame-{n:04}");
        let told_of = told(&numbered, &all, &About::default());
        assert_eq!(told_of[0].mends[0].way, Way::LeaveOut { pictures: vec![2] });
        assert!(told_of[0].message.contains("2 have 500 × 333"));
    }

    #[test]
    fn what_stands_where_results_go_is_told_by_kind() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("Web")).unwrap();
        std::fs::write(folder.path().join("Web/a.jpg"), b"a letter").unwrap();
        let mut one = source("a.jpg", (900, 600), "x", &[]);
        one.path = folder.path().join("a.jpg");
        let recipe = recipe(json!([]), "{stem}");
        let planned = crate::preflight::plan(&recipe, &[one.clone()], folder.path(), None).pictures;
        let told = warnings(&recipe, &[one], &planned, &About::default());
        assert!(told[0].message.starts_with("One file of that name is there already and is no result"));
        assert_eq!(told[0].mends[0].way, delivery("existing", json!("number")));
    }

    #[test]
    fn each_delivery_is_looked_at_by_itself() {
        let folder = tempfile::tempdir().unwrap();
        let value = json!({"format": "rallo-recipe", "version": 1, "name": "Web", "deliveries": [
            {"kind": "pictures", "name": "{stem}", "folder": "one", "existing": "number"},
            {"kind": "pictures", "name": "{stem}?", "folder": "two"}]});
        let recipe = Recipe::from_value(&value).unwrap();
        let mut one = source("a.jpg", (600, 400), "L", &[]);
        one.path = folder.path().join("a.jpg");
        let plan =
            || crate::preflight::plan(&recipe, std::slice::from_ref(&one), folder.path(), None).pictures;
        let told =
            |planned: &[Planned]| warnings(&recipe, std::slice::from_ref(&one), planned, &About::default());
        let mut problems = told(&plan());
        problems.retain(|p| p.message.starts_with("The name"));
        assert_eq!(problems.len(), 1, "{problems:?}");
        let says = "The name for a.jpg in delivery 2 has characters that not every file system takes";
        assert!(problems[0].message.starts_with(says), "{}", problems[0].message);
        let Way::Delivery { at, values } = &problems[0].mends[0].way else { panic!() };
        assert_eq!((*at, &values["name"]), (Some(1), &json!("{n:04}")));
        // Somebody's file in the way of the first, which numbers, is no matter; in the way of the second it is.
        let targets: Vec<_> = plan()[0].all().map(|(path, _)| path.to_owned()).collect();
        for (path, more) in targets.iter().zip([0, 1]) {
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, "somebody's").unwrap();
            let problems = told(&[Planned { ..plan().remove(0) }]);
            let there = problems.iter().filter(|p| p.message.starts_with("One file of that name")).count();
            assert_eq!(there, more, "{problems:?}");
        }
    }
}
