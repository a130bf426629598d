//! Gaps in the trails of stars: between two frames a star goes on while no frame is taken, and a picture of the brightest of
//! all frames shows a row of dots. Points of light are found in each frame, each is looked for in the next one, and its way
//! between both is drawn with what it looks like in them.

use crate::colour::working::luminance;
use crate::geometry::Size;
use std::collections::HashMap;

/// Pixels around the middle of a point that belong to it.
const REACH: i64 = 3;
const SIDE: usize = 2 * REACH as usize + 1;
/// Pixels from the middle at which the sky around it is looked at.
const AROUND: i64 = REACH + 2;
/// A point stands out by so often what the darker half of the sky around it differs by.
const STANDS_OUT: f32 = 3.0;
/// And by so much light.
const LEAST: f32 = 0.002;
/// Most points of a frame.
const MOST: usize = 20_000;
/// How far a point may go, in shares of the long edge.
const FARTHEST: f32 = 0.025;
/// How far it goes at least for a gap to be seen, in pixels.
const NEAREST: f32 = 0.75;
/// Neighbours that are asked whether they went the same way.
const ASKED: usize = 6;

/// A point of light.
struct Point {
    x: f32,
    y: f32,
    bright: f32,
    /// The sky around it.
    sky: [f32; 3],
    /// How much brighter than the sky each pixel around its middle is.
    looks: [[f32; 3]; SIDE * SIDE],
}

/// The points of the frame before.
#[derive(Default)]
pub struct StarGaps {
    before: Vec<Point>,
}

impl StarGaps {
    /// Draws into a frame, red, green and blue of linear light, the ways of its points from the frame before.
    pub fn close(&mut self, size: Size, values: &mut [f32]) {
        let now = points(size, values);
        let farthest = FARTHEST * size.width.max(size.height) as f32;
        for (a, b) in matched(&self.before, &now, size, farthest) {
            draw(&self.before[a], &now[b], size, values.as_chunks_mut::<3>().0);
        }
        self.before = now;
    }
}

fn points(size: Size, values: &[f32]) -> Vec<Point> {
    let (w, h) = (i64::from(size.width), i64::from(size.height));
    let pixels = values.as_chunks::<3>().0;
    let light: Vec<f32> = pixels.iter().map(luminance).collect();
    let at = |x: i64, y: i64| (y * w + x) as usize;
    // Places on a ring, of which the lower half tells the sky: another star may stand on it.
    let ring: Vec<(i64, i64)> = (-AROUND..=AROUND)
        .flat_map(|v| (-AROUND..=AROUND).map(move |u| (u, v)))
        .filter(|(u, v)| u.abs().max(v.abs()) == AROUND && (u + v) % 2 == 0)
        .collect();
    let sky = |x: i64, y: i64| {
        let mut places: Vec<usize> = ring.iter().map(|(u, v)| at(x + u, y + v)).collect();
        places.sort_by(|a, b| light[*a].total_cmp(&light[*b]));
        places.truncate(places.len() / 2);
        let mean: [f32; 3] =
            std::array::from_fn(|c| places.iter().map(|i| pixels[*i][c]).sum::<f32>() / places.len() as f32);
        let spread = light[places[places.len() - 1]] - light[places[0]];
        (mean, spread)
    };
    let mut found = Vec::new();
    for y in AROUND..h - AROUND {
        for x in AROUND..w - AROUND {
            let here = light[at(x, y)];
            if here < LEAST {
                continue;
            }
            let near = || (-REACH..=REACH).flat_map(|v| (-REACH..=REACH).map(move |u| (u, v)));
            // The first one of several that are equally bright.
            let is_top = near().all(|(u, v)| {
                let other = light[at(x + u, y + v)];
                other < here || (other == here && (v, u) >= (0, 0))
            });
            if !is_top {
                continue;
            }
            let (sky, spread) = sky(x, y);
            let bright = here - luminance(&sky);
            if bright < LEAST.max(spread * STANDS_OUT) {
                continue;
            }
            let mut looks = [[0f32; 3]; SIDE * SIDE];
            let (mut sum, mut across, mut down) = (0.0, 0.0, 0.0);
            for (k, (u, v)) in near().enumerate() {
                let pixel = pixels[at(x + u, y + v)];
                looks[k] = std::array::from_fn(|c| (pixel[c] - sky[c]).max(0.0));
                let weight = luminance(&looks[k]);
                sum += weight;
                across += weight * u as f32;
                down += weight * v as f32;
            }
            found.push(Point { x: x as f32 + across / sum, y: y as f32 + down / sum, bright, sky, looks });
        }
    }
    found.sort_by(|a, b| b.bright.total_cmp(&a.bright));
    found.truncate(MOST);
    found
}

