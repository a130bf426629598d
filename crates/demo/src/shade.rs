//! Surfaces, light and air: from a triangle hit to linear light (sRGB primaries).

use crate::maths::{V3, fractal, hash, noise, smooth};
use crate::mesh::{Stuff, Triangle};

/// Light of a scene.
#[derive(Clone, Copy)]
pub struct Light {
    /// Towards the sun.
    pub sun: V3,
    /// Its colour and strength.
    pub key: V3,
    /// Light from above.
    pub sky: V3,
    /// Light back from the bench.
    pub bounce: V3,
}

/// A surface at a point.
struct Surface {
    albedo: V3,
    gloss: f32,
    /// Power of the highlight.
    polish: f32,
    /// Share of light that comes through from behind.
    through: f32,
    bump: V3,
}

fn wobble(p: V3, scale: f32, by: f32) -> V3 {
    let q = p * scale;
    V3(noise(q) - 0.5, noise(q + V3(31.0, 7.0, 3.0)) - 0.5, noise(q + V3(5.0, 47.0, 19.0)) - 0.5) * by
}

fn surface(t: &Triangle, p: V3, uv: [f32; 2]) -> Surface {
    let plain = |albedo: V3| Surface { albedo, gloss: 0.03, polish: 12.0, through: 0.0, bump: V3::default() };
    let s = t.seed as f32;
    match t.stuff {
        Stuff::Clay => {
            let grain = fractal(p * 1.7 + V3(s, 0.0, 0.0), 4);
            let fine = noise(p * 9.0);
            let rings = noise(V3(s, p.1 * 5.0, 0.0)) * 0.5 + noise(V3(s, p.1 * 16.0, 2.0)) * 0.5;
            let lime = smooth(0.56, 0.8, fractal(p * 0.33 + V3(s * 3.0, 1.0, 0.0), 4)) * 0.5;
            let damp = smooth(0.5, 0.75, fractal(V3(p.0 * 0.2, p.1 * 0.4, p.2 * 0.2 + s), 3)) * 0.28;
            let base = V3(0.46, 0.165, 0.075) * (0.72 + 0.4 * grain + 0.14 * fine + 0.14 * rings);
            let albedo = base.mix(V3(0.62, 0.5, 0.4), lime) * (1.0 - damp);
            Surface { bump: wobble(p, 3.0, 0.12) + V3(0.0, (rings - 0.5) * 0.25, 0.0), ..plain(albedo) }
        }
        Stuff::Glaze(colour) => {
            let run = fractal(V3(p.0 * 0.5, p.1 * 0.12 + s, p.2 * 0.5), 4);
            let speck = smooth(0.72, 0.78, noise(p * 6.0 + V3(s, 0.0, 0.0)));
            let albedo = (colour * (0.65 + 0.6 * run)).mix(V3(0.1, 0.07, 0.05), speck * 0.6);
            Surface { gloss: 0.5, polish: 90.0, bump: wobble(p, 0.8, 0.05), ..plain(albedo) }
        }
        Stuff::Soil => {
            let lumps = fractal(p * 2.6, 4);
            let fine = noise(p * 15.0);
            let perlite = smooth(0.8, 0.84, noise(p * 4.6 + V3(9.0, 0.0, s)));
            let albedo = V3(0.05, 0.032, 0.02) * (0.4 + 1.4 * lumps * (0.6 + 0.8 * fine));
            Surface { bump: wobble(p, 5.0, 1.3), ..plain(albedo.mix(V3(0.6, 0.58, 0.52), perlite)) }
        }
        Stuff::Leaf => {
            let half = (uv[0] * 2.0 - 1.0).abs();
            let rib = 1.0 - smooth(0.0, 0.075, half);
            let veins = 1.0 - smooth(0.0, 0.16, ((uv[1] * 8.0 - half * 2.2).rem_euclid(1.0) - 0.5).abs());
            let hue = hash(t.seed) as f32 / u32::MAX as f32;
            let tone = V3(0.075, 0.2, 0.022).mix(V3(0.17, 0.3, 0.035), hue);
            let patch = fractal(p * 0.8 + V3(s, 0.0, 0.0), 3);
            let albedo = (tone * (0.6 + 0.7 * patch)).mix(V3(0.3, 0.4, 0.13), rib * 0.55 + veins * 0.14);
            let dry = smooth(0.78, 0.95, uv[1] * 0.5 + noise(p * 0.9 + V3(s, 3.0, 0.0)) * 0.5)
                * smooth(0.75, 1.0, hue);
            Surface {
                albedo: albedo.mix(V3(0.34, 0.24, 0.07), dry),
                gloss: 0.09,
                polish: 22.0,
                through: 0.42,
                bump: wobble(p, 3.0, 0.18) + V3(0.0, (veins - 0.4) * 0.2, 0.0),
            }
        }
        Stuff::Stem => plain(V3(0.16, 0.22, 0.05) * (0.7 + 0.6 * noise(p * 4.0))),
        Stuff::Wood => {
            let grain =
                fractal(V3(p.0 * 0.05 + s, p.1 * 0.5, p.2 * 1.6 + noise(V3(p.0 * 0.06, s, 0.0)) * 2.4), 4);
            let fibre = noise(V3(p.0 * 0.5, s, p.2 * 14.0));
            let knot = {
                let (kx, kz) = ((p.0 + s * 13.0) / 46.0, p.2 / 13.5 + s * 0.37);
                let (dx, dz) = ((kx.rem_euclid(1.0) - 0.5) * 46.0, (kz.rem_euclid(1.0) - 0.5) * 13.5);
                1.0 - smooth(0.5, 2.6, (dx * dx * 0.35 + dz * dz).sqrt() + noise(p * 0.8) * 0.8)
            };
            let tone = 0.75 + 0.35 * (hash(t.seed) & 255) as f32 / 255.0;
            let wear = fractal(p * 0.11 + V3(0.0, s, 3.0), 4);
            let albedo = V3(0.36, 0.235, 0.135).mix(V3(0.2, 0.115, 0.06), smooth(0.35, 0.7, grain))
                * (tone * (0.75 + 0.35 * fibre))
                * V3(1.0, 1.0, 1.0).mix(V3(0.75, 0.78, 0.8), wear);
            let crumbs = smooth(0.83, 0.86, noise(p * 2.2)) * smooth(0.5, 0.6, wear);
            let albedo = albedo.mix(V3(0.1, 0.055, 0.03), knot * 0.8).mix(V3(0.05, 0.035, 0.02), crumbs);
            Surface {
                gloss: 0.05,
                polish: 14.0,
                bump: V3(0.0, 0.0, (fibre - 0.5) * 0.3) + wobble(p, 1.2, 0.06),
                ..plain(albedo)
            }
        }
        Stuff::Card(design) => card(design, uv, p),
        Stuff::Metal => {
            let scratch = noise(V3(p.0 * 2.0, p.1, p.2 * 20.0));
            let rust = smooth(0.6, 0.85, fractal(p * 0.5, 4));
            let albedo = (V3(0.34, 0.35, 0.36) * (0.7 + 0.4 * scratch)).mix(V3(0.25, 0.11, 0.04), rust * 0.7);
            Surface { gloss: 0.55 * (1.0 - rust), polish: 40.0, bump: wobble(p, 4.0, 0.1), ..plain(albedo) }
        }
        Stuff::Handle => {
            let grain = fractal(V3(p.0 * 0.4, p.1 * 3.0, p.2 * 3.0), 4);
            Surface { gloss: 0.18, polish: 30.0, ..plain(V3(0.42, 0.2, 0.075) * (0.6 + 0.7 * grain)) }
        }
        Stuff::Tag => {
            let written = if uv[1] > 0.42 && uv[1] < 0.93 {
                let line = noise(V3(uv[1] * 26.0, s, 1.0)) * 0.5 + noise(V3(uv[1] * 60.0, s, 4.0)) * 0.3;
                1.0 - smooth(0.03, 0.08, (uv[0] - 0.25 - line * 0.5).abs())
            } else {
                0.0
            };
            let mud = smooth(0.5, 0.25, uv[1]) * noise(p * 2.0);
            plain(V3(0.72, 0.7, 0.64).mix(V3(0.05, 0.06, 0.16), written * 0.85).mix(V3(0.14, 0.1, 0.07), mud))
        }
        Stuff::Twine => {
            let strand = ((uv[0] * 34.0 + uv[1] * 26.0).rem_euclid(1.0) - 0.5).abs() * 2.0;
            let second = ((uv[0] * 30.0 - uv[1] * 34.0).rem_euclid(1.0) - 0.5).abs() * 2.0;
            let top = noise(V3(uv[0] * 9.0, uv[1] * 7.0, 1.0)) > 0.5;
            let d = if top { strand } else { second };
            plain(V3(0.5, 0.36, 0.19) * ((0.3 + 0.9 * (1.0 - d)) * (0.8 + 0.4 * noise(p * 12.0))))
        }
        Stuff::Petal(colour) => {
            let streak = noise(V3(uv[0] * 18.0, uv[1] * 2.0, s));
            Surface { through: 0.35, ..plain(colour.mix(colour * 0.45, streak * (1.0 - uv[1]))) }
        }
    }
}

