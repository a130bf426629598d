//! The light of a sequence over its frames: how it changes from frame to frame whatever moves through them, and what of that
//! is slow.
//!
//! Light is compared block by block in stops. Between two frames that were exposed differently all blocks change alike; what
//! moves, and where the sun comes or goes, changes some of them. So the change of a pair of frames is the middle of what its
//! blocks change by. Adding these up gives the course of the light; a local quadratic through it (W. S. Cleveland, "Robust
//! locally weighted regression", 1979) is what is slow. The course begins anew where most blocks change otherwise than the
//! rest: another scene is no flicker.

/// Light of the blocks of one frame in stops; nothing for a block that is clipped or too dark to tell.
pub type Blocks = Vec<Option<f32>>;

/// The fewest blocks two frames are compared by.
const FEWEST: usize = 8;

/// From so many stops of spread among its blocks on, a change is another scene.
const OTHER_SCENE: f64 = 0.5;

fn median(values: &mut [f64]) -> f64 {
    let middle = values.len() / 2;
    *values.select_nth_unstable_by(middle, f64::total_cmp).1
}

/// Stops that one frame is brighter than another; nothing where they have too few blocks in common, or show different scenes.
fn change(before: &Blocks, after: &Blocks) -> Option<f64> {
    let pairs = before.iter().zip(after);
    let mut apart: Vec<f64> = pairs.filter_map(|(a, b)| Some(f64::from((*b)? - (*a)?))).collect();
    if apart.len() < FEWEST {
        return None;
    }
    let middle = median(&mut apart);
    let mut distances: Vec<f64> = apart.iter().map(|v| (v - middle).abs()).collect();
    let spread = median(&mut distances);
    // The mean of those near the middle is less at the mercy of single blocks than the middle itself.
    let reach = (2.0 * spread).max(0.02);
    let near: Vec<f64> = apart.into_iter().filter(|v| (v - middle).abs() <= reach).collect();
    let stops = near.iter().sum::<f64>() / near.len() as f64;
    (spread < OTHER_SCENE).then_some(stops)
}

/// The course of the light: for each frame which stretch it belongs to, and its light in stops against that stretch's first
/// frame; nothing for a frame that tells nothing.
pub fn course(frames: &[Option<Blocks>]) -> Vec<Option<(usize, f64)>> {
    let mut out: Vec<Option<(usize, f64)>> = vec![None; frames.len()];
    let mut stretch = 0;
    let mut last: Option<(usize, f64)> = None;
    for (i, blocks) in frames.iter().enumerate() {
        let Some(blocks) = blocks.as_ref().filter(|b| b.iter().flatten().count() >= FEWEST) else { continue };
        let before = last.and_then(|(at, light)| Some((frames[at].as_ref()?, light)));
        let light = match before.and_then(|(before, light)| Some(light + change(before, blocks)?)) {
            Some(light) => light,
            None => {
                stretch += usize::from(last.is_some());
                0.0
            }
        };
        out[i] = Some((stretch, light));
        last = Some((i, light));
    }
    out
}

/// Rounds in which what lies far off counts less.
const ROUNDS: usize = 3;

/// How often blocks far from the line through two frames are counted less.
const LINES: usize = 8;

/// The steepness of the straight line through pairs of values, pairs far from it counting less (Tukey's weights).
fn steepness(pairs: &[(f64, f64)]) -> Option<f64> {
    let mut weights = vec![1.0; pairs.len()];
    let mut steep = 1.0;
    for _ in 0..LINES {
        let sum = |of: &dyn Fn(&(f64, f64)) -> f64| -> f64 {
            pairs.iter().zip(&weights).map(|(pair, weight)| weight * of(pair)).sum()
        };
        let total = sum(&|_| 1.0);
        let (x, y) = (sum(&|p| p.0) / total, sum(&|p| p.1) / total);
        let wide = sum(&|p| (p.0 - x).powi(2));
        if wide / total < LEAST_SPREAD.powi(2) {
            return None;
        }
        steep = sum(&|p| (p.0 - x) * (p.1 - y)) / wide;
        let off: Vec<f64> = pairs.iter().map(|p| (p.1 - y - steep * (p.0 - x)).abs()).collect();
        let scale = 4.685 * (1.4826 * median(&mut off.clone())).max(1e-4);
        for (weight, off) in weights.iter_mut().zip(&off) {
            let share = (off / scale).min(1.0);
            // A trace is left, so that the line never rests on nothing.
            *weight = (1.0 - share * share).powi(2).max(1e-6);
        }
    }
    (steep > 0.0).then_some(steep)
}

