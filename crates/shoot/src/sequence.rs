//! The sequence check: plain statements about frames in a row, each with the frames it speaks of.

use crate::facets::proportion;
use crate::{Frame, Order, Sort, natural_key};
use rallo_engine::sequence::interval::{Interval, backward, changes, interval};
use rallo_media::metadata::exif::shutter_text;
use schemars::JsonSchema;
use serde::Serialize;

/// One statement.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Statement {
    /// The sentence.
    pub text: String,
    /// Whether it is something to look at.
    pub odd: bool,
    /// Frames it speaks of; none where it speaks of all.
    pub frames: Vec<i64>,
}

/// What the check says.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Check {
    /// Statements, in reading order.
    pub statements: Vec<Statement>,
    /// Seconds from each frame to the next, in order of time, for a plot.
    pub distances: Vec<f64>,
    /// The usual distance.
    pub interval: f64,
}

/// Seconds for people: `2.5 s`, `15 min`, `3 h 20 min`, `5 days`.
pub fn duration(seconds: f64) -> String {
    let whole = |v: f64| {
        let text = format!("{v:.2}");
        text.trim_end_matches('0').trim_end_matches('.').to_owned()
    };
    match seconds {
        s if s < 90.0 => format!("{} s", whole(s)),
        s if s < 5400.0 => {
            let (m, rest) = ((s / 60.0).floor(), (s % 60.0).round());
            if rest < 1.0 { format!("{m} min") } else { format!("{m} min {rest} s") }
        }
        s if s < 2.0 * 86_400.0 => {
            let minutes = (s / 60.0).round();
            let (h, rest) = ((minutes / 60.0).floor(), minutes % 60.0);
            if rest < 1.0 { format!("{h} h") } else { format!("{h} h {rest} min") }
        }
        s => format!("{} days", whole((s / 8640.0).round() / 10.0)),
    }
}

fn plural(n: usize, singular: &str, many: &str) -> String {
    format!("{n} {}", if n == 1 { singular } else { many })
}

fn say(text: impl Into<String>, odd: bool, frames: Vec<i64>) -> Statement {
    Statement { text: text.into(), odd, frames }
}

/// Looks at the frames a run would take, in any order.
pub fn check(frames: &[Frame]) -> Check {
    let order = Order { by: Sort::Time, descending: false }.of(frames);
    let row: Vec<&Frame> = order.iter().map(|i| &frames[*i]).collect();
    let timed: Vec<&Frame> = row.iter().copied().filter(|f| f.taken().is_some()).collect();
    let times: Vec<f64> = timed.iter().filter_map(|f| f.seconds()).collect();
    let found = interval(&times);
    let mut statements = vec![say(plural(frames.len(), "frame", "frames") + ".", false, Vec::new())];
    when(&mut statements, frames, &timed);
    steady(&mut statements, &timed, &found);
    clock(&mut statements, frames);
    settings(&mut statements, &timed);
    shape(&mut statements, &row);
    length(&mut statements, frames.len());
    let distances = times.windows(2).map(|w| w[1] - w[0]).collect();
    Check { statements, distances, interval: found.seconds }
}

fn when(statements: &mut Vec<Statement>, frames: &[Frame], timed: &[&Frame]) {
    let untimed: Vec<i64> = frames.iter().filter(|f| f.taken().is_none()).map(|f| f.id).collect();
    if let (Some(first), Some(last)) = (timed.first(), timed.last())
        && let (Some(a), Some(b)) = (first.taken(), last.taken())
    {
        let words = |t: jiff::civil::DateTime| t.strftime("%-d %b %Y, %H:%M:%S").to_string();
        let text = format!(
            "From {} to {}: {}.",
            words(a),
            words(b),
            duration(crate::frame::seconds(b) - crate::frame::seconds(a))
        );
        statements.push(say(text, false, vec![first.id, last.id]));
    }
    if !untimed.is_empty() {
        let text = format!("{} no capture time.", plural(untimed.len(), "frame has", "frames have"));
        statements.push(say(text, true, untimed));
    }
}

fn steady(statements: &mut Vec<Statement>, timed: &[&Frame], found: &Interval) {
    if found.seconds <= 0.0 {
        return;
    }
    let rounding = if found.whole_seconds { " (the clock writes whole seconds)" } else { "" };
    statements.push(say(
        format!("One frame every {}{rounding}.", duration(found.seconds)),
        false,
        Vec::new(),
    ));
    if found.gaps.is_empty() {
        statements.push(say("No gaps.", false, Vec::new()));
    } else {
        let missing: usize = found.gaps.iter().map(|g| g.missing).sum();
        let longest = found.gaps.iter().map(|g| g.seconds).fold(0.0, f64::max);
        let text = format!(
            "{}, the longest {}: {} missing.",
            plural(found.gaps.len(), "gap", "gaps"),
            duration(longest),
            plural(missing, "frame is", "frames are")
        );
        let ids = found.gaps.iter().flat_map(|g| [timed[g.after].id, timed[g.after + 1].id]).collect();
        statements.push(say(text, true, ids));
    }
    if !found.doubles.is_empty() {
        let text = format!(
            "{} too soon after the one before.",
            plural(found.doubles.len(), "frame came", "frames came")
        );
        statements.push(say(text, true, found.doubles.iter().map(|i| timed[*i].id).collect()));
    }
}

