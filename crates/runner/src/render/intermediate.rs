//! The picture behind its denoising: what is so expensive that it is computed once, at full size, and is then the source of
//! everything that is made of it. Kept on the disk where that is worth its room, so that another value of a later line
//! does not denoise again.

use crate::preflight::output_paths::free_bytes;
use crate::schedule;
use rallo_engine::step::StepInfo;
use rallo_engine::steps::light::exposure;
use rallo_engine::{
    Orientation, Picture, Plan, PlanError, Pyramid, Rect, Samples, Settings, Size, Source, SourceError,
};
use rallo_media::{FileSource, content_hash};
use rallo_recipe::{Recipe, Subject};
use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant, SystemTime};

/// Largest picture that is kept like this, in pixels: 16 bytes each with its reductions.
pub const LARGEST: u64 = 60_000_000;

/// Rows computed before it is told how far it is: few enough to be told often, enough that what is needed around them weighs
/// little.
const BAND: i64 = 512;

/// The picture behind the first lines, as a source of its own.
pub struct Behind {
    pyramid: Pyramid,
    orientation: Orientation,
    seed: u64,
}

impl Source for Behind {
    fn size(&self) -> Size {
        self.pyramid.size()
    }
    fn max_level(&self) -> u8 {
        self.pyramid.max_level()
    }
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError> {
        self.pyramid.level(level)
    }
    fn orientation(&self) -> Orientation {
        self.orientation
    }
    fn seed(&self) -> u64 {
        self.seed
    }
}

/// How many of the first lines end in a step whose result is worth keeping. Only lines that leave pixels where they are
/// may stand before it and depend on nothing after it, so that the result depends on those lines alone.
pub fn lines(steps: &[&StepInfo]) -> Option<usize> {
    let last = steps.iter().position(|step| step.facts.expensive)?;
    let plain =
        |step: &&StepInfo| ["repair", "light", "colour"].contains(&step.group) && !step.facts.moves_pixels;
    steps[..=last].iter().all(plain).then_some(last + 1)
}

/// What is known of each step that applies to a picture; the exposure of one frame alone belongs to no line.
pub fn infos(recipe: &Recipe, placed: &[(Option<usize>, Settings)]) -> Vec<&'static StepInfo> {
    let info = |line: &Option<usize>| match line {
        Some(i) => recipe.steps[*i].kind().info,
        None => &exposure::INFO,
    };
    placed.iter().map(|(line, _)| info(line)).collect()
}

/// Share of a picture's time that its denoising takes.
const MOST: f64 = 0.95;

/// The picture behind the lines `first`; nothing where it cannot be computed, or is given up.
fn compute(first: Vec<Settings>, source: &dyn Source) -> Option<Behind> {
    let plan = Plan::for_picture(first, source).ok()?;
    let program = plan.program(1.0);
    let size = program.size();
    // It has begun.
    schedule::report(0.01);
    let mut values: Vec<f32> = Vec::with_capacity(size.area() as usize * 3);
    for y in (0..i64::from(size.height)).step_by(BAND as usize) {
        let band = Rect::new(0, y, i64::from(size.width), BAND.min(i64::from(size.height) - y));
        values.extend(program.render_values(source, band).ok()?.1);
        schedule::report(band.bottom() as f64 / f64::from(size.height) * MOST);
    }
    Some(Behind::of(Picture::of_working(size, values).ok()?, source))
}

impl Behind {
    fn of(picture: Picture, source: &dyn Source) -> Self {
        Self { pyramid: Pyramid::new(picture), orientation: source.orientation(), seed: source.seed() }
    }
}

/// What a recipe makes of a picture: its plan, and the source that is for.
pub struct Ready<'a> {
    /// The plan.
    pub plan: Plan,
    /// The picture behind its denoising, where there is one.
    behind: Option<Behind>,
    source: &'a FileSource,
}

impl Ready<'_> {
    /// What the plan is rendered from.
    pub fn source(&self) -> &dyn Source {
        match &self.behind {
            Some(behind) => behind,
            None => self.source,
        }
    }
}

