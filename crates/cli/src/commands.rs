//! What each command does.

use crate::{Camera, Demo, Pick, Render, Serve};
use crate::{desktop, fleet};
use indicatif::{ProgressBar, ProgressStyle};
use rallo_demo::device::{Device, Faults, Settings};
use rallo_engine::{Kind, Param, Rect, registry};
use rallo_media::{Encoding, Extras, FileSource, bytes_text, video};
use rallo_recipe::Recipe;
use rallo_recipe::sentence::plain;
use rallo_runner::library::openable::DOCUMENT_ENDING;
use rallo_runner::library::{frame_light, lens_softness, scan};
use rallo_runner::preflight::input;
use rallo_runner::render::variant;
use rallo_runner::report::settings_sheet;
use rallo_runner::{Decided, Roots};
use rallo_shoot::{Document, Order, Sort, document};
use serde_json::{Value, json};
use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;

/// How a command ends: a status, or wrong use with a message.
pub type Ended = Result<ExitCode, String>;

/// Exit status when pictures failed.
pub const FAILED: u8 = 1;

/// Cores of the machine.
pub fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Writes JSON to the standard output; a reader that stops listening is no fault.
pub fn print(value: &impl serde::Serialize) -> Ended {
    let text = serde_json::to_string_pretty(value).map_err(|e| e.to_string())?;
    let _ = writeln!(std::io::stdout(), "{text}");
    Ok(ExitCode::SUCCESS)
}

/// A recipe from its file.
pub fn load(file: &Path) -> Result<Recipe, String> {
    let text = std::fs::read_to_string(file).map_err(|e| format!("cannot read {}: {e}", file.display()))?;
    Recipe::parse(&text).map_err(|faults| format!("{} cannot be used:\n{faults}", file.display()))
}

/// The log goes to the standard error.
pub fn log() {
    tracing_subscriber::fmt()
        .with_env_filter(
            tracing_subscriber::EnvFilter::try_from_default_env()
                .unwrap_or_else(|_| "info,sqlx=warn,async_nats=warn".into()),
        )
        .with_writer(std::io::stderr)
        .init();
}

/// `rallo serve`.
pub fn serve(args: &Serve, data: &Path) -> Ended {
    log();
    let roots = if args.roots.is_empty() { vec![desktop::pictures_folder()?] } else { args.roots.clone() };
    let roots = Roots::new(&roots).map_err(|e| e.to_string())?;
    let runtime = tokio::runtime::Runtime::new().map_err(|e| e.to_string())?;
    runtime.block_on(async {
        let helpers = fleet::helpers(args, data).await.map_err(|e| e.to_string())?;
        let options = rallo_web::Options {
            roots,
            data: data.to_owned(),
            listen: args.listen,
            port: args.port,
            hosts: args.hosts.clone(),
            locked: args.locked,
            secure: args.secure,
            workers: args.workers.unwrap_or_else(cores).max(1),
            hook: args.after_run.clone(),
            helpers: helpers.map(|fleet| Arc::new(fleet) as Arc<dyn rallo_runner::queue::Helpers>),
            leaves_pictures: args.leave_pictures,
        };
        let server = rallo_web::bind(options).await.map_err(|e| e.to_string())?;
        println!("Rallo is at http://{}/  (Ctrl-C stops it)", server.address());
        if let Some(broker) = &args.joins.fleet {
            // Whoever started it may have read enough.
            let _ = writeln!(
                std::io::stdout(),
                "Machines that help are given pictures by the broker at {broker}"
            );
        }
        if args.roots.is_empty() && !args.no_open {
            desktop::open_in_browser(&format!("http://{}/", server.address()));
        }
        server.run(shutdown()).await.map_err(|e| e.to_string())
    })?;
    Ok(ExitCode::SUCCESS)
}

pub async fn shutdown() {
    let mut term = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate()).ok();
    let ended = async {
        match &mut term {
            Some(signal) => drop(signal.recv().await),
            None => std::future::pending().await,
        }
    };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        () = ended => {}
    }
}

