//! What is usual at an hour of the day: of a value, and of what a picture looks like.
//!
//! A fixed camera sees the same light at the same hour, day after day, and what stays different for hours is another state
//! (snow) and not something in the way. So a frame is held against several others: the middle of what was seen at its hour on
//! the days around, on those before and on those after alone, a line through all of them, and the nearest of either side. From
//! each the difference that the hours around the frame have in common may be taken off. What is left of the one that fits best
//! is what is unusual. Days that were found unusual count less in the next round, and so do cells that differ all the time,
//! such as a sky.

use rayon::prelude::*;

/// Cells a picture is looked at by.
const ACROSS: usize = 16;
const DOWN: usize = 11;

/// Hours to each side that count as the same hour; doubled until there are enough frames, at most so often.
const REACH: f64 = 0.3;
const DOUBLED: usize = 4;
/// Days to each side.
const DAYS: f64 = 6.0;
/// The fewest frames that say what is usual, and how many are looked at.
const FEWEST: usize = 6;
const MOST: usize = 26;
/// Hours to each side that a state has to last, and how many frames of them are looked at.
const STATE: f64 = 2.5;
const OF_STATE: usize = 12;
const ROUNDS: usize = 3;
/// Light in the dark that makes no difference, as a share of white.
const DARK: f32 = 0.002;
/// Differences of so many stops are usual in any cell.
const USUAL: f32 = 0.03;
/// A frame so many times further off than others around it counts half.
const FURTHER: f64 = 1.6;

/// A frame at about the same hour.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Other {
    /// Its place.
    at: usize,
    /// How far it is in the hour of the day, as a share of the reach.
    hour: f64,
    /// Days later.
    day: f64,
}

/// Frames by their day, each with its hour, so that those near an hour are found at once.
struct Calendar {
    /// `(hour of the day, place)`, rising, of each day that has frames.
    days: std::collections::BTreeMap<i64, Vec<(f64, usize)>>,
}

impl Calendar {
    fn of(hours: &[f64]) -> Self {
        let mut days: std::collections::BTreeMap<i64, Vec<(f64, usize)>> = std::collections::BTreeMap::new();
        for (at, hour) in hours.iter().enumerate() {
            let day = (hour / 24.0).floor();
            days.entry(day as i64).or_default().push((hour - day * 24.0, at));
        }
        for day in days.values_mut() {
            day.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        }
        Self { days }
    }

    /// The frames nearest to the hour of one, on each of the days around.
    fn around(&self, hours: &[f64], of: usize, days: f64) -> Vec<Other> {
        let here = hours[of];
        // An hour near midnight has its neighbours on the day before or after.
        let near = (days + 0.5).floor() as i64;
        let present = (-near..=near).filter(|k| self.is_there(here + *k as f64 * 24.0)).count().max(1);
        let each = MOST.div_ceil(present);
        let mut found = Vec::new();
        for doubled in 0..DOUBLED {
            let reach = REACH * f64::from(1u32 << doubled);
            found.clear();
            for k in -near..=near {
                self.nearest(here + k as f64 * 24.0, reach, each, |at| {
                    let apart = hours[at] - here - k as f64 * 24.0;
                    if at != of {
                        found.push(Other { at, hour: apart / reach, day: k as f64 });
                    }
                });
            }
            if found.len() >= FEWEST {
                break;
            }
        }
        found
    }

    fn is_there(&self, hour: f64) -> bool {
        let day = (hour / 24.0).floor() as i64;
        self.days.contains_key(&day)
    }

    /// Tells of up to `most` frames within `reach` of an hour, the nearest first.
    fn nearest(&self, hour: f64, reach: f64, most: usize, mut tell: impl FnMut(usize)) {
        let (first, last) = (((hour - reach) / 24.0).floor() as i64, ((hour + reach) / 24.0).floor() as i64);
        let mut near: Vec<(f64, usize)> = Vec::new();
        for (day, frames) in self.days.range(first..=last) {
            let wanted = hour - *day as f64 * 24.0;
            let from = frames.partition_point(|(h, _)| *h <= wanted - reach);
            let to = frames.partition_point(|(h, _)| *h < wanted + reach);
            near.extend(frames[from..to].iter().map(|(h, at)| ((h - wanted).abs(), *at)));
        }
        near.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        near.into_iter().take(most).for_each(|(_, at)| tell(at));
    }
}

