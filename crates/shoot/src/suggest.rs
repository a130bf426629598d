//! Suggestions, never actions: frames that are worth a look before any work is spent on them.

use crate::{Frame, Order, Sort};
use std::collections::HashMap;

/// Mean brightness below which a frame counts as nearly black, and above which as nearly white.
const BLACK: f32 = 5.0;
const WHITE: f32 = 95.0;
/// Spread of tones below which a very dark or bright frame shows nothing.
const FLAT: f32 = 6.0;
/// Sharpness for its contrast, against the neighbours', below which a frame counts as blurred.
const BLURRED: f32 = 0.6;
/// Frames on either side that count as neighbours, and how far their brightness may differ.
const REACH: usize = 4;
const ALIKE: f32 = 12.0;
/// How far their mean colours may differ, of 255, and the fewest neighbours that say what is usual.
const TINT: u8 = 14;
const FEWEST: usize = 3;

/// The kinds of suggestions, in words.
pub const KINDS: [&str; 4] = ["nearly black", "nearly white", "blurred", "same picture twice"];

/// Sharpness for the contrast there is: fog takes both alike, a blurred frame keeps its contrast.
fn acuity(frame: &Frame) -> f32 {
    frame.measures.as_ref().map_or(0.0, |m| m.sharpness / m.contrast.max(1.0))
}

/// Whether two frames show the same thing: equal size, about the same brightness and mean colour.
fn alike(a: &Frame, b: &Frame) -> bool {
    let (Some(x), Some(y)) = (&a.measures, &b.measures) else { return false };
    let size = |f: &Frame| f.facts.as_ref().map(|f| (f.width, f.height));
    let colour = (0..3).all(|c| x.colour[c].abs_diff(y.colour[c]) <= TINT);
    size(a) == size(b) && (x.brightness - y.brightness).abs() < ALIKE && colour
}

/// The median acuity of a frame's neighbours that show the same thing; 0 where there are too few of them.
fn usual_acuity(row: &[&Frame], at: usize) -> f32 {
    let (from, to) = (at.saturating_sub(REACH), (at + REACH + 1).min(row.len()));
    let mut near: Vec<f32> =
        (from..to).filter(|k| *k != at && alike(row[*k], row[at])).map(|k| acuity(row[k])).collect();
    near.sort_by(f32::total_cmp);
    if near.len() < FEWEST { 0.0 } else { near[near.len() / 2] }
}

/// What is suggested, by frame. Frames that were not measured yet are passed over.
pub fn suggestions(frames: &[Frame]) -> HashMap<i64, Vec<&'static str>> {
    let mut found: HashMap<i64, Vec<&'static str>> = HashMap::new();
    let order = Order { by: Sort::Time, descending: false }.of(frames);
    let measured: Vec<&Frame> = order.iter().map(|i| &frames[*i]).filter(|f| f.measures.is_some()).collect();
    let of = |f: &Frame| f.measures.clone().unwrap_or_default();
    let mut seen: HashMap<String, i64> = HashMap::new();
    for frame in &measured {
        let m = of(frame);
        if m.brightness < BLACK && m.contrast < FLAT {
            found.entry(frame.id).or_default().push(KINDS[0]);
        } else if m.brightness > WHITE && m.contrast < FLAT {
            found.entry(frame.id).or_default().push(KINDS[1]);
        }
        // The first of several is not suggested.
        if seen.insert(m.pixels.clone(), frame.id).is_some() {
            found.entry(frame.id).or_default().push(KINDS[3]);
        }
    }
    for (i, frame) in measured.iter().enumerate() {
        if of(frame).brightness >= BLACK && acuity(frame) < BLURRED * usual_acuity(&measured, i) {
            found.entry(frame.id).or_default().push(KINDS[2]);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::tests::frame;
    use rallo_engine::Measures;

    #[test]
    fn the_odd_ones_are_found_and_nothing_else() {
        let mut frames: Vec<Frame> = (0..12).map(|i| frame(i, &format!("f{i:02}.jpg"), i as f64)).collect();
        for (i, f) in frames.iter_mut().enumerate() {
            f.measures = Some(Measures {
                brightness: 45.0,
                contrast: 20.0,
                sharpness: 10.0 + (i % 3) as f32,
                pixels: i.to_string(),
                ..Measures::default()
            });
        }
        let put = |f: &mut Frame, change: &dyn Fn(&mut Measures)| change(f.measures.as_mut().unwrap());
        put(&mut frames[2], &|m| (m.brightness, m.contrast, m.sharpness) = (1.0, 0.5, 0.1));
        put(&mut frames[5], &|m| m.sharpness = 4.0);
        put(&mut frames[8], &|m| m.pixels = "7".into());
        put(&mut frames[10], &|m| (m.brightness, m.contrast, m.sharpness) = (99.0, 1.0, 0.2));
        let found = suggestions(&frames);
        let mut all: Vec<(i64, &str)> =
            found.iter().flat_map(|(id, k)| k.iter().map(|k| (*id, *k))).collect();
        all.sort();
        assert_eq!(
            all,
            [(2, "nearly black"), (5, "blurred"), (8, "same picture twice"), (10, "nearly white")]
        );
    }
}
