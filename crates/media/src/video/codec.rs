//! The codecs a clip may have, what they are good for, and how they are asked of ffmpeg.

use crate::MediaError;
use crate::video::bt709::chroma;
use crate::video::fail;
use rallo_engine::{Encoded, Pixels, Size};
use std::path::PathBuf;
use std::process::Command;

/// How frames are encoded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Codec {
    /// H.264 (ITU-T H.264) in MP4.
    H264,
    /// H.265 (ITU-T H.265) in MP4.
    H265,
    /// VP9 in WebM.
    Vp9,
    /// AV1 in MP4.
    Av1,
    /// 10-bit 4:2:2, every frame for itself (SMPTE RDD 36), in QuickTime.
    Intra,
    /// FFV1 (RFC 9043), lossless, in Matroska.
    Ffv1,
    /// GIF.
    Gif,
    /// Animated WebP.
    WebP,
}

impl Codec {
    /// The codec a recipe calls so.
    pub fn named(name: &str) -> Self {
        match name {
            "H.265" => Self::H265,
            "VP9" => Self::Vp9,
            "AV1" => Self::Av1,
            "intra 4:2:2" => Self::Intra,
            "FFV1" => Self::Ffv1,
            "GIF" => Self::Gif,
            "WebP" => Self::WebP,
            _ => Self::H264,
        }
    }

    pub(super) fn encoder(self) -> &'static str {
        match self {
            Self::H264 => "libx264",
            Self::H265 => "libx265",
            Self::Vp9 => "libvpx-vp9",
            Self::Av1 => "libsvtav1",
            Self::Intra => "prores_ks",
            Self::Ffv1 => "ffv1",
            Self::Gif => "gif",
            Self::WebP => "libwebp_anim",
        }
    }

    pub(super) fn container(self) -> &'static str {
        match self {
            Self::H264 | Self::H265 | Self::Av1 => "mp4",
            Self::Vp9 => "webm",
            Self::Intra => "mov",
            Self::Ffv1 => "matroska",
            Self::Gif => "gif",
            Self::WebP => "webp",
        }
    }

    pub(super) fn sound(self) -> Option<&'static [&'static str]> {
        match self {
            Self::H264 | Self::H265 | Self::Av1 => Some(&["aac", "-b:a", "192k"]),
            Self::Vp9 => Some(&["libopus", "-b:a", "160k"]),
            Self::Intra => Some(&["pcm_s16le"]),
            Self::Ffv1 => Some(&["flac"]),
            Self::Gif | Self::WebP => None,
        }
    }

    /// How samples go through the pipe, and what the encoder takes.
    pub(super) fn samples(self, depth: u8) -> (Samples, &'static str) {
        match (self, depth) {
            (Self::Intra, _) => (Samples::Chroma { bits: 10, rows: 1 }, "yuv422p10le"),
            (Self::Ffv1, 8) => (Samples::Rgb, "bgr0"),
            (Self::Ffv1, 10) => (Samples::Planes { bits: 10 }, "gbrp10le"),
            (Self::Ffv1, _) => (Samples::Planes { bits: 16 }, "gbrp16le"),
            (Self::Gif, _) => (Samples::Rgb, "pal8"),
            (Self::WebP, _) => (Samples::Rgb, "yuv420p"),
            (_, 10) => (Samples::Chroma { bits: 10, rows: 2 }, "yuv420p10le"),
            _ => (Samples::Chroma { bits: 8, rows: 2 }, "yuv420p"),
        }
    }

    /// Bits for each pixel of a frame at the ordinary quality, by which a size is told before. A rough guess, not measured:
    /// pictures differ from each other by more than that.
    fn bits_a_pixel(self, depth: u8) -> f64 {
        match self {
            Self::H264 => 0.16,
            Self::H265 | Self::Vp9 => 0.08,
            Self::Av1 => 0.06,
            Self::Intra => 4.4,
            Self::Ffv1 => f64::from(depth) * 1.6,
            Self::Gif => 4.0,
            Self::WebP => 0.6,
        }
    }
}

