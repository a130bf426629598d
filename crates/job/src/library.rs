//! Records of shoots and their frames.

use crate::Result;
use async_trait::async_trait;

/// A set of frames from folders and files.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Shoot {
    /// Identity.
    pub id: i64,
    /// Name for people.
    pub name: String,
    /// The folder everything in it lies in.
    pub base: String,
    /// How it is sorted, JSON.
    pub sorted: String,
    /// Whether new files are looked for all the time.
    pub follow: bool,
    /// Whether results of earlier runs are taken in.
    pub results: bool,
    /// When it was last scanned to the end.
    pub scanned: Option<String>,
}

/// A folder or a file a shoot is made of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ShootFolder {
    /// Absolute path.
    pub path: String,
    /// With sub-folders.
    pub deep: bool,
}

/// What is kept of one frame.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FrameRecord {
    /// Identity.
    pub id: i64,
    /// Its shoot.
    pub shoot_id: i64,
    /// Absolute path.
    pub path: String,
    /// File name.
    pub name: String,
    /// Size of the file.
    pub bytes: i64,
    /// Modification time, nanoseconds since 1970.
    pub modified: i64,
    /// What the file says, JSON.
    pub facts: Option<String>,
    /// Why it cannot be read.
    pub problem: Option<String>,
    /// Whether the file was not there at the last scan.
    pub gone: bool,
    /// 0 open, 1 kept, 2 set aside.
    pub choice: i64,
    /// 0 none … 5.
    pub rating: i64,
    /// Keywords, a JSON list.
    pub keywords: String,
    /// Correction of the capture time, milliseconds.
    pub shift: i64,
    /// Place in the order by hand.
    pub hand: Option<f64>,
    /// Its own small changes, JSON.
    pub own: String,
    /// What it measures, JSON.
    pub measures: Option<String>,
}

/// A shoot in short.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ShootSummary {
    /// Frames whose files are there.
    pub frames: i64,
    /// One to show, which can be read and is neither dark nor pale: its identity and modification time.
    pub cover: Option<(i64, i64)>,
}

/// A named list of frames.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Selection {
    /// Identity.
    pub id: i64,
    /// Name.
    pub name: String,
    /// Frames in it.
    pub frames: i64,
}

/// What decoding a frame has shown.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FrameMeasured {
    /// Which frame.
    pub id: i64,
    /// What its pixels measure (JSON).
    pub measures: Option<String>,
    /// Why it cannot be decoded; nothing leaves what is known.
    pub problem: Option<String>,
    /// What its file says (JSON), where that has become more; nothing leaves what is known.
    pub facts: Option<String>,
}

/// What people decided about a frame, to be written down.
#[derive(Clone, Debug, PartialEq)]
pub struct FrameDecision {
    /// The frame.
    pub id: i64,
    /// 0 open, 1 kept, 2 set aside.
    pub choice: i64,
    /// 0 none … 5.
    pub rating: i64,
    /// Keywords, a JSON list.
    pub keywords: String,
    /// Correction of the capture time, milliseconds.
    pub shift: i64,
    /// Place in the order by hand.
    pub hand: Option<f64>,
    /// Its own small changes, JSON.
    pub own: String,
}

/// Records of shoots. Asking for one that is not there is [`Error::NotFound`](crate::Error::NotFound).
#[async_trait]
pub trait ShootRecords: Send + Sync {
    /// Every shoot, the newest first.
    async fn shoots(&self) -> Result<Vec<Shoot>>;

    /// One shoot.
    async fn shoot(&self, id: i64) -> Result<Shoot>;

    /// What a shoot is made of.
    async fn folders_of_shoot(&self, shoot: i64) -> Result<Vec<ShootFolder>>;

    /// The shoot of just these folders, made where there is none.
    async fn shoot_of(&self, name: &str, base: &str, folders: &[ShootFolder]) -> Result<Shoot>;

    /// Writes a shoot's name, order and switches.
    async fn set_shoot(&self, shoot: &Shoot) -> Result<()>;

    /// Says when a shoot was scanned to the end.
    async fn scanned(&self, shoot: i64, when: &str) -> Result<()>;

    /// A shoot's frames.
    async fn frames(&self, shoot: i64) -> Result<Vec<FrameRecord>>;

    /// A shoot in short, without reading all its frames.
    async fn shoot_summary(&self, shoot: i64) -> Result<ShootSummary>;

    /// One frame.
    async fn frame(&self, id: i64) -> Result<FrameRecord>;

    /// Adds frames or renews what their files say; what was decided stays. Returns them as they are now.
    async fn put_frames(&self, frames: &[FrameRecord]) -> Result<Vec<FrameRecord>>;

    /// Says that files are gone, or there again.
    async fn set_gone(&self, ids: &[i64], gone: bool) -> Result<()>;

    /// Writes down what people decided, all of it or nothing.
    async fn decide(&self, decisions: &[FrameDecision]) -> Result<()>;

    /// Writes down what was found by decoding frames.
    async fn measured(&self, found: &[FrameMeasured]) -> Result<()>;

    /// Named selections.
    async fn selections(&self) -> Result<Vec<Selection>>;

    /// Frames of a selection.
    async fn selected_frames(&self, selection: i64) -> Result<Vec<FrameRecord>>;

    /// Originals of which a recipe has made results.
    async fn sources_done(&self, recipe: i64) -> Result<Vec<String>>;
}
