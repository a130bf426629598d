//! Suggestions, never actions: frames that are worth a look before any work is spent on them.

use crate::{Frame, Order, Sort};
use rallo_engine::sequence::beside_neighbours;
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

/// The kinds of suggestions, in words.
pub const KINDS: [&str; 4] = ["nearly black", "nearly white", "blurred", "same picture twice"];

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
    // Fog takes contrast and sharpness alike; a blurred frame keeps its contrast.
    let sharpness: Vec<f32> =
        measured.iter().map(|f| of(f)).map(|m| m.sharpness / m.contrast.max(1.0)).collect();
    let brightness: Vec<f32> = measured.iter().map(|f| of(f).brightness).collect();
    let (sharp, bright) = (beside_neighbours(&sharpness, REACH), beside_neighbours(&brightness, REACH));
    for (i, frame) in measured.iter().enumerate() {
        // Only against neighbours of the same kind: a frame in fog or at night is no blurred one.
        let level = if bright[i] > 0.0 { brightness[i] / bright[i] } else { 0.0 };
        let neighbours = measured.len() > REACH;
        if neighbours && sharp[i] < BLURRED && (brightness[i] - level).abs() < ALIKE && brightness[i] >= BLACK
        {
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