/// How samples lie in the pipe.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Samples {
    /// Y′CbCr in planes, a colour sample for two pixels of each `rows` rows.
    Chroma { bits: u8, rows: usize },
    /// RGB in planes (green, blue, red).
    Planes { bits: u8 },
    /// RGB of 8 bits, interleaved.
    Rgb,
}

impl Samples {
    pub(super) fn name(self) -> &'static str {
        match self {
            Self::Chroma { bits: 10, rows: 1 } => "yuv422p10le",
            Self::Chroma { bits: 10, .. } => "yuv420p10le",
            Self::Chroma { .. } => "yuv420p",
            Self::Planes { bits: 10 } => "gbrp10le",
            Self::Planes { .. } => "gbrp16le",
            Self::Rgb => "rgb24",
        }
    }
}

/// What a clip is to be.
#[derive(Clone, Debug, PartialEq)]
pub struct Clip {
    /// Pixels; even both ways for codecs with fewer colour samples.
    pub size: Size,
    /// Frames a second, as a fraction.
    pub rate: (u32, u32),
    /// How it is encoded.
    pub codec: Codec,
    /// 8, 10, or 16 (FFV1).
    pub depth: u8,
    /// 1 ..= 100; as the codec usually is without one.
    pub quality: Option<u32>,
    /// Bytes of the file to aim at.
    pub bytes: Option<u64>,
    /// Frames of one turn.
    pub frames: usize,
    /// How many of them differ from the one before.
    pub fresh: usize,
    /// How often it is played within the file.
    pub turns: u32,
    /// Seconds it comes up from black.
    pub fade_in: f64,
    /// Seconds it goes down to black.
    pub fade_out: f64,
    /// What is laid under it.
    pub sound: Option<PathBuf>,
    /// Its title.
    pub title: String,
}

impl Clip {
    /// Seconds of one turn.
    pub fn turn(&self) -> f64 {
        self.frames as f64 * f64::from(self.rate.1) / f64::from(self.rate.0)
    }

    /// Seconds in all.
    pub fn seconds(&self) -> f64 {
        self.turn() * f64::from(self.turns.max(1))
    }

    /// About how many bytes it will have.
    pub fn estimate(&self) -> u64 {
        let quality = f64::from(self.quality.unwrap_or(75));
        // A frame that stands still costs little where frames are told by what changed.
        let frames = match self.codec {
            Codec::Intra | Codec::Ffv1 => self.frames as f64,
            // Frames that are shown for long differ more than those that move.
            _ if self.frames >= 2 * self.fresh => self.fresh as f64 * 2.6 + 0.03 * self.frames as f64,
            _ => self.fresh as f64 + 0.03 * self.frames.saturating_sub(self.fresh) as f64,
        };
        let pixels = self.size.area() as f64 * frames * f64::from(self.turns.max(1));
        let scale = match self.codec {
            Codec::Intra | Codec::Ffv1 | Codec::Gif => 1.0,
            // Six steps of the quantiser halve the rate, and one of them is about three of quality.
            _ => 2f64.powf((quality - 75.0) / 18.0),
        };
        self.bytes.unwrap_or((pixels * self.codec.bits_a_pixel(self.depth) / 8.0 * scale) as u64)
    }