/// Bytes that the picture behind its denoising takes in memory, with its reductions; 0 where there is none.
pub fn bytes(recipe: &Recipe, size: Size, subject: &Subject) -> u64 {
    let placed = recipe.placed(subject);
    let cut = lines(&infos(recipe, &placed)).filter(|_| size.area() <= LARGEST);
    cut.map_or(0, |_| size.area() * 16)
}

/// A recipe made ready for a picture, with what is done `after` its lines; the denoised picture is taken from `kept`,
/// and kept there, where that is given.
///
/// # Errors
/// [`PlanError`] where the picture would become too large or cannot be decoded.
pub fn ready<'a>(
    recipe: &Recipe,
    source: &'a FileSource,
    subject: &Subject,
    kept: Option<&Kept>,
    after: Vec<Settings>,
) -> Result<Ready<'a>, PlanError> {
    let placed = recipe.placed(subject);
    let cut = lines(&infos(recipe, &placed)).filter(|_| source.size().area() <= LARGEST);
    let mut settings: Vec<Settings> = placed.into_iter().map(|(_, s)| s).collect();
    settings.extend(after);
    let Some(cut) = cut else {
        return Ok(Ready { plan: Plan::for_picture(settings, source)?, behind: None, source });
    };
    let first: Vec<Settings> = settings.drain(..cut).collect();
    let key = || {
        let lines: Vec<_> = first.iter().map(|s| (s.step.values(), s.mix, &s.area, &s.block)).collect();
        let hash = content_hash(source.bytes());
        content_hash(format!("engine {}|{hash}|{lines:?}", rallo_engine::RESULTS).as_bytes())
    };
    let key = kept.map(|_| key());
    let known = kept.zip(key.as_ref()).and_then(|(kept, key)| kept.find(key));
    let behind = match known {
        Some(picture) if picture.size() == source.size() => Behind::of(picture, source),
        _ => {
            let start = Instant::now();
            let behind = compute(first, source)
                .ok_or_else(|| PlanError::Source("the picture cannot be decoded to its end".into()))?;
            if let (Some(kept), Some(key), Ok(picture)) = (kept, key, behind.level(0)) {
                kept.keep(&key, &picture, start.elapsed());
            }
            behind
        }
    };
    let plan = Plan::for_picture(settings, &behind)?;
    Ok(Ready { plan, behind: Some(behind), source })
}

/// Denoised pictures kept on the disk, up to a number of bytes.
#[derive(Debug)]
pub struct Kept {
    folder: PathBuf,
    limit: AtomicU64,
}

/// Bytes kept where nothing else is said.
pub const USUAL: u64 = 8_000_000_000;
/// What is not used for so long makes room for others.
const IDLE: Duration = Duration::from_secs(24 * 3600);
/// Room that stays on the disk.
const SPARE: u64 = 2_000_000_000;
/// Bytes a second that a disk surely writes and reads; what is not several times slower to compute is not kept.
const DISK: f64 = 150e6;
const WORTH: f64 = 3.0;
/// The file's first bytes, with the number of its shape.
const MAGIC: [u8; 8] = *b"RALLOKW1";

impl Kept {
    /// What is kept in a folder; nothing is read or made before it is used.
    pub fn new(folder: &Path) -> Self {
        Self { folder: folder.to_owned(), limit: AtomicU64::new(USUAL) }
    }

    /// Keeps at most so many bytes, from the next picture on.
    pub fn set_limit(&self, bytes: u64) {
        self.limit.store(bytes, Ordering::Relaxed);
        self.make_room(0, Duration::ZERO);
    }

    /// Most bytes kept.
    pub fn limit(&self) -> u64 {
        self.limit.load(Ordering::Relaxed)
    }

