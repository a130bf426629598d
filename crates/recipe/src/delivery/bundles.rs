//! Bundles: one file of all frames. A clip, a document, a contact sheet; what each frame becomes before it joins them is
//! described as pictures.

use super::{
    Burned, COLOUR, EXISTING, FOLDER, Frame, HEIGHT, NAME, Pictures, SHARPEN, SIZE, START, TO, Target, WIDTH,
    pixels_of,
};
use rallo_engine::sequence::camera_move::{Ease, Mark, Window, window_at};
use rallo_engine::step::PLACES;
use rallo_engine::{Kind, OutputProfile, Param};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

/// Frame rates, as they are written.
pub const RATES: [&str; 11] = ["12", "15", "23.976", "24", "25", "29.97", "30", "48", "50", "59.94", "60"];

/// Codecs by name; the first is the one of the purpose.
pub const CODECS: [&str; 9] =
    ["purpose", "H.264", "H.265", "VP9", "AV1", "intra 4:2:2", "FFV1", "GIF", "WebP"];

/// Marks a move has at most.
const MARKS: usize = 60;

/// The smallest window of a move, against the largest.
const SMALLEST: f64 = 0.02;

/// Parameters of a clip.
pub static VIDEO: [Param; 31] = [
    Param {
        name: "purpose",
        about: "What it is for: share (plays everywhere), small (fewest bytes), web (in a page), edit (every frame for itself), keep (loses nothing), loop (a moving picture without a player).",
        unit: "",
        kind: Kind::Choice(&["share", "small", "web", "edit", "keep", "loop"]),
    },
    Param {
        name: "codec",
        about: "How the frames are encoded; purpose: as its purpose needs it.",
        unit: "",
        kind: Kind::Choice(&CODECS),
    },
    Param {
        name: "bits",
        about: "Bits a sample; codec: as usual for it.",
        unit: "",
        kind: Kind::Choice(&["codec", "8", "10"]),
    },
    SIZE,
    WIDTH,
    HEIGHT,
    Param {
        name: "fit",
        about: "Frames of another proportion or size: fill (what sticks out is cut), fit (colour around them), or move (a window travels over them).",
        unit: "",
        kind: Kind::Choice(&["fill", "fit", "move"]),
    },
    Param {
        name: "move",
        about: "Where the window of a move is: its time (0 the first frame, 1 the last), its middle from the left and from the top, its size against the largest that fits.",
        unit: "",
        kind: Kind::Rows(&["at", "x", "y", "size"], MARKS),
    },
    Param {
        name: "ease",
        about: "How the window goes from one mark to the next: at one speed, or softly at both, at its start or at its end.",
        unit: "",
        kind: Kind::Choice(&["even", "soft", "soft start", "soft end"]),
    },
    COLOUR,
    Param { name: "rate", about: "Frames a second.", unit: "", kind: Kind::Choice(&RATES) },
    Param {
        name: "speed",
        about: "How fast the frames go by: at 2 every second one is left out, at 0.5 each is shown twice.",
        unit: "",
        kind: Kind::Number { min: 0.001, max: 1000.0, step: 0.1 },
    },
    Param {
        name: "length",
        about: "Length of the frames' part exactly; 0 is as the speed makes it.",
        unit: "s",
        kind: Kind::Number { min: 0.0, max: 36_000.0, step: 0.1 },
    },
    Param {
        name: "hold_first",
        about: "How long the first frame stands before the others move.",
        unit: "s",
        kind: Kind::Number { min: 0.0, max: 60.0, step: 0.1 },
    },
    Param {
        name: "hold_last",
        about: "How long the last frame stands at the end.",
        unit: "s",
        kind: Kind::Number { min: 0.0, max: 60.0, step: 0.1 },
    },
    Param {
        name: "fade_in",
        about: "Comes up from black.",
        unit: "s",
        kind: Kind::Number { min: 0.0, max: 60.0, step: 0.1 },
    },
    Param {
        name: "fade_out",
        about: "Goes down to black.",
        unit: "s",
        kind: Kind::Number { min: 0.0, max: 60.0, step: 0.1 },
    },
    Param {
        name: "times",
        about: "How often it is played; moving pictures go on for ever at 1.",
        unit: "",
        kind: Kind::Number { min: 1.0, max: 100.0, step: 1.0 },
    },
    Param {
        name: "quality",
        about: "Quality; empty: as its purpose needs it.",
        unit: "",
        kind: Kind::Whole { min: 1, max: 100 },
    },
    Param {
        name: "megabytes",
        about: "Size of the file to aim at, instead of a quality.",
        unit: "MB",
        kind: Kind::Whole { min: 1, max: 100_000 },
    },
    Param {
        name: "text",
        about: "Written into each frame, such as {n:04}, {taken:%d %B %Y} or a title.",
        unit: "",
        kind: Kind::Template(200),
    },
    Param { name: "text_place", about: "Where it stands.", unit: "", kind: Kind::Choice(&PLACES) },
    Param {
        name: "text_size",
        about: "Height of its letters.",
        unit: "% of the long edge",
        kind: Kind::Number { min: 0.5, max: 30.0, step: 0.5 },
    },
    Param {
        name: "sound",
        about: "Path of a sound file that is laid under it, cut to its length.",
        unit: "",
        kind: Kind::Text(1000),
    },
    SHARPEN,
    NAME,
    TO,
    FOLDER,
    EXISTING,
    Param {
        name: "first",
        about: "The number {n} of its first frame.",
        unit: "",
        kind: Kind::Number { min: 0.0, max: 9_999_999.0, step: 1.0 },
    },
    Param { name: "backwards", about: "From the last frame to the first.", unit: "", kind: Kind::Flag },
];

