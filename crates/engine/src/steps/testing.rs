//! Shared by the steps' tests: runs a step the way a plan does.

use crate::geometry::{Rect, Size};
use crate::image::picture::Picture;
use crate::image::pyramid::Pyramid;
use crate::ops::pointwise::PointProgram;
use crate::plan::{Plan, Settings};
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

/// A picture of working values.
pub fn picture(size: Size, value: impl Fn(u32, u32) -> [f32; 3]) -> Picture {
    let samples = (0..size.height)
        .flat_map(|y| (0..size.width).map(move |x| (x, y)))
        .flat_map(|(x, y)| value(x, y))
        .collect();
    Picture::of_working(size, samples).unwrap()
}

/// A step over a whole picture, measured where it measures: the result's size and working values.
pub fn whole(step: impl Step + 'static, picture: &Picture) -> (Size, Vec<[f32; 3]>) {
    let source = Pyramid::new(picture.clone());
    let plan = Plan::for_picture(vec![Settings::from(Box::new(step) as Box<dyn Step>)], &source).unwrap();
    let program = plan.program(1.0);
    program.render_working(&source, program.size().rect()).unwrap()
}
