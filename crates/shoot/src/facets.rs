//! Facets: what frames have in common, counted, narrowing each other; and the filter made of them.

use crate::{Choice, Frame};
use rallo_engine::{lens, step_kind};
use rallo_media::metadata::exif::shutter_text;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Something frames are told apart by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Facet {
    /// Open, kept, set aside.
    Choice,
    /// Something to look at: unreadable, nearly black or white, blurred, twice.
    Problems,
    /// Stars.
    Rating,
    /// ISO speed.
    Iso,
    /// Camera.
    Camera,
    /// Lens.
    Lens,
    /// Focal length.
    FocalLength,
    /// f-number.
    Aperture,
    /// Shutter time.
    Shutter,
    /// Day it was taken.
    Day,
    /// Hour of the day.
    Hour,
    /// Width to height.
    Proportion,
    /// Pixels.
    Size,
    /// File format.
    Type,
    /// Family of the mean colour.
    Colour,
    /// Keywords.
    Keyword,
    /// Made by the recipe in use or not yet.
    Done,
    /// The folder it lies in.
    Folder,
    /// Whether its lens is known.
    LensProfile,
    /// What was done to it before it came here.
    Before,
}

impl Facet {
    /// Every facet with its heading, in the order they are shown.
    pub const ALL: [(Facet, &'static str); 20] = [
        (Facet::Choice, "Choice"),
        (Facet::Problems, "Something to look at"),
        (Facet::Rating, "Rating"),
        (Facet::Iso, "ISO"),
        (Facet::Camera, "Camera"),
        (Facet::Lens, "Lens"),
        (Facet::LensProfile, "Lens profile"),
        (Facet::FocalLength, "Focal length"),
        (Facet::Aperture, "Aperture"),
        (Facet::Shutter, "Shutter"),
        (Facet::Day, "Day"),
        (Facet::Hour, "Hour"),
        (Facet::Proportion, "Proportion"),
        (Facet::Size, "Pixels"),
        (Facet::Type, "Type"),
        (Facet::Colour, "Mean colour"),
        (Facet::Keyword, "Keyword"),
        (Facet::Done, "This recipe"),
        (Facet::Before, "Done before"),
        (Facet::Folder, "Folder"),
    ];
}

/// A measure that can be limited to a range.
pub const MEASURES: [(&str, &str); 6] = [
    ("brightness", "brightness, 0 to 100"),
    ("contrast", "contrast, 0 to 100"),
    ("black", "clipped black, %"),
    ("white", "clipped white, %"),
    ("sharpness", "sharpness"),
    ("noise", "noise, of 255"),
];

fn measure(frame: &Frame, name: &str) -> Option<f32> {
    let m = frame.measures.as_ref()?;
    Some(match name {
        "brightness" => m.brightness,
        "contrast" => m.contrast,
        "black" => m.black,
        "white" => m.white,
        "sharpness" => m.sharpness,
        _ => m.noise,
    })
}

/// What is wanted: any of the values within a facet, all of the facets together.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Filter {
    /// Wanted values by facet.
    pub values: BTreeMap<Facet, Vec<String>>,
    /// Ranges by measure, both ends included.
    pub ranges: BTreeMap<String, [f32; 2]>,
    /// Part of the name, without case.
    pub text: String,
    /// Only these frames (a named selection, a statement of the check).
    pub only: Option<Vec<i64>>,
}

/// One value of a facet.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Count {
    /// Value, as filters write it.
    pub value: String,
    /// For people.
    pub label: String,
    /// Frames that have it and fit everything else that is wanted.
    pub count: usize,
}

/// A facet with its values.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Counts {
    /// Which.
    pub facet: Facet,
    /// Heading.
    pub title: &'static str,
    /// Values in order.
    pub values: Vec<Count>,
}

/// Nearest of the usual proportions, or the numbers themselves.
pub fn proportion(width: u32, height: u32) -> String {
    let (long, short) = (f64::from(width.max(height)), f64::from(width.min(height).max(1)));
    let usual = [(1, 1), (5, 4), (4, 3), (3, 2), (16, 10), (16, 9), (2, 1), (21, 9)];
    let ratio = long / short;
    let found = usual.iter().find(|(a, b)| (ratio / (f64::from(*a) / f64::from(*b)) - 1.0).abs() < 0.012);
    let text = found.map_or_else(|| format!("{ratio:.2}:1"), |(a, b)| format!("{a}:{b}"));
    let way = match width.cmp(&height) {
        std::cmp::Ordering::Greater => "landscape",
        std::cmp::Ordering::Less => "portrait",
        std::cmp::Ordering::Equal => return "square".into(),
    };
    format!("{way} {text}")
}

