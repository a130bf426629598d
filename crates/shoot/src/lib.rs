//! Frames of a shoot and what is decided about them: order, choice, facets, the sequence check, suggestions,
//! the sieve, gathering plans, the shoot document. No files are opened here and nothing is stored.

pub mod document;
pub mod facets;
pub mod frame;
pub mod gather;
pub mod measured_area;
pub mod order;
pub mod sample;
pub mod sequence;
pub mod sieve;
pub mod suggest;

pub use document::Document;
pub use facets::{Facet, Filter};
pub use frame::{Choice, Frame};
pub use measured_area::{MeasuredArea, NamedArea};
pub use order::{Order, Sort, natural, natural_key};
