//! From triangles to a picture in linear light with depth: visibility, shadows, openness to the sky.

use crate::maths::{V3, disc, hash, turns};
use crate::mesh::Mesh;
use crate::shade::{Hit, Light, shade};

/// A pinhole camera.
#[derive(Clone, Copy)]
pub struct Eye {
    pub at: V3,
    pub to: V3,
    /// Field of view across the longer side, radians.
    pub field: f32,
    /// Turn about the axis, radians.
    pub roll: f32,
}

/// Rendered light and the distance it came from.
pub struct Frame {
    pub width: usize,
    pub height: usize,
    pub light: Vec<V3>,
    pub depth: Vec<f32>,
}

struct View {
    at: V3,
    right: V3,
    up: V3,
    ahead: V3,
    /// Pixels per unit at distance one; 0 for a parallel view.
    focal: f32,
    scale: f32,
    middle: (f32, f32),
}

impl View {
    fn new(eye: &Eye, width: usize, height: usize) -> Self {
        let ahead = (eye.to - eye.at).unit();
        let side = ahead.cross(V3(0.0, 1.0, 0.0)).unit();
        let over = side.cross(ahead);
        let (s, c) = eye.roll.sin_cos();
        let focal = width.max(height) as f32 / 2.0 / (eye.field / 2.0).tan();
        Self {
            at: eye.at,
            right: side * c + over * s,
            up: over * c - side * s,
            ahead,
            focal,
            scale: 0.0,
            middle: (width as f32 / 2.0, height as f32 / 2.0),
        }
    }

    /// Screen position and depth.
    fn project(&self, p: V3) -> (f32, f32, f32) {
        let d = p - self.at;
        let z = d.dot(self.ahead);
        let k = if self.focal > 0.0 { self.focal / z.max(1e-3) } else { self.scale };
        (self.middle.0 + d.dot(self.right) * k, self.middle.1 - d.dot(self.up) * k, z)
    }

    fn ray(&self, x: f32, y: f32) -> V3 {
        self.ahead + self.right * ((x - self.middle.0) / self.focal)
            - self.up * ((y - self.middle.1) / self.focal)
    }
}

const NONE: u32 = u32::MAX;

/// Nearest triangle and its depth for every pixel.
fn visibility(mesh: &Mesh, view: &View, width: usize, height: usize) -> (Vec<u32>, Vec<f32>) {
    let mut ids = vec![NONE; width * height];
    let mut depth = vec![f32::INFINITY; width * height];
    for (id, t) in mesh.triangles.iter().enumerate() {
        let [a, b, c] = t.v.map(|v| view.project(v.at));
        if a.2 < 1.0 || b.2 < 1.0 || c.2 < 1.0 {
            continue;
        }
        let area = (b.0 - a.0) * (c.1 - a.1) - (b.1 - a.1) * (c.0 - a.0);
        if area.abs() < 1e-6 {
            continue;
        }
        let low = |v: [f32; 3], limit: usize| (v[0].min(v[1]).min(v[2]).floor().max(0.0) as usize).min(limit);
        let high =
            |v: [f32; 3], limit: usize| ((v[0].max(v[1]).max(v[2]).ceil().max(0.0)) as usize).min(limit);
        let (x0, x1) = (low([a.0, b.0, c.0], width), high([a.0, b.0, c.0], width));
        let (y0, y1) = (low([a.1, b.1, c.1], height), high([a.1, b.1, c.1], height));
        let k = 1.0 / area;
        // Depth is linear in screen space for parallel views, its inverse for perspective ones.
        let value = |z: f32| if view.focal > 0.0 { 1.0 / z } else { z };
        let (za, zb, zc) = (value(a.2), value(b.2), value(c.2));
        // The weights are linear along a row: one step a pixel.
        let (step0, step1) = ((b.1 - c.1) * k, (c.1 - a.1) * k);
        for y in y0..y1 {
            let py = y as f32 + 0.5;
            let px = x0 as f32 + 0.5;
            let at0 = ((b.0 - px) * (c.1 - py) - (b.1 - py) * (c.0 - px)) * k;
            let at1 = ((c.0 - px) * (a.1 - py) - (c.1 - py) * (a.0 - px)) * k;
            // Where both weights and the third are above 0, solved for the row.
            let (mut from, mut to) = (0.0f32, (x1 - x0) as f32);
            for (start, step) in [(at0, step0), (at1, step1), (1.0 - at0 - at1, -step0 - step1)] {
                if step > 0.0 {
                    from = from.max(-start / step);
                } else if step < 0.0 {
                    to = to.min(-start / step);
                } else if start < 0.0 {
                    to = -1.0;
                }
            }
            let (first, last) = (x0 + from.ceil().max(0.0) as usize, to.floor());
            if last < 0.0 {
                continue;
            }
            for x in first..(x0 + last as usize + 1).min(x1) {
                let along = (x - x0) as f32;
                let (w0, w1) = (at0 + step0 * along, at1 + step1 * along);
                let z = value(w0 * za + w1 * zb + (1.0 - w0 - w1) * zc);
                let at = y * width + x;
                if z < depth[at] {
                    depth[at] = z;
                    ids[at] = id as u32;
                }
            }
        }
    }
    (ids, depth)
}

