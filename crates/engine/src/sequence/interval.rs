//! Mathematics of sequences: was the interval steady, did a value change?

/// A hole in a sequence: after the frame `after`, `missing` frames did not come.
#[derive(Clone, Debug, PartialEq)]
pub struct Gap {
    /// Position of the last frame before it.
    pub after: usize,
    /// Seconds from that frame to the next.
    pub seconds: f64,
    /// Frames that would have fitted.
    pub missing: usize,
}

/// What a row of capture times says.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Interval {
    /// The usual distance in seconds: the mean of the distances near the median, so that a clock that writes
    /// whole seconds still gives 2.5 s. 0 where there are fewer than three times.
    pub seconds: f64,
    /// Whether every time falls on a whole second.
    pub whole_seconds: bool,
    /// Holes.
    pub gaps: Vec<Gap>,
    /// Frames that came too soon after the one before.
    pub doubles: Vec<usize>,
}

/// Share of the usual distance from which on a longer one is a hole, and below which a shorter one is a double.
const LATE: f64 = 1.5;
const EARLY: f64 = 0.4;

/// Looks at `times` in seconds, rising. Rounding to whole seconds moves a distance by up to one second, which is
/// neither a gap nor a double.
pub fn interval(times: &[f64]) -> Interval {
    let whole_seconds = !times.is_empty() && times.iter().all(|t| (t - t.round()).abs() < 1e-6);
    let distances: Vec<f64> = times.windows(2).map(|w| w[1] - w[0]).collect();
    let mut result = Interval { whole_seconds, ..Interval::default() };
    if distances.len() < 2 {
        return result;
    }
    let mut sorted = distances.clone();
    sorted.sort_by(f64::total_cmp);
    let median = sorted[sorted.len() / 2];
    let slack = if whole_seconds { 1.0 } else { 0.02 * median };
    let near: Vec<f64> = distances.iter().copied().filter(|d| (d - median).abs() <= slack + 1e-9).collect();
    let usual = near.iter().sum::<f64>() / near.len().max(1) as f64;
    result.seconds = usual;
    if usual <= 0.0 {
        return result;
    }
    for (i, &d) in distances.iter().enumerate() {
        if d > usual * LATE && d > usual + slack {
            let missing = ((d / usual).round() as usize).saturating_sub(1).max(1);
            result.gaps.push(Gap { after: i, seconds: d, missing });
        } else if d < usual * EARLY && d < usual - slack {
            result.doubles.push(i + 1);
        }
    }
    result
}

/// Positions at which time runs backwards, by more than `slack` seconds, in the order the camera numbered its
/// frames: the clock was put back there.
pub fn backward(times: &[Option<f64>], slack: f64) -> Vec<usize> {
    let mut before = f64::NEG_INFINITY;
    let mut found = Vec::new();
    for (i, time) in times.iter().enumerate() {
        if let Some(t) = *time {
            if t < before - slack {
                found.push(i);
            }
            before = t;
        }
    }
    found
}

/// Positions at which a value differs from the one before; frames without one are passed over.
pub fn changes<T: PartialEq>(values: &[Option<T>]) -> Vec<usize> {
    let mut before: Option<&T> = None;
    let mut found = Vec::new();
    for (i, value) in values.iter().enumerate() {
        if let Some(v) = value {
            if before.is_some_and(|b| b != v) {
                found.push(i);
            }
            before = Some(v);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gaps_and_doubles_are_found_with_their_sizes() {
        let mut times: Vec<f64> = (0..40).map(|i| i as f64 * 30.25).collect();
        times.retain(|t| ![10.0 * 30.25, 20.0 * 30.25, 21.0 * 30.25].contains(t));
        times.insert(5, 4.0 * 30.25 + 0.5);
        let found = interval(&times);
        // The double stands near enough to pull the mean a little.
        assert!((found.seconds - 30.25).abs() < 0.05 && !found.whole_seconds);
        assert_eq!(found.doubles, [5]);
        assert_eq!(found.gaps.iter().map(|g| (g.after, g.missing)).collect::<Vec<_>>(), [(10, 1), (19, 2)]);
    }

    #[test]
    fn a_clock_of_whole_seconds_has_no_gaps() {
        for every in [0.7, 1.0, 1.5, 2.5, 3.3] {
            let times: Vec<f64> = (0..200).map(|i| (i as f64 * every).floor()).collect();
            let found = interval(&times);
            assert!(found.gaps.is_empty() && found.doubles.is_empty(), "{every}: {found:?}");
            assert!(
                found.whole_seconds && (found.seconds - every).abs() < 0.02,
                "{every}: {}",
                found.seconds
            );
        }
        // A frame that is really missing is still found.
        let times: Vec<f64> = (0..60).filter(|i| *i != 30).map(|i| (i as f64 * 2.5).floor()).collect();
        assert_eq!(interval(&times).gaps.len(), 1);
    }

    #[test]
    fn few_times_say_nothing() {
        assert_eq!(interval(&[]).seconds, 0.0);
        assert_eq!(interval(&[4.0, 9.0]).seconds, 0.0);
        assert!(interval(&[5.0; 6]).gaps.is_empty());
    }

    #[test]
    fn a_clock_put_back_and_changed_values() {
        assert_eq!(backward(&[Some(1.0), Some(2.0), None, Some(1.5), Some(3.0)], 0.1), [3]);
        assert_eq!(changes(&[Some(1), None, Some(1), Some(2), Some(2), Some(1)]), [3, 5]);
    }
}
