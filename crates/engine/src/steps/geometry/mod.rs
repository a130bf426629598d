//! Steps that move pixels or change the size.

pub mod crop;
pub mod mirror;
pub mod perspective;
pub mod resize;
pub mod rotate;
pub mod straighten;
pub mod upscale;