/// `rallo demo`.
pub fn demo(args: &Demo) -> Ended {
    let stills = rallo_demo::catalogue(args.seed).len();
    let template = "{bar:30} {pos} of {len} pictures drawn, {eta} left";
    if args.catalogue {
        let bar = bar(stills as u64, false, template);
        let drawn = rallo_demo::write_catalogue(&args.folder, args.seed, |_| bar.inc(1))
            .map_err(|e| e.to_string())?;
        bar.finish_and_clear();
        println!("{drawn} pictures in {}", args.folder.display());
        return Ok(ExitCode::SUCCESS);
    }
    let raws = rallo_demo::raw_catalogue(args.seed).len() + rallo_demo::raw_bed(args.seed).len();
    let total = stills + raws + rallo_demo::bed(args.seed).len() + rallo_demo::LESSON_FRAMES;
    let bar = bar(total as u64, false, template);
    let done = |_: &str| bar.inc(1);
    let (folder, seed) = (&args.folder, args.seed);
    let drawn = rallo_demo::write_catalogue(&folder.join("Spring catalogue"), seed, done)
        .and_then(|n| {
            Ok(n + rallo_demo::write_raw_catalogue(&folder.join("Spring catalogue raw"), seed, done)?)
        })
        .and_then(|n| Ok(n + rallo_demo::write_lesson(folder, seed, done)?))
        .and_then(|n| Ok(n + rallo_demo::write_bed(folder, seed, done)?))
        .and_then(|n| Ok(n + rallo_demo::write_raw_bed(folder, seed, done)?))
        .map_err(|e| e.to_string())?;
    write_beds(folder)?;
    let profiles = folder.join("lens-profiles.xml");
    std::fs::write(&profiles, rallo_demo::sensor::lens_profiles())
        .map_err(|e| format!("cannot write {}: {e}", profiles.display()))?;
    bar.finish_and_clear();
    println!("{drawn} pictures in {}", args.folder.display());
    Ok(ExitCode::SUCCESS)
}

/// The fixed camera's three cards as one shoot.
fn write_beds(folder: &Path) -> Result<(), String> {
    let places = ["Bed card 1", "Bed card 2", "Bed card 3"]
        .map(|card| document::Place { path: folder.join(card), deep: false });
    let order = Order { by: Sort::Time, ..Order::default() };
    let document = Document::new("Seed beds", &places, order, &[], folder);
    let file = folder.join(format!("Seed beds{DOCUMENT_ENDING}"));
    let text = serde_json::to_string_pretty(&document).unwrap_or_default();
    std::fs::write(&file, text + "\n").map_err(|e| format!("cannot write {}: {e}", file.display()))
}

/// `rallo camera`.
pub fn camera(args: &Camera) -> Ended {
    let jump = |text: &String| {
        let (frame, seconds) = text.split_once(':')?;
        Some((frame.trim().parse().ok()?, seconds.trim().parse().ok()?))
    };
    let jumps: Vec<(usize, i64)> = args
        .jump
        .iter()
        .map(|t| jump(t).ok_or_else(|| format!("--jump: expected FRAME:SECONDS, got {t}")))
        .collect::<Result<_, _>>()?;
    let faults = Faults { missed: args.missed.clone(), double: args.double.clone(), jump: jumps };
    let clock = args.clock.unwrap_or(Settings::default().clock);
    let settings =
        Settings { frames: args.frames, interval: args.interval, clock, first: args.first, faults };
    if !(args.every >= 0.0 && args.every <= 86_400.0) {
        return Err(format!("--every: expected 0 s to a day, got {}", args.every));
    }
    let mut device = Device::new(&args.folder, settings, 24).map_err(|e| e.to_string())?;
    let begin = std::time::Instant::now();
    let mut number = 0;
    while !device.is_done() {
        let due = std::time::Duration::from_secs_f64(args.every * f64::from(number));
        std::thread::sleep(due.saturating_sub(begin.elapsed()));
        for file in device.shoot().map_err(|e| e.to_string())? {
            println!("{}", file.display());
        }
        number += 1;
    }
    Ok(ExitCode::SUCCESS)
}

