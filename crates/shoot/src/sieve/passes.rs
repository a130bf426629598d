//! What a pass can go by.

use crate::sieve::{Light, SieveFrame};
use chrono::NaiveDate;
use jiff::civil::{Date, DateTime, Time};
use rallo_engine::sequence::course::slow;
use rallo_engine::sequence::usual::usual;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashSet};
use sunrise::{Coordinates, SolarDay, SolarEvent};

/// A pass that makes no sense.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("passes[{pass}].{message}")]
pub struct PassFault {
    /// Which, from 0.
    pub pass: usize,
    /// The value, and what was expected.
    pub message: String,
}

/// A value of a pass that makes no sense.
#[derive(Debug, thiserror::Error)]
#[error("{name}: {expected}")]
pub(super) struct WrongValue {
    name: &'static str,
    /// What was expected, and what it is.
    expected: String,
}

impl WrongValue {
    fn new(name: &'static str, expected: String) -> Self {
        Self { name, expected }
    }
}

/// A line of the light.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Line {
    /// Mean of luminance.
    Brightness,
    /// From dark to bright.
    Contrast,
    /// Difference from the frame before.
    Change,
    /// Red against green, in hundredths.
    Red,
    /// Blue against green, in hundredths.
    Blue,
    /// How bright the scene itself was, in stops.
    Scene,
    /// How far a frame differs from what is usual at its hour, in hundredths of a stop.
    Unusual,
}

/// What a line is held against.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Against {
    /// Its own slow course over so many hours to each side.
    Course(f64),
    /// What is usual at the same hour on so many days to each side.
    SameHour(f64),
    /// One level.
    Level(f64),
}

/// A day of the week.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[allow(missing_docs, reason = "each is what it is called")]
pub enum Weekday {
    Monday,
    Tuesday,
    Wednesday,
    Thursday,
    Friday,
    Saturday,
    Sunday,
}

/// A place on the earth, and the clock there.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Sun {
    /// Degrees, north above 0.
    pub latitude: f64,
    /// Degrees, east above 0.
    pub longitude: f64,
    /// Hours the camera's clock is before UTC.
    #[serde(default)]
    pub offset_hours: f64,
}

/// Some days, and some hours of each.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Window {
    /// The first day, as `YYYY-MM-DD`.
    pub from: String,
    /// The last day, which is in it.
    pub to: String,
    /// From this time on, as `HH:MM`.
    pub after: String,
    /// Up to this time, which is not in it; `24:00` is the end of the day.
    pub before: String,
}

impl Window {
    /// Its days and the minutes of each; what is wrong with it.
    fn read(&self) -> Result<Span, WrongValue> {
        let day = |text: &String| {
            text.parse::<Date>().map_err(|_| {
                WrongValue::new("windows", format!("expected a day such as 2026-04-06, got {text}"))
            })
        };
        let minute = |text: &String| match text.as_str() {
            "24:00" => Ok(24 * 60),
            _ => time_of(text).map(|t| seconds(t) / 60).ok_or_else(|| {
                WrongValue::new("windows", format!("expected a time such as 9:30, got {text}"))
            }),
        };
        let span = Span {
            days: day(&self.from)?..=day(&self.to)?,
            minutes: minute(&self.after)?..minute(&self.before)?,
        };
        if span.days.is_empty() || span.minutes.is_empty() {
            let text = format!(
                "expected the first day and hour before the last, got {} to {}, {} to {}",
                self.from, self.to, self.after, self.before
            );
            return Err(WrongValue::new("windows", text));
        }
        Ok(span)
    }
}

/// Days, and minutes of each since its midnight.
struct Span {
    days: std::ops::RangeInclusive<Date>,
    minutes: std::ops::Range<i64>,
}

