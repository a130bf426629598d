//! Clips: colours and tags as ITU-R BT.709 has them, read back by ffmpeg; what fails says why.

use rallo_engine::{Encoded, Pixels, Size};
use rallo_media::MediaError;
use rallo_media::video::{Clip, Codec, Recorder, probe, proxy, still, take_out};
use std::path::Path;
use std::process::Command;
use std::sync::Arc;

const SIZE: Size = Size { width: 320, height: 192 };

/// Patches of known colours, each 32 pixels square: a ramp of grey, then corners of the cube and tones between.
fn patches() -> Encoded {
    let columns = SIZE.width / 32;
    let colour = |n: u32| -> [u8; 3] {
        let grey = columns * 3;
        if n < grey {
            let v = (n * 255 / (grey - 1)) as u8;
            return [v; 3];
        }
        let k = n - grey;
        let levels = [0u8, 96, 255];
        [levels[(k % 3) as usize], levels[(k / 3 % 3) as usize], levels[(k / 9 % 3) as usize]]
    };
    let mut pixels = Vec::new();
    for y in 0..SIZE.height {
        for x in 0..SIZE.width {
            pixels.extend(colour((y / 32) * columns + x / 32).map(|v| u16::from(v) * 257));
        }
    }
    Encoded { size: SIZE, pixels: Pixels::U16(pixels) }
}

fn clip(codec: Codec, depth: u8) -> Clip {
    Clip {
        size: SIZE,
        rate: (25, 1),
        codec,
        depth,
        quality: Some(98),
        bytes: None,
        frames: 3,
        fresh: 1,
        turns: 1,
        fade_in: 0.0,
        fade_out: 0.0,
        sound: None,
        title: "Patches".into(),
    }
}

fn write(clip: &Clip, path: &Path) {
    let raw = Arc::new(clip.raw(&patches()).unwrap());
    let mut recorder = Recorder::start(clip.clone(), path).unwrap();
    for _ in 0..clip.frames {
        recorder.frame(raw.clone()).unwrap();
    }
    recorder.finish().unwrap();
}

/// The second frame as ffmpeg decodes it, 8-bit RGB.
fn decoded(path: &Path) -> Vec<u8> {
    let out = Command::new("ffmpeg")
        .args(["-v", "error", "-i"])
        .arg(path)
        .args([
            "-vf",
            "select=eq(n\\,1)",
            "-frames:v",
            "1",
            "-sws_flags",
            "accurate_rnd+full_chroma_int+full_chroma_inp",
        ])
        .args(["-f", "rawvideo", "-pix_fmt", "rgb24", "pipe:1"])
        .output()
        .unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    out.stdout
}

fn tags(path: &Path) -> String {
    let out = Command::new("ffprobe")
        .args(["-v", "error", "-count_frames", "-show_entries"])
        .args([
            "stream=codec_name,pix_fmt,color_range,color_space,color_transfer,color_primaries,nb_read_frames",
        ])
        .args(["-of", "csv=p=0"])
        .arg(path)
        .output()
        .unwrap();
    String::from_utf8_lossy(&out.stdout).trim().to_owned()
}

#[test]
fn greys_and_colours_come_back_within_two_levels() {
    let folder = tempfile::tempdir().unwrap();
    let want = patches();
    let Pixels::U16(want) = &want.pixels else { panic!() };
    for (codec, depth, name, format) in [
        (Codec::H264, 8, "a.mp4", "h264,yuv420p,tv,bt709,bt709,bt709,3"),
        (Codec::H264, 10, "b.mp4", "h264,yuv420p10le,tv,bt709,bt709,bt709,3"),
        (Codec::H265, 8, "c.mp4", "hevc,yuv420p,tv,bt709,bt709,bt709,3"),
        (Codec::H265, 10, "d.mp4", "hevc,yuv420p10le,tv,bt709,bt709,bt709,3"),
        (Codec::Vp9, 8, "e.webm", "vp9,yuv420p,tv,bt709,bt709,bt709,3"),
        (Codec::Av1, 8, "f.mp4", "av1,yuv420p,tv,bt709,bt709,bt709,3"),
        (Codec::Intra, 10, "g.mov", "prores,yuv422p10le,tv,bt709,bt709,bt709,3"),
        (Codec::Ffv1, 16, "h.mkv", "ffv1,gbrp16le,"),
        (Codec::Ffv1, 8, "i.mkv", "ffv1,bgr0,"),
        (Codec::Gif, 8, "j.gif", "gif,bgra,"),
    ] {
        let path = folder.path().join(name);
        write(&clip(codec, depth), &path);
        assert!(tags(&path).starts_with(format), "{name}: {}", tags(&path));
        let got = decoded(&path);
        // In the middle of each patch, away from where colours are shared with neighbours.
        // From 16 bits to 8 the other program rounds in its own way.
        let most = match (codec, depth) {
            (Codec::Ffv1, 8) => 0,
            (Codec::Ffv1, _) => 1,
            _ => 2,
        };
        for y in (16..SIZE.height as usize).step_by(32) {
            for x in (16..SIZE.width as usize).step_by(32) {
                for c in 0..3 {
                    let i = (y * SIZE.width as usize + x) * 3 + c;
                    let (a, b) = (i32::from(got[i]), i32::from(want[i] / 257));
                    assert!((a - b).abs() <= most, "{name} at {x}, {y}: {a} instead of {b} in channel {c}");
                }
            }
        }
    }
}