/// A clip.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Video {
    /// `share`, `small`, `web`, `edit`, `keep` or `loop`.
    pub purpose: String,
    /// One of [`CODECS`].
    pub codec: String,
    /// `codec`, `8` or `10`.
    pub bits: String,
    /// One of [`super::SIZES`].
    pub size: String,
    /// Pixels per row, where the size is custom.
    pub width: Option<u32>,
    /// Rows, where the size is custom.
    pub height: Option<u32>,
    /// `fill`, `fit` or `move`.
    pub fit: String,
    /// Marks `[at, x, y, size]` of a move.
    #[serde(rename = "move")]
    pub marks: Vec<[f64; 4]>,
    /// `even`, `soft`, `soft start` or `soft end`.
    pub ease: String,
    /// Around what is fitted in.
    pub colour: String,
    /// One of [`RATES`].
    pub rate: String,
    /// Source frames for each frame of the clip.
    pub speed: f64,
    /// Seconds of the frames' part; 0 is by the speed.
    pub length: f64,
    /// Seconds.
    pub hold_first: f64,
    /// Seconds.
    pub hold_last: f64,
    /// Seconds.
    pub fade_in: f64,
    /// Seconds.
    pub fade_out: f64,
    /// How often it is played.
    pub times: f64,
    /// 1 ..= 100, by the purpose without.
    pub quality: Option<u32>,
    /// Size of the file to aim at.
    pub megabytes: Option<u32>,
    /// Template.
    pub text: String,
    /// One of the engine's places.
    pub text_place: String,
    /// Hundredths of the long edge.
    pub text_size: f64,
    /// Path, or empty.
    pub sound: String,
    /// 0 ..= 100.
    pub sharpen: f64,
    /// Number of its first frame.
    pub first: f64,
    /// From the last to the first.
    pub backwards: bool,
    /// Where it goes.
    #[serde(flatten)]
    pub target: Target,
}

impl Default for Video {
    fn default() -> Self {
        Self {
            purpose: "share".into(),
            codec: "purpose".into(),
            bits: "codec".into(),
            size: "1080p".into(),
            width: None,
            height: None,
            fit: "fill".into(),
            marks: vec![[0.0, 0.5, 0.5, 0.6], [1.0, 0.5, 0.5, 1.0]],
            ease: "soft".into(),
            colour: "#000000".into(),
            rate: "25".into(),
            speed: 1.0,
            length: 0.0,
            hold_first: 0.0,
            hold_last: 0.0,
            fade_in: 0.0,
            fade_out: 0.0,
            times: 1.0,
            quality: None,
            megabytes: None,
            text: String::new(),
            text_place: "bottom right".into(),
            text_size: 3.0,
            sound: String::new(),
            sharpen: 0.0,
            first: 1.0,
            backwards: false,
            target: one_file(),
        }
    }
}

