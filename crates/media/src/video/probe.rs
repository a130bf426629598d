//! What a clip is: size, rate, length, codec.

use crate::MediaError;
use crate::video::{CONTAINERS, done, file};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::Path;
use std::process::Command;

/// What is known about a clip on the disk.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ClipFacts {
    /// Pixels per row.
    pub width: u32,
    /// Rows.
    pub height: u32,
    /// Frames.
    pub frames: u64,
    /// Frames a second, as a fraction.
    pub rate: (u32, u32),
    /// Seconds.
    pub seconds: f64,
    /// The codec, as ffmpeg names it.
    pub codec: String,
}

/// Whether a file's ending is one of a clip.
pub fn has_clip_ending(path: &Path) -> bool {
    let ending = path.extension().and_then(|e| e.to_str()).unwrap_or_default().to_ascii_lowercase();
    ["mp4", "m4v", "mov", "webm", "mkv", "avi", "mts", "m2ts", "mpg", "mpeg", "ogv"]
        .contains(&ending.as_str())
}

/// Looks at a clip.
///
/// # Errors
/// [`MediaError::Unsupported`] where it is none, with a reason.
pub fn probe(path: &Path) -> Result<ClipFacts, MediaError> {
    std::fs::File::open(path).map_err(|e| MediaError::Io { path: path.into(), source: e })?;
    let mut command = Command::new("ffprobe");
    command.args([
        "-v",
        "error",
        "-protocol_whitelist",
        "file,pipe",
        "-format_whitelist",
        CONTAINERS,
        "-select_streams",
        "v:0",
        "-of",
        "json",
    ]);
    command.args([
        "-show_entries",
        "stream=width,height,nb_frames,r_frame_rate,avg_frame_rate,codec_name,duration:format=duration",
    ]);
    let none = |why: String| MediaError::Unsupported(format!("this clip cannot be read: {why}"));
    let out = done(command.arg(file(path))).map_err(|e| match e {
        MediaError::Encode { message, .. } => none(message),
        other => other,
    })?;
    #[derive(Deserialize)]
    struct Stream {
        width: Option<u32>,
        height: Option<u32>,
        nb_frames: Option<String>,
        r_frame_rate: Option<String>,
        avg_frame_rate: Option<String>,
        codec_name: Option<String>,
        duration: Option<String>,
    }
    #[derive(Deserialize)]
    struct Container {
        duration: Option<String>,
    }
    #[derive(Deserialize)]
    struct Told {
        #[serde(default)]
        streams: Vec<Stream>,
        format: Option<Container>,
    }
    let answer: Told = serde_json::from_slice(&out).map_err(|e| none(e.to_string()))?;
    let Some(stream) = answer.streams.into_iter().next() else {
        return Err(none("it has no pictures".into()));
    };
    let fraction = |text: &Option<String>| {
        let (n, d) = text.as_deref()?.split_once('/')?;
        Some((n.parse().ok()?, d.parse().ok()?)).filter(|(n, d): &(u32, u32)| *n > 0 && *d > 0)
    };
    let rate = fraction(&stream.avg_frame_rate).or_else(|| fraction(&stream.r_frame_rate)).unwrap_or((25, 1));
    let seconds = |text: Option<String>| text.and_then(|t| t.parse::<f64>().ok());
    let seconds = seconds(stream.duration).or(seconds(answer.format.and_then(|f| f.duration))).unwrap_or(0.0);
    let counted = stream.nb_frames.and_then(|n| n.parse().ok());
    Ok(ClipFacts {
        width: stream.width.unwrap_or(0),
        height: stream.height.unwrap_or(0),
        frames: counted.unwrap_or((seconds * f64::from(rate.0) / f64::from(rate.1)).round() as u64),
        rate,
        seconds,
        codec: stream.codec_name.unwrap_or_default(),
    })
}
