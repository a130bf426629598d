//! Bundles: one file of all pictures of a run, a clip, a document, a contact sheet.
//!
//! Pictures of a run are worked on several at a time and in any order; a [`Stream`] puts their pieces in order and hands
//! them on while the run goes, so that each is decoded and worked through once and no frame waits on the disk. Where that
//! cannot be (a run that was interrupted, pictures that another program made, a clip that runs backwards) the bundle is
//! made in a pass of its own at the end. Both ways give the same file.

use crate::files::atomic_file::{part_in, sweep};
use crate::frame_context::subject;
use crate::preflight::output_paths::Source;
use crate::render::work::{Fault, Lines, Work};
use rallo_engine::sequence::camera_move::Window;
use rallo_engine::step::parse_colour;
use rallo_engine::{Encoded, Pixels, Size};
use rallo_media::pdf::album::{Album, Layout};
use rallo_media::video::{Clip, ClipFacts, Codec, Recorder};
use rallo_media::{Chroma, Encoding, Extras, FileSource, MediaError};
use rallo_recipe::delivery::{Contact, Pdf, Video};
use rallo_recipe::{Bundle, Pictures, Recipe, Subject, Task, names};
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard};
use std::time::{Duration, Instant};
use tempfile::TempPath;

use crate::render::work::Variant;

/// What one picture becomes before it joins the others.
pub struct Piece {
    what: Is,
    caption: String,
    folder: String,
}

impl Piece {
    fn bytes(&self) -> usize {
        match &self.what {
            Is::Frame(bytes) => bytes.len(),
            Is::Shown(frames) => frames.iter().map(|(bytes, _)| bytes.len()).sum(),
            Is::Travel(travel) => travel.lines.bytes(),
            Is::Jpeg(bytes, _) => bytes.len(),
            Is::Picture(picture) => picture.size.area() as usize * 3,
        }
    }
}

enum Is {
    /// A frame as the pipe takes it, shown as often as the clip's course has it.
    Frame(Arc<Vec<u8>>),
    /// Some of a picture's frames, each with how often in a row.
    Shown(Shown),
    /// A picture that a move shows in several frames.
    Travel(Box<Travel>),
    /// A JPEG, and its pixels.
    Jpeg(Vec<u8>, (u32, u32)),
    /// Pixels.
    Picture(Encoded),
}

/// Frames of a clip, each with how often in a row it is shown.
type Shown = Vec<(Arc<Vec<u8>>, usize)>;

/// A picture through which a window travels: its frames are made when they are asked for, since a picture that stands for
/// long has hundreds of them.
struct Travel {
    lines: Arc<Lines>,
    recipe: Recipe,
    subject: Subject,
    stage: Pictures,
    clip: Clip,
    windows: std::vec::IntoIter<(Window, usize)>,
}

impl Travel {
    /// Its next frames, a few at a time, made side by side.
    fn next(&mut self) -> Result<Shown, Fault> {
        let some: Vec<_> = self.windows.by_ref().take(rayon::current_num_threads().max(2)).collect();
        let one = |(window, times): (Window, usize)| {
            let stage = through(&self.stage, window);
            let (picture, _) = self.lines.picture(&self.recipe, &self.subject, &stage, None)?;
            let frame = self.clip.raw(&picture).map_err(|e| e.to_string())?;
            Ok((Arc::new(frame), times))
        };
        let made: Result<_, String> = some.into_par_iter().map(one).collect();
        made.map_err(|e| Fault::new("together", e))
    }
}

/// What a frame becomes, seen through a window.
fn through(stage: &Pictures, window: Window) -> Pictures {
    let mut stage = stage.clone();
    if let Some(frame) = &mut stage.frame {
        frame.window = Some(window);
    }
    stage
}

impl Piece {
    /// The same in parts that are each ready to be taken, for one that is made when it is asked for.
    pub fn parts(self) -> impl Iterator<Item = Result<Self, Fault>> {
        let Self { what, caption, folder } = self;
        let mut rest = Some(what);
        std::iter::from_fn(move || {
            let is = match rest.take()? {
                Is::Travel(mut travel) => match travel.next() {
                    Ok(frames) if frames.is_empty() => return None,
                    Ok(frames) => {
                        rest = Some(Is::Travel(travel));
                        Is::Shown(frames)
                    }
                    Err(e) => return Some(Err(e)),
                },
                ready => ready,
            };
            Some(Ok(Self { what: is, caption: caption.clone(), folder: folder.clone() }))
        })
    }
}