/// A printed seed packet: a band with the name, a leafy picture, a lower line.
fn card(design: u32, uv: [f32; 2], p: V3) -> Surface {
    let [u, v] = uv;
    let inks = [
        V3(0.1, 0.25, 0.12),
        V3(0.42, 0.1, 0.05),
        V3(0.08, 0.2, 0.32),
        V3(0.5, 0.33, 0.05),
        V3(0.3, 0.07, 0.2),
    ];
    let ink = inks[design as usize % inks.len()];
    let paper = V3(0.68, 0.63, 0.5) * (0.92 + 0.12 * noise(p * 3.0));
    let mut colour = paper;
    if v > 0.78 {
        colour = ink;
        // Letters as a row of strokes.
        let cell = (u * 13.0).fract();
        let letter = hash((u * 13.0) as u32 + design * 17);
        let inside = (0.12..0.88).contains(&u) && (0.83..0.92).contains(&v) && cell > 0.18;
        let stroke = cell < 0.4
            || (letter & 1 == 1 && cell > 0.75)
            || (letter & 2 == 2 && (v - 0.875).abs() < 0.012)
            || (letter & 4 == 4 && v > 0.9);
        if inside && stroke {
            colour = V3(0.8, 0.77, 0.66);
        }
    } else if (0.08..0.92).contains(&u) && v > 0.2 {
        let (x, y) = ((u - 0.5) * 1.0, v - 0.2);
        colour = V3(0.56, 0.6, 0.46).mix(V3(0.7, 0.7, 0.58), y * 1.7);
        for k in 0..9 {
            let a = (k as f32 - 4.0) * 0.34 + (hash(design * 31 + k) & 255) as f32 / 900.0;
            let (dx, dy) = (a.sin(), a.cos());
            let (along, across) = (x * dx + y * dy, x * dy - y * dx);
            let length = 0.34 + 0.14 * ((hash(design + k * 7) & 255) as f32 / 255.0);
            let wide = 0.07 * (std::f32::consts::PI * (along / length).clamp(0.0, 1.0)).sin();
            if along > 0.08 && across.abs() < wide {
                colour = V3(0.1, 0.26, 0.07).mix(ink, 0.25)
                    * (0.8 + 0.5 * (along / length))
                    * (1.0 - 0.3 * f32::from(across.abs() < 0.004));
            }
        }
    } else if (0.06..0.15).contains(&v)
        && (0.2..0.8).contains(&u)
        && hash((u * 60.0) as u32 ^ ((v * 40.0) as u32) << 8) & 3 != 0
    {
        colour = ink * 1.3;
    }
    Surface { albedo: colour, gloss: 0.12, polish: 25.0, through: 0.0, bump: wobble(p, 0.7, 0.1) }
}

