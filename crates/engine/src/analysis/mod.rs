//! What is measured in a picture or found in it.

pub mod line_detection;
pub mod measure;
pub mod points_of_interest;
pub mod scopes;
pub mod softness;