/// Where a bundle goes if nothing is said.
fn one_file() -> Target {
    Target { name: "{recipe}".into(), ..Target::default() }
}

impl Video {
    /// The codec it is made with.
    pub fn codec(&self) -> &str {
        match (self.codec.as_str(), self.purpose.as_str()) {
            ("purpose", "small") => "H.265",
            ("purpose", "web") => "VP9",
            ("purpose", "edit") => "intra 4:2:2",
            ("purpose", "keep") => "FFV1",
            ("purpose", "loop") => "WebP",
            ("purpose", _) => "H.264",
            (codec, _) => codec,
        }
    }

    /// Frames a second, as a fraction.
    pub fn rate(&self) -> (u32, u32) {
        match self.rate.as_str() {
            "23.976" => (24_000, 1001),
            "29.97" => (30_000, 1001),
            "59.94" => (60_000, 1001),
            rate => (rate.parse().unwrap_or(25), 1),
        }
    }

    /// Bits a sample that are encoded.
    pub fn depth(&self) -> u8 {
        match (self.codec(), self.bits.as_str()) {
            ("GIF" | "WebP", _) => 8,
            ("intra 4:2:2", _) => 10,
            ("FFV1", "codec") => 16,
            (_, "10") => 10,
            _ => 8,
        }
    }

    /// Which of `count` frames each frame of the clip shows, holds included; it is played once.
    pub fn order(&self, count: usize) -> Vec<usize> {
        self.course(count).into_iter().map(|(k, _)| k).collect()
    }

    /// The same with the share of the clip's way, which stands while a frame is held.
    fn course(&self, count: usize) -> Vec<(usize, f64)> {
        let (n, d) = self.rate();
        let rate = f64::from(n) / f64::from(d);
        let Some(last) = count.checked_sub(1) else { return Vec::new() };
        let moving = if self.length > 0.0 { self.length * rate } else { count as f64 / self.speed };
        // A clip of at most a day.
        let moving = moving.round().clamp(1.0, 86_400.0 * 60.0) as usize;
        let held = |seconds: f64| (seconds * rate).round() as usize;
        let at = |k: usize| {
            let frame = (((k as f64 + 0.5) * count as f64 / moving as f64) as usize).min(last);
            (frame, k as f64 / (moving - 1).max(1) as f64)
        };
        let mut all = vec![at(0); held(self.hold_first)];
        all.extend((0..moving).map(at));
        all.extend(vec![at(moving - 1); held(self.hold_last)]);
        if self.backwards {
            all.iter_mut().for_each(|(k, _)| *k = last - *k);
        }
        all
    }

    /// Frames of the clip of `count` frames that differ from the one before.
    pub fn fresh(&self, count: usize) -> usize {
        let seen = |(k, at): (usize, f64)| (k, if self.is_moving() { at } else { 0.0 });
        let mut all: Vec<_> = self.course(count).into_iter().map(seen).collect();
        all.dedup();
        all.len()
    }

    /// Whether a window travels over its frames.
    pub fn is_moving(&self) -> bool {
        self.fit == "move"
    }

    /// The marks of its move.
    fn path(&self) -> Vec<Mark> {
        let mark = |[at, x, y, size]: [f64; 4]| Mark { at, window: Window { middle: (x, y), size } };
        self.marks.iter().copied().map(mark).collect()
    }

    /// Size of the smallest window of its move against the largest; 1 where nothing moves.
    pub fn nearest(&self) -> f64 {
        let all = self.marks.iter().map(|m| m[3]).filter(|_| self.is_moving());
        all.fold(1.0, f64::min).max(SMALLEST)
    }

    /// The window of its move at a share of its way; nothing where nothing moves.
    pub fn window_at(&self, at: f64) -> Option<Window> {
        let ease = match self.ease.as_str() {
            "soft" => Ease::Both,
            "soft start" => Ease::Start,
            "soft end" => Ease::End,
            _ => Ease::Even,
        };
        window_at(&self.path(), ease, at).filter(|_| self.is_moving())
    }

