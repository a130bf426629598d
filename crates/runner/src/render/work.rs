//! One result: read, render, write. Originals are opened read-only; a result appears under its name only when
//! it is complete.

use crate::render::disk_cache::IntermediateCache;
use crate::render::fault::Fault;
use crate::render::intermediate;
use crate::render::sequence::RunSequence;
use crate::render::variant::{Variant, encoding, framed, variants};
use rallo_engine::plan::{fingerprint, shaped};
use rallo_engine::raw::Linear;
use rallo_engine::steps::output::data::{self, Data};
use rallo_engine::{
    Encoded, Orientation, OutputColour, OutputProfile, Picture, Pixels, Plan, PlanError, Pyramid, Settings,
    Size, Source, StepInfo,
};
use rallo_job::FailureKind;
use rallo_media::metadata::exif::{self, Carry};
use rallo_media::{CutOut, DescriptiveFields, Extras, FileSource, Format, LinearDng, Made};
use rallo_recipe::{Pictures, Recipe, ResolveContext};
use rayon::prelude::*;
use std::sync::{Arc, OnceLock};

/// A picture on its way to one or several files: what all of them share is done once.
pub struct Work<'a> {
    /// What is done.
    pub recipe: &'a Recipe,
    pub(super) source: &'a FileSource,
    /// The picture.
    pub context: &'a ResolveContext,
    pub(super) shift: i64,
    pub(super) kept: Option<&'a IntermediateCache>,
    sequence: &'a RunSequence,
    /// What all of them are made from.
    shared: Option<Arc<Lines>>,
    /// The picture apart from its coverage, where it is transparent in parts.
    cut_out: OnceLock<Option<CutOut>>,
}

/// What is encoded.
struct FilePixels {
    picture: Encoded,
    colours: Arc<OutputColour>,
    /// How much of each pixel is covered, where that is kept.
    coverage: Option<Vec<u16>>,
}

/// What the recipe's lines made of a picture, as large as the largest file needs it; with the colours the recipe names.
pub(crate) struct Lines {
    pub(crate) picture: Pyramid,
    said: Option<Arc<OutputColour>>,
}

impl Lines {
    /// Of working values that were joined from the lines of several pictures, in the colours these name.
    pub fn joined(picture: Picture, said: Option<Arc<OutputColour>>) -> Self {
        Self { picture: Pyramid::new(picture), said }
    }

    /// The colours the recipe names.
    pub fn said(&self) -> Option<Arc<OutputColour>> {
        self.said.clone()
    }

    /// Bytes it takes.
    pub fn bytes(&self) -> usize {
        self.picture.size().area() as usize * 16
    }

