//! PDF: pages filled from top to bottom with text and pictures.
//!
//! Lengths are points (1/72 inch). Text is shaped and broken into lines with the fonts that ship; a paragraph that does
//! not fit goes on on the next page, a row of pictures moves there whole. Only the letters used are embedded.

use crate::MediaError;
use cosmic_text::{Attrs, Buffer, Family, FontSystem, Metrics, Shaping, Weight, fontdb};
use krilla::Document;
use krilla::color::rgb;
use krilla::geom::{Path, PathBuilder, Point, Size, Transform};
use krilla::image::Image;
use krilla::metadata::Metadata;
use krilla::num::NormalizedF32;
use krilla::page::PageSettings;
use krilla::paint::{Fill, LineCap, LineJoin, Stroke};
use krilla::text::{Font, GlyphId, KrillaGlyph};
use std::collections::HashMap;
use std::sync::Arc;

/// Points in a millimetre.
pub(crate) const MM: f32 = 72.0 / 25.4;
/// Height of a line by the size of its letters.
pub(crate) const LEADING: f32 = 1.38;

/// A page's width and height in millimetres.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct PageSize(pub f32, pub f32);

/// ISO 216 A4, upright.
pub const A4: PageSize = PageSize(210.0, 297.0);

/// Some words of a paragraph.
#[derive(Clone, Copy, Debug)]
pub struct TextRun<'a> {
    /// The text.
    pub text: &'a str,
    /// Heavier than the rest.
    pub strong: bool,
}

/// How a paragraph is set.
#[derive(Clone, Copy, Debug)]
pub struct Style<'a> {
    /// Size of the letters.
    pub size: f32,
    /// From the left margin.
    pub indent: f32,
    /// Black is 0, white 255.
    pub grey: u8,
    /// What stands to the left of the first line, inside the indent.
    pub mark: &'a str,
}

impl Default for Style<'_> {
    fn default() -> Self {
        Self { size: 10.5, indent: 0.0, grey: 20, mark: "" }
    }
}

/// A small drawing: lines in a frame.
#[derive(Clone, Debug, Default)]
pub struct Drawing {
    /// Width and height of the frame.
    pub size: (f32, f32),
    /// Rows of points in it, down as down, each with how broad it is.
    pub lines: Vec<(Vec<(f32, f32)>, f32)>,
    /// What stands under it.
    pub words: String,
}

enum Item {
    Line { path: Path, width: f32, grey: u8 },
    Glyphs { at: (f32, f32), font: fontdb::ID, size: f32, grey: u8, text: Arc<str>, glyphs: Vec<KrillaGlyph> },
    Picture { at: (f32, f32), size: (f32, f32), image: Image },
}

/// A document that is being filled.
pub struct Paper {
    title: String,
    page: (f32, f32),
    margin: f32,
    /// Where the next thing goes.
    y: f32,
    pages: Vec<((f32, f32), Vec<Item>)>,
    system: FontSystem,
    fonts: HashMap<fontdb::ID, Font>,
}

fn fail(message: impl ToString) -> MediaError {
    MediaError::Encode { format: "PDF", message: message.to_string() }
}

/// Points joined by lines, moved to a place; nothing for fewer than two.
fn line(points: &[(f32, f32)], at: (f32, f32)) -> Option<Path> {
    let mut path = PathBuilder::new();
    for (n, (x, y)) in points.iter().enumerate() {
        let (x, y) = (x + at.0, y + at.1);
        if n == 0 { path.move_to(x, y) } else { path.line_to(x, y) }
    }
    if points.len() < 2 { None } else { path.finish() }
}

/// Signs the shipped fonts lack, in letters they have.
fn lettered(text: &str) -> String {
    text.replace('‰', "per mille").replace('→', "to").replace('≥', "at least ").replace('≤', "at most ")
}

