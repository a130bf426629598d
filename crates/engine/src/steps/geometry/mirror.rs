//! Mirror: left and right, or top and bottom, change places. Pure geometry, no pixel is computed anew.

use crate::geometry::{Affine, Size};
use crate::step::{Geometry, Kind, Step, step, values_of};
use serde_json::Value;

step! {
    /// Left and right, or top and bottom, change places; no pixel is changed.
    pub struct Mirror: PartialEq {
        id: "mirror",
        title: "Mirror",
        group: "geometry",
        words: ["mirror", "flip", "reflect", "left", "right", "reverse"],
        neutral: r#"{"across": "none"}"#,
        starter: r#"{"across": "left and right"}"#,
        facts: { moves_pixels: true, shapes: true },
    }
    parameters {
        /// What changes places.
        across: String = "left and right".into(), Kind::Choice(&["none", "left and right", "top and bottom"]);
    }
}

impl Step for Mirror {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        if self.across == "none" { "Mirror {across}." } else { "Mirror: {across} change places." }.into()
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        let map = match self.across.as_str() {
            "left and right" => Affine { a: -1.0, c: size.width.into(), ..Affine::IDENTITY },
            "top and bottom" => Affine { e: -1.0, f: size.height.into(), ..Affine::IDENTITY },
            _ => return None,
        };
        Some(Geometry { map: map.into(), size })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::{picture, whole};

    #[test]
    fn rows_and_columns_change_places() {
        let scene = picture(Size::new(3, 2), |x, y| [(y * 3 + x) as f32 / 10.0; 3]);
        for (across, want) in [("left and right", [2, 1, 0, 5, 4, 3]), ("top and bottom", [3, 4, 5, 0, 1, 2])]
        {
            let (_, out) = whole(Mirror { across: across.into() }, &scene);
            assert!(
                out.iter().zip(want).all(|(p, w)| (p[0] - w as f32 / 10.0).abs() < 1e-6),
                "{across}: {out:?}"
            );
        }
    }
}