    /// The pixels of one file, as they are encoded, with their colours.
    pub fn picture(
        &self,
        recipe: &Recipe,
        context: &ResolveContext,
        delivery: &Pictures,
        width: Option<u32>,
    ) -> Result<(Encoded, Arc<OutputColour>), Fault> {
        let after = recipe.after(delivery, width, context);
        let plan = Plan::for_picture(after, &self.picture)?;
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
) -> Result<Encoded, Fault> {
    let program = plan.program(1.0);
    let whole = program.size().rect();
    let picture = if delivery.is_float() {
        program.render_32(source, whole, colours)
    } else if delivery.is_wide() {
        program.render_16(source, whole, colours)
    } else {
        program.render(source, whole, colours)
    }?;
    Ok(match &delivery.frame {
        Some(frame) => framed(picture, frame),
        None => picture,
    })
}

/// Long edge of the preview beside a raw.
const PREVIEW: u32 = 1024;

/// An upright picture turned back to how it is stored.
fn laid_as_stored(upright: Encoded, orientation: Orientation) -> Encoded {
    let Pixels::U8(pixels) = &upright.pixels else { return upright };
    let stored = orientation.upright(upright.size);
    let mut out = vec![0; pixels.len()];
    let width = upright.size.width as usize;
    for (i, pixel) in pixels.as_chunks::<3>().0.iter().enumerate() {
        let (x, y) = orientation.stored(i % width, i / width, stored);
        let at = (y * stored.width as usize + x) * 3;
        out[at..at + 3].copy_from_slice(pixel);
    }
    Encoded { size: stored, pixels: Pixels::U8(out) }
}

impl<'a> Work<'a> {
    /// A picture for the files of a recipe. What they share depends on all of them, whichever are made: a file that is
    /// made again alone is what it was.
    ///
    /// # Errors
    /// [`Fault`], which says why.
    pub fn new(
        recipe: &'a Recipe,
        source: &'a FileSource,
        context: &'a ResolveContext,
        shift: i64,
        kept: Option<&'a IntermediateCache>,
        sequence: &'a RunSequence,
    ) -> Result<Self, Fault> {
        let copies = recipe.stages().is_empty() && variants(recipe).iter().all(|v| v.delivery.is_carried());
        if source.is_preview() && !copies {
            return Err(Fault::new(
                FailureKind::Unsupported,
                "this camera raw is only shown by its preview and cannot be run; the frame's note says why",
            ));
        }
        let mut work =
            Self { recipe, source, context, shift, kept, sequence, shared: None, cut_out: OnceLock::new() };
        let stages = recipe.stages().into_iter().map(|(at, delivery)| Variant { at, delivery, width: None });
        let files = variants(recipe).into_iter().filter(|v| !v.delivery.is_carried());
        let variants: Vec<Variant> = files.chain(stages).collect();
        if variants.len() > 1 {
            work.shared = Some(Arc::new(work.share(&variants)?));
        }
        Ok(work)
    }

    fn ready(&self, after: Vec<Settings>) -> Result<intermediate::Ready<'_>, PlanError> {
        let of = (self.source, self.context, self.sequence);
        intermediate::ready(self.recipe, of, self.kept, after)
    }

    /// The recipe's lines, once for all.
    fn share(&self, variants: &[Variant]) -> Result<Lines, Fault> {
        let whole = self.recipe.layout(self.context)?.size();
        // No file needs more than this; its size is made in the same resampling as the lines' own.
        let mut longest = 0;
        for variant in variants {
            longest = longest.max(self.needed(variant, whole)?);
        }
        let size = Pictures { long_edge: Some(longest), ..Pictures::default() };
        let extra = if longest < whole.long_edge() {
            self.recipe.after(&size, None, self.context)
        } else {
            Vec::new()
        };
        let ready = self.ready(extra)?;
        let program = ready.plan.program(1.0);
        let (size, values) = program.render_values(ready.source(), program.size().rect())?;
        let picture =
            Picture::of_working(size, values).map_err(|e| Fault::new(FailureKind::Inside, e.to_string()))?;
        #[cfg(test)]
        SHARED.with(|n| n.set(n.get() + 1));
        Ok(Lines { picture: Pyramid::new(picture), said: ready.plan.colours() })
    }

    /// The longest side of what a file is made from.
    fn needed(&self, variant: &Variant, whole: Size) -> Result<u32, Fault> {
        if !variant.delivery.lines.is_empty() {
            return Ok(whole.long_edge());
        }
        if let Some(frame) = &variant.delivery.frame {
            let by = |to: u32, from: u32| f64::from(to) / f64::from(from);
            let (wide, high) = (by(frame.width, whole.width), by(frame.height, whole.height));
            let share = if frame.fit == "fit" { wide.min(high) } else { wide.max(high) / frame.nearest };
            return Ok((share.min(1.0) * f64::from(whole.long_edge())).ceil() as u32);
        }
        let bare = Pictures { sharpen: 0.0, burned: None, ..variant.delivery.clone() };
        let plan = self.recipe.layout_for(&bare, variant.width, self.context)?;
        Ok(plan.size().long_edge())
    }

    /// The bytes of one file, and its size: everything but the writing.
    ///
    /// # Errors
    /// [`Fault`], which says why.
    pub fn make(&self, variant: &Variant, made: Option<Made>) -> Result<(Vec<u8>, u32, u32), Fault> {
        if variant.delivery.is_carried() {
            return self.carry(&variant.delivery, made);
        }
        self.encoded(variant, &self.ready_to_encode(variant)?, made)
    }