    /// A frame as it goes through the pipe.
    ///
    /// # Errors
    /// A picture of another size.
    pub fn raw(&self, picture: &Encoded) -> Result<Vec<u8>, MediaError> {
        if picture.size != self.size {
            let (a, b) = (picture.size, self.size);
            return Err(fail(format!(
                "a frame has {} × {} pixels, the clip {} × {}",
                a.width, a.height, b.width, b.height
            )));
        }
        let at = |i: usize| match &picture.pixels {
            Pixels::U8(v) => u16::from(v[i]) * 257,
            Pixels::U16(v) => v[i],
            Pixels::F32(v) => (v[i] * 65_535.0 + 0.5) as u16,
        };
        let (width, height) = (self.size.width as usize, self.size.height as usize);
        Ok(match self.codec.samples(self.depth).0 {
            Samples::Rgb => match &picture.pixels {
                Pixels::U8(v) => v.clone(),
                Pixels::U16(v) => v.iter().map(|s| ((u32::from(*s) + 128) / 257) as u8).collect(),
                Pixels::F32(v) => v.iter().map(|s| (s * 255.0 + 0.5) as u8).collect(),
            },
            Samples::Planes { bits } => {
                let most = (1u32 << bits) - 1;
                let scaled = |s: u16| ((u32::from(s) * most + 32_767) / 65_535) as u16;
                let plane = |c: usize| (0..width * height).map(move |i| i * 3 + c);
                [1, 2, 0].into_iter().flat_map(plane).flat_map(|i| scaled(at(i)).to_le_bytes()).collect()
            }
            Samples::Chroma { bits, rows } => match &picture.pixels {
                Pixels::U16(v) => chroma(width, height, bits, rows, v),
                _ => {
                    let wide: Vec<u16> = (0..width * height * 3).map(at).collect();
                    chroma(width, height, bits, rows, &wide)
                }
            },
        })
    }
}

impl Clip {
    /// What the encoder is told.
    pub(super) fn encoder(&self) -> Vec<String> {
        let mut filters: Vec<String> = Vec::new();
        let mut say = |words: &[&str]| filters.extend(words.iter().map(|w| (*w).to_owned()));
        let quality = self.quality.map(f64::from);
        // 1 ..= 100 on the codec's own scale, whose usual value is `usual`.
        let factor = |usual: u32, worst: f64, slope: f64| {
            quality.map_or(usual, |q| (worst - slope * q).round() as u32).to_string()
        };
        let seconds = self.turn().max(0.04);
        let sound = if self.sound.is_some() { 192_000.0 } else { 0.0 };
        // Containers need a little as well.
        let rate = self.bytes.map(|b| {
            let bits = b as f64 * 0.98 * 8.0 / f64::from(self.turns.max(1));
            (bits / seconds - sound).max(20_000.0) as u64
        });
        match self.codec {
            Codec::H264 => say(&["-preset", "medium"]),
            // It tells of itself among the errors otherwise; some players want the tag.
            Codec::H265 => say(&["-preset", "fast", "-tag:v", "hvc1", "-x265-params", "log-level=error"]),
            Codec::Vp9 => say(&["-deadline", "good", "-cpu-used", "3", "-row-mt", "1"]),
            Codec::Av1 => say(&["-preset", "8"]),
            Codec::Intra => say(&["-profile:v", "3"]),
            Codec::Ffv1 => say(&["-level", "3", "-slicecrc", "1"]),
            Codec::Gif => say(&["-loop", "0"]),
            Codec::WebP => say(&["-loop", "0", "-quality", &quality.unwrap_or(75.0).to_string()]),
        }
        match (self.codec, rate) {
            (Codec::H264 | Codec::H265 | Codec::Vp9 | Codec::Av1, Some(rate)) => {
                say(&["-b:v", &rate.to_string()]);
                if self.codec != Codec::Av1 {
                    say(&["-maxrate", &(rate * 2).to_string(), "-bufsize", &(rate * 4).to_string()]);
                }
            }
            (Codec::H264, None) => say(&["-crf", &factor(20, 45.0, 0.33)]),
            (Codec::H265, None) => say(&["-crf", &factor(24, 49.0, 0.33)]),
            (Codec::Vp9, None) => say(&["-b:v", "0", "-crf", &factor(30, 60.0, 0.4)]),
            (Codec::Av1, None) => say(&["-crf", &factor(32, 62.0, 0.4)]),
            _ => {}
        }
        filters
    }

    pub(super) fn lay_sound(&self, command: &mut Command) {
        let Some(words) = self.codec.sound() else { return };
        let mut filter = String::new();
        let seconds = self.seconds();
        if self.fade_out > 0.0 {
            let start = (seconds - self.fade_out).max(0.0);
            filter += &format!("afade=t=out:st={start:.6}:d={},", self.fade_out);
        }
        // Silence where the sound is shorter.
        filter += "apad";
        command.args(["-af", &filter, "-c:a"]).args(words).args(["-t", &format!("{seconds:.6}")]);
    }
}