impl Paper {
    /// An empty document with a margin in millimetres.
    pub fn new(title: &str, size: PageSize, margin: f32) -> Self {
        let tables: [&'static [u8]; 2] = [
            include_bytes!("../../fonts/atkinson-hyperlegible-next-latin-400.ttf"),
            include_bytes!("../../fonts/atkinson-hyperlegible-next-latin-ext-400.ttf"),
        ];
        let mut database = fontdb::Database::new();
        let mut fonts = HashMap::new();
        for bytes in tables.into_iter().chain(rallo_engine::FONTS) {
            for id in database.load_font_source(fontdb::Source::Binary(Arc::new(bytes))) {
                fonts.extend(Font::new(bytes.into(), 0).map(|font| (id, font)));
            }
        }
        let system = FontSystem::new_with_locale_and_db("en".into(), database);
        let (page, margin) = ((size.0 * MM, size.1 * MM), margin * MM);
        Self { title: title.into(), page, margin, y: margin, pages: vec![(page, Vec::new())], system, fonts }
    }

    /// Width between the margins.
    pub fn width(&self) -> f32 {
        self.page.0 - 2.0 * self.margin
    }

    /// Leaves room, unless a page has just begun.
    pub fn space(&mut self, points: f32) {
        if self.y > self.margin {
            self.y += points;
        }
    }

    /// Goes to the next page where less than `points` are left on this one.
    fn need(&mut self, points: f32) {
        if self.y + points > self.page.1 - self.margin && self.y > self.margin {
            self.pages.push((self.page, Vec::new()));
            self.y = self.margin;
        }
    }

    fn put(&mut self, item: Item) {
        if let Some(page) = self.pages.last_mut() {
            page.1.push(item);
        }
    }

    /// Begins a page of another size, in points; the first one where nothing is laid yet.
    pub(crate) fn leaf(&mut self, page: (f32, f32)) {
        match &mut self.pages[..] {
            [first] if first.1.is_empty() => first.0 = page,
            _ => self.pages.push((page, Vec::new())),
        }
        (self.page, self.y) = (page, self.margin);
    }

    /// A picture (JPEG) in a box of this page, as large as fits, in its middle or at its top; the height it takes.
    pub(crate) fn picture_in(
        &mut self,
        jpeg: Vec<u8>,
        at: (f32, f32),
        room: (f32, f32),
        middle: bool,
    ) -> Result<f32, MediaError> {
        let image = Image::from_jpeg(jpeg.into(), true).map_err(fail)?;
        let (w, h) = (image.size().0 as f32, image.size().1 as f32);
        let scale = (room.0 / w).min(room.1 / h);
        let size = (w * scale, h * scale);
        let down = if middle { (room.1 - size.1) / 2.0 } else { 0.0 };
        self.put(Item::Picture { at: (at.0 + (room.0 - size.0) / 2.0, at.1 + down), size, image });
        Ok(down + size.1)
    }

    /// One line of text at a place of this page; what does not fit its width is left out.
    pub(crate) fn line_at(&mut self, text: &str, at: (f32, f32), width: f32, style: Style, strong: bool) {
        let y = self.y;
        self.y = at.1;
        let lines = self.lines(&[TextRun { text, strong }], style, at.0, width);
        for item in lines.into_iter().next().into_iter().flatten() {
            self.lay(item);
        }
        self.y = y;
    }

    /// A paragraph.
    pub fn text(&mut self, words: &[TextRun], style: Style) {
        let (left, width) = (self.margin + style.indent, self.width() - style.indent);
        let lines = self.lines(words, style, left, width);
        let height = style.size * LEADING;
        for (n, line) in lines.into_iter().enumerate() {
            self.need(height);
            if n == 0 && !style.mark.is_empty() {
                let mark = TextRun { text: style.mark, strong: false };
                let grey = style.grey.max(110);
                for item in
                    self.lines(&[mark], Style { grey, ..style }, self.margin, width).into_iter().flatten()
                {
                    self.lay(item);
                }
            }
            for item in line {
                self.lay(item);
            }
            self.y += height;
        }
    }

    /// Puts a run of letters on the line that begins here.
    fn lay(&mut self, item: Item) {
        let y = self.y;
        self.put(match item {
            Item::Glyphs { at, font, size, grey, text, glyphs } => {
                Item::Glyphs { at: (at.0, at.1 + y), font, size, grey, text, glyphs }
            }
            other => other,
        });
    }

