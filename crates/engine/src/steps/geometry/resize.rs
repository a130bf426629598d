//! Resize: to a long or short edge, a width or height, inside a box, filling a box, or exactly. Pure geometry;
//! never larger than the picture unless `enlarge` allows it.

use crate::geometry::{Affine, Size};
use crate::step::{Effect, Geometry, Kind, MAX_SIDE, ParamError, Step, step, values_of};
use serde_json::Value;

step! {
    /// Makes the picture as many pixels as wanted; give exactly one of the sizes. Pictures that are smaller
    /// already stay as they are unless enlarging is allowed.
    pub struct Resize: PartialEq {
        id: "resize",
        title: "Resize",
        group: "geometry",
        words: [
            "resize", "size", "smaller", "larger", "scale", "pixels", "web", "width", "height",
            "long edge", "reduce",
        ],
        neutral: r#"{"long_edge": null}"#,
        starter: r#"{"long_edge": 1600}"#,
        facts: {
            moves_pixels: true,
            effects: &[Effect::Resizes, Effect::SetsSize],
            starts_as_last_time: true,
            one_of: &["long_edge", "short_edge", "width", "height", "fit", "fill", "exact"],
        },
    }
    parameters {
        /// Length of the longer side.
        long_edge: Option<u32> = None, SIDE, "px";
        /// Length of the shorter side.
        short_edge: Option<u32> = None, SIDE, "px";
        /// Width; the height follows.
        width: Option<u32> = None, SIDE, "px";
        /// Height; the width follows.
        height: Option<u32> = None, SIDE, "px";
        /// As large as fits inside [width, height].
        fit: Option<[u32; 2]> = None, Kind::Pair, "px";
        /// Fills [width, height]; what sticks out is cropped evenly.
        fill: Option<[u32; 2]> = None, Kind::Pair, "px";
        /// Exactly [width, height], stretched if need be.
        exact: Option<[u32; 2]> = None, Kind::Pair, "px";
        /// Whether pictures may become larger than they are.
        enlarge: bool = false, Kind::Flag;
    }
}

const SIDE: Kind = Kind::Whole { min: 1, max: MAX_SIDE };

impl Resize {
    fn given(&self) -> Vec<&'static str> {
        let sizes = [
            ("long_edge", self.long_edge.is_some()),
            ("short_edge", self.short_edge.is_some()),
            ("width", self.width.is_some()),
            ("height", self.height.is_some()),
            ("fit", self.fit.is_some()),
            ("fill", self.fill.is_some()),
            ("exact", self.exact.is_some()),
        ];
        sizes.into_iter().filter(|(_, is)| *is).map(|(name, _)| name).collect()
    }

    /// Scale to apply evenly, for everything but `exact` and `fill`.
    fn scale(&self, size: Size) -> Option<f64> {
        let over = |target: u32, side: u32| f64::from(target) / f64::from(side);
        let scale = if let Some(n) = self.long_edge {
            over(n, size.long_edge())
        } else if let Some(n) = self.short_edge {
            over(n, size.short_edge())
        } else if let Some(n) = self.width {
            over(n, size.width)
        } else if let Some(n) = self.height {
            over(n, size.height)
        } else {
            let [w, h] = self.fit?;
            over(w, size.width).min(over(h, size.height))
        };
        Some(if self.enlarge { scale } else { scale.min(1.0) })
    }
}

/// The mapping from `to` pixels onto the whole of a window of `from`.
fn stretch(to: Size, from: (f64, f64), origin: (f64, f64)) -> Affine {
    Affine::scale(from.0 / f64::from(to.width), from.1 / f64::from(to.height))
        .then(&Affine::shift(origin.0, origin.1))
}

