//! What people say about a picture, in the three places where programs look for it: EXIF, IPTC and XMP.
//!
//! Read with XMP first, then IPTC, then EXIF; written to all three, so that other programs find it (JPEG; a PNG has no
//! place for IPTC). IPTC is the Information Interchange Model 4.2, in UTF-8, inside an image resource block.

use crate::metadata::fields::DescriptiveFields;
use crate::metadata::xmp::{DC, RDF, printable, write_keywords};
use img_parts::jpeg::{Jpeg, markers};
use rallo_engine::steps::output::data::Data;
use xmp_writer::XmpWriter;

/// Record, dataset and greatest length in bytes of what IPTC has a place for (IIM 4.2, chapter 6).
const BY_LINE: (u8, usize) = (80, 32);

const COPYRIGHT: (u8, usize) = (116, 128);

const CAPTION: (u8, usize) = (120, 2000);

const KEYWORD: (u8, usize) = (25, 64);

/// Dates and times of creation and of digital creation.
const TIMES: [u8; 4] = [55, 60, 62, 63];

/// The marker of the block IPTC stands in, and of the resource inside it.
const BLOCK: &[u8] = b"Photoshop 3.0\0";

const RESOURCE: &[u8] = b"8BIM\x04\x04\0\0";

impl DescriptiveFields {
    /// Creator, rights and description as a file says them; keywords and rating are kept with the frames.
    pub fn read(file: &[u8], exif: Option<&[u8]>) -> Self {
        let mut words = Self::default();
        if let Some(exif) = exif {
            let (creator, copyright, caption) = crate::metadata::exif::words(exif);
            words = Self { creator, copyright, caption, ..words };
        }
        words.take_iptc(file);
        words.take_xmp(file);
        words
    }

    /// Takes over what the file says beside the words that are known here; of times nothing where they are moved.
    pub fn take_others(&mut self, file: &[u8], moved: bool) {
        let mut ours = vec![0, BY_LINE.0, COPYRIGHT.0, CAPTION.0, KEYWORD.0];
        if moved {
            ours.extend(TIMES);
        }
        self.others.iptc = iptc(file).unwrap_or_default();
        self.others.iptc.retain(|(set, text)| !ours.contains(set) && text.len() < 0x8000);
        self.others.xmp = crate::metadata::xmp::inside(file)
            .map(|packet| crate::metadata::xmp::others(packet, moved))
            .unwrap_or_default();
    }

    /// XMP descriptions of other programs.
    pub(crate) fn other_xmp(&self) -> &str {
        &self.others.xmp
    }

    fn take_iptc(&mut self, file: &[u8]) {
        let Some(sets) = iptc(file) else { return };
        for (set, text) in sets {
            let to = match set {
                s if s == BY_LINE.0 => &mut self.creator,
                s if s == COPYRIGHT.0 => &mut self.copyright,
                s if s == CAPTION.0 => &mut self.caption,
                _ => continue,
            };
            // What EXIF says whole, IPTC may say cut short.
            if !to.starts_with(&text) {
                *to = text;
            }
        }
    }

    fn take_xmp(&mut self, file: &[u8]) {
        let Some(packet) = crate::metadata::xmp::inside(file) else { return };
        let Ok(document) = roxmltree::Document::parse(packet) else { return };
        let first = |name: &str| {
            let node = document.descendants().find(|n| n.has_tag_name((DC, name)))?;
            let item = node.descendants().find(|n| n.has_tag_name((RDF, "li")))?;
            item.text().map(|t| t.trim().to_owned()).filter(|t| !t.is_empty())
        };
        for (name, to) in [
            ("creator", &mut self.creator),
            ("rights", &mut self.copyright),
            ("description", &mut self.caption),
        ] {
            if let Some(text) = first(name) {
                *to = text;
            }
        }
    }

    /// What a recipe's line Data changes.
    pub fn change(&mut self, by: &Data) {
        if by.keep == "nothing" {
            *self = Self::default();
        }
        for (to, from) in [
            (&mut self.creator, &by.creator),
            (&mut self.copyright, &by.copyright),
            (&mut self.caption, &by.caption),
        ] {
            if !from.trim().is_empty() {
                *to = from.trim().to_owned();
            }
        }
        let same = |a: &str, b: &str| a.trim().to_lowercase() == b.trim().to_lowercase();
        self.keywords.retain(|k| !by.remove.iter().any(|r| same(k, r)));
        for word in &by.add {
            if !self.keywords.iter().any(|k| same(k, word)) {
                self.keywords.push(word.trim().to_owned());
            }
        }
    }

