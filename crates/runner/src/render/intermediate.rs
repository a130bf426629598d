//! Results of a recipe's first lines: what is so expensive that it is computed once, at full size, and is then the source
//! of everything that is made of it; kept on the disk where that is worth its room, so that another value of a later line
//! does not denoise again.

use crate::render::disk_cache::{IntermediateCache, LARGEST};
use crate::render::joined_frames::{JoinedFrames, Joins};
use crate::render::sequence::RunSequence;
use crate::schedule;
use rallo_engine::plan::fingerprint;
use rallo_engine::step::StepInfo;
use rallo_engine::steps::light::exposure;
use rallo_engine::{
    Orientation, Picture, Plan, PlanError, Pyramid, Rect, Settings, Size, Source, SourceError,
};
use rallo_media::{FileSource, content_hash};
use rallo_recipe::{Recipe, ResolveContext};
use std::sync::Arc;
use std::time::Instant;

/// Rows computed before it is told how far it is: few enough to be told often, enough that what is needed around them weighs
/// little.
const BAND: i64 = 512;

/// The picture behind the first lines, as a source of its own.
pub struct Intermediate {
    pyramid: Pyramid,
    orientation: Orientation,
    seed: u64,
}

impl Source for Intermediate {
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
fn compute(first: Vec<Settings>, source: &dyn Source) -> Option<Intermediate> {
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
    Some(Intermediate::of(Picture::of_working(size, values).ok()?, source))
}

impl Intermediate {
    fn of(picture: Picture, source: &dyn Source) -> Self {
        Self { pyramid: Pyramid::new(picture), orientation: source.orientation(), seed: source.seed() }
    }
}

/// What the first lines of a recipe made.
enum First<'a> {
    /// There are none, or none whose result is worth keeping.
    Nothing,
    /// A result that is kept.
    Kept(Intermediate),
    /// The picture joined with its neighbours.
    Joined(JoinedFrames<'a>),
}

/// What a recipe makes of a picture: its plan, and the source that is for.
pub struct Ready<'a> {
    /// The plan.
    pub plan: Plan,
    first: First<'a>,
    source: &'a FileSource,
}

impl Ready<'_> {
    /// What the plan is rendered from.
    pub fn source(&self) -> &dyn Source {
        match &self.first {
            First::Nothing => self.source,
            First::Kept(first) => first,
            First::Joined(joined) => joined,
        }
    }

    /// The same for frames of a clip: see [`Plan::reducing_sooner`].
    pub fn reducing_sooner(mut self) -> Self {
        self.plan = self.plan.reducing_sooner();
        if let First::Joined(joined) = self.first {
            self.first = First::Joined(joined.reducing_sooner());
        }
        self
    }

    /// The same for pictures that are joined and reduced again: see [`Plan::reducing_early`].
    pub(super) fn reducing_early(mut self) -> Self {
        self = self.reducing_sooner();
        self.plan = self.plan.reducing_early();
        self
    }

    /// How much of each pixel of the plan's result is covered, by how much of the original's is.
    pub fn coverage(&self, of_source: &Pyramid) -> Result<Vec<u16>, PlanError> {
        let failed = |e: SourceError| PlanError::Source(e.to_string());
        let through = |plan: &Plan, coverage: &Pyramid| {
            let program = plan.program(1.0);
            let size = program.size();
            program.coverage(coverage, size.rect()).map(|values| (size, values)).map_err(failed)
        };
        let First::Joined(joined) = &self.first else { return Ok(through(&self.plan, of_source)?.1) };
        let own = joined.own().coverage(of_source)?;
        let picture = Picture::of_coverage(joined.size(), &own, Orientation::UPRIGHT);
        let picture = picture.map_err(|e| PlanError::Source(e.to_string()))?;
        Ok(through(&self.plan, &Pyramid::new(picture))?.1)
    }
}

/// Bytes that results of first lines take in memory, with their reductions; 0 where there are none.
pub fn bytes(recipe: &Recipe, size: Size, context: &ResolveContext) -> u64 {
    let placed = recipe.placed(context);
    let each = size.area() * 16;
    if placed.iter().any(|(_, settings)| Joins::of(&*settings.step).is_some()) {
        // What is joined so far, the frame that is added, and the file that one is made of.
        return 3 * each;
    }
    let cut = lines(&infos(recipe, &placed)).filter(|_| size.area() <= LARGEST);
    cut.map_or(0, |_| each)
}