/// What is usual for each value at its hour: the middle of those at about the same hour on so many days to each side. `hours`
/// count from a midnight.
pub fn usual(hours: &[f64], values: &[f64], days: f64) -> Vec<f64> {
    let calendar = Calendar::of(hours);
    let of = |i: usize| {
        let mut others: Vec<f64> =
            calendar.around(hours, i, days).iter().map(|other| values[other.at]).collect();
        if others.is_empty() {
            return values[i];
        }
        let middle = others.len() / 2;
        *others.select_nth_unstable_by(middle, f64::total_cmp).1
    };
    (0..hours.len()).into_par_iter().map(of).collect()
}

/// What a picture looks like at a glance: the light of its cells in stops against the middle of them. `luminance` is linear,
/// row by row.
pub fn glance(luminance: &[f32], width: usize, height: usize) -> Vec<f32> {
    let (across, down) = (ACROSS.min(width.max(1)), DOWN.min(height.max(1)));
    let mut cells = Vec::with_capacity(across * down);
    for j in 0..down {
        for i in 0..across {
            let (left, right) = (i * width / across, (i + 1) * width / across);
            let (top, bottom) = (j * height / down, (j + 1) * height / down);
            let rows = (top..bottom).flat_map(|y| &luminance[y * width + left..y * width + right]);
            let count = ((right - left) * (bottom - top)).max(1) as f32;
            cells.push((rows.sum::<f32>() / count + DARK).log2());
        }
    }
    centred(cells)
}

fn middle(values: &[f32]) -> f32 {
    let mut sorted = values.to_vec();
    let at = sorted.len() / 2;
    sorted.select_nth_unstable_by(at, f32::total_cmp);
    sorted.get(at).copied().unwrap_or(0.0)
}

fn centred(mut cells: Vec<f32>) -> Vec<f32> {
    let middle = middle(&cells);
    cells.iter_mut().for_each(|v| *v -= middle);
    cells
}

/// The middle of every cell, each frame with its weight.
fn middles(glances: &[&[f32]], weights: &[f64]) -> Vec<f32> {
    let cells = glances.first().map_or(0, |g| g.len());
    let half = weights.iter().sum::<f64>() / 2.0;
    let mut column: Vec<(f32, f64)> = Vec::with_capacity(glances.len());
    let of = |cell: usize| {
        column.clear();
        column.extend(glances.iter().zip(weights).map(|(g, w)| (g[cell], *w)));
        column.sort_unstable_by(|a, b| a.0.total_cmp(&b.0));
        let mut sum = 0.0;
        let here = column.iter().find(|(_, w)| {
            sum += w;
            sum >= half
        });
        here.or(column.last()).map_or(0.0, |(v, _)| *v)
    };
    (0..cells).map(of).collect()
}

fn apart(from: &[f32], to: &[f32]) -> Vec<f32> {
    centred(from.iter().zip(to).map(|(a, b)| a - b).collect())
}

/// The mean of what is off, cells that differ all the time less than the others.
fn weighed(off: &[f32], weights: Option<&Vec<f32>>) -> f64 {
    match weights {
        None => off.iter().map(|v| f64::from(v.abs())).sum::<f64>() / off.len().max(1) as f64,
        Some(weights) => {
            let sum: f64 = off.iter().zip(weights).map(|(v, w)| f64::from(v.abs() * w)).sum();
            sum / weights.iter().map(|w| f64::from(*w)).sum::<f64>().max(1e-9)
        }
    }
}

/// The frames that those around one hour are held against, and how much each counts.
struct Held<'a> {
    glances: &'a [&'a [f32]],
    trust: &'a [f64],
}

