//! A clip of all frames.

use super::{COLOUR, EXISTING, FOLDER, HEIGHT, NAME, SHARPEN, SIZE, TO, Target, WIDTH};
use rallo_engine::sequence::camera_move::{Ease, Mark, Window, window_at};
use rallo_engine::sequence::speed_curve::SpeedCurve;
use rallo_engine::step::PLACES;
use rallo_engine::{Kind, Param};
use serde::{Deserialize, Serialize};

/// Frame rates, as they are written.
pub const RATES: [&str; 11] = ["12", "15", "23.976", "24", "25", "29.97", "30", "48", "50", "59.94", "60"];

/// Codecs by name; the first is the one of the purpose.
pub const CODECS: [&str; 9] =
    ["purpose", "H.264", "H.265", "VP9", "AV1", "intra 4:2:2", "FFV1", "GIF", "WebP"];

/// Marks a move has at most.
pub(super) const MARKS: usize = 60;

/// The smallest window of a move, against the largest.
pub(super) const SMALLEST: f64 = 0.02;

/// Parameters of a clip.
pub static VIDEO: [Param; 33] = [
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
        about: "How the window goes from one mark to the next: at one speed, or softly at both, at its start or at its end; flowing: through all marks without a rest at any.",
        unit: "",
        kind: Kind::Choice(&["even", "soft", "soft start", "soft end", "flowing"]),
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
        name: "speeds",
        about: "Where the speed changes over the clip: a place (0 the first frame, 1 the last) and the speed there, which multiplies the other; smooth between them.",
        unit: "",
        kind: Kind::Course(MARKS),
    },
    Param {
        name: "between",
        about: "What is shown between two frames where the clip is slower than they are, or faster by no whole number: repeat (the nearer one), blend (both, mixed in light), motion (what moves is on its way; where it cannot be followed, both are mixed).",
        unit: "",
        kind: Kind::Choice(&["repeat", "blend", "motion"]),
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
    /// `even`, `soft`, `soft start`, `soft end` or `flowing`.
    pub ease: String,
    /// Around what is fitted in.
    pub colour: String,
    /// One of [`RATES`].
    pub rate: String,
    /// Source frames for each frame of the clip.
    pub speed: f64,
    /// Marks `[at, speed]` of a speed that changes, which multiplies the other.
    pub speeds: Vec<[f64; 2]>,
    /// `repeat`, `blend` or `motion`.
    pub between: String,
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
            speeds: Vec::new(),
            between: "repeat".into(),
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

/// A frame of a clip on the way from one picture to the next.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Passing {
    /// Share of the way; 1 is the next picture itself.
    pub share: f64,
    /// Share of the clip's own way, by which a window moves.
    pub at: f64,
}

