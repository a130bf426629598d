//! How a camera moved from one frame to another: found to hundredths of a pixel, whatever moves through the picture and however
//! its light changed.
//!
//! The reference is cut into small patches where there is something to see. For each the frame is looked up where the motion
//! found so far puts the patch, and told as a mixture of the patch, its slopes and a grey: the slopes' shares are how far it is
//! still off, whatever its gain and offset (B. D. Lucas and T. Kanade, "An iterative image registration technique", 1981, in
//! the inverse form of S. Baker and I. Matthews, "Lucas-Kanade 20 years on", 2004). The motion of the camera is the one that
//! fits most patches; what moves by itself, and shadows, count as far off. From small sizes to large ones; the first step, which
//! has to find large motions, tries every whole pixel at the smallest size.

mod motion;
mod patches;
mod view;

pub use crate::sequence::alignment::motion::Freedom;
pub use crate::sequence::alignment::view::AlignmentView;

use crate::ops::warp::Projective;
use crate::sequence::alignment::motion::Fitted;
use crate::sequence::alignment::patches::{Patch, patches};
pub(crate) use crate::sequence::alignment::view::{Plane, around, cubic};

/// A frame others are aligned on.
#[derive(Clone, Debug)]
pub struct Reference {
    view: AlignmentView,
    /// What there is to see at each size, the largest first.
    patches: Vec<Vec<Patch>>,
}

/// How a frame lies against a reference.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Aligned {
    /// From places in the reference to the same places in the frame, told from the middle in lengths of the long edge.
    pub motion: Projective,
    /// The standard deviation of that at the corners, in lengths of the long edge.
    pub error: f64,
    /// The share of the patches that moved like this.
    pub share: f64,
}

/// Rounds at one size at most.
const ROUNDS: usize = 6;

/// A round that moves corners by less, in pixels of the size, is the last.
const SETTLED: f64 = 0.004;

/// And so is one that moves them by less and hardly less than the round before.
const WAVERING: f64 = 0.03;

/// Fewer patches that moved alike are chance.
const FEWEST: f64 = 10.0;

/// And a smaller share of them.
const LEAST_SHARE: f64 = 0.2;

/// An error above this, in lengths of the long edge, is none that could be used.
const LARGEST_ERROR: f64 = 5e-4;

/// Numbers added up side by side.
const LANES: usize = 8;

/// Share of the long edge a frame may be shifted by.
const FARTHEST: f64 = 0.14;

impl Reference {
    /// A frame, of which only patches at places that `counts` (shares of the sides) count.
    pub fn new(view: AlignmentView, counts: &dyn Fn(f64, f64) -> bool) -> Self {
        let patches = (0..view.planes.len()).map(|level| patches(&view, level, counts)).collect();
        Self { view, patches }
    }

    /// How a frame lies against it; nothing where that cannot be told.
    pub fn align(&self, frame: &AlignmentView, freedom: Freedom) -> Option<Aligned> {
        if (frame.planes[0].width, frame.planes[0].height)
            != (self.view.planes[0].width, self.view.planes[0].height)
        {
            return None;
        }
        let last = self.view.planes.len() - 1;
        let mut motion = self.nearest(frame, last);
        let mut told = None;
        for level in (0..=last).rev() {
            // A shift alone first: with few patches, and much to move, a freer motion would follow whatever there is.
            let free = if level == last { Freedom::Shift } else { freedom };
            told = self.at_size(frame, level, free, &mut motion).or(told.filter(|_| level > 0));
            // What hardly anything agrees on when it is small is no clearer when it is large.
            let is_hopeless = |(fitted, seen): &(Fitted, usize)| {
                fitted.weights.iter().sum::<f64>() < *seen as f64 * LEAST_SHARE / 2.0
            };
            if level < last && told.as_ref().is_none_or(is_hopeless) {
                return None;
            }
        }
        let (fitted, seen) = told?;
        let alike: f64 = fitted.weights.iter().sum();
        let share = alike / seen as f64;
        let known = alike >= FEWEST && share >= LEAST_SHARE && fitted.error <= LARGEST_ERROR;
        known.then_some(Aligned { motion, error: fitted.error, share })
    }