/// A failure of something made of all pictures.
pub(crate) fn fault(e: &MediaError) -> Fault {
    let text = match e {
        MediaError::Encode { message, .. } => message.clone(),
        other => other.to_string(),
    };
    Fault::new(if text.contains("no room left") { "no room" } else { "together" }, text)
}

/// What a clip of so many frames is, as it is encoded.
pub fn clip(video: &Video, recipe: &str, count: usize) -> Clip {
    let stage = Bundle::Video(video.clone()).stage();
    let order = video.order(count);
    let size = stage.frame.map_or(Size::new(1920, 1080), |f| Size::new(f.width, f.height));
    Clip {
        size,
        rate: video.rate(),
        codec: Codec::named(video.codec()),
        depth: video.depth(),
        quality: video.quality,
        bytes: video.megabytes.map(|m| u64::from(m) * 1_000_000),
        frames: order.len(),
        fresh: video.fresh(count),
        turns: video.turns() as u32,
        fade_in: video.fade_in,
        fade_out: video.fade_out,
        sound: (!video.sound.trim().is_empty()).then(|| PathBuf::from(video.sound.trim())),
        title: recipe.to_owned(),
    }
}

/// Pictures after each other that tell how long an encoder takes, and the seconds after which no further one is made.
const TRIED: usize = 8;
const TRIED_FOR: Duration = Duration::from_secs(3);

/// Seconds that the encoder of a clip of all these pictures takes beside what makes its frames: measured on a few that
/// follow each other in the middle, which it is shown to and fro; nothing where they cannot be read.
pub fn encoding(recipe: &Recipe, task: usize, video: &Video, sources: &[Source]) -> Option<f64> {
    let (_, stage) = recipe.stages().into_iter().find(|(at, _)| *at == task)?;
    let readable: Vec<&Source> = sources.iter().filter(|s| s.facts.is_some()).collect();
    let first = readable.len().saturating_sub(TRIED) / 2;
    let clip = clip(video, &recipe.name, sources.len());
    let begin = Instant::now();
    let mut frames = Vec::new();
    for one in readable[first..].iter().take(TRIED) {
        if frames.len() > 1 && begin.elapsed() > TRIED_FOR {
            break;
        }
        let source = FileSource::open(&one.path).ok()?;
        let about = subject(&one.path, one.facts.as_ref(), &one.decided, 1);
        let work = Work::new(recipe, &source, &about, one.decided.shift, None).ok()?;
        frames.push(Arc::new(clip.raw(&work.picture(&stage, None).ok()?.0).ok()?));
    }
    if frames.is_empty() {
        return None;
    }
    let back = frames.iter().rev().skip(1).take(frames.len().saturating_sub(2));
    let shown: Vec<_> = frames.iter().chain(back).cloned().collect();
    let folder = tempfile::tempdir().ok()?;
    let start = Instant::now();
    let some = Clip { frames: shown.len(), fresh: shown.len(), turns: 1, sound: None, ..clip };
    let (count, fresh) = (shown.len(), video.fresh(sources.len()));
    let mut recorder = Recorder::start(some, &folder.path().join("tried")).ok()?;
    shown.into_iter().try_for_each(|frame| recorder.frame(frame)).ok()?;
    recorder.finish().ok()?;
    Some(start.elapsed().as_secs_f64() / count as f64 * fresh as f64)
}

