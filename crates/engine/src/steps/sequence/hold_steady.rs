//! Hold steady: every frame of a sequence lies on one of them (`sequence/alignment`, `sequence/steadying.rs`), to hundredths of
//! a pixel. Pure geometry: becomes part of one mapping with what stands beside it.
//!
//! Every frame is measured reduced, as it comes to this line, against the reference; where that cannot be, against the frame
//! before it and the one after it.

use crate::geometry::{Affine, Size};
use crate::ops::warp::{Projective, Warp};
use crate::sequence::alignment::{Aligned, AlignmentView, Freedom, Reference};
use crate::sequence::steadying::{FrameMotion, HeldTo, KnownBy, Steadied, steadied};
use crate::step::{
    AcrossPictures, Against, Effect, Geometry, Kind, Seen, Step, Tool, ToolKind, step, values_of,
};
use crate::steps::sequence::DECIDED_IN_A_RUN;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::sync::{Arc, OnceLock};

/// What the picture is held to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Hold {
    /// One frame.
    #[default]
    Frame,
    /// The middle of all.
    Middle,
    /// The slow drift of the camera.
    Drift,
}

/// What becomes of the edges that not every frame has.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Edges {
    /// They are cut off, and the rest is enlarged to the size it had.
    #[default]
    Crop,
    /// They are drawn on from the frame's own edge.
    Leave,
    /// They are filled with what the frames around show there.
    Fill,
}

/// Frames to each side that edges are filled from, at most.
const REACH: usize = 12;

step! {
    /// Holds the picture still while the camera moved a little from frame to frame of a sequence. Every frame is laid on the
    /// reference to hundredths of a pixel; things that move through the picture, and other light, do not count. Part of one
    /// mapping with crop, straighten and lens.
    pub struct HoldSteady: PartialEq {
        id: "hold_steady",
        title: "Hold steady",
        group: "sequence",
        words: [
            "steady", "hold", "still", "align", "stabilize", "shake", "jitter", "register", "tripod", "sequence",
            "wobble", "frames",
        ],
        neutral: r#"{"map": null}"#,
        starter: "{}",
        facts: {
            moves_pixels: true,
            tool: Some(Tool {
                kind: ToolKind::Parts,
                button: Some("Draw what moves"),
                hint: "Drag over what moves by itself: it is not trusted to stand still; a click takes it back. With Shift, only what is dragged over is trusted.",
                opens_at_once: false,
                shows_input: true,
            }),
            effects: &[Effect::HoldsSteady],
        },
    }
    parameters {
        /// How the camera may have moved: a shift; a turn too; nearer or farther too; or seen from another side.
        freedom: Freedom = Freedom::Turn, Kind::Choice(&Freedom::WORDS);
        /// What the picture is held to: one frame, the middle of where all lie, or the camera's own slow drift.
        hold: Hold = Hold::Frame, Kind::Choice(&["frame", "middle", "drift"]);
        /// Where in the sequence the frame lies that all others are laid on: 0 the first, 100 the last.
        reference: f64 = 50.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
        /// How many frames to each side say what is slow drift.
        smooth: f64 = 40.0, Kind::Number { min: 2.0, max: 500.0, step: 1.0 }, "frames";
        /// The part of the picture that is trusted to stand still; nothing: all of it.
        area: Option<[f64; 4]> = None, Kind::Part;
        /// Parts that are not trusted: leaves in the wind, water, clouds.
        ignore: Vec<[f64; 4]> = Vec::new(), Kind::Rows(&["x", "y", "width", "height"], 16);
        /// What becomes of the edges that not every frame has: cropped to what all have and enlarged to the size it had;
        /// left, drawn on from the frame's own edge; or filled with what the frames around show there.
        edges: Edges = Edges::Crop, Kind::Choice(&["crop", "leave", "fill"]);
        /// From places of the result to places of one frame, from the middle in lengths of the long edge: the first eight
        /// numbers of a projective matrix by rows; decided for each frame of a run.
        map: Option<[f64; 8]> = None, Kind::Kept(8);
        /// The part that all frames have, as shares of the sides; decided for a run.
        keep: Option<[f64; 4]> = None, Kind::Kept(4);
    }
}

/// Long edge of the pictures that are compared: pictures of 12 and 24 megapixels can be decoded at a quarter for it.
const EDGE: u32 = 900;

/// Numbers told of one alignment: eight of its matrix, its error and its share; nothing of them where there is none.
const TOLD: usize = 10;

/// A motion told in places from the middle of a picture, in its pixels.
pub fn in_pixels(motion: &Projective, size: Size) -> Projective {
    let (wide, high, long) = (f64::from(size.width), f64::from(size.height), f64::from(size.long_edge()));
    let to_places =
        Affine { a: 1.0 / long, b: 0.0, c: -wide / 2.0 / long, d: 0.0, e: 1.0 / long, f: -high / 2.0 / long };
    let to_pixels = Affine { a: long, b: 0.0, c: wide / 2.0, d: 0.0, e: long, f: high / 2.0 };
    Projective::of(&to_places).then(motion).then(&Projective::of(&to_pixels)).normalised()
}