    /// Lines of runs of letters, each at its place within its line.
    fn lines(&mut self, words: &[TextRun], style: Style, left: f32, width: f32) -> Vec<Vec<Item>> {
        let height = style.size * LEADING;
        let mut buffer = Buffer::new(&mut self.system, Metrics::new(style.size, height));
        buffer.set_size(Some(width), None);
        let family = Attrs::new().family(Family::Name("Atkinson Hyperlegible Next"));
        let texts: Vec<String> = words.iter().map(|w| lettered(w.text)).collect();
        let spans = texts.iter().zip(words).map(|(text, w)| {
            (text.as_str(), family.clone().weight(Weight(if w.strong { 600 } else { 400 })))
        });
        buffer.set_rich_text(spans, &family, Shaping::Advanced, None);
        buffer.shape_until_scroll(&mut self.system, false);
        let mut pages = Vec::new();
        for run in buffer.layout_runs() {
            let text: Arc<str> = run.text.into();
            let mut items = Vec::new();
            let base = run.line_y - run.line_top;
            for same in run.glyphs.chunk_by(|a, b| a.font_id == b.font_id) {
                let glyphs = same.iter().map(|g| {
                    let id = GlyphId::new(u32::from(g.glyph_id));
                    let range = g.start..g.end;
                    KrillaGlyph::new(id, g.w / g.font_size, g.x_offset, -g.y_offset, 0.0, range, None)
                });
                items.push(Item::Glyphs {
                    at: (left + same[0].x, base),
                    font: same[0].font_id,
                    size: style.size,
                    grey: style.grey,
                    text: text.clone(),
                    glyphs: glyphs.collect(),
                });
            }
            pages.push(items);
        }
        pages
    }

    /// Pictures (JPEG) side by side, each with words under it; none is enlarged beyond 150 pixels an inch.
    ///
    /// # Errors
    /// A picture that is none.
    pub fn pictures(&mut self, row: &[(Vec<u8>, &str)], gap: f32) -> Result<(), MediaError> {
        let share = (self.width() - gap * (row.len().max(1) - 1) as f32) / row.len().max(1) as f32;
        let mut laid = Vec::new();
        for (bytes, words) in row {
            let image = Image::from_jpeg(bytes.clone().into(), true).map_err(fail)?;
            let (w, h) = (image.size().0 as f32, image.size().1 as f32);
            let most = self.page.1 - 2.0 * self.margin - 30.0;
            let scale = (share / w).min(most / h).min(72.0 / 150.0);
            laid.push((image, (w * scale, h * scale), *words));
        }
        let tallest = laid.iter().map(|l| l.1.1).fold(0.0, f32::max);
        let style = Style { size: 9.0, grey: 90, ..Style::default() };
        let under = if laid.iter().any(|l| !l.2.is_empty()) { style.size * LEADING + 2.0 } else { 0.0 };
        self.need(tallest + under);
        let top = self.y;
        for (n, (image, size, words)) in laid.into_iter().enumerate() {
            let left = self.margin + n as f32 * (share + gap);
            self.put(Item::Picture { at: (left, top), size, image });
            self.y = top + tallest + 2.0;
            let words = TextRun { text: words, strong: false };
            for item in self.lines(&[words], style, left, share).into_iter().next().into_iter().flatten() {
                self.lay(item);
            }
        }
        self.y = top + tallest + under;
        Ok(())
    }

    /// Drawings side by side from an indent on, as many in a row as fit.
    pub fn drawings(&mut self, all: &[Drawing], indent: f32) {
        const GAP: f32 = 14.0;
        let style = Style { size: 8.0, grey: 90, ..Style::default() };
        let under = style.size * LEADING + 3.0;
        let mut rest = all;
        while !rest.is_empty() {
            let mut left = self.margin + indent;
            let right = self.page.0 - self.margin;
            let ends = rest.iter().scan(left, |at, one| {
                *at += one.size.0 + GAP;
                Some(*at - GAP)
            });
            let fit = ends.take_while(|end| *end <= right).count().max(1);
            let (row, others) = rest.split_at(fit);
            rest = others;
            let tallest = row.iter().map(|one| one.size.1).fold(0.0, f32::max);
            self.need(tallest + under + 4.0);
            let top = self.y + 2.0;
            for one in row {
                let (w, h) = one.size;
                let frame = [(0.0, 0.0), (w, 0.0), (w, h), (0.0, h), (0.0, 0.0)];
                let on = |points: &[(f32, f32)]| line(points, (left, top));
                let shapes = std::iter::once((on(&frame), 0.5, 170))
                    .chain(one.lines.iter().map(|(points, width)| (on(points), *width, 40)));
                for (path, width, grey) in shapes {
                    if let Some(path) = path {
                        self.put(Item::Line { path, width, grey });
                    }
                }
                self.line_at(&one.words, (left, top + h + 1.0), w + GAP, style, false);
                left += w + GAP;
            }
            self.y = top + tallest + under;
        }
    }

