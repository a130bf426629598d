//! The sieve: passes that let frames of a sequence through or set them aside, one after the other, each by something that can
//! be said of a frame. Nothing is decided for good: a pass that is changed, moved or switched off gives its frames back.

mod passes;
mod suggested;

pub use passes::{Against, Line, Pass, PassFault, Sun, Weekday, Window};
pub use suggested::suggested;

use jiff::civil::DateTime;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::sync::{Arc, Mutex, PoisonError};

/// The light of a frame, or of a part of it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Light {
    /// Mean of luminance as it is seen, 0 black to 100 white.
    pub brightness: f64,
    /// From the darkest twentieth of the pixels to the brightest, on the same scale.
    pub contrast: f64,
    /// Mean difference from the frame before, on the same scale, after both were made equally bright; nothing for the first.
    pub change: Option<f64>,
    /// Mean red, green and blue as they are seen, 0 to 100.
    pub colour: [f64; 3],
    /// How bright the scene itself was, in stops (the exposure value at ISO 100 that would have given mid grey); nothing where
    /// the camera does not say how it was set.
    #[serde(default)]
    pub scene: Option<f64>,
    /// How far it differs from what is usual at its hour, in hundredths of a stop; of the whole frame only, and nothing
    /// where too few others tell.
    #[serde(default)]
    pub unusual: Option<f64>,
}

/// What the sieve knows of a frame.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct SieveFrame {
    /// File name.
    pub name: String,
    /// When it was taken.
    pub taken: Option<DateTime>,
    /// Its light; nothing where it could not be measured.
    pub light: Option<Light>,
    /// That of each area, in their order.
    pub areas: Vec<Light>,
    /// How sharp it is.
    pub sharpness: Option<f64>,
    /// Equal for frames with the same pixels.
    pub pixels: String,
}

/// What becomes of frames.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sieved {
    /// For each frame the pass, from 0, that sets it aside; nothing for one that stays.
    pub by: Vec<Option<usize>>,
}

impl Sieved {
    /// Places of the frames that stay.
    pub fn stay(&self) -> impl Iterator<Item = usize> + '_ {
        self.by.iter().enumerate().filter(|(_, by)| by.is_none()).map(|(at, _)| at)
    }
}

/// A pass with its switch.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SwitchedPass {
    /// What it goes by.
    #[serde(flatten)]
    pub pass: Pass,
    /// Whether it is on.
    #[serde(default = "yes", skip_serializing_if = "Clone::clone")]
    pub on: bool,
}

fn yes() -> bool {
    true
}

/// Of each frame a line's value and what it is held against; nothing for a frame without that line.
type HeldValues = Vec<Option<(f64, f64)>>;

/// What lines were held against lately, for one set of frames: while an edge is dragged nothing else changes.
#[derive(Default)]
pub struct HeldLately(Mutex<Vec<(HeldKey, Arc<HeldValues>)>>);

/// The line, the area, what it is held against, and which frames come to its pass.
#[derive(PartialEq)]
struct HeldKey(Line, Option<usize>, Against, Vec<usize>);

/// So many are kept.
const LATELY: usize = 12;

impl HeldLately {
    /// What a line over some of the frames, by their places, is held against.
    pub fn values(
        &self,
        frames: &[SieveFrame],
        left: &[usize],
        (line, area, against): (Line, Option<usize>, Against),
    ) -> Arc<HeldValues> {
        let key = HeldKey(line, area, against, left.to_vec());
        let lock = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, known)) = lock().iter().find(|(known, _)| *known == key) {
            return known.clone();
        }
        let seen: Vec<&SieveFrame> = left.iter().map(|i| &frames[*i]).collect();
        let held = Arc::new(passes::held_against(&seen, line, area, against));
        let mut kept = lock();
        kept.insert(0, (key, held.clone()));
        kept.truncate(LATELY);
        held
    }
}

/// Sends frames, in order of time, through passes.
///
/// # Errors
/// [`PassFault`], which names the pass and what is wrong with it.
pub fn sieve(frames: &[SieveFrame], passes: &[SwitchedPass]) -> Result<Sieved, PassFault> {
    sieve_again(frames, passes, &HeldLately::default())
}

