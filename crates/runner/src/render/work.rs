//! One result: read, render, write. Originals are opened read-only; a result appears under its name only when
//! it is complete.

use crate::assemble::piece::{self, Piece};
use crate::files::atomic_file::part_in;
use crate::render::intermediate::{self, Kept};
use crate::render::item::{Item, Output, State};
use rallo_engine::step::parse_colour;
use rallo_engine::steps::output::data::{self, Data};
use rallo_engine::{Encoded, OutputColour, Picture, Pixels, Plan, Pyramid, Size, Source};
use rallo_media::metadata::exif::{self, Carry};
use rallo_media::{
    Chroma, Encoding, Extras, FileSource, Format, Made, MediaError, Packing, Words, content_hash,
};
use rallo_recipe::delivery::Frame;
use rallo_recipe::{Pictures, Recipe, Subject};
use rayon::prelude::*;
use std::io::{ErrorKind, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Why a picture failed: a kind for the program, a reason for people.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// `unreadable`, `unsupported`, `too large`, `no room`, `no permission`, `no permission to read`, `gone`, `changed`, `name taken`, `recipe` or
    /// `inside`.
    pub kind: &'static str,
    /// In plain words.
    pub reason: String,
}

impl Fault {
    /// A failure of a kind.
    pub fn new(kind: &'static str, reason: impl Into<String>) -> Self {
        Self { kind, reason: reason.into() }
    }

    /// Writing failed; these kinds hold up a run until their cause is gone.
    pub(crate) fn writing(target: &Path, e: &std::io::Error) -> Self {
        let kind = match e.kind() {
            ErrorKind::StorageFull | ErrorKind::QuotaExceeded => "no room",
            ErrorKind::PermissionDenied
            | ErrorKind::ReadOnlyFilesystem
            | ErrorKind::NotFound
            | ErrorKind::NotADirectory => "no permission",
            ErrorKind::AlreadyExists => "name taken",
            _ => "inside",
        };
        let why = match kind {
            "no room" => "there is no room left".to_owned(),
            "name taken" => "a file of that name appeared meanwhile".to_owned(),
            _ => e.to_string(),
        };
        Self::new(kind, format!("cannot write {}: {why}", target.display()))
    }
}

impl From<MediaError> for Fault {
    fn from(e: MediaError) -> Self {
        let kind = match &e {
            MediaError::Io { source, .. } => match source.kind() {
                ErrorKind::NotFound => "gone",
                ErrorKind::PermissionDenied => "no permission to read",
                _ => "unreadable",
            },
            MediaError::Unknown(_) | MediaError::Unsupported(_) => "unsupported",
            MediaError::TooLarge { .. } => "too large",
            _ => "unreadable",
        };
        Self::new(kind, e.to_string())
    }
}

/// How one picture ended.
pub struct Ended {
    /// Done, failed or skipped.
    pub state: State,
    /// What kind of failure it was.
    pub kind: Option<&'static str>,
    /// Why it failed or was skipped.
    pub reason: Option<String>,
    /// What was written.
    pub outputs: Vec<Output>,
}

impl Ended {
    fn boxed(kind: &'static str, reason: String) -> Box<Self> {
        Box::new(Self::failed(Fault::new(kind, reason)))
    }

    /// It failed.
    pub fn failed(fault: Fault) -> Self {
        Self { state: State::Failed, kind: Some(fault.kind), reason: Some(fault.reason), outputs: Vec::new() }
    }
}

/// The settings of the encoder a delivery asks for.
pub fn encoding(delivery: &Pictures) -> Encoding {
    let chroma = match delivery.chroma.as_str() {
        "4:4:4" => Chroma::Full,
        "4:2:2" => Chroma::Half,
        _ => Chroma::Quarter,
    };
    let packing = match delivery.compression.as_str() {
        "none" => Packing::None,
        "lzw" => Packing::Lzw,
        _ => Packing::Deflate,
    };
    let quality = delivery.quality;
    match delivery.format.as_str() {
        "png" => Encoding::Png,
        "webp" => Encoding::WebP { quality: (!delivery.lossless).then_some(quality) },
        "avif" => Encoding::Avif { quality },
        "jxl" => Encoding::Jxl { quality: (!delivery.lossless).then_some(quality) },
        "tiff" => Encoding::Tiff { packing },
        _ => {
            let (progressive, optimised) = (delivery.progressive, delivery.optimised);
            Encoding::Jpeg { quality, chroma, progressive, optimised }
        }
    }
}

