//! Clips: written and read by `ffmpeg`, a program of its own, through a pipe; no frame is kept on the disk.
//!
//! Frames leave as Y′CbCr of ITU-R BT.709 (narrow range, colour samples sited left as H.264 and H.265 expect) or, for
//! codecs that take them, as RGB. What is sRGB stays as it is encoded: BT.709's tags say which primaries and which matrix,
//! and every player shows such a clip as it shows an sRGB picture. 10-bit codecs get 10 bits, FFV1 up to 16.

use crate::MediaError;
use multiversion::multiversion;
use rallo_engine::{Encoded, Pixels, Size};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::JoinHandle;

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

    fn encoder(self) -> &'static str {
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

    fn container(self) -> &'static str {
        match self {
            Self::H264 | Self::H265 | Self::Av1 => "mp4",
            Self::Vp9 => "webm",
            Self::Intra => "mov",
            Self::Ffv1 => "matroska",
            Self::Gif => "gif",
            Self::WebP => "webp",
        }
    }

    fn sound(self) -> Option<&'static [&'static str]> {
        match self {
            Self::H264 | Self::H265 | Self::Av1 => Some(&["aac", "-b:a", "192k"]),
            Self::Vp9 => Some(&["libopus", "-b:a", "160k"]),
            Self::Intra => Some(&["pcm_s16le"]),
            Self::Ffv1 => Some(&["flac"]),
            Self::Gif | Self::WebP => None,
        }
    }

    /// How samples go through the pipe, and what the encoder takes.
    fn samples(self, depth: u8) -> (Samples, &'static str) {
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
enum Samples {
    /// Y′CbCr in planes, a colour sample for two pixels of each `rows` rows.
    Chroma { bits: u8, rows: usize },
    /// RGB in planes (green, blue, red).
    Planes { bits: u8 },
    /// RGB of 8 bits, interleaved.
    Rgb,
}

impl Samples {
    fn name(self) -> &'static str {
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

/// Values 0 ..= 255 as samples of so many bits, those of more than 8 in two bytes. What lies beyond the range becomes its end.
#[inline(always)]
fn put(bits: u8, values: &[f32], to: &mut [u8]) {
    let most = f32::from((1u16 << bits) - 1);
    let scale = f32::from(1u16 << (bits - 8));
    // Sound: the limits leave what the type holds; `max` first turns NaN into 0.
    let level =
        |value: f32| -> i32 { unsafe { (value * scale + 0.5).max(0.0).min(most).to_int_unchecked() } };
    if bits == 8 {
        for (to, value) in to.iter_mut().zip(values) {
            *to = level(*value) as u8;
        }
    } else {
        for (to, value) in to.as_chunks_mut::<2>().0.iter_mut().zip(values) {
            *to = (level(*value) as u16).to_le_bytes();
        }
    }
}

/// Rows of a picture that have one row of colours together, and room for what is computed on the way.
struct Band {
    luma: Vec<f32>,
    /// Sums over the rows of B′ − Y′ and R′ − Y′, with a column more on the left.
    blue: Vec<f32>,
    red: Vec<f32>,
    colours: Vec<f32>,
}

impl Band {
    fn new(width: usize) -> Self {
        let zeros = |n: usize| vec![0f32; n];
        Self { luma: zeros(width), blue: zeros(width + 1), red: zeros(width + 1), colours: zeros(width / 2) }
    }
}

/// A band of interleaved samples into its rows of luma and its two rows of colours.
#[multiversion(targets(
    "x86_64+avx512f+avx512vl+avx512dq+avx512bw",
    "x86_64+avx2",
    "x86_64+sse4.1",
    "aarch64+neon"
))]
fn separate(
    samples: &[u16],
    bits: u8,
    band: &mut Band,
    y_rows: &mut [u8],
    b_row: &mut [u8],
    r_row: &mut [u8],
) {
    let width = band.luma.len();
    let bytes = if bits > 8 { 2 } else { 1 };
    band.blue.fill(0.0);
    band.red.fill(0.0);
    for (row, y_row) in samples.chunks_exact(3 * width).zip(y_rows.chunks_exact_mut(width * bytes)) {
        let pixels = row.as_chunks::<3>().0;
        let (blue, red, luma) =
            (&mut band.blue[1..][..width], &mut band.red[1..][..width], &mut band.luma[..width]);
        for (i, pixel) in pixels.iter().enumerate().take(width) {
            let [r, g, b] = [0, 1, 2].map(|c| f32::from(pixel[c]) * (1.0 / 65_535.0));
            let y = 0.2126 * r + 0.7152 * g + 0.0722 * b;
            luma[i] = 16.0 + 219.0 * y;
            blue[i] += b - y;
            red[i] += r - y;
        }
        put(bits, luma, y_row);
    }
    (band.blue[0], band.red[0]) = (band.blue[1], band.red[1]);
    let share = 0.25 * width as f32 * 3.0 / samples.len() as f32;
    for (plane, sums, most) in [(b_row, &band.blue, 1.8556f32), (r_row, &band.red, 1.5748)] {
        // Sited on the even column: a quarter, a half, a quarter.
        for (x, colour) in band.colours.iter_mut().enumerate() {
            let mean = (sums[2 * x] + 2.0 * sums[2 * x + 1] + sums[2 * x + 2]) * share;
            *colour = 128.0 + 224.0 / most * mean;
        }
        put(bits, &band.colours, plane);
    }
}

