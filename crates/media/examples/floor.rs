//! The floor under a run: decodes every JPEG of a folder (at half size, or at that level) and encodes a picture of the final size,
//! two at a time, with the decoder and encoder the program uses. `benches/speed` and `benches/load` call it.
//!
//!     floor FOLDER [LONG_EDGE LEVEL]

use rallo_engine::{Encoded, Pixels, Samples, Size};
use rallo_media::{Chroma, Encoding, Extras, FileSource, encode};
use std::sync::atomic::{AtomicUsize, Ordering};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::env::args().nth(1).ok_or("floor FOLDER [LONG_EDGE LEVEL]")?;
    let long_edge: u32 = std::env::args().nth(2).map_or(Ok(1600), |edge| edge.parse())?;
    let level: u8 = std::env::args().nth(3).map_or(Ok(1), |level| level.parse())?;
    let files: Vec<_> = std::fs::read_dir(folder)?.flatten().map(|e| e.path()).collect();
    let next = AtomicUsize::new(0);
    let decode_and_encode = |path: &std::path::Path| -> Result<usize, Box<dyn std::error::Error>> {
        let picture = FileSource::open(path)?.decode(level)?;
        let Samples::U8(v) = picture.samples() else { return Err("8 bits expected".into()) };
        // The top of the decoded picture stands in for a result of that size.
        let size = Size::new(long_edge, (long_edge * 2).div_ceil(3));
        let row = picture.stored_size().width as usize * 3;
        let kept = 3 * long_edge as usize;
        let pixels =
            v.chunks(row).take(size.height as usize).flat_map(|r| r[..kept.min(row)].to_vec()).collect();
        let encoding =
            Encoding::Jpeg { quality: 82, chroma: Chroma::Quarter, progressive: false, optimised: false };
        Ok(encode(&Encoded { size, pixels: Pixels::U8(pixels) }, encoding, &Extras::default())?.len())
    };
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let Some(path) = files.get(next.fetch_add(1, Ordering::Relaxed)) {
                    if let Err(e) = decode_and_encode(path) {
                        eprintln!("{}: {e}", path.display());
                    }
                }
            });
        }
    });
    Ok(())
}