/// One file that is made of each picture: a delivery, in one of its widths.
#[derive(Clone, Debug)]
pub struct Variant {
    /// Which of the recipe's deliveries it belongs to.
    pub at: usize,
    /// What is delivered.
    pub delivery: Pictures,
    /// Its width, where the delivery has several.
    pub width: Option<u32>,
}

/// Every file a recipe makes of each picture, in order.
pub fn variants(recipe: &Recipe) -> Vec<Variant> {
    let all = recipe.files().into_iter();
    all.flat_map(|(at, delivery)| {
        let widths = delivery.variants();
        widths.into_iter().map(move |width| Variant { at, delivery: delivery.clone(), width })
    })
    .collect()
}

/// A picture in the middle of a frame of another size, on a colour (`#rrggbb`, as the picture's own values).
fn framed(picture: Encoded, frame: &Frame) -> Encoded {
    let (from, to) = (picture.size, Size::new(frame.width, frame.height));
    if from == to || from.width > to.width || from.height > to.height {
        return picture;
    }
    let ground = parse_colour(&frame.colour).unwrap_or_default();
    fn laid<T: Copy>(v: &[T], from: Size, to: Size, ground: [T; 3]) -> Vec<T> {
        let mut out = ground.repeat(to.area() as usize);
        let left = ((to.width - from.width) / 2) as usize;
        let top = ((to.height - from.height) / 2) as usize;
        let (row, whole) = (from.width as usize * 3, to.width as usize * 3);
        for (y, line) in v.chunks_exact(row).enumerate() {
            let start = (top + y) * whole + left * 3;
            out[start..start + row].copy_from_slice(line);
        }
        out
    }
    let pixels = match picture.pixels {
        Pixels::U8(v) => Pixels::U8(laid(&v, from, to, ground)),
        Pixels::U16(v) => Pixels::U16(laid(&v, from, to, ground.map(|c| u16::from(c) * 257))),
        Pixels::F32(v) => Pixels::F32(laid(&v, from, to, ground.map(|c| f32::from(c) / 255.0))),
    };
    Encoded { size: to, pixels }
}

/// A name with a number that is free: `name-2.jpg`, `name-3.jpg` …
pub(crate) fn numbered(path: &Path) -> Option<PathBuf> {
    let stem = path.file_stem()?.to_string_lossy().into_owned();
    let ending = path.extension()?.to_string_lossy().into_owned();
    (2..10_000).map(|n| path.with_file_name(format!("{stem}-{n}.{ending}"))).find(|p| !p.exists())
}

/// A picture on its way to one or several files: what all of them share is done once.
pub struct Work<'a> {
    /// What is done.
    pub recipe: &'a Recipe,
    source: &'a FileSource,
    /// The picture.
    pub subject: &'a Subject,
    shift: i64,
    kept: Option<&'a Kept>,
    /// What all of them are made from.
    shared: Option<Arc<Lines>>,
}

/// What the recipe's lines made of a picture, as large as the largest file needs it; with the colours the recipe names.
pub(crate) struct Lines {
    picture: Pyramid,
    said: Option<Arc<OutputColour>>,
}

impl Lines {
    /// Bytes it takes.
    pub fn bytes(&self) -> usize {
        self.picture.size().area() as usize * 16
    }

    /// The pixels of one file, as they are encoded, with their colours.
    pub fn picture(
        &self,
        recipe: &Recipe,
        subject: &Subject,
        delivery: &Pictures,
        width: Option<u32>,
    ) -> Result<(Encoded, Arc<OutputColour>), String> {
        let after = recipe.after(delivery, width, subject);
        let plan = Plan::for_picture(after, &self.picture).map_err(|e| e.to_string())?;
        let colours = delivery.colours_or(self.said.clone());
        Ok((rendered(&plan, &self.picture, &colours, delivery)?, colours))
    }
}

/// A plan's pixels with the bits of a delivery, in its frame.
fn rendered(
    plan: &Plan,
    source: &dyn Source,
    colours: &OutputColour,
    delivery: &Pictures,
) -> Result<Encoded, String> {
    let program = plan.program(1.0);
    let whole = program.size().rect();
    let picture = if delivery.is_float() {
        program.render_32(source, whole, colours)
    } else if delivery.is_wide() {
        program.render_16(source, whole, colours)
    } else {
        program.render(source, whole, colours)
    }
    .map_err(|e| e.to_string())?;
    Ok(match &delivery.frame {
        Some(frame) => framed(picture, frame),
        None => picture,
    })
}

