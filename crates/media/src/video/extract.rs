//! Pictures out of a clip: its frames, one still, a small copy to play.

use crate::MediaError;
use crate::video::probe::probe;
use crate::video::{done, ffmpeg, file, input};
use std::path::{Path, PathBuf};

/// The folder that the frames of a clip go into: beside it, with its name.
pub fn frames_folder(path: &Path) -> PathBuf {
    let stem = path.file_stem().unwrap_or_default().to_string_lossy();
    path.with_file_name(format!("{stem} frames"))
}

/// Takes the frames of a clip out into a folder that is not there yet, as PNG, numbered from 1, every so-manieth one; the
/// folder appears when all are there. 16 bits where the clip has more than 8. Their number.
///
/// # Errors
/// As [`probe`]; what the program says; a folder that is there.
pub fn take_out(path: &Path, folder: &Path, every: u32) -> Result<usize, MediaError> {
    probe(path)?;
    let io = |path: &Path| {
        let path = path.to_owned();
        move |source| MediaError::Io { path, source }
    };
    if folder.exists() {
        let name = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
        return Err(MediaError::Unsupported(format!(
            "there is a folder {name} beside the clip already; take it as it is, or move it away"
        )));
    }
    let home = folder.parent().unwrap_or(Path::new("/"));
    let part = tempfile::Builder::new().prefix(".rallo-frames-").tempdir_in(home).map_err(io(home))?;
    let stem = path.file_stem().unwrap_or_default().to_string_lossy().replace('%', "-");
    let mut command = ffmpeg();
    input(&mut command, path);
    let filter = format!("select=not(mod(n\\,{}))", every.max(1));
    command.args(["-map", "0:v:0", "-vf", &filter, "-fps_mode", "passthrough"]);
    command.args(["-sws_flags", "accurate_rnd+full_chroma_int+bicubic", "-f", "image2"]);
    done(command.arg(file(&part.path().join(format!("{stem}-%06d.png"))))).map_err(|e| match e {
        MediaError::Encode { message, .. } => {
            MediaError::Unsupported(format!("the frames could not be taken out: {message}"))
        }
        other => other,
    })?;
    let count = std::fs::read_dir(part.path()).map_err(io(part.path()))?.count();
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(part.path(), std::fs::Permissions::from_mode(0o755)).map_err(io(folder))?;
    std::fs::rename(part.path(), folder).map_err(io(folder))?;
    // It has its name now and stays.
    let _ = part.keep();
    Ok(count)
}

/// The first frame of a clip as a JPEG, at most 960 pixels wide.
///
/// # Errors
/// As [`probe`].
pub fn still(path: &Path) -> Result<Vec<u8>, MediaError> {
    let mut command = ffmpeg();
    input(&mut command, path);
    command.args(["-map", "0:v:0", "-frames:v", "1", "-vf", "scale='min(960,iw)':-2"]);
    done(command.args(["-f", "image2pipe", "-c:v", "mjpeg", "-q:v", "3", "pipe:1"]))
}

/// A clip that every browser plays, of one that perhaps none does: VP9, at most 1280 pixels wide.
///
/// # Errors
/// As [`probe`].
pub fn proxy(path: &Path, to: &Path) -> Result<(), MediaError> {
    let mut command = ffmpeg();
    input(&mut command, path);
    command.args(["-map", "0:v:0", "-map", "0:a:0?", "-vf", "scale='min(1280,iw)':-2", "-c:v", "libvpx-vp9"]);
    command.args([
        "-pix_fmt",
        "yuv420p",
        "-deadline",
        "realtime",
        "-cpu-used",
        "6",
        "-row-mt",
        "1",
        "-b:v",
        "0",
        "-crf",
        "32",
    ]);
    done(command.args(["-c:a", "libopus", "-f", "webm"]).arg(file(to))).map(|_| ())
}