#[test]
fn a_clip_is_as_long_and_as_large_as_asked() {
    let folder = tempfile::tempdir().unwrap();
    // A tone, half a second long, under a clip of two seconds in two turns.
    let sound = folder.path().join("tone.wav");
    let made = Command::new("ffmpeg")
        .args(["-v", "error", "-f", "lavfi", "-i", "sine=frequency=440:duration=0.5", "-y"])
        .arg(&sound)
        .status()
        .unwrap();
    assert!(made.success());
    let path = folder.path().join("turns.mp4");
    let turns = Clip {
        frames: 25,
        turns: 2,
        sound: Some(sound),
        fade_in: 0.2,
        fade_out: 0.2,
        ..clip(Codec::H264, 8)
    };
    write(&turns, &path);
    let facts = probe(&path).unwrap();
    assert_eq!((facts.width, facts.height, facts.frames, facts.rate), (320, 192, 50, (25, 1)));
    assert!((facts.seconds - 2.0).abs() < 0.05, "{facts:?}");
    let streams = Command::new("ffprobe")
        .args(["-v", "error", "-show_entries", "stream=codec_name,duration", "-of", "csv=p=0"])
        .arg(&path)
        .output()
        .unwrap();
    let streams = String::from_utf8_lossy(&streams.stdout).into_owned();
    let sound = streams.lines().find(|l| l.starts_with("aac")).unwrap_or_else(|| panic!("{streams}"));
    let length: f64 = sound.split(',').nth(1).unwrap().parse().unwrap();
    assert!((length - 2.0).abs() < 0.06, "{streams}");
    // It comes up from black and goes down to it.
    let first = still(&path).unwrap();
    assert!(first.starts_with(&[0xff, 0xd8]));

    // A size to aim at: moving noise that would be larger by itself.
    let aimed = Clip { frames: 100, bytes: Some(400_000), ..clip(Codec::H264, 8) };
    let path = folder.path().join("aimed.mp4");
    let mut recorder = Recorder::start(aimed.clone(), &path).unwrap();
    for n in 0..100u32 {
        let noise = |i: u32| {
            let mut x = i.wrapping_mul(0x9e37_79b9) ^ n.wrapping_mul(0x85eb_ca6b);
            x = (x ^ (x >> 15)).wrapping_mul(0x2c1b_3c6d);
            (20_000 + (x >> 12) % 20_000) as u16
        };
        let pixels = (0..SIZE.width * SIZE.height * 3).map(noise).collect();
        let picture = Encoded { size: SIZE, pixels: Pixels::U16(pixels) };
        recorder.frame(Arc::new(aimed.raw(&picture).unwrap())).unwrap();
    }
    recorder.finish().unwrap();
    let bytes = path.metadata().unwrap().len();
    assert!((300_000..=480_000).contains(&bytes), "{bytes}");
}

#[test]
fn frames_go_in_and_come_out() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("bed.mkv");
    write(&clip(Codec::Ffv1, 16), &path);
    let to = folder.path().join("bed frames");
    assert_eq!(take_out(&path, &to, 1).unwrap(), 3);
    let source = rallo_media::FileSource::open(&to.join("bed-000002.png")).unwrap();
    assert_eq!(source.facts(Path::new("x.png")).bits, 16);
    use rallo_engine::Source;
    let picture = source.level(0).unwrap();
    let rallo_engine::Samples::U16(got) = picture.samples() else { panic!("not 16 bits") };
    let Pixels::U16(want) = patches().pixels else { panic!() };
    assert_eq!(*got, want);
    // Not over what is there.
    let error = take_out(&path, &to, 1).unwrap_err().to_string();
    assert!(error.contains("bed frames") && error.contains("already"), "{error}");
    let every = folder.path().join("every");
    assert_eq!(take_out(&path, &every, 2).unwrap(), 2);
    let stand_in = folder.path().join("p.webm");
    proxy(&path, &stand_in).unwrap();
    assert_eq!(probe(&stand_in).unwrap().codec, "vp9");
}

#[test]
fn what_is_wrong_is_said() {
    let folder = tempfile::tempdir().unwrap();
    let text = folder.path().join("notes.mp4");
    std::fs::write(&text, "no clip").unwrap();
    let error = probe(&text).unwrap_err();
    assert!(matches!(&error, MediaError::Unsupported(m) if m.contains("cannot be read")), "{error}");
    // Nor is a list that leads to other files opened.
    let list = folder.path().join("list.mp4");
    std::fs::write(&list, format!("#EXTM3U\n#EXTINF:1,\n{}\n", text.display())).unwrap();
    assert!(probe(&list).is_err());
    assert!(take_out(&text, &folder.path().join("f"), 1).is_err());
    assert!(!folder.path().join("f").exists());
    let missing = Clip { sound: Some(folder.path().join("none.wav")), ..clip(Codec::H264, 8) };
    let path = folder.path().join("x.mp4");
    let raw = Arc::new(missing.raw(&patches()).unwrap());
    let error = Recorder::start(missing, &path)
        .and_then(|mut r| {
            (0..200).try_for_each(|_| r.frame(raw.clone()))?;
            r.finish()
        })
        .unwrap_err()
        .to_string();
    assert!(error.contains("none.wav") || error.contains("No such file"), "{error}");
    let other = Encoded { size: Size::new(2, 2), pixels: Pixels::U8(vec![0; 12]) };
    let error = clip(Codec::H264, 8).raw(&other).unwrap_err().to_string();
    assert!(error.contains("2 × 2 pixels, the clip 320 × 192"), "{error}");
}
