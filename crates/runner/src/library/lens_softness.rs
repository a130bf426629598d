//! How soft lenses draw, measured on the pictures that were taken with them.

use rallo_engine::analysis::softness::{Edge, Softness, edges, of_edges};
use rallo_engine::colour::working::LUMINANCE;
use rallo_engine::{Plan, Source};
use rallo_media::FileSource;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Long edge that all pictures' edges are told by: thousandths of it.
const LONG_EDGE: f64 = 1000.0;

/// Rows that are rendered together.
const STRIP: i64 = 1500;

/// One lens.
#[derive(Clone, Debug, serde::Serialize)]
pub struct MeasuredLens {
    /// As pictures call it.
    pub lens: String,
    /// Pictures that were looked at.
    pub pictures: usize,
    /// Edges that were found in them.
    pub edges: usize,
    /// What they tell; nothing where they are too few.
    #[serde(flatten)]
    pub softness: Option<Softness>,
}

/// What the pictures tell of their lenses, by name; those that name none, or cannot be read, are passed over. `done` is told
/// each picture.
pub fn measure(pictures: &[PathBuf], done: impl Fn(&Path)) -> Vec<MeasuredLens> {
    let mut by_lens: BTreeMap<String, (usize, Vec<Edge>)> = BTreeMap::new();
    for path in pictures {
        if let Some((lens, found)) = edges_of(path) {
            let entry = by_lens.entry(lens).or_default();
            entry.0 += 1;
            entry.1.extend(found);
        }
        done(path);
    }
    let told = by_lens.into_iter().map(|(lens, (pictures, edges))| MeasuredLens {
        softness: of_edges(&edges, LONG_EDGE),
        edges: edges.len(),
        lens,
        pictures,
    });
    told.collect()
}

/// The edges of a picture, in thousandths of its long edge, and the lens it names.
fn edges_of(path: &Path) -> Option<(String, Vec<Edge>)> {
    let source = FileSource::open(path).ok()?;
    let lens = source.camera().lens.clone()?;
    let program = Plan::new(Vec::new(), source.size()).ok()?.program(1.0);
    let whole = program.size().rect();
    let mut light = Vec::with_capacity(whole.area());
    for strip in whole.tiles(whole.width, STRIP) {
        let (_, pixels) = program.render_working(&source, strip).ok()?;
        light.extend(pixels.iter().map(|p| p.iter().zip(LUMINANCE).map(|(v, share)| v * share).sum::<f32>()));
    }
    let scale = LONG_EDGE / f64::from(source.size().long_edge());
    let found = edges(&light, whole.width as usize);
    Some((lens, found.into_iter().map(|e| Edge { deviation: e.deviation * scale, ..e }).collect()))
}
