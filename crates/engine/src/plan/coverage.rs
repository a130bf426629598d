//! How much of each pixel of a result is covered, for originals that are transparent in parts: the plan's mappings and
//! marks, and nothing of what changes colours.

use crate::geometry::{Affine, Rect, Size};
use crate::image::picture::Picture;
use crate::image::source::{Source, SourceError};
use crate::ops::planes::Pixel;
use crate::ops::pointwise::PointProgram;
use crate::ops::resample::Resampler;
use crate::plan::program::{Program, TILE};
use crate::plan::tiles::{Node, reduced, repeat_edges, wanted};
use crate::step::MarkOp;
use rayon::prelude::*;

impl Program {
    /// How much of each pixel of `region` is covered, 0 ..= 65535, where `cover` says how much of the source's pixels is
    /// (see [`Picture::of_coverage`]). A mark covers what it is drawn on.
    ///
    /// # Errors
    /// As [`render`](Self::render).
    pub fn coverage(&self, cover: &dyn Source, region: Rect) -> Result<Vec<u16>, SourceError> {
        let region = region.within(self.size.rect());
        let picture = reduced(cover, self.level)?;
        let tiles = region.tiles(TILE.0, TILE.1);
        let made: Vec<Vec<Pixel>> =
            tiles.par_iter().map(|tile| covered(&self.nodes, &picture, *tile)).collect();
        wanted()?;
        let width = region.width as usize;
        let mut out = vec![0; region.area()];
        for (tile, pixels) in tiles.iter().zip(made) {
            let rows = pixels.chunks(tile.width.max(1) as usize);
            for (y, row) in (tile.y - region.y..).zip(rows) {
                let at = y as usize * width + (tile.x - region.x) as usize;
                for (to, pixel) in out[at..].iter_mut().zip(row) {
                    *to = (pixel[0].clamp(0.0, 1.0) * 65_535.0 + 0.5) as u16;
                }
            }
        }
        Ok(out)
    }
}

/// The coverage behind `nodes` over `rect`, three times the same.
fn covered(nodes: &[(Node, Size)], picture: &Picture, rect: Rect) -> Vec<Pixel> {
    let mut out = Vec::new();
    let Some(((node, size), before)) = nodes.split_last() else {
        PointProgram::new(Vec::new()).read(picture, rect, &mut out);
        return out;
    };
    let through = |have: Rect, work: &dyn Fn(&[Pixel], &mut Vec<Pixel>)| {
        let mut out = Vec::new();
        work(&covered(before, picture, have), &mut out);
        out
    };
    match node {
        Node::Point(_) | Node::Area(_) | Node::Whole(_) => covered(before, picture, rect),
        Node::Map(resampler) => {
            let have = resampler.needs(rect);
            through(have, &|input, out| resampler.run(input, have, rect, out))
        }
        Node::Warp(resampler) => {
            let have = resampler.needs(rect);
            through(have, &|input, out| resampler.run(input, have, rect, out))
        }
        Node::Turn(turn) => {
            let have = turn.needs(rect);
            through(have, &|input, out| turn.run(input, have, rect, out))
        }
        Node::Shift(dx, dy) => {
            let have = node.needs(rect, size.rect());
            through(have, &|input, out| repeat_edges(input, have, rect.moved(*dx, *dy), out))
        }
        Node::Enlarge(op) => {
            let scale = 1.0 / op.factor() as f64;
            let resampler = Resampler::new(Affine::scale(scale, scale), *size);
            let have = resampler.needs(rect);
            through(have, &|input, out| resampler.run(input, have, rect, out))
        }
        Node::Mark(mark) => {
            let mut pixels = covered(before, picture, rect);
            draw(&**mark, rect, &mut pixels, 1.0);
            pixels
        }
        Node::Group(group) => {
            let mut pixels = covered(before, picture, rect);
            for (node, _) in &group.nodes {
                if let Node::Mark(mark) = node {
                    draw(&**mark, rect, &mut pixels, group.mix);
                }
            }
            pixels
        }
    }
}

