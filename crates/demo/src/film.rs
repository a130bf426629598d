//! Lens and sensor: blur by distance, fringes, fall-off, enlarging to the sensor's pixels, noise by ISO, tone.

use crate::maths::{V3, disc, hash, turns};
use crate::raster::Frame;

/// What the lens and the camera are set to.
#[derive(Clone, Copy)]
pub struct Exposure {
    /// Distance of focus.
    pub focus: f32,
    /// Blur in pixels of the frame for things twice as far as the focus, per 1000 pixels of the long edge.
    pub blur: f32,
    /// Gain on the light.
    pub gain: f32,
    /// ISO speed.
    pub iso: u32,
    /// White balance error: gains of red and blue.
    pub cast: (f32, f32),
    /// Sensor pixels.
    pub width: usize,
    /// Sensor rows.
    pub height: usize,
    /// How far the picture has moved on the sensor, pixels right and down.
    pub moved: (f32, f32),
}

/// What a pixel needs to spill onto its neighbours, together in memory.
#[derive(Clone, Copy)]
#[repr(align(32))]
struct Spill {
    light: V3,
    depth: f32,
    /// Radius of its disc.
    circle: f32,
    /// One over the disc's size.
    thin: f32,
}

/// Blurs by distance: each pixel gathers from a disc the neighbours whose own disc reaches it.
pub fn focus(frame: &Frame, exposure: &Exposure) -> Vec<V3> {
    let (w, h) = (frame.width, frame.height);
    let long = w.max(h) as f32 / 1000.0;
    let most = 26.0 * long;
    let circle = |z: f32| {
        if z.is_finite() {
            ((1.0 - exposure.focus / z).abs() * 2.0 * exposure.blur * long).min(most)
        } else {
            0.0
        }
    };
    let spills: Vec<Spill> = frame
        .light
        .iter()
        .zip(&frame.depth)
        .map(|(light, depth)| {
            let circle = circle(*depth);
            Spill { light: *light, depth: *depth, circle, thin: 1.0 / (circle * circle).max(0.4) }
        })
        .collect();
    // The largest disc that may reach a block of pixels.
    const BLOCK: usize = 32;
    let (bw, bh) = (w.div_ceil(BLOCK), h.div_ceil(BLOCK));
    let mut reach = vec![0f32; bw * bh];
    for (i, spill) in spills.iter().enumerate() {
        let r = &mut reach[i / w / BLOCK * bw + i % w / BLOCK];
        *r = r.max(spill.circle);
    }
    let near: Vec<f32> = (0..bw * bh)
        .map(|i| {
            let (bx, by) = (i % bw, i / bw);
            let rows = by.saturating_sub(1)..=(by + 1).min(bh - 1);
            rows.flat_map(|v| reach[v * bw + bx.saturating_sub(1)..=v * bw + (bx + 1).min(bw - 1)].iter())
                .fold(0.0, |a: f32, b| a.max(*b))
        })
        .collect();
    // Wide discs take every fourth pixel each way: as good for a blur, and near in memory.
    const APART: usize = 4;
    let (cw, ch) = (w.div_ceil(APART), h.div_ceil(APART));
    let sparse: Vec<Spill> = (0..cw * ch)
        .map(|i| spills[(i / cw * APART + 1).min(h - 1) * w + (i % cw * APART + 1).min(w - 1)])
        .collect();
    let mut out = Vec::with_capacity(w * h);
    let (small, medium, large) = (disc::<7>(), disc::<15>(), disc::<34>());
    let turns = turns();
    for y in 0..h {
        for x in 0..w {
            let spill = spills[y * w + x];
            let wide = near[y / BLOCK * bw + x / BLOCK];
            if wide < 0.8 {
                out.push(spill.light);
                continue;
            }
            let taps: &[(f32, f32)] = if wide < 1.6 {
                &small
            } else if wide < 4.0 {
                &medium
            } else {
                &large
            };
            let (sin, cos) = turns[hash((y * w + x) as u32 ^ 0x51ab) as usize & 15];
            let area = (spill.circle * spill.circle).max(0.4);
            let mut sum = spill.light * 0.6;
            let mut weight = 0.6;
            for (i, (dx, dy)) in taps.iter().enumerate() {
                let (u, v) =
                    (x as f32 + (dx * cos - dy * sin) * wide, y as f32 + (dx * sin + dy * cos) * wide);
                let u = ((u + 0.5).max(0.0) as usize).min(w - 1);
                let v = ((v + 0.5).max(0.0) as usize).min(h - 1);
                let other = if wide < 8.0 { &spills[v * w + u] } else { &sparse[v / APART * cw + u / APART] };
                // Taps are in order of distance, evenly over the disc's area.
                let r = ((i as f32 + 0.5) / taps.len() as f32).sqrt() * wide;
                // A sharp thing in front does not spill; one behind spills only as far as the pixel is blurred.
                let theirs = if other.depth > spill.depth + 0.5 {
                    other.circle.min(spill.circle)
                } else {
                    other.circle
                };
                let share = (theirs - r + 0.7).clamp(0.0, 1.0) * other.thin * area;
                sum = sum + other.light * share;
                weight += share;
            }
            out.push(sum * (1.0 / weight));
        }
    }
    softened(&out, w, h)
}