    /// The windows through which a move shows one of `count` frames, in order, each with how often in a row; none where
    /// nothing moves, or the frame is left out.
    pub fn windows(&self, frame: usize, count: usize) -> Vec<(Window, usize)> {
        let mut all: Vec<(Window, usize)> = Vec::new();
        if !self.is_moving() {
            return all;
        }
        for (_, at) in self.course(count).into_iter().filter(|(k, _)| *k == frame) {
            let Some(window) = self.window_at(at) else { continue };
            match all.last_mut() {
                Some((last, times)) if *last == window => *times += 1,
                _ => all.push((window, 1)),
            }
        }
        all
    }

    /// What is wrong with its move.
    pub(super) fn move_fault(&self) -> Option<String> {
        if self.is_moving() && self.marks.is_empty() {
            return Some("expected at least one mark [at, x, y, size], got none".into());
        }
        let mut before = f64::NEG_INFINITY;
        for [at, x, y, size] in &self.marks {
            if [at, x, y].iter().any(|v| !(0.0..=1.0).contains(*v)) || !(SMALLEST..=1.0).contains(size) {
                return Some(format!(
                    "expected at, x and y from 0 to 1 and a size from {SMALLEST} to 1, got [{at}, {x}, {y}, {size}]"
                ));
            }
            if *at <= before {
                return Some(format!("expected times that rise from mark to mark, got {at} after {before}"));
            }
            before = *at;
        }
        None
    }

    /// Its seconds for so many frames, all turns together.
    pub fn seconds(&self, count: usize) -> f64 {
        let (n, d) = self.rate();
        self.order(count).len() as f64 * f64::from(d) / f64::from(n) * self.turns()
    }

    /// How often it is played within the file.
    pub fn turns(&self) -> f64 {
        if matches!(self.codec(), "GIF" | "WebP") { 1.0 } else { self.times.round() }
    }
}

/// Parameters of a document.
pub static PDF: [Param; 17] = [
    Param {
        name: "page",
        about: "Size of a page; screen is 16:9, picture as large as each picture.",
        unit: "",
        kind: Kind::Choice(&["A4", "A5", "A3", "Letter", "screen", "picture"]),
    },
    Param { name: "across", about: "Pages lie on their long side.", unit: "", kind: Kind::Flag },
    Param {
        name: "margin",
        about: "Room around a page.",
        unit: "mm",
        kind: Kind::Number { min: 0.0, max: 80.0, step: 1.0 },
    },
    Param {
        name: "columns",
        about: "Pictures beside each other.",
        unit: "",
        kind: Kind::Whole { min: 1, max: 12 },
    },
    Param {
        name: "rows",
        about: "Pictures below each other.",
        unit: "",
        kind: Kind::Whole { min: 1, max: 16 },
    },
    Param {
        name: "gap",
        about: "Room between pictures.",
        unit: "mm",
        kind: Kind::Number { min: 0.0, max: 40.0, step: 1.0 },
    },
    Param {
        name: "caption",
        about: "What stands under each picture, from fields in braces; nothing where it is empty.",
        unit: "",
        kind: Kind::Template(200),
    },
    Param {
        name: "title",
        about: "The line on the first page, and the document's title.",
        unit: "",
        kind: Kind::Template(200),
    },
    Param {
        name: "contents",
        about: "A list of the folders with their pages, and a heading where each begins.",
        unit: "",
        kind: Kind::Flag,
    },
    Param { name: "numbers", about: "Page numbers.", unit: "", kind: Kind::Flag },
    Param {
        name: "resolution",
        about: "Pixels an inch that pictures have at most.",
        unit: "ppi",
        kind: Kind::Whole { min: 36, max: 1200 },
    },
    Param {
        name: "quality",
        about: "Quality of the pictures in it.",
        unit: "",
        kind: Kind::Number { min: 1.0, max: 100.0, step: 1.0 },
    },
    START,
    NAME,
    TO,
    FOLDER,
    EXISTING,
];

/// A document of all pictures.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Pdf {
    /// `A4`, `A5`, `A3`, `Letter`, `screen` or `picture`.
    pub page: String,
    /// On the long side.
    pub across: bool,
    /// Millimetres.
    pub margin: f64,
    /// Beside each other.
    pub columns: Option<u32>,
    /// Below each other.
    pub rows: Option<u32>,
    /// Millimetres.
    pub gap: f64,
    /// Template.
    pub caption: String,
    /// Template.
    pub title: String,
    /// By folder.
    pub contents: bool,
    /// Page numbers.
    pub numbers: bool,
    /// Pixels an inch.
    pub resolution: Option<u32>,
    /// 1 ..= 100.
    pub quality: f64,
    /// Number of the first picture.
    pub start: f64,
    /// Where it goes.
    #[serde(flatten)]
    pub target: Target,
}