/// What is known of frames beside themselves.
#[derive(Clone, Debug, Default)]
pub struct Known {
    /// What is suggested to look at, by frame.
    pub problems: std::sync::Arc<HashMap<i64, Vec<&'static str>>>,
    /// Frames the recipe in use has made results of.
    pub done: HashSet<i64>,
}

/// Values of one frame: a key that sorts well, and words. Frames that say nothing have none.
fn values(frame: &Frame, facet: Facet, known: &Known) -> Vec<(String, String)> {
    let facts = frame.facts.as_ref();
    let camera = facts.map(|f| &f.camera);
    let single = |v: Option<(String, String)>| v.into_iter().collect::<Vec<_>>();
    let same = |v: Option<String>| single(v.map(|v| (v.clone(), v)));
    let number = |v: Option<f64>, words: &dyn Fn(f64) -> String| single(v.map(|v| (v.to_string(), words(v))));
    match facet {
        Facet::Choice => single(Some(match frame.marks.choice {
            Choice::Open => ("open".into(), "Not decided".into()),
            Choice::Kept => ("kept".into(), "Kept".into()),
            Choice::SetAside => ("set_aside".into(), "Set aside".into()),
        })),
        Facet::Problems => {
            let mut pairs: Vec<(String, String)> = known
                .problems
                .get(&frame.id)
                .into_iter()
                .flatten()
                .map(|p| ((*p).to_owned(), (*p).to_owned()))
                .collect();
            if frame.problem.is_some() {
                pairs.push(("cannot be read".into(), "cannot be read".into()));
            }
            pairs
        }
        Facet::Rating => single(Some((
            frame.marks.rating.to_string(),
            if frame.marks.rating == 0 { "none".into() } else { frame.marks.rating.to_string() },
        ))),
        Facet::Iso => number(camera.and_then(|c| c.iso).map(f64::from), &|v| format!("ISO {v}")),
        Facet::Camera => same(camera.and_then(|c| c.camera.clone())),
        Facet::Lens => same(camera.and_then(|c| c.lens.clone())),
        Facet::LensProfile => single(camera.map(|c| {
            let taken = c.taken_with();
            let (value, words) = match (lens::find(&taken, ""), &taken.embedded) {
                (Some(_), Some(_)) => ("embedded", "in the file"),
                (Some(_), None) => ("known", "known"),
                (None, _) => ("none", "none"),
            };
            (value.into(), words.into())
        })),
        Facet::Before => {
            let done = facts.into_iter().flat_map(|f| &f.done);
            let once = done.filter_map(|id| step_kind(id)?.info.facts.once.map(|what| (id, what)));
            once.map(|(id, what)| (id.clone(), what.to_owned())).collect()
        }
        Facet::FocalLength => number(camera.and_then(|c| c.focal_length), &|v| format!("{v} mm")),
        Facet::Aperture => number(camera.and_then(|c| c.aperture), &|v| format!("f/{v}")),
        Facet::Shutter => {
            // Cameras write 1/125 as 0.008; equal words are one value.
            single(camera.and_then(|c| c.shutter).map(|v| {
                let text = shutter_text(v);
                let value = if v < 0.4 { 1.0 / (1.0 / v).round() } else { v };
                (format!("{value:.7}"), text)
            }))
        }
        Facet::Day => single(
            frame
                .taken()
                .map(|t| (t.strftime("%Y-%m-%d").to_string(), t.strftime("%a %-d %b %Y").to_string())),
        ),
        Facet::Hour => single(
            frame
                .taken()
                .map(|t| (t.hour().to_string(), format!("{:02} to {:02} h", t.hour(), t.hour() + 1))),
        ),
        Facet::Proportion => same(facts.map(|f| proportion(f.width, f.height))),
        Facet::Size => single(facts.map(|f| {
            let area = u64::from(f.width) * u64::from(f.height);
            (format!("{area}.{}", f.width), format!("{} × {}", f.width, f.height))
        })),
        Facet::Type => same(facts.map(|f| f.format.title().to_owned())),
        Facet::Colour => single(frame.measures.as_ref().map(|m| {
            let (at, name) = family(crate::order::hue(m.colour));
            (at.to_string(), name.to_owned())
        })),
        Facet::Keyword => frame.marks.keywords.iter().map(|k| (k.clone(), k.clone())).collect(),
        Facet::Done => single(Some(if known.done.contains(&frame.id) {
            ("done".into(), "done".into())
        } else {
            ("not_done".into(), "not yet done".into())
        })),
        Facet::Folder => {
            same(frame.path.parent().and_then(|p| p.file_name()).map(|n| n.to_string_lossy().into_owned()))
        }
    }
}