/// The lens at its sharpest and the filter before the sensor: the binomial 1-2-1 each way.
fn softened(light: &[V3], w: usize, h: usize) -> Vec<V3> {
    let across: Vec<V3> = light
        .chunks(w)
        .flat_map(|row| {
            (0..w)
                .map(move |x| row[x.saturating_sub(1)] * 0.25 + row[x] * 0.5 + row[(x + 1).min(w - 1)] * 0.25)
        })
        .collect();
    (0..h)
        .flat_map(|y| {
            let rows = [y.saturating_sub(1), y, (y + 1).min(h - 1)].map(|y| &across[y * w..(y + 1) * w]);
            (0..w).map(move |x| rows[0][x] * 0.25 + rows[1][x] * 0.5 + rows[2][x] * 0.25)
        })
        .collect()
}

pub(crate) fn cubic_weights(t: f32) -> [f32; 4] {
    // Keys, a = −1/2.
    let (t2, t3) = (t * t, t * t * t);
    [-0.5 * t3 + t2 - 0.5 * t, 1.5 * t3 - 2.5 * t2 + 1.0, -1.5 * t3 + 2.0 * t2 + 0.5 * t, 0.5 * t3 - 0.5 * t2]
}

/// Side of the plates of noise.
const PLATE: usize = 512;

/// A plate of a sensor's noise: demosaicing and the camera's own smoothing leave it partly common to the channels
/// and coarse. It is laid on anew every few rows, at a place that depends on the picture's seed.
static GRAIN: std::sync::LazyLock<[Vec<f32>; 3]> = std::sync::LazyLock::new(|| {
    // Nearly normal, variance 1: the sum of four bytes of a hash.
    let bell = |seed: u32| {
        let h = hash(seed);
        let sum = (h & 255) + (h >> 8 & 255) + (h >> 16 & 255) + (h >> 24);
        (sum as f32 - 510.0) * (1.0 / 147.8)
    };
    std::array::from_fn(|c| {
        let channel_seed = 0x5bd1 * (c as u32 + 1);
        (0..(PLATE * PLATE) as u32)
            .map(|i| {
                let (x, y) = (i % PLATE as u32, i / PLATE as u32);
                let coarse = (y / 2 * PLATE as u32 + x / 2) ^ 0x0c0a_0000;
                0.62 * bell(i)
                    + 0.55 * bell(i.wrapping_add(channel_seed << 8))
                    + 0.55 * bell(coarse.wrapping_add(channel_seed << 9))
            })
            .collect()
    })
});