/// A point of a surface that is seen.
pub struct Hit {
    pub at: V3,
    pub normal: V3,
    pub uv: [f32; 2],
    /// Share of the sky.
    pub open: f32,
}

/// Light from a point of a triangle towards the eye, for several lights at a time: what the surface is like is
/// the same under all of them. Each light comes with the share of its sun that reaches the point.
pub fn shade(t: &Triangle, hit: &Hit, eye: V3, lights: &[Light], lit: &[f32], out: &mut [V3]) {
    let s = surface(t, hit.at, hit.uv);
    for ((light, lit), out) in lights.iter().zip(lit).zip(out) {
        *out = under(&s, hit, eye, light, *lit);
    }
}

fn under(s: &Surface, hit: &Hit, eye: V3, light: &Light, lit: f32) -> V3 {
    let Hit { at: p, normal, open, .. } = *hit;
    let view = (eye - p).unit();
    let mut n = (normal + s.bump).unit();
    if n.dot(view) < 0.0 && normal.dot(view) < 0.0 {
        n = -n;
    }
    let facing = n.dot(light.sun);
    let wrap = if s.through > 0.0 { 0.15 } else { 0.0 };
    let front = ((facing + wrap) / (1.0 + wrap)).max(0.0);
    let back = (-facing).max(0.0) * s.through;
    let up = n.1 * 0.5 + 0.5;
    let ambient = light.bounce.mix(light.sky, up) * open;
    let yellow = V3(1.25, 1.15, 0.5);
    let half = (light.sun + view).unit();
    let shine = n.dot(half).max(0.0).powf(s.polish) * s.gloss * (s.polish * 0.12 + 0.4);
    let edge = (1.0 - n.dot(view).max(0.0)).powi(5);
    let mirror = light.sky * (s.gloss * (0.12 + 0.6 * edge) * (0.3 + 0.7 * (n.1 * 0.5 + 0.5)) * open);
    s.albedo * (light.key * (front * lit) + ambient)
        + s.albedo * yellow * light.key * (back * lit * 1.6)
        + light.key * (shine * lit)
        + mirror
}
