//! What was measured of the frames of a sequence for lines that decide about all of them together, kept beyond runs and looks: by the
//! lines until then and the frames, so that another line behind measures nothing again.
//!
//! A file for each: one line a frame, its place and its numbers by their bits, so that they come back as they were.

use crate::lock::lock;
use crate::render::sequence::LineMeasurement;
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

/// So many are kept on the disk; the oldest go.
const MOST_FILES: usize = 300;

/// So many are held in memory.
const MOST_HELD: usize = 64;

/// By place in the sequence.
type OfFrames = HashMap<usize, LineMeasurement>;

/// What was measured so far.
pub struct Measurements {
    folder: PathBuf,
    held: Mutex<HashMap<String, OfFrames>>,
}

impl std::fmt::Debug for Measurements {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Measurements").field(&self.folder).finish()
    }
}

/// A line of the file.
fn written(place: usize, values: &LineMeasurement) -> String {
    let numbers = values.as_ref().map_or_else(
        || " none".to_owned(),
        |values| values.iter().map(|v| format!(" {:016x}", v.to_bits())).collect(),
    );
    format!("{place}{numbers}\n")
}

/// What a line of the file says; nothing where it was cut off.
fn read(line: &str) -> Option<(usize, LineMeasurement)> {
    let mut words = line.strip_suffix('\n')?.split(' ');
    let place = words.next()?.parse().ok()?;
    let words: Vec<&str> = words.collect();
    if words == ["none"] {
        return Some((place, None));
    }
    let number = |word: &&str| u64::from_str_radix(word, 16).ok().map(f64::from_bits);
    Some((place, Some(words.iter().map(number).collect::<Option<_>>()?)))
}

impl Measurements {
    /// Those kept below the program's data.
    pub fn new(data: &Path) -> Self {
        Self { folder: data.join("measurements"), held: Mutex::default() }
    }

    /// Those under a key, read where they are not held yet.
    fn of<'a>(&self, held: &'a mut HashMap<String, OfFrames>, key: &str) -> &'a mut OfFrames {
        if held.len() >= MOST_HELD && !held.contains_key(key) {
            held.clear();
        }
        held.entry(key.to_owned()).or_insert_with(|| {
            let text = std::fs::read_to_string(self.folder.join(key)).unwrap_or_default();
            text.split_inclusive('\n').filter_map(read).collect()
        })
    }

    /// What was measured of the frame at a place; nothing where it was not measured yet.
    pub fn find(&self, key: &str, place: usize) -> Option<LineMeasurement> {
        self.of(&mut lock(&self.held), key).get(&place).cloned()
    }

    /// Keeps what was measured; what was measured first stays. Where the disk refuses, it is measured again another time.
    pub fn keep(&self, key: &str, place: usize, values: &LineMeasurement) {
        let mut held = lock(&self.held);
        let Entry::Vacant(vacant) = self.of(&mut held, key).entry(place) else { return };
        vacant.insert(values.clone());
        let file = self.folder.join(key);
        if !file.exists() {
            let _ = std::fs::create_dir_all(&self.folder);
            self.make_room();
        }
        let file = std::fs::File::options().append(true).create(true).open(file);
        let _ = file.and_then(|mut file| file.write_all(written(place, values).as_bytes()));
    }

    fn make_room(&self) {
        let Ok(entries) = std::fs::read_dir(&self.folder) else { return };
        let mut files: Vec<_> = entries
            .filter_map(|e| e.ok().and_then(|e| Some((e.metadata().ok()?.modified().ok()?, e.path()))))
            .collect();
        files.sort();
        let many = (files.len() + 1).saturating_sub(MOST_FILES);
        for (_, file) in files.into_iter().take(many) {
            let _ = std::fs::remove_file(file);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_come_back_as_they_were_and_a_line_that_was_cut_off_does_not_count() {
        let folder = tempfile::tempdir().unwrap();
        let kept = Measurements::new(folder.path());
        assert_eq!(kept.find("a", 0), None);
        let numbers = Some(vec![0.1 + 0.2, -0.0, f64::MIN_POSITIVE, 1e300]);
        kept.keep("a", 0, &numbers);
        kept.keep("a", 3, &None);
        kept.keep("a", 4, &Some(Vec::new()));
        // What was measured first stays.
        kept.keep("a", 0, &None);
        let again = Measurements::new(folder.path());
        assert_eq!(again.find("a", 0), Some(numbers));
        assert_eq!((again.find("a", 3), again.find("a", 4)), (Some(None), Some(Some(Vec::new()))));
        assert_eq!((again.find("a", 1), again.find("b", 0)), (None, None));
        let file = folder.path().join("measurements/a");
        let text = std::fs::read_to_string(&file).unwrap();
        std::fs::write(&file, format!("{text}7 3ff0000000")).unwrap();
        assert_eq!(Measurements::new(folder.path()).find("a", 7), None);
    }

    #[test]
    fn nothing_is_lost_where_more_is_kept_than_is_held() {
        let folder = tempfile::tempdir().unwrap();
        let kept = Measurements::new(folder.path());
        let all = || (0..MOST_HELD * 2).map(|i| format!("{i}"));
        for place in 0..3 {
            all().for_each(|key| kept.keep(&key, place, &Some(vec![place as f64])));
        }
        for kept in [&kept, &Measurements::new(folder.path())] {
            assert!(all().all(|key| (0..3).all(|at| kept.find(&key, at) == Some(Some(vec![at as f64])))));
        }
    }

    #[test]
    fn the_oldest_go() {
        let folder = tempfile::tempdir().unwrap();
        let kept = Measurements::new(folder.path());
        for i in 0..MOST_FILES + 5 {
            kept.keep(&format!("{i}"), 0, &None);
        }
        let files = std::fs::read_dir(folder.path().join("measurements")).unwrap().count();
        assert_eq!(files, MOST_FILES);
        assert_eq!(Measurements::new(folder.path()).find(&format!("{}", MOST_FILES + 4), 0), Some(None));
    }
}