/// From light on the sensor to the camera's own 8-bit picture (sRGB).
pub fn develop(light: &[V3], from: (usize, usize), e: &Exposure, seed: u32) -> Vec<u8> {
    let (fw, fh) = from;
    let (w, h) = (e.width, e.height);
    // Lateral colour: red a little larger than blue.
    let zoom = [1.0 - 0.000_35, 1.0, 1.0 + 0.000_35f32];
    let place = |i: usize, side: usize, small: usize, zoom: f32, moved: f32| {
        let middle = side as f32 / 2.0;
        let at = (middle + (i as f32 + 0.5 - moved - middle) * zoom) * small as f32 / side as f32 - 0.5;
        (at.floor() as i64, cubic_weights(at - at.floor()))
    };
    // Columns read from a row with two pixels of margin on either side.
    let columns: Vec<Vec<(usize, [f32; 4])>> = zoom
        .iter()
        .map(|z| {
            let at = |x| place(x, w, fw, *z, e.moved.0);
            (0..w).map(at).map(|(x, k)| ((x + 1).clamp(0, fw as i64) as usize, k)).collect()
        })
        .collect();
    let stops = (e.iso as f32 / 100.0).max(1.0);
    let (shot, read) = (0.000_03 * stops, 0.000_000_09 * stops * stops);
    // As long as the mask below asks, so that no look-up needs a check.
    let tone: Vec<u8> = (0..0x4000).map(|i| tone((i as f32 / 8192.0).min(1.0))).collect();
    let tone: &[u8; 0x4000] = tone.as_slice().try_into().expect("made that long");
    let mut out = vec![0u8; w * h * 3];
    let mut band = vec![0f32; fw + 4];
    let mut row = [vec![0f32; w], vec![0f32; w], vec![0f32; w]];
    let mut grain = vec![0f32; w];
    let fall: Vec<f32> = (0..w)
        .map(|x| (x as f32 / w as f32 - 0.5) * w as f32 / w.max(h) as f32)
        .map(|dx| 1.0 - 0.62 * dx * dx)
        .collect();
    for (y, line) in out.chunks_mut(w * 3).enumerate() {
        for c in 0..3 {
            let (y0, wy) = place(y, h, fh, zoom[c], e.moved.1);
            let lines: [&[V3]; 4] = std::array::from_fn(|k| {
                let at = (y0 - 1 + k as i64).clamp(0, fh as i64 - 1) as usize * fw;
                &light[at..at + fw]
            });
            let channel = |p: &V3| {
                if c == 0 {
                    p.0
                } else if c == 1 {
                    p.1
                } else {
                    p.2
                }
            };
            for ((((v, p), q), r), s) in
                band[2..fw + 2].iter_mut().zip(lines[0]).zip(lines[1]).zip(lines[2]).zip(lines[3])
            {
                *v = channel(p) * wy[0] + channel(q) * wy[1] + channel(r) * wy[2] + channel(s) * wy[3];
            }
            let (first, last) = (band[2], band[fw + 1]);
            band[..2].fill(first);
            band[fw + 2..].fill(last);
            let gain = e.gain * [e.cast.0, 1.0, e.cast.1][c];
            for (v, (x, k)) in row[c].iter_mut().zip(&columns[c]) {
                let p = &band[*x..*x + 4];
                *v = (p[0] * k[0] + p[1] * k[1] + p[2] * k[2] + p[3] * k[3]).max(0.0) * gain;
            }
        }
        let lay = hash((y / 48) as u32 ^ seed.wrapping_mul(0x9e37_79b1)) as usize;
        let start = (y + (lay >> 9)) % PLATE * PLATE;
        let dy = (y as f32 / h as f32 - 0.5) * h as f32 / w.max(h) as f32;
        for c in 0..3 {
            // The plate's row again and again, from a place of its own on.
            let plate = &GRAIN[c][start..start + PLATE];
            let mut at = 0;
            let mut from = lay % PLATE;
            while at < w {
                let count = (w - at).min(PLATE - from);
                grain[at..at + count].copy_from_slice(&plate[from..from + count]);
                (at, from) = (at + count, 0);
            }
            for ((v, across), noise) in row[c].iter_mut().zip(&fall).zip(&grain) {
                let light = *v * (across - 0.62 * dy * dy);
                let seen = light + (shot * light + read).sqrt() * noise;
                *v = seen.clamp(0.0, 1.0) * 8192.0;
            }
        }
        let [r, g, b] = &row;
        for (((pixel, r), g), b) in line.as_chunks_mut::<3>().0.iter_mut().zip(r).zip(g).zip(b) {
            *pixel = [tone[*r as usize & 0x3fff], tone[*g as usize & 0x3fff], tone[*b as usize & 0x3fff]];
        }
    }
    out
}

/// The camera's tone curve: a soft shoulder on the sRGB scale.
pub(crate) fn tone(v: f32) -> u8 {
    let x = v * 1.18;
    let soft = if x < 0.55 { x } else { 0.55 + 0.45 * (1.0 - (-(x - 0.55) / 0.45).exp()) };
    let soft = soft / 0.89;
    let s = if soft <= 0.003_130_8 { soft * 12.92 } else { 1.055 * soft.powf(1.0 / 2.4) - 0.055 };
    (s.clamp(0.0, 1.0) * 255.0 + 0.5) as u8
}

#[cfg(test)]
mod tests {
    use super::*;

    fn exposure(width: usize, height: usize) -> Exposure {
        Exposure {
            focus: 50.0,
            blur: 20.0,
            gain: 1.0,
            iso: 100,
            cast: (1.0, 1.0),
            width,
            height,
            moved: (0.0, 0.0),
        }
    }

    /// Mean and deviation of one channel of a part in the middle.
    fn middle(pixels: &[u8], (w, h): (usize, usize), channel: usize) -> (f64, f64) {
        let part: Vec<f64> = (h / 3..2 * h / 3)
            .flat_map(|y| (w / 3..2 * w / 3).map(move |x| (y * w + x) * 3 + channel))
            .map(|i| f64::from(pixels[i]))
            .collect();
        let mean = part.iter().sum::<f64>() / part.len() as f64;
        let spread = part.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / part.len() as f64;
        (mean, spread.sqrt())
    }

