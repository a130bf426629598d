//! `rallo sequence`: the light of a sequence's frames, and which of them stay.

use crate::commands::{self, Ended, print};
use clap::{Args, Subcommand};
use indicatif::ProgressBar;
use rallo_engine::sequence::alignment::Freedom;
use rallo_engine::sequence::steadying::KnownBy;
use rallo_engine::step::is_part;
use rallo_engine::steps::sequence::hold_steady::HoldSteady;
use rallo_recipe::Recipe;
use rallo_runner::library::frame_alignment::{self, AlignedFrame};
use rallo_runner::library::frame_light::{self, Behind, MeasuredFrame};
use rallo_runner::library::scan;
use rallo_shoot::MeasuredArea;
use rallo_shoot::sieve::{Pass, SieveFrame, SwitchedPass, sieve, suggested};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// Which frames, and behind which lines of a recipe they are looked at.
#[derive(Args)]
pub struct Looked {
    /// Folders, with all that lies in them, or pictures.
    #[arg(required = true)]
    from: Vec<PathBuf>,
    /// A recipe behind whose lines frames are looked at, instead of as they are.
    #[arg(long, value_name = "FILE")]
    recipe: Option<PathBuf>,
    /// Behind so many of its lines; all of them without this.
    #[arg(long, value_name = "N", requires = "recipe")]
    until: Option<usize>,
    /// As JSON.
    #[arg(long)]
    json: bool,
}

impl Looked {
    /// The files, and the recipe where there is one.
    fn read(&self) -> Result<(Vec<PathBuf>, Option<Recipe>), String> {
        Ok((pictures(&self.from)?, self.recipe.as_deref().map(commands::load).transpose()?))
    }

    /// The lines of that recipe.
    fn behind<'a>(&self, recipe: Option<&'a Recipe>) -> Option<Behind<'a>> {
        recipe.map(|recipe| Behind { recipe, lines: self.until.unwrap_or(recipe.steps.len()) })
    }
}

/// Which frames, and what is measured of them.
#[derive(Args)]
pub struct Frames {
    #[command(flatten)]
    looked: Looked,
    /// A part of the picture that is measured too, as shares of its sides: X,Y,W,H.
    #[arg(long = "area", value_name = "X,Y,W,H", value_parser = part)]
    areas: Vec<MeasuredArea>,
}

/// `rallo sequence …`.
#[derive(Subcommand)]
pub enum SequenceCommand {
    /// Measure brightness, contrast and change of every frame, in the order of time.
    Measure(Frames),
    /// Send frames through passes: which stay, and which pass sets each of the others aside.
    Sieve {
        /// Which frames.
        #[command(flatten)]
        frames: Frames,
        /// The passes, as JSON.
        #[arg(long, value_name = "FILE", required_unless_present = "suggest")]
        passes: Option<PathBuf>,
        /// Suggest passes (the same light, no night, no fog, nothing in the way), and write them into this file, or tell them.
        #[arg(long, value_name = "FILE", num_args = 0..=1, conflicts_with = "passes")]
        suggest: Option<Option<PathBuf>>,
    },
    /// How every frame lies against one of them: what holding the picture steady goes by, in the order of time.
    Align(AlignArgs),
}

/// What is aligned, and how.
#[derive(Args)]
pub struct AlignArgs {
    #[command(flatten)]
    looked: Looked,
    /// How the camera may have moved.
    #[arg(long, value_parser = Freedom::WORDS, default_value = "turn")]
    freedom: String,
    /// Where in the sequence the frame lies that all others are laid on, per cent: 0 the first, 100 the last.
    #[arg(long, value_name = "PERCENT", default_value_t = 50.0, value_parser = percent)]
    reference: f64,
    /// The part of the picture that is trusted to stand still, as shares of its sides: X,Y,W,H.
    #[arg(long, value_name = "X,Y,W,H", value_parser = rectangle)]
    area: Option<[f64; 4]>,
    /// A part that is not trusted.
    #[arg(long, value_name = "X,Y,W,H", value_parser = rectangle)]
    ignore: Vec<[f64; 4]>,
}

fn percent(text: &str) -> Result<f64, String> {
    let number = text.parse().ok().filter(|n| (0.0..=100.0).contains(n));
    number.ok_or_else(|| "expected a number from 0 to 100".into())
}

