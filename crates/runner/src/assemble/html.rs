//! How text stands in the pages that a run writes.

use askama::filters::Escaper;
use std::fmt::{Result, Write};

/// Writes the characters that mean something in HTML by name (`&amp;`), where the template library would write their
/// numbers.
#[derive(Clone, Copy)]
pub(crate) struct NamedEntities;

impl Escaper for NamedEntities {
    fn write_escaped_str<W: Write>(&self, mut to: W, text: &str) -> Result {
        for part in text.split_inclusive(['&', '<', '>', '"']) {
            let (plain, special) =
                part.split_at(part.len() - usize::from(part.ends_with(['&', '<', '>', '"'])));
            to.write_str(plain)?;
            to.write_str(match special {
                "&" => "&amp;",
                "<" => "&lt;",
                ">" => "&gt;",
                "\"" => "&quot;",
                _ => "",
            })?;
        }
        Ok(())
    }
}
