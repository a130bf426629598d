//! XMP (ISO 16684-1): keywords and rating, read from files and sidecars, written as sidecars.

use crate::MediaError;
use crate::decode::tiff_directory;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use xmp_writer::XmpWriter;

/// What a sidecar says of a frame.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Sidecar {
    /// `xmp:Rating`; 0 where none is given.
    pub rating: u8,
    /// `dc:subject`.
    pub keywords: Vec<String>,
}

pub(crate) const RDF: &str = "http://www.w3.org/1999/02/22-rdf-syntax-ns#";
pub(crate) const DC: &str = "http://purl.org/dc/elements/1.1/";
pub(crate) const XMP: &str = "http://ns.adobe.com/xap/1.0/";

/// What a sidecar that Rallo wrote names as its program.
const CREATOR_TOOL: &str = "Rallo";

/// Largest sidecar that is read.
const MAX_SIDECAR: u64 = 4_000_000;

/// Where a picture's sidecar lies: the same name with the ending `xmp`.
pub fn path(picture: &Path) -> PathBuf {
    picture.with_extension("xmp")
}

/// The tag that holds a TIFF's packet (ISO 16684-3, 3.2).
const PACKET: u16 = 700;

/// The packet that stands in a picture file, if there is one.
pub(crate) fn inside(file: &[u8]) -> Option<&str> {
    // A TIFF says where: a camera raw is not searched from end to end.
    if [&b"II\x2a\0"[..], b"MM\0\x2a", b"II\x2b\0", b"MM\0\x2b"].iter().any(|head| file.starts_with(head)) {
        let pages = tiff_directory::every(file);
        return pages.iter().find_map(|page| packet_of(page.bytes(PACKET)?));
    }
    packet_of(file)
}

/// The packet among some bytes.
fn packet_of(file: &[u8]) -> Option<&str> {
    let find = |from: usize, what: &[u8]| memchr::memmem::find(file.get(from..)?, what).map(|at| from + at);
    let start = find(0, b"<x:xmpmeta")?;
    let end = find(start, b"</x:xmpmeta>")? + b"</x:xmpmeta>".len();
    std::str::from_utf8(&file[start..end]).ok()
}

/// The TIFF properties (ISO 16684-1, 8.6).
const TIFF: &str = "http://ns.adobe.com/tiff/1.0/";

/// How the picture lies, 1 … 8, where the packet in a file says so.
pub(crate) fn orientation(file: &[u8]) -> Option<u32> {
    let document = roxmltree::Document::parse(inside(file)?).ok()?;
    let text = document.descendants().find_map(|node| {
        node.attribute((TIFF, "Orientation"))
            .or_else(|| node.has_tag_name((TIFF, "Orientation")).then(|| node.text()).flatten())
    })?;
    text.trim().parse().ok().filter(|way| (1..=8).contains(way))
}

/// The descriptions in a packet without what is written here itself, each with the names of spaces it needs; without times
/// where these are moved.
pub(crate) fn others(packet: &str, moved: bool) -> String {
    let Ok(document) = roxmltree::Document::parse(packet) else { return String::new() };
    let times = |name: &str| moved && ["Date", "Time"].iter().any(|w| name.contains(w));
    let ours = |space: Option<&str>, name: &str| match space {
        _ if times(name) => true,
        Some(DC) => ["creator", "rights", "description", "subject"].contains(&name),
        Some(XMP) => name == "Rating",
        Some(RDF) => name == "about",
        space => space == Some(crate::metadata::xmp::NAMESPACE),
    };
    let mut text = String::new();
    for node in document.descendants().filter(|n| {
        n.has_tag_name((RDF, "Description")) && n.parent().is_some_and(|p| p.has_tag_name((RDF, "RDF")))
    }) {
        let attributes: String = node
            .attributes()
            .filter(|a| !ours(a.namespace(), a.name()))
            .filter_map(|a| {
                let prefix = node.lookup_prefix(a.namespace()?)?;
                Some(format!(" {prefix}:{}=\"{}\"", a.name(), escaped(a.value())))
            })
            .collect();
        let children: String = node
            .children()
            .filter(|c| c.is_element() && !ours(c.tag_name().namespace(), c.tag_name().name()))
            .map(|c| &packet[c.range()])
            .collect();
        if attributes.is_empty() && children.is_empty() {
            continue;
        }
        let spaces: String = node
            .namespaces()
            .filter_map(|s| s.name().filter(|name| *name != "xml").map(|name| (name, s.uri())))
            .map(|(name, uri)| format!(" xmlns:{name}=\"{}\"", escaped(uri)))
            .collect();
        text += &format!(
            "<rdf:Description xmlns:rdf=\"{RDF}\" rdf:about=\"\"{}{attributes}>{children}</rdf:Description>",
            spaces.replace(&format!(" xmlns:rdf=\"{RDF}\""), "")
        );
    }
    text
}

