//! Data beside the pixels: the camera's, what is said about a picture, who made a file.

pub mod descriptive;
pub(crate) mod embed;
pub mod exif;
pub mod fields;
pub mod provenance;
pub mod xmp;
