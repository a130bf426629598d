//! From how each frame of a sequence lies against one of them, and against the one before it, to where each is taken from so
//! that the picture stands still.
//!
//! A frame whose motion against the reference is not known takes it through its neighbours, each against the next; one that
//! cannot be aligned with any takes the course of those around it. Motions are told as the places of the picture's four
//! corners, which can be averaged, smoothed and interpolated number by number.

use crate::ops::warp::Projective;
use crate::sequence::course::slow;

/// What is known of a frame's motion.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct FrameMotion {
    /// From places in the reference to the same places in the frame, from the middle in lengths of the long edge.
    pub on_reference: Option<Projective>,
    /// The same from the frame before it.
    pub on_before: Option<Projective>,
    /// The same from the frame after it.
    pub on_after: Option<Projective>,
}

/// Where a frame's motion is known from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KnownBy {
    /// It was aligned on the reference.
    Reference,
    /// It was aligned on frames beside it, one on the next.
    Neighbours,
    /// It could not be aligned and takes the course of the frames around it.
    Course,
}

/// What the picture is held to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum HeldTo {
    /// The reference frame.
    Reference,
    /// The middle of where all frames lie.
    Middle,
    /// The slow course of the frames, which reaches so many to each side; the camera's own drift stays.
    Course(f64),
}

/// Where each frame is taken from.
#[derive(Clone, Debug, PartialEq)]
pub struct Steadied {
    /// For each frame: from places of the result to places of the frame, and where its motion is known from.
    pub frames: Vec<(Projective, KnownBy)>,
    /// The largest part of the result, with the picture's proportions, that all frames cover: `[x, y, width, height]` as
    /// shares of its sides.
    pub covered: [f64; 4],
}

/// Four corners: left top, right top, right bottom, left bottom.
type Corners = [f64; 8];

/// The part that is kept is never smaller than this; what a frame lacks of it is made of its edge.
const LEAST_COVERED: f64 = 0.4;

/// A camera that moved by more than this between one frame and the next, in lengths of the long edge, and stays there, was
/// knocked.
const KNOCK: f64 = 0.002;

/// Frames to each side of a knock that tell.
const BESIDE: usize = 4;

/// Half the width and height of the picture in lengths of its long edge.
fn corners_of(shape: (f64, f64)) -> [(f64, f64); 4] {
    let (x, y) = shape;
    [(-x, -y), (x, -y), (x, y), (-x, y)]
}

fn seen(motion: &Projective, shape: (f64, f64)) -> Corners {
    let at = corners_of(shape).map(|(x, y)| motion.at(x, y));
    std::array::from_fn(|i| if i % 2 == 0 { at[i / 2].0 } else { at[i / 2].1 })
}

/// The motion that takes the picture's corners to these places.
fn motion_of(corners: &Corners, shape: (f64, f64)) -> Option<Projective> {
    let to = [0, 1, 2, 3].map(|i| (corners[2 * i], corners[2 * i + 1]));
    let own = Projective::from_square(corners_of(shape))?;
    Some(own.inverse()?.then(&Projective::from_square(to)?).normalised())
}

/// Where each frame is taken from so that the picture stands still. `shape` is half the width and height of the picture in
/// lengths of its long edge.
pub fn steadied(frames: &[FrameMotion], shape: (f64, f64), held_to: HeldTo) -> Steadied {
    let (places, known_by) = known(frames, shape);
    let own = seen(&Projective::IDENTITY, shape);
    let count = frames.len();
    // Where the picture is held, for each frame.
    let held: Vec<Corners> = match held_to {
        HeldTo::Reference => vec![own; count],
        HeldTo::Middle => {
            let middle = |k: usize| {
                let mut all: Vec<f64> = places.iter().map(|corners| corners[k]).collect();
                let at = all.len() / 2;
                all.get(at).is_some().then(|| *all.select_nth_unstable_by(at, f64::total_cmp).1)
            };
            vec![std::array::from_fn(|k| middle(k).unwrap_or(own[k])); count]
        }
        HeldTo::Course(reach) => courses(&places, reach),
    };
    let taken = places.iter().zip(&held).zip(&known_by).map(|((place, held), by)| {
        let motion = motion_of(place, shape).zip(motion_of(held, shape));
        let map = motion.and_then(|(frame, held)| Some(held.inverse()?.then(&frame)));
        let map = map.map(|map| map.normalised());
        (map.unwrap_or(Projective::IDENTITY), *by)
    });
    let frames: Vec<(Projective, KnownBy)> = taken.collect();
    let covered = covered(frames.iter().map(|(map, _)| map), shape);
    Steadied { frames, covered }
}

