//! What the camera wrote: EXIF in and out.

use crate::metadata::fields::DescriptiveFields;
use exif::experimental::Writer;
use exif::{Context, Exif, Field, In, Rational, SRational, Tag, Value};
use jiff::civil::DateTime;
use rallo_engine::lens::{EmbeddedLens, TakenWith};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What the camera wrote about one picture; nothing is invented where nothing was written.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct CameraData {
    /// Capture time as the camera's clock had it, with sub-seconds.
    #[schemars(with = "Option<String>")]
    pub taken: Option<DateTime>,
    /// Offset of that clock from UTC, as written (`+02:00`).
    pub offset: Option<String>,
    /// Maker and model.
    pub camera: Option<String>,
    /// Lens.
    pub lens: Option<String>,
    /// Millimetres.
    pub focal_length: Option<f64>,
    /// f-number.
    pub aperture: Option<f64>,
    /// What the camera wrote of what its lens does.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schemars(skip)]
    pub embedded_lens: Option<EmbeddedLens>,
    /// Seconds.
    pub shutter: Option<f64>,
    /// ISO speed.
    pub iso: Option<u32>,
    /// EXIF orientation 1 ..= 8, 1 where none is written.
    pub orientation: u32,
    /// How white balance was set: `automatic` or `by hand`.
    pub white_balance: Option<String>,
    /// Latitude and longitude in degrees, north and east above 0.
    pub gps: Option<[f64; 2]>,
}

impl CameraData {
    /// What lens profiles are found by.
    pub fn taken_with(&self) -> TakenWith {
        TakenWith {
            camera: self.camera.clone(),
            lens: self.lens.clone(),
            focal_length: self.focal_length,
            aperture: self.aperture,
            embedded: self.embedded_lens.clone(),
        }
    }
}

/// Shutter time for people: `1/250 s`, `2 s`.
pub fn shutter_text(seconds: f64) -> String {
    if seconds < 0.4 { format!("1/{:.0} s", 1.0 / seconds) } else { format!("{seconds} s") }
}

fn text(exif: &Exif, tag: Tag) -> Option<String> {
    match &exif.get_field(tag, In::PRIMARY)?.value {
        Value::Ascii(lines) => {
            let strip: Vec<u8> = lines.iter().flatten().copied().collect();
            let text = String::from_utf8_lossy(&strip).trim_matches(['\0', ' ']).to_owned();
            (!text.is_empty()).then_some(text)
        }
        _ => None,
    }
}

/// Degrees from degrees, minutes and seconds, with the sign of the hemisphere (EXIF 2.32, 4.6.6).
fn degrees(exif: &Exif, value: Tag, reference: Tag) -> Option<f64> {
    let Value::Rational(parts) = &exif.get_field(value, In::PRIMARY)?.value else { return None };
    let total: f64 = parts.iter().zip([1.0, 60.0, 3600.0]).map(|(p, per)| p.to_f64() / per).sum();
    let sign = if text(exif, reference).is_some_and(|r| r == "S" || r == "W") { -1.0 } else { 1.0 };
    (total.is_finite() && total.abs() <= 180.0 && !parts.is_empty()).then_some(sign * total)
}

fn number(exif: &Exif, tag: Tag) -> Option<f64> {
    let value = match &exif.get_field(tag, In::PRIMARY)?.value {
        Value::Rational(v) => v.first()?.to_f64(),
        Value::SRational(v) => v.first()?.to_f64(),
        // Some programs write numbers in kinds that the standard does not name for the tag.
        Value::Float(v) => f64::from(*v.first()?),
        Value::Double(v) => *v.first()?,
        Value::SByte(v) => f64::from(*v.first()?),
        Value::SShort(v) => f64::from(*v.first()?),
        Value::SLong(v) => f64::from(*v.first()?),
        Value::Ascii(v) => std::str::from_utf8(v.first()?).ok()?.trim_matches(['\0', ' ']).parse().ok()?,
        other => f64::from(other.get_uint(0)?),
    };
    (value.is_finite() && value > 0.0).then_some(value)
}

/// The fields of a raw EXIF block (a TIFF structure), as many as can be read.
fn fields_of(raw: &[u8]) -> Option<Exif> {
    as_far_as_it_goes(|reader| reader.read_raw(raw.to_vec()))
}

