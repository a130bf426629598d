//! Clips: written and read by `ffmpeg`, a program of its own, through a pipe; no frame is kept on the disk.
//!
//! Frames leave as Y′CbCr of ITU-R BT.709 (narrow range, colour samples sited left as H.264 and H.265 expect) or, for
//! codecs that take them, as RGB. What is sRGB stays as it is encoded: BT.709's tags say which primaries and which matrix,
//! and every player shows such a clip as it shows an sRGB picture. 10-bit codecs get 10 bits, FFV1 up to 16.

mod bt709;
mod codec;
mod extract;
mod probe;
mod recorder;

pub use crate::video::codec::{Clip, Codec};
pub use crate::video::extract::{frames_folder, proxy, still, take_out};
pub use crate::video::probe::{ClipFacts, has_clip_ending, probe};
pub use crate::video::recorder::Recorder;

use crate::MediaError;
use std::io::Read;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::AtomicBool;
use std::thread::JoinHandle;

fn fail(message: impl ToString) -> MediaError {
    MediaError::Encode { format: "video", message: message.to_string() }
}

/// Starting a program of the ffmpeg family.
fn started(e: &std::io::Error) -> MediaError {
    if e.kind() == std::io::ErrorKind::NotFound {
        fail("the program ffmpeg is not installed; on Debian: apt install ffmpeg")
    } else {
        fail(format!("ffmpeg does not start: {e}"))
    }
}

/// Whether clips can be written and read here.
pub fn is_there() -> bool {
    static FOUND: AtomicBool = AtomicBool::new(false);
    crate::is_found(&FOUND, &[("ffmpeg", "-version"), ("ffprobe", "-version")])
}

/// Why ffmpeg failed, by what it said.
fn refused(complaint: &str) -> MediaError {
    if complaint.contains("No space left on device") {
        MediaError::NoRoom { format: "video" }
    } else {
        fail(plain(complaint))
    }
}

/// What ffmpeg said, as people say it.
fn plain(complaint: &str) -> String {
    let has = |text: &str| complaint.contains(text);
    if has("Unknown encoder") {
        return "this ffmpeg cannot write this codec; choose another one".into();
    }
    if has("Invalid data found when processing input") {
        return "the file cannot be read as sound or video".into();
    }
    if has("matches no streams") {
        return "the sound file has no sound in it".into();
    }
    let last = complaint.lines().rev().find(|l| !l.trim().is_empty()).unwrap_or("it said nothing");
    format!("ffmpeg said: {}", last.trim())
}

/// A call of ffmpeg that waits for nobody and opens nothing but files.
fn ffmpeg() -> Command {
    let mut command = Command::new("ffmpeg");
    command.args([
        "-hide_banner",
        "-loglevel",
        "error",
        "-nostdin",
        "-y",
        "-protocol_whitelist",
        "file,pipe",
    ]);
    // One encoder tells of itself where errors are told.
    command.env("SVT_LOG", "1");
    command
}

/// Containers that are opened: none that could lead to other files.
const CONTAINERS: &str =
    "mov,mp4,m4a,3gp,3g2,mj2,matroska,webm,avi,mpegts,mpeg,ogg,wav,w64,mp3,flac,aac,aiff,caf,gif";

/// Takes a file in.
fn input(command: &mut Command, path: &Path) {
    command.args(["-format_whitelist", CONTAINERS, "-i"]).arg(file(path));
}

fn file(path: &Path) -> std::ffi::OsString {
    let mut text = std::ffi::OsString::from("file:");
    text.push(path);
    text
}

/// What a program writes to its error output, read beside it.
fn listen(child: &mut Child) -> Option<JoinHandle<String>> {
    let mut errors = child.stderr.take()?;
    Some(std::thread::spawn(move || {
        let mut bytes = Vec::new();
        let mut piece = [0u8; 4096];
        while let Ok(n @ 1..) = errors.read(&mut piece) {
            // The beginning tells the cause; the rest is let go by.
            if bytes.len() < 64 * 1024 {
                bytes.extend(&piece[..n]);
            }
        }
        String::from_utf8_lossy(&bytes).into_owned()
    }))
}

