//! Exposure: multiplies linear light by 2^stops, as a longer shutter time would. Allocates nothing.

use crate::colour::space::IDENTITY;
use crate::ops::pointwise::PointOp;
use crate::step::{Kind, Op, Place, Step, step, values_of};
use serde_json::Value;

step! {
    /// Brightens or darkens like a longer or shorter shutter time; computed on linear light, so one stop is
    /// twice the light.
    pub struct Exposure: PartialEq {
        id: "exposure",
        title: "Exposure",
        group: "light",
        words: ["bright", "brighter", "dark", "darker", "light", "stops", "ev", "underexposed"],
        neutral: r#"{"stops": 0}"#,
        starter: r#"{"stops": 0.3}"#,
    }
    parameters {
        /// How much brighter (above 0) or darker (below 0).
        stops: f64 = 0.0, Kind::Number { min: -5.0, max: 5.0, step: 0.05 }, "stops";
    }
}

impl Step for Exposure {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        if self.stops < 0.0 {
            "Make it {stops|abs} stops darker."
        } else {
            "Make it {stops|abs} stops brighter."
        }
        .into()
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if self.stops == 0.0 {
            return Vec::new();
        }
        let gain = 2f64.powf(self.stops) as f32;
        vec![Op::Point(PointOp::Matrix(IDENTITY.map(|row| row.map(|v| v * gain))))]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::one_pixel;

    #[test]
    fn one_stop_is_twice_the_light() {
        let out = one_pixel(&Exposure { stops: 1.0 }, [0.1, 0.2, 0.3]);
        for (o, want) in out.iter().zip([0.2, 0.4, 0.6]) {
            assert!((o - want).abs() < 1e-6);
        }
    }
}