/// What a reader makes of a block, as far as it makes sense.
pub(crate) fn as_far_as_it_goes(
    read: impl FnOnce(&exif::Reader) -> Result<Exif, exif::Error>,
) -> Option<Exif> {
    let mut reader = exif::Reader::new();
    reader.continue_on_error(true);
    match read(&reader) {
        Ok(exif) => Some(exif),
        Err(exif::Error::PartialResult(partial)) => Some(partial.into_inner().0),
        Err(_) => None,
    }
}

impl CameraData {
    /// Reads a raw EXIF block (a TIFF structure); unreadable blocks give nothing.
    pub fn read(raw: &[u8]) -> Self {
        let (camera, orientation) = Self::read_with_orientation(raw);
        Self { orientation: orientation.unwrap_or(1), ..camera }
    }

    /// As [`read`](Self::read), and how the picture lies, 1 … 8, where the block says so.
    pub(crate) fn read_with_orientation(raw: &[u8]) -> (Self, Option<u32>) {
        let Some(exif) = fields_of(raw) else { return Default::default() };
        let way = exif.get_field(Tag::Orientation, In::PRIMARY).and_then(|f| f.value.get_uint(0));
        let orientation = way.filter(|way| (1..=8).contains(way));
        (Self::of(&exif, orientation.unwrap_or(1)), orientation)
    }

    fn of(exif: &Exif, orientation: u32) -> Self {
        let camera = match (text(exif, Tag::Make), text(exif, Tag::Model)) {
            (Some(make), Some(model)) if !model.starts_with(&make) => Some(format!("{make} {model}")),
            (make, model) => model.or(make),
        };
        let taken = text(exif, Tag::DateTimeOriginal).or_else(|| text(exif, Tag::DateTime));
        let sub = text(exif, Tag::SubSecTimeOriginal).filter(|s| s.bytes().all(|b| b.is_ascii_digit()));
        let taken = taken.and_then(|t| {
            let time = DateTime::strptime("%Y:%m:%d %H:%M:%S", &t).ok()?;
            let nanos = sub.map_or(0, |s| format!("{s:0<9}")[..9].parse::<i32>().unwrap_or(0));
            time.with().subsec_nanosecond(nanos).build().ok()
        });
        Self {
            taken,
            offset: text(exif, Tag::OffsetTimeOriginal),
            camera,
            lens: text(exif, Tag::LensModel),
            focal_length: number(exif, Tag::FocalLength),
            aperture: number(exif, Tag::FNumber),
            shutter: number(exif, Tag::ExposureTime),
            iso: number(exif, Tag::PhotographicSensitivity).map(|v| v as u32),
            orientation,
            white_balance: exif
                .get_field(Tag::WhiteBalance, In::PRIMARY)
                .and_then(|f| f.value.get_uint(0))
                .map(|v| if v == 1 { "by hand" } else { "automatic" }.to_owned()),
            gps: degrees(exif, Tag::GPSLatitude, Tag::GPSLatitudeRef)
                .zip(degrees(exif, Tag::GPSLongitude, Tag::GPSLongitudeRef))
                .map(|(north, east)| [north, east]),
            embedded_lens: None,
        }
    }

