//! How pictures are laid out on the pages of a document.

use crate::assemble::contact_sheet::columns;
use rallo_media::pdf::album::Layout;
use rallo_recipe::delivery::{Contact, Pdf};

pub(super) fn layout(pdf: &Pdf) -> Layout {
    Layout {
        page: pdf.page(),
        margin: pdf.margin,
        grid: pdf.grid(),
        gap: pdf.gap,
        contents: pdf.contents,
        numbers: pdf.numbers,
        ppi: f64::from(pdf.resolution.unwrap_or(200)),
    }
}

/// A contact sheet on A4, as many rows as its columns leave room for.
pub(super) fn contact_layout(contact: &Contact, count: usize) -> Layout {
    let columns = columns(contact, count).min(12);
    let rows = (f64::from(columns) * 267.0 / 180.0 * 0.92).floor().max(1.0) as u32;
    Layout {
        page: Some((210.0, 297.0)),
        margin: 12.0,
        grid: (columns, rows),
        gap: 3.0,
        contents: false,
        numbers: true,
        ppi: 200.0,
    }
}
