//! Which frame to record a recipe on, and which ones to prove it on: the most typical frames of a shoot, and those
//! least like them. Each with the reason in words.

use crate::Frame;
use std::collections::HashSet;

/// Cameras and sizes of which one frame each is proved, the sample's own counted.
const MOST_CAMERAS: usize = 6;
const MOST_SIZES: usize = 4;

/// A frame worth looking at: its position among the frames given, and why.
#[derive(Clone, Debug, PartialEq)]
pub struct Pick {
    /// Position.
    pub at: usize,
    /// Why, for people.
    pub why: String,
}

/// What frames are compared by: brightness and contrast (0 ..= 100), noise as it is seen, and ISO in stops.
type Traits = [Option<f64>; 4];

fn traits(frame: &Frame) -> Traits {
    let measures = frame.measures.as_ref();
    let iso = frame.facts.as_ref().and_then(|f| f.camera.iso).filter(|i| *i > 0);
    [
        measures.map(|m| f64::from(m.brightness)),
        measures.map(|m| f64::from(m.contrast)),
        // A tenth more noise is as much at any level.
        measures.map(|m| f64::from(m.noise).max(0.2).log2() * 10.0),
        iso.map(|i| f64::from(i).log2() * 10.0),
    ]
}

fn median(mut values: Vec<f64>) -> Option<f64> {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied()
}

/// The most common value, the first of several.
fn commonest<T: PartialEq + Clone>(values: impl Iterator<Item = T>) -> Option<T> {
    let mut counts: Vec<(T, usize)> = Vec::new();
    for value in values {
        match counts.iter_mut().find(|c| c.0 == value) {
            Some(c) => c.1 += 1,
            None => counts.push((value, 1)),
        }
    }
    let most = counts.iter().map(|c| c.1).max()?;
    counts.into_iter().find(|c| c.1 == most).map(|c| c.0)
}

fn camera(frame: &Frame) -> Option<String> {
    frame.facts.as_ref()?.camera.camera.clone()
}

fn upright(frame: &Frame) -> Option<bool> {
    frame.facts.as_ref().map(|f| f.height > f.width)
}

/// Hours of the day in which a frame is most likely to show something.
const BY_DAY: std::ops::Range<i8> = 7..19;

/// The frame on which somebody begins, where nobody looked at one: the first that can be read, or the first of those taken by day,
/// since a fixed camera's frames begin at night as often as not.
pub fn first_sample<'a>(frames: impl Iterator<Item = &'a Frame> + Clone) -> Option<&'a Frame> {
    let mut readable = frames.filter(|f| f.problem.is_none());
    let is_by_day = |f: &&Frame| f.taken().is_some_and(|taken| BY_DAY.contains(&taken.hour()));
    readable.clone().find(is_by_day).or_else(|| readable.next())
}

/// The `count` most typical frames, the most typical first: from the commonest camera and orientation, nearest to the
/// middle of all in brightness, contrast, noise and ISO. Empty while nothing is known of the frames.
pub fn typical(frames: &[&Frame], count: usize) -> Vec<Pick> {
    let readable: Vec<usize> = (0..frames.len()).filter(|i| frames[*i].facts.is_some()).collect();
    let usual_camera = commonest(readable.iter().map(|i| camera(frames[*i])));
    let usual_way = commonest(readable.iter().map(|i| upright(frames[*i])));
    let traits_of_frames: Vec<Traits> = frames.iter().map(|f| traits(f)).collect();
    let middle: Vec<Option<f64>> =
        (0..4).map(|t| median(readable.iter().filter_map(|i| traits_of_frames[*i][t]).collect())).collect();
    let far = |i: usize| -> f64 {
        let each = (0..4).map(|t| match (traits_of_frames[i][t], middle[t]) {
            (Some(v), Some(m)) => (v - m).abs(),
            // Not measured yet: less is known of it.
            _ => 25.0,
        });
        let odd = f64::from(
            u8::from(Some(camera(frames[i])) != usual_camera)
                + u8::from(Some(upright(frames[i])) != usual_way),
        );
        each.sum::<f64>() + 100.0 * odd
    };
    let mut ranked: Vec<(usize, f64)> = readable.iter().map(|i| (*i, far(*i))).collect();
    ranked.sort_by(|a, b| a.1.total_cmp(&b.1));
    ranked.truncate(count);
    ranked
        .into_iter()
        .map(|(at, _)| Pick { at, why: why_typical(frames[at], usual_camera.is_some()) })
        .collect()
}