/// As [`sieve`], with what was held against before for the same frames.
///
/// # Errors
/// [`PassFault`], which names the pass and what is wrong with it.
pub fn sieve_again(
    frames: &[SieveFrame],
    passes: &[SwitchedPass],
    lately: &HeldLately,
) -> Result<Sieved, PassFault> {
    let mut by: Vec<Option<usize>> = vec![None; frames.len()];
    for (at, pass) in passes.iter().enumerate() {
        pass.pass.check().map_err(|wrong| PassFault { pass: at, message: wrong.to_string() })?;
        if !pass.on {
            continue;
        }
        // Each pass sees only what the ones before it let through.
        let left: Vec<usize> = (0..frames.len()).filter(|i| by[*i].is_none()).collect();
        let stays = match &pass.pass {
            Pass::Line { line, area, against, lower, upper } => {
                let held = lately.values(frames, &left, (*line, *area, *against));
                held.iter().map(|held| passes::lies_between(*held, *lower, *upper)).collect()
            }
            other => other.stays(&left.iter().map(|i| &frames[*i]).collect::<Vec<_>>()),
        };
        for (i, stays) in left.into_iter().zip(stays) {
            if !stays {
                by[i] = Some(at);
            }
        }
    }
    Ok(Sieved { by })
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::ToSpan;
    use jiff::civil::date;
    use serde_json::json;

    /// Frames every hour over some days: days bright, nights dark, every seventh a little too bright.
    fn frames(days: i64) -> Vec<SieveFrame> {
        let start = date(2026, 4, 6).at(0, 30, 0, 0);
        let frame = |i: i64| {
            let taken = start + i.hours();
            let hour = f64::from(taken.hour()) + 0.5;
            let sun = ((hour - 12.0) / 12.0 * std::f64::consts::PI).cos().max(0.0);
            let odd = if i % 7 == 3 { 8.0 } else { 0.0 };
            let light = Light {
                brightness: 5.0 + 45.0 * sun + odd,
                contrast: 40.0,
                change: (i > 0).then_some(1.0),
                colour: [30.0; 3],
                ..Light::default()
            };
            SieveFrame {
                name: format!("f{i:03}.jpg"),
                taken: Some(taken),
                light: Some(light),
                areas: vec![Light { brightness: 90.0, ..light }],
                sharpness: Some(if i % 11 == 5 { 2.0 } else { 10.0 }),
                pixels: if i == 20 { "p19".into() } else { format!("p{i}") },
            }
        };
        (0..days * 24).map(frame).collect()
    }

    fn passed(frames: &[SieveFrame], passes: serde_json::Value) -> Vec<Option<usize>> {
        let passes: Vec<SwitchedPass> = serde_json::from_value(passes).unwrap();
        sieve(frames, &passes).unwrap().by
    }

    fn stay(frames: &[SieveFrame], passes: serde_json::Value) -> Vec<usize> {
        let by = passed(frames, passes);
        by.iter().enumerate().filter(|(_, by)| by.is_none()).map(|(i, _)| i).collect()
    }

    #[test]
    fn a_level_and_a_course_hold_frames_apart() {
        let all = frames(3);
        let day =
            stay(&all, json!([{"pass": "line", "line": "brightness", "against": {"level": 0}, "lower": 30}]));
        assert!(!day.is_empty() && day.iter().all(|i| (7..18).contains(&(i % 24))), "{day:?}");
        // Against their own course over a few hours only the odd ones stand out.
        let course = json!([{"pass": "line", "line": "brightness", "against": {"course": 8.0}, "upper": 4}]);
        let gone: Vec<usize> =
            passed(&all, course).iter().enumerate().filter(|(_, by)| by.is_some()).map(|(i, _)| i).collect();
        let odd: Vec<usize> = (0..72).filter(|i| i % 7 == 3).collect();
        let found = gone.iter().filter(|i| odd.contains(i)).count();
        // At the foot and the top of a day the course itself is steep, and some are not told.
        assert!(found == gone.len() && found * 2 > odd.len(), "{gone:?}");
        // At the same hour of the other days it is as bright, but for the odd ones.
        let all = frames(8);
        let hour = json!([{"pass": "line", "line": "brightness", "against": {"same_hour": 6}, "upper": 4}]);
        let gone: Vec<usize> =
            passed(&all, hour).iter().enumerate().filter(|(_, by)| by.is_some()).map(|(i, _)| i).collect();
        let odd: Vec<usize> = (0..8 * 24).filter(|i| i % 7 == 3).collect();
        let found = gone.iter().filter(|i| odd.contains(i)).count();
        assert!(found == gone.len() && found * 10 > odd.len() * 8, "{gone:?}");
        let area =
            json!([{"pass": "line", "line": "brightness", "area": 0, "against": {"level": 0}, "upper": 80}]);
        assert!(stay(&all, area).is_empty());
    }

    #[test]
    fn days_and_hours_hold_frames_apart() {
        let all = frames(8);
        // The sixth of April 2026 is a Monday.
        let days = stay(&all, json!([{"pass": "weekdays", "days": ["tuesday"]}]));
        assert_eq!(days, (24..48).collect::<Vec<_>>());
        let noon = stay(&all, json!([{"pass": "time", "from": "11:00", "to": "13:00"}]));
        assert!(noon.iter().all(|i| matches!(i % 24, 11 | 12)) && noon.len() == 16);
        let night = stay(&all, json!([{"pass": "time", "from": "22:00", "to": "02:00"}]));
        assert!(night.iter().all(|i| matches!(i % 24, 22 | 23 | 0 | 1)) && night.len() == 32);
        let window = json!({"from": "2026-04-07", "to": "2026-04-08", "after": "20:00", "before": "24:00"});
        let late = stay(&all, json!([{"pass": "windows", "windows": [window]}]));
        assert_eq!(late, [44, 45, 46, 47, 68, 69, 70, 71]);
        let others = stay(&all, json!([{"pass": "windows", "windows": [window], "outside": true}]));
        assert!(others.len() == all.len() - 8 && !others.contains(&44));
        // At the equator the sun is up from about six to about six.
        let sun = json!([{"pass": "sun", "latitude": 0, "longitude": 0, "offset_hours": 0, "after_sunrise": 60, "before_sunset": 60}]);
        assert!(stay(&all, sun).iter().all(|i| (7..17).contains(&(i % 24))));
    }

    #[test]
    fn frames_are_thinned_out_evenly() {
        let all = frames(4);
        assert_eq!(stay(&all, json!([{"pass": "every", "n": 10}])), (0..96).step_by(10).collect::<Vec<_>>());
        let one = stay(&all, json!([{"pass": "one_a_day", "at": "12:00"}]));
        assert!(one.len() == 4 && one.iter().all(|i| matches!(i % 24, 11 | 12)), "{one:?}");
        let even = stay(&all, json!([{"pass": "evenly", "n": 12}]));
        assert_eq!((even.len(), even[0], even[11]), (12, 0, 95));
        assert_eq!(stay(&all, json!([{"pass": "evenly", "n": 500}])).len(), 96);
    }

    #[test]
    fn blurred_ones_doubles_and_those_clicked_go() {
        let all = frames(2);
        let sharp = stay(&all, json!([{"pass": "sharpness", "below": 50}]));
        assert!(sharp.iter().all(|i| i % 11 != 5) && sharp.len() == 43 || sharp.len() == 44, "{sharp:?}");
        let by = passed(&all, json!([{"pass": "doubles"}]));
        assert_eq!(by.iter().filter(|by| by.is_some()).count(), 1);
        assert!(by[20].is_some(), "the first of two stays");
        assert!(!stay(&all, json!([{"pass": "frames", "go": ["f007.jpg"]}])).contains(&7));
    }

    #[test]
    fn passes_work_one_after_the_other_and_can_be_switched_off() {
        let all = frames(3);
        let passes = json!([
            {"pass": "time", "from": "10:00", "to": "14:00"},
            {"pass": "every", "n": 2},
            {"pass": "frames", "go": ["f010.jpg"], "on": false},
        ]);
        let by = passed(&all, passes);
        assert_eq!((by[0], by[10], by[11]), (Some(0), None, Some(1)));
        // What is written down is what was read.
        let read: Vec<SwitchedPass> = serde_json::from_value(json!([{"pass": "every", "n": 2}])).unwrap();
        assert_eq!(serde_json::to_value(&read).unwrap(), json!([{"pass": "every", "n": 2}]));
    }

    #[test]
    fn what_makes_no_sense_is_named() {
        for (pass, what) in [
            (json!({"pass": "every", "n": 0}), "n"),
            (json!({"pass": "line", "line": "brightness", "against": {"course": -1.0}}), "course"),
            (
                json!({"pass": "line", "line": "brightness", "against": {"level": 0}, "lower": 5, "upper": 1}),
                "lower",
            ),
            (json!({"pass": "line", "line": "scene", "against": {"same_hour": 0}}), "same_hour"),
            (json!({"pass": "time", "from": "25:00", "to": "3:00"}), "from"),
            (
                json!({"pass": "windows", "windows": [{"from": "2026-04-08", "to": "2026-04-06", "after": "8:00", "before": "9:00"}]}),
                "windows",
            ),
            (json!({"pass": "sun", "latitude": 120, "longitude": 0, "offset_hours": 0}), "latitude"),
        ] {
            let passes = vec![serde_json::from_value::<SwitchedPass>(pass).unwrap()];
            let told = sieve(&frames(1), &passes).unwrap_err();
            assert!(told.pass == 0 && told.message.starts_with(what), "{told}");
        }
    }
}
