//! A camera's colours by an ICC profile (ICC.1:2022) instead of matrices: a table over balanced camera values.

use crate::colour::icc::{ProfileError, of_rgb};
use crate::colour::space::{InputColour, convert_16};

/// Values along each side of the table.
const SIDE: usize = 33;

/// Balanced camera values to working light, looked up over their square roots.
#[derive(Clone, Debug, PartialEq)]
pub struct InputTable {
    /// Light by red, green and blue; blue changes from one to the next.
    nodes: Vec<[f32; 3]>,
}

impl InputTable {
    /// From a profile for red, green and blue as a camera counts them behind its white balance, 1 being white.
    ///
    /// # Errors
    /// [`ProfileError`] where it is none, is for other values, or cannot be computed with.
    pub fn of_icc(icc: &[u8]) -> Result<Self, ProfileError> {
        let (profile, name) = of_rgb(icc)?;
        let value = |at: usize| {
            let root = at as f64 / (SIDE - 1) as f64;
            (root * root * 65_535.0).round() as u16
        };
        let each = (0..SIDE.pow(3)).map(|i| [i / (SIDE * SIDE), i / SIDE % SIDE, i % SIDE].map(value));
        let counted: Vec<u16> = each.flatten().collect();
        let encoded = convert_16(&profile, &counted)
            .map_err(|e| ProfileError::NoWay { name, reason: e.to_string() })?;
        let working = InputColour::working("");
        let light =
            |rgb: &[u16; 3]| std::array::from_fn(|c| working.table[c].at(f32::from(rgb[c]) / 65_535.0));
        let nodes = encoded.as_chunks::<3>().0.iter().map(light).collect();
        Ok(Self { nodes })
    }

    /// Working light of balanced camera values; what is brighter than white keeps the colour it has at white.
    pub(super) fn run(&self, balanced: [f32; 3]) -> [f32; 3] {
        let above = balanced[0].max(balanced[1]).max(balanced[2]).max(1.0);
        let place = balanced.map(|v| (v / above).clamp(0.0, 1.0).sqrt() * (SIDE - 1) as f32);
        let low = place.map(|p| (p as usize).min(SIDE - 2));
        let part: [f32; 3] = std::array::from_fn(|c| place[c] - low[c] as f32);
        let mut sum = [0f32; 3];
        for corner in 0..8usize {
            let step = [corner >> 2 & 1, corner >> 1 & 1, corner & 1];
            let weight: f32 = (0..3).map(|c| if step[c] == 1 { part[c] } else { 1.0 - part[c] }).product();
            let at = (0..3).fold(0, |at, c| at * SIDE + low[c] + step[c]);
            for (sum, node) in sum.iter_mut().zip(self.nodes[at]) {
                *sum += weight * node;
            }
        }
        sum.map(|v| v * above)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::space::OutputProfile;

    #[test]
    fn values_become_the_light_that_the_profile_says() {
        // Profiles whose curve and primaries the standards give: ROMM RGB's curve is the power of 1.8.
        let romm = OutputProfile::RommRgb.colour();
        let table = InputTable::of_icc(&romm.icc).unwrap();
        for rgb in [[0.2f32, 0.5, 0.3], [0.7, 0.6, 0.65], [1.0, 1.0, 1.0], [0.5, 0.4, 0.1]] {
            let light = rgb.map(|v| v.powf(1.8));
            let wanted = crate::colour::space::apply(&romm.to_working, light);
            let found = table.run(rgb);
            assert!((0..3).all(|c| (found[c] - wanted[c]).abs() < 4e-3), "{rgb:?}: {found:?} {wanted:?}");
        }
        // Above white colours go on as they are there.
        let (at_white, above) = (table.run([1.0, 0.8, 0.6]), table.run([2.0, 1.6, 1.2]));
        assert!((0..3).all(|c| (above[c] - 2.0 * at_white[c]).abs() < 1e-5));
    }

    #[test]
    fn what_is_no_profile_of_red_green_and_blue_is_refused() {
        assert!(matches!(InputTable::of_icc(b"none"), Err(ProfileError::Unreadable(_))));
        let grey = moxcms::ColorProfile::new_gray_with_gamma(2.2).encode().unwrap();
        assert!(matches!(InputTable::of_icc(&grey), Err(ProfileError::NotRgb { .. })));
    }
}
