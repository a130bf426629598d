//! What a DNG asks to be done to its values (Adobe's DNG 1.7, chapter 7): gain maps are applied, what is told of the lens is
//! handed to the line that corrects lenses, and of the rest it is told that it is not done.

use crate::decode::tiff_directory::Page;
use rallo_engine::lens::EmbeddedLens;
use rallo_engine::raw::GainMap;
use rawler::tags::DngTag;

/// Most operations of one list, and most points of one map, that are read.
const MOST: u32 = 64;
const MOST_FACTORS: u32 = 4_000_000;

/// What all lists together ask for.
#[derive(Default)]
pub(super) struct Opcodes {
    pub gain_maps: Vec<GainMap>,
    pub lens: Option<EmbeddedLens>,
    /// Names of what is asked for and not done.
    pub left_out: Vec<&'static str>,
}

/// Numbers one after the other, most significant byte first whatever the file's own order.
struct Numbers<'a>(&'a [u8]);

impl Numbers<'_> {
    fn take<const N: usize>(&mut self) -> Option<[u8; N]> {
        let (first, rest) = self.0.split_first_chunk::<N>()?;
        self.0 = rest;
        Some(*first)
    }
    fn whole(&mut self) -> Option<u32> {
        self.take().map(u32::from_be_bytes)
    }
    fn double(&mut self) -> Option<f64> {
        self.take().map(f64::from_be_bytes).filter(|v| v.is_finite())
    }
    fn single(&mut self) -> Option<f32> {
        self.take().map(f32::from_be_bytes)
    }
}

/// A lens bends nothing, its colours lie together, and its middle is the picture's.
fn still() -> EmbeddedLens {
    EmbeddedLens { centre: (0.5, 0.5), ..EmbeddedLens::default() }
}

fn warp(numbers: &mut Numbers<'_>, lens: &mut EmbeddedLens) -> Option<()> {
    let planes = numbers.whole().filter(|n| matches!(n, 1 | 3))?;
    let (mut sets, mut sideways) = (Vec::new(), Vec::new());
    for _ in 0..planes {
        sets.push([numbers.double()?, numbers.double()?, numbers.double()?, numbers.double()?]);
        sideways.push([numbers.double()?, numbers.double()?]);
    }
    lens.centre = (numbers.double()?, numbers.double()?);
    lens.warp = sets;
    lens.sideways = sideways;
    Some(())
}

fn fall_off(numbers: &mut Numbers<'_>, lens: &mut EmbeddedLens) -> Option<()> {
    let mut gain = [0.0; 5];
    for k in &mut gain {
        *k = numbers.double()?;
    }
    lens.centre = (numbers.double()?, numbers.double()?);
    lens.gain = Some(gain);
    Some(())
}

fn gain_map(numbers: &mut Numbers<'_>) -> Option<GainMap> {
    let area = [numbers.whole()?, numbers.whole()?, numbers.whole()?, numbers.whole()?];
    let planes = (numbers.whole()?, numbers.whole()?);
    let pitch = (numbers.whole()?, numbers.whole()?);
    let points = (numbers.whole()?, numbers.whole()?);
    let spacing = (numbers.double()?, numbers.double()?);
    let origin = (numbers.double()?, numbers.double()?);
    let map_planes = numbers.whole()?;
    let count = points.0.checked_mul(points.1)?.checked_mul(map_planes).filter(|n| *n <= MOST_FACTORS)?;
    let factors = (0..count).map(|_| numbers.single()).collect::<Option<Vec<f32>>>()?;
    let points = (points.0 as usize, points.1 as usize);
    Some(GainMap { area, planes, pitch, points, origin, spacing, map_planes: map_planes as usize, factors })
}

/// What an operation is called, by its number.
fn name(id: u32) -> &'static str {
    match id {
        1 | 14 => "a rectilinear warp",
        2 => "a fisheye warp",
        3 => "fall-off of the lens",
        6 => "trimming of its edges",
        7 | 8 => "a curve for its values",
        9 => "a gain map",
        10..=13 => "offsets and factors of its rows and columns",
        _ => "an operation of a newer standard",
    }
}