    /// The file; the same content gives the same bytes.
    ///
    /// # Errors
    /// [`MediaError::Encode`].
    pub fn finish(self) -> Result<Vec<u8>, MediaError> {
        let mut document = Document::new();
        document.set_metadata(
            Metadata::new().title(self.title.clone()).creator("Rallo".into()).language("en".into()),
        );
        for (size, items) in self.pages {
            let settings = PageSettings::from_wh(size.0, size.1).ok_or_else(|| fail("no such page size"))?;
            let mut page = document.start_page_with(settings);
            let mut surface = page.surface();
            for item in items {
                match item {
                    Item::Line { path, width, grey } => {
                        surface.set_fill(None);
                        surface.set_stroke(Some(Stroke {
                            paint: rgb::Color::new(grey, grey, grey).into(),
                            width,
                            line_cap: LineCap::Round,
                            line_join: LineJoin::Round,
                            ..Stroke::default()
                        }));
                        surface.draw_path(&path);
                        surface.set_stroke(None);
                    }
                    Item::Glyphs { at, font, size, grey, text, glyphs } => {
                        let Some(font) = self.fonts.get(&font) else { continue };
                        surface.set_fill(Some(Fill {
                            paint: rgb::Color::new(grey, grey, grey).into(),
                            opacity: NormalizedF32::ONE,
                            rule: Default::default(),
                        }));
                        let at = Point::from_xy(at.0, at.1);
                        surface.draw_glyphs(at, &glyphs, font.clone(), &text, size, false);
                    }
                    Item::Picture { at, size, image } => {
                        let size = Size::from_wh(size.0, size.1).ok_or_else(|| fail("an empty picture"))?;
                        surface.push_transform(&Transform::from_translate(at.0, at.1));
                        surface.draw_image(image, size);
                        surface.pop();
                    }
                }
            }
            surface.finish();
            page.finish();
        }
        document.finish().map_err(|e| fail(format!("{e:?}")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn drawing(n: usize) -> Drawing {
        let lines = vec![(vec![(0.0, 0.0), (30.0, 20.0), (80.0, 80.0)], 0.9)];
        Drawing { size: (80.0, 80.0), lines, words: format!("drawing {n}") }
    }

    #[test]
    fn drawings_stand_in_rows_with_their_words_and_go_on_on_the_next_page() {
        let mut paper = Paper::new("Drawn", A4, 18.0);
        paper.drawings(&[], 36.0);
        assert_eq!(paper.pages[0].1.len(), 0, "nothing is drawn of nothing");
        // Some five in a row, some eight rows on a page.
        let all: Vec<Drawing> = (0..60).map(drawing).collect();
        paper.drawings(&all, 36.0);
        assert_eq!(paper.pages.len(), 2);
        let (left, right, bottom) =
            (paper.margin + 36.0, paper.page.0 - paper.margin, paper.page.1 - paper.margin);
        let (mut strokes, mut words) = (0, 0);
        for item in paper.pages.iter().flat_map(|(_, items)| items) {
            match item {
                Item::Line { .. } => strokes += 1,
                Item::Glyphs { at, .. } => {
                    words += 1;
                    assert!(at.0 >= left && at.0 < right && at.1 < bottom, "{at:?}");
                }
                Item::Picture { .. } => panic!("there is no picture"),
            }
        }
        // A frame and a line for each, and one run of letters or more.
        assert_eq!(strokes, 120);
        assert!(words >= 60, "{words}");
        assert!(paper.finish().unwrap().starts_with(b"%PDF"));
    }

    #[test]
    fn a_line_needs_two_points() {
        assert!(line(&[], (0.0, 0.0)).is_none() && line(&[(1.0, 1.0)], (0.0, 0.0)).is_none());
        assert!(line(&[(1.0, 1.0), (2.0, 3.0)], (5.0, 5.0)).is_some());
    }
}