/// Y′CbCr of ITU-R BT.709-6, items 3.2 to 3.5, from interleaved R′G′B′ samples 0 ..= 65 535.
fn chroma(width: usize, height: usize, bits: u8, rows: usize, samples: &[u16]) -> Vec<u8> {
    let bytes = if bits > 8 { 2 } else { 1 };
    let (luma, half) = (width * height, width / 2);
    let small = half * (height / rows);
    let mut out = vec![0u8; (luma + 2 * small) * bytes];
    let (y_plane, colours) = out.split_at_mut(luma * bytes);
    let (b_plane, r_plane) = colours.split_at_mut(small * bytes);
    y_plane
        .par_chunks_mut(width * rows * bytes)
        .zip(b_plane.par_chunks_mut(half * bytes))
        .zip(r_plane.par_chunks_mut(half * bytes))
        .zip(samples.par_chunks(width * rows * 3))
        .for_each_init(
            || Band::new(width),
            |band, (((y_rows, b_row), r_row), samples)| separate(samples, bits, band, y_rows, b_row, r_row),
        );
    out
}

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

/// What ffmpeg said, as people say it.
fn plain(said: &str) -> String {
    let has = |text: &str| said.contains(text);
    if has("No space left on device") {
        return "there is no room left".into();
    }
    if has("Unknown encoder") {
        return "this ffmpeg cannot write this codec; choose another one".into();
    }
    if has("Invalid data found when processing input") {
        return "the file cannot be read as sound or video".into();
    }
    if has("matches no streams") {
        return "the sound file has no sound in it".into();
    }
    let last = said.lines().rev().find(|l| !l.trim().is_empty()).unwrap_or("it said nothing");
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

/// Frames that wait for the program that takes them.
const ON_THEIR_WAY: usize = 3;

/// Frames on their way, and what hands them on beside everything else.
type HandingOn = (SyncSender<Arc<Vec<u8>>>, JoinHandle<std::io::Result<()>>);

/// A clip that is being written. When it is dropped unfinished, the program that writes it is ended.
pub struct Recorder {
    child: Child,
    pipe: Option<HandingOn>,
    said: Option<JoinHandle<String>>,
    clip: Clip,
    path: PathBuf,
    /// Where one turn goes, if there are several.
    turn: Option<tempfile::TempPath>,
}

impl Recorder {
    /// Begins a clip at `path`, written over what is there.
    ///
    /// # Errors
    /// [`MediaError::Encode`].
    pub fn start(clip: Clip, path: &Path) -> Result<Self, MediaError> {
        // Beside it and named like it, so that what a killed program leaves is known.
        let beside = path.with_extension("turn.part");
        let turn = (clip.turns > 1).then(|| tempfile::TempPath::try_from_path(&beside)).transpose();
        let turn = turn.map_err(|source| MediaError::Io { path: beside, source })?;
        let mut command = ffmpeg();
        let (samples, to) = clip.codec.samples(clip.depth);
        let (n, d) = clip.rate;
        let size = format!("{}x{}", clip.size.width, clip.size.height);
        command.args(["-f", "rawvideo", "-pix_fmt", samples.name(), "-s", &size]);
        command.args(["-framerate", &format!("{n}/{d}")]);
        let is_chroma = matches!(samples, Samples::Chroma { .. });
        if is_chroma {
            command.args(COLOURS);
        }
        command.args(["-i", "pipe:0"]);
        let sound = clip.sound.as_ref().filter(|_| turn.is_none() && clip.codec.sound().is_some());
        if let Some(sound) = sound {
            input(&mut command, sound);
            command.args(["-map", "0:v:0", "-map", "1:a:0"]);
        }
        let mut filters = Vec::new();
        if clip.fade_in > 0.0 {
            filters.push(format!("fade=t=in:st=0:d={}", clip.fade_in));
        }
        if clip.fade_out > 0.0 {
            filters.push(format!(
                "fade=t=out:st={:.6}:d={}",
                (clip.turn() - clip.fade_out).max(0.0),
                clip.fade_out
            ));
        }
        if clip.codec == Codec::Gif {
            // Colours of the whole clip, those that change the most.
            filters.push(
                "split[a][b];[a]palettegen=stats_mode=diff[p];[b][p]paletteuse=dither=sierra2_4a".into(),
            );
        }
        if !filters.is_empty() {
            command.args(["-vf", &filters.join(",")]);
        }
        command.args(["-c:v", clip.codec.encoder()]);
        if clip.codec != Codec::Gif {
            command.args(["-pix_fmt", to]);
        }
        command.args(clip.encoder());
        if is_chroma {
            command.args(COLOURS);
        }
        if sound.is_some() {
            clip.lay_sound(&mut command);
        }
        command.args(["-metadata", &format!("title={}", clip.title)]);
        if clip.codec.container() == "mp4" {
            command.args(["-movflags", "+faststart"]);
        }
        command.args(["-f", clip.codec.container()]);
        command.arg(file(turn.as_deref().unwrap_or(path)));
        command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped());
        let mut child = command.spawn().map_err(|e| started(&e))?;
        let said = listen(&mut child);
        let pipe = child.stdin.take().map(|mut pipe| {
            let (give, take) = sync_channel::<Arc<Vec<u8>>>(ON_THEIR_WAY);
            let hand_on = move || take.into_iter().try_for_each(|frame| pipe.write_all(&frame));
            (give, std::thread::spawn(hand_on))
        });
        Ok(Self { child, pipe, said, clip, path: path.into(), turn })
    }

    /// The program's number, to let others go first.
    pub fn process(&self) -> u32 {
        self.child.id()
    }

    /// Adds a frame as [`Clip::raw`] makes it; waits where several are on their way already.
    ///
    /// # Errors
    /// [`MediaError::Encode`] where the program has ended, with what it said.
    pub fn frame(&mut self, raw: Arc<Vec<u8>>) -> Result<(), MediaError> {
        let Some((frames, _)) = &self.pipe else { return Err(fail("the clip is ended")) };
        if frames.send(raw).is_ok() {
            return Ok(());
        }
        let broken = self.close();
        let _ = self.child.wait();
        let said = self.said.take().and_then(|s| s.join().ok()).unwrap_or_default();
        let e = broken.err().map_or_else(|| "it ended too soon".to_owned(), |e| e.to_string());
        Err(fail(if said.trim().is_empty() { e } else { plain(&said) }))
    }

    /// Lets the frames on their way go by, and ends the pipe.
    fn close(&mut self) -> std::io::Result<()> {
        let Some((frames, writer)) = self.pipe.take() else { return Ok(()) };
        drop(frames);
        writer.join().unwrap_or_else(|_| Err(std::io::Error::other("the frames could not be handed on")))
    }

    /// Ends the clip; its file is complete then.
    ///
    /// # Errors
    /// As [`frame`](Self::frame).
    pub fn finish(mut self) -> Result<(), MediaError> {
        // What is wrong with it the program tells itself.
        let _ = self.close();
        let status = self.child.wait().map_err(fail)?;
        let said = self.said.take().and_then(|s| s.join().ok()).unwrap_or_default();
        if !status.success() {
            return Err(fail(plain(&said)));
        }
        let Some(turn) = self.turn.take() else { return Ok(()) };
        let mut command = ffmpeg();
        let more = (self.clip.turns - 1).to_string();
        command.args(["-stream_loop", &more]);
        input(&mut command, &turn);
        let sound = self.clip.sound.as_ref().filter(|_| self.clip.codec.sound().is_some());
        if let Some(sound) = sound {
            input(&mut command, sound);
            command.args(["-map", "0:v:0", "-map", "1:a:0"]);
        }
        command.args(["-c:v", "copy"]);
        if sound.is_some() {
            self.clip.lay_sound(&mut command);
        }
        command.args(["-metadata", &format!("title={}", self.clip.title)]);
        if self.clip.codec.container() == "mp4" {
            command.args(["-movflags", "+faststart"]);
        }
        command.args(["-f", self.clip.codec.container()]).arg(file(&self.path));
        done(&mut command).map(|_| ())
    }
}

