//! Scopes: what a rendered picture holds, as lines and densities. All on its encoded values.

use crate::plan::{Encoded, Pixels};

/// Bins of a histogram, levels of a waveform.
pub const LEVELS: usize = 64;

/// Columns of a waveform.
pub const COLUMNS: usize = 128;

/// Brightness of encoded values (ITU-R BT.709).
pub const BRIGHTNESS: [f32; 3] = [0.2126, 0.7152, 0.0722];

/// Shares of pixels: of brightness, red, green, blue, each [`LEVELS`] bins that sum to 1.
pub type Histogram = [[f32; LEVELS]; 4];

/// Density over place and level: [`COLUMNS`] columns of [`LEVELS`] levels, dark first, 0 ..= 255 with 255 the densest.
pub type Waveform = Vec<u8>;

/// What one picture holds.
#[derive(Clone, Debug)]
pub struct Scopes {
    /// How often each level is.
    pub histogram: Histogram,
    /// Brightness from left to right.
    pub waveform: Waveform,
    /// Red, green and blue from left to right, one beside the other: a third of the columns each.
    pub parade: Waveform,
    /// Shares of pixels with a channel at 0, and with one at the most.
    pub clipped: [f32; 2],
}

/// A pixel's values, 0 ..= 255.
fn pixels(picture: &Encoded) -> impl Iterator<Item = [f32; 3]> + '_ {
    let (eight, sixteen, floats): (&[u8], &[u16], &[f32]) = match &picture.pixels {
        Pixels::U8(v) => (v, &[], &[]),
        Pixels::U16(v) => (&[], v, &[]),
        Pixels::F32(v) => (&[], &[], v),
    };
    let floats = floats.as_chunks::<3>().0.iter().map(|p| p.map(|v| v * 255.0));
    let eight = eight.as_chunks::<3>().0.iter().map(|p| p.map(f32::from));
    let sixteen = sixteen.as_chunks::<3>().0.iter().map(|p| p.map(|v| f32::from(v) / 257.0));
    eight.chain(sixteen).chain(floats)
}

fn level(value: f32) -> usize {
    ((value / 256.0 * LEVELS as f32) as usize).min(LEVELS - 1)
}

/// Counts as 0 ..= 255, the square root of their share of the most, so that thin traces are seen.
fn densities(counts: &[u32]) -> Waveform {
    let most = counts.iter().copied().max().unwrap_or(0).max(1) as f32;
    counts.iter().map(|c| ((*c as f32 / most).sqrt() * 255.0).round() as u8).collect()
}

impl Scopes {
    /// Of a rendered picture.
    pub fn of(picture: &Encoded) -> Self {
        let width = picture.size.width.max(1) as usize;
        let mut bins = [[0u32; LEVELS]; 4];
        let mut wave = vec![0u32; COLUMNS * LEVELS];
        let mut parade = vec![0u32; COLUMNS * LEVELS];
        let mut clipped = [0u32; 2];
        let third = COLUMNS / 3;
        for (i, p) in pixels(picture).enumerate() {
            let bright = BRIGHTNESS[0] * p[0] + BRIGHTNESS[1] * p[1] + BRIGHTNESS[2] * p[2];
            let x = i % width;
            bins[0][level(bright)] += 1;
            wave[x * COLUMNS / width * LEVELS + level(bright)] += 1;
            for c in 0..3 {
                bins[c + 1][level(p[c])] += 1;
                parade[(c * third + x * third / width) * LEVELS + level(p[c])] += 1;
            }
            clipped[0] += u32::from(p.iter().any(|v| *v <= 0.0));
            clipped[1] += u32::from(p.iter().any(|v| *v >= 255.0));
        }
        let pixels = picture.size.area().max(1) as f32;
        Self {
            histogram: bins.map(|bins| bins.map(|n| n as f32 / pixels)),
            waveform: densities(&wave),
            parade: densities(&parade),
            clipped: clipped.map(|n| n as f32 / pixels),
        }
    }
}

/// Shows what is clipped on an 8-bit picture that is faded to greys for it: white where all channels are at the most,
/// black where all are at 0; where only some are, their colour, bright at the most and dark at 0.
pub fn show_clipped(picture: &mut Encoded) {
    let Pixels::U8(samples) = &mut picture.pixels else { return };
    for p in samples.as_chunks_mut::<3>().0 {
        let (most, none) = (p.map(|v| v == 255), p.map(|v| v == 0));
        let bright: f32 = BRIGHTNESS.iter().zip(*p).map(|(k, v)| k * f32::from(v)).sum();
        *p = match (most, none) {
            ([false, false, false], [false, false, false]) => [(96.0 + bright * 0.35).round() as u8; 3],
            (_, [false, false, false]) => most.map(|m| if m { 255 } else { 0 }),
            ([false, false, false], [true, true, true]) => [0; 3],
            ([false, false, false], _) => none.map(|n| if n { 80 } else { 0 }),
            _ => most.map(|m| if m { 255 } else { 0 }),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;

    #[test]
    fn clipped_pixels_stand_out_of_a_faded_picture() {
        let px = vec![255, 255, 255, 0, 0, 0, 255, 90, 90, 90, 0, 90, 128, 128, 128, 255, 0, 40];
        let mut picture = Encoded { size: Size::new(6, 1), pixels: Pixels::U8(px) };
        show_clipped(&mut picture);
        let Pixels::U8(px) = picture.pixels else { panic!("8 bits") };
        assert_eq!(px, [255, 255, 255, 0, 0, 0, 255, 0, 0, 0, 80, 0, 141, 141, 141, 255, 0, 0]);
    }

    #[test]
    fn a_ramp_is_flat_in_the_histogram_and_a_diagonal_in_the_waveform() {
        // 256 columns, each of one grey; the right half's red is at the most.
        let px: Vec<u8> =
            (0..8).flat_map(|_| (0..=255u8).flat_map(|v| [if v >= 128 { 255 } else { v }, v, v])).collect();
        let scopes = Scopes::of(&Encoded { size: Size::new(256, 8), pixels: Pixels::U8(px) });
        for c in 2..4 {
            assert!(scopes.histogram[c].iter().all(|n| (n - 1.0 / 64.0).abs() < 1e-6));
        }
        assert!((scopes.histogram[1][63] - 0.5).abs() < 1e-6);
        for x in 0..COLUMNS / 2 {
            let column = &scopes.waveform[x * LEVELS..][..LEVELS];
            let at = column.iter().enumerate().max_by_key(|(_, v)| **v).unwrap().0;
            assert!(at.abs_diff(x / 2) <= 1, "{x}: {at}");
        }
        // The green third of the parade climbs too.
        let third = COLUMNS / 3;
        let middle = &scopes.parade[(third + third / 2) * LEVELS..][..LEVELS];
        let at = middle.iter().enumerate().max_by_key(|(_, v)| **v).unwrap().0;
        assert!(at.abs_diff(LEVELS / 2) <= 1, "{at}");
        // Column 0 is black; 128 columns have red at the most.
        assert!((scopes.clipped[0] - 1.0 / 256.0).abs() < 1e-6 && (scopes.clipped[1] - 0.5).abs() < 1e-6);
    }
}
