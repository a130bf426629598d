//! Shaping camera raw that is handed on as raw.

use crate::image::picture::{Orientation, Picture};
use crate::image::pyramid::Pyramid;
use crate::image::source::SourceError;
use crate::plan::{Plan, PlanError, Settings};
use crate::raw::{Developed, HEADROOM, Linear};

/// Rows that are rendered at a time.
const STRIP: i64 = 1024;

/// Raw upright, after steps that only say where pixels lie and how much light the lens lets through. What lies below black
/// is black from here on.
///
/// # Errors
/// [`PlanError`] as [`Plan::for_picture`].
pub fn shaped(raw: Linear, steps: Vec<Settings>, orientation: Orientation) -> Result<Linear, PlanError> {
    let Linear { size, values, black } = raw;
    let range = 65_535.0 - f32::from(black);
    let light = |v: u16| f32::from(v.saturating_sub(black)) / range;
    let samples = values.iter().map(|v| ((light(*v) / HEADROOM).sqrt() * 65_535.0 + 0.5) as u16).collect();
    drop(values);
    let refused = |e: SourceError| PlanError::Source(e.0);
    let picture = Picture::developed(Developed { size, samples }, orientation)
        .map_err(|e| PlanError::Source(e.to_string()))?;
    let source = Pyramid::new(picture);
    let program = Plan::for_picture(steps, &source)?.program(1.0);
    let whole = program.size().rect();
    let mut values = Vec::with_capacity(whole.area() * 3);
    for strip in whole.tiles(whole.width, STRIP) {
        let (_, pixels) = program.render_working(&source, strip).map_err(refused)?;
        values.extend(pixels.as_flattened().iter().map(|v| (v.clamp(0.0, 1.0) * 65_535.0 + 0.5) as u16));
    }
    Ok(Linear { size: program.size(), values, black: 0 })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::steps::geometry::mirror::Mirror;

    #[test]
    fn raw_is_turned_upright_mirrored_and_keeps_its_counts() {
        let size = Size::new(6, 4);
        let count = |x: usize, y: usize, c: usize| 512 + (x * 3000 + y * 500 + c * 90) as u16;
        let values = (0..24).flat_map(|i| [0, 1, 2].map(|c| count(i % 6, i / 6, c))).collect();
        let raw = Linear { size, values, black: 512 };
        let step: Box<dyn crate::step::Step> = Box::new(Mirror::default());
        // Turned by 90 degrees: the first row stands at the right.
        let out = shaped(raw, vec![Settings::from(step)], Orientation::from_exif(6)).unwrap();
        assert_eq!((out.size, out.black), (Size::new(4, 6), 0));
        for y in 0..6 {
            for x in 0..4 {
                for c in 0..3 {
                    let wanted = f64::from(count(y, x, c) - 512) / f64::from(65_535 - 512) * 65_535.0;
                    let found = f64::from(out.values[(y * 4 + x) * 3 + c]);
                    assert!((found - wanted).abs() < 4.0, "{x} {y} {c}: {found} instead of {wanted}");
                }
            }
        }
    }
}
