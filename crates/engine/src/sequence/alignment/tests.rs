//! Frames of a scene that is known at every place, moved by known motions, in other light, with noise and things that pass.

use super::*;
use crate::geometry::Size;
use crate::sequence::course::tests::chance;

const SIZE: Size = Size { width: 640, height: 426 };

/// Smooth numbers without a pattern, −1 to 1, that change over about one length.
fn bumps(x: f64, y: f64, seed: usize) -> f64 {
    let (left, top) = (x.floor(), y.floor());
    let ease = |t: f64| t * t * t * (t * (t * 6.0 - 15.0) + 10.0);
    let (u, v) = (ease(x - left), ease(y - top));
    let at = |i: f64, j: f64| chance((i + 4000.0) as usize * 7919 + (j + 4000.0) as usize * 104_729 + seed);
    let row = |j: f64| at(left, j) * (1.0 - u) + at(left + 1.0, j) * u;
    row(top) * (1.0 - v) + row(top + 1.0) * v
}

/// The light of the scene at a place in pixels of the reference.
fn scene(x: f64, y: f64) -> f64 {
    let texture: f64 = [(5.0, 0.10), (11.0, 0.14), (31.0, 0.2), (90.0, 0.25)]
        .iter()
        .enumerate()
        .map(|(k, (length, size))| size * bumps(x / length, y / length, k * 77))
        .sum();
    // Towards the top, sky without anything to see.
    let sky = ((110.0 - y) / 30.0).clamp(0.0, 1.0);
    (0.3 * (texture * 2.0).exp2()).clamp(0.0, 1.0) * (1.0 - sky) + 0.9 * sky
}

/// What a camera that moved sees: `light` of a place in the frame, and the scene's light there.
fn frame(motion: &Projective, noise: f64, light: impl Fn(f64, f64, f64) -> f64) -> AlignmentView {
    let back = motion.inverse().unwrap();
    let (w, h, long) = (f64::from(SIZE.width), f64::from(SIZE.height), f64::from(SIZE.width));
    let values: Vec<f32> = (0..SIZE.area() as usize)
        .flat_map(|i| {
            let (x, y) = ((i as u32 % SIZE.width) as f64 + 0.5, (i as u32 / SIZE.width) as f64 + 0.5);
            let (u, v) = back.at((x - w / 2.0) / long, (y - h / 2.0) / long);
            let seen = light(x, y, scene(u * long + w / 2.0, v * long + h / 2.0));
            // Three draws are near enough to a normal distribution; its spread grows with the root of the light.
            let drawn: f64 = (0..3).map(|k| chance(i * 3 + k + (seen * 1e6) as usize)).sum();
            [(seen + noise * (0.1 + seen).sqrt() * drawn).clamp(0.0, 1.0) as f32; 3]
        })
        .collect();
    AlignmentView::new(SIZE, &values)
}

fn plain(_: f64, _: f64, light: f64) -> f64 {
    light
}

/// A shift in pixels, a turn in degrees, a size.
fn moved(x: f64, y: f64, degrees: f64, size: f64) -> Projective {
    let long = f64::from(SIZE.width);
    let (sin, cos) = degrees.to_radians().sin_cos();
    Projective([cos * size, -sin * size, x / long, sin * size, cos * size, y / long, 0.0, 0.0, 1.0])
}

/// The largest distance of two motions at the corners, in pixels.
fn apart(a: &Projective, b: &Projective) -> f64 {
    [(-0.5, -0.33), (0.5, -0.33), (-0.5, 0.33), (0.5, 0.33)]
        .map(|(x, y)| {
            let (p, q) = (a.at(x, y), b.at(x, y));
            (p.0 - q.0).hypot(p.1 - q.1) * f64::from(SIZE.width)
        })
        .into_iter()
        .fold(0.0, f64::max)
}

fn everywhere(_: f64, _: f64) -> bool {
    true
}

