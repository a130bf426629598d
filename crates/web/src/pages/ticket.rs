//! A recipe as it looks wherever it appears: numbered sentences on a slip of paper.

use crate::error::Result;
use rallo_recipe::{ByHand, Part, Recipe, Sketch, SketchStroke};

/// A recipe as a slip of paper.
pub(super) struct Ticket {
    pub(super) name: String,
    pub(super) note: String,
    pub(super) version: i64,
    pub(super) lines: Vec<TicketLine>,
    pub(super) goes: Vec<Vec<Piece>>,
}

/// One line of it, and what stands above: the head of a block, a place to wait.
pub(super) struct TicketLine {
    pub(super) heads: Vec<String>,
    pub(super) on: bool,
    pub(super) parts: Vec<Piece>,
    /// All its values, for who does it again by hand.
    pub(super) by_hand: ByHand,
    /// Its curves and its area as drawings.
    pub(super) sketches: Vec<Drawn>,
}

/// A drawing for the page.
pub(super) struct Drawn {
    pub(super) title: String,
    /// Its frame with room around it.
    pub(super) view: String,
    pub(super) width: f64,
    pub(super) height: f64,
    /// Each stroke's points, and whether it is broad.
    pub(super) strokes: Vec<(String, bool)>,
}

impl From<Sketch> for Drawn {
    fn from(Sketch { title, size: [width, height], strokes }: Sketch) -> Self {
        let stroke = |SketchStroke { points, is_broad }: SketchStroke| {
            let points = points.iter().map(|[x, y]| format!("{x:.1},{y:.1}"));
            (points.collect::<Vec<_>>().join(" "), is_broad)
        };
        // Marks at the frame's corners reach beyond it.
        let view = format!("-4 -4 {} {}", width + 8.0, height + 8.0);
        Self { title, view, width, height, strokes: strokes.into_iter().map(stroke).collect() }
    }
}

impl TicketLine {
    fn new(recipe: &Recipe, at: usize) -> Self {
        let line = &recipe.steps[at];
        Self {
            heads: recipe.heads(at),
            on: line.on,
            parts: pieces(line.parts(None)),
            by_hand: line.by_hand(),
            sketches: line.sketches().into_iter().map(Drawn::from).collect(),
        }
    }
}

impl Ticket {
    pub(super) fn new(document: &str, version: i64) -> Result<Self> {
        Ok(Self { version, ..Self::of(&Recipe::parse(document)?) })
    }

    pub(super) fn of(recipe: &Recipe) -> Self {
        Self {
            name: recipe.name.clone(),
            note: recipe.note.clone(),
            version: 1,
            lines: (0..recipe.steps.len()).map(|i| TicketLine::new(recipe, i)).collect(),
            goes: recipe.deliveries.iter().map(|d| pieces(d.parts(recipe))).collect(),
        }
    }
}

/// A piece of a sentence: words, or a value with the sign that follows it, which is never torn from it.
pub(super) enum Piece {
    Text(String),
    Value { param: &'static str, text: String, sign: String },
}

fn pieces(parts: Vec<Part>) -> Vec<Piece> {
    let mut pieces = Vec::new();
    for part in parts {
        match part {
            Part::Value { param, text } => pieces.push(Piece::Value { param, text, sign: String::new() }),
            Part::Text(text) => {
                let rest = text.trim_start_matches(['.', ',', ';', ':', ')', '%']);
                let (before, is_sign) = (&text[..text.len() - rest.len()], text.len() > rest.len());
                match pieces.last_mut() {
                    Some(Piece::Value { sign, .. }) if is_sign => {
                        *sign = before.to_owned();
                        pieces.push(Piece::Text(rest.to_owned()));
                    }
                    _ => pieces.push(Piece::Text(text)),
                }
            }
        }
    }
    pieces
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sign_stays_with_the_value_before_it() {
        let value = |text: &str| Part::Value { param: "x", text: text.into() };
        let told = pieces(vec![Part::Text("Crop to ".into()), value("4:5"), Part::Text(", centre.".into())]);
        let said: Vec<String> = told
            .iter()
            .map(|piece| match piece {
                Piece::Text(text) => text.clone(),
                Piece::Value { text, sign, .. } => format!("[{text}{sign}]"),
            })
            .collect();
        assert_eq!(said, ["Crop to ", "[4:5,]", " centre."]);
    }
}
