//! WebP, AVIF and TIFF: encoded by their libraries, with profile, camera data and the result's mark put where each format
//! has a place for them.

use crate::MediaError;
use crate::encode::extras::{Extras, Interleaved};
use crate::encode::strips;
use exif::{In, Tag as ExifTag, Value};
use rallo_engine::{Encoded, Pixels};
use std::io::Cursor;
use tiff::encoder::{DirectoryEncoder, Rational, SRational, TiffEncoder, TiffKind};
use tiff::tags::{ResolutionUnit, Tag};

/// How a TIFF is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Packing {
    /// Not at all.
    None,
    /// LZW.
    Lzw,
    /// Deflate.
    Deflate,
}

pub(super) fn fail(format: &'static str, message: impl ToString) -> MediaError {
    MediaError::Encode { format, message: message.to_string() }
}

pub(super) fn eight<'a>(picture: &'a Encoded, format: &'static str) -> Result<&'a [u8], MediaError> {
    match &picture.pixels {
        Pixels::U8(pixels) => Ok(pixels),
        Pixels::U16(_) | Pixels::F32(_) => Err(fail(format, "pixels of more than 8 bits were given")),
    }
}

/// TIFF 6.0, 8 or 16 bits a sample or floats as the pixels have, packed in strips.
pub fn tiff(picture: &Encoded, packing: Packing, extras: &Extras) -> Result<Vec<u8>, MediaError> {
    let run = || -> Result<Vec<u8>, tiff::TiffError> {
        let mut out = Cursor::new(Vec::new());
        let mut file = TiffEncoder::new(&mut out)?;
        let camera_data = extras.exif.as_ref().and_then(|raw| exif::Reader::new().read_raw(raw.clone()).ok());
        let fields = |context| {
            let fields = camera_data.iter().flat_map(|e| e.fields());
            fields.filter(move |f| f.ifd_num == In::PRIMARY && f.tag.context() == context)
        };
        let mut pointers = Vec::new();
        for (context, pointer) in [(exif::Context::Exif, 34_665u16), (exif::Context::Gps, 34_853)] {
            if fields(context).next().is_some() {
                let mut exif_directory = file.extra_directory()?;
                fields(context).try_for_each(|f| put(&mut exif_directory, f.tag.number(), &f.value))?;
                pointers.push((pointer, exif_directory.finish_with_offsets()?.offset));
            }
        }
        let mut directory = file.image_directory()?;
        for field in fields(exif::Context::Tiff).filter(|f| SAID.contains(&f.tag)) {
            put(&mut directory, field.tag.number(), &field.value)?;
        }
        for (tag, offset) in &pointers {
            directory.write_tag(Tag::Unknown(*tag), *offset)?;
        }
        if extras.coverage.is_some() {
            // Colours are not multiplied by it (TIFF 6.0, section 18).
            directory.write_tag(Tag::ExtraSamples, &[2u16][..])?;
        }
        if let Some(icc) = &extras.icc {
            put_bytes(&mut directory, Tag::IccProfile, icc)?;
        }
        if let Some(made) = &extras.made {
            directory.write_tag(Tag::Unknown(700), made.xmp(&extras.words).as_bytes())?;
        }
        let resolution = || Rational { n: extras.resolution.unwrap_or(72), d: 1 };
        directory.write_tag(Tag::XResolution, resolution())?;
        directory.write_tag(Tag::YResolution, resolution())?;
        directory.write_tag(Tag::ResolutionUnit, ResolutionUnit::Inch.to_u16())?;
        let width = picture.size.width;
        match (extras.with_coverage(picture), &picture.pixels) {
            (Some(Interleaved::U8(v)), _) => strips::write(&mut directory, (width, 4), &v, packing),
            (Some(Interleaved::U16(v)), _) => strips::write(&mut directory, (width, 4), &v, packing),
            (Some(Interleaved::F32(v)), _) => strips::write(&mut directory, (width, 4), &v, packing),
            (None, Pixels::U8(v)) => strips::write(&mut directory, (width, 3), v, packing),
            (None, Pixels::U16(v)) => strips::write(&mut directory, (width, 3), v, packing),
            (None, Pixels::F32(v)) => strips::write(&mut directory, (width, 3), v, packing),
        }?;
        directory.finish()?;
        Ok(out.into_inner())
    };
    run().map_err(|e| fail("TIFF", e))
}

/// What is said in a picture's own directory and is no part of its structure.
const SAID: [ExifTag; 7] = [
    ExifTag::Make,
    ExifTag::Model,
    ExifTag::Software,
    ExifTag::DateTime,
    ExifTag::Artist,
    ExifTag::Copyright,
    ExifTag::ImageDescription,
];

/// Writes one field as it was; kinds that cameras do not use are left out.
fn put<W: std::io::Write + std::io::Seek, K: TiffKind>(
    directory: &mut DirectoryEncoder<'_, W, K>,
    number: u16,
    value: &Value,
) -> Result<(), tiff::TiffError> {
    let tag = Tag::Unknown(number);
    match value {
        Value::Ascii(texts) => {
            let text =
                texts.iter().map(|t| String::from_utf8_lossy(t).into_owned()).collect::<Vec<_>>().join("\0");
            let ascii: String = text.chars().filter(char::is_ascii).collect();
            directory.write_tag(tag, ascii.as_str())
        }
        Value::Byte(v) => directory.write_tag(tag, &v[..]),
        Value::Short(v) => directory.write_tag(tag, &v[..]),
        Value::Long(v) => directory.write_tag(tag, &v[..]),
        Value::Rational(v) => match v[..] {
            [one] => directory.write_tag(tag, Rational { n: one.num, d: one.denom }),
            [a, b, c] => directory.write_tag(tag, [a, b, c].map(|r| Rational { n: r.num, d: r.denom })),
            [a, b, c, d] => directory.write_tag(tag, [a, b, c, d].map(|r| Rational { n: r.num, d: r.denom })),
            _ => Ok(()),
        },
        Value::SRational(v) => match v[..] {
            [one] => directory.write_tag(tag, SRational { n: one.num, d: one.denom }),
            _ => Ok(()),
        },
        Value::Undefined(v, _) => put_bytes(directory, tag, v),
        _ => Ok(()),
    }
}

/// Writes bytes that mean something to who knows the tag.
fn put_bytes<W: std::io::Write + std::io::Seek, K: TiffKind>(
    directory: &mut DirectoryEncoder<'_, W, K>,
    tag: Tag,
    bytes: &[u8],
) -> Result<(), tiff::TiffError> {
    let entry = directory.write_entry_bytes(tiff::tags::Type::UNDEFINED, bytes)?;
    let mut single_field = tiff::Directory::empty();
    single_field.extend([(tag, entry)]);
    directory.extend_from(&single_field);
    Ok(())
}