/// A frame that was seen, and what there is to see in it, found once it is a reference.
#[derive(Debug)]
struct SeenFrame {
    view: AlignmentView,
    as_reference: OnceLock<Reference>,
}

impl Step for HoldSteady {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let how = match self.freedom {
            Freedom::Shift => "shifted",
            Freedom::Turn => "shifted and turned",
            Freedom::Scale => "shifted, turned and scaled",
            Freedom::Perspective => "shifted, turned and tilted",
        };
        let on = match self.hold {
            Hold::Frame => "on the frame at {reference}",
            Hold::Middle => "on the middle of all frames",
            Hold::Drift => "on its drift over {smooth} frames to each side",
        };
        format!("Hold the picture steady {on}, frames {how}.")
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        let map = self.motion();
        let [x, y, w, h] = self.keep.filter(|_| self.edges == Edges::Crop).unwrap_or([0.0, 0.0, 1.0, 1.0]);
        if map == Projective::IDENTITY && [x, y, w, h] == [0.0, 0.0, 1.0, 1.0] {
            return None;
        }
        let (wide, high) = (f64::from(size.width), f64::from(size.height));
        let window = Affine { a: w, b: 0.0, c: x * wide, d: 0.0, e: h, f: y * high };
        let whole = Projective::of(&window).then(&in_pixels(&map, size)).normalised();
        let [a, b, c, d, e, f, g, i, _] = whole.0;
        // What is as good as affine is told as such: it takes the quicker way.
        let bend = (g.abs() * wide + i.abs() * high) * wide.max(high);
        let map = if bend < 1e-3 { Warp::from(Affine { a, b, c, d, e, f }) } else { Warp::from(whole) };
        Some(Geometry { map, size })
    }
    fn note(&self) -> Option<String> {
        self.map.is_none().then(|| DECIDED_IN_A_RUN.into())
    }
    fn across(&self) -> Option<&dyn AcrossPictures> {
        Some(self)
    }
    fn fills_edges(&self) -> Option<usize> {
        (self.edges == Edges::Fill).then_some(REACH)
    }
}

impl HoldSteady {
    fn motion(&self) -> Projective {
        let Some(map) = self.map else { return Projective::IDENTITY };
        Projective(std::array::from_fn(|i| map.get(i).copied().unwrap_or(1.0)))
    }

    /// Whether what lies at a place, as shares of the sides, counts.
    fn counts(&self, x: f64, y: f64) -> bool {
        let inside =
            |[left, top, w, h]: &[f64; 4]| (*left..*left + *w).contains(&x) && (*top..*top + *h).contains(&y);
        self.area.as_ref().is_none_or(inside) && !self.ignore.iter().any(inside)
    }

    /// Where each frame is taken from, by what was measured of all; nothing where nothing was.
    pub fn steady(&self, measured: &[Option<Vec<f64>>]) -> Option<Steadied> {
        let read = |numbers: &Option<Vec<f64>>| Measurement::read(numbers.as_ref()?);
        let read: Vec<Option<Measurement>> = measured.iter().map(read).collect();
        let shape = read.iter().flatten().next()?.shape;
        let motion = |told: &Option<Measurement>| {
            told.map_or_else(FrameMotion::default, |told| FrameMotion {
                on_reference: told.on_reference.map(|a| a.motion),
                on_before: told.on_before.map(|a| a.motion),
                on_after: told.on_after.map(|a| a.motion),
            })
        };
        let frames: Vec<FrameMotion> = read.iter().map(motion).collect();
        let held_to = match self.hold {
            Hold::Frame => HeldTo::Reference,
            Hold::Middle => HeldTo::Middle,
            Hold::Drift => HeldTo::Course(self.smooth),
        };
        Some(steadied(&frames, shape, held_to))
    }

    /// How one frame lies against another.
    fn aligned(&self, reference: &Seen, own: &SeenFrame) -> Option<Aligned> {
        let frame = reference.downcast_ref::<SeenFrame>()?;
        let new = || Reference::new(frame.view.clone(), &|x, y| self.counts(x, y));
        frame.as_reference.get_or_init(new).align(&own.view, self.freedom)
    }
}

/// What is told of an alignment, as numbers, and back.
fn told(aligned: Option<Aligned>) -> [f64; TOLD] {
    let Some(Aligned { motion, error, share }) = aligned else { return [0.0; TOLD] };
    // A thousandth of a thousandth of a pixel.
    let tidy = |v: f64| (v * 1e10).round() / 1e10;
    let motion = motion.normalised();
    std::array::from_fn(|i| match i {
        0..8 => tidy(motion.0[i]),
        8 => tidy(error),
        _ => tidy(share),
    })
}

