//! Triangles and the things on the bench made of them. Units are centimetres, y points up.

use crate::maths::{Dice, V3};
use std::f32::consts::{PI, TAU};

/// What a surface is made of.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Stuff {
    Clay,
    Glaze(V3),
    Soil,
    Leaf,
    Stem,
    Wood,
    Card(u32),
    Metal,
    Handle,
    Tag,
    Twine,
    Petal(V3),
}

#[derive(Clone, Copy)]
pub struct Vertex {
    pub at: V3,
    pub normal: V3,
    /// Along and across the surface.
    pub uv: [f32; 2],
}

#[derive(Clone, Copy)]
pub struct Triangle {
    pub v: [Vertex; 3],
    pub stuff: Stuff,
    /// Tells one leaf or board from another.
    pub seed: u32,
}

#[derive(Default)]
pub struct Mesh {
    pub triangles: Vec<Triangle>,
}

impl Mesh {
    /// A grid of (columns + 1) × (rows + 1) points given over the unit square.
    fn sheet(
        &mut self,
        columns: usize,
        rows: usize,
        stuff: Stuff,
        seed: u32,
        point: impl Fn(f32, f32) -> V3,
    ) {
        let (du, dv) = (1.0 / columns as f32, 1.0 / rows as f32);
        let vertex = |i: usize, j: usize| {
            let (u, v) = (i as f32 * du, j as f32 * dv);
            let e = 1e-3;
            let across = point(u + e, v) - point(u - e, v);
            let along = point(u, v + e) - point(u, v - e);
            Vertex { at: point(u, v), normal: across.cross(along).unit(), uv: [u, v] }
        };
        let points: Vec<Vertex> =
            (0..=rows).flat_map(|j| (0..=columns).map(move |i| (i, j))).map(|(i, j)| vertex(i, j)).collect();
        for j in 0..rows {
            for i in 0..columns {
                let at = j * (columns + 1) + i;
                let [a, b, c, d] = [at, at + 1, at + columns + 1, at + columns + 2].map(|k| points[k]);
                self.triangles.push(Triangle { v: [a, b, c], stuff, seed });
                self.triangles.push(Triangle { v: [b, d, c], stuff, seed });
            }
        }
    }

    /// A body of revolution about the vertical through `at`; the profile is (radius, height) from 0 to 1.
    fn turned(&mut self, at: V3, profile: &[(f32, f32)], stuff: Stuff, seed: u32, sides: usize) {
        let last = profile.len() - 1;
        let on = |t: f32| {
            let p = t.clamp(0.0, 1.0) * last as f32;
            let i = (p as usize).min(last - 1);
            let f = p - i as f32;
            let (a, b) = (profile[i], profile[i + 1]);
            (a.0 + (b.0 - a.0) * f, a.1 + (b.1 - a.1) * f)
        };
        self.sheet(sides, last, stuff, seed, |u, v| {
            let (radius, height) = on(v);
            at + V3((u * TAU).cos() * radius, height, (u * TAU).sin() * radius)
        });
    }

    /// A box of the given size standing on `at`, turned by `turn` about the vertical.
    pub fn block(&mut self, at: V3, size: V3, turn: f32, stuff: Stuff, seed: u32) {
        let (s, c) = turn.sin_cos();
        let place = |p: V3| at + V3(p.0 * c - p.2 * s, p.1, p.0 * s + p.2 * c);
        let h = size * 0.5;
        let side = |mesh: &mut Self, origin: V3, u: V3, v: V3| {
            mesh.sheet(1, 1, stuff, seed, |a, b| place(origin + u * a + v * b));
        };
        let up = V3(0.0, size.1, 0.0);
        let (x, z) = (V3(size.0, 0.0, 0.0), V3(0.0, 0.0, size.2));
        side(self, V3(-h.0, 0.0, h.2), x, up);
        side(self, V3(h.0, 0.0, -h.2), -x, up);
        side(self, V3(h.0, 0.0, h.2), -z, up);
        side(self, V3(-h.0, 0.0, -h.2), z, up);
        side(self, V3(-h.0, size.1, h.2), x, -z);
    }

    /// A tube through points with a radius that falls to `end`.
    fn tube(&mut self, points: &[V3], radius: f32, end: f32, stuff: Stuff, seed: u32) {
        let last = points.len() - 1;
        self.sheet(7, last * 2, stuff, seed, |u, v| {
            let p = v.clamp(0.0, 1.0) * last as f32;
            let i = (p as usize).min(last - 1);
            let centre = points[i].mix(points[i + 1], p - i as f32);
            let along = (points[i + 1] - points[i]).unit();
            let side = along.cross(V3(0.3, 0.1, 0.9)).unit();
            let other = along.cross(side);
            let r = radius + (end - radius) * v;
            centre + side * ((u * TAU).cos() * r) + other * ((u * TAU).sin() * r)
        });
    }

