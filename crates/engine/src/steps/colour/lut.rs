//! LUT: a table of colours from a .cube file, one- or three-dimensional.
//!
//! The table is meant for encoded sRGB values 0 ..= 1, as such files for pictures are; what lies outside is limited.
//! Three-dimensional tables are interpolated in tetrahedra (J. M. Kasson, S. I. Nin, W. Plouffe and J. L. Hafner,
//! "Performing color space conversions with three-dimensional linear interpolation", 1995), one-dimensional ones
//! linearly. Allocates the table once.

use crate::colour::space::{InputColour, OutputProfile, apply};
use crate::colour::working::Matrix;
use crate::ops::planes::{CHUNK, Planes};
use crate::ops::pointwise::{PixelOp, PointOp};
use crate::step::{Kind, Op, ParamError, Place, Step, step, values_of};
use serde_json::Value;
use std::sync::Arc;

step! {
    /// Applies a table of colours from a .cube file (1D or 3D, tetrahedral interpolation) on sRGB values.
    /// The table is kept inside the recipe, so that it can be handed on.
    pub struct Lut: PartialEq {
        id: "lut",
        title: "LUT",
        group: "colour",
        words: ["lut", "cube", "look", "table", "film", "grade", "grading", "preset"],
        neutral: r#"{"table": ""}"#,
        starter: r#"{"table": ""}"#,
    }
    parameters {
        /// The text of a .cube file.
        table: String = String::new(), Kind::File(LARGEST);
        /// How much of it.
        strength: f64 = 100.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
    }
}

/// Largest file, in bytes.
const LARGEST: usize = 12_000_000;

/// A parsed table.
struct Cube {
    /// Entries along an axis.
    side: usize,
    solid: bool,
    low: [f32; 3],
    high: [f32; 3],
    /// Red varies fastest.
    values: Vec<[f32; 3]>,
}

/// Reads a .cube file.
///
/// # Errors
/// The line and what is wrong with it.
fn parse(text: &str) -> Result<Cube, String> {
    let mut cube = Cube { side: 0, solid: false, low: [0.0; 3], high: [1.0; 3], values: Vec::new() };
    for (n, line) in text.lines().enumerate() {
        let n = n + 1;
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let mut words = line.split_whitespace();
        let first = words.next().unwrap_or_default();
        let rest: Vec<&str> = words.collect();
        let three = |words: &[&str]| -> Option<[f32; 3]> {
            let numbers: Vec<f32> = words.iter().filter_map(|w| w.parse().ok()).collect();
            let fine = words.len() == 3 && numbers.len() == 3 && numbers.iter().all(|v| v.is_finite());
            fine.then(|| [numbers[0], numbers[1], numbers[2]])
        };
        match first {
            "TITLE" => {}
            "LUT_1D_SIZE" | "LUT_3D_SIZE" => {
                cube.solid = first == "LUT_3D_SIZE";
                let most = if cube.solid { 129 } else { 65_536 };
                let size =
                    rest.first().and_then(|w| w.parse::<usize>().ok()).filter(|s| (2..=most).contains(s));
                cube.side = size.ok_or_else(|| format!("line {n}: expected a size from 2 to {most}"))?;
            }
            "DOMAIN_MIN" | "DOMAIN_MAX" => {
                let ends = three(&rest).ok_or_else(|| format!("line {n}: expected three numbers"))?;
                if first == "DOMAIN_MIN" { cube.low = ends } else { cube.high = ends }
            }
            "LUT_1D_INPUT_RANGE" | "LUT_3D_INPUT_RANGE" => {
                let ends: Vec<f32> = rest.iter().filter_map(|w| w.parse().ok()).collect();
                let [low, high] = ends[..] else { return Err(format!("line {n}: expected two numbers")) };
                (cube.low, cube.high) = ([low; 3], [high; 3]);
            }
            _ => {
                let words: Vec<&str> = std::iter::once(first).chain(rest).collect();
                let value = three(&words).ok_or_else(|| {
                    format!("line {n}: expected three numbers or a known keyword, got {:.40}", line)
                })?;
                cube.values.push(value);
            }
        }
    }
    let wanted = if cube.solid { cube.side.pow(3) } else { cube.side };
    if cube.side == 0 {
        return Err("no LUT_1D_SIZE or LUT_3D_SIZE is given; is this a .cube file?".into());
    }
    if cube.values.len() != wanted {
        return Err(format!("expected {wanted} rows of three numbers, got {}", cube.values.len()));
    }
    if (0..3).any(|c| cube.low[c] >= cube.high[c]) {
        return Err("DOMAIN_MIN must lie below DOMAIN_MAX".into());
    }
    Ok(cube)
}

impl Cube {
    fn at(&self, rgb: [f32; 3]) -> [f32; 3] {
        let last = (self.side - 1) as f32;
        let mut whole = [0usize; 3];
        let mut part = [0f32; 3];
        for c in 0..3 {
            let v = ((rgb[c] - self.low[c]) / (self.high[c] - self.low[c])).clamp(0.0, 1.0) * last;
            whole[c] = (v as usize).min(self.side - 2);
            part[c] = v - whole[c] as f32;
        }
        if !self.solid {
            return std::array::from_fn(|c| {
                let (a, b) = (self.values[whole[c]][c], self.values[whole[c] + 1][c]);
                a + (b - a) * part[c]
            });
        }
        let steps = [1, self.side, self.side * self.side];
        let start = whole[0] + whole[1] * steps[1] + whole[2] * steps[2];
        // From the corner towards the opposite one, along the largest part first.
        let mut order = [0usize, 1, 2];
        order.sort_by(|a, b| part[*b].total_cmp(&part[*a]));
        let mut at = start;
        let mut out = self.values[at];
        for axis in order {
            let (from, to) = (self.values[at], self.values[at + steps[axis]]);
            for c in 0..3 {
                out[c] += (to[c] - from[c]) * part[axis];
            }
            at += steps[axis];
        }
        out
    }
}