/// What a picture in work, the one at `at` of `of`, becomes for one of the recipe's tasks.
pub(crate) fn piece(
    work: &Work,
    task: usize,
    stage: &Pictures,
    (at, of): (usize, usize),
) -> Result<Piece, String> {
    let tasks = work.recipe.tasks();
    let Some((_, Task::Bundle(bundle))) = tasks.get(task) else {
        return Err("there is no such file to join".into());
    };
    let one = || Variant { at: task, delivery: stage.clone(), width: None };
    let caption = match bundle {
        Bundle::Video(_) => "",
        Bundle::Pdf(p) => &p.caption,
        Bundle::Contact(c) => &c.caption,
    };
    let what = match bundle {
        Bundle::Video(video) => {
            let clip = clip(video, "", 1);
            let windows = video.windows(at, of);
            if windows.len() > 1 {
                let (recipe, subject) = (work.recipe.clone(), work.subject.clone());
                let (lines, windows) = (work.lines(stage)?, windows.into_iter());
                Is::Travel(Box::new(Travel { lines, recipe, subject, stage: stage.clone(), clip, windows }))
            } else {
                let stage =
                    windows.first().map_or_else(|| stage.clone(), |(window, _)| through(stage, *window));
                let (picture, _) = work.picture(&stage, None)?;
                Is::Frame(Arc::new(clip.raw(&picture).map_err(|e| e.to_string())?))
            }
        }
        Bundle::Contact(c) if c.format != "pdf" => Is::Picture(work.picture(stage, None)?.0),
        _ => {
            let (bytes, width, height) = work.make(&one(), None)?;
            Is::Jpeg(bytes, (width, height))
        }
    };
    let counted = stage.counted(work.subject);
    Ok(Piece {
        what,
        caption: names::text(caption, &work.recipe.name, &counted),
        folder: work.subject.folder.clone(),
    })
}

/// Hands a frame on so many times.
fn record(recorder: &mut Recorder, frame: &Arc<Vec<u8>>, times: usize) -> Result<(), Fault> {
    (0..times).try_for_each(|_| recorder.frame(frame.clone()).map_err(|e| fault(&e)))
}

/// A bundle whose file is complete under a temporary name.
pub(crate) struct Gathered {
    /// The file; gone with this.
    pub part: TempPath,
    /// Pixels, of a page or a frame.
    pub size: (u32, u32),
    /// What a player needs to know of a clip.
    pub clip: Option<ClipFacts>,
    /// Pictures that are not in it.
    pub missing: usize,
}

enum Sink {
    Video(Box<Recorder>),
    Pdf(Album),
    Contact(Box<Sheet>),
}

/// A bundle that is being filled, in the order of its positions.
pub(crate) struct Gatherer {
    bundle: Bundle,
    count: usize,
    recipe: String,
    part: TempPath,
    sink: Sink,
    /// How often each frame is shown.
    times: Vec<usize>,
    /// Frames owed by pictures that are missing at the beginning.
    owed: usize,
    last: Option<Arc<Vec<u8>>>,
    missing: usize,
    taken: usize,
    /// Set when nobody waits for it any more: a picture that stands for long is not gone through to its end.
    stop: Arc<AtomicBool>,
}

impl Gatherer {
    /// Begins a bundle of `count` pictures in the folder its file will be in.
    pub fn begin(
        bundle: &Bundle,
        recipe: &Recipe,
        first: &Subject,
        count: usize,
        folder: &Path,
    ) -> Result<Self, Fault> {
        let room = |e: std::io::Error| {
            let kind = match e.kind() {
                std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded => "no room",
                _ => "no permission",
            };
            Fault::new(kind, format!("cannot write to {}: {e}", folder.display()))
        };
        std::fs::create_dir_all(folder).map_err(room)?;
        sweep(folder);
        let part = part_in(folder).map_err(room)?.into_temp_path();
        let text = |template: &str| names::text(template, &recipe.name, first);
        let mut times = vec![1; count];
        let sink = match bundle {
            Bundle::Video(video) => {
                times = vec![0; count];
                video.order(count).into_iter().for_each(|k| times[k] += 1);
                let clip = clip(video, &recipe.name, count);
                let recorder = Recorder::start(clip, &part).map_err(|e| fault(&e))?;
                crate::schedule::step_back_process(recorder.process());
                Sink::Video(Box::new(recorder))
            }
            Bundle::Pdf(pdf) => Sink::Pdf(Album::new(&text(&pdf.title), layout(pdf))),
            Bundle::Contact(c) if c.format == "pdf" => {
                Sink::Pdf(Album::new(&text(&c.title), contact_layout(c, count)))
            }
            Bundle::Contact(c) => Sink::Contact(Box::new(Sheet::new(c, &text(&c.title), count)?)),
        };
        let recipe = recipe.name.clone();
        Ok(Self {
            bundle: bundle.clone(),
            count,
            recipe,
            part,
            sink,
            times,
            owed: 0,
            last: None,
            missing: 0,
            taken: 0,
            stop: Arc::default(),
        })
    }