/// Where each frame has the reference's corners, and what that is known from.
fn known(frames: &[FrameMotion], shape: (f64, f64)) -> (Vec<Corners>, Vec<KnownBy>) {
    let still = Projective::IDENTITY;
    let mut forward: Vec<Option<(Projective, usize)>> =
        frames.iter().map(|f| f.on_reference.map(|m| (m, 0))).collect();
    // Without any frame on the reference the first one is it.
    if let (true, Some(first)) = (forward.iter().all(Option::is_none), forward.first_mut()) {
        *first = Some((still, 0));
    }
    let mut backward = forward.clone();
    for i in 1..frames.len() {
        if forward[i].is_none() {
            forward[i] = forward[i - 1]
                .zip(frames[i].on_before)
                .map(|((before, far), step)| (before.then(&step), far + 1));
        }
    }
    for i in (0..frames.len().saturating_sub(1)).rev() {
        if backward[i].is_none() {
            backward[i] = backward[i + 1]
                .zip(frames[i].on_after)
                .map(|((after, far), step)| (after.then(&step), far + 1));
        }
    }
    let mut known_by = Vec::with_capacity(frames.len());
    let mut places: Vec<Option<Corners>> = Vec::with_capacity(frames.len());
    for (forward, backward) in forward.iter().zip(&backward) {
        let of = |known: &Option<(Projective, usize)>| known.map(|(m, far)| (seen(&m, shape), far));
        // What was followed from both sides is their mean, the nearer side counting more.
        let place = match (of(forward), of(backward)) {
            (Some((a, 0)), _) => Some((a, KnownBy::Reference)),
            (Some((a, far)), Some((b, other))) => {
                let share = far as f64 / (far + other) as f64;
                let mean = std::array::from_fn(|k| a[k] + (b[k] - a[k]) * share);
                Some((mean, KnownBy::Neighbours))
            }
            (Some((a, _)), None) | (None, Some((a, _))) => Some((a, KnownBy::Neighbours)),
            (None, None) => None,
        };
        known_by.push(place.map_or(KnownBy::Course, |(_, by)| by));
        places.push(place.map(|(place, _)| place));
    }
    let own = seen(&still, shape);
    let at: Vec<usize> = (0..places.len()).filter(|i| places[*i].is_some()).collect();
    let filled = (0..places.len()).map(|i| {
        if let Some(place) = places[i] {
            return place;
        }
        let after = at.partition_point(|known| *known < i);
        let known = |k: usize| at.get(k).and_then(|k| places[*k].map(|place| (*k, place)));
        match (after.checked_sub(1).and_then(known), known(after)) {
            (Some((from, a)), Some((to, b))) => {
                let share = (i - from) as f64 / (to - from) as f64;
                std::array::from_fn(|k| a[k] + (b[k] - a[k]) * share)
            }
            (Some((_, near)), None) | (None, Some((_, near))) => near,
            (None, None) => own,
        }
    });
    (filled.collect(), known_by)
}

