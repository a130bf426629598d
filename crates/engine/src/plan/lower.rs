//! Lowering a plan for one scale: joining mappings, fusing passes, choosing where a part runs reduced.

use crate::geometry::{Affine, Size};
use crate::ops::mask::Mask;
use crate::ops::pointwise::{Masked, PointOp, PointProgram};
use crate::ops::resample::Resampler;
use crate::ops::turn::Turn;
use crate::ops::warp::Warp;
use crate::ops::warp_resampler::WarpResampler;
use crate::plan::Plan;
use crate::plan::program::Program;
use crate::plan::tiles::{Group, Node, Whole};
use crate::step::{EnlargeOp, Op, Wants};
use std::sync::Arc;

/// A part runs reduced only if so much reduction is left to its mapping's kernel. Measured by
/// `benches/speed`: below this, the reduced decoder's own filter shows (under 45 dB).
pub(super) const LEFT_OVER: f64 = 1.1;

/// What a part of a plan begins with.
pub(super) enum Start {
    /// The picture as it comes.
    Source,
    /// A mapping, with its output size, and the last of the steps joined in it.
    Map(Warp, Size, usize),
    /// The step of that number enlarges.
    Enlarge(usize),
}

/// A part of a plan: what it begins with, and the steps after it.
pub(super) type Stretch = (Start, Vec<usize>);

/// How far a source is reduced whose first part is rendered at the first of these scales.
fn level(scales: &[f64]) -> u8 {
    (-scales[0].log2()).round() as u8
}

impl Plan {
    /// The scale each part runs at, found backwards from the output's.
    pub(super) fn scales(&self, parts: &[Stretch], scale: f64) -> Vec<f64> {
        let mut scales = vec![scale; parts.len()];
        for k in (1..parts.len()).rev() {
            let (map, size) = match &parts[k].0 {
                Start::Enlarge(_) if scales[k] == 1.0 => {
                    scales[k - 1] = 1.0;
                    continue;
                }
                start => self.mapping(start),
            };
            let (sx, sy) = map.least_steps(f64::from(size.width), f64::from(size.height));
            let whole = |i: &usize| self.steps[*i].step.needs_detail();
            let fixed = (!self.reduce || parts[k - 1].1.iter().any(whole)) && scale == 1.0;
            let left_over = if self.only_moves(parts, k, scales[k]) { 1.0 } else { self.left_over };
            let room = sx.min(sy) / scales[k] / left_over;
            let level = if fixed || room < 2.0 { 0 } else { room.log2().floor() as i32 };
            scales[k - 1] = 0.5f64.powi(level.min(5));
        }
        scales
    }

    /// Whether a part's mapping only moves the picture, and at `scale` by whole pixels or as one with the mapping behind it: nothing is
    /// left to its kernel then.
    fn only_moves(&self, parts: &[Stretch], k: usize, scale: f64) -> bool {
        let (map, _) = self.mapping(&parts[k].0);
        let Some(Affine { a, b, c, d, e, f }) = map.as_affine() else { return false };
        let is_whole = |v: &f64| (v * scale).fract() == 0.0;
        let is_mapped_again = || parts.get(k + 1).is_some_and(|next| matches!(next.0, Start::Map(..)));
        let joins = || {
            self.cut.is_none() && is_mapped_again() && parts[k].1.iter().all(|step| self.is_placeless(*step))
        };
        (*a, *b, *d, *e) == (1.0, 0.0, 0.0, 1.0) && ((is_whole(c) && is_whole(f)) || joins())
    }

    /// Whether a step does the same to a colour wherever it stands.
    fn is_placeless(&self, step: usize) -> bool {
        let settings = &self.steps[step];
        let same = |op: &Op| matches!(op, Op::Point(op) if op.is_placeless());
        let ops = settings.step.ops(&self.work_place(step, 1.0));
        settings.area.is_none() && settings.block.is_none() && ops.iter().all(same)
    }

    /// What a render at full scale has to do: the reduction asked of the source (`1 / 2^level`), and the pixels that each
    /// step computes, in the order of the steps. Neighbouring mappings are one, counted at the last of them.
    pub fn workload(&self) -> (u8, Vec<f64>) {
        // What is still to be measured is expected to have something to do.
        let works = |i: usize| {
            let step = &self.steps[i].step;
            step.wants() != Wants::Nothing || step.works(&self.work_place(i, 1.0))
        };
        let parts = self.parts_with(1.0, works);
        let scales = self.scales(&parts, 1.0);
        let mut pixels = vec![0.0; self.steps.len()];
        for ((start, rest), scale) in parts.iter().zip(&scales) {
            let area = |size: Size| size.area() as f64 * scale * scale;
            if let Start::Map(_, size, line) = start {
                pixels[*line] += area(*size);
            }
            if let Start::Enlarge(line) = start {
                pixels[*line] += area(self.sizes[line + 1]);
            }
            for i in rest {
                pixels[*i] += area(self.sizes[i + usize::from(self.geometry[*i].is_some())]);
            }
        }
        (level(&scales), pixels)
    }