struct Shadow {
    view: View,
    depth: Vec<f32>,
    taps: [(f32, f32); 9],
}

const SHADOW: usize = 1000;

impl Shadow {
    fn new(mesh: &Mesh, sun: V3, middle: V3, reach: f32) -> Self {
        let ahead = -sun.unit();
        let right = ahead.cross(V3(0.0, 1.0, 0.1)).unit();
        let view = View {
            at: middle + sun.unit() * 400.0,
            right,
            up: right.cross(ahead),
            ahead,
            focal: 0.0,
            scale: SHADOW as f32 / 2.0 / reach,
            middle: (SHADOW as f32 / 2.0, SHADOW as f32 / 2.0),
        };
        let (_, depth) = visibility(mesh, &view, SHADOW, SHADOW);
        Self { view, depth, taps: disc() }
    }

    /// Share of the sun that reaches `p`, over a soft disc.
    fn lit(&self, p: V3, (s, c): (f32, f32)) -> f32 {
        let (x, y, z) = self.view.project(p);
        let soft = 0.55 * self.view.scale;
        let free = self.taps.iter().filter(|(dx, dy)| {
            let (u, v) = (x + (dx * c - dy * s) * soft, y + (dx * s + dy * c) * soft);
            let inside = u >= 0.0 && v >= 0.0 && (u as usize) < SHADOW && (v as usize) < SHADOW;
            !(inside && self.depth[v as usize * SHADOW + u as usize] < z - 0.35)
        });
        free.count() as f32 / self.taps.len() as f32
    }
}

