//! What changed between two recipes, in words: "Denoise: brightness 40 → 55".

use crate::sentence::shown;
use crate::{Delivery, Line, Recipe};
use rallo_engine::Param;
use serde_json::Value;

/// Every change from `before` to `after`, in the order of the lines; empty where nothing changed.
pub fn difference(before: &Recipe, after: &Recipe) -> Vec<String> {
    let mut report = Vec::new();
    texts(&mut report, "Name", &before.name, &after.name);
    texts(&mut report, "Note", &before.note, &after.note);
    texts(&mut report, "Labels", &before.labels.join(", "), &after.labels.join(", "));
    lines(&mut report, &before.steps, &after.steps);
    blocks(&mut report, before, after);
    deliveries(&mut report, &before.deliveries, &after.deliveries);
    report
}

fn texts(report: &mut Vec<String>, what: &str, before: &str, after: &str) {
    if before != after {
        report.push(format!("{what}: {} → {}", or_none(before), or_none(after)));
    }
}

fn or_none(text: &str) -> &str {
    if text.is_empty() { "none" } else { text }
}

/// How alike two lines are: nothing unless they are of the same kind.
fn alike(a: &Line, b: &Line) -> u32 {
    match a.id == b.id {
        false => 0,
        true if a.step.values() == b.step.values() => 3,
        true => 2,
    }
}

/// Pairs of lines that are the same line before and after, none crossing another: the longest common subsequence,
/// weighed by how alike they are.
fn pairs(before: &[Line], after: &[Line]) -> Vec<(usize, usize)> {
    let (n, m) = (before.len(), after.len());
    let mut best = vec![vec![0u32; m + 1]; n + 1];
    for i in (0..n).rev() {
        for j in (0..m).rev() {
            let both = match alike(&before[i], &after[j]) {
                0 => 0,
                likeness => likeness + best[i + 1][j + 1],
            };
            best[i][j] = both.max(best[i + 1][j]).max(best[i][j + 1]);
        }
    }
    let (mut i, mut j, mut found) = (0, 0, Vec::new());
    while i < n && j < m {
        let likeness = alike(&before[i], &after[j]);
        if likeness > 0 && best[i][j] == likeness + best[i + 1][j + 1] {
            found.push((i, j));
            (i, j) = (i + 1, j + 1);
        } else if best[i][j] == best[i + 1][j] {
            i += 1;
        } else {
            j += 1;
        }
    }
    found
}

fn lines(report: &mut Vec<String>, before: &[Line], after: &[Line]) {
    let pairs = pairs(before, after);
    let mut gone: Vec<usize> = (0..before.len()).filter(|i| !pairs.iter().any(|p| p.0 == *i)).collect();
    for (j, line) in after.iter().enumerate() {
        if let Some((i, _)) = pairs.iter().find(|p| p.1 == j) {
            line_changes(report, &before[*i], line);
            continue;
        }
        // The same line elsewhere was moved.
        let from = gone.iter().position(|i| alike(&before[*i], line) == 3);
        match from {
            Some(at) => {
                let i = gone.remove(at);
                report.push(format!("{}: moved from line {} to {}", line.kind().info.title, i + 1, j + 1));
                line_changes(report, &before[i], line);
            }
            None => report.push(format!("Line {} added: {}", j + 1, line.sentence())),
        }
    }
    for i in gone {
        report.push(format!("Line {} removed: {}", i + 1, before[i].sentence()));
    }
}

fn line_changes(report: &mut Vec<String>, before: &Line, after: &Line) {
    let kind = after.kind();
    let title = kind.info.title;
    let mut changes = values(kind.params, &before.step.values(), &after.step.values());
    if before.on != after.on {
        changes.push(if after.on { "switched on" } else { "switched off" }.into());
    }
    let mut say = |what: &str, a: String, b: String| {
        if a != b {
            changes.push(format!("{what} {} → {}", or_none(&a), or_none(&b)));
        }
    };
    say("mix", number(before.mix), number(after.mix));
    let area = |line: &Line| line.area.as_ref().map(|a| a.words()).unwrap_or_default();
    say("area", area(before), area(after));
    let when = |line: &Line| line.when.as_ref().map(|w| w.text().to_owned()).unwrap_or_default();
    say("applies where", when(before), when(after));
    say("asks for", before.ask.join(", "), after.ask.join(", "));
    let text = |text: &Option<String>| text.clone().unwrap_or_default();
    say("checkpoint", text(&before.checkpoint), text(&after.checkpoint));
    say("block", text(&before.block), text(&after.block));
    let by_iso = |line: &Line| line.by_iso.as_ref().map(|l| l.to_value().to_string()).unwrap_or_default();
    if by_iso(before) != by_iso(after) {
        changes.push("values per ISO changed".into());
    }
    if before.ramp != after.ramp {
        changes.push("values over the sequence changed".into());
    }
    if area(before) == area(after)
        && serde_json::to_value(before.area.as_deref()).ok()
            != serde_json::to_value(after.area.as_deref()).ok()
    {
        changes.push("area moved".into());
    }
    if !changes.is_empty() {
        report.push(format!("{title}: {}", changes.join(", ")));
    }
}