/// Rounding to whole seconds, which is no jump.
const ROUNDING: f64 = 1.5;

/// The camera's numbers and its clock must run the same way, folder by folder. Where they often do not, the names
/// simply are in another order.
fn clock(statements: &mut Vec<Statement>, frames: &[Frame]) {
    let mut named: Vec<&Frame> = frames.iter().collect();
    named.sort_by_cached_key(|f| natural_key(&f.path.to_string_lossy()));
    let mut ids = Vec::new();
    for folder in named.chunk_by(|a, b| a.path.parent() == b.path.parent()) {
        let times: Vec<Option<f64>> = folder.iter().map(|f| f.seconds()).collect();
        ids.extend(backward(&times, ROUNDING).into_iter().map(|i| folder[i].id));
    }
    if !ids.is_empty() && ids.len() * 10 <= frames.len().max(20) {
        let text = format!(
            "The clock jumps back at {}, against the order of the names.",
            plural(ids.len(), "frame", "frames")
        );
        statements.push(say(text, true, ids));
    }
}

fn one_setting<T: PartialEq + PartialOrd + Clone>(
    all: &mut Vec<Statement>,
    timed: &[&Frame],
    what: &str,
    value: impl Fn(&Frame) -> Option<T>,
    words: impl Fn(&T) -> String,
) {
    let values: Vec<Option<T>> = timed.iter().map(|f| value(f)).collect();
    let mut known: Vec<T> = values.iter().flatten().cloned().collect();
    known.sort_by(|a, b| a.partial_cmp(b).unwrap_or(std::cmp::Ordering::Equal));
    known.dedup();
    match known.as_slice() {
        [] => {}
        [one] => all.push(say(format!("{what} stays at {}.", words(one)), false, Vec::new())),
        [first, .., last] => {
            let at = changes(&values);
            let text = format!(
                "{what} changes {}, between {} and {}.",
                plural(at.len(), "time", "times"),
                words(first),
                words(last)
            );
            all.push(say(text, true, at.into_iter().map(|i| timed[i].id).collect()));
        }
    }
}

fn settings(statements: &mut Vec<Statement>, timed: &[&Frame]) {
    fn camera(f: &Frame) -> Option<&rallo_media::CameraData> {
        f.facts.as_ref().map(|x| &x.camera)
    }
    one_setting(statements, timed, "Shutter", |f| camera(f)?.shutter, |v| shutter_text(*v));
    one_setting(statements, timed, "Aperture", |f| camera(f)?.aperture, |v| format!("f/{v}"));
    one_setting(statements, timed, "ISO", |f| camera(f)?.iso, |v| v.to_string());
    one_setting(statements, timed, "White balance", |f| camera(f)?.white_balance.clone(), Clone::clone);
    one_setting(statements, timed, "Focal length", |f| camera(f)?.focal_length, |v| format!("{v} mm"));
}

fn shape(statements: &mut Vec<Statement>, row: &[&Frame]) {
    let sizes: Vec<Option<(u32, u32)>> =
        row.iter().map(|f| f.facts.as_ref().map(|x| (x.width, x.height))).collect();
    let mut kinds: Vec<((u32, u32), usize)> = Vec::new();
    for size in sizes.iter().flatten() {
        match kinds.iter_mut().find(|(s, _)| s == size) {
            Some(kind) => kind.1 += 1,
            None => kinds.push((*size, 1)),
        }
    }
    kinds.sort_by_key(|(_, n)| std::cmp::Reverse(*n));
    let Some(&((w, h), _)) = kinds.first() else { return };
    let odd: Vec<i64> =
        row.iter().zip(&sizes).filter(|(_, s)| s.is_some_and(|s| s != (w, h))).map(|(f, _)| f.id).collect();
    if odd.is_empty() {
        statements.push(say(format!("All are {w} × {h}, {}.", proportion(w, h)), false, Vec::new()));
    } else {
        let text =
            format!("Most are {w} × {h}; {} another size.", plural(odd.len(), "frame has", "frames have"));
        statements.push(say(text, true, odd));
    }
    let way = |s: &(u32, u32)| s.0.cmp(&s.1);
    let turned: Vec<i64> = row
        .iter()
        .zip(&sizes)
        .filter(|(_, s)| s.as_ref().is_some_and(|s| way(s) != way(&(w, h))))
        .map(|(f, _)| f.id)
        .collect();
    if !turned.is_empty() {
        let text = format!("{} turned the other way.", plural(turned.len(), "frame is", "frames are"));
        statements.push(say(text, true, turned));
    }
    let (least_w, least_h) =
        sizes.iter().flatten().fold((u32::MAX, u32::MAX), |a, s| (a.0.min(s.0), a.1.min(s.1)));
    for (name, cw, ch) in [("1080p (1920 × 1080)", 1920u32, 1080u32), ("4K (3840 × 2160)", 3840, 2160)] {
        let room = (f64::from(least_w) / f64::from(cw)).min(f64::from(least_h) / f64::from(ch));
        let text = match room {
            r if r > 1.005 => {
                format!("Larger than {name}: {:.0} % to move and straighten in.", (r - 1.0) * 100.0)
            }
            r if r > 0.995 => format!("Just as large as {name}: no room to move."),
            r => format!("Smaller than {name}: would be enlarged {:.2} times.", 1.0 / r),
        };
        statements.push(say(text, room < 0.995, Vec::new()));
    }
}