    /// Files with their bytes and when they were last used, those least lately used first.
    fn files(&self) -> Vec<(SystemTime, u64, PathBuf)> {
        let about = |e: std::fs::DirEntry| {
            let meta = e.metadata().ok()?;
            Some((meta.modified().ok()?, meta.len(), e.path()))
        };
        let mut all: Vec<_> =
            std::fs::read_dir(&self.folder).into_iter().flatten().flatten().filter_map(about).collect();
        all.sort();
        all
    }

    /// Pictures kept, and their bytes.
    pub fn held(&self) -> (usize, u64) {
        let files = self.files();
        (files.len(), files.iter().map(|f| f.1).sum())
    }

    /// Keeps nothing any more of what there is.
    pub fn empty(&self) {
        for (_, _, path) in self.files() {
            let _ = std::fs::remove_file(path);
        }
    }

    /// Removes what was not used for `idle`, the oldest first, until `bytes` more fit; whether they do.
    fn make_room(&self, bytes: u64, idle: Duration) -> bool {
        let files = self.files();
        let mut held: u64 = files.iter().map(|f| f.1).sum();
        for (used, size, path) in files {
            if held + bytes <= self.limit() {
                break;
            }
            let old = used.elapsed().is_ok_and(|t| t >= idle);
            if old && std::fs::remove_file(path).is_ok() {
                held -= size;
            }
        }
        held + bytes <= self.limit()
    }

    fn find(&self, key: &str) -> Option<Picture> {
        let path = self.folder.join(key);
        let picture = read(&path);
        if picture.is_some() {
            // When it was last used; a clock that cannot be set only lets it go earlier.
            let _ = File::options().write(true).open(&path).and_then(|f| f.set_modified(SystemTime::now()));
        } else if path.exists() {
            let _ = std::fs::remove_file(&path);
        }
        picture
    }

    /// Keeps a picture that took so long, where that is worth the room; what goes wrong costs nothing but time.
    fn keep(&self, key: &str, picture: &Picture, took: Duration) {
        let Samples::F32(values) = picture.samples() else { return };
        let bytes = values.len() as u64 * 4 + 64;
        let worth = took.as_secs_f64() >= WORTH * bytes as f64 / DISK;
        let free = || free_bytes(&self.folder).unwrap_or(0);
        if !worth || std::fs::create_dir_all(&self.folder).is_err() || free() < bytes + SPARE {
            return;
        }
        if self.make_room(bytes, IDLE)
            && let Err(e) = write(&self.folder, key, picture.size(), values)
        {
            tracing::warn!("a denoised picture was not kept: {e}");
        }
    }
}

fn write(folder: &Path, key: &str, size: Size, values: &[f32]) -> std::io::Result<()> {
    let mut part = crate::files::atomic_file::part_in(folder)?;
    let mut hash = 0u64;
    {
        let mut out = BufWriter::with_capacity(1 << 20, part.as_file_mut());
        out.write_all(&MAGIC)?;
        out.write_all(&size.width.to_le_bytes())?;
        out.write_all(&size.height.to_le_bytes())?;
        let mut bytes = Vec::with_capacity(4096 * 4);
        for chunk in values.chunks(4096) {
            bytes.clear();
            bytes.extend(chunk.iter().flat_map(|v| v.to_le_bytes()));
            hash = mixed(hash, &bytes);
            out.write_all(&bytes)?;
        }
        out.write_all(&hash.to_le_bytes())?;
        out.flush()?;
    }
    part.persist(folder.join(key)).map_err(|e| e.error)?;
    Ok(())
}

/// A sum that tells a file that was cut or spoilt by accident (multiply and rotate, eight bytes at a time).
fn mixed(mut hash: u64, bytes: &[u8]) -> u64 {
    for word in bytes.as_chunks::<4>().0 {
        hash =
            (hash ^ u64::from(u32::from_le_bytes(*word))).wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(29);
    }
    hash
}