/// A progress bar; none where nobody looks.
pub fn bar(total: u64, quiet: bool, template: &str) -> ProgressBar {
    if quiet || !std::io::stderr().is_terminal() {
        return ProgressBar::hidden();
    }
    let style = ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar());
    ProgressBar::new(total).with_style(style)
}

/// `3.stops=0.5`: the line from 0, the parameter, the value; a value that is no JSON is taken for text.
fn answer(text: &str) -> Result<(usize, String, Value), String> {
    let parts = || {
        let (place, value) = text.split_once('=')?;
        let (line, param) = place.split_once('.')?;
        let line = line.trim().parse::<usize>().ok().filter(|n| *n > 0)?;
        let value = serde_json::from_str(value).unwrap_or_else(|_| json!(value));
        Some((line - 1, param.trim().to_owned(), value))
    };
    parts().ok_or_else(|| format!("--set: expected LINE.PARAMETER=VALUE such as 3.stops=0.5, got {text}"))
}

/// A path that does not depend on where the program was started.
pub fn absolute(path: &Path) -> Result<PathBuf, String> {
    std::path::absolute(path).map_err(|e| format!("{}: {e}", path.display()))
}

/// A recipe from its file with values of `--set`.
pub fn with_answers(file: &Path, answers: &[String]) -> Result<Recipe, String> {
    let answers = answers.iter().map(|text| answer(text)).collect::<Result<Vec<_>, _>>()?;
    load(file)?.answered(&answers).map_err(|e| format!("--set: {e}"))
}

/// The recipe with its values for this run, the folder, and its pictures.
pub fn picked(args: &Pick, data: &Path) -> Result<(Recipe, PathBuf, Vec<input::Source>), String> {
    let recipe = with_answers(&args.recipe, &args.answers)?;
    let (from, sources) = match (&args.from, &args.shoot) {
        (Some(from), _) => folder_sources(from, args.recursive)?,
        (None, Some(file)) => shoot_sources(file)?,
        (None, None) => return Err("say which pictures: --from DIR or --shoot FILE".into()),
    };
    let sources = match &args.sieve {
        Some(file) => through(sources, file, data)?,
        None => sources,
    };
    Ok((recipe, from, sources))
}

/// Those of the pictures that stay behind the passes of a file, in the order of time, as the passes saw them.
fn through(sources: Vec<input::Source>, file: &Path, data: &Path) -> Result<Vec<input::Source>, String> {
    let passes = crate::sequence::read_passes(file)?;
    let paths: Vec<PathBuf> = sources.iter().map(|s| s.path.clone()).collect();
    let measured = frame_light::measure(&paths, &[], Some(&frame_light::folder_of(data)), None, |_| {});
    let frames = crate::sequence::as_sieved(&measured, &passes);
    let found =
        rallo_shoot::sieve::sieve(&frames, &passes).map_err(|e| format!("{}: {e}", file.display()))?;
    let mut by_path: std::collections::HashMap<PathBuf, input::Source> =
        sources.into_iter().map(|s| (s.path.clone(), s)).collect();
    let stay: Vec<input::Source> = found.stay().filter_map(|i| by_path.remove(&measured[i].path)).collect();
    if stay.is_empty() {
        return Err(format!("{}: no picture stays behind these passes", file.display()));
    }
    Ok(stay)
}

type Sources = (PathBuf, Vec<input::Source>);

/// The pictures of a folder. Results of earlier runs may lie in it; they are left out by their mark.
fn folder_sources(from: &Path, recursive: bool) -> Result<Sources, String> {
    let cannot = |e| format!("cannot open {}: {e}", from.display());
    let from = from.canonicalize().map_err(cannot)?;
    let found = scan::scan(&from, recursive).map_err(cannot)?;
    if found.is_empty() {
        return Err(format!("no pictures that can be read in {}", from.display()));
    }
    let sources = found
        .into_iter()
        .map(|f| input::Source {
            facts: scan::facts(&f.path).ok(),
            path: f.path,
            decided: Decided::default(),
        })
        .collect();
    Ok((from, sources))
}

