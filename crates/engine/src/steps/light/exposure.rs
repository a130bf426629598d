//! Exposure: multiplies linear light by 2^stops, as a longer shutter time would. Allocates nothing.

use crate::colour::space::IDENTITY;
use crate::ops::pointwise::PointOp;
use crate::step::{Kind, Op, Param, Place, Step, StepInfo, StepKind, values_of};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Description.
pub static INFO: StepInfo = StepInfo {
    id: "exposure",
    title: "Exposure",
    group: "light",
    about: "Brightens or darkens like a longer or shorter shutter time; computed on linear light, so one stop is twice the light.",
    words: &["bright", "brighter", "dark", "darker", "light", "stops", "ev", "underexposed"],
    neutral: r#"{"stops": 0}"#,
    starter: r#"{"stops": 0.3}"#,
};

static PARAMS: [Param; 1] = [Param {
    name: "stops",
    about: "How much brighter (above 0) or darker (below 0).",
    unit: "stops",
    kind: Kind::Number { min: -5.0, max: 5.0, step: 0.05 },
}];

/// Registration.
pub static KIND: StepKind = StepKind::of::<Exposure>(&INFO, &PARAMS);

/// Values of the step.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Exposure {
    /// −5 ..= 5 stops.
    pub stops: f64,
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