/// The result of the lines `first` of a picture, taken from `kept` and kept there, where that is given.
fn result_of(
    recipe: &Recipe,
    first: Vec<Settings>,
    source: &FileSource,
    kept: Option<&IntermediateCache>,
) -> Result<Intermediate, PlanError> {
    let key = || {
        let (hash, lines) = (content_hash(source.bytes()), fingerprint(&first));
        let decode = recipe.decode.fingerprint() + if source.is_cut_out() { "|cut out" } else { "" };
        content_hash(format!("engine {}|{hash}{decode}|{lines}", rallo_engine::RESULTS).as_bytes())
    };
    let key = kept.map(|_| key());
    let known = kept.zip(key.as_ref()).and_then(|(kept, key)| kept.find(key));
    let size = Plan::new(first.clone(), source.size())?.size();
    if let Some(picture) = known.filter(|picture| picture.size() == size) {
        return Ok(Intermediate::of(picture, source));
    }
    let start = Instant::now();
    let result = compute(first, source)
        .ok_or_else(|| PlanError::Source("the picture cannot be decoded to its end".into()))?;
    if let (Some(kept), Some(key), Ok(picture)) = (kept, key, result.level(0)) {
        kept.keep(&key, &picture, start.elapsed());
    }
    Ok(result)
}

/// A recipe made ready for a picture, with what is done `after` its lines; results of first lines are taken from `kept`,
/// and kept there, where that is given. `sequence` has the pictures that may be joined with it.
///
/// # Errors
/// [`PlanError`] where the picture would become too large or cannot be decoded.
pub fn ready<'a>(
    recipe: &'a Recipe,
    (source, context, sequence): (&'a FileSource, &'a ResolveContext, &'a RunSequence),
    kept: Option<&'a IntermediateCache>,
    after: Vec<Settings>,
) -> Result<Ready<'a>, PlanError> {
    ready_until(recipe, None, (source, context, sequence), kept, after)
}

/// How far lines go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Until {
    /// To the one before this.
    Before(usize),
    /// Through this one, which moves pictures and takes nothing from others here.
    Through(usize),
}

/// As [`ready`], of the lines `until` one alone, where that is given.
pub(super) fn ready_until<'a>(
    recipe: &'a Recipe,
    until: Option<Until>,
    (source, context, sequence): (&'a FileSource, &'a ResolveContext, &'a RunSequence),
    kept: Option<&'a IntermediateCache>,
    after: Vec<Settings>,
) -> Result<Ready<'a>, PlanError> {
    let placed = recipe.placed(context).into_iter();
    let is_in = |line: &Option<usize>| match (until, *line) {
        (Some(Until::Before(until)), Some(line)) => line < until,
        (Some(Until::Through(last)), Some(line)) => line <= last,
        _ => true,
    };
    let placed: Vec<(Option<usize>, Settings)> = placed.filter(|(line, _)| is_in(line)).collect();
    let joins = |line: usize, settings: &Settings| {
        (until != Some(Until::Through(line))).then(|| Joins::of(&*settings.step)).flatten()
    };
    // The last line that joins frames takes what the others made of them.
    let join = placed
        .iter()
        .enumerate()
        .rev()
        .find_map(|(at, (line, settings))| Some((at, (*line)?, joins((*line)?, settings)?)));
    let cut = lines(&infos(recipe, &placed)).filter(|_| source.size().area() <= LARGEST);
    if let Some((at, line, join)) = join {
        let joined = JoinedFrames::new((recipe, line, join), (source, context, sequence), kept)?;
        let mut settings: Vec<Settings> = placed.into_iter().skip(at + 1).map(|(_, s)| s).collect();
        settings.extend(after);
        let plan = Plan::for_picture(settings, &joined)?;
        return Ok(Ready { plan, first: First::Joined(joined), source });
    }
    let mut settings: Vec<Settings> = placed.into_iter().map(|(_, s)| s).collect();
    settings.extend(after);
    let first = match cut {
        Some(cut) => First::Kept(result_of(recipe, settings.drain(..cut).collect(), source, kept)?),
        None => First::Nothing,
    };
    let plan = match &first {
        First::Kept(first) => Plan::for_picture(settings, first)?,
        _ => Plan::for_picture(settings, source)?,
    };
    Ok(Ready { plan, first, source })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::render::disk_cache::IDLE;
    use rallo_engine::Samples;
    use std::fs::File;
    use std::time::{Duration, SystemTime};

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
        let kept = IntermediateCache::new(&folder.path().join("kept"));
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
        let kept = IntermediateCache::new(folder.path());
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
