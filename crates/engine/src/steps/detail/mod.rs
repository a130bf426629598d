//! Steps that sharpen, or add grain.

pub mod capture_sharpening;
pub mod grain;
pub mod output_sharpening;
pub mod unsharp_mask;
