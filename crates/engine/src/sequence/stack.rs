//! Several frames as one picture: the weighted mean of sources, each laid on the first by a mapping of its own.
//!
//! A plan has one input. What joins neighbouring frames is therefore a source, not a step: a blend in the middle of a
//! recipe is its first lines, an intermediate result per frame, a [`Stack`] of those, and the rest of the lines.
//!
//! ```
//! use rallo_engine::{Affine, Picture, Pyramid, Size, Source};
//! use rallo_engine::sequence::stack::{Stack, StackedFrame};
//! use std::sync::Arc;
//!
//! let grey = |value: f32| Picture::of_working(Size::new(2, 1), vec![value; 6]).unwrap();
//! let frame = |value| StackedFrame { source: Arc::new(Pyramid::new(grey(value))), weight: 1.0, mapping: Affine::IDENTITY };
//! let mean = Stack::new(vec![frame(0.2), frame(0.6)]).unwrap();
//! assert_eq!(mean.size(), Size::new(2, 1));
//! ```

use crate::geometry::{Affine, Size};
use crate::image::picture::{Orientation, Picture};
use crate::image::source::{Source, SourceError};
use crate::ops::warp::Warp;
use crate::plan::{Plan, Settings};
use crate::step::{Geometry, Step};
use serde_json::{Value, json};
use std::sync::Arc;

/// One frame of a stack.
pub struct StackedFrame {
    /// Its pixels.
    pub source: Arc<dyn Source + Send + Sync>,
    /// How much it counts against the others, above 0.
    pub weight: f32,
    /// From places in the first frame to the same places in this one, in pixels of full size.
    pub mapping: Affine,
}

/// Why frames make no stack.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum StackError {
    /// There are none.
    #[error("there is no frame to put on a stack")]
    Empty,
    /// One has no weight, or one that is no number above 0.
    #[error("frame {frame} of the stack has the weight {weight}; it is to be above 0")]
    Weight {
        /// The frame, from 1.
        frame: usize,
        /// What came.
        weight: f32,
    },
    /// One has another size than the first, and would not cover it.
    #[error("frame {frame} of the stack has {got} pixels, the first one {first}")]
    Size {
        /// The frame, from 1.
        frame: usize,
        /// Its size.
        got: String,
        /// The first one's.
        first: String,
    },
}

/// The weighted mean of frames, as a source. Beyond the edge of a frame its edge counts.
pub struct Stack {
    frames: Vec<StackedFrame>,
}

impl Stack {
    /// Frames of one size.
    ///
    /// # Errors
    /// [`StackError`].
    pub fn new(frames: Vec<StackedFrame>) -> Result<Self, StackError> {
        let first = frames.first().ok_or(StackError::Empty)?.source.size();
        let text = |size: Size| format!("{} × {}", size.width, size.height);
        for (i, frame) in frames.iter().enumerate() {
            if !(frame.weight.is_finite() && frame.weight > 0.0) {
                return Err(StackError::Weight { frame: i + 1, weight: frame.weight });
            }
            let size = frame.source.size();
            if size != first {
                return Err(StackError::Size { frame: i + 1, got: text(size), first: text(first) });
            }
        }
        Ok(Self { frames })
    }

    /// The working values of one frame at a level, laid on the first.
    fn values(&self, frame: &StackedFrame, level: u8) -> Result<(Size, Vec<f32>), SourceError> {
        let source: &dyn Source = &*frame.source;
        let steps: Vec<Settings> = if frame.mapping == Affine::IDENTITY {
            Vec::new()
        } else {
            vec![Settings::from(Box::new(Laid { map: frame.mapping }) as Box<dyn Step>)]
        };
        let plan = Plan::new(steps, source.size()).map_err(|e| SourceError(e.to_string()))?;
        let program = plan.program(0.5f64.powi(i32::from(level)));
        program.render_values(source, program.size().rect())
    }
}

impl Source for Stack {
    fn size(&self) -> Size {
        self.frames[0].source.size()
    }
    fn max_level(&self) -> u8 {
        self.frames.iter().map(|frame| frame.source.max_level()).min().unwrap_or(0)
    }
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError> {
        let level = level.min(self.max_level());
        let total: f64 = self.frames.iter().map(|frame| f64::from(frame.weight)).sum();
        let mut mean: Option<(Size, Vec<f32>)> = None;
        // One frame at a time: a stack needs the room of two, however many it has.
        for frame in &self.frames {
            let share = (f64::from(frame.weight) / total) as f32;
            let (size, values) = self.values(frame, level)?;
            match &mut mean {
                None => mean = Some((size, values.into_iter().map(|v| v * share).collect())),
                Some((_, sum)) => sum.iter_mut().zip(values).for_each(|(s, v)| *s += v * share),
            }
        }
        let (size, values) = mean.ok_or_else(|| SourceError(StackError::Empty.to_string()))?;
        Picture::of_working(size, values).map(Arc::new).map_err(|e| SourceError(e.to_string()))
    }
    fn orientation(&self) -> Orientation {
        self.frames[0].source.orientation()
    }
    fn seed(&self) -> u64 {
        self.frames[0].source.seed()
    }
    fn state(&self) -> u64 {
        self.frames.iter().fold(0, |hash, frame| hash.wrapping_mul(31).wrapping_add(frame.source.state()))
    }
}

