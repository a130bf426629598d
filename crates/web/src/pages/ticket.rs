//! A recipe as it looks wherever it appears: numbered sentences on a slip of paper.

use crate::error::Result;
use rallo_engine::ops::mask::{Area, Form, Stroke};
use rallo_recipe::{ByHand, Part, Recipe};

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
    /// Its area as a drawing, where it has one that lies somewhere.
    pub(super) drawn: Vec<Drawn>,
}

/// A shape of an area on a drawing of 150 by 100.
pub(super) enum Drawn {
    /// From where it is full to where it ends.
    Line([f64; 4]),
    /// Middle, half width, half height, turn.
    Ellipse([f64; 5]),
    /// Points of a stroke.
    Stroke(String),
}

fn drawn(area: Option<&Area>) -> Vec<Drawn> {
    let x = |p: &[f64; 2]| [p[0] * 150.0, p[1] * 100.0];
    let shapes = area.into_iter().flat_map(|area| &area.0);
    shapes
        .flat_map(|shape| match &shape.form {
            Form::Gradient { from, to } => {
                let ([a, b], [c, d]) = (x(from), x(to));
                vec![Drawn::Line([a, b, c, d])]
            }
            Form::Ellipse { centre, radii, turn, .. } => {
                let ([a, b], [c, d]) = (x(centre), x(radii));
                vec![Drawn::Ellipse([a, b, c, d, *turn])]
            }
            Form::Strokes { strokes, .. } => {
                let points = |p: &[f64; 2]| format!("{:.1},{:.1}", x(p)[0], x(p)[1]);
                let stroke = |s: &Stroke| s.points.iter().map(points).collect::<Vec<_>>().join(" ");
                strokes.iter().map(|s| Drawn::Stroke(stroke(s))).collect()
            }
            Form::Brightness { .. } | Form::Colour { .. } => Vec::new(),
        })
        .collect()
}

impl TicketLine {
    /// Its curves as points on drawings of 100 by 100, up as up, each with its name; straight ones are not drawn.
    pub(super) fn plots(&self) -> Vec<(&str, String)> {
        let bent =
            self.by_hand.curves.iter().filter(|(_, points)| points.iter().any(|[x, y]| (x - y).abs() > 1e-6));
        bent.map(|(name, points)| {
            let points = points.iter().map(|[x, y]| format!("{:.1},{:.1}", x * 100.0, 100.0 - y * 100.0));
            (name.as_str(), points.collect::<Vec<_>>().join(" "))
        })
        .collect()
    }

    fn new(recipe: &Recipe, at: usize) -> Self {
        let line = &recipe.steps[at];
        Self {
            heads: recipe.heads(at),
            on: line.on,
            parts: pieces(line.parts(None)),
            by_hand: line.by_hand(),
            drawn: drawn(line.area.as_deref()),
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