/// What a mark covers is found by drawing it on black and on white: where both come out alike, nothing shows through.
fn draw(mark: &dyn MarkOp, rect: Rect, pixels: &mut [Pixel], mix: f32) {
    if mark.bounds().within(rect).is_empty() {
        return;
    }
    let drawn_on = |ground: f32| {
        let mut pixels = vec![[ground, ground, ground, 0.0]; rect.area()];
        mark.run(rect, &mut pixels);
        pixels
    };
    for ((pixel, dark), light) in pixels.iter_mut().zip(drawn_on(0.0)).zip(drawn_on(1.0)) {
        let through = (0..3).map(|c| light[c] - dark[c]).sum::<f32>() / 3.0;
        let open = 1.0 - mix * (1.0 - through.clamp(0.0, 1.0));
        let cover = 1.0 - (1.0 - pixel[0]) * open;
        *pixel = [cover, cover, cover, 0.0];
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;
    use crate::image::picture::Orientation;
    use crate::image::pyramid::Pyramid;
    use crate::plan::{Plan, Settings};
    use crate::steps::registry::step_kind;
    use serde_json::{Value, json};

    fn plan(size: Size, steps: &[(&str, Value)]) -> Plan {
        let settings = steps.iter().map(|(id, values)| {
            Settings::from(step_kind(id).unwrap().parse(values.as_object().unwrap()).unwrap())
        });
        Plan::new(settings.collect(), size).unwrap()
    }

    /// The left half covered.
    fn half(size: Size, orientation: Orientation) -> Pyramid {
        let rows = (0..size.area())
            .map(|i| if i % u64::from(size.width) < u64::from(size.width) / 2 { 65_535 } else { 0 });
        Pyramid::new(Picture::of_coverage(size, &rows.collect::<Vec<u16>>(), orientation).unwrap())
    }

    fn at(coverage: &[u16], size: Size, x: u32, y: u32) -> u16 {
        coverage[(y * size.width + x) as usize]
    }

    #[test]
    fn it_moves_with_the_picture_and_no_colour_changes_it() {
        let size = Size::new(80, 40);
        let plan = plan(
            size,
            &[
                ("exposure", json!({"stops": 2.0})),
                ("mirror", json!({"across": "left and right"})),
                ("resize", json!({"long_edge": 40})),
                ("unsharp_mask", json!({"amount": 80})),
            ],
        );
        let program = plan.program(1.0);
        let out = program.coverage(&half(size, Orientation::UPRIGHT), program.size().rect()).unwrap();
        assert_eq!(program.size(), Size::new(40, 20));
        assert_eq!([at(&out, program.size(), 3, 9), at(&out, program.size(), 36, 9)], [0, 65_535]);
        // The sum of what is covered stays half of all.
        let mean = out.iter().map(|v| f64::from(*v)).sum::<f64>() / out.len() as f64 / 65_535.0;
        assert!((mean - 0.5).abs() < 0.01, "{mean}");
    }

    #[test]
    fn orientation_counts_and_regions_fit_together() {
        let stored = Size::new(40, 80);
        let turned = half(stored, Orientation::from_exif(6));
        let program = plan(Size::new(80, 40), &[]).program(1.0);
        let whole = program.coverage(&turned, program.size().rect()).unwrap();
        assert_eq!([at(&whole, program.size(), 40, 5), at(&whole, program.size(), 40, 35)], [65_535, 0]);
        let part = program.coverage(&turned, Rect::new(10, 10, 30, 20)).unwrap();
        assert_eq!(part[..30], whole[10 * 80 + 10..10 * 80 + 40]);
    }

    #[test]
    fn a_border_and_a_plate_cover_what_they_are_drawn_on() {
        let size = Size::new(100, 60);
        let program = plan(size, &[("border", json!({"width": 10}))]).program(1.0);
        let out = program.coverage(&half(size, Orientation::UPRIGHT), program.size().rect()).unwrap();
        let places = [(2, 2), (117, 77), (30, 40), (90, 40)];
        assert_eq!(places.map(|(x, y)| at(&out, program.size(), x, y)), [65_535, 65_535, 65_535, 0]);
    }
}