impl Sidecar {
    /// Reads a packet.
    ///
    /// # Errors
    /// [`MediaError::Damaged`] where it is no XML.
    pub fn parse(text: &str) -> Result<Self, MediaError> {
        let document = roxmltree::Document::parse(text)
            .map_err(|e| MediaError::Damaged(format!("the sidecar is no XML: {e}")))?;
        let mut found = Self::default();
        for node in document.descendants() {
            if node.has_tag_name((DC, "subject")) {
                let items = node.descendants().filter(|n| n.has_tag_name((RDF, "li")));
                found.keywords.extend(items.filter_map(|n| n.text()).map(|t| t.trim().to_owned()));
            }
            let rating = if node.has_tag_name((XMP, "Rating")) {
                node.text()
            } else {
                node.attribute((XMP, "Rating"))
            };
            if let Some(n) = rating.and_then(|t| t.trim().parse::<f32>().ok()) {
                // −1 means rejected there; here choices are not ratings.
                found.rating = n.clamp(0.0, 5.0) as u8;
            }
        }
        found.keywords.retain(|k| !k.is_empty());
        Ok(found)
    }

    /// From the packet that stands in a picture file, if there is one.
    pub fn inside(file: &[u8]) -> Option<Self> {
        Self::parse(inside(file)?).ok()
    }

    /// Reads a sidecar file; nothing where there is none.
    ///
    /// # Errors
    /// [`MediaError`] where it is there and cannot be read.
    pub fn read(path: &Path) -> Result<Option<Self>, MediaError> {
        let io = |source| MediaError::Io { path: path.to_owned(), source };
        match std::fs::metadata(path) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(io(e)),
            Ok(meta) if meta.len() > MAX_SIDECAR => {
                return Err(MediaError::Unsupported("the sidecar is larger than 4 MB".into()));
            }
            Ok(_) => {}
        }
        Self::parse(&std::fs::read_to_string(path).map_err(io)?).map(Some)
    }

    /// Writes a sidecar file. One that another program wrote is left alone: it may hold more than this.
    ///
    /// # Errors
    /// [`MediaError`] where it cannot be written, or is not ours.
    pub fn write(&self, path: &Path) -> Result<(), MediaError> {
        let io = |source| MediaError::Io { path: path.to_owned(), source };
        match std::fs::read_to_string(path) {
            Ok(text) if !is_ours(&text) => {
                return Err(MediaError::Unsupported(
                    "there is a sidecar of another program already; it was left alone".into(),
                ));
            }
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(io(e)),
            _ => {}
        }
        // Under a name of its own first: several may write beside one picture at a time.
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let mut part = tempfile::Builder::new()
            .suffix(".xmp.part")
            .permissions(std::fs::Permissions::from_mode(0o644))
            .tempfile_in(folder)
            .map_err(io)?;
        std::io::Write::write_all(&mut part, self.packet().as_bytes()).map_err(io)?;
        part.persist(path).map(|_| ()).map_err(|e| io(e.error))
    }

    /// The packet.
    pub fn packet(&self) -> String {
        let mut writer = XmpWriter::new();
        writer.creator_tool(CREATOR_TOOL);
        writer.rating(self.rating.into());
        write_keywords(&mut writer, &self.keywords);
        writer.finish(None)
    }
}

/// Whether a sidecar names Rallo as the program that wrote it; as an attribute in sidecars written before.
fn is_ours(packet: &str) -> bool {
    roxmltree::Document::parse(packet).is_ok_and(|document| {
        document.descendants().any(|node| {
            node.attribute((XMP, "CreatorTool")) == Some(CREATOR_TOOL)
                || node.has_tag_name((XMP, "CreatorTool")) && node.text() == Some(CREATOR_TOOL)
        })
    })
}

/// Writes `dc:subject`, if there are keywords.
pub(crate) fn write_keywords(writer: &mut XmpWriter<'_>, keywords: &[String]) {
    if !keywords.is_empty() {
        let keywords: Vec<String> = keywords.iter().map(|keyword| printable(keyword)).collect();
        writer.subject(keywords.iter().map(String::as_str));
    }
}

/// The text with a space for each control character: most of them may not stand in XML at all.
pub(crate) fn printable(text: &str) -> String {
    text.replace(char::is_control, " ")
}