/// Points by the square they lie in, so that what is near is found without looking at all.
struct Squares {
    side: f32,
    held: HashMap<(i64, i64), Vec<usize>>,
}

impl Squares {
    fn new<'a>(points: impl Iterator<Item = &'a Point>, side: f32) -> Self {
        let mut squares = Self { side, held: HashMap::new() };
        for (i, p) in points.enumerate() {
            squares.held.entry(squares.of(p)).or_default().push(i);
        }
        squares
    }

    fn of(&self, p: &Point) -> (i64, i64) {
        ((p.x / self.side) as i64, (p.y / self.side) as i64)
    }

    /// Those in the squares up to so many away from a point's own.
    fn near(&self, p: &Point, away: i64) -> impl Iterator<Item = usize> {
        let (x, y) = self.of(p);
        let around = (-away..=away).flat_map(move |v| (-away..=away).map(move |u| (x + u, y + v)));
        around.filter_map(|square| self.held.get(&square)).flatten().copied()
    }
}

fn distance(a: &Point, b: &Point) -> f32 {
    (a.x - b.x).hypot(a.y - b.y)
}

/// For each point the nearest of the others that is about as bright.
fn nearest(from: &[Point], to: &[Point], farthest: f32) -> Vec<Option<usize>> {
    let squares = Squares::new(to.iter(), farthest);
    let one = |p: &Point| {
        let fits = squares.near(p, 1).filter(|i| (0.4..2.5).contains(&(to[*i].bright / p.bright)));
        let all = fits.map(|i| (i, distance(&to[i], p))).filter(|(_, d)| *d <= farthest);
        all.min_by(|a, b| a.1.total_cmp(&b.1)).map(|(i, _)| i)
    };
    from.iter().map(one).collect()
}

/// A point of one frame that is one of the next, and how far it went.
struct Pair {
    a: usize,
    b: usize,
    way: (f32, f32),
}

/// Which point of the one frame is which of the other: each the nearest to the other, about as bright, and gone the way its
/// neighbours went.
fn matched(before: &[Point], now: &[Point], size: Size, farthest: f32) -> Vec<(usize, usize)> {
    let back = nearest(now, before, farthest);
    let both = nearest(before, now, farthest).into_iter().enumerate();
    let both = both.filter_map(|(a, b)| b.filter(|b| back[*b] == Some(a)).map(|b| (a, b)));
    let pairs: Vec<Pair> =
        both.map(|(a, b)| Pair { a, b, way: (now[b].x - before[a].x, now[b].y - before[a].y) }).collect();
    // Squares that hold about as many as are asked.
    let side = (size.area() as f32 * ASKED as f32 / pairs.len().max(1) as f32).sqrt().max(1.0);
    let squares = Squares::new(pairs.iter().map(|p| &before[p.a]), side);
    let most = (size.width.max(size.height) as f32 / side) as i64 + 1;
    let agrees = |own: &Pair| {
        let length = own.way.0.hypot(own.way.1);
        if length < NEAREST {
            return false;
        }
        let asked = ASKED.min(pairs.len() - 1);
        if asked == 0 {
            return true;
        }
        let apart = |p: &Pair| {
            (distance(&before[p.a], &before[own.a]), (p.way.0 - own.way.0).hypot(p.way.1 - own.way.1))
        };
        let mut others = Vec::new();
        for away in 1..=most.max(1) {
            let near = squares.near(&before[own.a], away).map(|i| &pairs[i]);
            others = near.filter(|p| p.a != own.a).map(apart).collect();
            if others.len() < asked {
                continue;
            }
            others.select_nth_unstable_by(asked - 1, |a, b| a.0.total_cmp(&b.0));
            // Nobody outside of these squares is nearer than what they reach.
            if others[asked - 1].0 <= away as f32 * side {
                break;
            }
        }
        let same = others[..asked].iter().filter(|(_, d)| *d < (length * 0.35).max(1.5)).count();
        2 * same >= asked
    };
    pairs.iter().filter(|pair| agrees(pair)).map(|pair| (pair.a, pair.b)).collect()
}