fn number(value: f64) -> String {
    format!("{} %", crate::text::number(value))
}

fn values(params: &[Param], before: &Value, after: &Value) -> Vec<String> {
    let changed = params.iter().filter(|p| before[p.name] != after[p.name]);
    changed
        .map(|p| {
            let text = |value: &Value| {
                let text = shown(p, value, false, None);
                if text.is_empty() { "none".to_owned() } else { text.chars().take(60).collect() }
            };
            let (a, b) = (text(&before[p.name]), text(&after[p.name]));
            let name = p.name.replace('_', " ");
            if a == b { format!("{name} changed") } else { format!("{name} {a} → {b}") }
        })
        .collect()
}

fn blocks(report: &mut Vec<String>, before: &Recipe, after: &Recipe) {
    for now in &after.blocks {
        let (a, b) = (
            before.blocks.iter().find(|b| b.name == now.name).map(|_| before.block_sentence(&now.name)),
            after.block_sentence(&now.name),
        );
        match a {
            None => report.push(format!("{b} made")),
            Some(a) if a != b => report.push(format!("{a} → {b}")),
            Some(_) => {}
        }
    }
    for gone in before.blocks.iter().filter(|b| !after.blocks.iter().any(|a| a.name == b.name)) {
        report.push(format!("Block {} dissolved", gone.name));
    }
}

fn deliveries(report: &mut Vec<String>, before: &[Delivery], after: &[Delivery]) {
    for i in 0..before.len().max(after.len()) {
        match (before.get(i), after.get(i)) {
            (Some(a), Some(b)) => {
                if a.kind().id != b.kind().id {
                    report.push(format!("Delivery {}: {} → {}", i + 1, a.kind().title, b.kind().title));
                    continue;
                }
                let mut changes = values(a.kind().params, &a.values(), &b.values());
                if a.to_value()["steps"] != b.to_value()["steps"] {
                    changes.push("its own lines".into());
                }
                if !changes.is_empty() {
                    report.push(format!("Delivery {}: {}", i + 1, changes.join(", ")));
                }
            }
            (None, _) => report.push(format!("Delivery {} added", i + 1)),
            (_, None) => report.push(format!("Delivery {} removed", i + 1)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Pictures;
    use serde_json::json;

    fn recipe(steps: Value) -> Recipe {
        Recipe::from_value(&json!({"format": "rallo-recipe", "version": 1, "name": "x", "steps": steps}))
            .unwrap()
    }

    #[test]
    fn changes_read_as_people_say_them() {
        let before = recipe(json!([
            {"step": "denoise", "brightness": 40},
            {"step": "exposure", "stops": 0.5},
            {"step": "saturation", "amount": 8},
            {"step": "resize", "long_edge": 1600},
        ]));
        for (steps, want) in [
            (
                json!([{"step": "denoise", "brightness": 55}, {"step": "exposure", "stops": 0.5, "on": false},
                    {"step": "saturation", "amount": 8, "mix": 60}, {"step": "resize", "long_edge": 1600}]),
                vec!["Denoise: brightness 40 → 55", "Exposure: switched off", "Saturation: mix 100 % → 60 %"],
            ),
            (
                json!([{"step": "exposure", "stops": 0.5}, {"step": "denoise", "brightness": 40},
                    {"step": "saturation", "amount": 8}, {"step": "resize", "long_edge": 1600}]),
                vec!["Denoise: moved from line 1 to 2"],
            ),
            (
                json!([{"step": "denoise", "brightness": 40}, {"step": "contrast", "amount": 12},
                    {"step": "saturation", "amount": 8, "when": "iso at least 800"}, {"step": "resize", "width": 800}]),
                vec![
                    "Line 2 added: Contrast 12.",
                    "Saturation: applies where none → iso at least 800",
                    "Resize: long edge 1600 → none, width none → 800",
                    "Line 2 removed: Exposure 0.5 stops brighter.",
                ],
            ),
            (before.to_value()["steps"].clone(), vec![]),
        ] {
            let found = difference(&before, &recipe(steps));
            assert_eq!(found.len(), want.len(), "{found:?}");
            for want in want {
                let start = want.split(':').next().unwrap();
                assert!(
                    found.iter().any(|f| f == want || (want.starts_with("Line") && f.starts_with(start))),
                    "{want}: {found:?}"
                );
            }
        }
    }

    #[test]
    fn names_and_deliveries_are_told() {
        let one = Recipe::new("Web");
        let mut two = one.clone();
        two.name = "Web, small".into();
        two.deliveries = vec![Pictures { quality: 70, ..Pictures::default() }.into(), Delivery::default()];
        assert_eq!(
            difference(&one, &two),
            ["Name: Web → Web, small", "Delivery 1: quality 85 → 70", "Delivery 2 added"]
        );
    }
}