impl Drop for Recorder {
    fn drop(&mut self) {
        if self.pipe.is_some() {
            // It has ended already where this fails; then nobody reads the frames on their way.
            let _ = self.child.kill();
            let _ = self.close();
        }
        let _ = self.child.wait();
    }
}

/// Tags of ITU-R BT.709 in narrow range.
const COLOURS: [&str; 8] =
    ["-color_range", "tv", "-colorspace", "bt709", "-color_primaries", "bt709", "-color_trc", "bt709"];

/// Runs a call to its end; what it wrote to its output.
fn done(command: &mut Command) -> Result<Vec<u8>, MediaError> {
    let out = command.stdin(Stdio::null()).output().map_err(|e| started(&e))?;
    if out.status.success() {
        Ok(out.stdout)
    } else {
        Err(fail(plain(&String::from_utf8_lossy(&out.stderr))))
    }
}

impl Clip {
    /// What the encoder is told.
    fn encoder(&self) -> Vec<String> {
        let mut all: Vec<String> = Vec::new();
        let mut say = |words: &[&str]| all.extend(words.iter().map(|w| (*w).to_owned()));
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
        all
    }

    fn lay_sound(&self, command: &mut Command) {
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

/// What is known about a clip on the disk.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
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
    let told: Told = serde_json::from_slice(&out).map_err(|e| none(e.to_string()))?;
    let Some(stream) = told.streams.into_iter().next() else { return Err(none("it has no pictures".into())) };
    let fraction = |text: &Option<String>| {
        let (n, d) = text.as_deref()?.split_once('/')?;
        Some((n.parse().ok()?, d.parse().ok()?)).filter(|(n, d): &(u32, u32)| *n > 0 && *d > 0)
    };
    let rate = fraction(&stream.avg_frame_rate).or_else(|| fraction(&stream.r_frame_rate)).unwrap_or((25, 1));
    let seconds = |text: Option<String>| text.and_then(|t| t.parse::<f64>().ok());
    let seconds = seconds(stream.duration).or(seconds(told.format.and_then(|f| f.duration))).unwrap_or(0.0);
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

#[cfg(test)]
mod tests {
    use super::*;

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
            ("av_interleaved_write_frame(): No space left on device", "there is no room left"),
            ("Unknown encoder 'libx265'", "this ffmpeg cannot write this codec; choose another one"),
            ("in.mp3: Invalid data found when processing input", "the file cannot be read as sound or video"),
            ("Stream map '1:a' matches no streams.", "the sound file has no sound in it"),
            ("first\nlast words \n\n", "ffmpeg said: last words"),
            ("", "ffmpeg said: it said nothing"),
        ] {
            assert_eq!(plain(said), told);
        }
    }
}