/// How many ways there are to say what is usual.
const WAYS: usize = 6;

impl Held<'_> {
    /// How far a frame is from what is usual, by every way there is; nothing by a way that has too few frames.
    fn ways(&self, of: usize, others: &[Other], first: bool) -> [Option<Vec<f32>>; WAYS] {
        let mut out = [const { None }; WAYS];
        if others.len() < 3 {
            return out;
        }
        let own = self.glances[of];
        let share = |day: f64| day / (DAYS + 1.0);
        let weight = |o: &Other| self.trust[o.at] * (1.0 - share(o.day).powi(2)) + 1e-9;
        let by_middle = |some: &[&Other]| {
            let glances: Vec<&[f32]> = some.iter().map(|o| self.glances[o.at]).collect();
            let weights: Vec<f64> = some.iter().map(|o| weight(o)).collect();
            apart(own, &middles(&glances, &weights))
        };
        let all: Vec<&Other> = others.iter().collect();
        out[0] = Some(by_middle(&all));
        for (k, side) in [-1.0, 1.0].into_iter().enumerate() {
            let some: Vec<&Other> = others.iter().filter(|o| o.day * side > 0.0).collect();
            if some.len() >= 3 {
                out[1 + k] = Some(by_middle(&some));
            }
            let near = some.iter().min_by(|a, b| {
                let far = |o: &Other| o.hour.powi(2) + 9.0 * share(o.day).powi(2);
                far(a).total_cmp(&far(b))
            });
            out[3 + k] = near.map(|o| apart(own, self.glances[o.at]));
        }
        if !first {
            out[5] = line_through(others, |o| (1.0 - o.hour.powi(2)).max(0.0) * weight(o)).map(|shares| {
                let mut sum = vec![0f32; own.len()];
                for (o, share) in others.iter().zip(shares) {
                    sum.iter_mut().zip(self.glances[o.at]).for_each(|(s, v)| *s += share as f32 * v);
                }
                apart(own, &sum)
            });
        }
        out
    }
}

/// How much every frame counts in the value at the place of the plane over hour and day that fits them best.
fn line_through(others: &[Other], weight: impl Fn(&Other) -> f64) -> Option<Vec<f64>> {
    let places: Vec<([f64; 3], f64)> =
        others.iter().map(|o| ([1.0, o.hour, o.day / (DAYS + 1.0)], weight(o))).collect();
    let mut m = [[0.0; 3]; 3];
    for (x, w) in &places {
        for r in 0..3 {
            for c in 0..3 {
                m[r][c] += w * x[r] * x[c];
            }
        }
    }
    let all = m[0][0];
    // Where frames stand in a row the slope across it is none.
    m[1][1] += 0.05 * all;
    m[2][2] += 0.05 * all;
    if all <= 0.0 {
        return None;
    }
    let row = moxcms::Matrix3d { v: m }.inverse().v[0];
    Some(places.iter().map(|(x, w)| w * (row[0] * x[0] + row[1] * x[1] + row[2] * x[2])).collect())
}

/// How far every frame differs from what is usual at its hour, as the mean of the cells in stops; nothing where too few others
/// are there to tell, or nothing is known of it. `hours` count from a midnight and rise; glances are by [`glance`], of one
/// size.
pub fn unusual(hours: &[f64], glances: &[Option<Vec<f32>>]) -> Vec<Option<f64>> {
    let cells = glances.iter().flatten().map(Vec::len).max().unwrap_or(0);
    let known: Vec<usize> =
        (0..glances.len()).filter(|i| glances[*i].as_ref().is_some_and(|g| g.len() == cells)).collect();
    let seen: Vec<&[f32]> = known.iter().filter_map(|i| glances[*i].as_deref()).collect();
    let times: Vec<f64> = known.iter().map(|i| hours[*i]).collect();
    let found = of_known(&times, &seen);
    let mut out = vec![None; glances.len()];
    for (i, value) in known.into_iter().zip(found) {
        out[i] = value;
    }
    out
}