/// What [`told`] tells.
fn read_aligned(told: &[f64]) -> Option<Aligned> {
    let numbers: &[f64; TOLD] = told.try_into().ok()?;
    let motion = Projective(std::array::from_fn(|i| if i < 8 { numbers[i] } else { 1.0 }));
    (numbers[9] > 0.0).then_some(Aligned { motion, error: numbers[8], share: numbers[9] })
}

/// What was measured of a frame: how it lies, against the reference where that can be told, and half its width and height in
/// lengths of its long edge.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Measurement {
    /// Against the reference.
    pub on_reference: Option<Aligned>,
    /// Against the frame before it, where it cannot be told against the reference.
    pub on_before: Option<Aligned>,
    /// Against the frame after it, likewise.
    pub on_after: Option<Aligned>,
    /// Half its width and height.
    pub shape: (f64, f64),
}

impl Measurement {
    /// From numbers as a run keeps them.
    pub fn read(numbers: &[f64]) -> Option<Self> {
        let (shape, told) = numbers.split_first_chunk::<2>()?;
        let mut told = told.chunks_exact(TOLD).map(read_aligned);
        let measurement = Self {
            on_reference: told.next()?,
            on_before: told.next()?,
            on_after: told.next()?,
            shape: (shape[0], shape[1]),
        };
        (numbers.len() == 2 + 3 * TOLD).then_some(measurement)
    }

    fn numbers(&self) -> Vec<f64> {
        let told = [self.on_reference, self.on_before, self.on_after].map(told);
        [&[self.shape.0, self.shape.1][..], told.as_flattened()].concat()
    }
}

impl AcrossPictures for HoldSteady {
    fn edge(&self) -> u32 {
        EDGE
    }

    fn against(&self) -> Vec<Against> {
        vec![Against::Share(self.reference / 100.0), Against::Before, Against::After]
    }

    fn see(&self, size: Size, values: &[f32]) -> Seen {
        let view = AlignmentView::new(size, values);
        Arc::new(SeenFrame { view, as_reference: OnceLock::new() })
    }

    fn measure(&self, own: &Seen, other: &dyn Fn(usize) -> Option<Seen>) -> Vec<f64> {
        let Some(frame) = own.downcast_ref::<SeenFrame>() else { return Vec::new() };
        let against = |which: usize| {
            let other = other(which)?;
            // The reference lies on itself.
            if Arc::ptr_eq(&other, own) {
                return Some(Aligned { motion: Projective::IDENTITY, error: 0.0, share: 1.0 });
            }
            self.aligned(&other, frame)
        };
        let on_reference = against(0);
        let beside = |which: usize| if on_reference.is_some() { None } else { against(which) };
        let shape = frame.view.shape();
        Measurement { on_reference, on_before: beside(1), on_after: beside(2), shape }.numbers()
    }

    fn decide(&self, measured: &[Option<Vec<f64>>]) -> Vec<Map<String, Value>> {
        let Some(steady) = self.steady(measured) else { return vec![Map::new(); measured.len()] };
        let tidy = |v: &f64| (v * 1e10).round() / 1e10;
        let values = |(map, _): &(Projective, KnownBy)| {
            let mut values = Map::new();
            values.insert("map".into(), json!(map.0[..8].iter().map(tidy).collect::<Vec<_>>()));
            if self.edges == Edges::Crop {
                values.insert("keep".into(), json!(steady.covered.map(|v| tidy(&v))));
            }
            values
        };
        steady.frames.iter().map(values).collect()
    }

    fn told(&self, measured: &[Option<Vec<f64>>], names: &[String]) -> Vec<String> {
        let Some(steady) = self.steady(measured) else {
            return vec!["No frame could be measured, so none was moved.".into()];
        };
        let mut told = Vec::new();
        if self.edges == Edges::Crop && steady.covered[2] < 1.0 {
            let lost = (1.0 - steady.covered[2] * steady.covered[3]) * 100.0;
            told.push(format!("{lost:.1} % of the picture is cropped: what not every frame has."));
        }
        if self.edges == Edges::Fill && steady.covered[2] * steady.covered[3] < 1.0 {
            told.push(format!("Edges are filled from up to {REACH} frames to each side; where none of them shows anything, they are drawn on."));
        }
        let by = |by: KnownBy| {
            let frames = steady.frames.iter().zip(names).filter(|((_, known), _)| *known == by);
            frames.map(|(_, name)| name.as_str()).collect::<Vec<_>>()
        };
        for (frames, how) in [
            (by(KnownBy::Neighbours), "found by its neighbours, one against the next"),
            (by(KnownBy::Course), "not aligned; it takes the course of the frames around it"),
        ] {
            match frames[..] {
                [] => {}
                [one] => told.push(format!("1 frame was {how}: {one}.")),
                _ => {
                    let how = how
                        .replace("its ", "their ")
                        .replace("it takes", "they take")
                        .replace("around it", "around them");
                    told.push(format!("{} frames were {how}: {}.", frames.len(), few(&frames)));
                }
            }
        }
        told
    }
}

