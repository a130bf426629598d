//! Steps that mend what the camera did.

pub mod denoise;
pub mod dust;
pub mod hot_pixels;
pub mod lens;
pub mod lens_profile;