/// Blocks whose light lies within so many stops tell nothing of contrast.
const LEAST_SPREAD: f64 = 0.15;

/// How much more contrast one frame has than another, as a binary logarithm: how the light of their blocks, in stops, is
/// spread. Both directions count alike, since chance in either frame makes its own line too flat.
fn widening(before: &Blocks, after: &Blocks) -> Option<f64> {
    let pairs: Vec<(f64, f64)> =
        before.iter().zip(after).filter_map(|(a, b)| Some((f64::from((*a)?), f64::from((*b)?)))).collect();
    if pairs.len() < FEWEST {
        return None;
    }
    let turned: Vec<(f64, f64)> = pairs.iter().map(|(a, b)| (*b, *a)).collect();
    Some((steepness(&pairs)?.log2() - steepness(&turned)?.log2()) / 2.0)
}

/// The most that the contrast of one frame is changed, as a binary logarithm.
const MOST_WIDENED: f64 = 0.5;

/// The power that the light of each frame is to be raised by so that of its contrast only what changes slowly stays; 1 for a
/// frame that tells nothing.
pub fn contrast_corrections(frames: &[Option<Blocks>], reach: f64) -> Vec<f64> {
    let light = course(frames);
    let mut out = vec![1.0; frames.len()];
    let stretches = light.iter().flatten().map(|(stretch, _)| stretch + 1).max().unwrap_or(0);
    for stretch in 0..stretches {
        let (mut of, mut values): (Vec<usize>, Vec<f64>) = (Vec::new(), Vec::new());
        let mut last: Option<(usize, f64)> = None;
        for at in (0..frames.len()).filter(|at| light[*at].is_some_and(|(own, _)| own == stretch)) {
            let Some(blocks) = &frames[at] else { continue };
            let width = match last {
                None => 0.0,
                // A pair that tells nothing of contrast is taken to have the same.
                Some((before, width)) => {
                    width + frames[before].as_ref().and_then(|b| widening(b, blocks)).unwrap_or(0.0)
                }
            };
            of.push(at);
            values.push(width);
            last = Some((at, width));
        }
        let places: Vec<f64> = of.iter().map(|at| *at as f64).collect();
        for ((at, width), slow) in of.iter().zip(&values).zip(slow(&places, &values, reach)) {
            out[*at] = (slow - width).clamp(-MOST_WIDENED, MOST_WIDENED).exp2();
        }
    }
    out
}

/// What is slow in values at places: a local quadratic that reaches `reach` places to each side.
pub fn slow(places: &[f64], values: &[f64], reach: f64) -> Vec<f64> {
    if values.is_empty() {
        return Vec::new();
    }
    let mut trust = vec![1.0; values.len()];
    let mut out = Vec::new();
    for round in 0..ROUNDS {
        out = (0..values.len()).map(|i| fitted(places, values, &trust, i, reach)).collect();
        if round + 1 == ROUNDS {
            break;
        }
        let mut off: Vec<f64> = values.iter().zip(&out).map(|(v, s)| (v - s).abs()).collect();
        let mean = off.iter().sum::<f64>() / off.len().max(1) as f64;
        let scale = 6.0 * median(&mut off.clone()).max(mean / 4.0).max(1e-9);
        for (trust, off) in trust.iter_mut().zip(&mut off) {
            let share = (*off / scale).min(1.0);
            *trust = (1.0 - share * share).powi(2);
        }
    }
    out
}