    /// The motion by whole pixels of a size under which most of it looks alike.
    fn nearest(&self, frame: &AlignmentView, level: usize) -> Projective {
        let (here, there) = (self.view.planes[level].slopes(), frame.planes[level].slopes());
        let (width, height) = (here[0].width as i64, here[0].height as i64);
        let far = (FARTHEST * self.view.pixels(level)) as i64;
        let mut best = (f64::MIN, 0, 0);
        for down in -far..=far {
            for across in -far..=far {
                // Lane by lane, which the compiler does at once.
                let mut sums = [[0.0f32; LANES]; 3];
                for (a, b) in here.iter().zip(&there) {
                    for y in 0.max(-down)..height.min(height - down) {
                        let from = 0.max(-across);
                        let count = (width.min(width - across) - from).max(0) as usize;
                        let row = (y * width + from) as usize;
                        let moved = ((y + down) * width + from + across) as usize;
                        let (a, b) = (&a.values[row..row + count], &b.values[moved..moved + count]);
                        for (a, b) in a.as_chunks::<LANES>().0.iter().zip(b.as_chunks::<LANES>().0) {
                            for lane in 0..LANES {
                                sums[0][lane] += a[lane] * b[lane];
                                sums[1][lane] += a[lane] * a[lane];
                                sums[2][lane] += b[lane] * b[lane];
                            }
                        }
                    }
                }
                let [product, own, other] = sums.map(|lanes| f64::from(lanes.iter().sum::<f32>()));
                let alike = product / (own * other + 1e-18).sqrt();
                if alike > best.0 {
                    best = (alike, across, down);
                }
            }
        }
        let by = |pixels: i64| pixels as f64 / self.view.pixels(level);
        Projective([1.0, 0.0, by(best.1), 0.0, 1.0, by(best.2), 0.0, 0.0, 1.0])
    }

    /// The motion made better at one size, with what is known of it and how many patches there were.
    fn at_size(
        &self,
        frame: &AlignmentView,
        level: usize,
        freedom: Freedom,
        motion: &mut Projective,
    ) -> Option<(Fitted, usize)> {
        let (plane, pixels) = (&frame.planes[level], self.view.pixels(level));
        let shape = self.view.shape();
        let mut told = None;
        let mut before = f64::INFINITY;
        for _ in 0..ROUNDS {
            let measured: Vec<_> =
                self.patches[level].iter().filter_map(|patch| patch.moved(plane, motion, pixels)).collect();
            let Some(fitted) = Fitted::of(&measured, freedom, shape) else { break };
            let step = [(-1.0, -1.0), (1.0, -1.0), (-1.0, 1.0), (1.0, 1.0)]
                .map(|(x, y)| fitted.at((x * shape.0, y * shape.1)))
                .into_iter()
                .map(|(x, y)| x.hypot(y) * pixels)
                .fold(0.0, f64::max);
            // Farther than patches see, nothing is known.
            if step > 4.0 {
                break;
            }
            *motion = fitted.taken_back().then(motion);
            told = Some((fitted, self.patches[level].len()));
            // A step that is no shorter than the last one goes to and fro.
            if step < SETTLED || step < WAVERING && step > before / 2.0 {
                break;
            }
            before = step;
        }
        told
    }
}

impl Plane {
    /// Slopes along rows and columns.
    fn slopes(&self) -> [Self; 2] {
        let (w, h) = (self.width, self.height);
        let of = |slope: &dyn Fn(usize, usize) -> f32| {
            let values = (0..w * h).map(|i| slope(i % w, i / w)).collect();
            Self { width: w, height: h, values }
        };
        let at = |x: usize, y: usize| self.values[y.min(h - 1) * w + x.min(w - 1)];
        [
            of(&|x, y| at(x + 1, y) - at(x.saturating_sub(1), y)),
            of(&|x, y| at(x, y + 1) - at(x, y.saturating_sub(1))),
        ]
    }
}

#[cfg(test)]
mod tests;