impl<'a> Work<'a> {
    /// A picture for the files of a recipe. What they share depends on all of them, whichever are made: a file that is
    /// made again alone is what it was.
    ///
    /// # Errors
    /// A reason for people.
    pub fn new(
        recipe: &'a Recipe,
        source: &'a FileSource,
        subject: &'a Subject,
        shift: i64,
        kept: Option<&'a Kept>,
    ) -> Result<Self, String> {
        let copies = recipe.stages().is_empty() && variants(recipe).iter().all(|v| v.delivery.is_carried());
        if source.format() == Format::Raw && !copies {
            return Err(
                "camera raw is shown by its preview so far and cannot be run; develop it to TIFF first"
                    .into(),
            );
        }
        let mut work = Self { recipe, source, subject, shift, kept, shared: None };
        let stages = recipe.stages().into_iter().map(|(at, delivery)| Variant { at, delivery, width: None });
        let files = variants(recipe).into_iter().filter(|v| !v.delivery.is_carried());
        let all: Vec<Variant> = files.chain(stages).collect();
        if all.len() > 1 {
            work.shared = Some(Arc::new(work.share(&all)?));
        }
        Ok(work)
    }

    /// The recipe's lines, once for all.
    fn share(&self, variants: &[Variant]) -> Result<Lines, String> {
        let whole = self.recipe.layout(self.subject).map_err(|e| e.to_string())?.size();
        // No file needs more than this; its size is made in the same resampling as the lines' own.
        let mut longest = 0;
        for one in variants {
            longest = longest.max(self.needed(one, whole)?);
        }
        let size = Pictures { long_edge: Some(longest), ..Pictures::default() };
        let extra = if longest < whole.long_edge() {
            self.recipe.after(&size, None, self.subject)
        } else {
            Vec::new()
        };
        let ready = intermediate::ready(self.recipe, self.source, self.subject, self.kept, extra)
            .map_err(|e| e.to_string())?;
        let program = ready.plan.program(1.0);
        let (size, values) =
            program.render_values(ready.source(), program.size().rect()).map_err(|e| e.to_string())?;
        let picture = Picture::of_working(size, values).map_err(|e| e.to_string())?;
        #[cfg(test)]
        SHARED.with(|n| n.set(n.get() + 1));
        Ok(Lines { picture: Pyramid::new(picture), said: ready.plan.colours() })
    }

    /// The longest side of what a file is made from.
    fn needed(&self, one: &Variant, whole: Size) -> Result<u32, String> {
        if !one.delivery.lines.is_empty() {
            return Ok(whole.long_edge());
        }
        if let Some(frame) = &one.delivery.frame {
            let by = |to: u32, from: u32| f64::from(to) / f64::from(from);
            let (wide, high) = (by(frame.width, whole.width), by(frame.height, whole.height));
            let share = if frame.fit == "fit" { wide.min(high) } else { wide.max(high) / frame.nearest };
            return Ok((share.min(1.0) * f64::from(whole.long_edge())).ceil() as u32);
        }
        let bare = Pictures { sharpen: 0.0, burned: None, ..one.delivery.clone() };
        let plan = self.recipe.layout_for(&bare, one.width, self.subject).map_err(|e| e.to_string())?;
        Ok(plan.size().long_edge())
    }

    /// The bytes of one file, and its size: everything but the writing.
    ///
    /// # Errors
    /// A reason for people.
    pub fn make(&self, one: &Variant, made: Option<Made>) -> Result<(Vec<u8>, u32, u32), String> {
        if one.delivery.is_carried() {
            return self.carry(&one.delivery, made);
        }
        self.encoded(one, &self.picture(&one.delivery, one.width)?, made)
    }

    /// The bytes of a file whose pixels are there.
    fn encoded(
        &self,
        one: &Variant,
        (picture, colours): &(Encoded, Arc<OutputColour>),
        made: Option<Made>,
    ) -> Result<(Vec<u8>, u32, u32), String> {
        let (delivery, size) = (&one.delivery, picture.size);
        let extras = self.extras(delivery, size, colours.icc.clone(), made);
        let encoding = encoding(delivery);
        let bytes = match delivery.limit {
            Some(limit) => rallo_media::encode_within(picture, encoding, &extras, u64::from(limit) * 1000)
                .map(|(b, _)| b),
            None => rallo_media::encode(picture, encoding, &extras),
        };
        Ok((bytes.map_err(|e| e.to_string())?, size.width, size.height))
    }