fn escaped(text: &str) -> String {
    printable(text)
        .chars()
        .map(|c| match c {
            '&' => "&amp;".to_owned(),
            '<' => "&lt;".to_owned(),
            '>' => "&gt;".to_owned(),
            '"' => "&quot;".to_owned(),
            c => c.to_string(),
        })
        .collect()
}

pub(crate) const NAMESPACE: &str = "urn:rallo:result:1";

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_back() {
        let one =
            Sidecar { rating: 4, keywords: vec!["pots & trays".into(), "<basil>".into(), "Grün".into()] };
        assert_eq!(Sidecar::parse(&one.packet()).unwrap(), one);
        assert_eq!(Sidecar::inside(format!("..{}..", one.packet()).as_bytes()).unwrap(), one);
        let none = Sidecar::default();
        assert_eq!(Sidecar::parse(&none.packet()).unwrap(), none);
    }

    #[test]
    fn sidecars_written_at_one_time_are_whole_and_other_programs_may_read_them() {
        let folder = tempfile::tempdir().unwrap();
        let file = path(&folder.path().join("TN_1.jpg"));
        std::thread::scope(|scope| {
            for n in 0..8u8 {
                let file = &file;
                scope.spawn(move || {
                    for _ in 0..20 {
                        Sidecar { rating: n % 6, keywords: vec!["mint".into(); usize::from(n) * 50] }
                            .write(file)
                            .unwrap();
                        Sidecar::read(file).unwrap();
                    }
                });
            }
        });
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "nothing half is left");
        assert_eq!(file.metadata().unwrap().permissions().mode() & 0o044, 0o044);
    }

    #[test]
    fn a_sidecar_of_another_program_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let file = path(&folder.path().join("TN_1.jpg"));
        assert_eq!(Sidecar::read(&file).unwrap(), None);
        let one = Sidecar { rating: 2, keywords: vec!["mint".into()] };
        one.write(&file).unwrap();
        Sidecar { rating: 3, ..one.clone() }.write(&file).unwrap();
        assert_eq!(Sidecar::read(&file).unwrap().unwrap().rating, 3);
        // As it was written before.
        std::fs::write(
            &file,
            format!(
                "<r:RDF xmlns:r='{RDF}'><r:Description xmlns:xmp='{XMP}' xmp:CreatorTool='Rallo'/></r:RDF>"
            ),
        )
        .unwrap();
        one.write(&file).unwrap();
        assert_eq!(Sidecar::read(&file).unwrap().unwrap().rating, 2);
        let foreign = "<x:xmpmeta xmlns:x='adobe:ns:meta/'/>";
        std::fs::write(&file, foreign).unwrap();
        assert!(one.write(&file).unwrap_err().to_string().contains("left alone"));
        assert_eq!(std::fs::read_to_string(&file).unwrap(), foreign);
    }

    #[test]
    fn other_ways_of_writing_are_read() {
        let text = "<x:xmpmeta xmlns:x='adobe:ns:meta/'><r:RDF xmlns:r='http://www.w3.org/1999/02/22-rdf-syntax-ns#'>\
            <r:Description xmlns:a='http://ns.adobe.com/xap/1.0/' xmlns:d='http://purl.org/dc/elements/1.1/'>\
            <a:Rating> 3 </a:Rating><d:subject><r:Seq><r:li> sage </r:li></r:Seq></d:subject>\
            </r:Description></r:RDF></x:xmpmeta>";
        assert_eq!(Sidecar::parse(text).unwrap(), Sidecar { rating: 3, keywords: vec!["sage".into()] });
        assert!(Sidecar::parse("no xml").is_err());
        assert_eq!(Sidecar::inside(b"nothing"), None);
    }

    #[test]
    fn a_tiff_s_packet_is_that_of_its_tag() {
        let packet = |rating| Sidecar { rating, ..Sidecar::default() }.packet();
        // A text that no tag names, a directory of one entry, and behind it what that names.
        let other = packet(2);
        let own = packet(5);
        let first = 8 + other.len() as u32;
        let tag = |file: &mut Vec<u8>, tag: u16| {
            file.extend(1u16.to_le_bytes());
            file.extend([tag.to_le_bytes(), 1u16.to_le_bytes()].concat());
            file.extend([own.len() as u32, first + 18, 0].map(u32::to_le_bytes).concat());
            file.extend(own.as_bytes());
        };
        let mut named = [&b"II\x2a\0"[..], &first.to_le_bytes(), other.as_bytes()].concat();
        let mut not_named = named.clone();
        tag(&mut named, PACKET);
        tag(&mut not_named, 270);
        assert_eq!(Sidecar::inside(&named).unwrap().rating, 5);
        assert_eq!(Sidecar::inside(&not_named), None);
    }
}