/// The first few of many names.
fn few(names: &[&str]) -> String {
    const FEW: usize = 8;
    let more = names.len().saturating_sub(FEW);
    let first = names[..names.len().min(FEW)].join(", ");
    if more == 0 { first } else { format!("{first} and {more} more") }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mapped(step: &HoldSteady, size: Size, x: f64, y: f64) -> (f64, f64) {
        step.geometry(size).unwrap().map.at(x, y, 1)
    }

    #[test]
    fn a_frame_is_taken_from_where_it_lies() {
        let size = Size::new(1200, 800);
        let near = |a: (f64, f64), b: (f64, f64)| (a.0 - b.0).abs() < 1e-6 && (a.1 - b.1).abs() < 1e-6;
        // Half a hundredth of the long edge to the right: six pixels.
        let map = Some([1.0, 0.0, 0.005, 0.0, 1.0, 0.0, 0.0, 0.0]);
        let step = HoldSteady { map, ..HoldSteady::default() };
        assert!(near(mapped(&step, size, 0.0, 0.0), (6.0, 0.0)));
        let keep = Some([0.1, 0.05, 0.9, 0.9]);
        let step = HoldSteady { map, keep, ..HoldSteady::default() };
        assert!(near(mapped(&step, size, 0.0, 0.0), (126.0, 40.0)));
        assert!(near(mapped(&step, size, 1200.0, 800.0), (1206.0, 760.0)));
        let left = HoldSteady { edges: Edges::Leave, ..step };
        assert!(near(mapped(&left, size, 0.0, 0.0), (6.0, 0.0)));
        assert_eq!(left.fills_edges(), None);
        let filled = HoldSteady { edges: Edges::Fill, ..left };
        assert!(near(mapped(&filled, size, 0.0, 0.0), (6.0, 0.0)) && filled.fills_edges() == Some(12));
        assert!(HoldSteady::default().geometry(size).is_none());
    }

    #[test]
    fn parts_that_are_not_trusted_do_not_count() {
        let step = HoldSteady {
            area: Some([0.0, 0.0, 0.5, 1.0]),
            ignore: vec![[0.0, 0.0, 0.2, 0.2]],
            ..HoldSteady::default()
        };
        assert!(step.counts(0.3, 0.5) && !step.counts(0.6, 0.5) && !step.counts(0.1, 0.1));
    }

    #[test]
    fn what_was_lost_and_what_could_not_be_aligned_is_said() {
        let names: Vec<String> = (0..12).map(|i| format!("F_{i}.jpg")).collect();
        let lies = |x: f64| {
            Some(Aligned {
                motion: Projective([1.0, 0.0, x, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0]),
                error: 1e-5,
                share: 0.9,
            })
        };
        let numbers = |on_reference, on_before, on_after| {
            Some(Measurement { on_reference, on_before, on_after, shape: (0.5, 0.33) }.numbers())
        };
        let mut measured: Vec<Option<Vec<f64>>> =
            (0..12).map(|i| numbers(lies(0.001 * f64::from(i)), None, None)).collect();
        let step = HoldSteady::default();
        assert_eq!(step.told(&measured, &names).len(), 1);
        measured[3] = numbers(None, lies(0.001), None);
        measured[4] = None;
        measured[5] = numbers(None, None, lies(-0.001));
        let told = step.told(&measured, &names);
        assert!(told[0].ends_with("% of the picture is cropped: what not every frame has."), "{told:?}");
        assert_eq!(
            told[1],
            "2 frames were found by their neighbours, one against the next: F_3.jpg, F_5.jpg."
        );
        assert_eq!(told[2], "1 frame was not aligned; it takes the course of the frames around it: F_4.jpg.");
        assert!(step.told(&[None], &names)[0].contains("No frame could be measured"));
    }

    #[test]
    fn what_is_measured_is_told_in_numbers_and_read_again() {
        let motion = Projective([1.001, -0.002, 0.003, 0.004, 0.999, -0.005, 0.0, 0.0, 1.0]);
        let on_reference = Some(Aligned { motion, error: 1e-5, share: 0.75 });
        let one = Measurement { on_reference, on_before: None, on_after: on_reference, shape: (0.5, 0.25) };
        assert_eq!(Measurement::read(&one.numbers()), Some(one));
        assert_eq!(Measurement::read(&one.numbers()[1..]), None);
    }
}