/// What a pass lets through.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "pass", rename_all = "snake_case")]
pub enum Pass {
    /// Frames whose line lies between two edges of what it is held against. A frame without that line is let through.
    Line {
        /// The line.
        line: Line,
        /// Of which area, from 0; of the whole frame without one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        area: Option<usize>,
        /// What it is held against.
        against: Against,
        /// The lower edge above that, usually below 0; off without one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        lower: Option<f64>,
        /// The upper edge above it; off without one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        upper: Option<f64>,
    },
    /// Frames taken on these days.
    Weekdays {
        /// Which.
        days: Vec<Weekday>,
    },
    /// Frames taken between two times of the day; over midnight where the second is the earlier one.
    Time {
        /// From, as `HH:MM`.
        from: String,
        /// To, which is not in it.
        to: String,
    },
    /// Frames taken in windows of days and hours.
    Windows {
        /// Which; a frame in one of them is in.
        windows: Vec<Window>,
        /// Lets through those outside instead.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        outside: bool,
    },
    /// Frames taken between sunrise and sunset.
    Sun {
        /// Where.
        #[serde(flatten)]
        place: Sun,
        /// Minutes after sunrise that it begins; below 0 before it.
        #[serde(default)]
        after_sunrise: f64,
        /// Minutes before sunset that it ends; below 0 after it.
        #[serde(default)]
        before_sunset: f64,
    },
    /// Every n-th frame.
    Every {
        /// 2 is every other one.
        n: usize,
    },
    /// Of each day the frame nearest to a time.
    OneADay {
        /// As `HH:MM`.
        at: String,
    },
    /// So many frames, evenly spread.
    Evenly {
        /// How many.
        n: usize,
    },
    /// Frames that are sharp against their neighbours.
    Sharpness {
        /// So many per cent of the sharpness around are too little.
        below: f64,
        /// Neighbours to each side.
        #[serde(default = "few")]
        neighbours: usize,
    },
    /// Of frames with the same pixels the first.
    Doubles,
    /// All but those that were picked by hand.
    Frames {
        /// Their names.
        go: Vec<String>,
    },
}

fn few() -> usize {
    5
}

fn time_of(text: &str) -> Option<Time> {
    let (hour, minute) = text.split_once(':')?;
    Time::new(hour.trim().parse().ok()?, minute.trim().parse().ok()?, 0, 0).ok()
}

fn seconds(time: Time) -> i64 {
    i64::from(time.hour()) * 3600 + i64::from(time.minute()) * 60 + i64::from(time.second())
}

impl Line {
    fn of(self, light: &Light) -> Option<f64> {
        let against_green = |c: usize| (light.colour[c] / light.colour[1].max(0.1) - 1.0) * 100.0;
        Some(match self {
            Self::Brightness => light.brightness,
            Self::Contrast => light.contrast,
            Self::Change => light.change?,
            Self::Red => against_green(0),
            Self::Blue => against_green(2),
            Self::Scene => light.scene?,
            Self::Unusual => light.unusual?,
        })
    }
}

/// Of each frame the line's value, and what it is held against; nothing for a frame without that line.
pub(super) fn held_against(
    frames: &[&SieveFrame],
    line: Line,
    area: Option<usize>,
    against: Against,
) -> Vec<Option<(f64, f64)>> {
    let light = |frame: &&SieveFrame| match area {
        None => frame.light,
        Some(area) => frame.areas.get(area).copied(),
    };
    let values: Vec<Option<f64>> = frames.iter().map(|f| line.of(&light(f)?)).collect();
    match against {
        Against::Level(level) => values.into_iter().map(|v| Some((v?, level))).collect(),
        Against::Course(_) | Against::SameHour(_) => {
            let known: Vec<usize> = (0..values.len()).filter(|i| values[*i].is_some()).collect();
            let places = hours_of(frames, &known);
            let own: Vec<f64> = known.iter().filter_map(|i| values[*i]).collect();
            let held = match against {
                Against::SameHour(days) => usual(&places, &own, days),
                Against::Course(hours) | Against::Level(hours) => slow(&places, &own, hours),
            };
            let mut out = vec![None; values.len()];
            for ((i, value), held) in known.iter().zip(&own).zip(held) {
                out[*i] = Some((*value, held));
            }
            out
        }
    }
}

