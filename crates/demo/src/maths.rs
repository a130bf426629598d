//! Vectors, hashes and noise: small, so that scenes are the same everywhere.

use std::ops::{Add, Mul, Neg, Sub};

#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct V3(pub f32, pub f32, pub f32);

impl Add for V3 {
    type Output = Self;
    fn add(self, o: Self) -> Self {
        Self(self.0 + o.0, self.1 + o.1, self.2 + o.2)
    }
}
impl Sub for V3 {
    type Output = Self;
    fn sub(self, o: Self) -> Self {
        Self(self.0 - o.0, self.1 - o.1, self.2 - o.2)
    }
}
impl Mul<f32> for V3 {
    type Output = Self;
    fn mul(self, k: f32) -> Self {
        Self(self.0 * k, self.1 * k, self.2 * k)
    }
}
impl Mul for V3 {
    type Output = Self;
    fn mul(self, o: Self) -> Self {
        Self(self.0 * o.0, self.1 * o.1, self.2 * o.2)
    }
}
impl Neg for V3 {
    type Output = Self;
    fn neg(self) -> Self {
        self * -1.0
    }
}

impl V3 {
    pub fn dot(self, o: Self) -> f32 {
        self.0 * o.0 + self.1 * o.1 + self.2 * o.2
    }
    pub fn cross(self, o: Self) -> Self {
        Self(self.1 * o.2 - self.2 * o.1, self.2 * o.0 - self.0 * o.2, self.0 * o.1 - self.1 * o.0)
    }
    pub fn length(self) -> f32 {
        self.dot(self).sqrt()
    }
    pub fn unit(self) -> Self {
        self * (1.0 / self.length().max(1e-9))
    }
    pub fn mix(self, o: Self, t: f32) -> Self {
        self + (o - self) * t
    }
}

/// A well mixed 32-bit hash (the finaliser of MurmurHash3).
pub fn hash(mut h: u32) -> u32 {
    h ^= h >> 16;
    h = h.wrapping_mul(0x85eb_ca6b);
    h ^= h >> 13;
    h = h.wrapping_mul(0xc2b2_ae35);
    h ^ (h >> 16)
}

fn lattice(x: i32, y: i32, z: i32) -> f32 {
    let h = (x as u32).wrapping_mul(0x9e37_79b1)
        ^ (y as u32).wrapping_mul(0x85eb_ca77)
        ^ (z as u32).wrapping_mul(0xc2b2_ae3d);
    (hash(h) >> 8) as f32 / 16_777_216.0
}

/// Smooth value noise, 0 ..= 1.
pub fn noise(p: V3) -> f32 {
    // Without a call into the maths library, which the baseline instruction set needs for `floor`.
    let below = |v: f32| v as i32 - i32::from(v < (v as i32) as f32);
    let (x, y, z) = (below(p.0), below(p.1), below(p.2));
    let (fx, fy, fz) = (x as f32, y as f32, z as f32);
    let ease = |t: f32| t * t * (3.0 - 2.0 * t);
    let (u, v, w) = (ease(p.0 - fx), ease(p.1 - fy), ease(p.2 - fz));
    let line = |dy: i32, dz: i32| {
        let (a, b) = (lattice(x, y + dy, z + dz), lattice(x + 1, y + dy, z + dz));
        a + (b - a) * u
    };
    let plane = |dz: i32| {
        let (a, b) = (line(0, dz), line(1, dz));
        a + (b - a) * v
    };
    let (a, b) = (plane(0), plane(1));
    a + (b - a) * w
}

/// Noise over `octaves` octaves, 0 ..= 1.
pub fn fractal(mut p: V3, octaves: u32) -> f32 {
    let (mut sum, mut weight, mut total) = (0.0, 0.5, 0.0);
    for _ in 0..octaves {
        sum += noise(p) * weight;
        total += weight;
        weight *= 0.5;
        p = p * 2.03 + V3(17.3, 9.1, 5.7);
    }
    sum / total
}

/// Random numbers from a seed (xorshift64*).
pub struct Dice(u64);

impl Dice {
    pub fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }
    pub fn unit(&mut self) -> f32 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 40) as f32 / 16_777_216.0
    }
    pub fn between(&mut self, low: f32, high: f32) -> f32 {
        low + (high - low) * self.unit()
    }
    pub fn index(&mut self, count: usize) -> usize {
        (self.unit() * count as f32) as usize
    }
}

pub fn smooth(low: f32, high: f32, v: f32) -> f32 {
    let t = ((v - low) / (high - low)).clamp(0.0, 1.0);
    t * t * (3.0 - 2.0 * t)
}

