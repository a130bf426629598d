//! Orders that work against the person: said, with the order that would be better; never forbidden.

use crate::Recipe;
use rallo_engine::step::{Effect, Facts};
use schemars::JsonSchema;
use serde::Serialize;

/// Something that could be better.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Advice {
    /// The line it is about, from 0.
    pub line: usize,
    /// What is the matter, and why.
    pub message: String,
    /// The lines in a better order (numbers as they are now); a line to be left out is missing.
    pub order: Vec<usize>,
}

/// Of two effects, which should come first, and why.
struct Rule {
    first: &'static [Effect],
    then: &'static [Effect],
    why: &'static str,
}

static RULES: [Rule; 11] = [
    Rule {
        first: &[Effect::FindsHotPixels],
        then: &[Effect::RemovesNoise],
        why: "denoising spreads hot pixels, and they are no longer found",
    },
    Rule {
        first: &[Effect::RemovesNoise],
        then: &[Effect::RaisesNoise],
        why: "what comes before raises the noise, or changes it so that it is no longer found",
    },
    Rule {
        first: &[Effect::RestoresCapture],
        then: &[Effect::Resizes, Effect::SharpensEdges, Effect::SharpensOutput],
        why: "it takes back the softness of the full-size picture",
    },
    Rule {
        first: &[Effect::Resizes],
        then: &[Effect::SharpensOutput],
        why: "the resize makes it soft again",
    },
    Rule {
        first: &[Effect::Frames, Effect::Turns],
        then: &[Effect::Draws],
        why: "part of it may be cut off or turned",
    },
    Rule {
        first: &[Effect::Frames],
        then: &[Effect::GoesByCorners],
        why: "its corners are no longer the picture's",
    },
    Rule {
        first: &[Effect::SetsSize],
        then: &[Effect::AddsMargin],
        why: "the size given would count the border or strip too",
    },
    Rule {
        first: &[Effect::HoldsSteady],
        then: &[Effect::JoinsFrames],
        why: "frames that do not lie on each other are joined to a blur that nothing takes out again",
    },
    Rule {
        first: &[Effect::EvensLight],
        then: &[Effect::JoinsFrames],
        why: "flicker that was joined with the frames beside it is no longer each frame's own",
    },
    Rule {
        first: &[Effect::JoinsFrames],
        then: &[Effect::SharpensEdges, Effect::SharpensOutput],
        why: "the noise that joining takes out would be sharpened before, frame by frame",
    },
    Rule {
        first: &[Effect::AveragesFrames],
        then: &[Effect::RemovesNoise],
        why: "the mean of frames takes noise and no detail; what is left then needs less",
    },
];

/// Everything that could be in a better order, the first lines first.
pub fn advice(recipe: &Recipe) -> Vec<Advice> {
    let on: Vec<(usize, &Facts)> = recipe
        .steps
        .iter()
        .enumerate()
        .filter(|(_, line)| recipe.is_on(line))
        .map(|(i, line)| (i, &line.kind().info.facts))
        .collect();
    let has_any = |facts: &Facts, effects: &[Effect]| effects.iter().any(|e| facts.has(*e));
    let title = |i: usize| recipe.steps[i].kind().info.title.to_lowercase();
    let positions: Vec<usize> = (0..recipe.steps.len()).collect();
    let mut found: Vec<Advice> = Vec::new();
    for rule in &RULES {
        for &(late, facts) in on.iter().filter(|(_, facts)| has_any(facts, rule.first)) {
            let Some(&(early, _)) = on.iter().find(|(i, f)| *i < late && has_any(f, rule.then)) else {
                continue;
            };
            // Told at the one that is moved: geometry and size stay, what depends on them moves behind.
            let moves_back = has_any(facts, &[Effect::Frames, Effect::Turns, Effect::Resizes]);
            let (line, order) = if moves_back {
                (early, moved(&positions, early, late))
            } else {
                (late, moved(&positions, late, early))
            };
            let message = if moves_back {
                format!(
                    "Line {}, {}, works better after line {}, {}: {}.",
                    early + 1,
                    title(early),
                    late + 1,
                    title(late),
                    rule.why
                )
            } else {
                format!(
                    "Line {}, {}, works better before line {}, {}: {}.",
                    late + 1,
                    title(late),
                    early + 1,
                    title(early),
                    rule.why
                )
            };
            found.push(Advice { line, message, order });
        }
    }
    let twice: Vec<usize> = on.iter().filter(|(_, f)| f.has(Effect::Enlarges)).map(|(i, _)| *i).collect();
    if let [first, second, ..] = twice[..] {
        found.push(Advice {
            line: second,
            message: format!(
                "Line {} upscales already: doing it twice makes up detail from made-up detail.",
                first + 1
            ),
            order: positions.iter().copied().filter(|i| *i != second).collect(),
        });
    }
    let sharpened: Vec<usize> = on
        .iter()
        .filter(|(_, f)| has_any(f, &[Effect::SharpensEdges, Effect::RestoresCapture]))
        .map(|(i, _)| *i)
        .collect();
    if sharpened.len() > 2 {
        found.push(Advice {
            line: sharpened[2],
            message: "The picture is sharpened more than twice; edges may show rims.".into(),
            order: positions.iter().copied().filter(|i| *i != sharpened[2]).collect(),
        });
    }
    found.sort_by_key(|a| a.line);
    found.dedup_by(|a, b| a.line == b.line && a.message == b.message);
    found
}