fn why_typical(frame: &Frame, usual_camera: bool) -> String {
    let mut parts = Vec::new();
    if frame.measures.is_some() {
        parts.push("brightness, contrast and noise like most".to_owned());
    }
    if let Some(iso) = frame.facts.as_ref().and_then(|f| f.camera.iso) {
        parts.push(format!("ISO {iso} in the middle"));
    }
    if let Some(camera) = camera(frame).filter(|_| usual_camera) {
        parts.push(format!("from {camera}, as most are"));
    }
    if parts.is_empty() { "size and orientation like most".into() } else { parts.join("; ") }
}

/// The frames to prove a recipe on beside its sample: the darkest and the brightest, the lowest and the highest ISO, one of
/// each camera, of each orientation and of each size, and `random` more; no frame twice.
pub fn unlike(frames: &[&Frame], sample: Option<usize>, random: usize) -> Vec<Pick> {
    let mut picks: Vec<Pick> = Vec::new();
    let mut add = |at: Option<usize>, why: String| {
        let Some(at) = at.filter(|at| Some(*at) != sample) else { return };
        match picks.iter_mut().find(|p| p.at == at) {
            Some(pick) => pick.why = format!("{}; {why}", pick.why),
            None => picks.push(Pick { at, why }),
        }
    };
    let by = |value: &dyn Fn(&Frame) -> Option<f64>, most: bool| {
        let known =
            (0..frames.len()).filter_map(|i| value(frames[i]).map(|v| (i, if most { v } else { -v })));
        known.max_by(|a, b| a.1.total_cmp(&b.1).then(b.0.cmp(&a.0))).map(|(i, _)| i)
    };
    let bright = |f: &Frame| f.measures.as_ref().map(|m| f64::from(m.brightness));
    let iso = |f: &Frame| f.facts.as_ref().and_then(|f| f.camera.iso).map(f64::from);
    add(by(&bright, false), "the darkest".into());
    add(by(&bright, true), "the brightest".into());
    let isos: HashSet<u32> = frames.iter().filter_map(|f| f.facts.as_ref()?.camera.iso).collect();
    if isos.len() > 1 {
        for (most, word) in [(false, "lowest"), (true, "highest")] {
            let at = by(&iso, most);
            let value = at.and_then(|i| frames[i].facts.as_ref()?.camera.iso).unwrap_or(0);
            add(at, format!("the {word} ISO, {value}"));
        }
    }
    // One of each kind, but for the sample's own.
    let mut each = |most: usize, kind: &dyn Fn(&Frame) -> Option<String>| {
        let mut seen: HashSet<String> = sample.and_then(|i| kind(frames[i])).into_iter().collect();
        for (i, frame) in frames.iter().enumerate() {
            if let Some(kind) = kind(frame).filter(|k| !seen.contains(k) && seen.len() < most) {
                add(Some(i), kind.clone());
                seen.insert(kind);
            }
        }
    };
    each(MOST_CAMERAS, &|f| camera(f).map(|c| format!("from {c}")));
    each(2, &|f| upright(f).map(|u| if u { "upright" } else { "lying" }.to_owned()));
    each(MOST_SIZES, &|f| {
        f.facts.as_ref().map(|f| format!("{} × {} pixels", f.width.max(f.height), f.width.min(f.height)))
    });
    // By chance, but the same ones whenever the same frames are asked about.
    let mut rest: Vec<usize> = (0..frames.len())
        .filter(|i| frames[*i].facts.is_some() && Some(*i) != sample && !picks.iter().any(|p| p.at == *i))
        .collect();
    rest.sort_by_key(|i| chance(frames[*i].id as u64));
    picks.extend(rest.into_iter().take(random).map(|at| Pick { at, why: "by chance".into() }));
    picks
}