    /// Writes what there is into an XMP description.
    pub(crate) fn write_xmp(&self, writer: &mut XmpWriter<'_>) {
        let [creator, rights, description] =
            [&self.creator, &self.copyright, &self.caption].map(|text| printable(text));
        if !creator.is_empty() {
            writer.creator([creator.as_str()]);
        }
        if !rights.is_empty() {
            writer.rights([(None, rights.as_str())]);
        }
        if !description.is_empty() {
            writer.description([(None, description.as_str())]);
        }
        write_keywords(writer, &self.keywords);
        if self.rating > 0 {
            writer.rating(self.rating.into());
        }
    }

    /// The application segment of a JPEG that holds IPTC; nothing where there is nothing to say.
    pub(crate) fn segment(&self) -> Option<Vec<u8>> {
        let mut sets = Vec::new();
        let mut put = |record: u8, set: u8, value: &[u8]| {
            sets.extend([0x1c, record, set, (value.len() >> 8) as u8, value.len() as u8]);
            sets.extend(value);
        };
        let texts = [(BY_LINE, &self.creator), (COPYRIGHT, &self.copyright), (CAPTION, &self.caption)];
        let texts = texts.into_iter().chain(self.keywords.iter().map(|k| (KEYWORD, k)));
        let texts: Vec<_> = texts.filter(|(_, text)| !text.is_empty()).collect();
        if texts.is_empty() && self.others.iptc.is_empty() {
            return None;
        }
        // UTF-8 (ISO 2022 escape), and the version of the record.
        put(1, 90, b"\x1b%G");
        put(2, 0, &[0, 4]);
        for ((set, most), text) in texts {
            put(2, set, cut(text, most).as_bytes());
        }
        for (set, text) in &self.others.iptc {
            put(2, *set, text.as_bytes());
        }
        let length = sets.len() as u32;
        let mut segment = [BLOCK, RESOURCE, &length.to_be_bytes()].concat();
        segment.append(&mut sets);
        if segment.len() % 2 == 1 {
            segment.push(0);
        }
        Some(segment)
    }
}

/// At most so many bytes, whole characters.
fn cut(text: &str, most: usize) -> &str {
    let mut end = text.len().min(most);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    &text[..end]
}