    /// As [`make`](Self::make) for several, each with what it is for: those with the same pixels are rendered once, then
    /// encoded side by side.
    fn make_all<T: Send>(&self, all: Vec<(Variant, Made, T)>) -> Result<Vec<Ready<T>>, String> {
        let mut groups: Vec<Alike<T>> = Vec::new();
        for one in all {
            let key = (!one.0.delivery.is_carried()).then(|| self.pixels_of(&one.0));
            match groups.iter_mut().find(|(known, _)| key.is_some() && *known == key) {
                Some((_, group)) => group.push(one),
                None => groups.push((key, vec![one])),
            }
        }
        let mut done = Vec::new();
        for (key, group) in groups {
            let picture = match (key, group.first()) {
                (Some(_), Some((first, ..))) => Some(self.picture(&first.delivery, first.width)?),
                _ => None,
            };
            let made = group.into_par_iter().map(|(one, made, what)| {
                let (bytes, width, height) = match &picture {
                    Some(picture) => self.encoded(&one, picture, Some(made))?,
                    None => self.carry(&one.delivery, Some(made))?,
                };
                Ok(Ready { what, bytes, size: (width, height) })
            });
            done.extend(made.collect::<Result<Vec<_>, String>>()?);
        }
        Ok(done)
    }

    /// What shapes the pixels of a file, and nothing of how they are encoded: equal where they are.
    fn pixels_of(&self, one: &Variant) -> String {
        let delivery = &one.delivery;
        let after = self.recipe.after(delivery, one.width, self.subject);
        let bits = (delivery.is_float(), delivery.is_wide(), delivery.quick);
        let said = self.shared.as_ref().and_then(|lines| lines.said.clone());
        let colours = Arc::as_ptr(&delivery.colours_or(said));
        format!("{after:?} {bits:?} {colours:?} {:?}", delivery.frame)
    }

    /// A file whose pixels are the original's, exactly.
    fn carry(&self, delivery: &Pictures, made: Option<Made>) -> Result<(Vec<u8>, u32, u32), String> {
        let size = self.source.size();
        let bytes = self.source.bytes();
        if delivery.is_copy() {
            return Ok((bytes.to_vec(), size.width, size.height));
        }
        if !rallo_media::can_carry(self.source.format()) {
            // Its data cannot be changed; a plain copy is what is left.
            let asks = !self.recipe.data(self.subject).is_empty() || self.shift != 0 || !delivery.camera_data;
            if !asks {
                return Ok((bytes.to_vec(), size.width, size.height));
            }
        }
        let extras = self.extras(delivery, size, Vec::new(), made);
        let file =
            rallo_media::carried_over(bytes, self.source.format(), &extras).map_err(|e| e.to_string())?;
        Ok((file, size.width, size.height))
    }

    /// The pixels of one file, as they are encoded, with their colours.
    ///
    /// # Errors
    /// A reason for people.
    pub fn picture(
        &self,
        delivery: &Pictures,
        width: Option<u32>,
    ) -> Result<(Encoded, Arc<OutputColour>), String> {
        #[cfg(test)]
        RENDERED.with(|n| n.set(n.get() + 1));
        if let Some(lines) = &self.shared {
            return lines.picture(self.recipe, self.subject, delivery, width);
        }
        let after = self.recipe.after(delivery, width, self.subject);
        let mut ready = intermediate::ready(self.recipe, self.source, self.subject, self.kept, after)
            .map_err(|e| e.to_string())?;
        if delivery.quick {
            ready.plan = ready.plan.reducing_sooner();
        }
        let colours = delivery.colours(&ready.plan);
        Ok((rendered(&ready.plan, ready.source(), &colours, delivery)?, colours))
    }

    /// What the recipe's lines made of the picture, to make several pictures of it; as large as one file needs it where that
    /// is not there yet.
    pub(crate) fn lines(&self, delivery: &Pictures) -> Result<Arc<Lines>, String> {
        match &self.shared {
            Some(lines) => Ok(lines.clone()),
            None => self.share(&[Variant { at: 0, delivery: delivery.clone(), width: None }]).map(Arc::new),
        }
    }

