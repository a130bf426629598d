//! PDF documents: pages, albums, and making existing ones smaller.

pub mod album;
pub mod page;
pub mod shrink;