fn length(statements: &mut Vec<Statement>, count: usize) {
    let seconds = |rate: f64| format!("{:.1} s at {rate:.0}", count as f64 / rate);
    statements.push(say(
        format!("As a clip: {}, {}, {} frames a second.", seconds(24.0), seconds(25.0), seconds(30.0)),
        false,
        Vec::new(),
    ));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::tests::frame;

    fn texts(check: &Check) -> Vec<&str> {
        check.statements.iter().map(|s| s.text.as_str()).collect()
    }

    #[test]
    fn a_steady_sequence_has_nothing_odd_but_its_size() {
        let frames: Vec<Frame> = (0..48).map(|i| frame(i, &format!("f{i}.jpg"), i as f64 * 15.0)).collect();
        let check = check(&frames);
        assert_eq!(
            texts(&check),
            [
                "48 frames.",
                "From 4 May 2026, 09:00:00 to 4 May 2026, 09:11:45: 11 min 45 s.",
                "One frame every 15 s (the clock writes whole seconds).",
                "No gaps.",
                "ISO stays at 200.",
                "All are 1920 × 1280, landscape 3:2.",
                "Just as large as 1080p (1920 × 1080): no room to move.",
                "Smaller than 4K (3840 × 2160): would be enlarged 2.00 times.",
                "As a clip: 2.0 s at 24, 1.9 s at 25, 1.6 s at 30 frames a second."
            ]
        );
        assert!(check.statements.iter().filter(|s| s.odd).count() == 1);
    }

    #[test]
    fn what_is_odd_names_its_frames() {
        let mut frames: Vec<Frame> =
            (0..60).map(|i| frame(i, &format!("f{i:03}.jpg"), i as f64 * 10.5)).collect();
        frames.retain(|f| f.id != 20);
        frames[5].marks.shift = -5000;
        frames[40].facts.as_mut().unwrap().camera.iso = Some(400);
        frames[50].facts.as_mut().unwrap().width = 1280;
        frames[50].facts.as_mut().unwrap().height = 1920;
        let check = check(&frames);
        let odd: Vec<(&str, &[i64])> = check
            .statements
            .iter()
            .filter(|s| s.odd && !s.frames.is_empty())
            .map(|s| (s.text.as_str(), s.frames.as_slice()))
            .collect();
        assert_eq!(
            odd,
            [
                ("1 gap, the longest 21 s: 1 frame is missing.", [19, 21].as_slice()),
                ("ISO changes 2 times, between 200 and 400.", &[41, 42]),
                ("Most are 1920 × 1280; 1 frame has another size.", &[51]),
                ("1 frame is turned the other way.", &[51]),
            ]
        );
    }

    #[test]
    fn a_clock_put_back_is_found_by_the_names() {
        let mut frames: Vec<Frame> =
            (0..20).map(|i| frame(i, &format!("f{i:03}.jpg"), i as f64 * 60.0)).collect();
        for f in &mut frames[12..] {
            f.marks.shift = -3_600_000;
        }
        let check = check(&frames);
        let found = check.statements.iter().find(|s| s.text.starts_with("The clock jumps back")).unwrap();
        assert_eq!(found.frames, [12]);
    }

    #[test]
    fn durations_read_well() {
        let all = [2.5, 15.0, 900.0, 915.0, 12_000.0, 432_000.0].map(duration);
        assert_eq!(all, ["2.5 s", "15 s", "15 min", "15 min 15 s", "3 h 20 min", "5 days"]);
    }
}