/// As [`render`], for several lights at a time; `behind` is seen under the first one only.
pub fn render_lights(
    mesh: &Mesh,
    eye: &Eye,
    lights: &[Light],
    size: (usize, usize),
    behind: &(dyn Fn(f32, f32) -> V3 + Sync),
) -> (Vec<Vec<V3>>, Vec<f32>) {
    use rayon::prelude::*;
    let (width, height) = size;
    let view = View::new(eye, width, height);
    let shadows: Vec<Shadow> =
        lights.par_iter().with_max_len(1).map(|l| Shadow::new(mesh, l.sun, eye.to, 75.0)).collect();
    let (ids, depth) = visibility(mesh, &view, width, height);
    let (turns, near) = (turns(), disc());
    // What covers a point is looked for in a coarser depth picture, which stays in the cache.
    let apart = (width.max(height) / 1000).max(1);
    let coarse = Coarse {
        apart: apart as f32,
        width: width.div_ceil(apart),
        depth: (0..height)
            .step_by(apart)
            .flat_map(|y| depth[y * width..(y + 1) * width].iter().step_by(apart))
            .copied()
            .collect(),
    };
    let n = lights.len();
    let mut out = vec![V3::default(); width * height * n];
    out.par_chunks_mut(width * n).enumerate().for_each(|(y, row)| {
        let mut lit = vec![0f32; n];
        for (x, pixel) in row.chunks_mut(n).enumerate() {
            let at = y * width + x;
            let (px, py) = (x as f32 + 0.5, y as f32 + 0.5);
            if ids[at] == NONE {
                let long = width.max(height) as f32 / 2.0;
                pixel[0] = behind((px - width as f32 / 2.0) / long, (py - height as f32 / 2.0) / long);
                continue;
            }
            let t = &mesh.triangles[ids[at] as usize];
            let ray = view.ray(px, py);
            let p = view.at + ray * depth[at];
            let [a, b, c] = t.v;
            let (e1, e2, q) = (b.at - a.at, c.at - a.at, p - a.at);
            let (d11, d12, d22) = (e1.dot(e1), e1.dot(e2), e2.dot(e2));
            let (q1, q2) = (q.dot(e1), q.dot(e2));
            let det = (d11 * d22 - d12 * d12).max(1e-12);
            let v = ((d22 * q1 - d12 * q2) / det).clamp(0.0, 1.0);
            let w = ((d11 * q2 - d12 * q1) / det).clamp(0.0, 1.0);
            let u = 1.0 - v - w;
            let normal = (a.normal * u + b.normal * v + c.normal * w).unit();
            let uv = [a.uv[0] * u + b.uv[0] * v + c.uv[0] * w, a.uv[1] * u + b.uv[1] * v + c.uv[1] * w];
            let facing = if normal.dot(view.at - p) < 0.0 { -normal } else { normal };
            let turn = turns[hash(at as u32) as usize & 15];
            for ((lit, shadow), light) in lit.iter_mut().zip(&shadows).zip(lights) {
                *lit = if light.key.0 > 0.0 { shadow.lit(p + facing * 0.12, turn) } else { 0.0 };
            }
            let open = openness(&view, &coarse, (width, height), p, facing, turn, &near);
            shade(t, &Hit { at: p, normal, uv, open }, view.at, lights, &lit, pixel);
        }
    });
    let layers = (0..n).map(|k| out.iter().skip(k).step_by(n).copied().collect()).collect();
    (layers, depth)
}

/// Renders a mesh; `behind` gives the light of what lies behind everything, by screen position (−1 ..= 1).
pub fn render(
    mesh: &Mesh,
    eye: &Eye,
    light: &Light,
    size: (usize, usize),
    behind: &(dyn Fn(f32, f32) -> V3 + Sync),
) -> Frame {
    let (mut layers, depth) = render_lights(mesh, eye, std::slice::from_ref(light), size, behind);
    Frame { width: size.0, height: size.1, light: layers.swap_remove(0), depth }
}

/// A depth picture with fewer pixels.
struct Coarse {
    /// Pixels of the whole one per pixel, each way.
    apart: f32,
    width: usize,
    depth: Vec<f32>,
}