    /// What goes into a file beside its pixels.
    fn extras(&self, delivery: &Pictures, size: Size, icc: Vec<u8>, made: Option<Made>) -> Extras {
        let data = self.recipe.data(self.subject);
        let keeps = |what: &str| data.iter().any(|d| d.keep == what);
        let nothing = !delivery.camera_data || keeps("nothing");
        let mut words = words(self.source, &data, nothing, self.subject);
        let serials = keeps("without place and serial numbers");
        let no_place = serials || keeps("without place");
        let moved: i64 = data.iter().filter_map(|d| data::seconds(&d.shift)).sum();
        let shift = self.shift + moved * 1000;
        // Where something is left out on purpose, other programs' words may name it.
        if delivery.is_carried() && !nothing && !no_place {
            words.take_others(self.source.bytes(), shift != 0);
        }
        let resolution = data.iter().rev().find_map(|d| d.resolution).or(delivery.dpi);
        let carry = Carry {
            size: (size.width, size.height),
            shift,
            nothing,
            no_place,
            no_serials: serials,
            words: Some(&words),
            resolution,
            lies: delivery.is_carried(),
        };
        let exif = exif::carried(self.source.exif(), &carry);
        Extras { icc: Some(icc), exif, made, words, resolution }
    }
}

#[cfg(test)]
thread_local! {
    /// How often what files share was computed.
    static SHARED: std::cell::Cell<usize> = const { std::cell::Cell::new(0) };
    /// How often the pixels of files were.
    static RENDERED: std::cell::Cell<usize> = const { std::cell::Cell::new(0) };
}

/// What a result says about its picture: what the original says, unless nothing is kept of that, and what the recipe
/// changes.
fn words(source: &FileSource, data: &[Data], nothing: bool, subject: &Subject) -> Words {
    let mut words = if nothing {
        Words::default()
    } else {
        let said = Words::read(source.bytes(), source.exif());
        Words { keywords: subject.keywords.clone(), rating: subject.rating, ..said }
    };
    for one in data {
        words.change(one);
    }
    words
}

/// Identity of what shapes a result beside its source: the recipe, and what was decided about the frame.
fn identity(recipe: &Recipe, one: &Variant, shift: i64, subject: &Subject) -> String {
    let mut text = format!("engine {}|{}", rallo_engine::RESULTS, recipe.identity(&one.delivery, subject));
    if let Some(width) = one.width {
        text += &format!("|width {width}");
    }
    if shift != 0 {
        text += &format!("|shift {shift}");
    }
    if subject.rating != 0 || !subject.keywords.is_empty() {
        text += &format!("|rating {} keywords {:?}", subject.rating, subject.keywords);
    }
    content_hash(text.as_bytes())
}

/// What has been done to the picture once the recipe is through with it.
fn done(recipe: &Recipe, source: &FileSource, subject: &Subject) -> Vec<String> {
    let mut done = Made::find(source.bytes()).map(|m| m.done).unwrap_or_default();
    let lines = recipe.placed(subject).into_iter().filter_map(|(line, _)| Some(recipe.steps[line?].id));
    for id in lines {
        if !done.iter().any(|d| d == id) {
            done.push(id.into());
        }
    }
    done
}

/// Length and time of a file, to see whether it changed.
fn state_of(path: &Path) -> Option<(u64, std::time::SystemTime)> {
    let about = path.metadata().ok()?;
    Some((about.len(), about.modified().ok()?))
}

/// Whether two paths are one file, through links of both kinds.
fn same_file(a: &Path, b: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let about = |p: &Path| p.metadata().map(|m| (m.dev(), m.ino())).ok();
    matches!((about(a), about(b)), (Some(a), Some(b)) if a == b)
}

/// What stands where a result would go.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum There {
    /// A result of the same recipe with the same values.
    Same,
    /// Another result.
    Result,
    /// A file that is none.
    Other,
}

/// Looks at a file that stands where a result would go.
pub fn there(recipe: &Recipe, one: &Variant, target: &Path, shift: i64, subject: &Subject) -> There {
    match Made::of(target) {
        None => There::Other,
        Some(mark) if mark.recipe == identity(recipe, one, shift, subject) => There::Same,
        Some(_) => There::Result,
    }
}