/// A frame as it lies on the first one: a mapping and nothing else.
#[derive(Clone, Debug)]
struct Laid {
    map: Affine,
}

impl Step for Laid {
    fn values(&self) -> Value {
        json!({})
    }
    fn sentence(&self) -> String {
        "A frame laid on the first.".into()
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        Some(Geometry { map: Warp::from(self.map), size })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::pyramid::Pyramid;
    use crate::steps::testing::picture;

    /// Numbers without a pattern, around 0 with a spread of 1 / √12.
    fn noise(x: u32, y: u32, frame: u32) -> f32 {
        let mut n =
            x.wrapping_mul(0x9E37_79B1) ^ y.wrapping_mul(0x85EB_CA77) ^ frame.wrapping_mul(0xC2B2_AE3D);
        n = (n ^ (n >> 15)).wrapping_mul(0x2C1B_3C6D);
        n = (n ^ (n >> 12)).wrapping_mul(0x297A_2D39);
        (n ^ (n >> 15)) as f32 / u32::MAX as f32 - 0.5
    }

    fn frame(weight: f32, mapping: Affine, value: impl Fn(u32, u32) -> f32) -> StackedFrame {
        let source = Pyramid::new(picture(Size::new(64, 48), |x, y| [value(x, y); 3]));
        StackedFrame { source: Arc::new(source), weight, mapping }
    }

    fn values(stack: &Stack) -> Vec<f32> {
        let plan = Plan::new(Vec::new(), stack.size()).unwrap();
        let program = plan.program(1.0);
        program.render_values(stack, program.size().rect()).unwrap().1
    }

    #[test]
    fn the_mean_counts_each_frame_by_its_weight() {
        let stack = Stack::new(vec![
            frame(3.0, Affine::IDENTITY, |x, _| x as f32 / 100.0),
            frame(1.0, Affine::IDENTITY, |_, y| y as f32 / 100.0),
        ]);
        let got = values(&stack.unwrap());
        for (i, v) in got.chunks(3).enumerate() {
            let (x, y) = ((i % 64) as f32, (i / 64) as f32);
            assert!((v[0] - (0.75 * x + 0.25 * y) / 100.0).abs() < 1e-6, "{x} {y}: {v:?}");
        }
    }

    #[test]
    fn noise_of_two_frames_falls_by_the_root_of_two_and_of_eight_by_that_of_eight() {
        let spread = |count: u32| {
            let frames = (0..count).map(|n| frame(1.0, Affine::IDENTITY, move |x, y| 0.5 + noise(x, y, n)));
            let values = values(&Stack::new(frames.collect()).unwrap());
            let square: f32 = values.iter().step_by(3).map(|v| (v - 0.5).powi(2)).sum();
            (square / (64.0 * 48.0)).sqrt()
        };
        let one = spread(1);
        assert!((one - 1.0 / 12f32.sqrt()).abs() < 0.01, "{one}");
        for count in [2, 8] {
            let fallen = one / spread(count);
            assert!((fallen / (count as f32).sqrt() - 1.0).abs() < 0.05, "{count}: {fallen}");
        }
    }

    #[test]
    fn a_frame_that_was_moved_is_laid_on_the_first() {
        // Smooth enough that resampling changes nothing to speak of.
        let scene = |x: f64, y: f64| (0.5 + 0.3 * (x / 9.0).sin() * (y / 7.0).cos()) as f32;
        let moved =
            frame(1.0, Affine::shift(2.5, -1.25), move |x, y| scene(f64::from(x) - 2.5, f64::from(y) + 1.25));
        let first = frame(1.0, Affine::IDENTITY, move |x, y| scene(f64::from(x), f64::from(y)));
        let got = values(&Stack::new(vec![first, moved]).unwrap());
        for y in 8..40u32 {
            for x in 8..56u32 {
                let v = got[((y * 64 + x) * 3) as usize];
                let truth = scene(f64::from(x), f64::from(y));
                assert!((v - truth).abs() < 2e-3, "{x} {y}: {v} {truth}");
            }
        }
    }

    #[test]
    fn what_makes_no_stack_is_refused_with_the_frame() {
        assert_eq!(Stack::new(Vec::new()).err(), Some(StackError::Empty));
        let weightless =
            vec![frame(1.0, Affine::IDENTITY, |_, _| 0.5), frame(0.0, Affine::IDENTITY, |_, _| 0.5)];
        assert_eq!(Stack::new(weightless).err(), Some(StackError::Weight { frame: 2, weight: 0.0 }));
        let small = StackedFrame {
            source: Arc::new(Pyramid::new(picture(Size::new(10, 48), |_, _| [0.1; 3]))),
            weight: 1.0,
            mapping: Affine::IDENTITY,
        };
        let refused = Stack::new(vec![frame(1.0, Affine::IDENTITY, |_, _| 0.5), small]).err().unwrap();
        assert!(refused.to_string().contains("10 × 48"), "{refused}");
    }
}
