//! The tone that a camera gives its own pictures, found from the preview beside the raw.

use crate::colour::transfer::Table;

/// Shares of pixels at which the two are compared.
const STEPS: usize = 64;

/// Fewer values than this say nothing.
const LEAST: usize = 400;

/// The curve that takes developed light to what the camera shows of the same scene: at each share of the pixels, from the
/// darkest on, one is as bright as the other. Both are luminances, 1 for white, in any order; none where they are too few.
pub fn matched(developed: &[f32], shown: &[f32]) -> Option<Table> {
    if developed.len() < LEAST || shown.len() < LEAST {
        return None;
    }
    let sorted = |values: &[f32]| {
        let mut sorted: Vec<f32> =
            values.iter().map(|v| if v.is_finite() { v.max(0.0) } else { 0.0 }).collect();
        sorted.sort_unstable_by(f32::total_cmp);
        sorted
    };
    let (developed, shown) = (sorted(developed), sorted(shown));
    let at = |values: &[f32], share: f64| values[((values.len() - 1) as f64 * share).round() as usize];
    // The outermost shares hang on single pixels.
    let shares = (0..=STEPS).map(|i| 0.005 + 0.985 * i as f64 / STEPS as f64);
    let mut points: Vec<(f32, f32)> = vec![(0.0, 0.0)];
    for share in shares {
        let (x, y) = (at(&developed, share).sqrt(), at(&shown, share).min(1.0).sqrt());
        let (last_x, last_y) = points[points.len() - 1];
        // What lies closer together is one point; a curve never falls.
        if x > last_x + 0.004 {
            points.push((x, y.max(last_y)));
        }
    }
    let &(end_x, end_y) = points.last().filter(|p| p.0 > 0.05)?;
    Some(Table::new(move |light| {
        let x = light.max(0.0).sqrt();
        if x >= end_x {
            // Above all that was compared it comes to white softly.
            let rest = 1.0 - end_y;
            let y = end_y + rest * (1.0 - (-(x - end_x) / (rest.max(0.05))).exp());
            return y * y;
        }
        let after = points.partition_point(|p| p.0 <= x).clamp(1, points.len() - 1);
        let ((x0, y0), (x1, y1)) = (points[after - 1], points[after]);
        let y = y0 + (y1 - y0) * (x - x0) / (x1 - x0).max(1e-6);
        y * y
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_curve_between_two_pictures_of_one_scene_is_found() {
        // A scene of all tones, shown brighter in the middle and rounded at the top.
        let scene: Vec<f32> = (0..4000).map(|i| (i as f32 / 4000.0).powi(2) * 0.9).collect();
        let camera = |light: f32| 1.0 - (1.0 - light).powf(1.8);
        let mut shown: Vec<f32> = scene.iter().map(|v| camera(*v)).collect();
        shown.reverse();
        let tone = matched(&scene, &shown).unwrap();
        for light in [0.02, 0.1, 0.3, 0.6, 0.85] {
            assert!((tone.at(light) - camera(light)).abs() < 0.01, "{light}: {}", tone.at(light));
        }
        // It never falls, and stays below white.
        let mut last = 0.0;
        for i in 0..400 {
            let now = tone.at(i as f32 / 100.0);
            assert!(now >= last - 1e-5 && now <= 1.0001, "{i}: {now} after {last}");
            last = now;
        }
    }

    #[test]
    fn what_says_nothing_gives_no_curve() {
        assert!(matched(&[0.5; 100], &[0.5; 1000]).is_none());
        assert!(matched(&[0.0; 1000], &[0.5; 1000]).is_none());
        assert!(matched(&[f32::NAN; 1000], &[0.5; 1000]).is_none());
    }
}
