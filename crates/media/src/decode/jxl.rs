//! JPEG XL (ISO/IEC 18181): read through `jxl-oxide`, written by libjxl's own program, as HEIC is read by libheif's. Camera
//! data and the result's mark stand in boxes before the picture (ISO/IEC 18181-2).

use crate::MediaError;
use crate::decode::MAX_PIXELS;
use crate::decode::image_crate::{Head, complaint};
use crate::encode::Extras;
use rallo_engine::{Encoded, OutputProfile, Pixels, Samples, Size};
use std::io::{BufWriter, Cursor, ErrorKind, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::atomic::AtomicBool;

/// The encoder, of Debian's package libjxl-tools.
const PROGRAM: &str = "cjxl";

fn fail(message: impl ToString) -> MediaError {
    MediaError::Encode { format: "JPEG XL", message: message.to_string() }
}

fn open(file: &[u8]) -> Result<jxl_oxide::JxlImage, MediaError> {
    // Four channels in float, and as much again to work in.
    let limit = jxl_oxide::AllocTracker::with_limit(MAX_PIXELS as usize * 32);
    jxl_oxide::JxlImage::builder()
        .alloc_tracker(limit)
        .read(Cursor::new(file))
        .map_err(|e| complaint(&e, file))
}

/// Size (upright: the decoder turns the picture), profile, depth and camera data of a JPEG XL file.
pub fn head(file: &[u8]) -> Result<(Head, Option<Vec<u8>>), MediaError> {
    let picture = open(file)?;
    let bits = picture.image_header().metadata.bit_depth.bits_per_sample().min(32) as u8;
    let size = Size::new(picture.width(), picture.height());
    let exif = match picture.aux_boxes().first_exif() {
        Ok(jxl_oxide::AuxBoxData::Data(raw)) => Some(raw.payload().to_vec()),
        _ => None,
    };
    Ok((Head { size, icc: Some(picture.rendered_icc()), bits }, exif))
}

/// The pixels of the first frame of a JPEG XL file.
pub fn decode(file: &[u8]) -> Result<(Size, Samples), MediaError> {
    let picture = open(file)?;
    let eight = picture.image_header().metadata.bit_depth.bits_per_sample() <= 8;
    let frame = picture.render_frame(0).map_err(|e| complaint(&e, file))?;
    let mut stream = frame.stream();
    let channels = stream.channels() as usize;
    let size = Size::new(stream.width(), stream.height());
    let mut all = vec![0f32; size.area() as usize * channels];
    stream.write_to_buffer(&mut all);
    let rgb: Vec<f32> = all
        .chunks_exact(channels.max(1))
        .flat_map(|p| match *p {
            [v] => [v; 3],
            [v, a] => [v * a + 1.0 - a; 3],
            [r, g, b] => [r, g, b],
            [r, g, b, a, ..] => [r, g, b].map(|v| v * a + 1.0 - a),
            [] => [0.0; 3],
        })
        .collect();
    let scaled = |max: f32| move |v: &f32| v.clamp(0.0, 1.0) * max + 0.5;
    Ok((
        size,
        if eight {
            Samples::U8(rgb.iter().map(scaled(255.0)).map(|v| v as u8).collect())
        } else {
            Samples::U16(rgb.iter().map(scaled(65_535.0)).map(|v| v as u16).collect())
        },
    ))
}

/// One box: its length, kind and content (ISO/IEC 14496-12).
fn boxed(kind: &[u8; 4], content: &[u8]) -> Vec<u8> {
    [&(content.len() as u32 + 8).to_be_bytes()[..], kind, content].concat()
}

/// Whether JPEG XL can be written here.
pub fn is_there() -> bool {
    static FOUND: AtomicBool = AtomicBool::new(false);
    crate::is_found(&FOUND, &[(PROGRAM, "--version")])
}

/// Where in a file of boxes the picture's code begins: behind the signature, the kind of file and its level.
fn code_at(file: &[u8]) -> Option<usize> {
    let mut at = 0;
    while let Some((length, rest)) = file.get(at..)?.split_first_chunk::<4>() {
        if rest.starts_with(b"jxlc") || rest.starts_with(b"jxlp") {
            return Some(at);
        }
        at += (u32::from_be_bytes(*length) as usize).max(8);
    }
    None
}

/// The pixels as the simplest file there is: a few numbers, then the samples (netpbm's PPM).
fn plain(picture: &Encoded, to: &Path) -> Result<(), MediaError> {
    let mut file = BufWriter::new(std::fs::File::create(to).map_err(fail)?);
    let Size { width, height } = picture.size;
    let (most, samples) = match &picture.pixels {
        Pixels::U8(v) => (255, v.clone()),
        Pixels::U16(v) => (65_535, v.iter().flat_map(|s| s.to_be_bytes()).collect()),
        Pixels::F32(_) => return Err(fail("floats were given")),
    };
    write!(file, "P6\n{width} {height}\n{most}\n").map_err(fail)?;
    file.write_all(&samples).map_err(fail)?;
    file.flush().map_err(fail)
}

/// Writes a picture of 8 or 16 bits; `quality` 1 ..= 100 about as JPEG's, nothing is lost without one.
///
/// # Errors
/// [`MediaError::Encode`], in plain words where the encoder is not installed.
pub fn encode(picture: &Encoded, quality: Option<u8>, extras: &Extras) -> Result<Vec<u8>, MediaError> {
    let folder = tempfile::tempdir().map_err(fail)?;
    let at = |name: &str| folder.path().join(name);
    plain(picture, &at("in.ppm"))?;
    let mut command = Command::new(PROGRAM);
    command.arg(at("in.ppm")).arg(at("out.jxl")).args(["--container=1", "--quiet"]);
    match quality {
        // At 100 nothing would be lost, in another way than is asked for.
        Some(quality) => command.arg(format!("--quality={}", quality.min(99))),
        None => command.arg("--distance=0"),
    };
    let threads = rayon::current_num_threads();
    command.arg(format!("--num_threads={}", if threads > 1 { threads } else { 0 }));
    match &extras.icc {
        Some(icc) if *icc != OutputProfile::Srgb.colour().icc => {
            std::fs::write(at("profile.icc"), icc).map_err(fail)?;
            command.arg("-x").arg(format!("icc_pathname={}", at("profile.icc").display()));
        }
        _ => {
            command.args(["-x", "color_space=RGB_D65_SRG_Rel_SRG"]);
        }
    }
    let done = command.stdin(Stdio::null()).output().map_err(|e| match e.kind() {
        ErrorKind::NotFound => fail("the program cjxl is not installed; on Debian: apt install libjxl-tools"),
        _ => fail(format!("cjxl does not start: {e}")),
    })?;
    let made = std::fs::read(at("out.jxl")).unwrap_or_default();
    let Some(code) = code_at(&made).filter(|_| done.status.success()) else {
        let said = String::from_utf8_lossy(&done.stderr);
        return Err(fail(said.lines().last().unwrap_or("the encoder gave up").trim()));
    };
    let mut file = made[..code].to_vec();
    if let Some(exif) = &extras.exif {
        // Before the block stands where in it the header begins.
        file.extend(boxed(b"Exif", &[&[0; 4], &exif[..]].concat()));
    }
    if let Some(made) = &extras.made {
        file.extend(boxed(b"xml ", made.xmp(&extras.words).as_bytes()));
    }
    file.extend(&made[code..]);
    Ok(file)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ramp(size: Size) -> impl Iterator<Item = u32> {
        (0..size.height).flat_map(move |y| {
            (0..size.width)
                .flat_map(move |x| [x * 65_535 / size.width, y * 65_535 / size.height, (x * y * 37) % 65_536])
        })
    }

    #[test]
    fn nothing_is_lost_in_eight_and_sixteen_bits_where_nothing_is_to_be_lost() {
        let size = Size::new(45, 31);
        let wide: Vec<u16> = ramp(size).map(|v| v as u16).collect();
        let eight: Vec<u8> = ramp(size).map(|v| (v >> 8) as u8).collect();
        let file =
            encode(&Encoded { size, pixels: Pixels::U8(eight.clone()) }, None, &Extras::default()).unwrap();
        let (back, Samples::U8(samples)) = decode(&file).unwrap() else { panic!() };
        assert!(back == size && samples == eight);
        let file =
            encode(&Encoded { size, pixels: Pixels::U16(wide.clone()) }, None, &Extras::default()).unwrap();
        let (back, Samples::U16(samples)) = decode(&file).unwrap() else { panic!() };
        assert!(back == size && samples == wide);
        assert_eq!(head(&file).unwrap().0.bits, 16);
    }

    #[test]
    fn less_quality_is_a_smaller_file_further_from_the_picture() {
        let size = Size::new(200, 140);
        let eight: Vec<u8> = ramp(size).map(|v| (v >> 8) as u8).collect();
        let picture = Encoded { size, pixels: Pixels::U8(eight.clone()) };
        let apart = |quality: u8| {
            let file = encode(&picture, Some(quality), &Extras::default()).unwrap();
            let (_, Samples::U8(back)) = decode(&file).unwrap() else { panic!() };
            let sum: u32 = back.iter().zip(&eight).map(|(a, b)| u32::from(a.abs_diff(*b))).sum();
            (file.len(), f64::from(sum) / eight.len() as f64)
        };
        let (fine, coarse) = (apart(95), apart(40));
        assert!(fine.0 > coarse.0 && fine.1 < coarse.1, "{fine:?} {coarse:?}");
        // 100 is no other way of working.
        assert_eq!(apart(100).0, apart(99).0);
    }

    #[test]
    fn camera_data_and_the_mark_are_found_again() {
        let size = Size::new(8, 8);
        let picture = Encoded { size, pixels: Pixels::U8(vec![90; 192]) };
        let camera = crate::CameraData {
            camera: Some("Marlow 24".into()),
            iso: Some(200),
            orientation: 1,
            ..Default::default()
        };
        let made = crate::Made { recipe: "ab".into(), source: "cd".into(), done: vec!["crop".into()] };
        let extras = Extras { exif: camera.write().ok(), made: Some(made.clone()), ..Extras::default() };
        let file = encode(&picture, Some(80), &extras).unwrap();
        assert_eq!(crate::Made::find(&file), Some(made));
        let (_, exif) = head(&file).unwrap();
        assert_eq!(crate::CameraData::read(&exif.unwrap()).iso, Some(200));
        assert!(encode(&Encoded { size, pixels: Pixels::F32(vec![0.5; 192]) }, None, &extras).is_err());
    }
}
