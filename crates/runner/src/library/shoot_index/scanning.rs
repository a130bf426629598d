//! Frames found in the folders of a shoot, again and again, and measured in the background.

use crate::files::file_names::name_of;
use crate::library::scan::{self, Found, LeftOut, Seen};
use crate::library::shoot_index::{Frames, Set, frame, lock};
use crate::now;
use crate::schedule::{self, Class};
use rallo_engine::analysis::measure;
use rallo_engine::{Measures, Source, SourceError};
use rallo_job::{FrameMeasured, FrameRecord as Row};
use rallo_media::{Facts, FileSource, MediaError};
use rayon::prelude::*;
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// Files worked on at a time while scanning.
pub(super) const BATCH: usize = 96;

/// Frames measured before it is told.
pub(super) const MEASURED: usize = 8;

/// Whether a file is the one a row was written for.
pub(super) fn unchanged(row: &Row, found: &Found) -> bool {
    row.bytes == found.bytes as i64 && row.modified == found.modified
}

/// What decoding a file has shown.
pub(super) struct Measured {
    measures: Measures,
    /// What the file says, where the decoder had something to add.
    facts: Option<Facts>,
}

/// Why a file could not be measured.
#[derive(Debug, thiserror::Error)]
pub(super) enum MeasureError {
    #[error(transparent)]
    Opening(#[from] MediaError),
    #[error(transparent)]
    Pixels(#[from] SourceError),
    #[error("the decoder failed on this picture")]
    Stopped,
}

/// Decodes and measures; a picture that stops the program fails alone.
pub(super) fn measured(path: &Path) -> Result<Measured, MeasureError> {
    let work = || -> Result<Measured, MeasureError> {
        let source = FileSource::open(path)?;
        let before = source.notes().len();
        let measures = measure::measure(&source as &dyn Source)?;
        let facts = (source.notes().len() > before).then(|| source.facts(path));
        Ok(Measured { measures, facts })
    };
    std::panic::catch_unwind(work).unwrap_or(Err(MeasureError::Stopped))
}

impl Frames {
    /// Scans a shoot's places. Known and unchanged files are passed over; vanished ones leave the set, but what
    /// was decided about them is kept for the day they come back. Asked while it runs, it runs once more.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn scan(&self, shoot: i64) -> rallo_job::Result<()> {
        self.scan_until_done(shoot, false).await
    }

    /// With `trusting`, files that are known and unchanged are not looked into again.
    pub(super) async fn scan_until_done(&self, shoot: i64, trusting: bool) -> rallo_job::Result<()> {
        if !lock(&self.0.scanning).insert(shoot) {
            lock(&self.0.again).insert(shoot);
            return Ok(());
        }
        let mut result;
        loop {
            result = self.scan_once(shoot, trusting).await;
            if result.is_err() || !lock(&self.0.again).remove(&shoot) {
                break;
            }
        }
        lock(&self.0.scanning).remove(&shoot);
        self.tell(shoot);
        self.0.wake.notify_one();
        result
    }

    pub(super) async fn scan_once(&self, shoot: i64, trusting: bool) -> rallo_job::Result<()> {
        let places = self.0.records.folders_of_shoot(shoot).await?;
        let results = self.0.records.shoot(shoot).await?.results;
        let rows = self.0.records.frames(shoot).await?;
        let known: Arc<HashMap<String, Row>> =
            Arc::new(rows.into_iter().map(|r| (r.path.clone(), r)).collect());
        self.all(Set::Shoot(shoot)).await?;
        self.tell(shoot);
        let (send, mut receive) = tokio::sync::mpsc::channel::<Seen>(2048);
        let trusted = trusting.then(|| known.clone());
        let walker = tokio::task::spawn_blocking(move || {
            let trusted = |found: &Found| {
                let row = trusted.as_ref().and_then(|k| k.get(&*found.path.to_string_lossy()));
                row.is_some_and(|r| unchanged(r, found))
            };
            for place in places {
                let path = PathBuf::from(&place.path);
                let looked = scan::look(&path, place.deep, results, &trusted, &mut |seen| {
                    // The receiver only goes away when the program ends.
                    let _ = send.blocking_send(seen);
                });
                if let Err(e) = looked {
                    let reason = format!("cannot be opened: {e}");
                    let _ = send.blocking_send(Seen::Left(LeftOut { path, reason }));
                }
            }
        });
        let mut left = Vec::new();
        let mut seen: HashSet<String> = HashSet::new();
        let mut fresh: Vec<Found> = Vec::new();
        let mut back = Vec::new();
        let mut buffer = Vec::new();
        while receive.recv_many(&mut buffer, BATCH).await > 0 {
            for finding in buffer.drain(..) {
                match finding {
                    Seen::Left(out) => left.push(out),
                    Seen::Picture(found) => {
                        let path = found.path.to_string_lossy().into_owned();
                        match known.get(&path) {
                            Some(k) if unchanged(k, &found) => {
                                if k.gone {
                                    back.push(k.id);
                                }
                            }
                            _ => fresh.push(found),
                        }
                        seen.insert(path);
                    }
                }
            }
            if fresh.len() >= BATCH {
                self.take_in(shoot, std::mem::take(&mut fresh)).await?;
            }
        }
        self.take_in(shoot, fresh).await?;
        if let Err(e) = walker.await {
            tracing::error!("scan of shoot {shoot}: {e}");
        }
        let gone: Vec<i64> =
            known.values().filter(|k| !k.gone && !seen.contains(&k.path)).map(|k| k.id).collect();
        self.0.records.set_gone(&gone, true).await?;
        self.0.records.set_gone(&back, false).await?;
        if !gone.is_empty() || !back.is_empty() {
            lock(&self.0.held).clear();
            self.all(Set::Shoot(shoot)).await?;
        }
        left.sort_by(|a, b| a.path.cmp(&b.path));
        lock(&self.0.left_out).insert(shoot, left);
        self.0.records.scanned(shoot, &now()).await
    }

    /// Reads what new files say, several at a time, and adds them.
    pub(super) async fn take_in(&self, shoot: i64, found: Vec<Found>) -> rallo_job::Result<()> {
        if found.is_empty() {
            return Ok(());
        }
        let rows = schedule::ask(Class::Sight, move || -> Vec<Row> {
            found
                .into_par_iter()
                .map(|file| {
                    let (facts, problem) = match scan::facts(&file.path) {
                        Ok(facts) => (Some(facts), None),
                        Err(e) => (None, Some(e.to_string())),
                    };
                    let keywords = facts.as_ref().map(|f| f.keywords.clone()).unwrap_or_default();
                    Row {
                        shoot_id: shoot,
                        name: name_of(&file.path),
                        path: file.path.to_string_lossy().into_owned(),
                        bytes: file.bytes as i64,
                        modified: file.modified,
                        rating: facts.as_ref().map_or(0, |f| i64::from(f.rating)),
                        keywords: serde_json::to_string(&keywords).unwrap_or_default(),
                        facts: facts.and_then(|f| serde_json::to_string(&f).ok()),
                        problem,
                        ..Row::default()
                    }
                })
                .collect()
        })
        .await
        .unwrap_or_default();
        let rows = self.0.records.put_frames(&rows).await?;
        if let Some(held) = lock(&self.0.held).get_mut(&Set::Shoot(shoot)) {
            let known: HashMap<i64, usize> = held.frames.iter().enumerate().map(|(i, f)| (f.id, i)).collect();
            let frames = Arc::make_mut(&mut held.frames);
            for row in rows {
                match known.get(&row.id) {
                    Some(&i) => frames[i] = frame(row),
                    None => frames.push(frame(row)),
                }
            }
            held.suggestions = None;
        }
        self.tell(shoot);
        Ok(())
    }

    /// Measures frames nobody measured yet, for ever.
    pub(super) async fn measure_on(&self) {
        loop {
            match self.measure_some().await {
                Ok(true) => {}
                Ok(false) => self.0.wake.notified().await,
                Err(e) => {
                    tracing::error!("measuring: {e}");
                    tokio::time::sleep(Duration::from_secs(5)).await;
                }
            }
        }
    }

    /// Measures a few frames of the shoots that are open; says whether there were any.
    ///
    /// # Errors
    /// [`rallo_job::Error`].
    pub async fn measure_some(&self) -> rallo_job::Result<bool> {
        let next: Option<(i64, Vec<(i64, PathBuf)>)> = lock(&self.0.held).iter().find_map(|(set, held)| {
            let Set::Shoot(shoot) = set else { return None };
            let some: Vec<(i64, PathBuf)> = held
                .frames
                .iter()
                .filter(|f| f.measures.is_none() && f.problem.is_none())
                .take(MEASURED)
                .map(|f| (f.id, f.path.clone()))
                .collect();
            (!some.is_empty()).then_some((*shoot, some))
        });
        let Some((shoot, some)) = next else { return Ok(false) };
        let found = schedule::ask(Class::Background, move || {
            some.into_iter().map(|(id, path)| (id, measured(&path))).collect::<Vec<_>>()
        })
        .await
        .unwrap_or_default();
        if found.is_empty() {
            return Ok(false);
        }
        let rows: Vec<FrameMeasured> = found
            .iter()
            .map(|(id, seen)| match seen {
                Ok(seen) => FrameMeasured {
                    id: *id,
                    measures: serde_json::to_string(&seen.measures).ok(),
                    facts: seen.facts.as_ref().and_then(|f| serde_json::to_string(f).ok()),
                    ..FrameMeasured::default()
                },
                Err(e) => FrameMeasured { id: *id, problem: Some(e.to_string()), ..FrameMeasured::default() },
            })
            .collect();
        self.0.records.measured(&rows).await?;
        let by_id: HashMap<i64, &Result<Measured, MeasureError>> =
            found.iter().map(|(id, m)| (*id, m)).collect();
        let ids = by_id.keys().copied().collect();
        self.patch(&ids, &|f| match by_id.get(&f.id) {
            Some(Ok(seen)) => {
                f.measures = Some(seen.measures.clone());
                if let Some(facts) = &seen.facts {
                    f.facts = Some(facts.clone());
                }
            }
            Some(Err(e)) => f.problem = Some(e.to_string()),
            None => {}
        });
        self.tell(shoot);
        Ok(true)
    }

    /// Looks at followed shoots every two seconds.
    pub(super) async fn follow(&self) {
        loop {
            tokio::time::sleep(Duration::from_secs(2)).await;
            for shoot in self.0.records.shoots().await.unwrap_or_default().into_iter().filter(|s| s.follow) {
                if let Err(e) = self.scan_until_done(shoot.id, true).await {
                    tracing::error!("following {}: {e}", shoot.name);
                }
            }
        }
    }
}