/// Frames around one that say how long something lasts.
fn state_of(hours: &[f64], of: usize) -> Vec<usize> {
    let from = hours.partition_point(|h| *h < hours[of] - STATE);
    let to = hours.partition_point(|h| *h <= hours[of] + STATE);
    let near: Vec<usize> = (from..to).filter(|i| *i != of).collect();
    if near.len() <= OF_STATE {
        return near;
    }
    (0..OF_STATE).map(|k| near[k * (near.len() - 1) / (OF_STATE - 1)]).collect()
}

fn of_known(hours: &[f64], glances: &[&[f32]]) -> Vec<Option<f64>> {
    let calendar = Calendar::of(hours);
    let count = hours.len();
    let others: Vec<Vec<Other>> =
        (0..count).into_par_iter().map(|i| calendar.around(hours, i, DAYS)).collect();
    let states: Vec<Vec<usize>> = (0..count).into_par_iter().map(|i| state_of(hours, i)).collect();
    let mut trust = vec![1.0; count];
    let mut weights: Vec<Option<Vec<f32>>> = vec![None; count];
    let mut told: Vec<Option<f64>> = Vec::new();
    for round in 0..ROUNDS {
        let held = Held { glances, trust: &trust };
        let ways: Vec<[Option<Vec<f32>>; WAYS]> =
            (0..count).into_par_iter().map(|i| held.ways(i, &others[i], round == 0)).collect();
        let best: Vec<Option<(f64, Vec<f32>)>> = (0..count)
            .into_par_iter()
            .map(|i| {
                let mut best: Option<(f64, Vec<f32>)> = None;
                let mut take = |off: Vec<f32>| {
                    let far = weighed(&off, weights[i].as_ref());
                    if best.as_ref().is_none_or(|(least, _)| far < *least) {
                        best = Some((far, off));
                    }
                };
                for way in 0..WAYS {
                    let Some(off) = &ways[i][way] else { continue };
                    let (around, counts): (Vec<&[f32]>, Vec<f64>) = states[i]
                        .iter()
                        .filter_map(|k| Some((ways[*k][way].as_deref()?, trust[*k] + 1e-9)))
                        .unzip();
                    if around.len() >= 4 {
                        take(apart(off, &middles(&around, &counts)));
                    }
                    take(off.clone());
                }
                best
            })
            .collect();
        told = best.iter().map(|b| b.as_ref().map(|(far, _)| *far)).collect();
        let next: Vec<(f64, Option<Vec<f32>>)> = (0..count)
            .into_par_iter()
            .map(|i| {
                let around: Vec<&(f64, Vec<f32>)> = others[i]
                    .iter()
                    .map(|o| o.at)
                    .chain(states[i].iter().copied())
                    .filter_map(|k| best[k].as_ref())
                    .collect();
                let Some(own) = told[i].filter(|_| !around.is_empty()) else { return (1.0, None) };
                let mut far: Vec<f64> = around.iter().map(|(far, _)| *far).collect();
                let at = far.len() * 3 / 10;
                let usual = (*far.select_nth_unstable_by(at, f64::total_cmp).1).max(0.003);
                let cells = glances[i].len();
                let mut column = vec![0f32; around.len()];
                let weigh = |cell: usize| {
                    column.iter_mut().zip(&around).for_each(|(v, (_, off))| *v = off[cell].abs());
                    1.0 / (middle(&column) + USUAL)
                };
                (1.0 / (1.0 + (own / (FURTHER * usual)).powi(4)), Some((0..cells).map(weigh).collect()))
            })
            .collect();
        (trust, weights) = next.into_iter().unzip();
    }
    told
}

#[cfg(test)]
mod tests {
    use super::*;

    const WIDTH: usize = 48;
    const HEIGHT: usize = 33;