/// Share of the half-space above a point that nothing near covers, from the depth picture.
fn openness(
    view: &View,
    coarse: &Coarse,
    (width, height): (usize, usize),
    p: V3,
    n: V3,
    (s, c): (f32, f32),
    taps: &[(f32, f32); 6],
) -> f32 {
    let side = n.cross(V3(0.2, 0.9, 0.4)).unit();
    let other = n.cross(side);
    let mut covered = 0.0;
    for (i, (dx, dy)) in taps.iter().enumerate() {
        let r = 0.4 + 4.6 * (i as f32 + 0.5) / taps.len() as f32;
        let spread = r * 0.75 / (dx * dx + dy * dy).sqrt();
        let q =
            p + n * (0.75 * r) + side * ((dx * c - dy * s) * spread) + other * ((dx * s + dy * c) * spread);
        let (x, y, z) = view.project(q);
        if x < 0.0 || y < 0.0 || x as usize >= width || y as usize >= height {
            continue;
        }
        let there = coarse.depth[(y / coarse.apart) as usize * coarse.width + (x / coarse.apart) as usize];
        // Something stands before the point, but not so far before it that it has nothing to do with it.
        if there < z - 0.1 {
            covered += 1.0 - ((z - there - 3.0) / 7.0).clamp(0.0, 1.0);
        }
    }
    1.0 - 0.85 * covered / taps.len() as f32
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::mesh::Stuff;
    use std::f32::consts::FRAC_PI_2;

    const SIZE: (usize, usize) = (300, 200);

    /// Sees the origin from 100 along z; 100 wide there is half of what is seen.
    fn eye() -> Eye {
        Eye { at: V3(0.0, 0.0, 100.0), to: V3(0.0, 0.0, 0.0), field: FRAC_PI_2, roll: 0.0 }
    }

    fn light(sun: V3) -> Light {
        Light { sun: sun.unit(), key: V3(2.0, 2.0, 2.0), sky: V3(0.3, 0.3, 0.3), bounce: V3(0.1, 0.1, 0.1) }
    }

    const BEHIND: V3 = V3(0.25, 0.5, 0.75);

    fn seen(mesh: &Mesh, eye: &Eye) -> Frame {
        render(mesh, eye, &light(V3(0.0, 0.3, 1.0)), SIZE, &|_, _| BEHIND)
    }

    /// Pixels that show something, with their middle.
    fn covered(frame: &Frame) -> (usize, (f32, f32)) {
        let there = (0..frame.depth.len()).filter(|i| frame.depth[*i].is_finite());
        let (mut count, mut x, mut y) = (0, 0.0, 0.0);
        for i in there {
            count += 1;
            x += (i % frame.width) as f32 + 0.5;
            y += (i / frame.width) as f32 + 0.5;
        }
        (count, (x / count as f32, y / count as f32))
    }

    #[test]
    fn things_are_as_large_and_as_far_as_a_pinhole_shows_them() {
        // The longer side sees 200 at a distance of 100: 1.5 pixels a unit. The block's front is 1 nearer.
        let mut mesh = Mesh::default();
        mesh.block(V3(20.0, -10.0, 0.0), V3(40.0, 20.0, 2.0), 0.0, Stuff::Metal, 1);
        let frame = seen(&mesh, &eye());
        let (count, middle) = covered(&frame);
        let scale = 150.0 / 99.0;
        let want = 40.0 * 20.0 * scale * scale;
        assert!((count as f32 / want - 1.0).abs() < 0.03, "{count} pixels, want {want}");
        assert!(
            (middle.0 - (150.0 + 20.0 * scale)).abs() < 0.6 && (middle.1 - 100.0).abs() < 0.6,
            "{middle:?}"
        );
        // Depth is along the axis, the same all over a front that faces it.
        let front = frame.depth[100 * 300 + 170];
        assert!((front - 99.0).abs() < 1e-2, "{front}");
        // Behind it lies what is behind.
        assert_eq!(frame.light[0], BEHIND);
        // Twice as far: a quarter.
        let far = Eye { at: V3(0.0, 0.0, 199.0), ..eye() };
        let (quarter, _) = covered(&seen(&mesh, &far));
        assert!((count as f32 / quarter as f32 - 4.0).abs() < 0.2, "{count} {quarter}");
    }

    #[test]
    fn what_stands_before_hides_and_a_roll_turns() {
        let mut mesh = Mesh::default();
        mesh.block(V3(0.0, -30.0, 0.0), V3(120.0, 60.0, 2.0), 0.0, Stuff::Metal, 1);
        mesh.block(V3(0.0, -5.0, 40.0), V3(10.0, 10.0, 2.0), 0.0, Stuff::Clay, 2);
        let frame = seen(&mesh, &eye());
        let middle = frame.depth[100 * 300 + 150];
        let aside = frame.depth[100 * 300 + 100];
        assert!((middle - 59.0).abs() < 1e-2 && (aside - 99.0).abs() < 1e-2, "{middle} {aside}");
        // In whichever order they come.
        mesh.triangles.reverse();
        assert_eq!(seen(&mesh, &eye()).depth, frame.depth);
        // A quarter turn: what was wide is high.
        let mut wide = Mesh::default();
        wide.block(V3(0.0, -5.0, 0.0), V3(60.0, 10.0, 2.0), 0.0, Stuff::Metal, 1);
        let extent = |frame: &Frame| {
            let row = (0..300).filter(|x| frame.depth[100 * 300 + x].is_finite()).count();
            let column = (0..200).filter(|y| frame.depth[y * 300 + 150].is_finite()).count();
            (row, column)
        };
        let (row, column) = extent(&seen(&wide, &eye()));
        let (turned_row, turned_column) = extent(&seen(&wide, &Eye { roll: FRAC_PI_2, ..eye() }));
        assert!(row.abs_diff(turned_column) <= 1 && column.abs_diff(turned_row) <= 1, "{row} {column}");
        assert!(row > 5 * column);
    }

    #[test]
    fn a_shadow_falls_where_the_sun_throws_it() {
        // A post of 20 on the ground, the sun at 45° from the left: its shadow reaches 20 to the right.
        let mut mesh = Mesh::default();
        mesh.block(V3(0.0, -1.0, 0.0), V3(140.0, 1.0, 140.0), 0.0, Stuff::Card(0), 1);
        mesh.block(V3(0.0, 0.0, 0.0), V3(4.0, 20.0, 4.0), 0.0, Stuff::Card(0), 2);
        let above = Eye { at: V3(0.0, 120.0, 1.0), to: V3(0.0, 0.0, 0.0), field: FRAC_PI_2, roll: 0.0 };
        let sun = V3(-1.0, 1.0, 0.0);
        let shone = render(&mesh, &above, &light(sun), SIZE, &|_, _| BEHIND);
        let off = Light { key: V3::default(), ..light(sun) };
        let dark = render(&mesh, &above, &off, SIZE, &|_, _| BEHIND);
        // Sunlight alone, on the ground at a distance to the right of the post and to its left.
        let sunlight = |x: f32| {
            let at = 100 * 300 + (150.0 + x * 150.0 / 120.0) as usize;
            shone.light[at].1 - dark.light[at].1
        };
        for x in [8.0, 12.0, 16.0] {
            assert!(sunlight(x) < 0.02, "{x}: {}", sunlight(x));
        }
        for x in [-30.0, -12.0, 28.0, 40.0] {
            assert!(sunlight(x) > 0.2, "{x}: {}", sunlight(x));
        }
    }

    #[test]
    fn several_lights_are_each_what_it_is_alone() {
        let mut mesh = Mesh::default();
        mesh.block(V3(0.0, -20.0, 0.0), V3(60.0, 40.0, 30.0), 0.4, Stuff::Clay, 3);
        let lights = [light(V3(0.0, 0.3, 1.0)), light(V3(1.0, 0.5, 0.2))];
        let (layers, depth) = render_lights(&mesh, &eye(), &lights, SIZE, &|_, _| BEHIND);
        for (light, layer) in lights.iter().zip(&layers) {
            let alone = render(&mesh, &eye(), light, SIZE, &|_, _| BEHIND);
            assert_eq!(alone.depth, depth);
            let inside = (0..depth.len()).filter(|i| depth[*i].is_finite());
            assert!(inside.clone().count() > 1000);
            for i in inside {
                assert_eq!(alone.light[i], layer[i], "{i}");
            }
        }
    }
}
