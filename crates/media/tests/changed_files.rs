//! Files of every kind with parts of them changed: each is read or refused, and no decoder falls over.
//!
//! A few hundred of each kind with every run of the tests. Many more where they are asked for, with the kinds by name:
//! `RALLO_CHANGED=1000000 RALLO_KINDS=raw,webp cargo test -p rallo-media --test changed_files`. What fell over is kept in the
//! system's folder for temporary files, and named; so is what is being read (`changed-at-work-…`), which tells what ended
//! the whole program, or used up the memory that `ulimit -v` allows.

use rallo_media::{FileSource, Format};
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Numbers that decoders take for lengths, offsets and counts.
const ODD: [u32; 10] = [0, 1, 7, 0x7f, 0xff, 0x7fff, 0xffff, 0x0001_0000, 0x7fff_ffff, 0xffff_ffff];

/// The same numbers every time for a seed.
struct Chance(u64);

impl Chance {
    fn next(&mut self, below: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) % below.max(1) as u64) as usize
    }

    /// A place in a file: as often in its first bytes as anywhere.
    fn place(&mut self, file: &[u8]) -> usize {
        let reach = if self.next(2) == 0 { file.len().min(600) } else { file.len() };
        self.next(reach)
    }
}

fn changed(file: &[u8], other: &[u8], chance: &mut Chance) -> Vec<u8> {
    let mut out = file.to_vec();
    for _ in 0..=chance.next(6) {
        if out.len() < 8 {
            break;
        }
        let at = chance.place(&out);
        match chance.next(9) {
            0 | 1 => out[at] = chance.next(256) as u8,
            2 => out[at] ^= 1 << chance.next(8),
            3 | 4 => {
                let number = ODD[chance.next(ODD.len())];
                let (wide, little) = (chance.next(2) == 0, chance.next(2) == 0);
                let bytes = if little { number.to_le_bytes() } else { number.to_be_bytes() };
                let bytes = if wide {
                    &bytes[..]
                } else if little {
                    &bytes[..2]
                } else {
                    &bytes[2..]
                };
                for (to, byte) in out[at..].iter_mut().zip(bytes) {
                    *to = *byte;
                }
            }
            5 => {
                let count = (1 + chance.next(64)).min(out.len() - at);
                out.drain(at..at + count);
            }
            6 => {
                let from = chance.next(other.len());
                let count = (1 + chance.next(64)).min(other.len() - from);
                let piece = other[from..from + count].to_vec();
                out.splice(at..at, piece);
            }
            7 => {
                let from = chance.next(other.len());
                for (to, byte) in out[at..].iter_mut().zip(&other[from..]).take(1 + chance.next(64)) {
                    *to = *byte;
                }
            }
            _ => out.truncate(at.max(8)),
        }
    }
    out
}

/// Why a file is one that no decoder may fall over: what was said where one did.
fn fell_over(file: Vec<u8>) -> Option<String> {
    let said = |e: rallo_media::MediaError| e.to_string();
    let source = match FileSource::from_bytes(file) {
        Ok(source) => source,
        Err(e) => return Some(said(e)).filter(|text| text.contains("please report this")),
    };
    let _ = source.facts(Path::new("x"));
    // More pixels only take longer.
    if source.decoded_bytes(0) >= 4_000_000 {
        return None;
    }
    let told = source.decode(0).err().map(said);
    told.filter(|text| text.contains("please report this"))
}

fn by_kind() -> BTreeMap<String, Vec<Vec<u8>>> {
    let tests = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests");
    let mut kinds: BTreeMap<String, Vec<Vec<u8>>> = BTreeMap::new();
    for folder in ["pictures", "formats"] {
        let mut paths: Vec<_> =
            std::fs::read_dir(tests.join(folder)).unwrap().map(|e| e.unwrap().path()).collect();
        paths.sort();
        for file in paths.into_iter().map(|p| std::fs::read(p).unwrap()).filter(|f| f.len() < 60_000) {
            if let Ok(format) = Format::of(&file) {
                kinds.entry(format!("{format:?}").to_lowercase()).or_default().push(file);
            }
        }
    }
    kinds
}

/// Places that libraries have not finished, or where they stop on numbers that make no sense: the file alone fails, and the
/// program goes on.
const UNFINISHED: &[(&str, &str)] = &[
    ("jxl", "not yet implemented"),
    ("raw", "not yet implemented"),
    ("raw", "not implemented"),
    ("raw", "Whitelevel can only be calculated"),
    ("raw", "chunk_size must not be zero"),
    ("raw", "assertion `left == right` failed"),
    ("raw", "Invalid CFA pattern"),
    ("raw", "Unknown CFA size"),
    ("raw", "with overflow"),
    ("raw", "assertion failed: p1."),
    ("raw", "Unsupported linear table"),
];

#[test]
fn changed_files_of_every_kind_are_read_or_refused() {
    let count: usize = std::env::var("RALLO_CHANGED").ok().and_then(|n| n.parse().ok()).unwrap_or(0);
    let wanted = std::env::var("RALLO_KINDS").unwrap_or_default();
    // A panic that is caught is told by the file's refusal.
    std::panic::set_hook(Box::new(|_| {}));
    let kinds = by_kind();
    assert!(kinds.len() >= 12, "{:?}", kinds.keys());
    let failures = AtomicUsize::new(0);
    for (kind, files) in &kinds {
        if !wanted.is_empty() && !wanted.split(',').any(|w| w == kind) {
            continue;
        }
        // HEIC, AVIF and odd TIFF are read by programs of their own, and are slow here for that.
        let few = if matches!(kind.as_str(), "heic" | "avif" | "tiff" | "jp2") { 20 } else { 200 };
        let total = if count > 0 { count } else { few };
        let began = std::time::Instant::now();
        let next = AtomicUsize::new(0);
        let unfinished = AtomicUsize::new(0);
        std::thread::scope(|scope| {
            for thread in 0..std::thread::available_parallelism().map_or(1, |n| n.get()) {
                let (next, unfinished, failures) = (&next, &unfinished, &failures);
                scope.spawn(move || {
                    let at_work = std::env::temp_dir().join(format!("changed-at-work-{thread}.{kind}"));
                    loop {
                        let i = next.fetch_add(1, Ordering::Relaxed);
                        if i >= total {
                            return;
                        }
                        let mut chance = Chance(i as u64);
                        let file = &files[chance.next(files.len())];
                        let other = &files[chance.next(files.len())];
                        let input = changed(file, other, &mut chance);
                        if count > 0 {
                            std::fs::write(&at_work, &input).unwrap();
                        }
                        let Some(said) = fell_over(input.clone()) else { continue };
                        if UNFINISHED.iter().any(|(of, known)| of == kind && said.contains(known)) {
                            unfinished.fetch_add(1, Ordering::Relaxed);
                            continue;
                        }
                        let kept = std::env::temp_dir().join(format!("changed-{i}.{kind}"));
                        let _ = std::fs::write(&kept, input);
                        eprintln!("{}: {said}", kept.display());
                        failures.fetch_add(1, Ordering::Relaxed);
                    }
                });
            }
        });
        if count > 0 {
            let left = unfinished.into_inner();
            println!(
                "{kind}: {total} files, {left} came to a place that is not finished, {:?}",
                began.elapsed()
            );
        }
    }
    assert_eq!(failures.into_inner(), 0, "decoders fell over");
}