/// The frames of a shoot document that are in the work, in its order, with the corrections of their times.
fn shoot_sources(file: &Path) -> Result<Sources, String> {
    let named = |e: &dyn std::fmt::Display| format!("{}: {e}", file.display());
    let text = std::fs::read_to_string(file).map_err(|e| named(&e))?;
    let near = std::path::absolute(file).map_err(|e| named(&e))?;
    let document = Document::parse(&text, near.parent().unwrap_or(&near)).map_err(|e| named(&e))?;
    let choices: Vec<_> = document.frames.iter().map(|f| f.choice).collect();
    let work = document::in_the_work(&choices);
    let mut sources = Vec::new();
    for (i, entry) in document.frames.iter().enumerate().filter(|(i, _)| work[*i]) {
        let path = entry.path.canonicalize().unwrap_or_else(|_| entry.path.clone());
        let decided = document.marks(i).as_ref().map(Decided::from).unwrap_or_default();
        sources.push(input::Source { facts: scan::facts(&path).ok(), path, decided });
    }
    if sources.is_empty() {
        return Err(named(&"no frame in it is in the work"));
    }
    let places: Vec<PathBuf> =
        document.places.iter().map(|p| p.path.canonicalize().unwrap_or_else(|_| p.path.clone())).collect();
    let base = if places.is_empty() {
        scan::common_folder(sources.iter().map(|s| &s.path))
    } else {
        scan::common_folder(&places)
    };
    Ok((base, sources))
}

fn region(text: &str) -> Result<Rect, String> {
    let numbers: Vec<i64> = text.split(',').filter_map(|n| n.trim().parse().ok()).collect();
    match numbers[..] {
        [x, y, w, h] if x >= 0 && y >= 0 && w > 0 && h > 0 => Ok(Rect::new(x, y, w, h)),
        _ => Err(format!("--region: expected X,Y,W,H in whole pixels, got {text}")),
    }
}

/// `rallo render`.
pub fn render(args: &Render) -> Ended {
    if !(args.scale > 0.0 && args.scale <= 1.0) {
        return Err(format!("--scale: expected more than 0 and at most 1, got {}", args.scale));
    }
    let png = match args.out.extension().and_then(|e| e.to_str()).map(str::to_ascii_lowercase).as_deref() {
        Some("png") => true,
        Some("jpg" | "jpeg") => false,
        _ => return Err(format!("{}: expected a name ending in .jpg or .png", args.out.display())),
    };
    let recipe = load(&args.recipe)?;
    let part = args.region.as_deref().map(region).transpose()?;
    let failed = |e: String| {
        eprintln!("{}: {e}", args.picture.display());
        Ok(ExitCode::from(FAILED))
    };
    let source = match FileSource::open(&args.picture) {
        Ok(source) => source.decoding_by(&recipe.decode),
        Err(e) => return failed(e.to_string()),
    };
    let mut delivery = recipe.shown();
    delivery.format = if png { "png" } else { "jpeg" }.into();
    let about = rallo_runner::resolve_context(
        &args.picture,
        Some(&source.facts(&args.picture)),
        &Decided::default(),
        1,
    );
    let plan = match recipe.plan(&source, &about) {
        Ok(plan) if args.full_detail => plan.at_full_detail(),
        Ok(plan) => plan,
        Err(e) => return failed(e.to_string()),
    };
    let program = plan.program(args.scale);
    let whole = program.size().rect();
    let rect = part.unwrap_or(whole);
    let colours = delivery.colours(&plan);
    let rendered = if png && delivery.bits == 16 {
        program.render_16(&source, rect, &colours)
    } else {
        program.render(&source, rect, &colours)
    };
    let encoding: Encoding = variant::encoding(&delivery);
    let extras = Extras { icc: Some(colours.icc.clone()), ..Extras::default() };
    let bytes = rendered
        .map_err(|e| e.to_string())
        .and_then(|picture| rallo_media::encode(&picture, encoding, &extras).map_err(|e| e.to_string()));
    match bytes {
        Ok(bytes) => write_new(&args.out, &bytes),
        Err(e) => failed(e),
    }
}

