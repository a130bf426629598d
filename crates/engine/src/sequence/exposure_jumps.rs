//! Where a camera changed how much light it let in, and what takes the step out again.

/// Less than so many stops is no jump.
const LEAST: f64 = 0.05;

/// Frames, from 0, from which on the camera let in more or less light than before, and by how many stops. Frames that do not
/// say are passed over.
pub fn jumps(exposures: &[Option<f64>]) -> Vec<(usize, f64)> {
    let mut last: Option<f64> = None;
    let mut out = Vec::new();
    for (i, exposure) in exposures.iter().enumerate() {
        let Some(now) = *exposure else { continue };
        if let Some(before) = last
            && (now - before).abs() >= LEAST
        {
            out.push((i, now - before));
        }
        last = Some(now);
    }
    out
}

/// Marks `(frame, stops brighter)` that let the light run through the jumps without a step: before and behind each the frames
/// come to its middle, and between two jumps it goes evenly.
pub fn compensation(exposures: &[Option<f64>]) -> Vec<(usize, f64)> {
    let jumps = jumps(exposures);
    let Some(last) = exposures.len().checked_sub(1).filter(|_| !jumps.is_empty()) else { return Vec::new() };
    let mut out: Vec<(usize, f64)> = Vec::with_capacity(jumps.len() * 2 + 2);
    let mut mark = |frame: usize, stops: f64| match out.last_mut() {
        // Of one frame between two jumps the middle of both.
        Some((at, known)) if *at == frame => *known = (*known + stops) / 2.0,
        _ => out.push((frame, stops)),
    };
    mark(0, 0.0);
    for (frame, step) in jumps {
        mark(frame - 1, step / 2.0);
        mark(frame, -step / 2.0);
    }
    mark(last, 0.0);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn jumps_are_found_and_the_light_runs_through_them() {
        let exposures: Vec<Option<f64>> = (0..60)
            .map(|i| {
                (i != 25).then_some(if i < 20 {
                    0.0
                } else if i < 41 {
                    1.0
                } else {
                    1.5
                })
            })
            .collect();
        assert_eq!(jumps(&exposures), [(20, 1.0), (41, 0.5)]);
        let marks = compensation(&exposures);
        assert_eq!(marks, [(0, 0.0), (19, 0.5), (20, -0.5), (40, 0.25), (41, -0.25), (59, 0.0)]);
        let places: Vec<(f64, f64)> = marks.iter().map(|(i, v)| (*i as f64, *v)).collect();
        let light = |i: usize| {
            exposures[i].unwrap_or(1.0) + super::super::ramp_curve::between(&places, i as f64).unwrap()
        };
        let most = (1..60).map(|i| (light(i) - light(i - 1)).abs()).fold(0.0, f64::max);
        assert!(most < 0.08, "no step is left: {most}");
    }

    #[test]
    fn without_jumps_nothing_is_compensated() {
        assert!(compensation(&[]).is_empty() && compensation(&[Some(1.0); 9]).is_empty());
        assert!(jumps(&[None, None]).is_empty());
        // A frame alone between two jumps.
        let marks = compensation(&[Some(0.0), Some(0.0), Some(1.0), Some(0.0), Some(0.0)]);
        assert_eq!(marks, [(0, 0.0), (1, 0.5), (2, -0.5), (3, 0.5), (4, 0.0)]);
    }
}