/// `from` taken out and put at `to`.
fn moved(lines: &[usize], from: usize, to: usize) -> Vec<usize> {
    let mut order = lines.to_vec();
    let line = order.remove(from);
    order.insert(to, line);
    order
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn of(steps: &[&str]) -> Vec<Advice> {
        let steps: Vec<_> = steps.iter().map(|s| json!({"step": s})).collect();
        let doc = json!({"format": "rallo-recipe", "version": 1, "name": "x", "steps": steps});
        advice(&Recipe::from_value(&doc).unwrap())
    }

    #[test]
    fn good_orders_are_left_alone() {
        assert_eq!(of(&[]), []);
        let all = [
            "hot_pixels",
            "denoise",
            "lens",
            "capture_sharpening",
            "exposure",
            "curve",
            "straighten",
            "crop",
        ];
        let all: Vec<&str> =
            all.into_iter().chain(["vignette", "resize", "output_sharpening", "watermark"]).collect();
        assert_eq!(of(&all), []);
    }

    #[test]
    fn frames_are_joined_when_they_lie_on_each_other_in_even_light() {
        assert_eq!(of(&["deflicker", "hold_steady", "blend", "unsharp_mask"]), []);
        for (steps, line, begins) in [
            (["blend", "hold_steady"], 1, "Line 2, hold steady, works better before line 1, blend frames"),
            (["trails", "deflicker"], 1, "Line 2, deflicker, works better before line 1, trails"),
            (["unsharp_mask", "blend"], 1, "Line 2, blend frames, works better before line 1, unsharp mask"),
            (["denoise", "blend"], 1, "Line 2, blend frames, works better before line 1, denoise"),
        ] {
            let told = of(&steps);
            assert_eq!((told.len(), told[0].line, told[0].order.clone()), (1, line, vec![1, 0]), "{steps:?}");
            assert!(told[0].message.starts_with(begins), "{}", told[0].message);
        }
    }

    #[test]
    fn bad_orders_are_told_and_mended_in_one_go() {
        let told = of(&["exposure", "unsharp_mask", "denoise"]);
        assert_eq!(told.len(), 1);
        assert_eq!((told[0].line, told[0].order.clone()), (2, vec![0, 2, 1]));
        assert!(told[0].message.starts_with("Line 3, denoise, works better before line 2, unsharp mask"));
        let told = of(&["watermark", "crop", "resize"]);
        assert_eq!((told[0].line, told[0].order.clone()), (0, vec![1, 0, 2]));
        let told = of(&["output_sharpening", "resize"]);
        assert_eq!(told[0].order, [1, 0]);
        let told = of(&["upscale", "curve", "upscale"]);
        assert_eq!((told[0].line, told[0].order.clone()), (2, vec![0, 1]));
        // Lines that are off do not count.
        let doc = json!({"format": "rallo-recipe", "version": 1, "name": "x",
            "steps": [{"step": "unsharp_mask", "on": false}, {"step": "denoise"}]});
        assert_eq!(advice(&Recipe::from_value(&doc).unwrap()), []);
    }
}