/// Datasets of the second record in a JPEG.
fn iptc(file: &[u8]) -> Option<Vec<(u8, String)>> {
    if !file.starts_with(&[0xff, 0xd8]) {
        return None;
    }
    let jpeg = Jpeg::from_bytes(file.to_vec().into()).ok()?;
    let mut found = Vec::new();
    for segment in jpeg.segments().iter().filter(|s| s.marker() == markers::APP13) {
        let Some(rest) = segment.contents().strip_prefix(BLOCK) else { continue };
        let Some(at) = rest.windows(6).position(|w| w == b"8BIM\x04\x04") else { continue };
        // A name of even length with its own length byte, then the length of the data.
        let name = usize::from(*rest.get(at + 6)?);
        let start = at + 6 + (name + 2) / 2 * 2;
        let length = u32::from_be_bytes(rest.get(start..start + 4)?.try_into().ok()?) as usize;
        let mut sets = rest.get(start + 4..)?;
        sets = &sets[..sets.len().min(length)];
        while let [0x1c, record, set, high, low, after @ ..] = sets {
            let length = usize::from(*high) << 8 | usize::from(*low);
            // The highest bit says that the length itself is longer: nothing that is read here.
            if length >= 0x8000 || after.len() < length {
                break;
            }
            if *record == 2 {
                let text = String::from_utf8_lossy(&after[..length]).trim().to_owned();
                if !text.is_empty() {
                    found.push((*set, text));
                }
            }
            sets = &after[length..];
        }
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::metadata::fields::Others;

    fn words() -> DescriptiveFields {
        DescriptiveFields {
            creator: "Mara Quill".into(),
            copyright: "© 2026 Thistlewick <Nursery>".into(),
            caption: "Thyme & sage, Grünzeug".into(),
            keywords: vec!["pots".into(), "Thyme".into()],
            rating: 4,
            others: Others::default(),
        }
    }

    #[test]
    fn what_others_say_is_handed_on_and_nothing_twice() {
        let mark = crate::Made { recipe: "12".into(), source: "34".into(), done: vec!["crop".into()] };
        let packet = "<x:xmpmeta xmlns:x='adobe:ns:meta/' xmlns:far='urn:far'><r:RDF xmlns:r='http://www.w3.org/1999/02/22-rdf-syntax-ns#'>\
            <r:Description r:about='' xmlns:a='http://ns.adobe.com/xap/1.0/' xmlns:d='http://purl.org/dc/elements/1.1/' xmlns:p='urn:plot' \
             a:Rating='2' a:Label='bed &amp; pot' p:row='7'><d:creator><r:Seq><r:li>Old</r:li></r:Seq></d:creator>\
            <d:title><r:Alt><r:li xml:lang='x-default'>Seedlings</r:li></r:Alt></d:title><far:away><far:deep at='1'>x</far:deep></far:away></r:Description>\
            <r:Description xmlns:p='urn:plot' p:bed='north'/></r:RDF></x:xmpmeta>";
        let mut one = words();
        one.take_others(packet.as_bytes(), false);
        let text = mark.xmp(&one);
        let document =
            roxmltree::Document::parse(&text[text.find("<x:").unwrap()..text.rfind("<?xpacket").unwrap()])
                .unwrap();
        let attribute = |space: &str, name: &str| -> Vec<&str> {
            document.descendants().filter_map(|n| n.attribute((space, name))).collect()
        };
        assert_eq!(attribute("http://ns.adobe.com/xap/1.0/", "Label"), ["bed & pot"]);
        assert_eq!((attribute("urn:plot", "row"), attribute("urn:plot", "bed")), (vec!["7"], vec!["north"]));
        let texts = |space: &str, name: &str| -> Vec<String> {
            let all = document.descendants().filter(|n| n.has_tag_name((space, name)));
            all.map(|n| n.descendants().filter(|d| d.is_text()).filter_map(|d| d.text()).collect::<String>())
                .collect()
        };
        assert_eq!(texts("http://ns.adobe.com/xap/1.0/", "Rating"), ["4"]);
        assert_eq!(texts(DC, "creator"), ["Mara Quill"]);
        assert!(texts(DC, "title")[0].contains("Seedlings"));
        assert_eq!(texts("urn:far", "deep").first().map(String::as_str), Some("x"));
        // Handed on twice, nothing is there twice; our own mark is the new one.
        let mut again = words();
        again.take_others(text.as_bytes(), false);
        assert_eq!(crate::Made { recipe: "56".into(), ..mark }.xmp(&again).matches("Seedlings").count(), 1);
        assert!(!again.other_xmp().contains("rallo:recipe"));
        again.take_others(b"no packet", false);
        assert_eq!(again.others, Others::default());
        // Times of others are not told beside those that were moved.
        let timed = packet.replace("p:row='7'", "p:row='7' a:CreateDate='2026-05-04T09:31:07'");
        for (moved, told) in [(false, true), (true, false)] {
            again.take_others(timed.as_bytes(), moved);
            assert!(again.other_xmp().contains("p:row=\"7\""));
            assert_eq!(again.other_xmp().contains("CreateDate"), told);
        }
    }

    #[test]
    fn changes_add_remove_and_start_over() {
        let mut one = words();
        one.change(&Data {
            caption: "Basil".into(),
            add: vec!["basil".into(), "POTS".into()],
            remove: vec!["thyme".into()],
            ..Data::default()
        });
        assert_eq!((one.caption.as_str(), one.creator.as_str()), ("Basil", "Mara Quill"));
        assert_eq!(one.keywords, ["pots", "basil"]);
        one.change(&Data { keep: "nothing".into(), copyright: "ours".into(), ..Data::default() });
        assert_eq!(one, DescriptiveFields { copyright: "ours".into(), ..DescriptiveFields::default() });
        assert!(DescriptiveFields::default().segment().is_none());
    }

    #[test]
    fn texts_are_cut_between_characters() {
        assert_eq!(cut("aäö", 2), "a");
        assert_eq!(cut("aäö", 3), "aä");
        let long = DescriptiveFields { creator: "ü".repeat(40), ..DescriptiveFields::default() };
        let segment = long.segment().unwrap();
        assert!(String::from_utf8_lossy(&segment).contains(&"ü".repeat(16)));
        assert!(!String::from_utf8_lossy(&segment).contains(&"ü".repeat(17)));
    }
}