/// The slow course of the corners. Knocks are taken out of it, so that it goes on as if there had been none.
fn courses(places: &[Corners], reach: f64) -> Vec<Corners> {
    let mut even = places.to_vec();
    let middle = |all: &[Corners], k: usize| {
        let mut values: Vec<f64> = all.iter().map(|corners| corners[k]).collect();
        let at = values.len() / 2;
        *values.select_nth_unstable_by(at, f64::total_cmp).1
    };
    for i in 1..places.len() {
        let step: f64 = (0..8).map(|k| (places[i][k] - places[i - 1][k]).abs()).fold(0.0, f64::max);
        if step < KNOCK {
            continue;
        }
        let (before, after) =
            (&places[i.saturating_sub(BESIDE)..i], &places[i..(i + BESIDE).min(places.len())]);
        let drift: Vec<Corners> = [before, after]
            .iter()
            .flat_map(|side| side.windows(2).map(|two| std::array::from_fn(|k| two[1][k] - two[0][k])))
            .collect();
        // The middles of both sides, less what the camera drifted from the one to the other.
        let apart = (before.len() + after.len()) as f64 / 2.0;
        let by: Corners = std::array::from_fn(|k| {
            let drift = if drift.is_empty() { 0.0 } else { middle(&drift, k) };
            middle(after, k) - middle(before, k) - drift * apart
        });
        // A knock is a large step between two places that both hold.
        if by.iter().fold(0.0, |most: f64, by| most.max(by.abs())) < 0.6 * step {
            continue;
        }
        for corners in &mut even[i..] {
            corners.iter_mut().zip(by).for_each(|(v, by)| *v -= by);
        }
    }
    let at: Vec<f64> = (0..places.len()).map(|i| i as f64).collect();
    let slow: Vec<Vec<f64>> = (0..8)
        .map(|k| {
            let values: Vec<f64> = even.iter().map(|corners| corners[k]).collect();
            slow(&at, &values, reach)
        })
        .collect();
    (0..places.len()).map(|i| std::array::from_fn(|k| slow[k][i])).collect()
}

/// Places along each side of the result that are looked up.
const ALONG: usize = 5;