    /// The pixels of one file, with how much of each is covered where it keeps that.
    fn ready_to_encode(&self, variant: &Variant) -> Result<FilePixels, Fault> {
        let Variant { delivery, width, .. } = variant;
        if let Some(cut_out) = self.cut_out(delivery)? {
            return self.transparent(cut_out, delivery, *width);
        }
        let (picture, colours) = self.picture(delivery, *width)?;
        Ok(FilePixels { picture, colours, coverage: None })
    }

    /// The picture apart from its coverage, where a delivery keeps that and there is any.
    fn cut_out(&self, delivery: &Pictures) -> Result<Option<&CutOut>, Fault> {
        if !delivery.keeps_transparent() {
            return Ok(None);
        }
        if self.cut_out.get().is_none() {
            let cut_out = self.source.cut_out()?;
            return Ok(self.cut_out.get_or_init(|| cut_out).as_ref());
        }
        Ok(self.cut_out.get().and_then(Option::as_ref))
    }

    /// A file that stays transparent: the plan of the picture as it is seen, on its colours alone; and the same plan's
    /// mappings and marks on its coverage.
    fn transparent(
        &self,
        CutOut { colours: cut_out, coverage }: &CutOut,
        delivery: &Pictures,
        width: Option<u32>,
    ) -> Result<FilePixels, Fault> {
        let after = || self.recipe.after(delivery, width, self.context);
        let seen = self.ready(after())?;
        let bare =
            intermediate::ready(self.recipe, (cut_out, self.context, self.sequence), self.kept, after())?;
        let colours = delivery.colours(&seen.plan);
        let picture = rendered(&seen.plan, bare.source(), &colours, delivery)?;
        let coverage = seen.coverage(coverage)?;
        Ok(FilePixels { picture, colours, coverage: Some(coverage) })
    }

    /// The bytes of a file whose pixels are there.
    fn encoded(
        &self,
        one: &Variant,
        FilePixels { picture, colours, coverage }: &FilePixels,
        made: Option<Made>,
    ) -> Result<(Vec<u8>, u32, u32), Fault> {
        let (delivery, size) = (&one.delivery, picture.size);
        let coverage = coverage.clone();
        let extras = Extras { coverage, ..self.extras(delivery, size, colours.icc.clone(), made) };
        let encoding = encoding(delivery);
        let bytes = match delivery.limit {
            Some(limit) => rallo_media::encode_within(picture, encoding, &extras, u64::from(limit) * 1000)
                .map(|(b, _)| b),
            None => rallo_media::encode(picture, encoding, &extras),
        };
        Ok((bytes?, size.width, size.height))
    }

    /// As [`make`](Self::make) for several, each with what it is for: those with the same pixels are rendered once, then
    /// encoded side by side.
    pub(super) fn make_all<T: Send>(&self, asked: Vec<(Variant, Made, T)>) -> Result<Vec<Ready<T>>, Fault> {
        let mut groups: Vec<Alike<T>> = Vec::new();
        for entry in asked {
            let key = (!entry.0.delivery.is_carried()).then(|| self.pixels_of(&entry.0));
            match groups.iter_mut().find(|(known, _)| key.is_some() && *known == key) {
                Some((_, group)) => group.push(entry),
                None => groups.push((key, vec![entry])),
            }
        }
        let mut done = Vec::new();
        for (key, group) in groups {
            let picture = match (key, group.first()) {
                (Some(_), Some((first, ..))) => Some(self.ready_to_encode(first)?),
                _ => None,
            };
            let made = group.into_par_iter().map(|(variant, made, what)| {
                let (bytes, width, height) = match &picture {
                    Some(picture) => self.encoded(&variant, picture, Some(made))?,
                    None => self.carry(&variant.delivery, Some(made))?,
                };
                Ok(Ready { what, bytes, size: (width, height) })
            });
            done.extend(made.collect::<Result<Vec<_>, Fault>>()?);
        }
        Ok(done)
    }