    #[test]
    fn noise_grows_with_iso_and_not_with_the_picture() {
        let size = (240, 180);
        let grey = vec![V3(0.2, 0.2, 0.2); size.0 * size.1];
        let shot = |iso: u32| {
            let e = Exposure { iso, ..exposure(size.0, size.1) };
            middle(&develop(&grey, size, &e, 5), size, 1)
        };
        let all: Vec<(f64, f64)> = [100, 400, 1600, 6400].map(shot).to_vec();
        assert!(all.windows(2).all(|w| w[1].1 > 1.5 * w[0].1), "{all:?}");
        // Four times the speed: shot noise is twice as strong, the reading's four times.
        assert!(all.windows(2).all(|w| w[1].1 < 4.2 * w[0].1), "{all:?}");
        assert!(all.iter().all(|(mean, _)| (mean - all[0].0).abs() < 2.0), "{all:?}");
        // A seed gives the same noise, another one another.
        let e = Exposure { iso: 1600, ..exposure(size.0, size.1) };
        assert!(develop(&grey, size, &e, 5) == develop(&grey, size, &e, 5));
        assert!(develop(&grey, size, &e, 5) != develop(&grey, size, &e, 6));
    }

    #[test]
    fn gains_colour_and_tone_are_what_is_set() {
        let size = (120, 90);
        let grey = vec![V3(0.1, 0.1, 0.1); size.0 * size.1];
        let shot = |e: Exposure, c: usize| middle(&develop(&grey, size, &e, 1), size, c).0;
        let plain = exposure(size.0, size.1);
        // What is twice as bright in light is what a gain of two makes.
        let twice = vec![V3(0.2, 0.2, 0.2); size.0 * size.1];
        let brighter = middle(&develop(&twice, size, &plain, 1), size, 1).0;
        assert!((shot(Exposure { gain: 2.0, ..plain }, 1) - brighter).abs() < 1.0);
        // A cast moves red and blue, and leaves green.
        let cast = Exposure { cast: (1.4, 0.7), ..plain };
        assert!(shot(cast, 0) > shot(plain, 0) + 10.0 && shot(cast, 2) < shot(plain, 2) - 10.0);
        assert!((shot(cast, 1) - shot(plain, 1)).abs() < 0.5);
        assert!((0..=100).map(|i| tone(i as f32 / 100.0)).collect::<Vec<_>>().is_sorted());
        assert_eq!((tone(0.0), tone(1.0)), (0, 255));
    }

    #[test]
    fn a_picture_moves_on_the_sensor_as_far_as_it_is_said() {
        let (w, h) = (200, 120);
        // A soft spot in the middle of the dark.
        let spot: Vec<V3> = (0..w * h)
            .map(|i| {
                let (x, y) = ((i % w) as f32 - 100.0, (i / w) as f32 - 60.0);
                let v = 0.4 * (-(x * x + y * y) / 60.0).exp();
                V3(v, v, v)
            })
            .collect();
        let place = |moved: (f32, f32)| {
            let pixels = develop(&spot, (w, h), &Exposure { moved, ..exposure(w, h) }, 2);
            let (mut sum, mut x, mut y) = (0.0, 0.0, 0.0);
            for (i, p) in pixels.chunks(3).enumerate() {
                // Far above the noise of the dark.
                let v = (f64::from(p[1]) - 60.0).max(0.0);
                sum += v;
                x += v * (i % w) as f64;
                y += v * (i / w) as f64;
            }
            (x / sum, y / sum)
        };
        let home = place((0.0, 0.0));
        for moved in [(5.0, 0.0), (-3.5, 2.25), (0.4, -0.7)] {
            let now = place(moved);
            let off = (now.0 - home.0 - f64::from(moved.0), now.1 - home.1 - f64::from(moved.1));
            assert!(off.0.abs() < 0.06 && off.1.abs() < 0.06, "{moved:?}: {off:?}");
        }
    }

    #[test]
    fn what_is_out_of_focus_is_blurred_and_what_is_in_focus_is_not() {
        let (w, h) = (200, 160);
        // A wall with an edge down the middle, at one distance.
        let edge = |depth: f32| {
            let light = (0..w * h).map(|i| if i % w < w / 2 { V3::default() } else { V3(1.0, 1.0, 1.0) });
            Frame { width: w, height: h, light: light.collect(), depth: vec![depth; w * h] }
        };
        // Pixels between a tenth and nine tenths, over the rows.
        let width = |depth: f32| {
            let out = focus(&edge(depth), &exposure(w, h));
            let between = out.iter().filter(|p| (0.1..0.9).contains(&p.1)).count();
            // The light is spread, none is lost.
            let mean = out.iter().map(|p| p.1).sum::<f32>() / out.len() as f32;
            assert!((mean - 0.5).abs() < 0.01, "{mean}");
            between as f32 / h as f32
        };
        let (sharp, near, far) = (width(50.0), width(80.0), width(200.0));
        assert!(sharp <= 2.0 && near > 1.3 * sharp && far > 1.3 * near, "{sharp} {near} {far}");
        // What is infinitely far is painted as sharp as it is given.
        assert!(width(f32::INFINITY) <= 2.0);
    }
}
