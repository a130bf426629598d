//! Lettering: lines of text shaped and rasterised with the fonts that ship with the engine.
//!
//! Allocates one byte a pixel of the text's bounds.

use cosmic_text::{
    Attrs, Buffer, Family, FontSystem, Metrics, Shaping, SwashCache, SwashContent, Weight, fontdb,
};
use std::sync::{Arc, LazyLock, Mutex};

/// Largest text in pixels: what is larger lies outside any picture.
const LARGEST: usize = 200_000_000;

/// Coverage of a line of text.
#[derive(Clone, Debug)]
pub struct Letters {
    /// Pixels per row of the ink.
    pub width: usize,
    /// Rows of the ink.
    pub height: usize,
    /// 0 ..= 255, row by row.
    pub cover: Vec<u8>,
    /// Rows from the top of the ink down to the base line.
    pub rise: i64,
}

/// The fonts that ship with the engine: Atkinson Hyperlegible Next, weight 600.
pub static SHIPPED: [&[u8]; 2] = [
    include_bytes!("../../fonts/atkinson-hyperlegible-next-latin-600.ttf"),
    include_bytes!("../../fonts/atkinson-hyperlegible-next-latin-ext-600.ttf"),
];

static FONTS: LazyLock<Mutex<(FontSystem, SwashCache)>> = LazyLock::new(|| {
    let mut fonts = fontdb::Database::new();
    for bytes in SHIPPED {
        fonts.load_font_source(fontdb::Source::Binary(Arc::new(bytes)));
    }
    Mutex::new((FontSystem::new_with_locale_and_db("en".into(), fonts), SwashCache::new()))
});

/// One line of text, `size` pixels high (the type's size, about 1.4 times its capitals); `None` where nothing of it
/// can be drawn.
pub fn line(text: &str, size: f32) -> Option<Letters> {
    let mut held = FONTS.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
    let (fonts, cache) = &mut *held;
    let mut buffer = Buffer::new(fonts, Metrics::new(size, size * 1.2));
    buffer.set_size(None, None);
    let attrs = Attrs::new().family(Family::Name("Atkinson Hyperlegible Next")).weight(Weight(600));
    buffer.set_text(text, &attrs, Shaping::Advanced, None);
    buffer.shape_until_scroll(fonts, false);
    let mut drawn = Vec::new();
    let mut base = 0;
    for run in buffer.layout_runs() {
        base = run.line_y.round() as i32;
        for glyph in run.glyphs {
            let at = glyph.physical((0.0, run.line_y), 1.0);
            if let Some(image) = cache.get_image_uncached(fonts, at.cache_key)
                && image.content == SwashContent::Mask
            {
                let (x, y) = (at.x + image.placement.left, at.y - image.placement.top);
                drawn.push((x, y, image));
            }
        }
    }
    let left = drawn.iter().map(|d| d.0).min()?;
    let top = drawn.iter().map(|d| d.1).min()?;
    let right = drawn.iter().map(|d| d.0 + d.2.placement.width as i32).max()?;
    let bottom = drawn.iter().map(|d| d.1 + d.2.placement.height as i32).max()?;
    let (width, height) = ((right - left).max(0) as usize, (bottom - top).max(0) as usize);
    if width == 0 || height == 0 || width * height > LARGEST {
        return None;
    }
    let mut cover = vec![0u8; width * height];
    for (x, y, image) in drawn {
        let (w, at) = (image.placement.width as usize, ((y - top) as usize, (x - left) as usize));
        if w == 0 {
            continue;
        }
        for (row, line) in image.data.chunks(w).enumerate() {
            let start = (at.0 + row) * width + at.1;
            for (to, from) in cover[start..start + w].iter_mut().zip(line) {
                *to = (*to).max(*from);
            }
        }
    }
    Some(Letters { width, height, cover, rise: i64::from(base - top) })
}

/// As [`line`], made smaller where it would be wider than `room` pixels.
pub fn fitted(text: &str, size: f32, room: f64) -> Option<Letters> {
    let letters = line(text, size)?;
    if letters.width as f64 <= room || room < 1.0 {
        return Some(letters);
    }
    line(text, (f64::from(size) * room / letters.width as f64 * 0.995) as f32)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn real_shaping_kerns_and_joins_accents() {
        let wide = |text: &str| line(text, 100.0).unwrap().width;
        assert!(wide("AVAVAV") < wide("AAA") + wide("VVV"), "no kerning");
        // e + combining acute is drawn as one letter, as wide as é.
        assert!(wide("cafe\u{301}").abs_diff(wide("café")) <= 2);
        assert!(line("   ", 40.0).is_none());
    }

    #[test]
    fn the_base_line_is_where_letters_stand() {
        // A capital stands on it, a p hangs below.
        let (h, p) = (line("H", 100.0).unwrap(), line("p", 100.0).unwrap());
        assert!((h.rise - h.height as i64).abs() <= 1, "{} {}", h.rise, h.height);
        assert!(p.height as i64 - p.rise > 10);
        assert!(fitted("Thistlewick Nursery", 80.0, 200.0).unwrap().width <= 200);
    }
}