/// The value at one place of the quadratic that fits best around it.
fn fitted(places: &[f64], values: &[f64], trust: &[f64], i: usize, reach: f64) -> f64 {
    let here = places[i];
    let from = places.partition_point(|p| *p < here - reach);
    let to = places.partition_point(|p| *p <= here + reach);
    // Sums of w·xⁿ and w·xⁿ·y.
    let (mut x, mut y) = ([0f64; 5], [0f64; 3]);
    for k in from..to {
        let d = (places[k] - here) / (reach + 1.0);
        let weight = (1.0 - d.abs().powi(3)).powi(3).max(0.0) * trust[k].max(1e-6);
        let mut power = weight;
        for (n, sum) in x.iter_mut().enumerate() {
            *sum += power;
            if n < 3 {
                y[n] += power * values[k];
            }
            power *= d;
        }
    }
    // Cramer's rule for the constant part; the mean where there are too few places for more.
    let mean = if x[0] > 0.0 { y[0] / x[0] } else { values[i] };
    let det = x[0] * x[2] - x[1] * x[1];
    if to - from < 3 || det <= 1e-9 * x[0] * x[0] {
        return mean;
    }
    let line = (y[0] * x[2] - y[1] * x[1]) / det;
    let det = x[0] * (x[2] * x[4] - x[3] * x[3]) - x[1] * (x[1] * x[4] - x[2] * x[3])
        + x[2] * (x[1] * x[3] - x[2] * x[2]);
    if to - from < 5 || det <= 1e-9 * x[0].powi(3) {
        return line;
    }
    let top = y[0] * (x[2] * x[4] - x[3] * x[3]) - x[1] * (y[1] * x[4] - y[2] * x[3])
        + x[2] * (y[1] * x[3] - y[2] * x[2]);
    // Towards the ends, where only one side tells, a curve would follow every single value: a straight line does less.
    let reached = (here - places[from]).min(places[to - 1] - here) / reach;
    let share = (2.0 * reached).clamp(0.0, 1.0);
    line + (top / det - line) * share
}