impl Opcodes {
    /// All lists of a file.
    pub fn of(pages: &[Page<'_>]) -> Self {
        let mut all = Self::default();
        for tag in [DngTag::OpcodeList1, DngTag::OpcodeList2, DngTag::OpcodeList3] {
            if let Some(list) = pages.iter().find_map(|p| p.bytes(tag as u16)) {
                all.read(list);
            }
        }
        all
    }

    fn read(&mut self, list: &[u8]) -> Option<()> {
        let mut numbers = Numbers(list);
        for _ in 0..numbers.whole()?.min(MOST) {
            let [id, _version, flags, length] =
                [numbers.whole()?, numbers.whole()?, numbers.whole()?, numbers.whole()?];
            let (own, rest) = numbers.0.split_at_checked(length as usize)?;
            numbers.0 = rest;
            self.operation(id, flags, &mut Numbers(own));
        }
        Some(())
    }

    fn operation(&mut self, id: u32, flags: u32, numbers: &mut Numbers<'_>) {
        let mut lens = self.lens.clone().unwrap_or_else(still);
        let done = match id {
            1 => warp(numbers, &mut lens).map(|()| self.lens = Some(lens)),
            3 => fall_off(numbers, &mut lens).map(|()| self.lens = Some(lens)),
            // Single pixels are mended by what they show.
            4 | 5 => Some(()),
            9 => gain_map(numbers).map(|map| self.gain_maps.push(map)),
            _ => None,
        };
        // Half a preview's quality is no loss that has to be told.
        let is_for_previews = flags & 2 != 0;
        if done.is_none() && !is_for_previews && !self.left_out.contains(&name(id)) {
            self.left_out.push(name(id));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn operation(id: u32, flags: u32, data: &[u8]) -> Vec<u8> {
        let head = [id, 0x0103_0000, flags, data.len() as u32];
        head.iter().flat_map(|n| n.to_be_bytes()).chain(data.iter().copied()).collect()
    }

    fn list(operations: &[Vec<u8>]) -> Vec<u8> {
        [&(operations.len() as u32).to_be_bytes()[..], &operations.concat()].concat()
    }

    fn doubles(values: &[f64]) -> Vec<u8> {
        values.iter().flat_map(|v| v.to_be_bytes()).collect()
    }

    #[test]
    fn lens_and_maps_are_read_and_the_rest_is_named() {
        let warp =
            [&1u32.to_be_bytes()[..], &doubles(&[1.0, 0.02, 0.0, 0.0, 0.001, 0.002, 0.5, 0.49])].concat();
        let falls = doubles(&[0.4, 0.1, 0.0, 0.0, 0.0, 0.5, 0.49]);
        let whole: Vec<u8> =
            [0u32, 0, 100, 200, 0, 1, 2, 2, 1, 2].iter().flat_map(|n| n.to_be_bytes()).collect();
        let factors: Vec<u8> = [1.0f32, 1.5].iter().flat_map(|v| v.to_be_bytes()).collect();
        let map = [&whole[..], &doubles(&[1.0, 1.0, 0.0, 0.0]), &1u32.to_be_bytes()[..], &factors].concat();
        let mut all = Opcodes::default();
        let bytes = list(&[
            operation(1, 0, &warp),
            operation(3, 0, &falls),
            operation(9, 0, &map),
            operation(7, 0, &[0; 8]),
            operation(10, 2, &[0; 8]),
        ]);
        all.read(&bytes).unwrap();
        let lens = all.lens.unwrap();
        assert_eq!((lens.centre, lens.warp), ((0.5, 0.49), vec![[1.0, 0.02, 0.0, 0.0]]));
        assert_eq!(lens.sideways, [[0.001, 0.002]]);
        assert_eq!(lens.gain, Some([0.4, 0.1, 0.0, 0.0, 0.0]));
        assert_eq!(all.gain_maps[0].factors, [1.0, 1.5]);
        assert_eq!(all.gain_maps[0].pitch, (2, 2));
        assert_eq!(all.left_out, ["a curve for its values"]);
    }

    #[test]
    fn cut_lists_do_no_harm() {
        let map = operation(9, 0, &[255; 76]);
        for length in 0..map.len() + 4 {
            let mut all = Opcodes::default();
            all.read(&list(std::slice::from_ref(&map))[..length]);
            assert!(all.gain_maps.is_empty());
        }
    }
}