impl Default for Pdf {
    fn default() -> Self {
        Self {
            page: "A4".into(),
            across: false,
            margin: 15.0,
            columns: Some(1),
            rows: Some(2),
            gap: 6.0,
            caption: "{stem}".into(),
            title: "{recipe}".into(),
            contents: false,
            numbers: true,
            resolution: Some(200),
            quality: 82.0,
            start: 1.0,
            target: one_file(),
        }
    }
}

impl Pdf {
    /// A page's width and height in millimetres; nothing where it is as large as its picture.
    pub fn page(&self) -> Option<(f64, f64)> {
        let (w, h) = match self.page.as_str() {
            "A5" => (148.0, 210.0),
            "A3" => (297.0, 420.0),
            "Letter" => (215.9, 279.4),
            "screen" => (320.0, 180.0),
            "picture" => return None,
            _ => (210.0, 297.0),
        };
        Some(if self.across && w < h { (h, w) } else { (w, h) })
    }

    /// Pictures beside each other and below each other.
    pub fn grid(&self) -> (u32, u32) {
        (self.columns.unwrap_or(1), self.rows.unwrap_or(1))
    }

    /// The largest place of a picture in millimetres.
    pub fn cell(&self) -> Option<(f64, f64)> {
        let (w, h) = self.page()?;
        let (columns, rows) = self.grid();
        let share = |side: f64, n: u32| {
            ((side - 2.0 * self.margin - self.gap * f64::from(n - 1)) / f64::from(n)).max(5.0)
        };
        Some((share(w, columns), share(h, rows)))
    }
}

/// Parameters of a contact sheet.
pub static CONTACT: [Param; 13] = [
    Param {
        name: "format",
        about: "A picture, or a PDF of as many pages as it takes.",
        unit: "",
        kind: Kind::Choice(&["jpeg", "png", "pdf"]),
    },
    Param {
        name: "columns",
        about: "Pictures beside each other.",
        unit: "",
        kind: Kind::Whole { min: 1, max: 60 },
    },
    Param {
        name: "cell",
        about: "Longest side of each.",
        unit: "px",
        kind: Kind::Whole { min: 40, max: 2000 },
    },
    Param { name: "gap", about: "Room between them.", unit: "px", kind: Kind::Whole { min: 0, max: 400 } },
    Param {
        name: "caption",
        about: "What stands under each, from fields in braces; nothing where it is empty.",
        unit: "",
        kind: Kind::Template(200),
    },
    Param { name: "title", about: "The line above them.", unit: "", kind: Kind::Template(200) },
    Param { name: "colour", about: "What they lie on.", unit: "", kind: Kind::Colour },
    Param {
        name: "quality",
        about: "Quality of a JPEG, or of the pictures in a PDF.",
        unit: "",
        kind: Kind::Number { min: 1.0, max: 100.0, step: 1.0 },
    },
    START,
    NAME,
    TO,
    FOLDER,
    EXISTING,
];

/// All pictures small beside each other.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Contact {
    /// `jpeg`, `png` or `pdf`.
    pub format: String,
    /// Beside each other.
    pub columns: Option<u32>,
    /// Longest side of each in pixels.
    pub cell: Option<u32>,
    /// Pixels between them.
    pub gap: Option<u32>,
    /// Template.
    pub caption: String,
    /// Template.
    pub title: String,
    /// What they lie on.
    pub colour: String,
    /// 1 ..= 100.
    pub quality: f64,
    /// Number of the first picture.
    pub start: f64,
    /// Where it goes.
    #[serde(flatten)]
    pub target: Target,
}

impl Default for Contact {
    fn default() -> Self {
        Self {
            format: "jpeg".into(),
            columns: Some(6),
            cell: Some(320),
            gap: Some(24),
            caption: "{stem}".into(),
            title: "{recipe}".into(),
            colour: "#ffffff".into(),
            quality: 85.0,
            start: 1.0,
            target: Target { name: "{recipe} contact sheet".into(), ..one_file() },
        }
    }
}

