//! The picture behind its denoising: what is so expensive that it is computed once, at full size, and is then the source of
//! everything that is made of it. IntermediateCache on the disk where that is worth its room, so that another value of a later line
//! does not denoise again.

use crate::render::disk_cache::{IntermediateCache, LARGEST};
use crate::schedule;
use rallo_engine::step::StepInfo;
use rallo_engine::steps::light::exposure;
use rallo_engine::{
    Orientation, Picture, Plan, PlanError, Pyramid, Rect, Settings, Size, Source, SourceError,
};
use rallo_media::{FileSource, content_hash};
use rallo_recipe::{Recipe, Subject};
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

/// What a recipe makes of a picture: its plan, and the source that is for.
pub struct Ready<'a> {
    /// The plan.
    pub plan: Plan,
    /// The picture behind its denoising, where there is one.
    behind: Option<Intermediate>,
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
    kept: Option<&IntermediateCache>,
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
        Some(picture) if picture.size() == source.size() => Intermediate::of(picture, source),
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