    /// A picture whose light comes from a side that goes by the hour.
    fn picture(hour: f64, extra: impl Fn(usize, usize) -> f32) -> Vec<f32> {
        let side = ((hour - 12.0) / 6.0) as f32;
        let light = |i: usize| {
            let (x, y) = (i % WIDTH, i / WIDTH);
            let ground = 0.1 + 0.05 * ((x * 7 + y * 3) % 5) as f32;
            ground * (1.0 + 0.6 * side * (x as f32 / WIDTH as f32 - 0.5)) * extra(x, y)
        };
        (0..WIDTH * HEIGHT).map(light).collect()
    }

    /// Eight days of frames every half hour between eight and five, each with what is over it.
    fn days(extra: impl Fn(usize, usize, usize, usize) -> f32) -> (Vec<f64>, Vec<Option<Vec<f32>>>) {
        let mut hours = Vec::new();
        let mut glances = Vec::new();
        for day in 0..8 {
            for k in 0..18 {
                let hour = 8.0 + k as f64 / 2.0;
                hours.push(day as f64 * 24.0 + hour);
                let light = picture(hour, |x, y| extra(day, k, x, y));
                glances.push(Some(glance(&light, WIDTH, HEIGHT)));
            }
        }
        (hours, glances)
    }

    #[test]
    fn what_passes_is_unusual_and_the_hour_is_not() {
        let passes = |day: usize, k: usize| (day * 18 + k) % 13 == 4;
        let (hours, glances) =
            days(|day, k, x, _| if passes(day, k) && (x / 12) % 4 == (day + k) % 4 { 0.4 } else { 1.0 });
        for (i, value) in unusual(&hours, &glances).into_iter().enumerate() {
            let value = value.unwrap();
            let (day, k) = (i / 18, i % 18);
            assert_eq!(value > 0.08, passes(day, k), "day {day}, frame {k}: {value}");
        }
    }

    #[test]
    fn what_stays_for_days_becomes_usual_and_exposure_makes_no_difference() {
        // Snow on the lower half from the fourth day on, gone with the seventh; every frame exposed by itself.
        let (hours, glances) = days(|day, k, _, y| {
            let exposed = 1.0 + 0.3 * ((day * 5 + k * 3) % 7) as f32;
            exposed * if (3..6).contains(&day) && y > HEIGHT / 2 { 3.0 } else { 1.0 }
        });
        let most = unusual(&hours, &glances).into_iter().flatten().fold(0.0, f64::max);
        assert!(most < 0.05, "{most}");
    }

    #[test]
    fn a_few_frames_or_none_are_no_trouble() {
        assert!(unusual(&[], &[]).is_empty());
        let flat = Some(glance(&vec![0.2; 100], 10, 10));
        assert_eq!(unusual(&[1.0, 2.0], &[flat.clone(), flat.clone()]), [None, None]);
        let told =
            unusual(&[1.0, 1.1, 1.2, 1.3, 1.4], &[flat.clone(), flat.clone(), None, flat.clone(), flat]);
        assert_eq!(told[2], None);
        assert!(told.iter().flatten().count() == 4 && told.iter().flatten().all(|v| *v < 1e-6), "{told:?}");
        assert_eq!(glance(&[0.1], 1, 1), [0.0]);
    }

    #[test]
    fn what_is_usual_is_the_middle_at_that_hour() {
        let hours: Vec<f64> = (0..10 * 24).map(f64::from).collect();
        let values: Vec<f64> =
            hours.iter().map(|h| h % 24.0 + if *h == 5.0 * 24.0 + 12.0 { 50.0 } else { 0.0 }).collect();
        // Near either end too few days are there, and the hours around count as well.
        for (hour, usual) in hours.iter().zip(usual(&hours, &values, 3.0)).skip(72).take(96) {
            assert!((usual - hour % 24.0).abs() < 1e-9, "{hour}: {usual}");
        }
        // Around midnight the hour goes on.
        let hours: Vec<f64> =
            (0..12).map(|d| f64::from(d) * 24.0 + if d % 2 == 0 { 23.9 } else { 24.05 }).collect();
        let calendar = Calendar::of(&hours);
        assert_eq!(calendar.around(&hours, 6, 6.0).len(), 11);
    }
}