/// Where a result may go: the target, or what the delivery says where that is taken. A result that is there already is
/// told as such.
fn place(
    delivery: &Pictures,
    item: &Item,
    target: &Path,
    known: Option<&String>,
    made: &Made,
) -> Result<(PathBuf, bool), Box<Ended>> {
    let target = target.to_owned();
    if !target.exists() {
        // A link that leads nowhere is not followed: what it would write is not what was shown.
        if target.symlink_metadata().is_ok() {
            let name = target.display();
            return Err(Ended::boxed(
                "name taken",
                format!("{name} is a link that leads nowhere; take it away"),
            ));
        }
        return Ok((target, false));
    }
    let name = target.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let number = |target: &Path| match numbered(target) {
        Some(free) => Ok((free, false)),
        None => Err(Ended::boxed("name taken", format!("no free number for {name}"))),
    };
    if same_file(&target, &item.source) {
        return match delivery.existing.as_str() {
            "number" => number(&target),
            _ => Err(Ended::boxed(
                "name taken",
                format!(
                    "{name} is the original itself, which is never written over; choose another name or folder"
                ),
            )),
        };
    }
    let found = Made::of(&target);
    // A plain copy bears no mark of its own.
    let copy = delivery.is_carried() && known.is_some_and(|known| *known == made.source);
    if copy || found.as_ref().is_some_and(|f| f.is_same(made)) {
        let bytes = std::fs::read(&target).unwrap_or_default();
        let hash = content_hash(&bytes);
        if known.is_none_or(|known| *known == hash) {
            let size = FileSource::from_bytes(bytes).ok();
            let bytes = target.metadata().map_or(0, |m| m.len());
            if let Some(size) = size.map(|s| s.size()) {
                return Err(Box::new(Ended {
                    state: State::Skipped,
                    kind: None,
                    reason: Some("already made by this recipe from this picture".into()),
                    outputs: vec![Output {
                        path: target,
                        bytes,
                        width: size.width,
                        height: size.height,
                        hash,
                        made: false,
                        variant: None,
                        clip: None,
                    }],
                }));
            }
        }
        // Altered since, by a fault or by somebody: it is made again, and what is there stays.
        return if delivery.existing == "replace" { Ok((target, true)) } else { number(&target) };
    }
    match delivery.existing.as_str() {
        "number" => number(&target),
        "replace" if found.is_some() => Ok((target, true)),
        "replace" => Err(Ended::boxed(
            "name taken",
            format!(
                "{name} exists and is no earlier result, so it is not replaced; move it away or choose another name"
            ),
        )),
        _ => {
            let what = if found.is_some() { "a result of another recipe or picture" } else { "another file" };
            Err(Ended::boxed(
                "name taken",
                format!(
                    "{name} exists already ({what}); choose another name or folder, or let the delivery number or replace"
                ),
            ))
        }
    }
}

/// Files with the same pixels, by what shapes these; one alone without that where its pixels are carried over.
type Alike<T> = (Option<String>, Vec<(Variant, Made, T)>);

/// A file's bytes and size, with what it is for.
struct Ready<T> {
    what: T,
    bytes: Vec<u8>,
    size: (u32, u32),
}

/// The results of one picture, only to be written; and those that were there.
pub struct Computed {
    /// Each with its place among the variants, its name, and whether a file of that name is replaced.
    files: Vec<Ready<(usize, PathBuf, bool)>>,
    there: Vec<Output>,
    /// What joins others in one file: the task's place, and the piece.
    pub pieces: Vec<(usize, Piece)>,
    /// How it ends when nothing is left to write.
    nothing: Option<(State, Option<String>)>,
}

impl Computed {
    /// Writes them under their names; where one cannot be written, those before it stay and are known.
    pub fn write(self) -> Ended {
        if let (Some((state, reason)), true) = (self.nothing, self.files.is_empty()) {
            return Ended { state, kind: None, reason, outputs: self.there };
        }
        let mut outputs = self.there;
        for Ready { what: (variant, target, replace), bytes, size: (width, height) } in self.files {
            if let Err(e) = write(&target, &bytes, replace) {
                return Ended { outputs, ..Ended::failed(Fault::writing(&target, &e)) };
            }
            let hash = content_hash(&bytes);
            outputs.push(Output {
                path: target,
                bytes: bytes.len() as u64,
                width,
                height,
                hash,
                made: true,
                variant: Some(variant),
                clip: None,
            });
        }
        Ended { state: State::Done, kind: None, reason: None, outputs }
    }
}

