//! A sieve that is suggested: the same light, no night, no fog, nothing in the way, as passes one can look at and change.

use super::passes::{Against, Line, Pass, held_against};
use super::{SieveFrame, SwitchedPass};

/// Days to each side whose same hour says what is usual.
const DAYS: f64 = 6.0;
/// Stops the middle of the nights has to lie below that of the days, and as much in brightness where no stops are known.
const NIGHT: f64 = 3.0;
const DARK: f64 = 12.0;
/// The least a frame has to differ from its hour: in contrast, in stops, in hundredths of a stop.
const FOG: f64 = 8.0;
const DULL: f64 = 0.8;
const IN_THE_WAY: f64 = 7.0;
/// And so many times what is usual among the others.
const SPREADS: f64 = 3.5;
const TIMES: f64 = 2.5;

/// Passes that take night, fog, dull days, passing shadows and things in the way; none for what is not there.
pub fn suggested(frames: &[SieveFrame]) -> Vec<SwitchedPass> {
    let mut left: Vec<&SieveFrame> = frames.iter().collect();
    let mut passes = Vec::new();
    let mut take = |line: Line,
                    against: Against,
                    lower: Option<f64>,
                    upper: Option<f64>,
                    left: &mut Vec<&SieveFrame>| {
        let pass = Pass::Line { line, area: None, against, lower, upper };
        let stays = pass.stays(left);
        if stays.iter().all(|stays| *stays) {
            return;
        }
        let mut stay = stays.into_iter();
        left.retain(|_| stay.next().unwrap_or(true));
        passes.push(SwitchedPass { pass, on: true });
    };
    let values = |left: &[&SieveFrame], line: Line, against: Against| -> Vec<(f64, f64)> {
        held_against(left, line, None, against).into_iter().flatten().collect()
    };
    let level = Against::Level(0.0);
    let stops: Vec<f64> = values(&left, Line::Scene, level).into_iter().map(|(v, _)| v).collect();
    if stops.len() * 2 > frames.len() {
        if let Some(edge) = between_two(&stops, NIGHT) {
            take(Line::Scene, level, Some(tidy(edge)), None, &mut left);
        }
    } else {
        let seen: Vec<f64> = values(&left, Line::Brightness, level).into_iter().map(|(v, _)| v).collect();
        if let Some(edge) = between_two(&seen, DARK) {
            take(Line::Brightness, level, Some(tidy(edge)), None, &mut left);
        }
    }
    let hour = Against::SameHour(DAYS);
    for (line, least) in [(Line::Contrast, FOG), (Line::Scene, DULL)] {
        let apart: Vec<f64> = values(&left, line, hour).into_iter().map(|(v, usual)| v - usual).collect();
        if let Some(spread) = spread(&apart) {
            take(line, hour, Some(-tidy((SPREADS * spread).max(least))), None, &mut left);
        }
    }
    let off: Vec<f64> = values(&left, Line::Unusual, level).into_iter().map(|(v, _)| v).collect();
    if let Some(usual) = middle(off) {
        take(Line::Unusual, level, None, Some(tidy((TIMES * usual).max(IN_THE_WAY))), &mut left);
    }
    passes
}

fn tidy(v: f64) -> f64 {
    (v * 10.0).round() / 10.0
}

fn middle(mut values: Vec<f64>) -> Option<f64> {
    let at = values.len() / 2;
    (!values.is_empty()).then(|| *values.select_nth_unstable_by(at, f64::total_cmp).1)
}

/// How far values lie from their middle, as a deviation that single ones far off do not stretch.
fn spread(values: &[f64]) -> Option<f64> {
    let centre = middle(values.to_vec())?;
    middle(values.iter().map(|v| (v - centre).abs()).collect()).map(|apart| 1.4826 * apart)
}

