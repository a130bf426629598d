//! The report of a run: what was made of what, with times and sizes; as JSON and as a table.

pub mod settings_sheet;
pub mod webhook;

use crate::render::sequence::measured_of;
use rallo_job::{FailureKind, ItemState, Phase, Records, ResultFile, RunItem, RunState};
use rallo_recipe::Recipe;
use schemars::JsonSchema;
use serde::Serialize;

/// What is asked after so many checkpoints of a recipe, if anything.
pub fn asked(recipe: &Recipe, stage: i64) -> Option<String> {
    let checkpoints = recipe.checkpoints();
    let (line, what) = checkpoints.get(usize::try_from(stage).ok()?)?;
    Some(format!("Before line {}: {what}", line + 1))
}

/// The report of a run: what was made of what.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Report {
    /// The run's number.
    pub run: i64,
    /// What its recipe is called.
    pub recipe: String,
    /// Its recipe's version.
    pub version: i64,
    /// What its pictures are called together.
    pub frames_of: String,
    /// Where it was started.
    pub from: String,
    /// Where it stands.
    pub state: RunState,
    /// Why it pauses, or what it asks.
    pub reason: Option<String>,
    /// When it was written down (RFC 3339).
    pub created: String,
    /// When it began.
    pub started: Option<String>,
    /// When it ended.
    pub finished: Option<String>,
    /// Seconds it has worked.
    pub seconds: f64,
    /// Pictures in all, and files of all of them.
    pub total: i64,
    /// Those that were made.
    pub done: i64,
    /// Those that failed.
    pub failed: i64,
    /// Those whose results were there already.
    pub skipped: i64,
    /// What was known before it began.
    pub warnings: Vec<String>,
    /// What lines that look at all pictures found.
    pub found: Vec<String>,
    /// Bytes of the originals that results were made of.
    pub bytes_before: u64,
    /// Bytes of those results.
    pub bytes_after: u64,
    /// Each picture, and each file of all of them.
    pub items: Vec<ReportItem>,
}

/// A picture of a run, or a file of all of them.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ReportItem {
    /// The original.
    pub source: String,
    /// Where it stands.
    pub state: ItemState,
    /// What kind of failure it was.
    pub kind: Option<FailureKind>,
    /// Why it failed or was skipped.
    pub reason: Option<String>,
    /// Seconds it took.
    pub seconds: Option<f64>,
    /// Bytes of the original.
    pub bytes_before: u64,
    /// What was written.
    pub outputs: Vec<ResultFile>,
}

/// The report of a run.
///
/// # Errors
/// [`rallo_job::Error`].
pub async fn of(records: &dyn Records, id: i64) -> rallo_job::Result<Report> {
    let run = records.run(id).await?;
    let counts = records.counts(id).await?;
    let (mut bytes_before, mut bytes_after) = (0, 0);
    let mut items = Vec::new();
    let all = records.items(id).await?;
    let found = found(&run.document, &all);
    for item in all {
        if matches!(item.state, ItemState::Done | ItemState::Skipped) {
            bytes_before += item.source_bytes.unsigned_abs();
            bytes_after += item.outputs.iter().map(|o| o.bytes).sum::<u64>();
        }
        items.push(ReportItem {
            source: item.source,
            state: item.state,
            kind: item.kind,
            reason: item.reason,
            seconds: item.seconds,
            bytes_before: item.source_bytes.unsigned_abs(),
            outputs: item.outputs,
        });
    }
    Ok(Report {
        run: run.id,
        recipe: run.recipe_name,
        version: run.recipe_version,
        frames_of: run.shoot_name,
        from: run.origin,
        state: run.state,
        reason: run.reason,
        created: run.created,
        started: run.started,
        finished: run.finished,
        seconds: run.seconds,
        total: counts.total,
        done: counts.done,
        failed: counts.failed,
        skipped: counts.skipped,
        warnings: run.warnings,
        found,
        bytes_before,
        bytes_after,
        items,
    })
}

/// What the lines of a run that look at all pictures found, in sentences that begin with the line's name; nothing before all
/// pictures are measured.
pub fn found(document: &str, items: &[RunItem]) -> Vec<String> {
    let pictures: Vec<&RunItem> = items.iter().filter(|item| item.task.is_none()).collect();
    let Ok(recipe) = Recipe::parse(document) else { return Vec::new() };
    if pictures.iter().any(|item| item.phase == Phase::Measure && item.state == ItemState::Waiting) {
        return Vec::new();
    }
    let name = |item: &&RunItem| {
        let name = std::path::Path::new(&item.source).file_name();
        name.map(|n| n.to_string_lossy().into_owned()).unwrap_or_default()
    };
    let names: Vec<String> = pictures.iter().map(name).collect();
    let mut told = Vec::new();
    for at in recipe.across() {
        let line = &recipe.steps[at];
        let Some(across) = line.step.across() else { continue };
        let measured: Vec<Option<Vec<f64>>> = pictures.iter().map(|i| measured_of(i, at)).collect();
        let title = line.kind().info.title;
        told.extend(across.told(&measured, &names).into_iter().map(|text| format!("{title}: {text}")));
    }
    told
}

/// A field of a table (RFC 4180).
fn field(text: &str) -> String {
    // A field that a table program would take for a formula is shown as text.
    let text = if text.starts_with(['=', '+', '-', '@']) { format!("'{text}") } else { text.to_owned() };
    if text.contains(['"', ',', '\n', '\r']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text }
}

