//! A contact sheet as one picture.

use crate::render::fault::{Fault, fault};
use rallo_engine::colour::hex::parse_colour;
use rallo_engine::{Encoded, Pixels, Size};
use rallo_job::FailureKind;
use rallo_media::{Chroma, Encoding, Extras};
use rallo_recipe::delivery::Contact;

pub(super) fn columns(contact: &Contact, count: usize) -> u32 {
    let usual = (count as f64 * 1.3).sqrt().ceil() as u32;
    contact.columns.unwrap_or(usual).min(count as u32).max(1)
}

/// Most pixels of a contact sheet, and of a side of it.
pub(super) const LARGEST_SHEET: u64 = 150_000_000;

pub(super) const LONGEST_SHEET: u32 = 60_000;

/// The most pixels that a contact sheet may have.
///
/// # Errors
/// That it has more, with what can be done.
pub(crate) fn sheet_size(contact: &Contact, count: usize) -> Result<Size, Fault> {
    let measures = Measures::of(contact, count);
    // In 64 bits: a million pictures of ten thousand pixels are no reason to wrap around.
    let wide = u64::from;
    let rows = (count as u64).div_ceil(wide(measures.columns)).max(1);
    let width = wide(measures.gap) + wide(measures.columns) * (wide(measures.cell) + wide(measures.gap));
    let height =
        wide(measures.top) + rows * (wide(measures.cell) + wide(measures.under) + wide(measures.gap));
    let longest = width.max(height);
    let size = match (u32::try_from(width), u32::try_from(height)) {
        (Ok(width), Ok(height)) if longest <= wide(LONGEST_SHEET) => Size::new(width, height),
        _ => Size::new(0, 0),
    };
    if longest > wide(LONGEST_SHEET) || size.area() > LARGEST_SHEET {
        return Err(Fault::new(
            FailureKind::Together,
            format!(
                "a contact sheet of {count} pictures may have {} × {} pixels; take smaller ones, other columns, or a PDF",
                width, height
            ),
        ));
    }
    Ok(size)
}

/// Lengths of a contact sheet in pixels.
pub(super) struct Measures {
    pub(super) columns: u32,
    pub(super) cell: u32,
    pub(super) gap: u32,
    /// Height of the letters under a picture and of the line they stand on; 0 without any.
    letters: u32,
    under: u32,
    head: u32,
    top: u32,
}

impl Measures {
    fn of(contact: &Contact, count: usize) -> Self {
        let cell = contact.cell.unwrap_or(320);
        let gap = contact.gap.unwrap_or(24);
        let letters = if contact.caption.is_empty() { 0 } else { (cell / 16).clamp(9, 32) };
        let head = if contact.title.is_empty() { 0 } else { (cell / 7).clamp(18, 90) };
        let top = gap + if head > 0 { head * 3 / 2 + gap / 2 } else { 0 };
        Self { columns: columns(contact, count), cell, gap, letters, under: letters * 3 / 2, head, top }
    }
}

/// A contact sheet that is being filled; each row is as high as its tallest picture.
pub(super) struct Sheet {
    measures: Measures,
    pub(super) title: String,
    ground: [u8; 3],
    pub(super) format: Encoding,
    pub(super) cells: Vec<(Encoded, String)>,
}

/// A picture that letters are written on.
pub(super) struct Canvas {
    pub(super) size: Size,
    pub(super) pixels: Vec<u8>,
    ink: u8,
}