/// The edge between two groups (N. Otsu, 1979), where their means lie at least so far apart: the middle of the widest gap near
/// it.
fn between_two(values: &[f64], apart: f64) -> Option<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_unstable_by(f64::total_cmp);
    let count = sorted.len() as f64;
    let all: f64 = sorted.iter().sum();
    let (mut below, mut best) = (0.0, None::<(f64, usize)>);
    for (i, value) in sorted.iter().enumerate().take(sorted.len().saturating_sub(1)) {
        below += value;
        let (low, high) = ((i + 1) as f64, count - (i + 1) as f64);
        let between = low * high * (below / low - (all - below) / high).powi(2);
        if best.is_none_or(|(most, _)| between > most) {
            best = Some((between, i));
        }
    }
    let (_, at) = best?;
    let mean = |part: &[f64]| part.iter().sum::<f64>() / part.len() as f64;
    let (low, high) = (mean(&sorted[..=at]), mean(&sorted[at + 1..]));
    if high - low < apart {
        return None;
    }
    // Between the two groups lies twilight: the edge is where the fewest frames are.
    let near = |v: f64| v > low + 0.1 * (high - low) && v < low + 0.7 * (high - low);
    let gap = sorted
        .windows(2)
        .filter(|w| near((w[0] + w[1]) / 2.0))
        .max_by(|a, b| (a[1] - a[0]).total_cmp(&(b[1] - b[0])));
    Some(gap.map_or((low + high) / 2.0, |w| (w[0] + w[1]) / 2.0))
}

#[cfg(test)]
mod tests {
    use super::super::{Light, sieve};
    use super::*;
    use jiff::ToSpan;
    use jiff::civil::date;

    /// Ten days of frames every half hour: nights with a lamp, one foggy morning, one dull day, things that pass.
    fn frames() -> (Vec<SieveFrame>, Vec<bool>) {
        let start = date(2026, 3, 2).at(0, 0, 0, 0);
        let frame = |i: i64| {
            let (day, hour) = (i / 48, (i % 48) as f64 / 2.0);
            let night = !(7.0..18.0).contains(&hour);
            let fog = day == 3 && (7.0..10.0).contains(&hour);
            let dull = day == 6;
            let passes = i % 37 == 20;
            let light = Light {
                brightness: 42.0 + (i % 5) as f64 * 0.3,
                contrast: 40.0 + hour - if fog { 18.0 } else { 0.0 } + (i % 3) as f64 * 0.4,
                scene: Some(if night {
                    2.0
                } else {
                    12.0 - (hour - 12.5).abs() / 3.0 - if dull { 2.0 } else { 0.0 }
                }),
                unusual: Some(if passes { 22.0 } else { 1.5 + (i % 4) as f64 * 0.2 }),
                ..Light::default()
            };
            let taken = Some(start + (i * 30).minutes());
            (
                SieveFrame { taken, light: Some(light), ..SieveFrame::default() },
                night || fog || dull || passes,
            )
        };
        (0..480).map(frame).unzip()
    }

    #[test]
    fn what_is_suggested_takes_what_a_person_would() {
        let (frames, go) = frames();
        let passes = suggested(&frames);
        assert_eq!(passes.len(), 4, "{passes:?}");
        let by = sieve(&frames, &passes).unwrap().by;
        let wrong = by.iter().zip(&go).filter(|(by, go)| by.is_some() != **go).count();
        assert!(wrong <= 2, "{wrong} wrong: {passes:?}");
    }

    #[test]
    fn nothing_is_suggested_for_what_is_not_there() {
        let (frames, go) = frames();
        let good: Vec<SieveFrame> =
            frames.into_iter().zip(go).filter(|(_, go)| !go).map(|(f, _)| f).collect();
        assert_eq!(suggested(&good), []);
        assert_eq!(suggested(&[]), []);
        // Without the camera's setting dark nights are still told.
        let dark = |(i, f): (usize, SieveFrame)| {
            let brightness = if i % 3 == 0 { 4.0 } else { 45.0 };
            SieveFrame { light: f.light.map(|l| Light { scene: None, brightness, ..l }), ..f }
        };
        let dim: Vec<SieveFrame> = good.into_iter().enumerate().map(dark).collect();
        let by = sieve(&dim, &suggested(&dim)).unwrap().by;
        assert!(by.iter().enumerate().all(|(i, by)| by.is_some() == (i % 3 == 0)));
    }
}