    /// The reduction that a render at full scale asks of the source, `1 / 2^level`: as its program says.
    pub fn level(&self) -> u8 {
        let parts = self.parts(1.0);
        level(&self.scales(&parts, 1.0))
    }

    /// Lowers the plan for `scale` (0 < scale ≤ 1; 1 is the final file).
    pub fn program(&self, scale: f64) -> Program {
        let scale = scale.clamp(1e-4, 1.0);
        let parts = self.parts(scale);
        let scales = self.scales(&parts, scale);
        let mut program = Program {
            source: self.sizes[0],
            level: level(&scales),
            nodes: Vec::new(),
            size: self.sizes[0].scaled(scales[0]),
            cut: None,
            key: self.key(self.cut.unwrap_or(0), &scales),
        };
        for (k, (start, rest)) in parts.into_iter().enumerate() {
            if let Start::Map(_, _, line) | Start::Enlarge(line) = &start {
                program.passes(self, *line);
            }
            match start {
                Start::Source => {}
                Start::Enlarge(i) if scales[k] == 1.0 => program.enlarge(self.steps[i].step.enlarger()),
                start => {
                    let (map, full) = self.mapping(&start);
                    let (to, from) = (scales[k], scales[k - 1]);
                    let scaled = Warp::from(Affine::scale(1.0 / to, 1.0 / to)).then(&map);
                    let map = scaled.then(&Affine::scale(from, from).into());
                    program.map(map, full.scaled(to), self.left_over <= 1.0);
                }
            }
            program.steps(self, &rest, scales[k]);
        }
        program
    }

    /// The mapping a part begins with, at full scale, and its output size.
    pub(super) fn mapping(&self, start: &Start) -> (Warp, Size) {
        match start {
            Start::Map(map, size, _) => (map.clone(), *size),
            Start::Enlarge(i) => match &self.geometry[*i] {
                Some(g) => (g.map.clone(), g.size),
                None => (Affine::IDENTITY.into(), self.sizes[*i]),
            },
            Start::Source => (Affine::IDENTITY.into(), self.sizes[0]),
        }
    }

    /// The plan cut at its mappings, neighbouring ones joined.
    pub(super) fn parts(&self, scale: f64) -> Vec<Stretch> {
        self.parts_with(scale, |i| self.steps[i].step.works(&self.work_place(i, 1.0)))
    }

    /// As [`parts`](Self::parts), with those steps that `works` names.
    pub(super) fn parts_with(&self, scale: f64, works: impl Fn(usize) -> bool) -> Vec<Stretch> {
        let mut parts: Vec<Stretch> = vec![(Start::Source, Vec::new())];
        for (i, g) in self.geometry.iter().enumerate() {
            match (g, parts.last_mut()) {
                (None, _) => {}
                _ if self.steps[i].step.enlarger().is_some() => parts.push((Start::Enlarge(i), Vec::new())),
                (Some(g), Some((Start::Map(map, size, last), rest))) if rest.is_empty() => {
                    *map = g.map.then(map);
                    *size = g.size;
                    *last = i;
                }
                (Some(g), _) => parts.push((Start::Map(g.map.clone(), g.size, i), Vec::new())),
            }
            let does = self.steps[i].mix > 0.0 && works(i);
            if let Some((_, rest)) = parts.last_mut().filter(|_| does) {
                rest.push(i);
            }
        }
        // A mapping only needed for the scale stands first, so that everything runs at the reduced size.
        if parts.len() == 1 && scale < 1.0 {
            let rest = std::mem::take(&mut parts[0].1);
            parts.push((Start::Map(Affine::IDENTITY.into(), self.sizes[0], 0), rest));
        }
        parts
    }
}

impl Program {
    /// How far the last node moves the picture, if that is all it does and the plan's cut does not lie behind it.
    fn moved(&self) -> Option<(f64, f64)> {
        match &self.nodes.last()?.0 {
            _ if self.cut == Some(self.nodes.len()) => None,
            Node::Shift(dx, dy) => Some((*dx as f64, *dy as f64)),
            Node::Map(resampler) => resampler.moves(),
            _ => None,
        }
    }

    /// Adds a mapping; where the one before only moves the picture, both are one.
    pub(super) fn map(&mut self, mut warp: Warp, size: Size, quick: bool) {
        if let Some((dx, dy)) = self.moved()
            && let Some((_, input)) = self.nodes.pop()
        {
            warp = warp.then(&Affine { c: dx, f: dy, ..Affine::IDENTITY }.into());
            self.size = input;
        }
        let node = match warp.as_affine() {
            None => Node::Warp(WarpResampler::new(warp, self.size, size)),
            Some(map) => match map.as_shift() {
                Some((0, 0)) if size == self.size => return,
                // Beyond the picture its edge is repeated, as a resampling would.
                Some((dx, dy)) => Node::Shift(dx, dy),
                _ => match Turn::of(map, self.size, size) {
                    Some(turn) => Node::Turn(turn),
                    None if quick => Node::Map(Resampler::quick(*map, self.size)),
                    None => Node::Map(Resampler::new(*map, self.size)),
                },
            },
        };
        self.nodes.push((node, self.size));
        self.size = size;
    }