/// Where an assembly goes if nothing is said.
pub(super) fn one_file() -> Target {
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

    /// How frames go by where their speed changes.
    fn speed_curve(&self) -> Option<SpeedCurve> {
        (!self.speeds.is_empty()).then(|| SpeedCurve::new(&self.speeds))
    }

    /// Frames of the clip of `count` frames while the first one is held, while they go by, and while the last one is held.
    fn parts(&self, count: usize, speeds: Option<&SpeedCurve>) -> (usize, usize, usize) {
        let (n, d) = self.rate();
        let rate = f64::from(n) / f64::from(d);
        let whole = speeds.map_or(1.0, SpeedCurve::whole);
        let moving = if self.length > 0.0 { self.length * rate } else { count as f64 / self.speed * whole };
        // A clip of at most a day.
        let moving = moving.round().clamp(1.0, 86_400.0 * 60.0) as usize;
        let held = |seconds: f64| (seconds * rate).round() as usize;
        (held(self.hold_first), moving, held(self.hold_last))
    }

    /// The same with the share of the clip's way, which stands while a frame is held.
    fn course(&self, count: usize) -> Vec<(usize, f64)> {
        let Some(last) = count.checked_sub(1) else { return Vec::new() };
        let speeds = self.speed_curve();
        let (before, moving, behind) = self.parts(count, speeds.as_ref());
        let at = |k: usize| {
            let time = (k as f64 + 0.5) / moving as f64;
            let way = speeds.as_ref().map_or(time, |s| s.way(time));
            let frame = ((way * count as f64) as usize).min(last);
            (frame, k as f64 / (moving - 1).max(1) as f64)
        };
        let mut windows = vec![at(0); before];
        windows.extend((0..moving).map(at));
        windows.extend(vec![at(moving - 1); behind]);
        if self.backwards {
            windows.iter_mut().for_each(|(k, _)| *k = last - *k);
        }
        windows
    }

    /// Whether what lies between two frames is made of both.
    pub fn makes_between(&self) -> bool {
        self.between != "repeat"
    }

    /// For each of `count` frames, in the order they come, what the clip shows from the one before until it is there, holds
    /// included. The last frame stands as long as any other.
    pub fn arrivals(&self, count: usize) -> Vec<Vec<Passing>> {
        let mut arrivals = vec![Vec::new(); count];
        let Some(last) = count.checked_sub(1) else { return arrivals };
        let speeds = self.speed_curve();
        let (held, moving, behind) = self.parts(count, speeds.as_ref());
        let way = |time: f64| speeds.as_ref().map_or(time, |s| s.way(time));
        let at = |k: usize| k as f64 / (moving - 1).max(1) as f64;
        let frame = |k: usize| (way(k as f64 / moving as f64) * count as f64).min(last as f64);
        let going = (0..moving).map(|k| (frame(k), at(k)));
        let all = std::iter::repeat_n((0.0, 0.0), held).chain(going);
        for (frame, at) in all.chain(std::iter::repeat_n((last as f64, at(moving - 1)), behind)) {
            // What rounding leaves between is none.
            let (before, share) = ((frame + 1e-6).floor(), frame - (frame + 1e-6).floor());
            let (arrival, share) = if share < 1e-6 { (before, 1.0) } else { (before + 1.0, share) };
            if let Some(passing) = arrivals.get_mut(arrival as usize) {
                passing.push(Passing { share, at });
            }
        }
        arrivals
    }

    /// Frames of the clip of `count` frames that differ from the one before.
    pub fn fresh(&self, count: usize) -> usize {
        if self.makes_between() {
            return self.order(count).len();
        }
        let seen = |(k, at): (usize, f64)| (k, if self.is_moving() { at } else { 0.0 });
        let mut windows: Vec<_> = self.course(count).into_iter().map(seen).collect();
        windows.dedup();
        windows.len()
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
        let zooms = self.marks.iter().map(|m| m[3]).filter(|_| self.is_moving());
        zooms.fold(1.0, f64::min).max(SMALLEST)
    }

    /// The window of its move at a share of its way; nothing where nothing moves.
    pub fn window_at(&self, at: f64) -> Option<Window> {
        let ease = match self.ease.as_str() {
            "soft" => Ease::Both,
            "soft start" => Ease::Start,
            "soft end" => Ease::End,
            "flowing" => Ease::Flowing,
            _ => Ease::Even,
        };
        window_at(&self.path(), ease, at).filter(|_| self.is_moving())
    }

    /// The windows through which a move shows one of `count` frames, in order, each with how often in a row; none where
    /// nothing moves, or the frame is left out.
    pub fn windows(&self, frame: usize, count: usize) -> Vec<(Window, usize)> {
        let mut grouped: Vec<(Window, usize)> = Vec::new();
        if !self.is_moving() {
            return grouped;
        }
        for (_, at) in self.course(count).into_iter().filter(|(k, _)| *k == frame) {
            let Some(window) = self.window_at(at) else { continue };
            match grouped.last_mut() {
                Some((last, times)) if *last == window => *times += 1,
                _ => grouped.push((window, 1)),
            }
        }
        grouped
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