    /// What shapes the pixels of a file, and nothing of how they are encoded: equal where they are.
    fn pixels_of(&self, variant: &Variant) -> String {
        let delivery = &variant.delivery;
        let after = fingerprint(&self.recipe.after(delivery, variant.width, self.context));
        let bits = (delivery.is_float(), delivery.is_wide(), delivery.quick);
        let colours = self.shared.as_ref().and_then(|lines| lines.said.clone());
        let colours = Arc::as_ptr(&delivery.colours_or(colours));
        let keeps = matches!(self.cut_out(delivery), Ok(Some(_)));
        format!("{after} {bits:?} {colours:?} {:?} {keeps}", delivery.frame)
    }

    /// A file whose pixels are the original's, exactly.
    fn carry(&self, delivery: &Pictures, made: Option<Made>) -> Result<(Vec<u8>, u32, u32), Fault> {
        let size = self.source.size();
        let bytes = self.source.bytes();
        if delivery.is_dng() {
            return self.as_raw(delivery, made);
        }
        if delivery.is_copy() {
            return Ok((bytes.to_vec(), size.width, size.height));
        }
        if !rallo_media::can_carry(self.source.format()) {
            // Its data cannot be changed; a plain copy is what is left.
            let asks = !self.recipe.data(self.context).is_empty() || self.shift != 0 || !delivery.camera_data;
            if !asks {
                return Ok((bytes.to_vec(), size.width, size.height));
            }
        }
        let extras = self.extras(delivery, size, Vec::new(), made);
        let file = rallo_media::carried_over(bytes, self.source.format(), &extras)?;
        Ok((file, size.width, size.height))
    }

    /// Camera raw as raw again, denoised where the recipe begins with that; anything else as it is.
    fn as_raw(&self, delivery: &Pictures, made: Option<Made>) -> Result<(Vec<u8>, u32, u32), Fault> {
        let size = self.source.size();
        let Some(view) = self.source.raw().filter(|_| self.source.format() == Format::Raw) else {
            return Ok((self.source.bytes().to_vec(), size.width, size.height));
        };
        let lines: Vec<Settings> = self.recipe.placed(self.context).into_iter().map(|(_, s)| s).collect();
        let denoise = Plan::mosaic_denoise(&lines, size);
        let before = Made::find(self.source.bytes()).map(|m| m.done).unwrap_or_default();
        let (shaped_by, shaping) = if delivery.shaped { self.shaping() } else { Default::default() };
        let shaped_once = shaped_by.into_iter().filter(|info| info.facts.once.is_some());
        let mut done = before;
        for id in denoise.map(|_| "denoise").into_iter().chain(shaped_once.map(|info| info.id)) {
            if !done.iter().any(|d| d == id) {
                done.push(id.to_owned());
            }
        }
        let made = made.map(|made| Made { done, ..made });
        let extras = self.extras(delivery, size, Vec::new(), made);
        let scale = (f64::from(PREVIEW) / f64::from(size.long_edge())).min(1.0);
        let bare = Plan::for_picture(shaping.clone(), self.source)?.program(scale);
        let preview = bare.render(self.source, bare.size().rect(), OutputProfile::Srgb.colour())?;
        let linear = view.linear(denoise);
        let is_shaped = !shaping.is_empty();
        let (Linear { size, values, black }, orientation) = if is_shaped {
            (shaped(linear, shaping, view.orientation)?, Orientation::UPRIGHT)
        } else {
            (linear, view.orientation)
        };
        let dng = LinearDng {
            size,
            values,
            black,
            orientation: orientation.exif(),
            // The preview lies as the stored picture does.
            preview: &laid_as_stored(preview, orientation),
            packed: delivery.compression == "lossless",
            colour: &view.camera,
            is_shaped,
        };
        let upright = orientation.upright(size);
        Ok((
            rallo_media::linear_dng(self.source.shared_bytes(), dng, &extras)?,
            upright.width,
            upright.height,
        ))
    }

