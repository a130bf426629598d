//! Documents of many pictures: a grid of them on each page, with captions, a title, contents by folder, page numbers.

use crate::MediaError;
use crate::pdf::page::{LEADING, MM, PageSize, Paper, Style};

/// How the pages are.
#[derive(Clone, Debug, PartialEq)]
pub struct Layout {
    /// Width and height in millimetres; nothing where each page is as large as its picture.
    pub page: Option<(f64, f64)>,
    /// Room around, in millimetres.
    pub margin: f64,
    /// Pictures beside each other and below each other.
    pub grid: (u32, u32),
    /// Room between them, in millimetres.
    pub gap: f64,
    /// A list of the folders, and a heading where each begins.
    pub contents: bool,
    /// Page numbers.
    pub numbers: bool,
    /// Pixels an inch of pages that are as large as their pictures.
    pub ppi: f64,
}

/// One picture of a document.
struct Leaf {
    jpeg: Vec<u8>,
    size: (u32, u32),
    caption: String,
    folder: String,
}

/// A document that is being filled; pictures are held as they will stand in it.
pub struct Album {
    title: String,
    layout: Layout,
    leaves: Vec<Leaf>,
}

const CAPTION: Style<'static> = Style { size: 9.0, indent: 0.0, grey: 60, mark: "" };
const NUMBER: Style<'static> = Style { size: 8.5, indent: 0.0, grey: 110, mark: "" };
const TITLE: Style<'static> = Style { size: 20.0, indent: 0.0, grey: 20, mark: "" };
const HEADING: Style<'static> = Style { size: 13.0, indent: 0.0, grey: 20, mark: "" };

/// The height of a line with a little room under it.
fn height(style: Style) -> f32 {
    style.size * LEADING + style.size * 0.4
}

impl Album {
    /// An empty document; `title` stands on its first page, where it is not empty.
    pub fn new(title: &str, layout: Layout) -> Self {
        Self { title: title.into(), layout, leaves: Vec::new() }
    }

    /// Adds a picture (JPEG) of so many pixels.
    pub fn add(&mut self, jpeg: Vec<u8>, size: (u32, u32), caption: &str, folder: &str) {
        self.leaves.push(Leaf { jpeg, size, caption: caption.into(), folder: folder.into() });
    }

    /// Which pictures stand on each page; with contents a folder begins on a page of its own.
    fn pages(&self) -> Vec<std::ops::Range<usize>> {
        let most =
            if self.layout.page.is_some() { self.layout.grid.0 * self.layout.grid.1 } else { 1 } as usize;
        let mut rows = Vec::new();
        let mut start = 0;
        for i in 1..=self.leaves.len() {
            let turns = self.layout.contents
                && self.leaves.get(i).is_some_and(|l| l.folder != self.leaves[i - 1].folder);
            if i == self.leaves.len() || i - start == most.max(1) || turns {
                rows.push(start..i);
                start = i;
            }
        }
        rows
    }

    /// The file; the same content gives the same bytes.
    ///
    /// # Errors
    /// [`MediaError::Encode`].
    pub fn finish(mut self) -> Result<Vec<u8>, MediaError> {
        let (w, h) = self.layout.page.unwrap_or((210.0, 297.0));
        let margin = self.layout.margin as f32;
        let mut paper = Paper::new(&self.title, PageSize(w as f32, h as f32), margin);
        let (margin, page) = (margin * MM, (w as f32 * MM, h as f32 * MM));
        let inside = page.0 - 2.0 * margin;
        let pages = self.pages();
        let begins = |p: &std::ops::Range<usize>, leaves: &[Leaf]| {
            p.start == 0 || leaves[p.start].folder != leaves[p.start - 1].folder
        };
        let heads: Vec<(usize, String)> = pages
            .iter()
            .enumerate()
            .filter(|(_, p)| self.layout.contents && begins(p, &self.leaves))
            .map(|(n, p)| (n, self.leaves[p.start].folder.clone()))
            .collect();
        let line = height(Style::default());
        let head = if self.title.is_empty() { 0.0 } else { height(TITLE) + 6.0 };
        let a_page = ((page.1 - 2.0 * margin - head) / line).max(1.0) as usize;
        let before = heads.len().div_ceil(a_page);
        let mut titled = self.title.is_empty();
        let mut title = |paper: &mut Paper, width: f32| {
            if std::mem::replace(&mut titled, true) {
                return 0.0;
            }
            let text = self.title.clone();
            paper.line_at(&text, (margin, margin), width, TITLE, true);
            head
        };
        for part in heads.chunks(a_page) {
            paper.leaf(page);
            let mut y = margin + title(&mut paper, inside);
            for (n, folder) in part {
                let number = format!("{}", n + 1 + before);
                paper.line_at(folder, (margin, y), inside - 40.0, Style::default(), false);
                paper.line_at(&number, (margin + inside - 30.0, y), 30.0, Style::default(), false);
                y += line;
            }
        }
        let count = pages.len() + before;
        for (n, range) in pages.into_iter().enumerate() {
            let first = &self.leaves[range.start];
            let page = match self.layout.page {
                Some(_) => page,
                None => {
                    let points = |px: u32| px as f32 * 72.0 / self.layout.ppi as f32;
                    let under = if first.caption.is_empty() { 0.0 } else { height(CAPTION) };
                    (points(first.size.0) + 2.0 * margin, points(first.size.1) + 2.0 * margin + under)
                }
            };
            paper.leaf(page);
            let inside = page.0 - 2.0 * margin;
            let mut top = margin;
            // A page as large as its picture has no room for more than that.
            if self.layout.page.is_some() {
                top += title(&mut paper, inside);
                if let Some((_, folder)) = heads.iter().find(|(at, _)| *at == n) {
                    paper.line_at(folder, (margin, top), inside, HEADING, true);
                    top += height(HEADING);
                }
            }
            let foot = if self.layout.numbers && self.layout.page.is_some() { height(NUMBER) } else { 0.0 };
            let (columns, rows) = if self.layout.page.is_some() { self.layout.grid } else { (1, 1) };
            let gap = self.layout.gap as f32 * MM;
            let under = if self.leaves[range.clone()].iter().all(|l| l.caption.is_empty()) {
                0.0
            } else {
                height(CAPTION)
            };
            let share = |total: f32, n: u32| (total - gap * (n - 1) as f32) / n as f32;
            let wide = share(inside, columns);
            let high = share(page.1 - margin - foot - top, rows);
            if wide < 4.0 || high - under < 4.0 {
                return Err(MediaError::Encode {
                    format: "PDF",
                    message:
                        "there is no room for pictures on such a page; smaller margins or fewer pictures"
                            .into(),
                });
            }
            for (k, leaf) in self.leaves[range].iter_mut().enumerate() {
                let (column, row) = (k as u32 % columns, k as u32 / columns);
                let at = (margin + column as f32 * (wide + gap), top + row as f32 * (high + gap));
                let jpeg = std::mem::take(&mut leaf.jpeg);
                let middle = columns * rows == 1;
                let bottom = paper.picture_in(jpeg, at, (wide, high - under), middle)?;
                paper.line_at(&leaf.caption, (at.0, at.1 + bottom + 2.0), wide, CAPTION, false);
            }
            if foot > 0.0 {
                let text = format!("{} / {count}", n + 1 + before);
                paper.line_at(&text, (margin, page.1 - margin - foot + 3.0), inside, NUMBER, false);
            }
        }
        paper.finish()
    }
}