/// Families of colours by hue in degrees, in the order of the spectrum; below 0 stands for grey.
fn family(hue: f64) -> (usize, &'static str) {
    const FAMILIES: [(f64, &str); 7] = [
        (0.0, "greys"),
        (20.0, "reds"),
        (50.0, "oranges and browns"),
        (75.0, "yellows"),
        (165.0, "greens"),
        (260.0, "blues"),
        (330.0, "purples"),
    ];
    let at = FAMILIES.iter().position(|(below, _)| hue < *below).unwrap_or(1);
    (at, FAMILIES[at].1)
}

/// The result of a filter.
#[derive(Clone, Debug)]
pub struct Narrowed {
    /// Whether each frame fits.
    pub fits: Vec<bool>,
    /// Every facet that tells at least two values apart, or that is filtered by.
    pub facets: Vec<Counts>,
}

/// Narrows `frames`.
pub fn narrow(frames: &[Frame], filter: &Filter, known: &Known) -> Narrowed {
    let text = filter.text.to_lowercase();
    let only: Option<HashSet<i64>> = filter.only.as_ref().map(|o| o.iter().copied().collect());
    let plain: Vec<bool> = frames
        .iter()
        .map(|f| {
            (text.is_empty() || f.name.to_lowercase().contains(&text))
                && only.as_ref().is_none_or(|o| o.contains(&f.id))
                && filter
                    .ranges
                    .iter()
                    .all(|(name, [low, high])| measure(f, name).is_some_and(|v| v >= *low && v <= *high))
        })
        .collect();
    // One bit a facet that refuses the frame.
    let mut refused = vec![0u32; frames.len()];
    let mut each: Vec<Vec<Vec<(String, String)>>> = Vec::with_capacity(Facet::ALL.len());
    for (bit, (facet, _)) in Facet::ALL.iter().enumerate() {
        let values_of_frames: Vec<Vec<(String, String)>> =
            frames.iter().map(|f| values(f, *facet, known)).collect();
        if let Some(wanted) = filter.values.get(facet).filter(|w| !w.is_empty()) {
            for (i, own) in values_of_frames.iter().enumerate() {
                if !own.iter().any(|(v, _)| wanted.contains(v)) {
                    refused[i] |= 1 << bit;
                }
            }
        }
        each.push(values_of_frames);
    }
    let mut facets = Vec::new();
    for (bit, (facet, title)) in Facet::ALL.iter().enumerate() {
        let mut counts: HashMap<&str, (&str, usize)> = HashMap::new();
        for (i, own) in each[bit].iter().enumerate() {
            let here = plain[i] && refused[i] & !(1 << bit) == 0;
            for (value, label) in own {
                counts.entry(value).or_insert((label, 0)).1 += usize::from(here);
            }
        }
        let wanted = filter.values.contains_key(facet);
        let always = matches!(facet, Facet::Choice | Facet::Problems | Facet::Keyword | Facet::Before);
        if counts.len() < if always { 1 } else { 2 } && !wanted {
            continue;
        }
        let mut sorted: Vec<Count> = counts
            .into_iter()
            .map(|(value, (label, count))| Count { value: value.into(), label: label.into(), count })
            .collect();
        if *facet == Facet::Choice {
            for (value, label) in [("open", "Not decided"), ("kept", "Kept"), ("set_aside", "Set aside")] {
                if !sorted.iter().any(|c| c.value == value) {
                    sorted.push(Count { value: value.into(), label: label.into(), count: 0 });
                }
            }
            let place = |c: &Count| ["open", "kept", "set_aside"].iter().position(|v| *v == c.value);
            sorted.sort_by_key(place);
        } else {
            let key = |c: &Count| c.value.parse::<f64>().ok();
            sorted.sort_by(|a, b| match (key(a), key(b)) {
                (Some(x), Some(y)) => x.total_cmp(&y),
                _ => crate::natural(&a.value, &b.value),
            });
        }
        facets.push(Counts { facet: *facet, title, values: sorted });
    }
    let fits = plain.iter().zip(&refused).map(|(p, r)| *p && *r == 0).collect();
    Narrowed { fits, facets }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::frame::tests::frame;

    fn frames() -> Vec<Frame> {
        let mut all: Vec<Frame> = (0..6).map(|i| frame(i, &format!("f{i}.jpg"), i as f64)).collect();
        for (i, iso) in [100, 100, 800, 800, 800, 3200].into_iter().enumerate() {
            let camera = &mut all[i].facts.as_mut().unwrap().camera;
            camera.iso = Some(iso);
            camera.camera = Some(if i % 2 == 0 { "Marlow 24" } else { "Fen Pocket" }.into());
        }
        all[5].marks.choice = Choice::Kept;
        all
    }

    fn counts(found: &Narrowed, facet: Facet) -> Vec<(String, usize)> {
        let one = found.facets.iter().find(|f| f.facet == facet).unwrap();
        one.values.iter().map(|v| (v.value.clone(), v.count)).collect()
    }

    #[test]
    fn facets_narrow_each_other_but_not_themselves() {
        let all = frames();
        let mut filter = Filter::default();
        filter.values.insert(Facet::Camera, vec!["Marlow 24".into()]);
        let found = narrow(&all, &filter, &Known::default());
        assert_eq!(found.fits, [true, false, true, false, true, false]);
        assert_eq!(counts(&found, Facet::Iso), [("100".into(), 1), ("800".into(), 2), ("3200".into(), 0)]);
        assert_eq!(counts(&found, Facet::Camera), [("Fen Pocket".into(), 3), ("Marlow 24".into(), 3)]);
        filter.values.insert(Facet::Iso, vec!["800".into(), "3200".into()]);
        let found = narrow(&all, &filter, &Known::default());
        assert_eq!(found.fits, [false, false, true, false, true, false]);
        assert_eq!(counts(&found, Facet::Camera), [("Fen Pocket".into(), 2), ("Marlow 24".into(), 2)]);
    }

    #[test]
    fn the_choice_is_always_shown_in_its_order() {
        let found = narrow(&frames(), &Filter::default(), &Known::default());
        assert_eq!(
            counts(&found, Facet::Choice),
            [("open".into(), 5), ("kept".into(), 1), ("set_aside".into(), 0)]
        );
    }

    #[test]
    fn what_the_lens_is_and_what_was_done_before_tell_frames_apart() {
        let mut all = frames();
        for (i, done) in [(0, vec!["denoise"]), (1, vec!["denoise", "lens_profile"]), (2, vec!["crop"])] {
            let facts = all[i].facts.as_mut().unwrap();
            facts.done = done.into_iter().map(str::to_owned).collect();
        }
        let lens = lens::EmbeddedLens { centre: (0.5, 0.5), ..lens::EmbeddedLens::default() };
        all[3].facts.as_mut().unwrap().camera.embedded_lens = Some(lens);
        let found = narrow(&all, &Filter::default(), &Known::default());
        assert_eq!(counts(&found, Facet::Before), [("denoise".into(), 2), ("lens_profile".into(), 1)]);
        assert_eq!(counts(&found, Facet::LensProfile), [("embedded".into(), 1), ("none".into(), 5)]);
    }

    #[test]
    fn text_ranges_and_lists_narrow_too() {
        let mut all = frames();
        all[3].measures = Some(rallo_engine::Measures { noise: 4.0, ..Default::default() });
        let fits = |f: &Filter| narrow(&all, f, &Known::default()).fits.iter().filter(|x| **x).count();
        assert_eq!(fits(&Filter { text: "F3".into(), ..Filter::default() }), 1);
        assert_eq!(fits(&Filter { only: Some(vec![1, 2]), ..Filter::default() }), 2);
        let ranges = BTreeMap::from([("noise".to_owned(), [3.0, 5.0])]);
        assert_eq!(fits(&Filter { ranges, ..Filter::default() }), 1);
    }

    #[test]
    fn mean_colours_have_their_families() {
        for (colour, want) in [
            ([120, 120, 121], "greys"),
            ([200, 30, 30], "reds"),
            ([200, 30, 60], "reds"),
            ([130, 90, 50], "oranges and browns"),
            ([90, 120, 50], "greens"),
            ([40, 90, 200], "blues"),
            ([140, 40, 180], "purples"),
        ] {
            assert_eq!(family(crate::order::hue(colour)).1, want, "{colour:?}");
        }
        let mut all = frames();
        for (i, f) in all.iter_mut().enumerate() {
            let colour = if i < 2 { [90, 120, 50] } else { [130, 90, 50] };
            f.measures = Some(rallo_engine::Measures { colour, ..Default::default() });
        }
        let found = narrow(&all, &Filter::default(), &Known::default());
        assert_eq!(counts(&found, Facet::Colour), [("2".into(), 4), ("4".into(), 2)]);
    }

    #[test]
    fn what_is_suggested_and_done_can_be_filtered_by() {
        let all = frames();
        let known = Known {
            problems: std::sync::Arc::new(HashMap::from([
                (2, vec!["blurred"]),
                (4, vec!["blurred", "nearly black"]),
            ])),
            done: HashSet::from([0, 1, 2]),
        };
        let mut filter = Filter::default();
        filter.values.insert(Facet::Problems, vec!["blurred".into()]);
        let found = narrow(&all, &filter, &known);
        assert_eq!(found.fits, [false, false, true, false, true, false]);
        assert_eq!(counts(&found, Facet::Done), [("done".into(), 1), ("not_done".into(), 1)]);
        filter.values.insert(Facet::Done, vec!["not_done".into()]);
        assert_eq!(narrow(&all, &filter, &known).fits.iter().filter(|f| **f).count(), 1);
        // A filter as the page writes it; a facet nobody knows is refused.
        let text = r#"{"values": {"focal_length": ["50"]}, "ranges": {"noise": [1, 2]}}"#;
        assert!(serde_json::from_str::<Filter>(text).is_ok());
        assert!(serde_json::from_str::<Filter>(r#"{"values": {"mood": ["good"]}}"#).is_err());
    }

    #[test]
    fn hours_days_shutters_and_sizes_sort_by_what_they_are() {
        let mut all = frames();
        for (i, seconds) in [0.001, 0.008, 1.0 / 125.0, 2.0, 0.5, 1.0 / 30.0].into_iter().enumerate() {
            let facts = all[i].facts.as_mut().unwrap();
            facts.camera.shutter = Some(seconds);
            (facts.width, facts.height) = if i % 2 == 0 { (6000, 4000) } else { (900, 600) };
            all[i].marks.shift = i as i64 * 10 * 3_600_000;
        }
        let found = narrow(&all, &Filter::default(), &Known::default());
        let labels = |facet| {
            let one = found.facets.iter().find(|f| f.facet == facet).unwrap();
            one.values.iter().map(|v| format!("{} {}", v.label, v.count)).collect::<Vec<_>>()
        };
        assert_eq!(labels(Facet::Shutter), ["1/1000 s 1", "1/125 s 2", "1/30 s 1", "0.5 s 1", "2 s 1"]);
        assert_eq!(labels(Facet::Size), ["900 × 600 3", "6000 × 4000 3"]);
        assert_eq!(labels(Facet::Day), ["Mon 4 May 2026 2", "Tue 5 May 2026 2", "Wed 6 May 2026 2"]);
        assert_eq!(labels(Facet::Hour)[0], "01 to 02 h 1");
    }

    #[test]
    fn proportions_have_their_names() {
        assert_eq!(proportion(6000, 4000), "landscape 3:2");
        assert_eq!(proportion(2448, 3264), "portrait 4:3");
        assert_eq!(proportion(1200, 1200), "square");
        assert_eq!(proportion(3840, 2160), "landscape 16:9");
        assert_eq!(proportion(5000, 1000), "landscape 5.00:1");
    }
}
