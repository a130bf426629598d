//! What is made of all pictures of a run together: clips, documents, sheets, archives, pages.

pub(crate) mod archive;
pub(crate) mod assembler;
pub mod clip;
pub(crate) mod contact_sheet;
pub(crate) mod course_page;
pub mod encoder_speed;
pub(crate) mod finishing;
pub(crate) mod html;
mod in_between;
pub(crate) mod ordered_stream;
pub(crate) mod pdf;
pub mod piece;
mod stack;
#[cfg(test)]
mod tests;
pub mod web_gallery;
