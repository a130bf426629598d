//! The curve between marks: through all of them, smooth, and never above or below the two it lies between.
//!
//! Cubic pieces whose slopes at the marks keep it monotone (F. N. Fritsch and J. Butland, "A method for constructing local
//! monotone piecewise cubic interpolants", 1984).

/// The value at a place; marks rise in their places. Beyond the ends the end's value holds; nothing without marks.
pub fn between(marks: &[(f64, f64)], at: f64) -> Option<f64> {
    let (first, last) = (marks.first()?, marks.last()?);
    if at <= first.0 {
        return Some(first.1);
    }
    if at >= last.0 {
        return Some(last.1);
    }
    let after = marks.partition_point(|(place, _)| *place <= at);
    let (a, b) = (marks[after - 1], marks[after]);
    let width = b.0 - a.0;
    let t = (at - a.0) / width;
    let (from, to) = (slope(marks, after - 1) * width, slope(marks, after) * width);
    let (t2, t3) = (t * t, t * t * t);
    let shares = [2.0 * t3 - 3.0 * t2 + 1.0, t3 - 2.0 * t2 + t, -2.0 * t3 + 3.0 * t2, t3 - t2];
    Some(a.1 * shares[0] + from * shares[1] + b.1 * shares[2] + to * shares[3])
}

/// The slope at a mark: a weighted harmonic mean of those to either side; none at an end or where it turns.
fn slope(marks: &[(f64, f64)], at: usize) -> f64 {
    if marks.len() == 2 {
        return (marks[1].1 - marks[0].1) / (marks[1].0 - marks[0].0);
    }
    let rise = |k: usize| {
        let (a, b) = (marks[k], marks[k + 1]);
        ((b.1 - a.1) / (b.0 - a.0), b.0 - a.0)
    };
    if at == 0 || at + 1 == marks.len() {
        return 0.0;
    }
    let ((before, left), (after, right)) = (rise(at - 1), rise(at));
    if before * after <= 0.0 {
        return 0.0;
    }
    let (first, second) = (2.0 * right + left, right + 2.0 * left);
    (first + second) / (first / before + second / after)
}

/// Frames at which marks follow light best: between each two of them its slow course changes as much.
pub fn where_light_changes(brightness: &[f64], marks: usize) -> Vec<usize> {
    let Some(last) = brightness.len().checked_sub(1).filter(|_| marks >= 2) else { return Vec::new() };
    let places: Vec<f64> = (0..brightness.len()).map(|i| i as f64).collect();
    let course = super::course::slow(&places, brightness, (brightness.len() as f64 / 20.0).max(3.0));
    let mut way = vec![0.0];
    for pair in course.windows(2) {
        way.push(way[way.len() - 1] + (pair[1] - pair[0]).abs() + 1e-6);
    }
    let all = way[last];
    let at = |k: usize| {
        let wanted = all * k as f64 / (marks - 1) as f64;
        way.partition_point(|v| *v < wanted - 1e-9).min(last)
    };
    let mut out: Vec<usize> = (0..marks).map(at).collect();
    out.dedup();
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_are_proposed_where_light_changes() {
        // Dark, then a quick rise around the middle, then bright.
        let light: Vec<f64> =
            (0..200).map(|i| 40.0 * (1.0 + ((f64::from(i) - 100.0) / 8.0).tanh())).collect();
        let marks = where_light_changes(&light, 5);
        assert_eq!((marks[0], marks[4]), (0, 199));
        assert!(marks[1..4].iter().all(|i| (70..130).contains(i)), "{marks:?}");
        assert!(where_light_changes(&[], 5).is_empty());
        assert_eq!(where_light_changes(&[1.0; 101], 5), [0, 25, 50, 75, 100]);
    }

    #[test]
    fn it_goes_through_its_marks_and_never_past_them() {
        let marks = [(0.0, 1.0), (3.0, 1.2), (4.0, 5.0), (9.0, 5.0), (12.0, -2.0), (20.0, -1.5)];
        for (place, value) in marks {
            assert_eq!(between(&marks, place), Some(value));
        }
        for pair in marks.windows(2) {
            let ((a, low), (b, high)) = (pair[0], pair[1]);
            let values: Vec<f64> =
                (0..=50).map(|k| between(&marks, a + (b - a) * f64::from(k) / 50.0).unwrap()).collect();
            let rises = high >= low;
            assert!(values.windows(2).all(|w| if rises {
                w[1] >= w[0] - 1e-12
            } else {
                w[1] <= w[0] + 1e-12
            }));
        }
        assert_eq!((between(&marks, -5.0), between(&marks, 50.0)), (Some(1.0), Some(-1.5)));
    }

    #[test]
    fn it_has_no_corners_and_does_not_rest_where_it_goes_on_rising() {
        let marks = [(0.0, 0.0), (10.0, 1.0), (20.0, 3.0), (30.0, 4.0)];
        let slope =
            |at: f64| (between(&marks, at + 1e-4).unwrap() - between(&marks, at - 1e-4).unwrap()) / 2e-4;
        for mark in [10.0, 20.0] {
            assert!((slope(mark - 1e-3) - slope(mark + 1e-3)).abs() < 1e-3);
            assert!(slope(mark) > 0.1, "{}", slope(mark));
        }
        // Two marks make a straight line, one holds everywhere, none tells nothing.
        assert!((between(&marks[..2], 2.5).unwrap() - 0.25).abs() < 1e-12);
        assert_eq!((between(&marks[1..2], 0.0), between(&[], 0.0)), (Some(1.0), None));
    }
}