    /// Takes the next picture, or what stands for one that failed; a picture may come in parts.
    pub fn take(&mut self, at: usize, piece: Option<Piece>) -> Result<(), Fault> {
        let times = self.times.get(at).copied().unwrap_or(0);
        if times == 0 {
            return Ok(());
        }
        match piece {
            Some(piece) => piece.parts().try_for_each(|part| {
                if self.stop.load(Ordering::Relaxed) {
                    return Err(Fault::new("together", "it was cancelled"));
                }
                self.join(times, part?)
            }),
            None => self.stand_in(times),
        }
    }

    /// The frame before stands for a picture that is missing, so that the others keep their times.
    fn stand_in(&mut self, times: usize) -> Result<(), Fault> {
        self.missing += 1;
        if let Sink::Video(recorder) = &mut self.sink {
            match &self.last {
                Some(frame) => record(recorder, frame, times)?,
                None => self.owed += times,
            }
        }
        Ok(())
    }

    fn join(&mut self, times: usize, Piece { what, caption, folder }: Piece) -> Result<(), Fault> {
        match (&mut self.sink, what) {
            (Sink::Video(recorder), Is::Frame(frame)) => {
                record(recorder, &frame, times + std::mem::take(&mut self.owed))?;
                self.last = Some(frame);
            }
            (Sink::Video(recorder), Is::Shown(frames)) => {
                for (frame, times) in frames {
                    record(recorder, &frame, times + std::mem::take(&mut self.owed))?;
                    self.last = Some(frame);
                }
            }
            (Sink::Pdf(album), Is::Jpeg(bytes, size)) => album.add(bytes, size, &caption, &folder),
            (Sink::Contact(sheet), Is::Picture(picture)) => sheet.cells.push((picture, caption)),
            _ => return Err(Fault::new("inside", "a picture came in another form than it is joined in")),
        }
        self.taken += 1;
        Ok(())
    }

    /// Ends the bundle.
    pub fn finish(self) -> Result<Gathered, Fault> {
        if self.taken == 0 {
            return Err(Fault::new(
                "together",
                format!("there is no picture to make a {} of", self.bundle.word()),
            ));
        }
        let write = |bytes: &[u8]| {
            let mut file = std::fs::File::create(&self.part)?;
            file.write_all(bytes)?;
            file.sync_all()
        };
        let said = |e: std::io::Error| {
            let full = e.kind() == std::io::ErrorKind::StorageFull;
            Fault::new(
                if full { "no room" } else { "together" },
                format!("cannot write the {}: {e}", self.bundle.word()),
            )
        };
        let (size, clip) = match self.sink {
            Sink::Video(recorder) => {
                recorder.finish().map_err(|e| fault(&e))?;
                std::fs::File::open(&self.part).and_then(|f| f.sync_all()).map_err(said)?;
                let Bundle::Video(video) = &self.bundle else {
                    return Err(Fault::new("inside", "a clip that is none"));
                };
                let told = clip(video, &self.recipe, self.count);
                let facts = ClipFacts {
                    width: told.size.width,
                    height: told.size.height,
                    frames: told.frames as u64 * u64::from(told.turns.max(1)),
                    rate: told.rate,
                    seconds: told.seconds(),
                    codec: video.codec().to_owned(),
                };
                ((told.size.width, told.size.height), Some(facts))
            }
            Sink::Pdf(album) => {
                let bytes = album.finish().map_err(|e| fault(&e))?;
                write(&bytes).map_err(said)?;
                ((0, 0), None)
            }
            Sink::Contact(sheet) => {
                let (bytes, size) = sheet.finish()?;
                write(&bytes).map_err(said)?;
                (size, None)
            }
        };
        Ok(Gathered { part: self.part, size, clip, missing: self.missing })
    }
}