/// Brightness of a point at a place from its middle, between its pixels.
fn look(point: &Point, across: f32, down: f32) -> [f32; 3] {
    // Its looks lie around the pixel nearest to its middle.
    let (x, y) = (across + point.x - point.x.round(), down + point.y - point.y.round());
    let (left, top) = (x.floor(), y.floor());
    let (u, v) = (x - left, y - top);
    let at = |x: f32, y: f32| {
        let (x, y) = (x as i64 + REACH, y as i64 + REACH);
        let inside = (0..SIDE as i64).contains(&x) && (0..SIDE as i64).contains(&y);
        if inside { point.looks[y as usize * SIDE + x as usize] } else { [0.0; 3] }
    };
    let corners = [
        (at(left, top), (1.0 - u) * (1.0 - v)),
        (at(left + 1.0, top), u * (1.0 - v)),
        (at(left, top + 1.0), (1.0 - u) * v),
        (at(left + 1.0, top + 1.0), u * v),
    ];
    std::array::from_fn(|c| corners.iter().map(|(pixel, weight)| pixel[c] * weight).sum())
}

/// Draws a point on its way from the one place to the other.
fn draw(a: &Point, b: &Point, size: Size, pixels: &mut [[f32; 3]]) {
    let (dx, dy) = (b.x - a.x, b.y - a.y);
    let steps = (dx.hypot(dy) * 2.0).ceil() as usize;
    for k in 1..steps {
        let t = k as f32 / steps as f32;
        let (x, y) = (a.x + dx * t, a.y + dy * t);
        for v in -REACH..=REACH {
            for u in -REACH..=REACH {
                let (px, py) = (x.round() as i64 + u, y.round() as i64 + v);
                if px < 0 || py < 0 || px >= i64::from(size.width) || py >= i64::from(size.height) {
                    continue;
                }
                let (across, down) = (px as f32 - x, py as f32 - y);
                let (one, other) = (look(a, across, down), look(b, across, down));
                let mix = |from: f32, to: f32| from + (to - from) * t;
                let drawn: [f32; 3] =
                    std::array::from_fn(|c| mix(a.sky[c], b.sky[c]) + mix(one[c], other[c]));
                let pixel = &mut pixels[(py * i64::from(size.width) + px) as usize];
                if luminance(&drawn) > luminance(pixel) {
                    *pixel = drawn;
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SIZE: Size = Size::new(300, 200);
    /// Degrees that the sky turns from frame to frame, around a place far above.
    const TURN: f32 = 0.5;
    const POLE: (f32, f32) = (-300.0, -500.0);

    /// Where a star stands: those of the sky turn, the lamp at the end does not.
    fn star(i: usize, frame: f32) -> (f32, f32) {
        if i == 12 {
            return (40.3, 180.6);
        }
        let (x, y) = (30.0 + (i * 67 % 240) as f32 - POLE.0, 15.0 + (i * 41 % 150) as f32 - POLE.1);
        let (sin, cos) = (TURN * frame).to_radians().sin_cos();
        (POLE.0 + x * cos - y * sin, POLE.1 + x * sin + y * cos)
    }

    fn frame(frame: f32) -> Vec<f32> {
        let mut light = vec![0.01f32; SIZE.area() as usize];
        for i in 0..13 {
            let (sx, sy) = star(i, frame);
            for (k, light) in light.iter_mut().enumerate() {
                let (x, y) = ((k % 300) as f32, (k / 300) as f32);
                *light +=
                    (0.2 + 0.05 * (i % 4) as f32) * (-((x - sx).powi(2) + (y - sy).powi(2)) / 2.0).exp();
            }
        }
        light.iter().flat_map(|v| [*v, *v * 0.9, *v * 0.8]).collect()
    }

    /// The darkest place on the way of a star through all frames, against its brightness.
    fn darkest(trails: &[f32], i: usize, frames: usize) -> f32 {
        let bright = 0.2 + 0.05 * (i % 4) as f32;
        let all = (10..(frames - 1) * 20 - 10).map(|k| star(i, k as f32 / 20.0));
        let inside = all.filter(|(x, y)| (6.0..293.0).contains(x) && (6.0..193.0).contains(y));
        let light = |(x, y): (f32, f32)| trails[(y.round() as usize * 300 + x.round() as usize) * 3] - 0.01;
        inside.map(light).fold(bright, f32::min) / bright
    }

    #[test]
    fn neighbours_are_those_that_are_nearest_however_many_there_are() {
        // A sky of a thousand points that all went one way, but every seventh, which was taken for another: it disagrees.
        let point =
            |x: f32, y: f32| Point { x, y, bright: 1.0, sky: [0.0; 3], looks: [[0.0; 3]; SIDE * SIDE] };
        let place = |i: usize| ((i * 7919 % 4000) as f32, (i * 104_729 % 3000) as f32);
        let before: Vec<Point> = (0..1000).map(place).map(|(x, y)| point(x, y)).collect();
        let way = |i: usize| if i.is_multiple_of(7) { (-4.0, 1.0) } else { (3.0, 2.0) };
        let now: Vec<Point> =
            (0..1000).map(|i| point(place(i).0 + way(i).0, place(i).1 + way(i).1)).collect();
        let mut pairs = matched(&before, &now, Size::new(4000, 3000), 10.0);
        pairs.sort_unstable();
        // Held against all of them, without squares.
        let back = nearest(&now, &before, 10.0);
        let both: Vec<(usize, usize)> = nearest(&before, &now, 10.0)
            .into_iter()
            .enumerate()
            .filter_map(|(a, b)| b.filter(|b| back[*b] == Some(a)).map(|b| (a, b)))
            .collect();
        let moved = |(a, b): (usize, usize)| (now[b].x - before[a].x, now[b].y - before[a].y);
        let wanted: Vec<(usize, usize)> = both
            .iter()
            .copied()
            .filter(|own| {
                let mut others: Vec<(f32, f32)> = both
                    .iter()
                    .filter(|p| *p != own)
                    .map(|p| {
                        let (u, v) = (moved(*p).0 - moved(*own).0, moved(*p).1 - moved(*own).1);
                        (distance(&before[p.0], &before[own.0]), u.hypot(v))
                    })
                    .collect();
                others.sort_by(|a, b| a.0.total_cmp(&b.0));
                2 * others[..ASKED].iter().filter(|(_, d)| *d < 1.5).count() >= ASKED
            })
            .collect();
        assert_eq!(pairs, wanted);
        assert!(wanted.len() > 700 && wanted.iter().all(|(a, _)| a % 7 > 0), "{}", wanted.len());
    }

    #[test]
    fn stars_leave_whole_trails_and_lamps_none() {
        let frames = 6;
        let trails = |closed: bool| {
            let mut gaps = StarGaps::default();
            let mut all = frame(0.0);
            for k in 0..frames {
                let mut now = frame(k as f32);
                if closed {
                    gaps.close(SIZE, &mut now);
                }
                all.iter_mut().zip(now).for_each(|(a, v)| *a = a.max(v));
            }
            all
        };
        let (open, closed) = (trails(false), trails(true));
        // Stars go by six pixels from frame to frame.
        let all = [1, 2, 5, 7, 8, 10];
        assert!(all.iter().all(|i| darkest(&open, *i, frames) < 0.25), "there are no gaps to close");
        for i in all {
            let dark = darkest(&closed, i, frames);
            assert!(dark > 0.6, "star {i}: {dark} is left between two frames");
        }
        // The lamp, and the sky away from all ways, stay what they were.
        let same = |x: usize, y: usize| open[(y * 300 + x) * 3] == closed[(y * 300 + x) * 3];
        assert!((30..50).all(|x| (170..190).all(|y| same(x, y))));
        let changed = open.iter().zip(&closed).filter(|(a, b)| a != b).count();
        assert!(changed > 0 && changed < open.len() / 10, "{changed} values changed");
    }
}