    /// A leaf from `at` along `along`, its upper side towards `up`.
    fn leaf(&mut self, at: V3, along: V3, up: V3, length: f32, width: f32, dice: &mut Dice) {
        let along = along.unit();
        let side = along.cross(up).unit();
        let up = side.cross(along).unit();
        let (droop, fold, wave) = (dice.between(0.05, 0.5), dice.between(0.1, 0.45), dice.between(0.0, 0.12));
        let seed = (dice.unit() * 1e6) as u32;
        let lobe = dice.between(0.75, 1.2);
        self.sheet(6, 9, Stuff::Leaf, seed, |u, v| {
            let half = u * 2.0 - 1.0;
            // Wide below the middle, pointed at the end.
            let shape = (PI * v.clamp(0.0, 1.0).powf(lobe * 0.7)).sin().max(0.0).powf(0.8) * (1.0 - 0.25 * v);
            let across = half * width * shape;
            let bend = -droop * v * v * length;
            let raise =
                fold * half.abs() * width * shape + wave * width * (v * 14.0 + half * 2.0).sin() * half.abs();
            at + along * (v * length) + side * across + up * (bend + raise)
        });
    }

    /// A seedling or plant: stems from the soil with leaves in turn.
    pub fn plant(&mut self, at: V3, height: f32, stems: usize, leaf: f32, dice: &mut Dice) {
        for _ in 0..stems {
            let (turn, lean) = (dice.between(0.0, TAU), dice.between(0.15, 0.75));
            let tall = height * dice.between(0.65, 1.05);
            let out = V3(turn.cos(), 0.0, turn.sin());
            let foot = at + out * dice.between(0.0, 1.0);
            let points: Vec<V3> = (0..=6)
                .map(|i| {
                    let t = i as f32 / 6.0;
                    foot + V3(0.0, tall * t, 0.0) + out * (tall * lean * t * t)
                })
                .collect();
            self.tube(&points, 0.16 + height * 0.008, 0.08, Stuff::Stem, dice.index(1000) as u32);
            let pairs = (tall / (leaf * 0.62)).max(2.0) as usize;
            for k in 0..pairs {
                let t = 0.25 + 0.75 * (k as f32 + 0.6) / pairs as f32;
                let i = ((t * 6.0) as usize).min(5);
                let knot = points[i].mix(points[i + 1], (t * 6.0 - i as f32).clamp(0.0, 1.0));
                let spin = turn + k as f32 * 2.4 + dice.between(-0.4, 0.4);
                for opposite in [0.0, PI] {
                    let a = spin + opposite;
                    let rise = dice.between(-0.15, 0.5) + 0.25 * t;
                    let along = V3(a.cos(), rise, a.sin());
                    let size = leaf * dice.between(0.8, 1.3) * (1.3 - 0.5 * t);
                    self.leaf(knot, along, V3(0.0, 1.0, 0.0), size, size * dice.between(0.3, 0.42), dice);
                }
            }
            if let Some(&tip) = points.last() {
                for k in 0..3 {
                    let a = turn + k as f32 * 2.1;
                    self.leaf(
                        tip,
                        V3(a.cos(), 1.4, a.sin()),
                        V3(0.0, 1.0, 0.0),
                        leaf * 0.7,
                        leaf * 0.25,
                        dice,
                    );
                }
            }
        }
    }

    /// A flower of five petals on top of a short stem.
    pub fn flower(&mut self, at: V3, size: f32, colour: V3, dice: &mut Dice) {
        let top = at + V3(dice.between(-0.6, 0.6), size * 1.6, dice.between(-0.6, 0.6));
        self.tube(&[at, at.mix(top, 0.6), top], 0.12, 0.08, Stuff::Stem, 3);
        for k in 0..5 {
            let a = k as f32 * TAU / 5.0 + dice.between(-0.1, 0.1);
            let (along, side) = (V3(a.cos(), 0.35, a.sin()), V3(-a.sin(), 0.0, a.cos()));
            self.sheet(4, 5, Stuff::Petal(colour), k, |u, v| {
                let half = u * 2.0 - 1.0;
                let shape = (PI * v.clamp(0.0, 1.0).powf(1.4)).sin().max(0.0).powf(0.6);
                top + along * (v * size)
                    + side * (half * size * 0.42 * shape)
                    + V3(0.0, -0.3 * v * v * size + 0.1 * half * half * size, 0.0)
            });
        }
        self.turned(
            top,
            &[(0.05, 0.3), (size * 0.2, 0.2), (size * 0.22, 0.0)],
            Stuff::Petal(V3(0.75, 0.5, 0.08)),
            1,
            10,
        );
    }