impl Step for Resize {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let text = match self.given().first() {
            Some(&"long_edge") => "Long edge {long_edge} pixels",
            Some(&"short_edge") => "Short edge {short_edge} pixels",
            Some(&"width") => "Width {width} pixels",
            Some(&"height") => "Height {height} pixels",
            Some(&"fit") => "Fit inside {fit} pixels",
            Some(&"fill") => "Fill {fill} pixels and crop",
            Some(&"exact") => "Exactly {exact} pixels",
            _ => "Keep the size",
        };
        format!("{text}{}.", if self.enlarge { ", enlarging {enlarge}" } else { "" })
    }
    fn brief(&self) -> Option<String> {
        let side = self.long_edge.or(self.short_edge).or(self.width).or(self.height);
        let pair = self.fit.or(self.fill).or(self.exact);
        side.map(|n| n.to_string()).or(pair.map(|[w, h]| format!("{w} × {h}")))
    }
    fn check(&self) -> Result<(), ParamError> {
        let given = self.given();
        match given.as_slice() {
            [] | [_] => Ok(()),
            [_, second, ..] => {
                Err(ParamError::new(*second, format!("give only one size, got {}", given.join(" and "))))
            }
        }
    }
    fn geometry(&self, size: Size) -> Option<Geometry> {
        let (w, h) = (f64::from(size.width), f64::from(size.height));
        let g = if let Some([ew, eh]) = self.exact {
            let limit = |n: u32, side: u32| if self.enlarge { n } else { n.min(side) };
            let to = Size::new(limit(ew, size.width), limit(eh, size.height));
            Geometry { map: stretch(to, (w, h), (0.0, 0.0)).into(), size: to }
        } else if let Some([fw, fh]) = self.fill {
            let (fw, fh) = (f64::from(fw), f64::from(fh));
            // Input pixels per output pixel: as many as keep the box full.
            let step = (w / fw).min(h / fh);
            let step = if self.enlarge { step } else { step.max(1.0) };
            let side = |box_side: f64, side: f64| box_side.min((side / step).round()).max(1.0);
            let to = Size::new(side(fw, w) as u32, side(fh, h) as u32);
            let window = ((f64::from(to.width) * step).min(w), (f64::from(to.height) * step).min(h));
            Geometry {
                map: stretch(to, window, ((w - window.0) / 2.0, (h - window.1) / 2.0)).into(),
                size: to,
            }
        } else {
            let to = size.times(self.scale(size)?);
            Geometry { map: stretch(to, (w, h), (0.0, 0.0)).into(), size: to }
        };
        (g.size != size || g.map.as_affine().and_then(Affine::as_shift) != Some((0, 0))).then_some(g)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_known_by_hand() {
        let size = Size::new(6000, 4000);
        let to = |r: Resize| r.geometry(size).map_or(size, |g| g.size);
        assert_eq!(to(Resize { long_edge: Some(1600), ..Default::default() }), Size::new(1600, 1067));
        assert_eq!(to(Resize { short_edge: Some(1000), ..Default::default() }), Size::new(1500, 1000));
        assert_eq!(to(Resize { fit: Some([1000, 1000]), ..Default::default() }), Size::new(1000, 667));
        assert_eq!(to(Resize { fill: Some([1000, 1000]), ..Default::default() }), Size::new(1000, 1000));
        assert_eq!(to(Resize { exact: Some([300, 900]), ..Default::default() }), Size::new(300, 900));
        assert_eq!(to(Resize { long_edge: Some(9000), ..Default::default() }), size);
        assert_eq!(
            to(Resize { long_edge: Some(9000), enlarge: true, ..Default::default() }),
            Size::new(9000, 6000)
        );
        // Filled from the middle: 1000 × 1000 takes 4000 × 4000, so 1000 are left on either side.
        let g = Resize { fill: Some([1000, 1000]), ..Default::default() }.geometry(size).unwrap();
        assert_eq!(g.map.at(0.0, 0.0, 1), (1000.0, 0.0));
        assert_eq!(g.map.at(1000.0, 1000.0, 1), (5000.0, 4000.0));
    }

    #[test]
    fn two_sizes_are_refused() {
        let both = Resize { long_edge: Some(5), fit: Some([1, 1]), ..Default::default() };
        assert_eq!(both.check().unwrap_err().to_string(), "fit: give only one size, got long_edge and fit");
    }
}
