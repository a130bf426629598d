//! The report of a run: what was made of what, with times and sizes; as JSON and as a table.

pub mod settings_sheet;
pub mod webhook;

use rallo_job::{ItemState, Records, RunItem};
use rallo_recipe::Recipe;
use serde_json::{Value, json};

/// What is asked after so many checkpoints of a recipe, if anything.
pub fn asked(recipe: &Recipe, stage: i64) -> Option<String> {
    let all = recipe.checkpoints();
    let (line, what) = all.get(usize::try_from(stage).ok()?)?;
    Some(format!("Before line {}: {what}", line + 1))
}

/// The report of a run.
///
/// # Errors
/// [`rallo_job::Error`].
pub async fn of(records: &dyn Records, id: i64) -> rallo_job::Result<Value> {
    let run = records.run(id).await?;
    let items = records.items(id).await?;
    let counts = records.counts(id).await?;
    let (mut before, mut after) = (0, 0);
    let rows: Vec<Value> = items
        .iter()
        .map(|item| {
            let outputs = &item.outputs;
            if matches!(item.state, ItemState::Done | ItemState::Skipped) {
                before += item.source_bytes;
                after += outputs.iter().map(|o| o.bytes).sum::<u64>();
            }
            json!({"source": item.source, "state": item.state, "kind": item.kind, "reason": item.reason,
                "seconds": item.seconds, "bytes_before": item.source_bytes, "outputs": outputs})
        })
        .collect();
    Ok(
        json!({"run": run.id, "recipe": run.recipe_name, "version": run.recipe_version, "frames_of": run.shoot_name,
        "from": run.origin, "state": run.state, "reason": run.reason, "created": run.created, "started": run.started,
        "finished": run.finished, "seconds": run.seconds, "total": counts.total, "done": counts.done,
        "failed": counts.failed, "skipped": counts.skipped, "warnings": run.warnings, "bytes_before": before, "bytes_after": after,
        "items": rows}),
    )
}

/// A field of a table (RFC 4180).
fn field(text: &str) -> String {
    // A field that a table program would take for a formula is shown as text.
    let text = if text.starts_with(['=', '+', '-', '@']) { format!("'{text}") } else { text.to_owned() };
    if text.contains(['"', ',', '\n', '\r']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text }
}

/// The report as a table with one row for each file, its names first.
pub fn table(report: &Value) -> String {
    let mut text =
        String::from("source,state,reason,result,width,height,bytes before,bytes after,seconds\r\n");
    let word =
        |v: &Value| v.as_str().map_or_else(|| if v.is_null() { String::new() } else { v.to_string() }, field);
    for item in report["items"].as_array().into_iter().flatten() {
        let none = [Value::Null];
        let outputs = item["outputs"].as_array().filter(|o| !o.is_empty()).map_or(&none[..], Vec::as_slice);
        for output in outputs {
            let cells = [
                &item["source"],
                &item["state"],
                &item["reason"],
                &output["path"],
                &output["width"],
                &output["height"],
                &item["bytes_before"],
                &output["bytes"],
            ];
            let cells: Vec<String> = cells.into_iter().map(word).collect();
            let seconds = item["seconds"].as_f64().map_or(String::new(), |s| format!("{s:.3}"));
            text += &format!("{},{seconds}\r\n", cells.join(","));
        }
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

    #[test]
    fn a_table_keeps_commas_quotes_and_formulas_apart() {
        let report = json!({"items": [
            {"source": "/p/a, \"b\".jpg", "state": "done", "reason": null, "bytes_before": 5, "seconds": 1.25,
             "outputs": [{"path": "/p/w/a.jpg", "width": 3, "height": 2, "bytes": 4}]},
            {"source": "=SUM(A1)", "state": "failed", "reason": "the file is empty", "bytes_before": 0, "seconds": null, "outputs": []}]});
        let table = table(&report);
        let rows: Vec<&str> = table.split("\r\n").collect();
        assert_eq!(rows[1], "\"/p/a, \"\"b\"\".jpg\",done,,/p/w/a.jpg,3,2,5,4,1.250");
        assert_eq!(rows[2], "'=SUM(A1),failed,the file is empty,,,,0,,");
    }
}