    pub(super) fn enlarge(&mut self, op: Option<Box<dyn EnlargeOp>>) {
        let Some(op) = op else { return };
        let factor = op.factor() as u32;
        let size = self.size;
        self.nodes.push((Node::Enlarge(op), size));
        self.size = Size::new(size.width * factor, size.height * factor);
    }

    /// The steps `rest`, one after another; those of a block that is mixed are held together.
    pub(super) fn steps(&mut self, plan: &Plan, rest: &[usize], scale: f64) {
        for together in rest.chunk_by(|a, b| plan.steps[*a].block == plan.steps[*b].block) {
            if plan.steps[together[0]].block.is_some() {
                self.passes(plan, together[together.len() - 1]);
            }
            let Some((_, mix)) = plan.steps[together[0]].block.filter(|b| b.1 < 1.0) else {
                self.alone(plan, together, scale);
                continue;
            };
            let before = std::mem::take(&mut self.nodes);
            let cut = self.cut;
            self.alone(plan, together, scale);
            self.cut = cut;
            let nodes = std::mem::replace(&mut self.nodes, before);
            self.group(nodes, None, mix);
        }
    }

    /// The plan's cut lies here, if the work that follows belongs to the step `line` behind it.
    pub(super) fn passes(&mut self, plan: &Plan, line: usize) {
        if self.cut.is_none() && plan.cut.is_some_and(|cut| line >= cut) {
            self.cut = Some(self.nodes.len());
        }
    }

    /// Adds nodes whose result is held back to an area and a share.
    pub(super) fn group(&mut self, nodes: Vec<(Node, Size)>, mask: Option<Arc<Mask>>, mix: f32) {
        let halo = nodes
            .iter()
            .map(|(node, _)| match node {
                Node::Area(a) => a.halo(),
                Node::Group(g) => g.halo,
                _ => 0,
            })
            .sum();
        self.nodes.push((Node::Group(Group { nodes, halo, mask, mix }), self.size));
    }

    pub(super) fn alone(&mut self, plan: &Plan, rest: &[usize], scale: f64) {
        let mut points: Vec<PointOp> = Vec::new();
        for &i in rest {
            if self.cut.is_none() && plan.cut.is_some_and(|cut| i >= cut) {
                self.flush(&mut points);
                self.passes(plan, i);
            }
            let settings = &plan.steps[i];
            let mix = settings.mix;
            let mut ops = settings.step.ops(&plan.work_place(i, scale));
            let mask = settings.area.as_ref().map(|a| Mask::new(a, plan.sizes[i], scale));
            let ops = match ops.pop() {
                Some(Op::Whole(op)) => {
                    self.flush(&mut points);
                    self.nodes.push((Node::Whole(Whole { op, mask, mix }), self.size));
                    continue;
                }
                last => ops.into_iter().chain(last).collect::<Vec<Op>>(),
            };
            let alone = ops.iter().all(|op| matches!(op, Op::Point(_)));
            if alone && (mask.is_some() || (mix < 1.0 && ops.len() > 1)) {
                let inner = PointProgram::new(ops.into_iter().filter_map(Op::point).collect());
                points.push(PointOp::Pixels(Arc::new(Masked { inner, mask, mix })));
            } else if alone {
                points.extend(ops.into_iter().filter_map(Op::point).map(|p| p.mixed(mix)));
            } else if mask.is_none() && mix >= 1.0 {
                self.nodes_of(ops, &mut points);
            } else {
                self.flush(&mut points);
                let before = std::mem::take(&mut self.nodes);
                self.nodes_of(ops, &mut points);
                self.flush(&mut points);
                let nodes = std::mem::replace(&mut self.nodes, before);
                self.group(nodes, mask, mix);
            }
        }
        self.flush(&mut points);
    }

    pub(super) fn nodes_of(&mut self, ops: Vec<Op>, points: &mut Vec<PointOp>) {
        for op in ops {
            let node = match op {
                Op::Point(p) => {
                    points.push(p);
                    continue;
                }
                Op::Area(a) => Node::Area(a),
                Op::Mark(m) => Node::Mark(m),
                Op::Whole(op) => Node::Whole(Whole { op, mask: None, mix: 1.0 }),
            };
            self.flush(points);
            self.nodes.push((node, self.size));
        }
    }

    pub(super) fn flush(&mut self, points: &mut Vec<PointOp>) {
        let program = PointProgram::new(std::mem::take(points));
        if program.is_empty() {
            return;
        }
        // What is the same everywhere is done before the picture is moved: while it is read, and the mapping that may follow is
        // one with that move.
        if program.is_placeless()
            && self.moved().is_some()
            && let Some(moving) = self.nodes.pop()
        {
            match self.nodes.pop() {
                Some((Node::Point(before), size)) if self.cut.is_none() => {
                    self.nodes.push((Node::Point(before.then(program)), size));
                }
                before => {
                    self.nodes.extend(before);
                    self.nodes.push((Node::Point(program), moving.1));
                }
            }
            self.nodes.push(moving);
            return;
        }
        self.nodes.push((Node::Point(program), self.size));
    }
}