/// Scrambles a number (S. Vigna's SplitMix64).
fn chance(n: u64) -> u64 {
    let mut z = n.wrapping_add(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::tests::frame;
    use rallo_engine::Measures;

    fn shoot() -> Vec<Frame> {
        let mut all: Vec<Frame> = (0..20).map(|i| frame(i, &format!("TN_{i}.jpg"), i as f64)).collect();
        for (i, f) in all.iter_mut().enumerate() {
            let brightness = 40.0 + (i % 5) as f32;
            f.measures = Some(Measures { brightness, contrast: 20.0, noise: 2.0, ..Measures::default() });
            f.facts.as_mut().unwrap().camera.camera = Some("Marlow 24".into());
        }
        all[3].measures.as_mut().unwrap().brightness = 8.0;
        all[7].measures.as_mut().unwrap().brightness = 93.0;
        all[7].facts.as_mut().unwrap().camera.iso = Some(6400);
        all[11].facts.as_mut().unwrap().camera.camera = Some("Pocket 12".into());
        let facts = all[15].facts.as_mut().unwrap();
        (facts.width, facts.height) = (1280, 1920);
        all
    }

    #[test]
    fn the_first_sample_is_the_first_by_day_where_there_is_one() {
        let at = |id: i64, hour: i8| {
            let mut frame = frame(id, "TN.jpg", 0.0);
            let taken = jiff::civil::date(2026, 5, 4).at(hour, 10, 0, 0);
            frame.facts.as_mut().unwrap().camera.taken = Some(taken);
            frame
        };
        let first = |frames: &[Frame]| first_sample(frames.iter()).map(|f| f.id);
        assert_eq!(first(&[at(1, 2), at(2, 5), at(3, 9), at(4, 12)]), Some(3));
        assert_eq!(first(&[at(1, 2), at(2, 23)]), Some(1));
        let broken = Frame { problem: Some("not a picture".into()), ..at(1, 12) };
        assert_eq!((first(&[broken.clone(), at(2, 3)]), first(&[broken])), (Some(2), None));
    }

    #[test]
    fn the_typical_frame_is_in_the_middle() {
        let all = shoot();
        let frames: Vec<&Frame> = all.iter().collect();
        let picks = typical(&frames, 3);
        for pick in &picks {
            let bright = all[pick.at].measures.as_ref().unwrap().brightness;
            assert!((41.0..44.0).contains(&bright) && ![3, 7, 11, 15].contains(&pick.at), "{pick:?}");
        }
        assert!(
            picks[0].why.contains("ISO 200 in the middle") && picks[0].why.contains("Marlow 24"),
            "{picks:?}"
        );
        assert!(typical(&[], 3).is_empty());
    }

    #[test]
    fn the_proof_takes_what_is_least_like_the_sample() {
        let all = shoot();
        let frames: Vec<&Frame> = all.iter().collect();
        let picks = unlike(&frames, Some(0), 2);
        let why = |at: usize| picks.iter().find(|p| p.at == at).map(|p| p.why.as_str());
        assert_eq!(why(3), Some("the darkest"));
        assert_eq!(why(7), Some("the brightest; the highest ISO, 6400"));
        assert_eq!(why(11), Some("from Pocket 12"));
        assert_eq!(why(15), Some("upright"));
        assert_eq!(picks.iter().filter(|p| p.why == "by chance").count(), 2);
        let places: HashSet<usize> = picks.iter().map(|p| p.at).collect();
        assert!(places.len() == picks.len() && !places.contains(&0));
        assert_eq!(picks, unlike(&frames, Some(0), 2));
    }
}
