//! The simulated interval camera: a stand-in for a device that writes frames into a folder, one every so many
//! seconds, with a clock and faults of one's choice.

use crate::bed::BedCamera;
use crate::sequence::put;
use crate::stills::DemoError;
use jiff::SignedDuration;
use jiff::civil::DateTime;
use schemars::JsonSchema;
use serde::Deserialize;
use std::path::{Path, PathBuf};

/// What goes wrong, by the number of the frame, from 1.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Faults {
    /// Frames that are not taken.
    pub missed: Vec<usize>,
    /// Frames that are taken twice, two seconds apart.
    pub double: Vec<usize>,
    /// From these frames on the clock is wrong by so many seconds more.
    pub jump: Vec<(usize, i64)>,
}

/// How the camera is set.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Settings {
    /// Frames to take.
    pub frames: usize,
    /// Seconds between frames, as the camera's clock runs.
    pub interval: f64,
    /// What the clock says at the start.
    #[schemars(with = "String")]
    pub clock: DateTime,
    /// First number in the names.
    pub first: usize,
    /// Faults.
    pub faults: Faults,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            frames: 20,
            interval: 900.0,
            clock: DateTime::constant(2026, 4, 12, 7, 0, 0, 0),
            first: 1,
            faults: Faults::default(),
        }
    }
}

/// Most frames of one order.
pub const MOST: usize = 100_000;

/// One file the camera will write.
#[derive(Clone, Debug, PartialEq)]
pub struct Shot {
    /// File name.
    pub name: String,
    /// When it is really taken.
    pub taken: DateTime,
    /// What the clock says.
    pub written: DateTime,
}

/// What is wrong with how the camera is set.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum SettingsError {
    /// Too few frames, or too many.
    #[error("frames: expected 1 to {MOST}, got {0}")]
    Frames(usize),
    /// Seconds between frames that no camera waits.
    #[error("interval: expected 0.1 s to a week, got {0} s")]
    Interval(f64),
}

impl Settings {
    /// Checks the settings.
    ///
    /// # Errors
    /// [`SettingsError`].
    pub fn check(&self) -> Result<(), SettingsError> {
        if !(1..=MOST).contains(&self.frames) {
            return Err(SettingsError::Frames(self.frames));
        }
        if !(0.1..=7.0 * 86_400.0).contains(&self.interval) {
            return Err(SettingsError::Interval(self.interval));
        }
        Ok(())
    }

    /// What the order `number` (from 1) becomes: nothing for a missed frame, two shots for a double.
    pub fn shots(&self, number: usize) -> Vec<Shot> {
        if self.faults.missed.contains(&number) {
            return Vec::new();
        }
        let at = SignedDuration::from_secs_f64(self.interval * (number - 1) as f64);
        let error: i64 = self.faults.jump.iter().filter(|(from, _)| number >= *from).map(|(_, by)| by).sum();
        let times = if self.faults.double.contains(&number) { 2 } else { 1 };
        // Numbers in the names run on without a gap, as a camera's do.
        let before = (1..number)
            .map(|n| {
                usize::from(!self.faults.missed.contains(&n)) + usize::from(self.faults.double.contains(&n))
            })
            .sum::<usize>();
        (0..times)
            .map(|k| {
                let taken =
                    self.clock.saturating_add(at).saturating_add(SignedDuration::from_secs(2 * k as i64));
                Shot {
                    name: format!("POST_{:04}.jpg", self.first + before + k),
                    taken,
                    written: taken.saturating_add(SignedDuration::from_secs(error)),
                }
            })
            .collect()
    }
}

/// The camera at work.
pub struct Device {
    settings: Settings,
    folder: PathBuf,
    bed: BedCamera,
    taken: usize,
}

impl Device {
    /// A camera that writes into `folder`.
    ///
    /// # Errors
    /// [`SettingsError`].
    pub fn new(folder: &Path, settings: Settings, seed: u64) -> Result<Self, SettingsError> {
        settings.check()?;
        Ok(Self { settings, folder: folder.to_owned(), bed: BedCamera::new(seed), taken: 0 })
    }

    /// Whether all frames were taken.
    pub fn is_done(&self) -> bool {
        self.taken >= self.settings.frames
    }

    /// Takes the next frame; gives the files written (none for a missed frame).
    ///
    /// # Errors
    /// When a file cannot be written.
    pub fn shoot(&mut self) -> Result<Vec<PathBuf>, DemoError> {
        self.taken += 1;
        let mut files = Vec::new();
        for shot in self.settings.shots(self.taken) {
            let path = self.folder.join(&shot.name);
            let bytes = self.bed.shoot(shot.taken, shot.written)?;
            put(&path, &bytes).map_err(|e| DemoError::Io(path.clone(), e))?;
            files.push(path);
        }
        Ok(files)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn faults_are_as_ordered() {
        let faults = Faults { missed: vec![3], double: vec![4], jump: vec![(5, -3600)] };
        let settings = Settings { frames: 6, interval: 60.0, faults, ..Settings::default() };
        let all: Vec<Shot> = (1..=6).flat_map(|n| settings.shots(n)).collect();
        let told: Vec<(String, String)> =
            all.iter().map(|s| (s.name.clone(), s.written.time().to_string())).collect();
        let want = [
            ("POST_0001.jpg", "07:00:00"),
            ("POST_0002.jpg", "07:01:00"),
            ("POST_0003.jpg", "07:03:00"),
            ("POST_0004.jpg", "07:03:02"),
            ("POST_0005.jpg", "06:04:00"),
            ("POST_0006.jpg", "06:05:00"),
        ];
        assert_eq!(told, want.map(|(a, b)| (a.to_owned(), b.to_owned())));
        assert_eq!(all[4].taken.time().to_string(), "07:04:00");
    }

    #[test]
    fn wrong_settings_are_said() {
        let wrong = Settings { frames: 0, ..Settings::default() };
        assert_eq!(wrong.check().unwrap_err().to_string(), "frames: expected 1 to 100000, got 0");
        assert!(Settings { interval: -1.0, ..Settings::default() }.check().is_err());
    }
}