/// Makes the results of an opened source for the item's targets, and its pieces for the tasks in `wanted`, which join `of`
/// pictures; or says how it ended before anything was written.
pub fn execute(
    recipe: &Recipe,
    source: &FileSource,
    item: &Item,
    subject: &Subject,
    kept: Option<&Kept>,
    (wanted, of): (&[usize], usize),
) -> Result<Computed, Box<Ended>> {
    let all = variants(recipe);
    let stages = recipe.stages();
    // A picture that only joins others names the file it joins.
    let joins = all.is_empty() && !stages.is_empty();
    if !joins && (all.is_empty() || all.len() != item.targets.len()) {
        return Err(Ended::boxed(
            "recipe",
            "the recipe has no delivery, or others than when the run began".into(),
        ));
    }
    let shift = item.decided.shift;
    let before = state_of(&item.source);
    let (hash, done) = (content_hash(source.bytes()), done(recipe, source, subject));
    let mut there = Vec::new();
    let mut todo = Vec::new();
    for (variant, (one, (target, known))) in all.into_iter().zip(&item.targets).enumerate() {
        let made =
            Made { recipe: identity(recipe, &one, shift, subject), source: hash.clone(), done: done.clone() };
        match place(&one.delivery, item, target, known.as_ref(), &made) {
            Ok((target, replace)) => todo.push((variant, one, target, replace, made)),
            Err(ended) if ended.state == State::Skipped => {
                there.extend(ended.outputs.into_iter().map(|o| Output { variant: Some(variant), ..o }));
            }
            Err(ended) => return Err(ended),
        }
    }
    let stages: Vec<_> = stages.into_iter().filter(|(task, _)| wanted.contains(task)).collect();
    let nothing = match (todo.is_empty(), joins) {
        (false, _) => None,
        (true, false) => {
            Some((State::Skipped, Some("already made by this recipe from this picture".to_owned())))
        }
        (true, true) if stages.is_empty() => Some((
            State::Skipped,
            Some("not needed: what it would join is there, or leaves it out".to_owned()),
        )),
        (true, true) => Some((State::Done, None)),
    };
    if let (true, Some((state, reason))) = (stages.is_empty(), nothing.clone()) {
        return Err(Box::new(Ended { state, kind: None, reason, outputs: there }));
    }
    let failed = |reason| {
        let kind = if source.format() == Format::Raw { "unsupported" } else { "unreadable" };
        Ended::boxed(kind, reason)
    };
    let work = Work::new(recipe, source, subject, shift, kept).map_err(failed)?;
    let todo = todo.into_iter().map(|(v, one, target, replace, made)| (one, made, (v, target, replace)));
    let mut files = work.make_all(todo.collect()).map_err(failed)?;
    files.sort_by_key(|file| file.what.0);
    let place = (item.number.saturating_sub(1), of);
    let pieces: Result<Vec<_>, String> =
        stages.iter().map(|(task, stage)| Ok((*task, piece::piece(&work, *task, stage, place)?))).collect();
    let pieces = pieces.map_err(failed)?;
    if state_of(&item.source) != before || before.is_some_and(|b| b.0 != source.bytes().len() as u64) {
        let reason =
            "the original changed while it was read; nothing was written, try again when it is complete";
        return Err(Ended::boxed("changed", reason.into()));
    }
    Ok(Computed { files, there, pieces, nothing })
}

