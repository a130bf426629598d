//! Before a run: names of its files, what should be known, what it will take.

pub mod checks;
pub mod cost;
pub mod estimate;
pub mod new_run;
pub mod output_paths;