#[test]
fn motions_are_found_to_hundredths_of_a_pixel() {
    let reference = Reference::new(frame(&Projective::IDENTITY, 0.0, plain), &everywhere);
    let tilted = Projective([1.002, -0.001, 0.004, 0.0015, 0.999, -0.003, 0.004, -0.003, 1.0]);
    for (freedom, truth) in [
        (Freedom::Shift, moved(0.37, -1.24, 0.0, 1.0)),
        (Freedom::Shift, moved(55.0, 31.5, 0.0, 1.0)),
        (Freedom::Turn, moved(-3.4, 2.2, 0.12, 1.0)),
        (Freedom::Turn, moved(12.0, -7.0, 1.5, 1.0)),
        (Freedom::Scale, moved(2.0, 1.0, -0.3, 1.012)),
        (Freedom::Perspective, tilted),
    ] {
        let found = reference.align(&frame(&truth, 0.0, plain), freedom).unwrap();
        let off = apart(&found.motion, &truth);
        assert!(off < 0.03, "{freedom:?} {truth:?}: {off:.3} pixels off, {found:?}");
        assert!(found.share > 0.5, "{found:?}");
    }
}

#[test]
fn other_light_fog_noise_and_what_passes_do_not_count() {
    let reference = Reference::new(frame(&Projective::IDENTITY, 0.004, plain), &everywhere);
    let truth = moved(1.7, -2.6, 0.1, 1.0);
    let dim = |_: f64, _: f64, light: f64| light * 0.4;
    let fog = |x: f64, _: f64, light: f64| light * (0.25 + x / 3000.0) + 0.35;
    // The sun went round: one side is in shadow now, with a soft edge, and another is lit.
    let sun = |x: f64, y: f64, light: f64| {
        let lit = ((x - 300.0 - y / 3.0) / 14.0).clamp(0.0, 1.0);
        light * (0.35 + 0.9 * lit)
    };
    // A thing of a fifth of the picture with a pattern of its own that moved elsewhere.
    let passing = |x: f64, y: f64, light: f64| {
        let inside = (200.0..420.0).contains(&x) && (150.0..400.0).contains(&y);
        if inside { 0.1 + 0.3 * (scene(x * 1.3 + 500.0, y * 1.3) - 0.1) } else { light }
    };
    let mixed = |x: f64, y: f64, light: f64| passing(x, y, fog(x, y, light));
    type Light<'a> = &'a dyn Fn(f64, f64, f64) -> f64;
    let all: [(&str, Light, f64, f64); 6] = [
        ("dim", &dim, 0.004, 0.05),
        ("fog", &fog, 0.004, 0.1),
        ("sun", &sun, 0.004, 0.08),
        ("passing", &passing, 0.004, 0.05),
        ("noise", &plain, 0.03, 0.08),
        ("fog and passing", &mixed, 0.008, 0.15),
    ];
    for (what, light, noise, most) in all {
        let found = reference.align(&frame(&truth, noise, light), Freedom::Turn).unwrap();
        let off = apart(&found.motion, &truth);
        assert!(off < most, "{what}: {off:.3} pixels off, {found:?}");
    }
}

#[test]
fn what_cannot_be_told_is_not_made_up() {
    let reference = Reference::new(frame(&Projective::IDENTITY, 0.004, plain), &everywhere);
    let night = |_: f64, _: f64, _: f64| 0.004;
    assert_eq!(reference.align(&frame(&Projective::IDENTITY, 0.05, night), Freedom::Turn), None);
    let other = |x: f64, y: f64, _: f64| scene(x * 1.1 + 2000.0, y * 1.1 + 1500.0);
    assert_eq!(reference.align(&frame(&Projective::IDENTITY, 0.004, other), Freedom::Turn), None);
    let grey = AlignmentView::new(SIZE, &vec![0.2; SIZE.area() as usize * 3]);
    assert_eq!(Reference::new(grey.clone(), &everywhere).align(&grey, Freedom::Shift), None);
    let small = AlignmentView::new(Size::new(100, 80), &vec![0.2; 100 * 80 * 3]);
    assert_eq!(reference.align(&small, Freedom::Shift), None);
}

#[test]
fn only_places_that_count_are_looked_at() {
    // The left half moved otherwise than the right one.
    let right = moved(1.5, 0.5, 0.0, 1.0);
    let (inside, other) = (frame(&right, 0.0, plain), frame(&moved(-2.0, -1.0, 0.0, 1.0), 0.0, plain));
    let mut halves = inside.clone();
    for (plane, other) in halves.planes.iter_mut().zip(&other.planes) {
        for (k, value) in plane.values.iter_mut().enumerate() {
            if k % plane.width < plane.width / 2 {
                *value = other.values[k];
            }
        }
    }
    let reference = Reference::new(frame(&Projective::IDENTITY, 0.0, plain), &|x, _| x > 0.55);
    let found = reference.align(&halves, Freedom::Shift).unwrap();
    assert!(apart(&found.motion, &right) < 0.05, "{found:?}");
}