/// `rallo frames`.
pub fn frames(clip: &Path, every: u32) -> Ended {
    let clip = absolute(clip)?;
    let folder = video::frames_folder(&clip);
    let count = video::take_out(&clip, &folder, every).map_err(|e| format!("{}: {e}", clip.display()))?;
    println!("{count} frames, in {}", folder.display());
    Ok(ExitCode::SUCCESS)
}

/// `rallo smaller`.
pub fn smaller(pdf: &Path, out: &Path, ppi: u32, quality: u8) -> Ended {
    let file = std::fs::read(pdf).map_err(|e| format!("cannot read {}: {e}", pdf.display()))?;
    let done = rallo_media::pdf::shrink::smaller(&file, ppi, quality)
        .map_err(|e| format!("{}: {e}", pdf.display()))?;
    if done.changed == 0 {
        println!(
            "Nothing could be gained: {} pictures are small enough; nothing was written.",
            done.pictures
        );
        return Ok(ExitCode::SUCCESS);
    }
    let ended = write_new(out, &done.bytes)?;
    println!(
        "{} of {} pictures made smaller: {} instead of {}.",
        done.changed,
        done.pictures,
        bytes_text(done.bytes.len() as u64),
        bytes_text(file.len() as u64)
    );
    Ok(ended)
}

/// `rallo inspect`.
pub fn inspect(picture: &Path, as_json: bool) -> Ended {
    let facts = match scan::facts(picture) {
        Ok(facts) => facts,
        Err(e) => {
            eprintln!("{}: {e}", picture.display());
            return Ok(ExitCode::from(FAILED));
        }
    };
    let value = serde_json::to_value(&facts).map_err(|e| e.to_string())?;
    if as_json {
        return print(&value);
    }
    for (key, value) in value.as_object().into_iter().flatten().filter(|(_, v)| !v.is_null()) {
        let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
        let text = if key == "shutter" { facts.camera.shutter_text().unwrap_or(text) } else { text };
        println!("{:<14}{text}", key.replace('_', " "));
    }
    Ok(ExitCode::SUCCESS)
}

/// `rallo lens`.
pub fn lens(from: &[PathBuf], keep: bool, as_json: bool, data: &Path) -> Ended {
    let pictures = crate::sequence::pictures(from)?;
    let bar = bar(pictures.len() as u64, as_json, "{bar:30} {pos} of {len} pictures looked at, {eta} left");
    let measured = lens_softness::measure(&pictures, |_| bar.inc(1));
    bar.finish_and_clear();
    if keep {
        let folder = data.join("lens-profiles");
        for lens in &measured {
            let Some(softness) = lens.softness else { continue };
            rallo_engine::lens::keep_softness(&folder, &lens.lens, softness)
                .map_err(|e| format!("cannot keep it in {}: {e}", folder.display()))?;
        }
    }
    if as_json {
        return print(&measured);
    }
    for lens in &measured {
        let told = match lens.softness {
            Some(s) => {
                format!("{:.2} ‰ of the long edge in the middle, {:.2} ‰ in the corners", s.middle, s.corner)
            }
            None => "too few clean edges, or none away from the middle; take more pictures".into(),
        };
        println!("{}: {told} ({} edges of {} pictures)", lens.lens, lens.edges, lens.pictures);
    }
    if measured.is_empty() {
        println!("None of {} pictures names its lens.", pictures.len());
    }
    Ok(ExitCode::SUCCESS)
}

/// `rallo recipe check`.
pub fn check(file: &Path) -> Ended {
    print!("{}", load(file)?.plain());
    Ok(ExitCode::SUCCESS)
}

