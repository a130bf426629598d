//! What is remembered of a plan's earlier work, and the keys it is found by.

use crate::geometry::Rect;
use crate::plan::Plan;
use crate::plan::fingerprint::fingerprint;
use crate::step::{Step, View};
use std::sync::Arc;

/// Remembers what measured steps found, so that a change behind them does not measure again.
pub trait Memory: Sync {
    /// What was kept under a key.
    fn recall(&self, key: u64) -> Option<Arc<dyn Step>>;
    /// Keeps a measured step.
    fn keep(&self, key: u64, step: Arc<dyn Step>);
    /// What a step was shown, kept under a key.
    fn recall_views(&self, key: u64) -> Option<Arc<Vec<View>>>;
    /// Keeps what a step was shown.
    fn keep_views(&self, key: u64, views: Arc<Vec<View>>);
}

/// What stands before a plan's cut, over a part of the picture.
#[derive(Clone)]
pub struct PrefixPixels {
    pub(super) key: u64,
    pub(super) rect: Rect,
    pub(super) pixels: Arc<Vec<[f32; 3]>>,
}

/// A number for anything that can be written out; equal texts, equal numbers.
pub(crate) fn key_of(what: &dyn std::fmt::Debug) -> u64 {
    use std::hash::{DefaultHasher, Hasher};
    struct Through(DefaultHasher);
    impl std::fmt::Write for Through {
        fn write_str(&mut self, text: &str) -> std::fmt::Result {
            self.0.write(text.as_bytes());
            Ok(())
        }
    }
    let mut through = Through(DefaultHasher::new());
    // Writing into a hash does not fail.
    let _ = std::fmt::Write::write_fmt(&mut through, format_args!("{what:?}"));
    through.0.finish()
}

impl Plan {
    /// A number for everything that stands before the cut, at a scale, of this picture.
    pub(super) fn key(&self, cut: usize, scales: &[f64]) -> u64 {
        let facts = (&self.sizes, &self.to_output, self.seed, self.state, self.reduce);
        key_of(&(fingerprint(&self.steps[..cut.min(self.steps.len())]), facts, scales))
    }
}