    /// The lines that only say where pixels lie and how much light the lens lets through.
    fn shaping(&self) -> (Vec<&'static StepInfo>, Vec<Settings>) {
        let placed = self.recipe.placed(self.context).into_iter();
        let known = placed.filter_map(|(line, settings)| {
            let info = &self.recipe.steps[line?].kind().info;
            info.facts.shapes.then_some((info, settings))
        });
        known.unzip()
    }

    /// The pixels of one file, as they are encoded, with their colours.
    ///
    /// # Errors
    /// [`Fault`], which says why.
    pub fn picture(
        &self,
        delivery: &Pictures,
        width: Option<u32>,
    ) -> Result<(Encoded, Arc<OutputColour>), Fault> {
        #[cfg(test)]
        RENDERED.with(|n| n.set(n.get() + 1));
        if let Some(lines) = &self.shared {
            return lines.picture(self.recipe, self.context, delivery, width);
        }
        let after = self.recipe.after(delivery, width, self.context);
        let mut ready = self.ready(after)?;
        if delivery.quick {
            ready = ready.reducing_sooner();
        }
        let colours = delivery.colours(&ready.plan);
        Ok((rendered(&ready.plan, ready.source(), &colours, delivery)?, colours))
    }

    /// What the recipe's lines made of the picture, to make several pictures of it; as large as one file needs it where that
    /// is not there yet.
    pub(crate) fn lines(&self, delivery: &Pictures) -> Result<Arc<Lines>, Fault> {
        match &self.shared {
            Some(lines) => Ok(lines.clone()),
            None => self.share(&[Variant { at: 0, delivery: delivery.clone(), width: None }]).map(Arc::new),
        }
    }

