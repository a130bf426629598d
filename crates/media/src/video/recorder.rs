//! Writing a clip: frames are handed to ffmpeg through a pipe.

use crate::MediaError;
use crate::video::bt709::COLOURS;
use crate::video::codec::{Clip, Codec, Samples};
use crate::video::{done, fail, ffmpeg, file, input, listen, refused, started};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::sync::Arc;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::JoinHandle;

/// Frames that wait for the program that takes them.
pub(super) const ON_THEIR_WAY: usize = 3;

/// Frames on their way, and what hands them on beside everything else.
pub(super) type HandingOn = (SyncSender<Arc<Vec<u8>>>, JoinHandle<std::io::Result<()>>);

/// A clip that is being written. When it is dropped unfinished, the program that writes it is ended.
pub struct Recorder {
    pub(super) child: Child,
    pub(super) pipe: Option<HandingOn>,
    pub(super) complaint: Option<JoinHandle<String>>,
    clip: Clip,
    pub(super) path: PathBuf,
    /// Where one turn goes, if there are several.
    pub(super) turn: Option<tempfile::TempPath>,
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
        let complaint = listen(&mut child);
        let pipe = child.stdin.take().map(|mut pipe| {
            let (give, take) = sync_channel::<Arc<Vec<u8>>>(ON_THEIR_WAY);
            let hand_on = move || take.into_iter().try_for_each(|frame| pipe.write_all(&frame));
            (give, std::thread::spawn(hand_on))
        });
        Ok(Self { child, pipe, complaint, clip, path: path.into(), turn })
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
        let complaint = self.complaint.take().and_then(|s| s.join().ok()).unwrap_or_default();
        let e = broken.err().map_or_else(|| "it ended too soon".to_owned(), |e| e.to_string());
        Err(if complaint.trim().is_empty() { fail(e) } else { refused(&complaint) })
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
        let complaint = self.complaint.take().and_then(|s| s.join().ok()).unwrap_or_default();
        if !status.success() {
            return Err(refused(&complaint));
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
