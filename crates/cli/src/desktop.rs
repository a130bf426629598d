//! `rallo desktop`: entries by the freedesktop Desktop Entry Specification 1.5, so that pictures can be opened with a recipe
//! from a file manager's menu, or dropped on its icon; and what such an entry runs.

use crate::commands::{self, Ended, FAILED};
use crate::{DesktopCommand, queue};
use rallo_job::{ItemState, RunState};
use rallo_recipe::{Recipe, names};
use rallo_runner::Decided;
use rallo_runner::library::scan;
use rallo_runner::preflight::{self, input, new_run};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};

/// Kinds of pictures that are read.
const TYPES: [&str; 11] = [
    "image/jpeg",
    "image/png",
    "image/tiff",
    "image/webp",
    "image/avif",
    "image/heif",
    "image/heic",
    "image/jxl",
    "image/gif",
    "image/bmp",
    "inode/directory",
];

/// The line that tells our entries from others.
const MARK: &str = "X-Rallo-Recipe=";

/// `rallo desktop …`.
pub fn desktop(command: &DesktopCommand, data: &Path) -> Ended {
    match command {
        DesktopCommand::Install { recipes, applications } => {
            install(recipes, &folder(applications.as_deref())?, data)
        }
        DesktopCommand::Remove { applications } => remove(&folder(applications.as_deref())?),
        DesktopCommand::Open { recipe, pictures } => open(recipe, pictures, data),
    }
}

fn folder(given: Option<&Path>) -> Result<PathBuf, String> {
    match given {
        Some(folder) => commands::absolute(folder),
        None => directories::BaseDirs::new()
            .map(|d| d.data_dir().join("applications"))
            .ok_or_else(|| "cannot tell where menu entries are kept; say --applications DIR".into()),
    }
}

/// Where the desktop keeps pictures (XDG user directories); made where it is missing.
pub fn pictures_folder() -> Result<PathBuf, String> {
    let dirs = directories::UserDirs::new();
    let folder = dirs
        .as_ref()
        .map(|d| d.picture_dir().map_or_else(|| d.home_dir().join("Pictures"), Path::to_owned))
        .ok_or("cannot tell where pictures are kept; say --root DIR")?;
    std::fs::create_dir_all(&folder)
        .map_err(|e| format!("{} cannot be opened: {e}; say --root DIR", folder.display()))?;
    Ok(folder)
}

/// Shows an address in the browser of the desktop; where there is none, the address was printed.
pub fn open_in_browser(address: &str) {
    let mut command = Command::new("xdg-open");
    command.arg(address).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    // It is not waited for: a browser may stay in the foreground.
    let _ = command.spawn();
}

/// An argument of `Exec`, quoted.
fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '`' | '$' => out += &format!("\\\\{c}"),
            '\\' => out += "\\\\\\\\",
            '%' => out += "%%",
            _ => out.push(c),
        }
    }
    out + "\""
}

/// A value of an entry: one line, with a backslash doubled.
fn value(text: &str) -> String {
    text.replace('\\', "\\\\").replace(['\n', '\r', '\t'], " ")
}

/// An entry that runs a recipe.
fn entry(program: &Path, data: &Path, file: &Path, recipe: &Recipe) -> String {
    let exec = [program, Path::new("--data"), data, Path::new("desktop"), Path::new("open"), file]
        .map(|p| quoted(&p.to_string_lossy()))
        .join(" ");
    format!(
        "[Desktop Entry]\nType=Application\nVersion=1.5\nName={}\nComment={}\nExec={exec} %F\nTerminal=false\n\
         Categories=Graphics;Photography;\nMimeType={};\n{MARK}{}\n",
        value(&format!("{} (Rallo)", recipe.name)),
        value(&format!("Run the recipe {} on these pictures; the originals stay as they are", recipe.name)),
        TYPES.join(";"),
        value(&file.to_string_lossy()),
    )
}

fn install(recipes: &[PathBuf], folder: &Path, data: &Path) -> Ended {
    let program = std::env::current_exe().map_err(|e| format!("cannot tell where this program is: {e}"))?;
    let data = commands::absolute(data)?;
    let cannot = |e: std::io::Error| format!("cannot write to {}: {e}", folder.display());
    std::fs::create_dir_all(folder).map_err(cannot)?;
    for file in recipes {
        let recipe = commands::load(file)?;
        let file = commands::absolute(file)?;
        let slug: String = names::safe(&recipe.name)
            .chars()
            .map(|c| if c.is_alphanumeric() { c.to_ascii_lowercase() } else { '-' })
            .collect();
        let to = folder.join(format!("rallo-{slug}.desktop"));
        let other = std::fs::read_to_string(&to).is_ok_and(|text| !text.contains(MARK));
        if other {
            return Err(format!("{} is there already and not ours; it stays as it is", to.display()));
        }
        std::fs::write(&to, entry(&program, &data, &file, &recipe)).map_err(cannot)?;
        println!("{}", to.display());
    }
    refresh(folder);
    Ok(ExitCode::SUCCESS)
}

