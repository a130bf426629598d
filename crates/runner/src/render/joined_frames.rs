//! A picture joined with its neighbours in the run, as a source for the lines behind that: each of them as the lines before make
//! it, or those with the line that moves it, at the size the lines behind ask for.
//!
//! The mean of frames, reduced, is the mean of reduced frames; so frames are made no larger than they are needed. What was made
//! of a frame is held for the frames beside it, within a bound, so that in a run each frame is made about once, however many
//! windows it is in.

use crate::lock::lock;
use crate::render::disk_cache::IntermediateCache;
use crate::render::intermediate::{Ready, Until, ready_until};
use crate::render::memory_budget::default_memory;
use crate::render::sequence::{Neighbour, RunSequence};
use rallo_engine::ops::warp::Warp;
use rallo_engine::sequence::edges::{Covered, Filling};
use rallo_engine::sequence::joining::{Joining, mean_of};
use rallo_engine::step::{Join, JoinBy, Joined, Step};
use rallo_engine::{Orientation, Picture, PlanError, Pyramid, Size, Source, SourceError};
use rallo_media::FileSource;
use rallo_recipe::{Recipe, ResolveContext};
use std::collections::HashSet;
use std::sync::{Arc, Mutex, OnceLock};

/// How a line takes the pictures around into each.
#[derive(Clone, Debug, PartialEq)]
pub enum Joins {
    /// As they come to the line, by their weights.
    Weighed(Join),
    /// As they are behind the line, which moves them, for what lies beyond the edges; so many to each side.
    Edges(usize),
}

impl Joins {
    /// The lines that make what is joined, where the line `line` joins it.
    fn until(&self, line: usize) -> Until {
        if matches!(self, Self::Edges(_)) { Until::Through(line) } else { Until::Before(line) }
    }

    /// How many lines that are.
    pub(super) fn lines(&self, line: usize) -> usize {
        line + usize::from(matches!(self, Self::Edges(_)))
    }

    /// Of a step that does.
    pub fn of(step: &dyn Step) -> Option<Self> {
        step.joins().map(Self::Weighed).or_else(|| step.fills_edges().map(Self::Edges))
    }
}

/// A frame as some lines made it.
type Made = Arc<MadeFrame>;

/// Its values, and where it shows something of its own.
#[derive(Debug)]
struct MadeFrame {
    size: Size,
    values: Vec<f32>,
    covered: Covered,
}

/// What a frame was made for; the lines before are the same for all that share a [`MadeFrames`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
struct Key {
    /// Its place in the run, from 0.
    place: usize,
    /// The line that joins it.
    line: usize,
    level: u8,
    reduces_sooner: bool,
    /// Without the colour behind what is transparent.
    is_cut_out: bool,
}

impl MadeFrame {
    fn bytes(&self) -> usize {
        let shares = if let Covered::Shares(shares) = &self.covered { shares.len() } else { 0 };
        (self.values.len() + shares) * 4
    }
}

/// Frames that were made to be joined, and those that are being made.
#[derive(Default)]
struct Held {
    frames: Vec<(Key, Made)>,
    bytes: usize,
    in_work: HashSet<Key>,
}

/// Frames of one stage of a run that were made to be joined; if nothing else is said, with room for a quarter of the memory that is
/// free when the first is held, and at least [`LEAST`].
#[derive(Default)]
pub struct MadeFrames {
    held: Mutex<Held>,
    /// Bytes that are held at most, known once something is held; frames of a window that takes more are made again for each picture.
    most: OnceLock<usize>,
}

impl std::fmt::Debug for MadeFrames {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("MadeFrames").field(&lock(&self.held).bytes).finish()
    }
}

/// Bytes that a run may hold on any machine.
const LEAST: u64 = 1_500_000_000;

impl MadeFrames {
    /// Room for so many bytes.
    pub fn holding(most: usize) -> Self {
        Self { held: Mutex::default(), most: most.into() }
    }

    fn find(&self, key: Key) -> Option<Made> {
        let held = lock(&self.held);
        held.frames.iter().find(|(known, _)| *known == key).map(|(_, made)| made.clone())
    }

    /// Whether somebody makes it just now; if not, whoever asks does.
    fn is_in_work(&self, key: Key) -> bool {
        !lock(&self.held).in_work.insert(key)
    }