/// Writes under a temporary name in the same folder, flushes, then gives the file its name; without `replace`
/// a file that appeared meanwhile is left alone.
fn write(target: &Path, bytes: &[u8], replace: bool) -> std::io::Result<()> {
    let folder = target.parent().unwrap_or(Path::new("."));
    // Something else stands where the folder should be: as little the picture's fault as a folder that is closed.
    std::fs::create_dir_all(folder).map_err(|e| match e.kind() {
        ErrorKind::AlreadyExists => std::io::Error::new(ErrorKind::NotADirectory, e),
        _ => e,
    })?;
    let mut part = part_in(folder)?;
    part.write_all(bytes)?;
    part.as_file().sync_all()?;
    if replace { part.persist(target) } else { part.persist_noclobber(target) }.map_err(|e| e.error)?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_several_files_share_is_computed_once_and_no_larger_than_the_largest() {
        let (w, h) = (640, 400);
        let pixels = (0..w * h * 3).map(|i| (i * 7 % 251) as u8).collect();
        let picture = Encoded { size: Size::new(w, h), pixels: Pixels::U8(pixels) };
        let file = rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap();
        let source = FileSource::from_bytes(file).unwrap();
        let document = serde_json::json!({"format": "rallo-recipe", "version": 1, "name": "x",
            "steps": [{"step": "local_contrast"}], "deliveries": [
                {"kind": "pictures", "name": "{stem}", "format": "webp", "widths": "80, 160, 320"},
                {"kind": "pictures", "name": "{stem}", "format": "jpeg", "long_edge": 200},
                {"kind": "video", "size": "custom", "width": 192, "height": 192},
                {"kind": "pdf", "page": "picture", "resolution": 100}, {"kind": "contact", "cell": 100}]});
        let recipe = Recipe::from_value(&document).unwrap();
        let facts = source.facts(Path::new("a.png"));
        let about = crate::subject(Path::new("a.png"), Some(&facts), &crate::Decided::default(), 1);
        let kinds = variants(&recipe);
        assert_eq!(kinds.len(), 4);
        let before = SHARED.with(std::cell::Cell::get);
        let work = Work::new(&recipe, &source, &about, 0, None).unwrap();
        let sizes: Vec<_> = kinds.iter().map(|k| work.make(k, None).unwrap()).map(|f| (f.1, f.2)).collect();
        assert_eq!(sizes, [(80, 50), (160, 100), (320, 200), (200, 125)]);
        // What joins others comes from the same.
        let stages = recipe.stages();
        assert_eq!(stages.len(), 3);
        assert_eq!(work.picture(&stages[0].1, None).unwrap().0.size, Size::new(192, 192));
        for (task, stage) in &stages {
            piece::piece(&work, *task, stage, (0, 1)).unwrap();
        }
        assert_eq!(SHARED.with(std::cell::Cell::get) - before, 1);
        // A document on pages as large as its pictures wants them whole.
        assert_eq!(work.shared.as_ref().unwrap().picture.size(), Size::new(640, 400));
        let mut few = recipe.clone();
        few.deliveries.truncate(3);
        let work = Work::new(&few, &source, &about, 0, None).unwrap();
        assert_eq!(work.shared.as_ref().unwrap().picture.size(), Size::new(320, 200));
        // One file alone shares nothing.
        let mut alone = few.clone();
        alone.deliveries.truncate(2);
        alone.deliveries.remove(0);
        assert!(Work::new(&alone, &source, &about, 0, None).unwrap().shared.is_none());
    }

    #[test]
    fn files_with_the_same_pixels_are_rendered_once_and_are_what_each_is_alone() {
        let (w, h) = (300, 200);
        let pixels = (0..w * h * 3).map(|i| (i * 11 % 241) as u8).collect();
        let picture = Encoded { size: Size::new(w, h), pixels: Pixels::U8(pixels) };
        let source =
            FileSource::from_bytes(rallo_media::encode(&picture, Encoding::Png, &Extras::default()).unwrap())
                .unwrap();
        let one = |more: serde_json::Value| {
            let mut all = serde_json::json!({"kind": "pictures", "name": "{stem}"});
            all.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
            all
        };
        use serde_json::json;
        let document = json!({"format": "rallo-recipe", "version": 1, "name": "x", "steps": [{"step": "exposure", "stops": 0.3}],
            "deliveries": [
                one(json!({"format": "jpeg", "widths": "80, 160"})), one(json!({"format": "webp", "widths": "80, 160"})),
                one(json!({"format": "png", "widths": "80, 160", "quality": 3})),
                // These have other pixels each: bits, colours, sharpening, a size.
                one(json!({"format": "png", "bits": 16, "widths": "80"})), one(json!({"format": "png", "profile": "display-p3", "widths": "80"})),
                one(json!({"format": "jpeg", "sharpen": 40, "widths": "80"})), one(json!({"format": "jpeg", "long_edge": 90}))]});
        let recipe = Recipe::from_value(&document).unwrap();
        let facts = source.facts(Path::new("a.png"));
        let about = crate::subject(Path::new("a.png"), Some(&facts), &crate::Decided::default(), 1);
        let work = Work::new(&recipe, &source, &about, 0, None).unwrap();
        let mark = || Made { recipe: "12".into(), source: "34".into(), done: Vec::new() };
        let all: Vec<_> = variants(&recipe).into_iter().enumerate().map(|(i, v)| (v, mark(), i)).collect();
        let before = RENDERED.with(std::cell::Cell::get);
        let mut files = work.make_all(all).unwrap();
        assert_eq!(RENDERED.with(std::cell::Cell::get) - before, 2 + 4);
        files.sort_by_key(|f| f.what);
        assert_eq!(files.len(), 10);
        for (file, one) in files.iter().zip(variants(&recipe)) {
            let alone = work.make(&one, Some(mark())).unwrap();
            assert_eq!((&file.bytes, file.size), (&alone.0, (alone.1, alone.2)), "{one:?}");
        }
    }
}
