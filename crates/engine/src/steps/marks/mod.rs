//! Steps that draw on the picture.

pub mod border;
pub mod caption;
pub mod slate;
pub mod watermark;
