//! What is made of all pictures of a run together: clips, documents, sheets, archives, pages.

pub(crate) mod finishing;
pub mod piece;
pub mod web_gallery;