fn remove(folder: &Path) -> Ended {
    let mut gone = 0;
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        let ours = path.extension().is_some_and(|e| e == "desktop")
            && std::fs::read_to_string(&path).is_ok_and(|text| text.contains(MARK));
        if ours {
            std::fs::remove_file(&path).map_err(|e| format!("cannot remove {}: {e}", path.display()))?;
            gone += 1;
        }
    }
    refresh(folder);
    println!("{gone} menu entries are gone.");
    Ok(ExitCode::SUCCESS)
}

/// Lets the desktop look again, where it keeps an index.
fn refresh(folder: &Path) {
    quietly(Command::new("update-desktop-database").arg(folder));
}

/// A helper of the desktop that may not be there.
fn quietly(command: &mut Command) {
    let _ = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status();
}

/// A picture as a file manager names it.
fn path_of(text: &str) -> Result<PathBuf, String> {
    let Some(address) = text.strip_prefix("file://") else { return commands::absolute(Path::new(text)) };
    let path = address.find('/').map_or(address, |at| &address[at..]);
    let bytes = path.as_bytes();
    let (mut out, mut i) = (Vec::new(), 0);
    while i < bytes.len() {
        let hex = bytes.get(i + 1..i + 3).filter(|_| bytes[i] == b'%');
        let code = hex.and_then(|h| std::str::from_utf8(h).ok()).and_then(|h| u8::from_str_radix(h, 16).ok());
        out.push(code.unwrap_or(bytes[i]));
        i += if code.is_some() { 3 } else { 1 };
    }
    String::from_utf8(out).map(PathBuf::from).map_err(|_| format!("{text} is no file's address"))
}

fn open(file: &Path, pictures: &[String], data: &Path) -> Ended {
    let done = opened(file, pictures, data);
    let (title, text) = match &done {
        Ok((_, text)) => ("Rallo is done", text.clone()),
        Err(message) => ("Rallo could not begin", message.clone()),
    };
    quietly(Command::new("notify-send").args(["--app-name=Rallo", title, &text]));
    done.map(|(code, text)| {
        println!("{text}");
        code
    })
}

fn opened(file: &Path, pictures: &[String], data: &Path) -> Result<(ExitCode, String), String> {
    let recipe = commands::load(file)?;
    if let Some((line, param, _)) = recipe.asks().first() {
        return Err(format!(
            "this recipe asks for {} of line {} when it starts; run it from the page, or set that value in the recipe",
            param.name,
            line + 1
        ));
    }
    let mut sources = Vec::new();
    let mut take = |path: PathBuf| {
        sources.push(input::Source { facts: scan::facts(&path).ok(), path, decided: Decided::default() });
    };
    for text in pictures {
        let path = path_of(text)?;
        if path.is_dir() {
            let found =
                scan::scan(&path, false).map_err(|e| format!("cannot open {}: {e}", path.display()))?;
            found.into_iter().for_each(|f| take(f.path));
        } else if path.exists() {
            take(path);
        } else {
            return Err(format!("{} is not there", path.display()));
        }
    }
    if sources.is_empty() {
        return Err("no pictures were given".into());
    }
    let base = scan::common_folder(sources.iter().map(|s| &s.path));
    let planning = preflight::plan(&recipe, &sources, &base, None);
    let (run, items) = new_run::written(&planning, &sources, &base, &recipe.name, "file manager")
        .map_err(|e| e.to_string())?;
    let report = queue::worked(run, items, data)?;
    let mut text = format!("{}: {} of {} made", recipe.name, report.done + report.skipped, sources.len());
    if let Some(to) = planning.pictures.first().and_then(|p| p.target.parent()) {
        text += &format!(", in {}", to.display());
    }
    let first = report.items.iter().find(|i| i.state == ItemState::Failed);
    if let Some(reason) = first.and_then(|i| i.reason.as_deref()) {
        text += &format!(". {} failed: {reason}", report.failed);
    }
    let is_done = report.state == RunState::Done;
    if !is_done {
        text += &format!(". It is not over: {}", report.reason.as_deref().unwrap_or("it waits"));
    }
    let failed = report.failed > 0 || !is_done;
    Ok((if failed { ExitCode::from(FAILED) } else { ExitCode::SUCCESS }, text))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_of_files_are_paths() {
        assert_eq!(path_of("file:///p/a%20b%C3%A4.jpg").unwrap(), Path::new("/p/a bä.jpg"));
        assert_eq!(path_of("file://host/p/100%.jpg").unwrap(), Path::new("/p/100%.jpg"));
        assert_eq!(path_of("/p/a%20b.jpg").unwrap(), Path::new("/p/a%20b.jpg"));
        assert!(path_of("file:///p/%ff").is_err());
    }

    #[test]
    fn what_an_entry_runs_is_quoted() {
        assert_eq!(quoted("/p/a b"), "\"/p/a b\"");
        assert_eq!(quoted("100% $x \"y\" \\z"), r#""100%% \\$x \\"y\\" \\\\z""#);
        assert_eq!(value("a\nb\\c"), "a b\\\\c");
    }
}