fn rectangle(text: &str) -> Result<[f64; 4], String> {
    let numbers: Vec<f64> = text.split(',').filter_map(|n| n.trim().parse().ok()).collect();
    let area = <[f64; 4]>::try_from(numbers).ok().filter(|area| is_part(*area));
    area.ok_or_else(|| {
        "expected X,Y,W,H as shares of the picture's sides, inside it, such as 0.5,0,0.5,1".into()
    })
}

fn part(text: &str) -> Result<MeasuredArea, String> {
    rectangle(text).map(MeasuredArea::Rectangle)
}

/// Every picture in folders, and pictures.
pub fn pictures(from: &[PathBuf]) -> Result<Vec<PathBuf>, String> {
    let mut all = Vec::new();
    for path in from {
        let refused = |e: std::io::Error| format!("cannot read {}: {e}", path.display());
        if path.is_dir() {
            all.extend(scan::scan(path, true).map_err(refused)?.into_iter().map(|found| found.path));
        } else {
            std::fs::metadata(path).map_err(refused)?;
            all.push(path.clone());
        }
    }
    Ok(all)
}

fn measured(frames: &Frames, data: &Path) -> Result<Vec<MeasuredFrame>, String> {
    let (paths, recipe) = frames.looked.read()?;
    let behind = frames.looked.behind(recipe.as_ref());
    let bar: ProgressBar = commands::bar(
        paths.len() as u64,
        frames.looked.json,
        "{bar:30} {pos} of {len} frames measured, {eta} left",
    );
    let kept = frame_light::folder_of(data);
    let measured = frame_light::measure(&paths, &frames.areas, Some(&kept), behind, |_| bar.inc(1));
    bar.finish_and_clear();
    for frame in &measured {
        if let Err(e) = &frame.light {
            eprintln!("{}: {e}", frame.path.display());
        }
    }
    Ok(measured)
}

/// Frames as the sieve takes them; sharpness is looked for only where a pass goes by it.
pub fn as_sieved(measured: &[MeasuredFrame], passes: &[SwitchedPass]) -> Vec<SieveFrame> {
    let by_sharpness = passes.iter().any(|p| p.on && matches!(p.pass, Pass::Sharpness { .. }));
    let frame = |frame: &MeasuredFrame| SieveFrame {
        name: frame.path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default(),
        taken: frame.taken,
        light: frame.light.as_ref().ok().map(|(whole, _)| *whole),
        areas: frame.light.as_ref().map(|(_, areas)| areas.clone()).unwrap_or_default(),
        sharpness: by_sharpness.then(|| scan::sharpness(&frame.path)).flatten(),
        pixels: frame.mark.clone(),
    };
    measured.iter().map(frame).collect()
}

/// The passes of a file: a list, or an object that has it as `passes`.
pub fn read_passes(file: &Path) -> Result<Vec<SwitchedPass>, String> {
    let named = |e: &dyn std::fmt::Display| format!("{}: {e}", file.display());
    let text = std::fs::read_to_string(file).map_err(|e| named(&e))?;
    let mut value: Value = serde_json::from_str(&text).map_err(|e| named(&e))?;
    if let Some(list) = value.get_mut("passes") {
        value = list.take();
    }
    serde_json::from_value(value).map_err(|e| named(&e))
}

/// `rallo sequence measure`.
pub fn measure(frames: &Frames, data: &Path) -> Ended {
    let measured = measured(frames, data)?;
    if frames.looked.json {
        let entry = |frame: &MeasuredFrame| {
            let mut entry = json!({"file": frame.path, "taken": frame.taken});
            match &frame.light {
                Ok((whole, areas)) => {
                    let light = json!(whole);
                    entry.as_object_mut().into_iter().for_each(|map| {
                        map.extend(light.as_object().cloned().into_iter().flatten());
                        map.insert("areas".into(), json!(areas));
                    });
                }
                Err(e) => entry["problem"] = json!(e.to_string()),
            }
            entry
        };
        return print(&measured.iter().map(entry).collect::<Vec<_>>());
    }
    for frame in &measured {
        let Ok((light, _)) = &frame.light else { continue };
        let change = light.change.map_or_else(|| "-".to_owned(), |change| format!("{change:.2}"));
        let taken = frame.taken.map_or_else(|| "no time".to_owned(), |t| t.to_string());
        println!(
            "{:8.2} {:8.2} {change:>8}  {taken:<24} {}",
            light.brightness,
            light.contrast,
            frame.path.display()
        );
    }
    Ok(ended(&measured))
}

fn ended(measured: &[MeasuredFrame]) -> ExitCode {
    if measured.iter().any(|f| f.light.is_err()) {
        ExitCode::from(commands::FAILED)
    } else {
        ExitCode::SUCCESS
    }
}