/// One file of all frames.
#[derive(Clone, Debug, PartialEq)]
#[expect(clippy::large_enum_variant, reason = "a recipe has a handful of them")]
pub enum Bundle {
    /// A clip.
    Video(Video),
    /// A document.
    Pdf(Pdf),
    /// A contact sheet.
    Contact(Contact),
}

impl Bundle {
    /// For people, in a sentence.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Video(_) => "clip",
            Self::Pdf(_) => "document",
            Self::Contact(_) => "contact sheet",
        }
    }

    /// Whether it takes the last frame first.
    pub fn is_backwards(&self) -> bool {
        matches!(self, Self::Video(v) if v.backwards)
    }

    /// Where it goes.
    pub fn target(&self) -> &Target {
        match self {
            Self::Video(v) => &v.target,
            Self::Pdf(p) => &p.target,
            Self::Contact(c) => &c.target,
        }
    }

    /// The ending of its file.
    pub fn ending(&self) -> &'static str {
        match self {
            Self::Video(v) => match v.codec() {
                "VP9" => "webm",
                "intra 4:2:2" => "mov",
                "FFV1" => "mkv",
                "GIF" => "gif",
                "WebP" => "webp",
                _ => "mp4",
            },
            Self::Pdf(_) => "pdf",
            Self::Contact(c) => match c.format.as_str() {
                "png" => "png",
                "pdf" => "pdf",
                _ => "jpg",
            },
        }
    }

    /// Which of `count` frames it needs.
    pub fn needs(&self, count: usize) -> Vec<bool> {
        let Self::Video(video) = self else { return vec![true; count] };
        let mut all = vec![false; count];
        for k in video.order(count) {
            all[k] = true;
        }
        all
    }

    /// What each frame becomes before it joins.
    pub fn stage(&self) -> Pictures {
        let Target { name, to, folder, existing } = self.target().clone();
        let stage = Pictures {
            profile: Some(OutputProfile::Srgb),
            chroma: "4:4:4".into(),
            name,
            to,
            folder,
            existing,
            ..Pictures::default()
        };
        match self {
            Self::Video(v) => Pictures {
                // A window that nears must not change from one way of reducing to another in passing.
                quick: !matches!(v.codec(), "intra 4:2:2" | "FFV1") && !v.is_moving(),
                format: "png".into(),
                bits: 16,
                sharpen: v.sharpen,
                // Colour samples are for two pixels each way.
                frame: pixels_of(&v.size, v.width, v.height).map(|(width, height)| Frame {
                    width: width & !1,
                    height: height & !1,
                    fit: v.fit.clone(),
                    colour: v.colour.clone(),
                    window: None,
                    nearest: v.nearest(),
                }),
                burned: (!v.text.trim().is_empty()).then(|| Burned {
                    text: v.text.clone(),
                    place: v.text_place.clone(),
                    size: v.text_size,
                }),
                start: v.first.round() as u32,
                ..stage
            },
            Self::Pdf(p) => {
                let ppi = f64::from(p.resolution.unwrap_or(200));
                let edge =
                    p.cell().map(|(w, h)| (w.max(h) / 25.4 * ppi).round().clamp(16.0, 16_000.0) as u32);
                Pictures {
                    quality: p.quality.round() as u8,
                    long_edge: edge,
                    start: p.start.round() as u32,
                    ..stage
                }
            }
            Self::Contact(c) => {
                let format = if c.format == "pdf" { "jpeg" } else { "png" };
                Pictures {
                    format: format.into(),
                    quality: c.quality.round() as u8,
                    long_edge: Some(c.cell.unwrap_or(320)),
                    start: c.start.round() as u32,
                    sharpen: 20.0,
                    ..stage
                }
            }
        }
    }

    /// What shapes the file beside its frames.
    pub fn identity(&self) -> Value {
        let mut values = match self {
            Self::Video(v) => json!(v),
            Self::Pdf(p) => json!(p),
            Self::Contact(c) => json!(c),
        };
        if let Some(map) = values.as_object_mut() {
            for key in ["name", "to", "folder", "existing"] {
                map.remove(key);
            }
            // Clips of earlier versions stay known.
            if matches!(self, Self::Video(v) if !v.is_moving()) {
                map.remove("move");
                map.remove("ease");
            }
        }
        values
    }
}