/// The report as a table with one row for each file, its names first.
pub fn table(report: &Report) -> String {
    let mut text =
        String::from("source,state,reason,result,width,height,bytes before,bytes after,seconds\r\n");
    for item in &report.items {
        let mut row = |output: Option<&ResultFile>| {
            let number =
                |value: fn(&ResultFile) -> u64| output.map_or(String::new(), |o| value(o).to_string());
            let cells = [
                field(&item.source),
                field(&item.state.to_string()),
                item.reason.as_deref().map_or(String::new(), field),
                output.map_or(String::new(), |o| field(&o.path.to_string_lossy())),
                number(|o| u64::from(o.width)),
                number(|o| u64::from(o.height)),
                item.bytes_before.to_string(),
                number(|o| o.bytes),
                item.seconds.map_or(String::new(), |s| format!("{s:.3}")),
            ];
            text += &cells.join(",");
            text += "\r\n";
        };
        if item.outputs.is_empty() {
            row(None);
        }
        item.outputs.iter().for_each(|output| row(Some(output)));
    }
    text
}

/// Takes back what a run wrote: each file that is as the run left it is removed; the others are named.
///
/// # Errors
/// [`rallo_job::Error`].
pub async fn undo(records: &dyn Records, id: i64) -> rallo_job::Result<(usize, Vec<String>)> {
    let (mut gone, mut kept) = (0, Vec::new());
    let mut take_back = async |path: std::path::PathBuf, hash: String| -> rallo_job::Result<()> {
        let file = path.clone();
        let same = tokio::task::spawn_blocking(move || match rallo_media::file_hash(&file) {
            Ok(now) if now == hash => std::fs::remove_file(&file).map(|()| true),
            Ok(_) => Ok(false),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(true),
            Err(e) => Err(e),
        })
        .await;
        let path = path.to_string_lossy().into_owned();
        match same {
            Ok(Ok(true)) => {
                records.forget_result(&path).await?;
                gone += 1;
            }
            Ok(Ok(false)) => kept.push(format!("{path} was changed since and stays")),
            Ok(Err(e)) => kept.push(format!("{path}: {e}")),
            Err(e) => kept.push(format!("{path}: {e}")),
        }
        Ok(())
    };
    let mut pictures = std::collections::HashSet::new();
    let mut sources = std::collections::HashSet::new();
    for item in records.items(id).await?.into_iter().filter(|i| i.task.is_none()) {
        sources.extend(std::path::Path::new(&item.source).parent().map(std::path::Path::to_path_buf));
    }
    for item in records.items(id).await?.into_iter().filter(|i| i.state == ItemState::Done) {
        for output in item.outputs.iter().filter(|o| o.made) {
            pictures.insert(output.path.clone());
            take_back(output.path.clone(), output.hash.clone()).await?;
        }
        let item = RunItem {
            state: ItemState::Skipped,
            reason: Some("taken back".into()),
            outputs: Vec::new(),
            ..item
        };
        records.complete(&item, &[]).await?;
    }
    // What it wrote beside its pictures.
    for (path, hash) in records.results_of(id).await? {
        let path = std::path::PathBuf::from(path);
        if !pictures.contains(&path) {
            take_back(path.clone(), hash).await?;
            pictures.insert(path);
        }
    }
    // Folders it made within those of its pictures go with the last file in them; others stay.
    let within = |folder: &std::path::Path| sources.iter().any(|s| folder != s && folder.starts_with(s));
    for path in &pictures {
        for folder in path.ancestors().skip(1).take_while(|folder| within(folder)) {
            if sources.contains(folder) || std::fs::remove_dir(folder).is_err() {
                break;
            }
        }
    }
    Ok((gone, kept))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn empty() -> Report {
        Report {
            run: 1,
            recipe: String::new(),
            version: 1,
            frames_of: String::new(),
            from: String::new(),
            state: RunState::Done,
            reason: None,
            created: String::new(),
            started: None,
            finished: None,
            seconds: 0.0,
            total: 0,
            done: 0,
            failed: 0,
            skipped: 0,
            warnings: Vec::new(),
            found: Vec::new(),
            bytes_before: 0,
            bytes_after: 0,
            items: Vec::new(),
        }
    }

    #[test]
    fn a_table_keeps_commas_quotes_and_formulas_apart() {
        let item = |source: &str, state, reason: Option<&str>, seconds, outputs| ReportItem {
            source: source.into(),
            state,
            kind: None,
            reason: reason.map(str::to_owned),
            seconds,
            bytes_before: if seconds.is_some() { 5 } else { 0 },
            outputs,
        };
        let file = ResultFile {
            path: "/p/w/a.jpg".into(),
            bytes: 4,
            width: 3,
            height: 2,
            hash: String::new(),
            made: true,
            variant: None,
            clip: None,
            made_by: None,
        };
        let items = vec![
            item("/p/a, \"b\".jpg", ItemState::Done, None, Some(1.25), vec![file]),
            item("=SUM(A1)", ItemState::Failed, Some("the file is empty"), None, Vec::new()),
        ];
        let report = Report { items, ..empty() };
        let table = table(&report);
        let rows: Vec<&str> = table.split("\r\n").collect();
        assert_eq!(rows[1], "\"/p/a, \"\"b\"\".jpg\",done,,/p/w/a.jpg,3,2,5,4,1.250");
        assert_eq!(rows[2], "'=SUM(A1),failed,the file is empty,,,,0,,");
    }
}