    /// Holds a frame. Those go that lie farther than `reach` from the picture `near` that is being made, since nobody asks for them
    /// again; and where there is more than there is room for, the farthest, so that of a window larger than the room most stay.
    fn keep(&self, key: Key, made: &Made, near: usize, reach: usize) {
        let most = *self.most.get_or_init(|| (default_memory() / 2).max(LEAST) as usize);
        let mut held = lock(&self.held);
        held.in_work.remove(&key);
        if held.frames.iter().any(|(known, _)| *known == key) {
            return;
        }
        held.bytes += made.bytes();
        held.frames.push((key, made.clone()));
        let mut gone = 0;
        held.frames.retain(|(key, made)| {
            let stays = key.place.abs_diff(near) <= reach;
            gone += if stays { 0 } else { made.bytes() };
            stays
        });
        held.bytes -= gone;
        while held.bytes > most && held.frames.len() > 1 {
            let far = held.frames.iter().enumerate().max_by_key(|(_, (key, _))| key.place.abs_diff(near));
            let Some((at, _)) = far else { break };
            let (_, farthest) = held.frames.swap_remove(at);
            held.bytes -= farthest.bytes();
        }
    }

    fn given_up(&self, key: Key) {
        lock(&self.held).in_work.remove(&key);
    }
}

/// Pictures that are in work at a time lie so near to each other, beside as many as there are threads.
const BESIDE: usize = 4;

/// How far from a picture all lines of a recipe together look.
pub(super) fn reach_of(recipe: &Recipe, context: &ResolveContext) -> usize {
    let reach = |joins: Joins| match joins {
        Joins::Weighed(join) => {
            join.pictures.iter().map(|joined| joined.offset.unsigned_abs() as usize).max().unwrap_or(0)
        }
        Joins::Edges(reach) => reach,
    };
    let placed = recipe.placed(context);
    placed.iter().filter_map(|(_, settings)| Joins::of(&*settings.step)).map(reach).sum()
}

/// A picture and its neighbours, joined.
pub struct JoinedFrames<'a> {
    recipe: &'a Recipe,
    /// The line that joins them.
    line: usize,
    joins: Joins,
    source: &'a FileSource,
    context: &'a ResolveContext,
    sequence: &'a RunSequence,
    kept: Option<&'a IntermediateCache>,
    /// Whether frames may be made reduced sooner, as for a clip.
    reduces_sooner: bool,
    /// How far from a picture frames are needed for it or for those in work beside it.
    reach: usize,
    /// What the lines before make of the picture itself.
    own: Box<Ready<'a>>,
    levels: [OnceLock<Arc<Picture>>; Pyramid::LEVELS as usize + 1],
}

/// What a picture made ready becomes at a level; `moved` is where the line that joins it took it from.
fn rendered(ready: &Ready, moved: Option<&Warp>, level: u8) -> Result<Made, SourceError> {
    let program = ready.plan.program(0.5f64.powi(i32::from(level)));
    let (size, values) = program.render_values(ready.source(), program.size().rect())?;
    let (whole, side) = (ready.plan.size(), |v: u32| v.div_ceil(1 << level));
    let (size, values) = fitted(size, values, Size::new(side(whole.width), side(whole.height)));
    let covered = Covered::of(moved, whole, level, size);
    Ok(Arc::new(MadeFrame { size, values, covered }))
}

/// A picture as large as a level is to be, which is a pixel more where its sides were rounded down.
fn fitted(size: Size, values: Vec<f32>, to: Size) -> (Size, Vec<f32>) {
    if size == to {
        return (size, values);
    }
    let pixels = values.as_chunks::<3>().0;
    let at = |x: u32, y: u32| {
        let (x, y) = (x.min(size.width - 1), y.min(size.height - 1));
        pixels[y as usize * size.width as usize + x as usize]
    };
    let fitted = (0..to.height).flat_map(|y| (0..to.width).flat_map(move |x| at(x, y))).collect();
    (to, fitted)
}