fn layout(pdf: &Pdf) -> Layout {
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
fn contact_layout(contact: &Contact, count: usize) -> Layout {
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

fn columns(contact: &Contact, count: usize) -> u32 {
    let usual = (count as f64 * 1.3).sqrt().ceil() as u32;
    contact.columns.unwrap_or(usual).min(count as u32).max(1)
}

/// Most pixels of a contact sheet, and of a side of it.
const LARGEST_SHEET: u64 = 150_000_000;
const LONGEST_SHEET: u32 = 60_000;

/// The most pixels that a contact sheet may have.
///
/// # Errors
/// That it has more, with what can be done.
pub(crate) fn sheet_size(contact: &Contact, count: usize) -> Result<Size, Fault> {
    let measures = Measures::of(contact, count);
    let rows = (count as u32).div_ceil(measures.columns).max(1);
    let size = Size::new(
        measures.gap + measures.columns * (measures.cell + measures.gap),
        measures.top + rows * (measures.cell + measures.under + measures.gap),
    );
    if size.area() > LARGEST_SHEET || size.long_edge() > LONGEST_SHEET {
        return Err(Fault::new(
            "together",
            format!(
                "a contact sheet of {count} pictures may have {} × {} pixels; take smaller ones, other columns, or a PDF",
                size.width, size.height
            ),
        ));
    }
    Ok(size)
}

/// Lengths of a contact sheet in pixels.
struct Measures {
    columns: u32,
    cell: u32,
    gap: u32,
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
struct Sheet {
    measures: Measures,
    title: String,
    ground: [u8; 3],
    format: Encoding,
    cells: Vec<(Encoded, String)>,
}

/// A picture that letters are written on.
struct Canvas {
    size: Size,
    pixels: Vec<u8>,
    ink: u8,
}

impl Canvas {
    /// One line with its top left corner at a place, cut to a width.
    fn write(&mut self, text: &str, at: (u32, u32), width: u32, size: u32, middle: bool) {
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
    fn new(contact: &Contact, title: &str, count: usize) -> Result<Self, Fault> {
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

    fn finish(self) -> Result<(Vec<u8>, (u32, u32)), Fault> {
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

/// Pieces that wait for those before them.
const AHEAD: usize = 12;
/// Bytes they may take together.
const AHEAD_BYTES: usize = 600_000_000;

struct Order {
    next: usize,
    waiting: BTreeMap<usize, Option<Piece>>,
    /// Positions in work here.
    working: BTreeSet<usize>,
    gatherer: Option<Gatherer>,
    /// Somebody hands pieces on.
    pouring: bool,
}

impl Order {
    /// Whether a picture's piece was handed on, or is just now.
    fn is_past(&self, at: usize) -> bool {
        at < self.next || (self.pouring && at == self.next)
    }
}

/// A bundle that is filled while its pictures are made.
pub(crate) struct Stream {
    count: usize,
    /// The gatherer's.
    stop: Arc<AtomicBool>,
    needs: Vec<bool>,
    order: Mutex<Order>,
    changed: Condvar,
}

impl Stream {
    pub fn new(bundle: &Bundle, count: usize, gatherer: Gatherer) -> Self {
        let stop = gatherer.stop.clone();
        let order = Order {
            next: 0,
            waiting: BTreeMap::new(),
            working: BTreeSet::new(),
            gatherer: Some(gatherer),
            pouring: false,
        };
        let needs = bundle.needs(count);
        Self { count, stop, needs, order: Mutex::new(order), changed: Condvar::new() }
    }

    /// Pictures it joins.
    pub fn count(&self) -> usize {
        self.count
    }

    fn lock(&self) -> MutexGuard<'_, Order> {
        self.order.lock().unwrap_or_else(|p| p.into_inner())
    }

    /// Whether a picture's piece is still needed.
    pub fn wants(&self, at: usize) -> bool {
        let order = self.lock();
        self.needs.get(at) == Some(&true) && at >= order.next && (order.gatherer.is_some() || order.pouring)
    }

    /// A picture goes into work here.
    pub fn began(&self, at: usize) {
        self.lock().working.insert(at);
    }

    /// Gives a picture's piece, or says that there is none; waits where many before it are still on their way.
    pub fn give(&self, at: usize, piece: Option<Piece>) {
        let mut order = self.lock();
        order.working.remove(&at);
        if order.is_past(at) || (order.gatherer.is_none() && !order.pouring) {
            self.changed.notify_all();
            return;
        }
        order.waiting.insert(at, piece);
        loop {
            let next = order.next;
            if !order.pouring
                && let Some(piece) = order.waiting.remove(&next)
            {
                let Some(mut gatherer) = order.gatherer.take() else { return };
                order.pouring = true;
                drop(order);
                let taken = gatherer.take(next, piece);
                order = self.lock();
                order.pouring = false;
                // Given up meanwhile where the count was set to its end.
                if order.next == next {
                    order.next += 1;
                    match taken {
                        Ok(()) => order.gatherer = Some(gatherer),
                        Err(e) => tracing::warn!("a bundle is made once more at the end: {}", e.reason),
                    }
                }
                self.changed.notify_all();
                continue;
            }
            let bytes: usize = order.waiting.values().flatten().map(Piece::bytes).sum();
            let few = order.waiting.len() <= AHEAD && bytes <= AHEAD_BYTES;
            if few || (order.gatherer.is_none() && !order.pouring) {
                return;
            }
            let next = order.next;
            if !order.pouring && !order.waiting.contains_key(&next) && !order.working.contains(&next) {
                // Another program has it, or it comes later: a pass at the end makes the bundle.
                order.gatherer = None;
                order.waiting.clear();
                self.changed.notify_all();
                return;
            }
            order = self
                .changed
                .wait_timeout(order, Duration::from_millis(500))
                .unwrap_or_else(|p| p.into_inner())
                .0;
        }
    }

    /// A picture is over: what it has not given will not come.
    pub fn skip(&self, at: usize) {
        {
            let order = self.lock();
            if order.is_past(at) || order.waiting.contains_key(&at) {
                return;
            }
        }
        self.give(at, None);
    }

    /// A picture went out of work without a piece, for another time.
    pub fn left(&self, at: usize) {
        self.lock().working.remove(&at);
        self.changed.notify_all();
    }

    /// The bundle, where all pieces were handed on; waits for those that are on their way.
    pub fn complete(&self) -> Option<Gatherer> {
        let mut order = self.lock();
        while order.pouring {
            order = self.changed.wait(order).unwrap_or_else(|p| p.into_inner());
        }
        if order.next >= self.count { order.gatherer.take() } else { None }
    }

    /// Ends it without a file.
    pub fn give_up(&self) {
        self.stop.store(true, Ordering::Relaxed);
        let mut order = self.lock();
        order.gatherer = None;
        order.waiting.clear();
        order.next = usize::MAX;
        self.changed.notify_all();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rallo_recipe::delivery::Pdf;

    fn piece(n: u32) -> Piece {
        let size = Size::new(20 + n, 10);
        let picture = Encoded { size, pixels: Pixels::U8(vec![(n * 20) as u8; size.area() as usize * 3]) };
        let encoding =
            Encoding::Jpeg { quality: 90, chroma: Chroma::Full, progressive: false, optimised: false };
        let jpeg = rallo_media::encode(&picture, encoding, &Extras::default()).unwrap();
        Piece { what: Is::Jpeg(jpeg, (size.width, 10)), caption: format!("picture {n}"), folder: "f".into() }
    }

    fn stream(count: usize, folder: &Path) -> Stream {
        let bundle = Bundle::Pdf(Pdf::default());
        let recipe = Recipe::new("x");
        let first = Subject::default();
        Stream::new(&bundle, count, Gatherer::begin(&bundle, &recipe, &first, count, folder).unwrap())
    }

    fn bytes(gathered: &Gathered) -> Vec<u8> {
        std::fs::read(&gathered.part).unwrap()
    }

    #[test]
    fn pieces_in_any_order_are_joined_in_theirs() {
        let folder = tempfile::tempdir().unwrap();
        let straight = stream(6, folder.path());
        (0..6).for_each(|n| straight.give(n, (n != 3).then(|| piece(n as u32))));
        let straight = straight.complete().unwrap().finish().unwrap();
        let crossed = stream(6, folder.path());
        for n in [2usize, 0, 5, 1, 4, 3] {
            crossed.began(n);
            assert!(crossed.wants(n) && crossed.complete().is_none());
            crossed.give(n, (n != 3).then(|| piece(n as u32)));
        }
        assert!(!crossed.wants(2), "it is taken");
        let crossed = crossed.complete().unwrap().finish().unwrap();
        assert_eq!((crossed.missing, straight.missing), (1, 1));
        assert!(bytes(&crossed) == bytes(&straight));
        // Nothing is left where nobody keeps it.
        drop((crossed, straight));
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
    }

    #[test]
    fn pieces_that_another_one_has_are_not_waited_for_for_ever() {
        let folder = tempfile::tempdir().unwrap();
        let gaps = stream(60, folder.path());
        // The first is nowhere: after some time the rest is given up, and made at the end.
        for n in 1..40 {
            gaps.began(n);
            gaps.give(n, Some(piece(1)));
        }
        assert!(!gaps.wants(50) && gaps.complete().is_none());
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
        // One in work here is waited for, by others than itself.
        let slow = std::sync::Arc::new(stream(40, folder.path()));
        slow.began(0);
        let others = {
            let slow = slow.clone();
            std::thread::spawn(move || {
                for n in 1..40 {
                    slow.began(n);
                    slow.give(n, Some(piece(2)));
                }
            })
        };
        std::thread::sleep(Duration::from_millis(100));
        assert!(!others.is_finished());
        slow.give(0, Some(piece(0)));
        others.join().unwrap();
        assert_eq!(slow.complete().unwrap().finish().unwrap().missing, 0);
        // Given up, nobody waits.
        let given = stream(40, folder.path());
        given.began(0);
        given.give_up();
        (1..40).for_each(|n| given.give(n, Some(piece(3))));
        assert!(given.complete().is_none());
    }

    #[test]
    fn a_picture_that_is_over_while_its_piece_is_handed_on_leaves_nothing_behind() {
        let folder = tempfile::tempdir().unwrap();
        let stream = std::sync::Arc::new(stream(2, folder.path()));
        stream.give(0, Some(piece(0)));
        // Another one hands the second piece on just now, for as long as that takes.
        let gatherer = {
            let mut order = stream.lock();
            order.pouring = true;
            order.gatherer.take()
        };
        stream.skip(1);
        assert!(stream.lock().waiting.is_empty());
        let other = {
            let stream = stream.clone();
            std::thread::spawn(move || stream.complete())
        };
        std::thread::sleep(Duration::from_millis(50));
        assert!(!other.is_finished(), "it waits for the piece on its way");
        {
            let mut order = stream.lock();
            (order.pouring, order.next, order.gatherer) = (false, 2, gatherer);
            stream.changed.notify_all();
        }
        assert!(other.join().unwrap().is_some());
    }

    #[test]
    fn a_picture_that_stands_for_long_comes_in_parts_and_can_be_stopped() {
        let picture = Encoded { size: Size::new(64, 36), pixels: Pixels::U8(vec![90; 64 * 36 * 3]) };
        let png = rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap();
        let source = rallo_media::FileSource::from_bytes(png).unwrap();
        let document = serde_json::json!({"format": "rallo-recipe", "version": 1, "name": "x", "deliveries":
            [{"kind": "video", "size": "custom", "width": 32, "height": 18, "fit": "move", "length": 4, "hold_last": 1}]});
        let recipe = Recipe::from_value(&document).unwrap();
        let about = crate::subject(
            Path::new("a.png"),
            Some(&source.facts(Path::new("a.png"))),
            &Default::default(),
            1,
        );
        let work = Work::new(&recipe, &source, &about, 0, None).unwrap();
        let (task, stage) = recipe.stages().remove(0);
        let piece = || super::piece(&work, task, &stage, (0, 1)).unwrap();
        let frames = |part: Result<Piece, Fault>| match part.unwrap().what {
            Is::Shown(frames) => {
                frames.iter().map(|(bytes, times)| (bytes.len(), *times)).collect::<Vec<_>>()
            }
            _ => panic!("no frames"),
        };
        // A hundred windows, the last for a second more; never all of them in memory.
        let parts: Vec<_> = piece().parts().map(frames).collect();
        assert!(parts.iter().all(|p| p.len() <= rayon::current_num_threads().max(2)));
        let all: Vec<_> = parts.into_iter().flatten().collect();
        assert_eq!((all.len(), all[0].1, all[99].1), (100, 1, 26));
        let bundle = recipe.deliveries[0].bundles().remove(0);
        let folder = tempfile::tempdir().unwrap();
        let begin = || {
            let gatherer = Gatherer::begin(&bundle, &recipe, &about, 1, folder.path()).unwrap();
            Stream::new(&bundle, 1, gatherer)
        };
        let whole = begin();
        whole.give(0, Some(piece()));
        assert_eq!(whole.complete().unwrap().finish().unwrap().clip.unwrap().frames, 125);
        // Cancelled on the way: the rest is not made, and nothing is left.
        let stopped = begin();
        stopped.stop.store(true, Ordering::Relaxed);
        stopped.give(0, Some(piece()));
        assert!(stopped.complete().is_none());
        drop(stopped);
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
    }

    #[test]
    fn an_encoder_is_tried_on_what_can_be_read() {
        let folder = tempfile::tempdir().unwrap();
        let source = |n: u8, whole: bool| {
            let path = folder.path().join(format!("{n}.png"));
            let picture = Encoded { size: Size::new(64, 36), pixels: Pixels::U8(vec![n; 64 * 36 * 3]) };
            std::fs::write(&path, rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap())
                .unwrap();
            let facts = crate::library::scan::facts(&path).ok().filter(|_| whole);
            Source { path, facts, decided: Default::default() }
        };
        let document = serde_json::json!({"format": "rallo-recipe", "version": 1, "name": "x", "deliveries":
            [{"kind": "pdf"}, {"kind": "video", "size": "custom", "width": 32, "height": 18}]});
        let recipe = Recipe::from_value(&document).unwrap();
        let video = Video { size: "custom".into(), width: Some(32), height: Some(18), ..Video::default() };
        let some: Vec<Source> = (0..12).map(|n| source(n, n != 3)).collect();
        assert!(encoding(&recipe, 1, &video, &some).unwrap() > 0.0);
        assert!(encoding(&recipe, 1, &video, &some[..1]).unwrap() > 0.0);
        assert!(encoding(&recipe, 1, &video, &some[3..4]).is_none(), "nothing can be read");
        assert!(encoding(&recipe, 7, &video, &some).is_none(), "there is no such task");
    }

    #[test]
    fn a_contact_sheet_has_rows_as_high_as_their_pictures() {
        let contact = Contact {
            format: "png".into(),
            columns: Some(2),
            cell: Some(40),
            gap: Some(10),
            caption: String::new(),
            title: String::new(),
            ..Contact::default()
        };
        let mut sheet = Sheet::new(&contact, "", 3).unwrap();
        for (n, (w, h)) in [(40, 20), (40, 30), (20, 40)].into_iter().enumerate() {
            let size = Size::new(w, h);
            let pixels = Pixels::U8(vec![n as u8 + 1; size.area() as usize * 3]);
            sheet.cells.push((Encoded { size, pixels }, String::new()));
        }
        let (png, size) = sheet.finish().unwrap();
        assert_eq!(size, (110, 100));
        let source = rallo_media::FileSource::from_bytes(png).unwrap();
        let picture = rallo_engine::Source::level(&source, 0).unwrap();
        let rallo_engine::Samples::U8(v) = picture.samples() else { panic!() };
        let at = |x: usize, y: usize| v[(y * 110 + x) * 3];
        // In the middle of its row, and of its column.
        assert_eq!(
            [at(10, 14), at(10, 15), at(60, 10), at(20, 50), at(19, 50), at(39, 89)],
            [255, 1, 2, 3, 255, 3]
        );
        assert!(sheet_size(&Contact { cell: Some(2000), ..Contact::default() }, 5000).is_err());
    }
}