impl Canvas {
    /// One line with its top left corner at a place, cut to a width.
    pub(super) fn write(&mut self, text: &str, at: (u32, u32), width: u32, size: u32, middle: bool) {
        let mut text = text.to_owned();
        let Some(mut letters) = rallo_engine::letters(&text, size as f32) else { return };
        while letters.width > width as usize && text.chars().count() > 4 {
            // The end tells frames apart more often than the beginning.
            let short: String = text.trim_start_matches('…').chars().skip(2).collect();
            text = format!("…{short}");
            match rallo_engine::letters(&text, size as f32) {
                Some(next) => letters = next,
                None => return,
            }
        }
        let left =
            at.0 as usize + if middle { (width as usize).saturating_sub(letters.width) / 2 } else { 0 };
        let base = i64::from(at.1) + i64::from(size) * 9 / 10;
        let row = self.size.width as usize * 3;
        for y in 0..letters.height {
            let to = base - letters.rise + y as i64;
            if to < 0 || to >= i64::from(self.size.height) {
                continue;
            }
            for x in 0..letters.width.min(width as usize) {
                let cover = u32::from(letters.cover[y * letters.width + x]);
                let start = to as usize * row + (left + x) * 3;
                for value in self.pixels.get_mut(start..start + 3).into_iter().flatten() {
                    let mixed = u32::from(*value) * (255 - cover) + u32::from(self.ink) * cover;
                    *value = ((mixed + 127) / 255) as u8;
                }
            }
        }
    }

    fn put(&mut self, picture: &Encoded, at: (u32, u32)) {
        let Pixels::U8(from) = &picture.pixels else { return };
        let (row, own) = (self.size.width as usize * 3, picture.size.width as usize * 3);
        for (line, part) in from.chunks_exact(own).enumerate() {
            let start = (at.1 as usize + line) * row + at.0 as usize * 3;
            if let Some(to) = self.pixels.get_mut(start..start + own) {
                to.copy_from_slice(part);
            }
        }
    }
}

impl Sheet {
    pub(super) fn new(contact: &Contact, title: &str, count: usize) -> Result<Self, Fault> {
        sheet_size(contact, count)?;
        let quality = contact.quality.round() as u8;
        let format = match contact.format.as_str() {
            "png" => Encoding::Png,
            _ => Encoding::Jpeg { quality, chroma: Chroma::Full, progressive: false, optimised: false },
        };
        Ok(Self {
            measures: Measures::of(contact, count),
            title: title.to_owned(),
            ground: parse_colour(&contact.colour).unwrap_or([255; 3]),
            format,
            cells: Vec::new(),
        })
    }

    pub(super) fn finish(self) -> Result<(Vec<u8>, (u32, u32)), Fault> {
        let Measures { columns, cell, gap, letters, under, head, top } = self.measures;
        let rows: Vec<&[(Encoded, String)]> = self.cells.chunks(columns as usize).collect();
        let tallest = |row: &[(Encoded, String)]| row.iter().map(|c| c.0.size.height).max().unwrap_or(0);
        let high: u32 = rows.iter().map(|r| tallest(r) + under + gap).sum();
        let size = Size::new(gap + columns * (cell + gap), top + high);
        let bright = self.ground.iter().map(|c| u32::from(*c)).sum::<u32>() > 360;
        let pixels = self.ground.repeat(size.area() as usize);
        let mut canvas = Canvas { size, pixels, ink: if bright { 30 } else { 230 } };
        if head > 0 {
            canvas.write(&self.title, (gap, gap), size.width - 2 * gap, head, false);
        }
        let mut y = top;
        for row in rows {
            let tall = tallest(row);
            for ((picture, caption), column) in row.iter().zip(0..) {
                let left = gap + column * (cell + gap);
                let x = left + cell.saturating_sub(picture.size.width) / 2;
                canvas.put(picture, (x, y + (tall - picture.size.height) / 2));
                if letters > 0 && !caption.is_empty() {
                    canvas.write(caption, (left, y + tall + letters / 4), cell, letters, true);
                }
            }
            y += tall + under + gap;
        }
        let picture = Encoded { size, pixels: Pixels::U8(canvas.pixels) };
        let icc = rallo_engine::OutputProfile::Srgb.shared().icc.clone();
        let extras = Extras { icc: Some(icc), ..Extras::default() };
        let bytes = rallo_media::encode(&picture, self.format, &extras).map_err(|e| fault(&e))?;
        Ok((bytes, (size.width, size.height)))
    }
}