/// Hours since the midnight before the first frame, rising; frames without a time stand an hour apart from those before them.
fn hours_of(frames: &[&SieveFrame], which: &[usize]) -> Vec<f64> {
    let first = which.iter().find_map(|i| frames[*i].taken).map(|t| t.date().to_datetime(Time::midnight()));
    let mut last = f64::NEG_INFINITY;
    let hour = |i: &usize| {
        let told =
            frames[*i].taken.zip(first).map(|(t, first)| t.duration_since(first).as_secs_f64() / 3600.0);
        let here = told.filter(|h| *h > last).unwrap_or(if last.is_finite() { last + 1e-3 } else { 0.0 });
        last = here;
        here
    };
    which.iter().map(hour).collect()
}

/// Whether a value lies between two edges of what it is held against; a frame without the line does.
pub(super) fn lies_between(held: Option<(f64, f64)>, lower: Option<f64>, upper: Option<f64>) -> bool {
    held.is_none_or(|(value, against)| {
        let apart = value - against;
        lower.is_none_or(|edge| apart >= edge) && upper.is_none_or(|edge| apart <= edge)
    })
}

impl Pass {
    /// What is wrong with its values.
    pub(super) fn check(&self) -> Result<(), WrongValue> {
        let time = |name, text: &String| {
            time_of(text)
                .map(|_| ())
                .ok_or_else(|| WrongValue::new(name, format!("expected a time such as 9:30, got {text}")))
        };
        let wrong = |name, expected: String| Err(WrongValue::new(name, expected));
        match self {
            Self::Line { against: Against::Course(hours), .. } if !(*hours > 0.0 && *hours <= 10_000.0) => {
                wrong("course", format!("expected hours above 0 and up to 10000, got {hours}"))
            }
            Self::Line { against: Against::SameHour(days), .. } if !(*days >= 1.0 && *days <= 60.0) => {
                wrong("same_hour", format!("expected days from 1 to 60, got {days}"))
            }
            Self::Line { lower: Some(lower), upper: Some(upper), .. } if lower > upper => {
                wrong("lower", format!("{lower} lies above the upper edge, {upper}"))
            }
            Self::Time { from, to } => time("from", from).and_then(|()| time("to", to)),
            Self::OneADay { at } => time("at", at),
            Self::Windows { windows, .. } => windows.iter().try_for_each(|w| w.read().map(|_| ())),
            Self::Sun { place, .. } if Coordinates::new(place.latitude, place.longitude).is_none() => {
                let (north, east) = (place.latitude, place.longitude);
                let expected = "expected degrees from -90 to 90, and a longitude from -180 to 180";
                wrong("latitude", format!("{expected}, got {north} and {east}"))
            }
            Self::Every { n: 0 } | Self::Evenly { n: 0 } => wrong("n", "expected 1 or more, got 0".into()),
            Self::Sharpness { below, .. } if !(0.0..=100.0).contains(below) => {
                wrong("below", format!("expected a number from 0 to 100, got {below}"))
            }
            _ => Ok(()),
        }
    }