/// `rallo sequence sieve`: through the passes of a file, or through those that are suggested.
pub fn sieved(frames: &Frames, passes: Option<&Path>, write: Option<&Path>, data: &Path) -> Ended {
    let given = passes.map(read_passes).transpose()?;
    let measured = measured(frames, data)?;
    let list = given.unwrap_or_else(|| suggested(&as_sieved(&measured, &[])));
    if let Some(file) = write {
        let text = serde_json::to_string_pretty(&json!({"passes": list})).map_err(|e| e.to_string())?;
        // A file of that name may hold passes somebody wrote.
        let wrong = |e: std::io::Error| match e.kind() {
            std::io::ErrorKind::AlreadyExists => {
                format!("{} is there already and was left as it is; name another file", file.display())
            }
            _ => format!("{}: {e}", file.display()),
        };
        let mut new = std::fs::File::create_new(file).map_err(wrong)?;
        std::io::Write::write_all(&mut new, text.as_bytes()).map_err(wrong)?;
    }
    let wrong = |e| format!("{}: {e}", passes.map_or_else(String::new, |p| p.display().to_string()));
    let found = sieve(&as_sieved(&measured, &list), &list).map_err(wrong)?;
    let stay: Vec<&PathBuf> = found.stay().map(|i| &measured[i].path).collect();
    let go = found.by.iter().zip(&measured).filter_map(|(by, frame)| Some(((*by)?, &frame.path)));
    if frames.looked.json {
        let go: Vec<Value> = go.map(|(pass, file)| json!({"file": file, "pass": pass})).collect();
        let told = json!({"stay": stay, "go": go});
        return print(&if passes.is_some() { told } else { json!({"passes": list, "stay": stay, "go": go}) });
    }
    let mut counts = vec![0; list.len()];
    go.for_each(|(pass, _)| counts[pass] += 1);
    for (i, count) in counts.into_iter().enumerate() {
        let pass = if passes.is_some() { String::new() } else { format!(", {}", json!(list[i])) };
        println!("pass {}: {count} go{pass}", i + 1);
    }
    println!("{} of {} stay", stay.len(), measured.len());
    Ok(ExitCode::SUCCESS)
}

/// `rallo sequence align`.
pub fn align(args: &AlignArgs) -> Ended {
    let (paths, recipe) = args.looked.read()?;
    let behind = args.looked.behind(recipe.as_ref());
    let hold = HoldSteady {
        freedom: serde_json::from_value(json!(args.freedom)).map_err(|e| e.to_string())?,
        reference: args.reference,
        area: args.area,
        ignore: args.ignore.clone(),
        ..HoldSteady::default()
    };
    let bar: ProgressBar = commands::bar(
        paths.len() as u64,
        args.looked.json,
        "{bar:30} {pos} of {len} frames aligned, {eta} left",
    );
    let frames = frame_alignment::align(&paths, &hold, behind, |_| bar.inc(1)).map_err(|e| e.to_string())?;
    bar.finish_and_clear();
    let word = |by: KnownBy| match by {
        KnownBy::Reference => "reference",
        KnownBy::Neighbours => "neighbours",
        KnownBy::Course => "course",
    };
    let failed = frames.iter().any(|f| f.lies.is_err());
    if args.looked.json {
        let entry = |frame: &AlignedFrame| match &frame.lies {
            Ok(lies) => json!({
                "file": frame.path, "taken": frame.taken, "matrix": lies.matrix, "known_by": word(lies.known_by),
                "error": lies.error, "share": lies.share,
            }),
            Err(e) => json!({"file": frame.path, "taken": frame.taken, "problem": e.to_string()}),
        };
        print(&frames.iter().map(entry).collect::<Vec<_>>())?;
    } else {
        for frame in &frames {
            match &frame.lies {
                Ok(lies) => {
                    let [a, b, x, d, _, y, ..] = lies.matrix;
                    let error = lies.error.map_or_else(|| "-".to_owned(), |error| format!("{error:.3}"));
                    let turn = (d - b).atan2(2.0 * a).to_degrees();
                    println!(
                        "{x:9.2} {y:9.2} {turn:8.3}° {error:>8}  {:<10} {}",
                        word(lies.known_by),
                        frame.path.display()
                    );
                }
                Err(e) => eprintln!("{}: {e}", frame.path.display()),
            }
        }
    }
    Ok(if failed { ExitCode::from(commands::FAILED) } else { ExitCode::SUCCESS })
}