    /// What goes into a file beside its pixels.
    fn extras(&self, delivery: &Pictures, size: Size, icc: Vec<u8>, made: Option<Made>) -> Extras {
        let data = self.recipe.data(self.context);
        let keeps = |what: &str| data.iter().any(|d| d.keep == what);
        let nothing = !delivery.camera_data || keeps("nothing");
        let mut words = words(self.source, &data, nothing, self.context);
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
        Extras { icc: Some(icc), exif, made, words, resolution, coverage: None }
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
pub(super) fn words(
    source: &FileSource,
    data: &[Data],
    nothing: bool,
    context: &ResolveContext,
) -> DescriptiveFields {
    let mut words = if nothing {
        DescriptiveFields::default()
    } else {
        let said = DescriptiveFields::read(source.bytes(), source.exif());
        DescriptiveFields { keywords: context.frame.keywords.clone(), rating: context.frame.rating, ..said }
    };
    for one in data {
        words.change(one);
    }
    words
}

/// What has been done to the picture once the recipe is through with it.
pub(super) fn done(recipe: &Recipe, source: &FileSource, context: &ResolveContext) -> Vec<String> {
    let mut done = Made::find(source.bytes()).map(|m| m.done).unwrap_or_default();
    let lines = recipe.placed(context).into_iter().filter_map(|(line, _)| Some(recipe.steps[line?].id));
    for id in lines {
        if !done.iter().any(|d| d == id) {
            done.push(id.into());
        }
    }
    done
}

/// Files with the same pixels, by what shapes these; one alone without that where its pixels are carried over.
type Alike<T> = (Option<String>, Vec<(Variant, Made, T)>);

/// A file's bytes and size, with what it is for.
pub(super) struct Ready<T> {
    pub(super) what: T,
    pub(super) bytes: Vec<u8>,
    pub(super) size: (u32, u32),
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::assemble::piece;
    use rallo_media::Encoding;
    use std::path::Path;

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
        let about = crate::resolve_context(Path::new("a.png"), Some(&facts), &crate::Decided::default(), 1);
        let kinds = variants(&recipe);
        assert_eq!(kinds.len(), 4);
        let before = SHARED.with(std::cell::Cell::get);
        let alone = RunSequence::default();
        let work = Work::new(&recipe, &source, &about, 0, None, &alone).unwrap();
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
        let work = Work::new(&few, &source, &about, 0, None, &alone).unwrap();
        assert_eq!(work.shared.as_ref().unwrap().picture.size(), Size::new(320, 200));
        // One file alone shares nothing.
        let mut alone = few.clone();
        alone.deliveries.truncate(2);
        alone.deliveries.remove(0);
        assert!(
            Work::new(&alone, &source, &about, 0, None, &RunSequence::default()).unwrap().shared.is_none()
        );
    }

    #[test]
    fn what_is_transparent_stays_so_through_the_lines_and_is_laid_where_the_format_cannot() {
        use serde_json::json;
        let size = Size::new(80, 40);
        // The left half covered, and grey; what is under the right half shows nowhere.
        let covered = |i: u64| i % 80 < 40;
        let pixels =
            (0..size.area()).flat_map(|i| if covered(i) { [100; 3] } else { [255, 0, 255] }).collect();
        let coverage = (0..size.area()).map(|i| if covered(i) { 65_535 } else { 0 }).collect();
        let extras = Extras { coverage: Some(coverage), ..Extras::default() };
        let file = rallo_media::encode(&Encoded { size, pixels: Pixels::U8(pixels) }, Encoding::Png, &extras);
        let document = |steps: serde_json::Value, deliveries: serde_json::Value| {
            json!({"format": "rallo-recipe", "version": 1, "name": "x", "decode": {"background": "#0000ff"},
                "steps": steps, "deliveries": deliveries})
        };
        let png = |more: serde_json::Value| {
            let mut all = json!({"kind": "pictures", "name": "{stem}", "format": "png"});
            all.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
            all
        };
        let lines = json!([{"step": "denoise", "brightness": 30}, {"step": "mirror", "across": "left and right"},
            {"step": "exposure", "stops": 0.5}, {"step": "resize", "long_edge": 40}]);
        let decide = document(
            lines,
            json!([
                png(json!({})),
                png(json!({"transparent": false})),
                png(json!({"format": "jpeg", "quality": 95}))
            ]),
        );
        let recipe = Recipe::from_value(&decide).unwrap();
        let source = FileSource::from_bytes(file.unwrap()).unwrap().decoding_by(&recipe.decode);
        let facts = source.facts(Path::new("a.png"));
        let about = crate::resolve_context(Path::new("a.png"), Some(&facts), &crate::Decided::default(), 1);
        let alone = RunSequence::default();
        let work = Work::new(&recipe, &source, &about, 0, None, &alone).unwrap();
        let all: Vec<_> = variants(&recipe)
            .into_iter()
            .enumerate()
            .map(|(i, v)| (v, Made { recipe: "1".into(), source: "2".into(), done: Vec::new() }, i))
            .collect();
        let mut files = work.make_all(all).unwrap();
        files.sort_by_key(|f| f.what);
        let read = |at: usize| FileSource::from_bytes(files[at].bytes.clone()).unwrap();
        let pixel = |source: &FileSource, x: usize| {
            let picture = source.decode(0).unwrap();
            let rallo_engine::Samples::U8(v) = picture.samples() else { panic!() };
            [0, 1, 2].map(|c| v[(10 * 40 + x) * 3 + c])
        };
        let kept = read(0).cut_out().unwrap().expect("the PNG is transparent");
        let rallo_engine::Samples::U16(cover) = kept.coverage.level(0).unwrap().samples().clone() else {
            panic!()
        };
        assert_eq!(
            [cover[(10 * 40 + 4) * 3], cover[(10 * 40 + 36) * 3]],
            [0, 65_535],
            "mirrored with the picture"
        );
        // Nothing of the hidden colour, nor of the background, has come into the edge.
        let [r, g, b] = pixel(&kept.colours, 20);
        assert!(r.abs_diff(g) < 3 && b.abs_diff(g) < 3, "{r} {g} {b}");
        for at in [1, 2] {
            assert!(read(at).cut_out().unwrap().is_none());
            let [r, g, b] = pixel(&read(at), 4);
            assert!(r < 12 && g < 12 && b > 240, "{r} {g} {b}");
        }
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
        let about = crate::resolve_context(Path::new("a.png"), Some(&facts), &crate::Decided::default(), 1);
        let alone = RunSequence::default();
        let work = Work::new(&recipe, &source, &about, 0, None, &alone).unwrap();
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