    /// A new EXIF block with this data, as a camera would write it.
    ///
    /// # Errors
    /// [`ExifError`].
    pub fn write(&self) -> Result<Vec<u8>, ExifError> {
        let ascii = |text: &str| Value::Ascii(vec![text.as_bytes().to_vec()]);
        let ratio = |v: f64, denom: u32| {
            Value::Rational(vec![Rational { num: (v * f64::from(denom)).round() as u32, denom }])
        };
        let mut fields = Vec::new();
        let mut push = |tag, value| fields.push(Field { tag, ifd_num: In::PRIMARY, value });
        if let Some(camera) = &self.camera {
            let (make, model) = camera.split_once(' ').unwrap_or(("", camera));
            push(Tag::Make, ascii(make));
            push(Tag::Model, ascii(model));
        }
        push(Tag::Orientation, Value::Short(vec![self.orientation.clamp(1, 8) as u16]));
        if let Some(taken) = self.taken {
            push(Tag::DateTimeOriginal, ascii(&taken.strftime("%Y:%m:%d %H:%M:%S").to_string()));
            push(Tag::SubSecTimeOriginal, ascii(&format!("{:02}", taken.subsec_nanosecond() / 10_000_000)));
        }
        if let Some(offset) = &self.offset {
            push(Tag::OffsetTimeOriginal, ascii(offset));
        }
        if let Some(lens) = &self.lens {
            push(Tag::LensModel, ascii(lens));
        }
        if let Some(v) = self.focal_length {
            push(Tag::FocalLength, ratio(v, 10));
        }
        if let Some(v) = self.aperture {
            push(Tag::FNumber, ratio(v, 10));
        }
        if let Some(v) = self.shutter {
            push(
                Tag::ExposureTime,
                if v < 0.5 {
                    Value::Rational(vec![Rational { num: 1, denom: (1.0 / v).round() as u32 }])
                } else {
                    ratio(v, 10)
                },
            );
            push(Tag::ExposureBiasValue, Value::SRational(vec![SRational { num: 0, denom: 1 }]));
        }
        if let Some(v) = self.iso {
            push(Tag::PhotographicSensitivity, Value::Short(vec![v.min(65_535) as u16]));
        }
        if let Some(way) = &self.white_balance {
            push(Tag::WhiteBalance, Value::Short(vec![u16::from(way == "by hand")]));
        }
        if let Some([north, east]) = self.gps {
            let degrees = |v: f64| {
                let parts = [
                    v.abs().trunc(),
                    (v.abs() * 60.0) % 60.0 - (v.abs() * 60.0) % 1.0,
                    (v.abs() * 3600.0) % 60.0,
                ];
                let [d, m, s] = parts;
                let whole = |n: f64| Rational { num: n.round() as u32, denom: 1 };
                Value::Rational(vec![
                    whole(d),
                    whole(m),
                    Rational { num: (s * 1000.0).round() as u32, denom: 1000 },
                ])
            };
            push(Tag::GPSLatitudeRef, ascii(if north < 0.0 { "S" } else { "N" }));
            push(Tag::GPSLatitude, degrees(north));
            push(Tag::GPSLongitudeRef, ascii(if east < 0.0 { "W" } else { "E" }));
            push(Tag::GPSLongitude, degrees(east));
        }
        written(&fields)
    }

    /// Shutter for people: `1/250 s`, `2 s`.
    pub fn shutter_text(&self) -> Option<String> {
        self.shutter.map(shutter_text)
    }
}

/// Why camera data cannot be written.
#[derive(Debug, thiserror::Error)]
#[error("camera data cannot be written as EXIF: {0}")]
pub struct ExifError(#[from] exif::Error);

fn written(fields: &[Field]) -> Result<Vec<u8>, ExifError> {
    let mut writer = Writer::new();
    for field in fields {
        writer.push_field(field);
    }
    let mut out = std::io::Cursor::new(Vec::new());
    writer.write(&mut out, true)?;
    Ok(out.into_inner())
}

/// Tags that describe the stored pixels or where they lie, and the camera's private notes: none of it is true of
/// a result.
const NOT_CARRIED: [Tag; 24] = [
    Tag::MakerNote,
    Tag::Orientation,
    Tag::PixelXDimension,
    Tag::PixelYDimension,
    Tag::ImageWidth,
    Tag::ImageLength,
    Tag::BitsPerSample,
    Tag::Compression,
    Tag::PhotometricInterpretation,
    Tag::StripOffsets,
    Tag::SamplesPerPixel,
    Tag::RowsPerStrip,
    Tag::StripByteCounts,
    Tag::PlanarConfiguration,
    Tag::TransferFunction,
    Tag::WhitePoint,
    Tag::PrimaryChromaticities,
    Tag::TileOffsets,
    Tag::TileByteCounts,
    Tag::JPEGInterchangeFormat,
    Tag::JPEGInterchangeFormatLength,
    Tag::YCbCrCoefficients,
    Tag::YCbCrSubSampling,
    Tag::YCbCrPositioning,
];

/// What of an original's EXIF a result carries, and what is written into it.
#[derive(Clone, Debug, Default)]
pub struct Carry<'a> {
    /// Size of the result.
    pub size: (u32, u32),
    /// Capture times are moved by so many milliseconds.
    pub shift: i64,
    /// Whether anything of the camera's data is left out altogether.
    pub nothing: bool,
    /// Whether the place is left out.
    pub no_place: bool,
    /// Whether serial numbers and the owner are left out.
    pub no_serials: bool,
    /// Creator, rights and description.
    pub words: Option<&'a DescriptiveFields>,
    /// Pixels per inch.
    pub resolution: Option<u32>,
    /// Whether the pixels stay as they lie: the file goes on saying how they are turned.
    pub lies: bool,
}