/// Points spread evenly over a disc of radius 1 (Vogel's spiral), the middle first.
pub fn disc<const N: usize>() -> [(f32, f32); N] {
    std::array::from_fn(|i| {
        let (r, a) = (((i as f32 + 0.5) / N as f32).sqrt(), i as f32 * 2.399_963);
        (a.cos() * r, a.sin() * r)
    })
}

/// Sixteen directions to turn such a disc by, so that neighbours do not repeat its pattern.
pub fn turns() -> [(f32, f32); 16] {
    std::array::from_fn(|i| (i as f32 * std::f32::consts::TAU / 16.0).sin_cos())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn vectors_are_right_handed() {
        let (x, y, z) = (V3(1.0, 0.0, 0.0), V3(0.0, 1.0, 0.0), V3(0.0, 0.0, 1.0));
        assert_eq!((x.cross(y), y.cross(z), z.cross(x)), (z, x, y));
        let (a, b) = (V3(1.0, -2.0, 0.5), V3(3.0, 0.25, -1.0));
        let c = a.cross(b);
        assert!(c.dot(a).abs() < 1e-5 && c.dot(b).abs() < 1e-5);
        // Its length is the area between them.
        let area = (a.dot(a) * b.dot(b) - a.dot(b).powi(2)).sqrt();
        assert!((c.length() - area).abs() < 1e-4);
        assert!((b.unit().length() - 1.0).abs() < 1e-6 && V3::default().unit().length() == 0.0);
        assert_eq!(a.mix(b, 0.0), a);
        assert_eq!(a.mix(b, 0.5), (a + b) * 0.5);
    }

    #[test]
    fn noise_is_smooth_and_within_its_range() {
        let mut dice = Dice::new(7);
        let (mut low, mut high) = (1.0f32, 0.0f32);
        for _ in 0..20_000 {
            let mut at = || dice.between(-40.0, 40.0);
            let p = V3(at(), at(), at());
            let (here, near) = (noise(p), noise(p + V3(1e-3, 0.0, 0.0)));
            // The steepest a cell can be is 1.5 of its height.
            assert!((here - near).abs() < 2e-3, "{p:?}: {here} {near}");
            assert!((0.0..=1.0).contains(&fractal(p, 4)));
            (low, high) = (low.min(here), high.max(here));
        }
        assert!(low >= 0.0 && high <= 1.0 && high - low > 0.8, "{low} {high}");
        // Whole numbers have the lattice's own values, on both sides of 0.
        for n in -3..3 {
            assert_eq!(noise(V3(n as f32, 2.0, -1.0)), lattice(n, 2, -1));
        }
    }

    #[test]
    fn chance_is_even_and_the_same_for_a_seed() {
        let draw = |seed: u64| {
            let mut dice = Dice::new(seed);
            (0..10_000).map(|_| dice.unit()).collect::<Vec<f32>>()
        };
        let all = draw(3);
        assert_eq!(all, draw(3));
        assert_ne!(all, draw(4));
        let mean = all.iter().sum::<f32>() / all.len() as f32;
        // Four times the standard error of so many.
        assert!((mean - 0.5).abs() < 4.0 * (1.0f32 / 12.0 / 10_000.0).sqrt(), "{mean}");
        let mut tens = [0; 10];
        all.iter().for_each(|v| tens[(v * 10.0) as usize] += 1);
        assert!(tens.iter().all(|n| (880..1120).contains(n)), "{tens:?}");
        let mut dice = Dice::new(1);
        assert!((0..1000).all(|_| dice.index(3) < 3 && (-2.0..5.0).contains(&dice.between(-2.0, 5.0))));
    }

    #[test]
    fn a_disc_is_covered_evenly() {
        let points = disc::<34>();
        let squares: Vec<f32> = points.iter().map(|(x, y)| x * x + y * y).collect();
        assert!(squares.iter().all(|r| *r <= 1.0) && squares.windows(2).all(|w| w[0] < w[1]));
        // Of an even disc the mean square distance is a half, and it has no side.
        let mean = |v: &dyn Fn(&(f32, f32)) -> f32| points.iter().map(v).sum::<f32>() / 34.0;
        assert!((mean(&|p| p.0 * p.0 + p.1 * p.1) - 0.5).abs() < 1e-3);
        assert!(mean(&|p| p.0).abs() < 0.05 && mean(&|p| p.1).abs() < 0.05);
        assert!(turns().iter().all(|(s, c)| (s * s + c * c - 1.0).abs() < 1e-6));
        assert_eq!((smooth(1.0, 3.0, 0.0), smooth(1.0, 3.0, 2.0), smooth(1.0, 3.0, 9.0)), (0.0, 0.5, 1.0));
    }
}