impl Step for Lut {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        if self.table.is_empty() {
            "LUT from a file still to be chosen.".into()
        } else {
            "LUT {strength}.".into()
        }
    }
    fn check(&self) -> Result<(), ParamError> {
        if self.table.trim().is_empty() {
            return Ok(());
        }
        parse(&self.table).map(drop).map_err(|message| ParamError::new("table", message))
    }
    fn ops(&self, _: &Place) -> Vec<Op> {
        if self.strength == 0.0 || self.table.trim().is_empty() {
            return Vec::new();
        }
        let Ok(cube) = parse(&self.table) else { return Vec::new() };
        let srgb = OutputProfile::Srgb.colour();
        let op = Apply { cube, from: srgb.from_working, back: InputColour::srgb().to_working };
        vec![Op::Point(PointOp::Pixels(Arc::new(op)).mixed(self.strength as f32 / 100.0))]
    }
}

struct Apply {
    cube: Cube,
    from: Matrix,
    back: Matrix,
}

impl PixelOp for Apply {
    fn run(&self, _: i64, _: i64, planes: &mut Planes) {
        planes.matrix(&self.from);
        planes.encode();
        for i in 0..CHUNK {
            let out = self.cube.at([planes.r[i], planes.g[i], planes.b[i]]);
            (planes.r[i], planes.g[i], planes.b[i]) = (out[0], out[1], out[2]);
        }
        planes.decode();
        for i in 0..CHUNK {
            let out = apply(&self.back, [planes.r[i], planes.g[i], planes.b[i]]);
            (planes.r[i], planes.g[i], planes.b[i]) = (out[0], out[1], out[2]);
        }
    }

    fn is_placeless(&self) -> bool {
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::testing::one_pixel;

    fn table(side: usize, f: impl Fn([f32; 3]) -> [f32; 3]) -> String {
        let mut text = format!("TITLE \"t\"\n# made here\nLUT_3D_SIZE {side}\nDOMAIN_MIN 0 0 0\n");
        let v = |i: usize| i as f32 / (side - 1) as f32;
        for b in 0..side {
            for g in 0..side {
                for r in 0..side {
                    let [x, y, z] = f([v(r), v(g), v(b)]);
                    text += &format!("{x} {y} {z}\n");
                }
            }
        }
        text
    }

    #[test]
    fn a_linear_table_is_exact_everywhere_and_known_points_are_hit() {
        let linear = |p: [f32; 3]| [0.1 + 0.5 * p[0] + 0.2 * p[2], 0.9 * p[1], 0.3 * p[0] + 0.6 * p[2]];
        let cube = parse(&table(5, linear)).unwrap();
        for i in 0..500u32 {
            let p = [i * 37 % 101, i * 53 % 97, i * 71 % 89].map(|v| v as f32 / 101.0);
            for (got, want) in cube.at(p).iter().zip(linear(p)) {
                assert!((got - want).abs() < 1e-5, "{p:?}");
            }
        }
        // Grey stays grey through a table that keeps it so: what tetrahedra are chosen for.
        let curved = |p: [f32; 3]| p.map(|v| v * v);
        let cube = parse(&table(7, curved)).unwrap();
        for i in 0..50 {
            let out = cube.at([i as f32 / 49.0; 3]);
            assert!((out[0] - out[1]).abs() < 1e-6 && (out[1] - out[2]).abs() < 1e-6);
        }
    }

    #[test]
    fn the_step_works_on_srgb_values() {
        let same = Lut { table: table(3, |p| p), ..Lut::default() };
        for p in [[0.2, 0.3, 0.25], [0.6; 3], [0.02, 0.03, 0.02]] {
            for (got, want) in one_pixel(&same, p).iter().zip(p) {
                assert!((got - want).abs() < 2e-4, "{got} {want}");
            }
        }
        let one = Lut { table: "LUT_1D_SIZE 2\n0.5 0.5 0.5\n1 1 1\n".into(), strength: 100.0 };
        assert!((crate::colour::transfer::encode(one_pixel(&one, [0.0; 3])[1]) - 0.5).abs() < 1e-3);
    }

    #[test]
    fn wrong_files_say_where() {
        for (text, want) in [
            ("hello", "line 1: expected three numbers or a known keyword, got hello"),
            ("LUT_3D_SIZE 1", "line 1: expected a size from 2 to 129"),
            ("LUT_3D_SIZE 2\n0 0 0\n", "expected 8 rows of three numbers, got 1"),
            ("0 0 0\n", "no LUT_1D_SIZE or LUT_3D_SIZE is given; is this a .cube file?"),
        ] {
            assert_eq!(parse(text).err().unwrap(), want);
        }
        let bad = Lut { table: "x".into(), ..Lut::default() };
        assert_eq!(bad.check().unwrap_err().path, "table");
    }
}
