//! What the rest of the program knows of a step without running it.

use std::fmt::Debug;

/// What a step is called and said to do.
#[derive(Debug)]
pub struct StepInfo {
    /// Name in recipes.
    pub id: &'static str,
    /// Name for people.
    pub title: &'static str,
    /// Heading it is listed under.
    pub group: &'static str,
    /// One or two sentences: what it does, in which space it computes.
    pub about: &'static str,
    /// What people may type when they look for it.
    pub words: &'static [&'static str],
    /// Values (JSON) that change nothing.
    pub neutral: &'static str,
    /// Values (JSON) a new line starts with on the bench.
    pub starter: &'static str,
}
