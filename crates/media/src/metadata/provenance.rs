//! Who made a file: content hashes, and the mark in a result's XMP that says which recipe made it from what.

use crate::metadata::fields::DescriptiveFields;
use crate::metadata::xmp::NAMESPACE;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;
use xmp_writer::{CustomNamespace, Namespace, XmpWriter};

/// The first 128 bits of the BLAKE3 hash of the bytes, in hexadecimal.
pub fn content_hash(bytes: &[u8]) -> String {
    blake3::hash(bytes).to_hex()[..32].to_owned()
}

/// As [`content_hash`], of a file that may be large.
///
/// # Errors
/// The system's.
pub fn file_hash(path: &Path) -> std::io::Result<String> {
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(File::open(path)?)?;
    Ok(hasher.finalize().to_hex()[..32].to_owned())
}

/// The mark of a result.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Made {
    /// Identity of the recipe: a hash over everything that shapes the result.
    pub recipe: String,
    /// Hash of the original's bytes.
    pub source: String,
    /// What was done to the picture, by the names of the steps, in earlier runs too.
    pub done: Vec<String>,
}

/// How far into a file the mark is looked for, from both ends: it stands before the pixels, or behind all.
const HEAD: usize = 512 * 1024;

const TAIL: usize = 64 * 1024;

impl Made {
    /// The XMP packet (ISO 16684-1) that carries the mark, and what is said about the picture.
    pub fn xmp(&self, fields: &DescriptiveFields) -> String {
        let mut writer = XmpWriter::new();
        let ours = Namespace::Custom(Box::new(CustomNamespace::new("Rallo", "rallo", NAMESPACE)));
        let done = self.done.join(" ");
        for (name, value) in [("recipe", &self.recipe), ("source", &self.source), ("done", &done)] {
            writer.element(name, ours.clone()).value(value.as_str());
        }
        fields.write_xmp(&mut writer);
        let mut packet = writer.finish(None);
        // What other programs said goes on as they wrote it, beside our description.
        if let Some(end) = packet.rfind("</rdf:RDF>") {
            packet.insert_str(end, fields.other_xmp());
        }
        packet
    }

    /// Reads the mark of a file on the disk, if it bears one; little of the file is read.
    pub fn of(path: &Path) -> Option<Self> {
        let mut file = File::open(path).ok()?;
        let mut head = Vec::new();
        // Before the pixels stand at most the EXIF block and the profile.
        (&mut file).take(160 * 1024).read_to_end(&mut head).ok()?;
        Self::within(&head).or_else(|| {
            // These have it there, and most files are such.
            if head.starts_with(&[0xff, 0xd8]) || head.starts_with(b"\x89PNG") {
                return None;
            }
            let length = file.metadata().ok()?.len();
            let mut tail = Vec::new();
            file.seek(SeekFrom::Start(length.saturating_sub(TAIL as u64))).ok()?;
            file.take(TAIL as u64).read_to_end(&mut tail).ok()?;
            Self::within(&tail)
        })
    }

    /// Finds the mark in a file's bytes, if it bears one.
    pub fn find(file: &[u8]) -> Option<Self> {
        let tail = || Self::within(&file[file.len().saturating_sub(TAIL)..]);
        Self::within(&file[..file.len().min(HEAD)]).or_else(tail)
    }

    fn within(head: &[u8]) -> Option<Self> {
        let after = |text: &[u8]| memchr::memmem::find(head, text).map(|at| at + text.len());
        after(NAMESPACE.as_bytes())?;
        let value = |name: &str, most: usize| {
            // An element; an attribute in files written before.
            let between = |before: &str, behind: u8| {
                let start = after(format!("rallo:{name}{before}").as_bytes())?;
                let rest = &head[start..head.len().min(start + most)];
                let end = rest.iter().position(|b| *b == behind)?;
                std::str::from_utf8(&rest[..end]).ok()
            };
            between(">", b'<').or_else(|| between("=\"", b'"'))
        };
        let hash = |name: &str| {
            let text = value(name, 64)?;
            text.bytes().all(|b| b.is_ascii_hexdigit()).then(|| text.to_owned())
        };
        let step = |word: &&str| word.bytes().all(|b| b.is_ascii_lowercase() || b == b'_');
        let done = value("done", 2000).unwrap_or_default().split(' ').filter(|w| !w.is_empty());
        let done = done.filter(step).map(str::to_owned).collect();
        Some(Self { recipe: hash("recipe")?, source: hash("source")?, done })
    }

    /// Whether another mark stands for the same work on the same picture.
    pub fn is_same(&self, other: &Self) -> bool {
        (&self.recipe, &self.source) == (&other.recipe, &other.source)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_mark_is_found_again_and_only_where_it_is() {
        let made = Made {
            recipe: content_hash(b"a"),
            source: content_hash(b"b"),
            done: vec!["denoise".into(), "crop".into()],
        };
        let file = [
            b"\xff\xd8 some bytes ".as_slice(),
            made.xmp(&DescriptiveFields::default()).as_bytes(),
            b" more",
        ]
        .concat();
        assert_eq!(Made::find(&file), Some(made.clone()));
        let attributes = format!(
            "xmlns:rallo=\"{NAMESPACE}\" rallo:recipe=\"{}\" rallo:source=\"{}\" rallo:done=\"denoise crop\"",
            made.recipe, made.source
        );
        assert_eq!(Made::find(attributes.as_bytes()), Some(made), "as it was written before");
        assert_eq!(Made::find(b"urn:rallo:result:1 but nothing else"), None);
        assert_eq!(Made::find(b""), None);
    }

    #[test]
    fn hashes_are_blake3() {
        // The published test vector for no input.
        assert_eq!(content_hash(b""), "af1349b9f5f9a1a6a0404dea36dcc949");
    }
}
