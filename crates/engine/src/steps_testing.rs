//! Shared by the steps' tests: runs a step the way a plan does.

use crate::geometry::{Rect, Size};
use crate::point::PointProgram;
use crate::step::{Op, Place, Step};

/// One working pixel through a point-wise step.
pub fn one_pixel(step: &dyn Step, pixel: [f32; 3]) -> [f32; 3] {
    let size = Size::new(100, 100);
    let place = Place { size, output: size, to_output: 1.0, scale: 1.0, seed: 0 };
    let ops = step
        .ops(&place)
        .into_iter()
        .map(|op| match op {
            Op::Point(p) => p,
            _ => panic!("not point-wise"),
        })
        .collect();
    let mut run = vec![[pixel[0], pixel[1], pixel[2], 0.0]];
    PointProgram::new(ops).run(Rect::new(0, 0, 1, 1), &mut run);
    [run[0][0], run[0][1], run[0][2]]
}