    /// Which of the frames it lets through, in their order.
    pub(super) fn stays(&self, frames: &[&SieveFrame]) -> Vec<bool> {
        let by_time = |fits: &dyn Fn(DateTime) -> bool| -> Vec<bool> {
            // What says no time cannot be told by it.
            frames.iter().map(|f| f.taken.is_none_or(fits)).collect()
        };
        match self {
            Self::Line { line, area, against, lower, upper } => {
                let held = held_against(frames, *line, *area, *against);
                held.into_iter().map(|held| lies_between(held, *lower, *upper)).collect()
            }
            Self::Weekdays { days } => {
                by_time(&|taken| days.iter().any(|day| *day as i8 == taken.weekday().to_monday_zero_offset()))
            }
            Self::Time { from, to } => {
                let (Some(from), Some(to)) = (time_of(from), time_of(to)) else {
                    return vec![true; frames.len()];
                };
                by_time(&|taken| {
                    let time = taken.time();
                    if from <= to { time >= from && time < to } else { time >= from || time < to }
                })
            }
            Self::Windows { windows, outside } => {
                let spans: Vec<Span> = windows.iter().filter_map(|w| w.read().ok()).collect();
                by_time(&|taken| {
                    let minute = seconds(taken.time()) / 60;
                    let inside = |s: &Span| s.days.contains(&taken.date()) && s.minutes.contains(&minute);
                    spans.iter().any(inside) != *outside
                })
            }
            Self::Sun { place, after_sunrise, before_sunset } => {
                by_time(&|taken| is_day(taken, *place, *after_sunrise, *before_sunset))
            }
            Self::Every { n } => (0..frames.len()).map(|i| i % n == 0).collect(),
            Self::OneADay { at } => one_a_day(frames, time_of(at).unwrap_or_default()),
            Self::Evenly { n } => evenly(frames.len(), *n),
            Self::Sharpness { below, neighbours } => sharp(frames, *below / 100.0, *neighbours),
            Self::Doubles => {
                let mut seen = HashSet::new();
                frames.iter().map(|f| f.pixels.is_empty() || seen.insert(&f.pixels)).collect()
            }
            Self::Frames { go } => {
                let go: HashSet<&String> = go.iter().collect();
                frames.iter().map(|f| !go.contains(&f.name)).collect()
            }
        }
    }
}

/// Whether the sun was up, with so many minutes left off at either end; where it never rises or never sets that day, the
/// frame is let through.
fn is_day(taken: DateTime, place: Sun, after_sunrise: f64, before_sunset: f64) -> bool {
    let coordinates = Coordinates::new(place.latitude, place.longitude);
    let date = NaiveDate::from_ymd_opt(taken.year().into(), taken.month() as u32, taken.day() as u32);
    let (Some(coordinates), Some(date)) = (coordinates, date) else { return true };
    let day = SolarDay::new(coordinates, date);
    let start = date.and_time(chrono::NaiveTime::MIN).and_utc().timestamp() as f64;
    // Minutes of the camera's clock since its midnight.
    let at = |event: SolarEvent| {
        day.event_time(event).map(|t| (t.timestamp() as f64 - start) / 60.0 + place.offset_hours * 60.0)
    };
    let (Some(rise), Some(set)) = (at(SolarEvent::Sunrise), at(SolarEvent::Sunset)) else { return true };
    let now = seconds(taken.time()) as f64 / 60.0;
    now >= rise + after_sunrise && now <= set - before_sunset
}

fn one_a_day(frames: &[&SieveFrame], at: Time) -> Vec<bool> {
    let mut nearest: BTreeMap<Date, (i64, usize)> = BTreeMap::new();
    for (i, taken) in frames.iter().enumerate().filter_map(|(i, f)| Some((i, f.taken?))) {
        let apart = (seconds(taken.time()) - seconds(at)).abs();
        let entry = nearest.entry(taken.date()).or_insert((apart, i));
        if apart < entry.0 {
            *entry = (apart, i);
        }
    }
    let stay: HashSet<usize> = nearest.into_values().map(|(_, i)| i).collect();
    (0..frames.len()).map(|i| stay.contains(&i)).collect()
}

fn evenly(count: usize, n: usize) -> Vec<bool> {
    let mut stays = vec![n >= count; count];
    if n < count {
        for k in 0..n {
            let at = if n == 1 { 0 } else { (k * (count - 1) + (n - 1) / 2) / (n - 1) };
            stays[at] = true;
        }
    }
    stays
}

/// Frames at least so sharp, as a share of the middle of those around.
fn sharp(frames: &[&SieveFrame], share: f64, neighbours: usize) -> Vec<bool> {
    let stays = |i: usize| {
        let Some(own) = frames[i].sharpness else { return true };
        let around = i.saturating_sub(neighbours)..(i + neighbours + 1).min(frames.len());
        let mut others: Vec<f64> = around.filter(|k| *k != i).filter_map(|k| frames[k].sharpness).collect();
        if others.is_empty() {
            return true;
        }
        others.sort_by(f64::total_cmp);
        own >= share * others[others.len() / 2]
    };
    (0..frames.len()).map(stays).collect()
}
