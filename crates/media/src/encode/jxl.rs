//! JPEG XL, written by its reference encoder as a program of its own.

use crate::MediaError;
use crate::encode::extras::{Extras, Interleaved};
use rallo_engine::{Encoded, OutputProfile, Pixels, Size};
use std::io::{BufWriter, ErrorKind, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::atomic::AtomicBool;

/// The encoder, of Debian's package libjxl-tools.
pub(super) const PROGRAM: &str = "cjxl";

pub(super) fn fail(message: impl ToString) -> MediaError {
    MediaError::Encode { format: "JPEG XL", message: message.to_string() }
}

/// One box: its length, kind and content (ISO/IEC 14496-12).
pub(super) fn boxed(kind: &[u8; 4], content: &[u8]) -> Vec<u8> {
    [&(content.len() as u32 + 8).to_be_bytes()[..], kind, content].concat()
}

/// Whether JPEG XL can be written here.
pub fn is_there() -> bool {
    static FOUND: AtomicBool = AtomicBool::new(false);
    crate::is_found(&FOUND, &[(PROGRAM, "--version")])
}

/// Where in a file of boxes the picture's code begins: behind the signature, the kind of file and its level.
pub(super) fn code_at(file: &[u8]) -> Option<usize> {
    let mut at = 0;
    while let Some((length, rest)) = file.get(at..)?.split_first_chunk::<4>() {
        if rest.starts_with(b"jxlc") || rest.starts_with(b"jxlp") {
            return Some(at);
        }
        at += (u32::from_be_bytes(*length) as usize).max(8);
    }
    None
}

/// The pixels as the simplest file there is: a few numbers, then the samples (netpbm's PPM, or PAM with how much is
/// covered).
pub(super) fn plain(picture: &Encoded, extras: &Extras, to: &Path) -> Result<(), MediaError> {
    let mut file = BufWriter::new(std::fs::File::create(to).map_err(fail)?);
    let Size { width, height } = picture.size;
    let covered = extras.with_coverage(picture);
    let is_covered = covered.is_some();
    let big_endian = |v: &[u16]| v.iter().flat_map(|s| s.to_be_bytes()).collect();
    let (most, samples) = match (covered, &picture.pixels) {
        (Some(Interleaved::U8(v)), _) => (255, v),
        (Some(Interleaved::U16(v)), _) => (65_535, big_endian(&v)),
        (None, Pixels::U8(v)) => (255, v.clone()),
        (None, Pixels::U16(v)) => (65_535, big_endian(v)),
        (_, Pixels::F32(_)) | (Some(Interleaved::F32(_)), _) => return Err(fail("floats were given")),
    };
    if is_covered {
        let head = format!("WIDTH {width}\nHEIGHT {height}\nDEPTH 4\nMAXVAL {most}\nTUPLTYPE RGB_ALPHA");
        write!(file, "P7\n{head}\nENDHDR\n").map_err(fail)?;
    } else {
        write!(file, "P6\n{width} {height}\n{most}\n").map_err(fail)?;
    }
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
    plain(picture, extras, &at("in.pam"))?;
    let mut command = Command::new(PROGRAM);
    command.arg(at("in.pam")).arg(at("out.jxl")).args(["--container=1", "--quiet"]);
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
        let complaint = String::from_utf8_lossy(&done.stderr);
        return Err(fail(complaint.lines().last().unwrap_or("the encoder gave up").trim()));
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
