//! What is known of lenses: the open lens database that ships with the `lensfun` crate, and profiles of one's own in its
//! format.

pub use crate::analysis::softness::Softness;
use lensfun::{Camera, Database, Lens, Modifier};
use serde::{Deserialize, Serialize};
use std::cell::OnceCell;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock, Mutex, MutexGuard};
use std::time::SystemTime;

/// What a picture says of how it was taken.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct TakenWith {
    /// Maker and model.
    pub camera: Option<String>,
    /// Lens.
    pub lens: Option<String>,
    /// Millimetres.
    pub focal_length: Option<f64>,
    /// f-number.
    pub aperture: Option<f64>,
    /// What the camera wrote into the file of what its lens does.
    pub embedded: Option<EmbeddedLens>,
}

/// What a camera wrote into its file of what its lens does (Adobe's DNG 1.7, chapter 7, opcodes 1 and 3).
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct EmbeddedLens {
    /// Middle of the lens as shares of width and height.
    pub centre: (f64, f64),
    /// How much farther from the middle each colour is found, as the factors of the even powers of the radius from 0 to 6,
    /// where the radius of the farthest corner is 1; one set for all colours, or three; none where it bends nothing.
    pub warp: Vec<[f64; 4]>,
    /// How much a lens that sits askew bends to one side, the two tangential factors of each set.
    #[serde(default)]
    pub sideways: Vec<[f64; 2]>,
    /// What light is to be multiplied by, as the factors of the even powers of that radius from 2 to 10; none where it does
    /// not fall off.
    pub gain: Option<[f64; 5]>,
}

/// Distance that is taken where the picture tells none, in metres: far away.
const DISTANCE: f32 = 1000.0;

/// Radii that are looked up, 0 ..= [`REACH`].
const RADII: usize = 1024;

/// The largest radius of a table, where 1 is the picture's corner.
pub const REACH: f64 = 1.25;

struct Known {
    /// Read when a lens is first looked for, which takes an eighth of a second.
    database: OnceCell<Database>,
    /// What the person said a lens is, by what pictures call it.
    said: BTreeMap<String, String>,
    /// How soft lenses draw, as measured, by what pictures call them.
    soft: BTreeMap<String, Softness>,
    found: HashMap<(String, String), Option<Arc<Profile>>>,
    own: OwnFolder,
}

/// When a file or a folder last changed, and how large it was; nothing where it is not there.
type Stamp = Option<(SystemTime, u64)>;

fn stamp(path: &Path) -> Stamp {
    let about = std::fs::metadata(path).ok()?;
    Some((about.modified().ok()?, about.len()))
}

/// The folder of profiles of one's own, and what was read of it.
#[derive(Default)]
struct OwnFolder {
    path: PathBuf,
    /// As it was when it was last looked into.
    seen: Stamp,
    read: HashSet<PathBuf>,
    /// Files that could not be read, as they were then.
    refused: Vec<(PathBuf, Stamp)>,
}

static KNOWN: LazyLock<Mutex<Known>> = LazyLock::new(|| {
    let database = OnceCell::new();
    let (said, soft, found) = Default::default();
    Mutex::new(Known { database, said, soft, found, own: OwnFolder::default() })
});

fn known() -> MutexGuard<'static, Known> {
    KNOWN.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
}