/// The largest part, with the picture's proportions, of which every mapping stays in its frame.
fn covered<'a>(maps: impl Iterator<Item = &'a Projective> + Clone, shape: (f64, f64)) -> [f64; 4] {
    let (half_w, half_h) = shape;
    if half_w <= 0.0 || half_h <= 0.0 {
        return [0.0, 0.0, 1.0, 1.0];
    }
    // Left, top, right and bottom, from the middle; what a frame lacks of a side moves it in, until none lacks anything.
    let mut sides = [-half_w, -half_h, half_w, half_h];
    for _ in 0..6 {
        let mut by = [0f64; 4];
        for map in maps.clone() {
            for k in 0..=ALONG {
                let share = k as f64 / ALONG as f64;
                let (x, y) =
                    (sides[0] + (sides[2] - sides[0]) * share, sides[1] + (sides[3] - sides[1]) * share);
                by[0] = by[0].max(-half_w - map.at(sides[0], y).0);
                by[2] = by[2].max(map.at(sides[2], y).0 - half_w);
                by[1] = by[1].max(-half_h - map.at(x, sides[1]).1);
                by[3] = by[3].max(map.at(x, sides[3]).1 - half_h);
            }
        }
        sides[0] += by[0];
        sides[1] += by[1];
        sides[2] -= by[2];
        sides[3] -= by[3];
        if by.iter().all(|by| *by < 1e-9) {
            break;
        }
    }
    let shares = [
        (sides[0] + half_w) / (2.0 * half_w),
        (sides[1] + half_h) / (2.0 * half_h),
        (sides[2] - sides[0]) / (2.0 * half_w),
        (sides[3] - sides[1]) / (2.0 * half_h),
    ];
    let size = shares[2].min(shares[3]).clamp(LEAST_COVERED, 1.0);
    let place = |from: f64, length: f64| (from + (length - size) / 2.0).clamp(0.0, 1.0 - size);
    [place(shares[0], shares[2]), place(shares[1], shares[3]), size, size]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sequence::course::tests::chance;

    const SHAPE: (f64, f64) = (0.5, 0.3);

    fn motion(x: f64, y: f64, turn: f64) -> Projective {
        let (sin, cos) = turn.sin_cos();
        Projective([cos, -sin, x, sin, cos, y, 0.0, 0.0, 1.0])
    }

    fn near(a: &Projective, b: &Projective) -> bool {
        seen(a, SHAPE).iter().zip(seen(b, SHAPE)).all(|(a, b)| (a - b).abs() < 1e-9)
    }

    /// Each frame against the first, and against the one before it.
    fn frames(truth: &[Projective]) -> Vec<FrameMotion> {
        let from = |other: Option<usize>, i: usize| Some(truth.get(other?)?.inverse()?.then(&truth[i]));
        (0..truth.len())
            .map(|i| FrameMotion {
                on_reference: Some(truth[i]),
                on_before: from(i.checked_sub(1), i),
                on_after: from(Some(i + 1), i),
            })
            .collect()
    }

    fn shaken(count: usize) -> Vec<Projective> {
        (0..count)
            .map(|i| motion(0.004 * chance(i * 3), 0.003 * chance(i * 3 + 1), 0.002 * chance(i * 3 + 2)))
            .collect()
    }

    #[test]
    fn every_frame_is_taken_from_where_it_lies() {
        let truth = shaken(30);
        let steady = steadied(&frames(&truth), SHAPE, HeldTo::Reference);
        for (found, truth) in steady.frames.iter().zip(&truth) {
            assert!(near(&found.0, truth) && found.1 == KnownBy::Reference);
        }
        // What is covered lies in every frame, and not much less than could be.
        let [x, y, w, h] = steady.covered;
        assert!(w > 0.97 && w < 1.0 && w == h, "{:?}", steady.covered);
        for truth in &truth {
            for (u, v) in [(0.0, 0.0), (1.0, 0.0), (0.0, 1.0), (1.0, 1.0), (0.5, 1.0)] {
                let at = truth.at(x + u * w - 0.5, (y + v * h - 0.5) * 0.6);
                assert!(at.0.abs() <= 0.5 + 1e-6 && at.1.abs() <= 0.3 + 1e-6, "{at:?}");
            }
        }
    }

    #[test]
    fn frames_off_the_reference_are_followed_through_their_neighbours() {
        let truth = shaken(20);
        let mut told = frames(&truth);
        told[7..11].iter_mut().for_each(|f| f.on_reference = None);
        told[19].on_reference = None;
        let steady = steadied(&told, SHAPE, HeldTo::Reference);
        for i in [7, 8, 10, 19] {
            assert!(near(&steady.frames[i].0, &truth[i]) && steady.frames[i].1 == KnownBy::Neighbours, "{i}");
        }
        // What cannot be aligned at all takes the course of those around it.
        told[8] = FrameMotion::default();
        told[7].on_after = None;
        told[9].on_before = None;
        let steady = steadied(&told, SHAPE, HeldTo::Reference);
        assert_eq!(steady.frames[8].1, KnownBy::Course);
        let (a, b, c) = (seen(&truth[7], SHAPE), seen(&steady.frames[8].0, SHAPE), seen(&truth[9], SHAPE));
        assert!((b[0] - (a[0] + c[0]) / 2.0).abs() < 1e-9);
        assert!(near(&steady.frames[9].0, &truth[9]));
    }

    #[test]
    fn the_middle_needs_no_frame_that_lies_well() {
        // The reference itself lies far off all others.
        let mut truth = vec![motion(0.02, -0.01, 0.0); 21];
        truth[0] = motion(0.0, 0.0, 0.0);
        let steady = steadied(&frames(&truth), SHAPE, HeldTo::Middle);
        assert!(near(&steady.frames[5].0, &motion(0.0, 0.0, 0.0)));
        assert!(near(&steady.frames[0].0, &motion(-0.02, 0.01, 0.0)));
    }

    #[test]
    fn a_drift_stays_and_a_knock_does_not() {
        let drift = |i: usize| 0.0004 * i as f64;
        let knock = |i: usize| if i >= 40 { 0.03 } else { 0.0 };
        let shake = |i: usize| 0.0005 * chance(i * 11);
        let truth: Vec<Projective> =
            (0..80).map(|i| motion(drift(i) + knock(i) + shake(i), 0.0, 0.0)).collect();
        let steady = steadied(&frames(&truth), SHAPE, HeldTo::Course(15.0));
        for (i, (found, _)) in steady.frames.iter().enumerate() {
            // Of the frame only shake and knock are taken back.
            let off = found.0[2] - shake(i) - knock(i);
            assert!(off.abs() < 6e-4, "{i}: {off}");
        }
        let by_hand = |i: usize| steady.frames[i].0.0[2];
        assert!((by_hand(41) - by_hand(38) - 0.03).abs() < 1.5e-3);
    }

    #[test]
    fn nothing_known_changes_nothing() {
        let steady = steadied(&[FrameMotion::default(); 5], SHAPE, HeldTo::Middle);
        assert!(steady.frames.iter().all(|(map, _)| near(map, &motion(0.0, 0.0, 0.0))));
        assert_eq!(steady.covered, [0.0, 0.0, 1.0, 1.0]);
        assert!(steadied(&[], SHAPE, HeldTo::Reference).frames.is_empty());
    }
}