fn read(path: &Path) -> Option<Picture> {
    let mut file = BufReader::with_capacity(1 << 20, File::open(path).ok()?);
    let mut head = [0u8; 16];
    file.read_exact(&mut head).ok()?;
    let side = |at: usize| Some(u32::from_le_bytes(head.get(at..at + 4)?.try_into().ok()?));
    let size = Size::new(side(8)?, side(12)?);
    if head[..8] != MAGIC || size.area() == 0 || size.area() > LARGEST {
        return None;
    }
    let count = size.area() as usize * 3;
    let mut values = Vec::with_capacity(count);
    let (mut hash, mut bytes) = (0u64, vec![0u8; 4096 * 4]);
    while values.len() < count {
        let part = &mut bytes[..4 * (count - values.len()).min(4096)];
        file.read_exact(part).ok()?;
        hash = mixed(hash, part);
        values.extend(part.as_chunks::<4>().0.iter().map(|b| f32::from_le_bytes(*b)));
    }
    let mut end = Vec::new();
    file.read_to_end(&mut end).ok()?;
    (end == hash.to_le_bytes()).then(|| Picture::of_working(size, values).ok())?
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_depends_on_nothing_behind_it_is_kept() {
        let info = |id: &str| rallo_engine::step_kind(id).unwrap().info;
        let cut = |ids: &[&str]| lines(&ids.iter().map(|id| info(id)).collect::<Vec<_>>());
        assert_eq!(cut(&["hot_pixels", "denoise", "crop"]), Some(2));
        assert_eq!(cut(&["crop", "denoise"]), None);
        assert_eq!(cut(&["lens", "denoise"]), None);
        assert_eq!(cut(&["exposure"]), None);
    }

    fn picture(n: u32) -> Picture {
        let values = (0..n * n * 3).map(|i| (i as f32 * 0.37).sin() * 2.0 - 0.5).collect();
        Picture::of_working(Size::new(n, n), values).unwrap()
    }

    fn samples(picture: &Picture) -> &[f32] {
        let Samples::F32(values) = picture.samples() else { panic!() };
        values
    }

    #[test]
    fn what_is_kept_comes_back_bit_for_bit_and_spoilt_files_do_not() {
        let folder = tempfile::tempdir().unwrap();
        let kept = Kept::new(&folder.path().join("kept"));
        assert!(kept.find("a").is_none());
        let one = picture(70);
        kept.keep("a", &one, Duration::ZERO);
        assert_eq!(kept.held().0, 0, "what is quick to compute is not kept");
        kept.keep("a", &one, Duration::from_secs(60));
        assert_eq!(samples(&kept.find("a").unwrap()), samples(&one));
        let file = folder.path().join("kept/a");
        let whole = std::fs::read(&file).unwrap();
        let mut bent = whole.clone();
        bent[5000] ^= 1;
        for spoilt in [&whole[..whole.len() - 3], &whole[..10], &bent, &[whole.clone(), vec![0]].concat()] {
            std::fs::write(&file, spoilt).unwrap();
            assert!(kept.find("a").is_none());
            assert!(!file.exists(), "what cannot be used makes room");
        }
    }

    #[test]
    fn no_more_is_kept_than_may_be_and_what_is_in_use_stays() {
        let folder = tempfile::tempdir().unwrap();
        let kept = Kept::new(folder.path());
        let long = Duration::from_secs(60);
        let each = 70 * 70 * 3 * 4 + 64;
        kept.set_limit(2 * each);
        for key in ["a", "b", "c"] {
            kept.keep(key, &picture(70), long);
        }
        // The third would push out what was used a moment ago.
        assert!(kept.find("a").is_some() && kept.find("b").is_some() && kept.find("c").is_none());
        let ago = SystemTime::now() - 2 * IDLE;
        File::options().write(true).open(folder.path().join("a")).unwrap().set_modified(ago).unwrap();
        kept.keep("c", &picture(70), long);
        assert!(kept.find("a").is_none() && kept.find("b").is_some() && kept.find("c").is_some());
        kept.set_limit(each);
        assert_eq!(kept.held().0, 1);
        kept.empty();
        assert_eq!(kept.held(), (0, 0));
    }
}