/// `rallo recipe sheet`.
pub fn sheet(file: &Path, out: &Path, sample: Option<&Path>) -> Ended {
    let recipe = load(file)?;
    let pair = match sample {
        None => None,
        Some(picture) => {
            let fault = |e: String| format!("{}: {e}", picture.display());
            let source =
                FileSource::open(picture).map_err(|e| fault(e.to_string()))?.decoding_by(&recipe.decode);
            let about =
                rallo_runner::resolve_context(picture, Some(&source.facts(picture)), &Decided::default(), 1);
            Some(settings_sheet::pair(&recipe, &source, &about).map_err(fault)?)
        }
    };
    let day = jiff::Timestamp::now()
        .to_zoned_datetime(jiff::tz::TimeZone::system())
        .strftime("%-d %B %Y")
        .to_string();
    let bytes = settings_sheet::settings(&recipe, &day, pair).map_err(|e| e.to_string())?;
    write_new(out, &bytes)
}

/// Writes a file that is not there yet.
fn write_new(out: &Path, bytes: &[u8]) -> Ended {
    let cannot = |e: std::io::Error| format!("cannot write {}: {e}", out.display());
    let mut file = std::fs::File::create_new(out).map_err(cannot)?;
    file.write_all(bytes).map_err(cannot)?;
    Ok(ExitCode::SUCCESS)
}

fn parameter(param: &Param, default: &Value) -> Value {
    let (min, max) = param.kind.range();
    let mut described = json!({"name": param.name, "about": param.about, "kind": param.kind.names().1,
        "unit": param.unit, "min": min, "max": max, "default": default});
    match param.kind {
        Kind::Choice(all) => described["choices"] = json!(all),
        Kind::Rows(names, _) => described["columns"] = json!(names),
        _ => {}
    }
    described
}

/// `rallo steps`.
pub fn steps(as_json: bool) -> Ended {
    let steps: Vec<Value> = registry()
        .iter()
        .map(|kind| {
            let defaults = kind.defaults();
            let sentence = serde_json::from_str(kind.info.starter)
                .ok()
                .and_then(|values| kind.parse(&values).ok())
                .map(|step| rallo_recipe::Line::new(kind, step))
                .map(|line| plain(&line.parts(None)))
                .unwrap_or_default();
            let parameters: Vec<Value> = kind.params.iter().map(|p| parameter(p, &defaults[p.name])).collect();
            json!({"id": kind.info.id, "title": kind.info.title, "group": kind.info.group, "about": kind.info.about,
                "sentence": sentence, "words": kind.info.words,
                "starter": serde_json::from_str::<Value>(kind.info.starter).unwrap_or_default(), "parameters": parameters})
        })
        .collect();
    if as_json {
        return print(&Value::Array(steps));
    }
    let mut text = String::new();
    for kind in registry() {
        text += &format!("{} ({})\n  {}\n", kind.info.id, kind.info.group, kind.info.about);
        let defaults = kind.defaults();
        for param in kind.params {
            let p = parameter(param, &defaults[param.name]);
            let range = match (&p["min"], &p["max"], p.get("choices")) {
                (_, _, Some(choices)) => choices
                    .as_array()
                    .into_iter()
                    .flatten()
                    .filter_map(Value::as_str)
                    .collect::<Vec<_>>()
                    .join(" | "),
                (Value::Null, _, _) => p["kind"].as_str().unwrap_or_default().to_owned(),
                (min, Value::Null, _) => format!("{} from {min}", p["kind"].as_str().unwrap_or_default()),
                (min, max, _) => format!("{min} … {max}"),
            };
            let unit = if param.unit.is_empty() { String::new() } else { format!(" {}", param.unit) };
            text +=
                &format!("    {:<12} {range}{unit}, default {}. {}\n", param.name, p["default"], param.about);
        }
    }
    let _ = write!(std::io::stdout(), "{text}");
    Ok(ExitCode::SUCCESS)
}