    /// A flower pot with soil; returns the middle of the soil.
    pub fn pot(&mut self, at: V3, radius: f32, height: f32, stuff: Stuff, filled: bool, seed: u32) -> V3 {
        let (r, h) = (radius, height);
        let foot = r * 0.68;
        let neck = foot + (r - foot) * 0.78;
        let wall = r * 0.085;
        let profile = [
            (0.0, 0.0),
            (foot * 0.98, 0.0),
            (foot, 0.1),
            (foot + (neck - foot) * 0.5, h * 0.4),
            (neck, h * 0.77),
            (r * 0.985, h * 0.785),
            (r * 1.02, h * 0.80),
            (r * 1.03, h * 0.96),
            (r * 1.01, h),
            (r - wall * 0.4, h * 1.006),
            (r - wall, h * 0.985),
            (r - wall * 1.2, h * 0.8),
            (foot * 0.9, h * 0.1),
            (0.0, h * 0.08),
        ];
        self.turned(at, &profile, stuff, seed, 64);
        let level = h * 0.88;
        if filled {
            let s = seed as f32;
            self.sheet(48, 12, Stuff::Soil, seed, |u, v| {
                let radius = v * (r - wall * 0.9);
                let (x, z) = ((u * TAU).cos() * radius, (u * TAU).sin() * radius);
                let bump = crate::maths::noise(V3(x * 0.9 + s, 0.0, z * 0.9)) * 0.9
                    + crate::maths::noise(V3(x * 3.0, s, z * 3.0)) * 0.25;
                at + V3(x, level + (bump - 0.5) * 0.9 * (1.0 - v * 0.4), z)
            });
        }
        at + V3(0.0, level - 0.3, 0.0)
    }

    /// A seed packet standing a little back.
    pub fn packet(&mut self, at: V3, width: f32, turn: f32, seed: u32) {
        let height = width * 1.42;
        let (s, c) = turn.sin_cos();
        let (x, back) = (V3(c, 0.0, s), V3(-s, 0.0, c) * -1.0);
        for (side, sign) in [(0.0, 1.0), (0.12, -1.0)] {
            self.sheet(10, 10, Stuff::Card(seed), seed, |u, v| {
                let belly = (PI * u.clamp(0.0, 1.0)).sin() * (PI * v.clamp(0.0, 1.0)).sin() * 0.5 * sign;
                at + x * ((u - 0.5) * width * sign)
                    + V3(0.0, v * height * 0.985, 0.0)
                    + back * (v * height * 0.17 + side - belly)
            });
        }
    }

    /// A plant tag stuck into something.
    pub fn tag(&mut self, at: V3, turn: f32, seed: u32) {
        let (s, c) = turn.sin_cos();
        let x = V3(c, 0.0, s);
        self.sheet(4, 8, Stuff::Tag, seed, |u, v| {
            let narrow = if v < 0.3 { 0.4 + v * 2.0 } else { 1.0 };
            at + x * ((u - 0.5) * 1.7 * narrow) + V3(s * v * 0.9, v * 8.5 - 2.0, -c * v * 0.9)
        });
    }

    /// A hand trowel lying on the bench, its hollow side down: its edges touch the bench.
    pub fn trowel(&mut self, at: V3, turn: f32) {
        let (s, c) = turn.sin_cos();
        let (x, z) = (V3(c, 0.0, s), V3(-s, 0.0, c));
        self.sheet(14, 18, Stuff::Metal, 5, |u, v| {
            let half = u * 2.0 - 1.0;
            let shape = if v < 0.75 {
                3.4 + 0.6 * v
            } else {
                3.85 * (1.0 - ((v - 0.75) / 0.25).clamp(0.0, 1.0).powi(2)).max(0.0).sqrt()
            };
            at + x * (v * 15.0)
                + z * (half * shape)
                + V3(0.0, 0.12 + (1.0 - half * half) * 1.7 * (1.0 - v * 0.7), 0.0)
        });
        let neck: Vec<V3> = (0..=5)
            .map(|i| {
                let t = i as f32 / 5.0;
                at - x * (t * 6.0 - 0.4) + V3(0.0, 1.5 + (PI * t).sin() * 0.9 + t * 0.2, 0.0)
            })
            .collect();
        self.tube(&neck, 0.55, 0.55, Stuff::Metal, 6);
        let grip: Vec<V3> = (0..=8).map(|i| at - x * (6.0 + i as f32 * 1.6) + V3(0.0, 1.55, 0.0)).collect();
        self.tube(&grip, 1.35, 1.5, Stuff::Handle, 7);
    }

    /// A ball of twine.
    pub fn twine(&mut self, at: V3, radius: f32) {
        self.sheet(48, 28, Stuff::Twine, 9, |u, v| {
            let (a, b) = (-u * TAU, (v - 0.5) * PI * 0.98);
            at + V3(a.cos() * b.cos() * radius, (b.sin() + 0.96) * radius, a.sin() * b.cos() * radius)
        });
    }

    /// The bench: boards along x, from `front` to `back`.
    pub fn bench(&mut self, front: f32, back: f32, half: f32) {
        let board = 13.5;
        let count = ((front - back) / board).ceil() as usize;
        for i in 0..count {
            let z = front - board * (i as f32 + 0.5);
            self.block(
                V3(0.0, -3.0, z),
                V3(half * 2.0, 3.0, board - 0.35),
                0.0,
                Stuff::Wood,
                11 + i as u32 * 7,
            );
        }
    }
}