impl<'a> JoinedFrames<'a> {
    /// The picture of a context with the neighbours that the line `line` of a recipe joins with it.
    ///
    /// # Errors
    /// [`PlanError`] where the lines before cannot be made ready for it.
    pub fn new(
        (recipe, line, joins): (&'a Recipe, usize, Joins),
        (source, context, sequence): (&'a FileSource, &'a ResolveContext, &'a RunSequence),
        kept: Option<&'a IntermediateCache>,
    ) -> Result<Self, PlanError> {
        let of = (source, context, sequence);
        let own = Box::new(ready_until(recipe, Some(joins.until(line)), of, kept, Vec::new())?);
        let levels = std::array::from_fn(|_| OnceLock::new());
        // Pictures that are looked at come in any order.
        let reach = if sequence.is_rough {
            usize::MAX
        } else {
            reach_of(recipe, context) + rayon::current_num_threads() + BESIDE
        };
        let reduces_sooner = false;
        Ok(Self { recipe, line, joins, source, context, sequence, kept, reduces_sooner, reach, own, levels })
    }

    /// The same for frames of a clip: see [`Ready::reducing_sooner`].
    pub fn reducing_sooner(mut self) -> Self {
        self.reduces_sooner = true;
        self.own = Box::new(self.own.reducing_early());
        self
    }

    /// What the lines before make of the picture itself.
    pub fn own(&self) -> &Ready<'a> {
        &self.own
    }

    /// What the lines before make of another picture, at a level.
    fn make(&self, source: &FileSource, context: &ResolveContext, level: u8) -> Result<Made, SourceError> {
        let of = (source, context, self.sequence);
        let ready = ready_until(self.recipe, Some(self.joins.until(self.line)), of, self.kept, Vec::new());
        let ready = ready.map_err(|e| SourceError(e.to_string()))?;
        let ready = if self.reduces_sooner { ready.reducing_early() } else { ready };
        rendered(&ready, self.moved(context).as_ref(), level)
    }

    /// Where the line took a picture from that it moves.
    fn moved(&self, context: &ResolveContext) -> Option<Warp> {
        if !matches!(self.joins, Joins::Edges(_)) {
            return None;
        }
        let placed = self.recipe.placed(context);
        let (_, settings) = placed.into_iter().find(|(line, _)| *line == Some(self.line))?;
        Some(settings.step.geometry(self.own.plan.size())?.map)
    }

    /// The same for another picture of the run.
    fn make_neighbour(&self, place: usize, level: u8) -> Result<Made, SourceError> {
        let neighbour = self.sequence.frame(self.recipe, place).map_err(|fault| SourceError(fault.reason))?;
        let Some(Neighbour { source, context }) = neighbour else {
            return Err(SourceError(format!("there is no picture {} in the run", place + 1)));
        };
        match self.source.is_cut_out() {
            false => self.make(&source, &context, level),
            true => match source.cut_out().map_err(|e| SourceError(e.to_string()))? {
                Some(cut_out) => self.make(&cut_out.colours, &context, level),
                None => self.make(&source, &context, level),
            },
        }
    }

    /// The picture so far before or after this one at a level, held or made; nothing beyond the ends, for one that cannot be
    /// read, and, unless it `must` be, for one that another thread is making.
    fn beside(&self, offset: i64, level: u8, must: bool) -> Result<Option<Made>, SourceError> {
        let at = self.context.sequence.number.saturating_sub(1);
        let place = isize::try_from(offset).ok().and_then(|offset| at.checked_add_signed(offset));
        let Some(place) = place.filter(|place| *place < self.sequence.count || offset == 0) else {
            return Ok(None);
        };
        let (line, reduces_sooner, is_cut_out) = (self.line, self.reduces_sooner, self.source.is_cut_out());
        let key = Key { place, line, level, reduces_sooner, is_cut_out };
        if let Some(found) = self.sequence.made.find(key) {
            return Ok(Some(found));
        }
        if self.sequence.made.is_in_work(key) && !must {
            return Ok(None);
        }
        let new = if offset == 0 {
            rendered(&self.own, self.moved(self.context).as_ref(), level)
        } else {
            self.make_neighbour(place, level)
        };
        match new.inspect_err(|_| self.sequence.made.given_up(key)) {
            Ok(new) => {
                self.sequence.made.keep(key, &new, at, self.reach);
                Ok(Some(new))
            }
            Err(e) if offset == 0 => Err(e),
            // One that cannot be read fails by itself, in its own turn.
            Err(_) => Ok(None),
        }
    }

    /// The pictures that are joined at a level, in the order of the join: those that nobody makes yet first.
    fn made(&self, join: &Join, level: u8) -> Result<Vec<(Made, f32)>, SourceError> {
        let mut made: Vec<Option<(Made, f32)>> = vec![None; join.pictures.len()];
        // Twice: what another thread was making the first time is mostly there the second time. Nobody waits for it, since
        // whoever waits may be keeping it from being made.
        for is_last in [false, true] {
            for (made, Joined { offset, weight }) in made.iter_mut().zip(&join.pictures) {
                if made.is_none() {
                    *made = self.beside(*offset, level, is_last)?.map(|found| (found, *weight));
                }
            }
        }
        Ok(made.into_iter().flatten().collect())
    }

    fn joined(&self, join: &Join, level: u8) -> Result<(Size, Vec<f32>), SourceError> {
        let made = self.made(join, level)?;
        let size = made.first().ok_or_else(|| SourceError("there is no frame to join".into()))?.0.size;
        // One of another size belongs to something else.
        let fits = made.iter().filter(|(frame, _)| frame.size == size);
        let frames: Vec<(&[f32], f32)> = fits.map(|(frame, weight)| (&frame.values[..], *weight)).collect();
        if join.by == JoinBy::Mean {
            return Ok((size, mean_of(&frames)));
        }
        let (first, weight) = frames[0];
        let mut joining = Joining::begin(join.by, size, first.to_vec(), weight);
        for (values, weight) in &frames[1..] {
            joining.add(values, *weight);
        }
        Ok((size, joining.end()))
    }

    /// What lies beyond the picture's edges from those around, the nearest first, and no more of them than it takes.
    fn filled(&self, reach: usize, level: u8) -> Result<(Size, Vec<f32>), SourceError> {
        let own = self.beside(0, level, true)?;
        let own = own.ok_or_else(|| SourceError("there is no frame to fill".into()))?;
        if own.covered == Covered::All {
            return Ok((own.size, own.values.clone()));
        }
        let mut filling = Filling::begin(own.values.clone(), own.covered.clone());
        for offset in (1..=reach as i64).flat_map(|far| [-far, far]) {
            if filling.is_full() {
                break;
            }
            let other = self.beside(offset, level, true)?.filter(|other| other.size == own.size);
            if let Some(other) = other {
                filling.add(&other.values, &other.covered);
            }
        }
        Ok((own.size, filling.end()))
    }
}

impl Source for JoinedFrames<'_> {
    fn size(&self) -> Size {
        self.own.plan.size()
    }
    fn max_level(&self) -> u8 {
        if self.sequence.is_rough {
            return Pyramid::LEVELS;
        }
        // Only where pixels of the level cover whole numbers of pixels do frames lie on each other exactly.
        let size = self.size();
        let even = size.width.trailing_zeros().min(size.height.trailing_zeros());
        even.min(u32::from(Pyramid::LEVELS)) as u8
    }
    fn level(&self, level: u8) -> Result<Arc<Picture>, SourceError> {
        let level = level.min(self.max_level());
        let slot = &self.levels[usize::from(level)];
        if let Some(known) = slot.get() {
            return Ok(known.clone());
        }
        let (size, values) = match &self.joins {
            Joins::Weighed(join) => self.joined(join, level),
            Joins::Edges(reach) => self.filled(*reach, level),
        }?;
        let picture = Picture::of_working(size, values).map_err(|e| SourceError(e.to_string()))?;
        Ok(slot.get_or_init(|| Arc::new(picture)).clone())
    }
    fn orientation(&self) -> Orientation {
        self.source.orientation()
    }
    fn seed(&self) -> u64 {
        self.source.seed()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_a_window_larger_than_the_room_most_stay() {
        let frame = || {
            let size = Size::new(10, 10);
            Arc::new(MadeFrame { size, values: vec![0.5; 300], covered: Covered::All })
        };
        let key = |place| Key { place, line: 1, level: 0, reduces_sooner: false, is_cut_out: false };
        // Room for eight frames; each picture joins ten.
        let made = MadeFrames::holding(8 * frame().bytes());
        let mut new = 0;
        for near in 5..45usize {
            for place in near - 5..near + 5 {
                if made.find(key(place)).is_none() {
                    new += 1;
                    made.keep(key(place), &frame(), near, usize::MAX);
                }
            }
        }
        // The first picture needs all ten; each other one but the one that is new to it and those there was no room for.
        assert!(new <= 10 + 39 * 5, "{new} frames were made for 40 pictures");
        assert!(lock(&made.held).bytes <= 8 * frame().bytes());
        // What nobody asks for again goes though there is room.
        made.keep(key(60), &frame(), 60, 6);
        assert_eq!(lock(&made.held).frames.len(), 1);
        assert_eq!(lock(&made.held).bytes, frame().bytes());
    }
}