/// Why a file of lens profiles is passed over.
#[derive(Debug, thiserror::Error)]
pub enum ProfileFileError {
    /// It cannot be opened, or holds no text.
    #[error("it cannot be read: {0}")]
    Reading(#[from] std::io::Error),
    /// It is not in the database's format.
    #[error("this is no lens profile: {0}")]
    Format(#[from] lensfun::Error),
    /// What was said of lenses, or measured of them, cannot be read.
    #[error("these are no data of lenses: {0}")]
    Names(#[from] serde_json::Error),
}

/// A lens on a camera, as it is known.
#[derive(Clone, Debug, PartialEq)]
pub struct Profile(Source);

#[derive(Clone, Debug, PartialEq)]
enum Source {
    /// From the database, or a file in its format; with how much smaller than 36 × 24 mm the sensor is.
    Database(Box<Lens>, f32),
    /// From the picture itself.
    Embedded(EmbeddedLens),
}

/// Adds profiles from the text of a file of the database's format; how many lenses it has.
///
/// # Errors
/// [`ProfileFileError`], which says what is wrong with it.
pub fn add(xml: &str) -> Result<usize, ProfileFileError> {
    known().add(xml)
}

/// Adds every profile of a folder; those that cannot be read are told with why. The folder is looked into again where a
/// lens is not known and something has been put there meanwhile.
pub fn add_folder(folder: &Path) -> Vec<(PathBuf, ProfileFileError)> {
    let refused = {
        let mut known = known();
        known.own = OwnFolder { path: folder.to_owned(), ..OwnFolder::default() };
        known.look()
    };
    let names = folder.join(NAMES);
    let read = || -> Result<(), ProfileFileError> {
        known().said = serde_json::from_str(&std::fs::read_to_string(&names)?)?;
        Ok(())
    };
    let of_names = names.exists().then(read).and_then(Result::err).map(|why| (names.clone(), why));
    let soft = folder.join(SOFT);
    let read = || -> Result<(), ProfileFileError> {
        known().soft = serde_json::from_str(&std::fs::read_to_string(&soft)?)?;
        Ok(())
    };
    let of_soft = soft.exists().then(read).and_then(Result::err).map(|why| (soft.clone(), why));
    refused.into_iter().chain(of_names).chain(of_soft).collect()
}

/// The file of what was said of lenses, in the folder of the profiles.
const NAMES: &str = "names.json";

/// Remembers that what pictures call `lens` is the lens of the database called `is`; with an empty `is` that is forgotten.
/// Kept in `folder` for the next time.
///
/// # Errors
/// [`std::io::Error`] where it cannot be kept; it holds all the same until the program ends.
pub fn remember(folder: &Path, lens: &str, is: &str) -> std::io::Result<()> {
    let mut known = known();
    known.found.clear();
    if is.is_empty() {
        known.said.remove(lens);
    } else {
        known.said.insert(lens.to_owned(), is.to_owned());
    }
    std::fs::create_dir_all(folder)?;
    std::fs::write(folder.join(NAMES), serde_json::to_string_pretty(&known.said)? + "\n")
}

/// The file of how soft lenses draw, in the same folder.
const SOFT: &str = "softness.json";

/// How soft a lens draws, where it was measured.
pub fn softness(lens: &str) -> Option<Softness> {
    known().soft.get(lens).copied()
}

/// Keeps how soft a lens draws, as it was measured, also for the next time.
///
/// # Errors
/// [`std::io::Error`] where it cannot be kept; it holds all the same until the program ends.
pub fn keep_softness(folder: &Path, lens: &str, softness: Softness) -> std::io::Result<()> {
    let mut known = known();
    known.soft.insert(lens.to_owned(), softness);
    std::fs::create_dir_all(folder)?;
    std::fs::write(folder.join(SOFT), serde_json::to_string_pretty(&known.soft)? + "\n")
}

/// The most lenses that are offered for one that is not known, and the least share of words they have in common.
const OFFERS: usize = 3;
const ALIKE: f64 = 0.45;

/// Lenses that may be the one a picture names, the likeliest first, where it is not known by that name.
pub fn near(taken: &TakenWith) -> Vec<String> {
    let Some(told) = taken.lens.as_deref().filter(|_| find(taken, "").is_none()) else { return Vec::new() };
    let told: HashSet<String> = words(told).into_iter().collect();
    let known = known();
    let body = taken.camera.as_deref().and_then(|camera| known.camera(camera));
    let fits = known.database().lenses.iter().filter(|lens| known.mounts(body, lens));
    let mut scored: Vec<(f64, String)> = fits
        .filter_map(|lens| {
            let own: HashSet<String> = words(&format!("{} {}", lens.maker, lens.model)).into_iter().collect();
            let score = told.intersection(&own).count() as f64 / told.union(&own).count().max(1) as f64;
            (score >= ALIKE).then(|| (score, name_of(lens)))
        })
        .collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
    scored.dedup_by(|a, b| a.1 == b.1);
    scored.into_iter().take(OFFERS).map(|(_, name)| name).collect()
}

/// Maker and model.
fn name_of(lens: &Lens) -> String {
    let Lens { maker, model, .. } = lens;
    if model.to_lowercase().starts_with(&maker.to_lowercase()) {
        model.clone()
    } else {
        format!("{maker} {model}")
    }
}

/// Words of a name, small, without signs and units: `35 mm f/2` and `35mm F2` are alike.
fn words(name: &str) -> Vec<String> {
    let parts = name.split(|c: char| !(c.is_alphanumeric() || c == '.'));
    let small = parts.map(|part| {
        let part = part.trim_matches('.').to_lowercase();
        let part = part.strip_suffix("mm").unwrap_or(&part);
        let number =
            part.strip_prefix('f').filter(|rest| rest.chars().all(|c| c.is_ascii_digit() || c == '.'));
        number.unwrap_or(part).to_owned()
    });
    small.filter(|word| !word.is_empty()).collect()
}

/// Whether two names are the same but for the maker, signs and units.
fn is_same(told: &str, maker: &str, known: &str) -> bool {
    let maker = words(maker);
    let bare = |name: &str| -> String {
        words(name).into_iter().filter(|w| !maker.contains(w)).collect::<Vec<_>>().join(" ")
    };
    let told = bare(told);
    !told.is_empty() && told == bare(known)
}

/// The database that ships with the program; without it nothing is found, which is told.
fn bundled() -> Database {
    Database::load_bundled().unwrap_or_default()
}

impl Known {
    fn database(&self) -> &Database {
        self.database.get_or_init(bundled)
    }

    fn add(&mut self, xml: &str) -> Result<usize, ProfileFileError> {
        // Read apart first, so that half a file leaves nothing behind.
        let mut own = Database::new();
        own.load_str(xml)?;
        let mut database = self.database.take().unwrap_or_else(bundled);
        let added = database.load_str(xml);
        self.database = OnceCell::from(database);
        added?;
        self.found.clear();
        Ok(own.lenses.len())
    }

    /// Adds what is new in the folder of one's own; what cannot be read is told, and tried again once it has changed.
    fn look(&mut self) -> Vec<(PathBuf, ProfileFileError)> {
        let seen = stamp(&self.own.path);
        let is_as_it_was = seen == self.own.seen && self.own.refused.iter().all(|(p, was)| stamp(p) == *was);
        if is_as_it_was {
            return Vec::new();
        }
        self.own.seen = seen;
        self.own.refused.clear();
        let entries = std::fs::read_dir(&self.own.path).into_iter().flatten().flatten();
        let mut files: Vec<PathBuf> = entries.map(|e| e.path()).collect();
        files.retain(|p| p.extension().is_some_and(|e| e.eq_ignore_ascii_case("xml")));
        files.retain(|p| !self.own.read.contains(p));
        files.sort();
        let mut refused = Vec::new();
        for path in files {
            let was = stamp(&path);
            match std::fs::read_to_string(&path).map_err(Into::into).and_then(|text| self.add(&text)) {
                Ok(_) => {
                    self.own.read.insert(path);
                }
                Err(why) => {
                    self.own.refused.push((path.clone(), was));
                    refused.push((path, why));
                }
            }
        }
        refused
    }

    fn camera(&self, told: &str) -> Option<&Camera> {
        self.database().cameras.iter().find(|c| is_same(told, &c.maker, &c.model))
    }

    /// Whether a lens fits on a camera; on one that is not known any does.
    fn mounts(&self, body: Option<&Camera>, lens: &Lens) -> bool {
        body.is_none_or(|body| {
            let own = |mount: &String| *mount == body.mount;
            let compatible = self.database().mounts.iter().find(|m| m.name == body.mount);
            lens.mounts.iter().any(|m| own(m) || compatible.is_some_and(|c| c.compat.contains(m)))
        })
    }

    fn find(&self, camera: &str, lens: &str) -> Option<Profile> {
        let body = self.camera(camera);
        let fits = |known: &&Lens| self.mounts(body, known) && is_same(lens, &known.maker, &known.model);
        // Of several measurements the one on the sensor most like this one, and not on a smaller one.
        let crop = |lens: &Lens| body.map_or(lens.crop_factor, |body| body.crop_factor);
        let apart = |lens: &&Lens| {
            let more = crop(lens) / lens.crop_factor;
            if more < 0.96 { 10.0 / more } else { more }
        };
        let mut all: Vec<&Lens> = self.database().lenses.iter().filter(fits).collect();
        all.sort_by(|a, b| apart(a).total_cmp(&apart(b)));
        let lens = (*all.first()?).clone();
        let crop = crop(&lens);
        Some(Profile(Source::Database(Box::new(lens), crop)))
    }
}

/// The profile of a lens; `named` is what the person says it is, where the picture does not, or wrongly. What the camera
/// itself wrote goes before the database.
pub fn find(taken: &TakenWith, named: &str) -> Option<Arc<Profile>> {
    if let Some(embedded) = taken.embedded.as_ref().filter(|_| named.is_empty()) {
        return Some(Arc::new(Profile(Source::Embedded(embedded.clone()))));
    }
    let lens = if named.is_empty() { taken.lens.as_deref()? } else { named };
    let key = (taken.camera.clone().unwrap_or_default(), lens.to_owned());
    let mut known = known();
    if let Some(Some(found)) = known.found.get(&key) {
        return Some(found.clone());
    }
    // Files that cannot be read were told at the start; half a file is tried again.
    let _ = known.look();
    if let Some(found) = known.found.get(&key) {
        return found.clone();
    }
    let said = || known.said.get(lens).and_then(|said| known.find(&key.0, said));
    let found = known.find(&key.0, &key.1).or_else(said).map(Arc::new);
    known.found.insert(key, found.clone());
    found
}

/// What a lens does to a picture of some size, over the radius: each is a table over 0 ..= [`REACH`], where 1 is the corner.
#[derive(Clone, Debug, PartialEq)]
pub struct Correction {
    /// Where the middle of the lens is, in pixels.
    pub centre: (f64, f64),
    /// Half the diagonal in pixels.
    pub radius: f64,
    /// How much farther from the middle each colour is found.
    pub factors: [Vec<f64>; 3],
    /// How far each colour is found to one side, see [`sideways`].
    pub sideways: [[f64; 2]; 3],
    /// What the light there is to be multiplied by, by the radius at which it is found.
    pub gains: Vec<f64>,
}

impl Profile {
    /// Maker and model.
    pub fn name(&self) -> String {
        let Source::Database(lens, _) = &self.0 else { return "the camera's own, from the file".into() };
        name_of(lens)
    }

    /// The correction of a picture; the shares are those of distortion and of fringes that are taken out.
    pub fn correction(
        &self,
        taken: &TakenWith,
        size: (u32, u32),
        distortion: f64,
        fringes: f64,
    ) -> Correction {
        let mut correction = match &self.0 {
            Source::Database(lens, crop) => database((lens, *crop), taken, size, distortion, fringes),
            Source::Embedded(lens) => lens.correction(size, distortion, fringes),
        };
        // A model that comes to no end changes nothing there.
        for value in correction.factors.iter_mut().flatten().chain(&mut correction.gains) {
            *value = if value.is_finite() && *value > 0.0 { *value } else { 1.0 };
        }
        correction
    }
}

impl EmbeddedLens {
    fn correction(&self, (w, h): (u32, u32), distortion: f64, fringes: f64) -> Correction {
        let (width, height) = (f64::from(w), f64::from(h));
        // It is told of the picture as it is stored; one that was turned has its middle in the middle.
        let centre = if h > w { (0.5, 0.5) } else { self.centre };
        let centre = (width * centre.0, height * centre.1);
        let farthest = centre.0.max(width - centre.0).hypot(centre.1.max(height - centre.1));
        let radius = 0.5 * width.hypot(height);
        let radii: Vec<f64> =
            (0..RADII).map(|i| i as f64 / (RADII - 1) as f64 * REACH * radius / farthest).collect();
        let warp = |c: usize| self.warp.get(c).or(self.warp.first()).copied().unwrap_or([1.0, 0.0, 0.0, 0.0]);
        let even = |k: &[f64], r: f64| k.iter().rev().fold(0.0, |sum, k| sum * r * r + k);
        // With three sets the middle one is green's, by which the picture is straightened.
        let green = warp(1);
        let factors = [0, 1, 2].map(|c| {
            let own = warp(c);
            let factor = |r: &f64| {
                let plain = 1.0 + (even(&green, *r) - 1.0) * distortion;
                plain + (even(&own, *r) - even(&green, *r)) * fringes
            };
            radii.iter().map(factor).collect()
        });
        let gain = self.gain.unwrap_or_default();
        let gains = radii.iter().map(|r| 1.0 + r * r * even(&gain, *r)).collect();
        let askew = |c: usize| self.sideways.get(c).or(self.sideways.first()).copied().unwrap_or_default();
        let straight = askew(1);
        let sideways = [0, 1, 2].map(|c| {
            let own = askew(c);
            // One that was turned does not say to which side.
            let known = if h > w { 0.0 } else { 1.0 / farthest };
            [0, 1].map(|k| (straight[k] * distortion + (own[k] - straight[k]) * fringes) * known)
        });
        Correction { centre, radius, factors, sideways, gains }
    }
}

/// How far aside a place is found that lies so many pixels from the middle, by the tangential factors of the standard.
pub fn sideways([a, b]: [f64; 2], (x, y): (f64, f64)) -> (f64, f64) {
    let square = x * x + y * y;
    (a * 2.0 * x * y + b * (square + 2.0 * x * x), b * 2.0 * x * y + a * (square + 2.0 * y * y))
}

/// The correction of a lens of the database on a sensor so much smaller than 36 × 24 mm.
fn database(
    (lens, crop): (&Lens, f32),
    taken: &TakenWith,
    (w, h): (u32, u32),
    distortion: f64,
    fringes: f64,
) -> Correction {
    let focal = taken.focal_length.unwrap_or_else(|| f64::from(lens.focal_min)) as f32;
    let mut lens = lens.clone();
    // The profile tells the middle of a picture that lies as the sensor does.
    if h > w {
        (lens.center_x, lens.center_y) = (0.0, 0.0);
    }
    // Not reversed: from a place in the straight picture to where the lens put it.
    let mut modifier = Modifier::new(&lens, focal, crop, w, h, false);
    modifier.enable_distortion_correction(&lens);
    modifier.enable_tca_correction(&lens);
    let aperture = taken.aperture.unwrap_or_else(|| f64::from(lens.aperture_min.max(1.0))) as f32;
    modifier.enable_vignetting_correction(&lens, aperture, DISTANCE);
    // The database counts from the middle of the first pixel.
    let (width, height) = (f64::from(w) - 1.0, f64::from(h) - 1.0);
    let side = width.min(height) / 2.0;
    let middle =
        (width / 2.0 + side * f64::from(lens.center_x), height / 2.0 + side * f64::from(lens.center_y));
    let radius = 0.5 * f64::from(w).hypot(f64::from(h));
    let mut factors = [(); 3].map(|()| Vec::with_capacity(RADII));
    let mut gains = Vec::with_capacity(RADII);
    for i in 0..RADII {
        // The very middle tells nothing.
        let out = (i as f64).max(0.5) / (RADII - 1) as f64 * REACH * radius;
        let found = |x: f64| {
            let mut at = [x as f32, middle.1 as f32];
            modifier.apply_geometry_distortion(x as f32, middle.1 as f32, 1, 1, &mut at);
            f64::from(at[0])
        };
        let plain = found(middle.0 + out) - middle.0;
        let green = out + (plain - out) * distortion;
        let mut apart = [0f32; 6];
        let has_fringes =
            modifier.apply_subpixel_distortion((middle.0 + green) as f32, middle.1 as f32, 1, 1, &mut apart);
        for (c, table) in factors.iter_mut().enumerate() {
            let own = if has_fringes { f64::from(apart[2 * c]) - middle.0 } else { green };
            table.push((green + (own - green) * fringes) / out);
        }
        let mut light = [1f32];
        modifier.apply_color_modification_f32(&mut light, (middle.0 + out) as f32, middle.1 as f32, 1, 1, 1);
        gains.push(f64::from(light[0]));
    }
    let sideways = [[0.0; 2]; 3];
    Correction { centre: (middle.0 + 0.5, middle.1 + 0.5), radius, factors, sideways, gains }
}

/// The value of a table at a radius.
pub fn at(table: &[f64], radius: f64) -> f64 {
    let place = (radius / REACH).clamp(0.0, 1.0) * (table.len() - 1) as f64;
    let low = (place as usize).min(table.len() - 2);
    table[low] + (table[low + 1] - table[low]) * (place - low as f64)
}

/// A made-up lens on a made-up camera, for tests: a barrel, fringes and dark corners.
#[cfg(test)]
pub(crate) const MADE_UP: &str = r#"<lensdatabase version="1">
<mount><name>Marlow R</name></mount>
<camera><maker>Marlow</maker><model>24 R</model><mount>Marlow R</mount><cropfactor>1.5</cropfactor></camera>
<lens><maker>Marlow</maker><model>Field 35mm f/2</model><mount>Marlow R</mount><cropfactor>1.5</cropfactor>
<calibration>
<distortion model="ptlens" focal="35" a="0.01" b="-0.04" c="0.01"/>
<tca model="poly3" focal="35" vr="1.0006" vb="0.9995"/>
<vignetting model="pa" focal="35" aperture="2" distance="1000" k1="-0.6" k2="0.2" k3="-0.05"/>
</calibration></lens></lensdatabase>"#;

#[cfg(test)]
mod tests {
    use super::*;

    fn taken() -> TakenWith {
        TakenWith {
            camera: Some("Marlow 24 R".into()),
            lens: Some("Field 35mm F2".into()),
            focal_length: Some(35.0),
            aperture: Some(2.0),
            embedded: None,
        }
    }

    #[test]
    fn lenses_are_found_by_their_names_and_nothing_is_guessed() {
        assert_eq!(add(MADE_UP).unwrap(), 1);
        for name in ["Field 35mm F2", "Marlow Field 35 mm f/2", "FIELD 35MM F/2"] {
            let found = find(&TakenWith { lens: Some(name.into()), ..taken() }, "").unwrap();
            assert_eq!(found.name(), "Marlow Field 35mm f/2", "{name}");
        }
        for name in ["Field 35mm f/2.8", "Field 50mm f/2", "35mm", ""] {
            assert!(find(&TakenWith { lens: Some(name.into()), ..taken() }, "").is_none(), "{name}");
        }
        // What the person says goes before what the picture says.
        let silent = TakenWith { lens: None, ..taken() };
        assert!(find(&silent, "").is_none() && find(&silent, "Field 35mm f/2").is_some());
        let refused = add("<lensdatabase><lens>").unwrap_err().to_string();
        assert!(refused.starts_with("this is no lens profile"), "{refused}");
    }

    /// There is one folder of one's own in the whole program.
    static ONE_FOLDER: Mutex<()> = Mutex::new(());

    #[test]
    fn a_profile_that_is_put_into_the_folder_is_found_without_a_new_start() {
        let _alone = ONE_FOLDER.lock();
        let folder = tempfile::tempdir().unwrap();
        let told = TakenWith { lens: Some("Orchard 60mm f/4".into()), ..taken() };
        assert!(add_folder(folder.path()).is_empty() && find(&told, "").is_none());
        let half = MADE_UP.split("</calibration>").next().unwrap();
        std::fs::write(folder.path().join("half.xml"), half).unwrap();
        assert!(find(&told, "").is_none(), "half a file is none");
        assert_eq!(known().own.refused.len(), 1);
        assert!(known().look().is_empty(), "what is as it was is not read again");
        std::fs::write(folder.path().join("half.xml"), MADE_UP.replace("Field 35mm f/2", "Orchard 60mm f/4"))
            .unwrap();
        assert_eq!(find(&told, "").unwrap().name(), "Marlow Orchard 60mm f/4");
    }

    #[test]
    fn a_lens_by_another_name_is_offered_and_remembered() {
        let _alone = ONE_FOLDER.lock();
        add(MADE_UP).unwrap();
        let told = TakenWith { lens: Some("Field 35mm f/2 II".into()), ..taken() };
        assert!(find(&told, "").is_none());
        assert_eq!(near(&told), ["Marlow Field 35mm f/2"]);
        assert!(near(&taken()).is_empty(), "what is known needs no offer");
        assert!(near(&TakenWith { lens: Some("Meadow 90mm f/4".into()), ..taken() }).is_empty());
        let folder = tempfile::tempdir().unwrap();
        remember(folder.path(), "Field 35mm f/2 II", "Marlow Field 35mm f/2").unwrap();
        assert!(find(&told, "").is_some());
        // The next start knows it from the file.
        known().said.clear();
        known().found.clear();
        assert!(find(&told, "").is_none());
        known().found.clear();
        assert!(add_folder(folder.path()).is_empty());
        assert!(find(&told, "").is_some());
        remember(folder.path(), "Field 35mm f/2 II", "").unwrap();
        assert!(find(&told, "").is_none());
        std::fs::write(folder.path().join(NAMES), "[1").unwrap();
        assert!(add_folder(folder.path())[0].1.to_string().contains("no data of lenses"));
    }

    #[test]
    fn distortion_and_fall_off_are_those_of_the_published_models() {
        add(MADE_UP).unwrap();
        let correction = find(&taken(), "").unwrap().correction(&taken(), (3000, 2000), 1.0, 0.0);
        let green = &correction.factors[1];
        let model = |r: f64| 0.01 * r.powi(3) - 0.04 * r.powi(2) + 0.01 * r + 1.02;
        for share in [0.3, 0.6, 1.0] {
            // The model's radius is 1 at the middle of the long side of a picture whose middle keeps its size.
            let r = share * correction.radius / 1000.0 / model(0.0);
            let (found, wanted) = (at(green, share), model(r) / model(0.0));
            assert!((found - wanted).abs() < 1e-3, "{share}: {found} instead of {wanted}");
            // Its radius is 1 in the corner.
            let light = 1.0 - 0.6 * share.powi(2) + 0.2 * share.powi(4) - 0.05 * share.powi(6);
            assert!((at(&correction.gains, share) * light - 1.0).abs() < 1e-3);
        }
    }

    #[test]
    fn a_correction_is_what_the_database_computes_at_any_point() {
        add(MADE_UP).unwrap();
        let profile = find(&taken(), "").unwrap();
        let (w, h) = (3000u32, 2000u32);
        let correction = profile.correction(&taken(), (w, h), 1.0, 1.0);
        let Source::Database(lens, _) = &profile.0 else { panic!() };
        let mut modifier = Modifier::new(lens, 35.0, 1.5, w, h, false);
        assert!(modifier.enable_distortion_correction(lens));
        assert!(modifier.enable_tca_correction(lens));
        assert!(modifier.enable_vignetting_correction(lens, 2.0, DISTANCE));
        for i in 0..100u32 {
            let (x, y) = (f64::from(i * 7919 % w), f64::from(i * 104_729 % h));
            let mut there = [0f32; 2];
            modifier.apply_geometry_distortion(x as f32, y as f32, 1, 1, &mut there);
            let mut apart = [0f32; 6];
            modifier.apply_subpixel_distortion(there[0], there[1], 1, 1, &mut apart);
            let (dx, dy) = (x + 0.5 - correction.centre.0, y + 0.5 - correction.centre.1);
            let r = dx.hypot(dy) / correction.radius;
            for c in 0..3 {
                let f = at(&correction.factors[c], r);
                let mine = (correction.centre.0 + dx * f - 0.5, correction.centre.1 + dy * f - 0.5);
                let off = (mine.0 - f64::from(apart[2 * c])).hypot(mine.1 - f64::from(apart[2 * c + 1]));
                assert!(off < 0.02, "colour {c} at {x}, {y} is {off} pixels off");
            }
            let mut light = [1f32];
            modifier.apply_color_modification_f32(&mut light, x as f32, y as f32, 1, 1, 1);
            assert!((at(&correction.gains, r) / f64::from(light[0]) - 1.0).abs() < 1e-3);
        }
    }

    #[test]
    fn what_the_camera_wrote_goes_first_and_is_computed_as_the_standard_says() {
        add(MADE_UP).unwrap();
        let embedded = EmbeddedLens {
            centre: (0.5, 0.5),
            warp: vec![[1.001, 0.02, -0.01, 0.0], [1.0, 0.02, -0.01, 0.0], [0.999, 0.02, -0.01, 0.0]],
            sideways: vec![[0.001, -0.002]],
            gain: Some([0.4, 0.1, 0.0, 0.0, 0.0]),
        };
        let taken = TakenWith { embedded: Some(embedded), ..taken() };
        let profile = find(&taken, "").unwrap();
        assert!(profile.name().contains("camera's own"));
        assert!(find(&taken, "Field 35mm f/2").unwrap().name().starts_with("Marlow"));
        let correction = profile.correction(&taken, (3000, 2000), 1.0, 1.0);
        for r in [0.2f64, 0.5, 1.0] {
            let green = 1.0 + 0.02 * r.powi(2) - 0.01 * r.powi(4);
            for (c, own) in [0.001, 0.0, -0.001].into_iter().enumerate() {
                assert!((at(&correction.factors[c], r) - green - own).abs() < 1e-5);
            }
            let gain = 1.0 + 0.4 * r.powi(2) + 0.1 * r.powi(4);
            assert!((at(&correction.gains, r) - gain).abs() < 1e-5);
        }
        // The tangential part of the standard's formula, with the radius of the farthest corner as 1.
        let m = 1500f64.hypot(1000.0);
        let (x, y) = (300.0 / m, -700.0 / m);
        let r2 = x * x + y * y;
        let wanted = (
            m * (0.001 * 2.0 * x * y - 0.002 * (r2 + 2.0 * x * x)),
            m * (-0.002 * 2.0 * x * y + 0.001 * (r2 + 2.0 * y * y)),
        );
        let found = sideways(correction.sideways[0], (300.0, -700.0));
        assert!(
            (found.0 - wanted.0).abs() < 1e-9 && (found.1 - wanted.1).abs() < 1e-9,
            "{found:?} {wanted:?}"
        );
        let half = profile.correction(&taken, (3000, 2000), 0.5, 0.0);
        assert!((at(&half.factors[0], 1.0) - 1.005).abs() < 1e-5);
    }
}