/// Tags by which one camera, lens or picture is told from all others, and whose it is (EXIF 2.32, 4.6.5 H).
const SERIALS: [Tag; 4] =
    [Tag::BodySerialNumber, Tag::LensSerialNumber, Tag::CameraOwnerName, Tag::ImageUniqueID];

/// The source's EXIF for a result: upright, the new size, capture times moved, without the camera's private notes and
/// without the old preview, and what else `carry` says. Nothing when the block cannot be read or nothing is to be said.
pub fn carried(raw: Option<&[u8]>, carry: &Carry) -> Option<Vec<u8>> {
    let raw = raw.filter(|_| !carry.nothing);
    let exif = raw.and_then(fields_of);
    let kept = |f: &&Field| {
        f.ifd_num == In::PRIMARY
            && !NOT_CARRIED.contains(&f.tag)
            && !matches!(f.value, Value::Unknown(..))
            && matches!(f.tag.context(), Context::Tiff | Context::Exif | Context::Gps)
            && !(carry.no_place && f.tag.context() == Context::Gps)
            && !(carry.no_serials && SERIALS.contains(&f.tag))
    };
    let mut fields: Vec<Field> = exif.iter().flat_map(|e| e.fields()).filter(kept).cloned().collect();
    if let Some(raw) = raw.filter(|_| carry.shift != 0) {
        move_times(&mut fields, &CameraData::read(raw), carry.shift);
    }
    let mut put = |tag, value| {
        fields.retain(|f| f.tag != tag);
        fields.push(Field { tag, ifd_num: In::PRIMARY, value });
    };
    let ascii = |text: &str| Value::Ascii(vec![text.replace('\0', " ").into_bytes()]);
    let mut has_data = exif.is_some();
    if let Some(words) = carry.words {
        let fields = [
            (Tag::Artist, &words.creator),
            (Tag::Copyright, &words.copyright),
            (Tag::ImageDescription, &words.caption),
        ];
        for (tag, text) in fields.into_iter().filter(|(_, text)| !text.is_empty()) {
            put(tag, ascii(text));
            has_data = true;
        }
    }
    if let Some(dpi) = carry.resolution {
        for tag in [Tag::XResolution, Tag::YResolution] {
            put(tag, Value::Rational(vec![Rational { num: dpi, denom: 1 }]));
        }
        put(Tag::ResolutionUnit, Value::Short(vec![2]));
        has_data = true;
    }
    if !has_data {
        return None;
    }
    let lies = exif.as_ref().and_then(|e| e.get_field(Tag::Orientation, In::PRIMARY)?.value.get_uint(0));
    let lies = lies.filter(|o| carry.lies && (1..=8).contains(o)).unwrap_or(1);
    put(Tag::Orientation, Value::Short(vec![lies as u16]));
    // Where colours are stored at half the size, they lie in the middle of their pixels (EXIF 2.32, 4.6.4 A).
    put(Tag::YCbCrPositioning, Value::Short(vec![1]));
    put(Tag::PixelXDimension, Value::Long(vec![carry.size.0]));
    put(Tag::PixelYDimension, Value::Long(vec![carry.size.1]));
    written(&fields).ok()
}

/// Creator, rights and description.
pub(crate) fn words(raw: &[u8]) -> (String, String, String) {
    let Some(exif) = fields_of(raw) else { return Default::default() };
    let text_of = |tag| text(&exif, tag).unwrap_or_default();
    (text_of(Tag::Artist), text_of(Tag::Copyright), text_of(Tag::ImageDescription))
}