/// Runs a call to its end; what it wrote to its output.
fn done(command: &mut Command) -> Result<Vec<u8>, MediaError> {
    let out = command.stdin(Stdio::null()).output().map_err(|e| started(&e))?;
    if out.status.success() { Ok(out.stdout) } else { Err(refused(&String::from_utf8_lossy(&out.stderr))) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::video::bt709::chroma;

    /// Y′CbCr of ITU-R BT.709-6 in f64, one value at a time: luma, then a colour sample at an even column.
    fn by_formula(samples: &[u16], width: usize, rows: usize, bits: u8) -> [Vec<u32>; 3] {
        let part = |x: usize, y: usize, c: usize| f64::from(samples[(y * width + x) * 3 + c]) / 65_535.0;
        let light =
            |x: usize, y: usize| 0.2126 * part(x, y, 0) + 0.7152 * part(x, y, 1) + 0.0722 * part(x, y, 2);
        let height = samples.len() / 3 / width;
        let level = |v: f64| (v * f64::from(1u32 << (bits - 8)) + 0.5).floor() as u32;
        let luma = (0..height)
            .flat_map(|y| (0..width).map(move |x| (x, y)))
            .map(|(x, y)| level(16.0 + 219.0 * light(x, y)));
        let colour = |c: usize, most: f64| -> Vec<u32> {
            let mut all = Vec::new();
            for y in (0..height).step_by(rows) {
                for x in (0..width).step_by(2) {
                    let mut mean = 0.0;
                    for row in y..y + rows {
                        let at = |x: usize| part(x, row, c) - light(x, row);
                        mean += (at(x.saturating_sub(1)) + 2.0 * at(x) + at(x + 1)) / 4.0 / rows as f64;
                    }
                    all.push(level(128.0 + 224.0 / most * mean));
                }
            }
            all
        };
        [luma.collect(), colour(2, 1.8556), colour(0, 1.5748)]
    }

    #[test]
    fn colours_are_separated_as_the_standard_says() {
        // Narrow ones too, and ends of the range beside each other.
        for (width, height) in [(2, 2), (16, 4), (70, 6), (258, 10)] {
            let sample = |i: usize| match i % 11 {
                0 => 0,
                1 => 65_535,
                _ => (i as u32).wrapping_mul(2_654_435_761).rotate_right(9) as u16,
            };
            let samples: Vec<u16> = (0..width * height * 3).map(sample).collect();
            for (bits, rows) in [(8, 2), (8, 1), (10, 2), (10, 1)] {
                let bytes = chroma(width, height, bits, rows, &samples);
                let values: Vec<u32> = if bits == 8 {
                    bytes.iter().map(|b| u32::from(*b)).collect()
                } else {
                    bytes.as_chunks::<2>().0.iter().map(|b| u32::from(u16::from_le_bytes(*b))).collect()
                };
                let want = by_formula(&samples, width, rows, bits).concat();
                assert_eq!(values.len(), want.len(), "{width} × {height}, {bits} bits, {rows} rows");
                for (i, (got, want)) in values.iter().zip(&want).enumerate() {
                    assert!(
                        got.abs_diff(*want) <= 1,
                        "{width} × {height}, {bits} bits, {rows} rows, {i}: {got} {want}"
                    );
                }
                let off = values.iter().zip(&want).filter(|(a, b)| a != b).count();
                // Only what lies on the edge between two levels may fall to the other side.
                assert!(off * 200 <= values.len() + 200, "{off} of {}", values.len());
            }
        }
    }

    #[test]
    fn greys_have_no_colour_and_white_and_black_their_levels() {
        for (level, luma) in [(0u16, 16), (65_535, 235), (32_768, 126)] {
            let bytes = chroma(8, 4, 8, 2, &[level; 8 * 4 * 3]);
            assert!(bytes[..32].iter().all(|b| *b == luma), "{level}: {:?}", &bytes[..4]);
            assert!(bytes[32..].iter().all(|b| *b == 128), "{level}: {:?}", &bytes[32..]);
        }
    }

    #[test]
    fn what_an_encoder_said_is_told_in_plain_words() {
        for (said, told) in [
            ("Unknown encoder 'libx265'", "this ffmpeg cannot write this codec; choose another one"),
            ("in.mp3: Invalid data found when processing input", "the file cannot be read as sound or video"),
            ("Stream map '1:a' matches no streams.", "the sound file has no sound in it"),
            ("first\nlast words \n\n", "ffmpeg said: last words"),
            ("", "ffmpeg said: it said nothing"),
        ] {
            assert_eq!(plain(said), told);
        }
        let full = refused("av_interleaved_write_frame(): No space left on device");
        assert!(matches!(full, MediaError::NoRoom { .. }), "{full}");
    }
}
