//! Lights by temperature and tint, as lamps and daylight are described: the temperature of the black body they are most
//! like, and how far they lie beside it.

/// Temperatures that can be asked for, in kelvin.
pub const KELVIN: (f64, f64) = (1700.0, 25_000.0);

/// The farthest a light may lie beside the black bodies (CIE 1960).
pub const DUV: f64 = 0.05;

/// A light by its correlated colour temperature and its distance from the black bodies.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Light {
    /// Kelvin.
    pub kelvin: f64,
    /// Distance in CIE 1960 (u, v): above 0 greener, below 0 more magenta.
    pub duv: f64,
}

/// The chromaticity (CIE 1960 u, v) of a black body, by the reciprocal of its temperature in a million kelvin (M. Krystek,
/// "An algorithm to calculate correlated colour temperature", 1985).
pub fn black_body(mired: f64) -> (f64, f64) {
    let t = 1e6 / mired;
    let u = (0.860_117_757 + 1.541_182_54e-4 * t + 1.286_412_12e-7 * t * t)
        / (1.0 + 8.424_202_35e-4 * t + 7.081_451_63e-7 * t * t);
    let v = (0.317_398_726 + 4.228_062_45e-5 * t + 4.204_816_91e-8 * t * t)
        / (1.0 - 2.897_418_16e-5 * t + 1.614_560_53e-7 * t * t);
    (u, v)
}

/// The direction across the black bodies there, towards green, of length 1.
pub fn across(mired: f64) -> (f64, f64) {
    let (before, after) = (black_body(mired - 0.5), black_body(mired + 0.5));
    let (du, dv) = (after.0 - before.0, after.1 - before.1);
    let length = du.hypot(dv);
    (-dv / length, du / length)
}

impl Light {
    /// Its chromaticity (CIE 1931 x, y).
    pub fn chromaticity(self) -> [f64; 2] {
        let mired = 1e6 / self.kelvin.clamp(KELVIN.0, KELVIN.1);
        let ((u, v), (du, dv)) = (black_body(mired), across(mired));
        let duv = self.duv.clamp(-DUV, DUV);
        let (u, v) = (u + du * duv, v + dv * duv);
        let d = 2.0 * u - 8.0 * v + 4.0;
        [3.0 * u / d, 2.0 * v / d]
    }

    /// The light of a chromaticity; the nearest there is where it lies outside what can be asked for.
    pub fn of([x, y]: [f64; 2]) -> Self {
        let d = -2.0 * x + 12.0 * y + 3.0;
        let seen = (4.0 * x / d, 6.0 * y / d);
        let apart = |mired: f64| {
            let (u, v) = black_body(mired);
            (seen.0 - u).hypot(seen.1 - v)
        };
        // The black body nearest to it: first roughly, then by thirds.
        let (low, high) = (1e6 / KELVIN.1, 1e6 / KELVIN.0);
        let pace = (high - low) / 200.0;
        let rough = (0..=200).map(|i| low + pace * f64::from(i));
        let nearest = rough.min_by(|a, b| apart(*a).total_cmp(&apart(*b))).unwrap_or(low);
        let (mut from, mut to) = ((nearest - pace).max(low), (nearest + pace).min(high));
        for _ in 0..60 {
            let (a, b) = (from + (to - from) / 3.0, to - (to - from) / 3.0);
            if apart(a) < apart(b) { to = b } else { from = a }
        }
        let mired = 0.5 * (from + to);
        let ((u, v), (du, dv)) = (black_body(mired), across(mired));
        let duv = (seen.0 - u) * du + (seen.1 - v) * dv;
        Self { kelvin: 1e6 / mired, duv: duv.clamp(-DUV, DUV) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_standard_illuminants_have_their_known_places() {
        // CIE 15: illuminant A is a black body of 2856 K, D65 has 6504 K and lies 0.0032 above.
        let a = Light::of([0.447_58, 0.407_45]);
        assert!((a.kelvin - 2856.0).abs() < 6.0 && a.duv.abs() < 3e-4, "{a:?}");
        let d65 = Light::of([0.312_72, 0.329_03]);
        assert!((d65.kelvin - 6504.0).abs() < 12.0 && (d65.duv - 0.0032).abs() < 2e-4, "{d65:?}");
    }

    #[test]
    fn lights_come_back() {
        for kelvin in [1900.0, 2856.0, 4000.0, 5500.0, 9000.0, 20_000.0] {
            for duv in [-0.02, 0.0, 0.015] {
                let found = Light::of(Light { kelvin, duv }.chromaticity());
                assert!((found.kelvin / kelvin - 1.0).abs() < 1e-3, "{kelvin} {duv}: {found:?}");
                assert!((found.duv - duv).abs() < 1e-5, "{kelvin} {duv}: {found:?}");
            }
        }
    }
}
