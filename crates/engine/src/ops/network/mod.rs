//! A trained network of residual blocks, in whole numbers: its layers, and the way through them.
//!
//! Its weights are read from a safetensors file as the programs in `training/` write it.

mod grid;
mod layer;

pub(crate) use grid::Grid;
use layer::{LARGEST, Layer, Then};
use safetensors::{SafeTensors, tensor::TensorView};

/// Values that come out for each pixel: those that were trained, and what fills a group of outputs.
pub(crate) const OUTPUTS: usize = 16;
/// What is taken away from planes before they go in.
pub(crate) const MIDDLE: f32 = 0.4;

/// A value that is 1, as it goes in.
const ONE: f32 = 8192.0;
/// How much larger values may be than those the network was tried with.
const ROOM: f32 = 1.5;

/// A number as it goes in.
pub(crate) fn taken(value: f32) -> i16 {
    (value * ONE).clamp(-LARGEST as f32, LARGEST as f32).round_ties_even() as i16
}

/// Two layers whose result is added to what goes in.
struct Block {
    first: Layer,
    second: Layer,
}

pub(crate) struct Network {
    head: Layer,
    blocks: Vec<Block>,
    tail: Layer,
}

/// The numbers of a tensor.
pub(crate) fn numbers(file: &SafeTensors<'_>, name: &str) -> Option<Vec<f32>> {
    let tensor: TensorView<'_> = file.tensor(name).ok()?;
    Some(tensor.data().as_chunks::<4>().0.iter().map(|b| f32::from_le_bytes(*b)).collect())
}

/// The weights as the training left them.
struct Weights<'a>(SafeTensors<'a>);

impl Weights<'_> {
    fn numbers(&self, name: &str) -> Option<Vec<f32>> {
        numbers(&self.0, name)
    }

    /// A value of one of the inner pictures by one that is 1.
    fn one(&self, picture: &str) -> Option<f32> {
        Some(LARGEST as f32 / (self.numbers(&format!("largest.{picture}"))?.first()? * ROOM))
    }

    /// A layer that sees three by three pixels of so many values.
    fn layer(&self, name: &str, inputs: usize, taken: f32, given: f32) -> Option<Layer> {
        let weights = self.numbers(&format!("{name}.weight"))?;
        let bias = self.numbers(&format!("{name}.bias"))?;
        // They stand value by value, and are wanted pixel by pixel.
        let ordered = |own: &[f32]| (0..9 * inputs).map(|i| own[i % inputs * 9 + i / inputs]).collect();
        let outputs: Vec<_> = weights.chunks_exact(9 * inputs).map(ordered).zip(bias).collect();
        Some(Layer::new(inputs, (taken, given), &outputs))
    }

    fn block(&self, name: &str, width: usize, stream: f32) -> Option<Block> {
        let inside = self.one(name)?;
        Some(Block {
            first: self.layer(&format!("{name}.a"), width, stream, inside)?,
            second: self.layer(&format!("{name}.b"), width, inside, stream)?,
        })
    }
}

impl Network {
    /// From its weights, with so many values of each pixel that go in.
    pub(crate) fn read(file: &[u8], inputs: usize) -> Option<Self> {
        let weights = Weights(SafeTensors::deserialize(file).ok()?);
        let width = weights.numbers("head.bias")?.len();
        let stream = weights.one("stream")?;
        let mut blocks = Vec::new();
        while let Some(found) = weights.block(&format!("blocks.{}", blocks.len()), width, stream) {
            blocks.push(found);
        }
        Some(Self {
            head: weights.layer("head", inputs, ONE, stream)?,
            blocks,
            tail: weights.layer("tail", width, stream, 1.0)?,
        })
    }

    /// What it finds in a picture, [`OUTPUTS`] numbers for each pixel; nothing where nobody waits for it any more.
    pub(crate) fn found(&self, input: Grid) -> Option<Vec<f32>> {
        let mut stream = input.like(self.head.outputs());
        input.around(&self.head, &mut stream, Then::Keep);
        drop(input);
        let mut inside = stream.like(self.head.outputs());
        for block in &self.blocks {
            block.through(&mut stream, &mut inside)?;
        }
        Some(stream.around_as_fractions(&self.tail))
    }
}

impl Block {
    fn through(&self, stream: &mut Grid, inside: &mut Grid) -> Option<()> {
        if !crate::pace::go_on() {
            return None;
        }
        stream.around(&self.first, inside, Then::Above);
        if !crate::pace::go_on() {
            return None;
        }
        inside.around(&self.second, stream, Then::Add);
        Some(())
    }
}