fn move_times(fields: &mut Vec<Field>, camera: &CameraData, shift: i64) {
    let moved = camera.taken.and_then(|t| t.checked_add(jiff::SignedDuration::from_millis(shift)).ok());
    let Some(moved) = moved else { return };
    let ascii = |text: String| Value::Ascii(vec![text.into_bytes()]);
    let times = [Tag::DateTimeOriginal, Tag::DateTimeDigitized];
    let parts = [Tag::SubSecTimeOriginal, Tag::SubSecTimeDigitized];
    fields.retain(|f| !times.contains(&f.tag) && !parts.contains(&f.tag));
    let mut push = |tag, value| fields.push(Field { tag, ifd_num: In::PRIMARY, value });
    for tag in times {
        push(tag, ascii(moved.strftime("%Y:%m:%d %H:%M:%S").to_string()));
    }
    if moved.subsec_nanosecond() != 0 {
        for tag in parts {
            push(tag, ascii(format!("{:03}", moved.subsec_nanosecond() / 1_000_000)));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn data() -> CameraData {
        CameraData {
            taken: Some(DateTime::new(2026, 5, 4, 9, 31, 7, 250_000_000).unwrap()),
            offset: Some("+02:00".into()),
            camera: Some("Marlow 24".into()),
            lens: Some("Marlow 35 mm f/2".into()),
            focal_length: Some(35.0),
            aperture: Some(2.8),
            shutter: Some(1.0 / 250.0),
            iso: Some(800),
            orientation: 6,
            white_balance: Some("by hand".into()),
            gps: Some([51.5, -2.25]),
            embedded_lens: None,
        }
    }

    fn size() -> Carry<'static> {
        Carry { size: (1600, 900), ..Carry::default() }
    }

    #[test]
    fn what_is_written_is_read_back() {
        assert_eq!(CameraData::read(&data().write().unwrap()), data());
        assert_eq!(data().shutter_text().unwrap(), "1/250 s");
    }

    #[test]
    fn carried_data_are_upright_and_complete() {
        let raw = carried(Some(&data().write().unwrap()), &size()).unwrap();
        assert_eq!(CameraData::read(&raw), CameraData { orientation: 1, ..data() });
        assert!(carried(Some(b"nonsense"), &size()).is_none());
        let bare = Carry { no_place: true, ..size() };
        let raw = carried(Some(&data().write().unwrap()), &bare).unwrap();
        assert_eq!(CameraData::read(&raw), CameraData { orientation: 1, gps: None, ..data() });
        assert!(carried(Some(&data().write().unwrap()), &Carry { nothing: true, ..size() }).is_none());
        assert_eq!(CameraData::read(b"nonsense").orientation, 1);
    }

    #[test]
    fn a_shifted_time_is_carried_shifted() {
        let raw = carried(Some(&data().write().unwrap()), &Carry { shift: -3_600_500, ..size() }).unwrap();
        let taken = CameraData::read(&raw).taken.unwrap();
        assert_eq!(taken.to_string(), "2026-05-04T08:31:06.75");
    }

    #[test]
    fn numbers_are_read_in_whatever_kind_they_stand() {
        let field = |tag, value| Field { tag, ifd_num: In::PRIMARY, value };
        let raw = written(&[
            field(Tag::ExposureTime, Value::Double(vec![0.004])),
            field(Tag::FNumber, Value::Float(vec![5.6])),
            field(Tag::FocalLength, Value::Ascii(vec![b"50 ".to_vec()])),
            field(Tag::PhotographicSensitivity, Value::Short(vec![200, 0])),
            field(Tag::Orientation, Value::Long(vec![6])),
        ])
        .unwrap();
        let camera = CameraData::read(&raw);
        assert_eq!((camera.shutter, camera.focal_length, camera.iso), (Some(0.004), Some(50.0), Some(200)));
        assert!((camera.aperture.unwrap() - 5.6).abs() < 1e-6);
        assert_eq!((camera.orientation, CameraData::read_with_orientation(&raw).1), (6, Some(6)));
        assert_eq!(CameraData::read_with_orientation(b"nonsense").1, None);
    }
}