/// Stops that each frame is to be made brighter so that only what is slow stays; 0 for a frame that tells nothing.
pub fn corrections(frames: &[Option<Blocks>], reach: f64) -> Vec<f64> {
    let course = course(frames);
    let mut out = vec![0.0; frames.len()];
    let stretches = course.iter().flatten().map(|(stretch, _)| stretch + 1).max().unwrap_or(0);
    for stretch in 0..stretches {
        let of: Vec<(usize, f64)> = course
            .iter()
            .enumerate()
            .filter_map(|(i, told)| told.filter(|(own, _)| *own == stretch).map(|(_, light)| (i, light)))
            .collect();
        let places: Vec<f64> = of.iter().map(|(i, _)| *i as f64).collect();
        let values: Vec<f64> = of.iter().map(|(_, light)| *light).collect();
        for ((i, light), slow) in of.iter().zip(slow(&places, &values, reach)) {
            out[*i] = slow - light;
        }
    }
    out
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    /// The same numbers every time, between −1 and 1.
    pub(crate) fn chance(n: usize) -> f64 {
        let mut z = (n as u64 + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 52) as f64 - 1.0
    }

    const BLOCKS: usize = 96;

    /// Frames of a scene whose light changes slowly and flickers; a thing of a fifth of the picture passes through it.
    fn frames(
        count: usize,
        slow: impl Fn(usize) -> f64,
        flicker: impl Fn(usize) -> f64,
    ) -> Vec<Option<Blocks>> {
        let frame = |i: usize| {
            let block = |b: usize| {
                let passes = (b + i * 3) % BLOCKS < BLOCKS / 5;
                let own = -3.0 + 2.0 * chance(b) - if passes { 2.0 } else { 0.0 };
                Some((own + slow(i) + flicker(i) + 0.004 * chance(b * 977 + i)) as f32)
            };
            Some((0..BLOCKS).map(block).collect())
        };
        (0..count).map(frame).collect()
    }

    #[test]
    fn flicker_goes_and_slow_change_stays() {
        let slow = |i: usize| 0.8 * (i as f64 / 70.0).sin();
        let flicker = |i: usize| 0.15 * chance(i * 31);
        let found = corrections(&frames(240, slow, flicker), 40.0);
        let (mut left, mut was) = (0.0, 0.0);
        // At the ends only one side tells what is slow.
        for (i, found) in found.iter().enumerate().skip(20).take(200) {
            left += (flicker(i) + found).powi(2);
            was += flicker(i).powi(2);
        }
        // What cannot be told from slow change within the reach stays.
        assert!(left < 0.05 * was, "{:.3} of the variance is left", left / was);
        // Without flicker hardly anything is done: within two hundredths of the light.
        let still = corrections(&frames(240, slow, |_| 0.0), 40.0);
        assert!(still[20..220].iter().all(|v| v.abs() < 0.029), "{still:?}");
    }

    #[test]
    fn contrast_that_flickers_goes_and_contrast_that_changes_slowly_stays() {
        let slow = |i: usize| 0.1 * (i as f64 / 60.0).sin();
        let flicker = |i: usize| 0.06 * chance(i * 41);
        let mut all = frames(200, |_| 0.0, |i| 0.1 * chance(i * 31));
        for (i, blocks) in all.iter_mut().enumerate() {
            for light in blocks.iter_mut().flatten() {
                *light = light.map(|v| (-3.0 + (f64::from(v) + 3.0) * (slow(i) + flicker(i)).exp2()) as f32);
            }
        }
        let found = contrast_corrections(&all, 40.0);
        let (mut left, mut was) = (0.0, 0.0);
        for (i, power) in found.iter().enumerate().skip(20).take(160) {
            left += (flicker(i) + power.log2()).powi(2);
            was += flicker(i).powi(2);
        }
        assert!(left < 0.07 * was, "{:.3} of the variance is left", left / was);
        // A scene of one light tells nothing of contrast.
        let flat: Vec<Option<Blocks>> = (0..20).map(|_| Some(vec![Some(-2.0); BLOCKS])).collect();
        assert!(contrast_corrections(&flat, 10.0).iter().all(|power| *power == 1.0));
    }

    #[test]
    fn another_scene_begins_anew_and_frames_that_tell_nothing_are_left_alone() {
        let flicker = |i: usize| 0.1 * chance(i * 7);
        let mut all = frames(60, |_| 0.0, flicker);
        // Another scene from the thirtieth on, four stops brighter.
        for blocks in all.iter_mut().skip(30).flatten() {
            for (b, light) in blocks.iter_mut().enumerate() {
                *light = light.map(|v| v + 4.0 + 3.0 * chance(b * 13) as f32);
            }
        }
        all[10] = None;
        all[45] = Some(vec![None; BLOCKS]);
        let found = corrections(&all, 20.0);
        assert_eq!((found[10], found[45]), (0.0, 0.0));
        assert!(found.iter().all(|v| v.abs() < 0.25), "{found:?}");
        let course = course(&all);
        assert_eq!((course[29].unwrap().0, course[31].unwrap().0), (0, 1));
    }

    #[test]
    fn a_quadratic_comes_through_and_single_frames_far_off_do_not_count() {
        let places: Vec<f64> = (0..80).map(f64::from).collect();
        let curve = |x: f64| 1.0 + 0.02 * x - 0.0004 * x * x;
        let mut values: Vec<f64> = places.iter().map(|x| curve(*x)).collect();
        for (x, found) in places.iter().zip(slow(&places, &values, 12.0)).skip(12).take(56) {
            assert!((found - curve(*x)).abs() < 1e-6, "{x}: {found}");
        }
        values[40] += 3.0;
        for (x, found) in places.iter().zip(slow(&places, &values, 12.0)).skip(12).take(56) {
            assert!((found - curve(*x)).abs() < 0.02, "{x}: {found}");
        }
    }
}
