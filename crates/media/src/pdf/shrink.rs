//! A PDF of pictures made smaller: its pictures are reduced to a resolution and compressed again; everything else stays.
//!
//! How large a picture is printed is read from the pages' content streams (ISO 32000-1, 8.3 and 8.10). Pictures that would
//! not become smaller stay as they are, as do those whose samples are no plain grey or RGB of 8 bits.

use crate::MediaError;
use image::imageops::{FilterType, resize};
use image::{ImageBuffer, Luma, Rgb};
use lopdf::content::Content;
use lopdf::{Dictionary, Document, LoadOptions, Object, ObjectId, SaveOptions, Stream};
use std::collections::HashMap;
use turbojpeg::{Image, PixelFormat, Subsamp};

/// What was done.
#[derive(Clone, Debug, PartialEq)]
pub struct Smaller {
    /// The file; the one that came where nothing could be gained.
    pub bytes: Vec<u8>,
    /// Pictures in it.
    pub pictures: usize,
    /// Pictures that were compressed again.
    pub changed: usize,
}

/// How deep forms lie in forms.
const DEEPEST: usize = 8;
/// Bytes that a packed stream of anything but a picture may unpack to.
const UNPACKED: usize = 100_000_000;
/// Most pixels of a picture that is looked at.
const MOST: u64 = 400_000_000;

/// Makes a PDF smaller: pictures with more than `ppi` pixels an inch are reduced to that, all are compressed with `quality`
/// (1 ..= 100).
///
/// # Errors
/// [`MediaError::Unsupported`] where it is no PDF, is locked, or unpacks to far more than it needs.
pub fn smaller(file: &[u8], ppi: u32, quality: u8) -> Result<Smaller, MediaError> {
    let none = |why: String| MediaError::Unsupported(format!("this PDF cannot be read: {why}"));
    if !file.windows(5).take(1024).any(|w| w == b"%PDF-") {
        return Err(none("it is none".into()));
    }
    let bounded = LoadOptions { max_decompressed_size: Some(UNPACKED), ..LoadOptions::default() };
    let mut document = Document::load_mem_with_options(file, bounded).map_err(|e| none(e.to_string()))?;
    if document.is_encrypted() || document.trailer.has(b"Encrypt") {
        return Err(none("it is locked with a password".into()));
    }
    let mut printed: HashMap<ObjectId, f64> = HashMap::new();
    for page in document.get_pages().into_values() {
        let content =
            document.get_page_content_with_limit(page, UNPACKED).map_err(|e| none(e.to_string()))?;
        let resources = page_resources(&document, page);
        let whole = [1.0, 0.0, 0.0, 1.0, 0.0, 0.0];
        look(&document, &content, &resources, whole, &mut printed, 0);
    }
    let mut pictures = 0;
    let mut changed = 0;
    let ids: Vec<ObjectId> = document.objects.keys().copied().collect();
    for id in ids {
        let Some(Object::Stream(stream)) = document.objects.get(&id) else { continue };
        if !is(&stream.dict, b"Subtype", b"Image") {
            continue;
        }
        pictures += 1;
        let points = printed.get(&id).copied();
        let fresh = again(&document, stream, points, ppi, quality.clamp(1, 100));
        if let Some(fresh) = fresh.filter(|f| f.content.len() * 20 < stream.content.len() * 19) {
            changed += 1;
            document.objects.insert(id, Object::Stream(fresh));
        }
    }
    let mut bytes = Vec::new();
    let options = SaveOptions::builder().use_object_streams(true).use_xref_streams(true).build();
    let saved = document.save_with_options(&mut bytes, options);
    saved.map_err(|e| MediaError::Encode { format: "PDF", message: e.to_string() })?;
    if changed == 0 || bytes.len() >= file.len() {
        return Ok(Smaller { bytes: file.to_vec(), pictures, changed: 0 });
    }
    Ok(Smaller { bytes, pictures, changed })
}

fn is(dict: &Dictionary, key: &[u8], name: &[u8]) -> bool {
    dict.get(key).and_then(Object::as_name).is_ok_and(|n| n == name)
}

/// What a reference leads to.
fn found<'a>(document: &'a Document, object: &'a Object) -> &'a Object {
    document.dereference(object).map_or(object, |(_, o)| o)
}

/// Resources of a page, its own or those of what it belongs to.
fn page_resources(document: &Document, page: ObjectId) -> Vec<Dictionary> {
    let mut chain = Vec::new();
    let mut at = document.get_dictionary(page).ok();
    for _ in 0..32 {
        let Some(dict) = at else { break };
        if let Ok(resources) = dict.get(b"Resources")
            && let Ok(resources) = found(document, resources).as_dict()
        {
            chain.push(resources.clone());
        }
        at = dict
            .get(b"Parent")
            .and_then(Object::as_reference)
            .and_then(|id| document.get_dictionary(id))
            .ok();
    }
    chain
}

/// A picture or form by its name.
fn named(document: &Document, resources: &[Dictionary], name: &[u8]) -> Option<ObjectId> {
    resources.iter().find_map(|level| {
        let objects = found(document, level.get(b"XObject").ok()?).as_dict().ok()?;
        objects.get(name).and_then(Object::as_reference).ok()
    })
}

type Matrix = [f64; 6];

/// `a` before `b`.
fn after(a: Matrix, b: Matrix) -> Matrix {
    [
        a[0] * b[0] + a[1] * b[2],
        a[0] * b[1] + a[1] * b[3],
        a[2] * b[0] + a[3] * b[2],
        a[2] * b[1] + a[3] * b[3],
        a[4] * b[0] + a[5] * b[2] + b[4],
        a[4] * b[1] + a[5] * b[3] + b[5],
    ]
}

fn matrix(operands: &[Object]) -> Option<Matrix> {
    let mut m = [0.0; 6];
    for (to, from) in m.iter_mut().zip(operands) {
        *to = f64::from(from.as_float().ok()?);
    }
    (operands.len() >= 6).then_some(m)
}

/// Follows a content stream, and notes the widths in points at which pictures are shown, the largest of each.
fn look(
    document: &Document,
    content: &[u8],
    resources: &[Dictionary],
    start: Matrix,
    printed: &mut HashMap<ObjectId, f64>,
    depth: usize,
) {
    let Ok(content) = Content::decode(content) else { return };
    let mut now = start;
    let mut held = Vec::new();
    for operation in content.operations {
        match operation.operator.as_str() {
            "q" => held.push(now),
            "Q" => now = held.pop().unwrap_or(start),
            "cm" => {
                if let Some(m) = matrix(&operation.operands) {
                    now = after(m, now);
                }
            }
            "Do" => {
                let name = operation.operands.first().and_then(|n| n.as_name().ok());
                let Some(id) = name.and_then(|n| named(document, resources, n)) else { continue };
                let Ok(Object::Stream(stream)) = document.get_object(id) else { continue };
                if is(&stream.dict, b"Subtype", b"Image") {
                    let width = now[0].hypot(now[1]);
                    let most = printed.entry(id).or_insert(0.0);
                    *most = most.max(width);
                } else if is(&stream.dict, b"Subtype", b"Form") && depth < DEEPEST {
                    let form_matrix = stream.dict.get(b"Matrix").and_then(Object::as_array).ok();
                    let inner = form_matrix.and_then(|m| matrix(m)).map_or(now, |m| after(m, now));
                    let mut inside = Vec::new();
                    if let Ok(Ok(form_resources)) =
                        stream.dict.get(b"Resources").map(|o| found(document, o).as_dict())
                    {
                        inside.push(form_resources.clone());
                    }
                    inside.extend(resources.iter().cloned());
                    let bytes = stream
                        .decompressed_content_with_limit(UNPACKED)
                        .unwrap_or_else(|_| stream.content.clone());
                    look(document, &bytes, &inside, inner, printed, depth + 1);
                }
            }
            _ => {}
        }
    }
}

/// Channels of a colour space whose values a JPEG can hold as they are.
fn channels(document: &Document, dict: &Dictionary) -> Option<usize> {
    let space = found(document, dict.get(b"ColorSpace").ok()?);
    match space {
        Object::Name(name) => match name.as_slice() {
            b"DeviceRGB" => Some(3),
            b"DeviceGray" => Some(1),
            _ => None,
        },
        Object::Array(parts) => match parts.first()?.as_name().ok()? {
            b"CalRGB" => Some(3),
            b"CalGray" => Some(1),
            b"ICCBased" => {
                let Object::Stream(profile) = found(document, parts.get(1)?) else { return None };
                let n = found(document, profile.dict.get(b"N").ok()?).as_i64().ok()?;
                (n == 1 || n == 3).then_some(n as usize)
            }
            _ => None,
        },
        _ => None,
    }
}

/// A picture's stream, reduced and compressed again.
fn again(document: &Document, stream: &Stream, points: Option<f64>, ppi: u32, quality: u8) -> Option<Stream> {
    let dict = &stream.dict;
    let number = |key: &[u8]| found(document, dict.get(key).ok()?).as_i64().ok();
    let (width, height) = (number(b"Width")?, number(b"Height")?);
    let (width, height) = (u32::try_from(width).ok()?, u32::try_from(height).ok()?);
    let mask = dict.get(b"ImageMask").and_then(Object::as_bool).unwrap_or(false);
    let plain = !mask && !dict.has(b"Decode") && !dict.has(b"Mask") && number(b"BitsPerComponent") == Some(8);
    if !plain || u64::from(width) * u64::from(height) > MOST || width == 0 || height == 0 {
        return None;
    }
    let channels = channels(document, dict)?;
    let format = if channels == 3 { PixelFormat::RGB } else { PixelFormat::GRAY };
    let filters = stream.filters().ok().unwrap_or_default();
    let jpeg = filters.len() == 1 && filters[0] == b"DCTDecode";
    let pixels = if jpeg {
        let head = turbojpeg::read_header(&stream.content).ok()?;
        let stream_channels = if head.subsamp == Subsamp::Gray { 1 } else { 3 };
        let fits =
            (head.width, head.height) == (width as usize, height as usize) && stream_channels == channels;
        // Four channels are none of ours.
        let rgb = !matches!(head.colorspace, turbojpeg::Colorspace::CMYK | turbojpeg::Colorspace::YCCK);
        if !fits || !rgb {
            return None;
        }
        turbojpeg::decompress(&stream.content, format).ok()?.pixels
    } else if filters.iter().all(|f| *f == b"FlateDecode" || *f == b"LZWDecode") && !filters.is_empty() {
        // A row more than it has, for those that fill up.
        let most = width as usize * (height as usize + 1) * channels;
        stream.decompressed_content_with_limit(most).ok()?
    } else {
        return None;
    };
    let wanted = width as usize * height as usize * channels;
    let mut pixels = pixels.get(..wanted)?.to_vec();
    let (mut w, mut h) = (width, height);
    let most = points.filter(|p| *p > 1.0).map(|p| p / 72.0 * f64::from(ppi));
    if let Some(most) = most.filter(|m| f64::from(width) > m * 1.1) {
        let scale = most / f64::from(width);
        let side = |n: u32| ((f64::from(n) * scale).round() as u32).max(1);
        (w, h) = (side(width), side(height));
        pixels = if channels == 3 {
            let whole = ImageBuffer::<Rgb<u8>, _>::from_raw(width, height, pixels)?;
            resize(&whole, w, h, FilterType::CatmullRom).into_raw()
        } else {
            let whole = ImageBuffer::<Luma<u8>, _>::from_raw(width, height, pixels)?;
            resize(&whole, w, h, FilterType::CatmullRom).into_raw()
        };
    }
    let image = Image {
        pixels: &pixels[..],
        width: w as usize,
        pitch: w as usize * channels,
        height: h as usize,
        format,
    };
    let subsamp = if channels == 3 { Subsamp::Sub2x2 } else { Subsamp::Gray };
    let content = turbojpeg::compress(image, i32::from(quality), subsamp).ok()?.to_vec();
    let mut dict = dict.clone();
    dict.remove(b"DecodeParms");
    dict.set("Filter", Object::Name(b"DCTDecode".to_vec()));
    dict.set("Width", i64::from(w));
    dict.set("Height", i64::from(h));
    dict.set("Length", content.len() as i64);
    Some(Stream { dict, content, allows_compression: false, start_position: None })
}

#[cfg(test)]
mod tests {
    use super::*;
    use lopdf::dictionary;

    /// A document of one page with pictures and a form, under the names they are shown by.
    fn document(content: &str, pictures: Vec<(&str, Stream)>) -> Vec<u8> {
        let mut document = Document::with_version("1.5");
        let pages = document.new_object_id();
        let mut named = Dictionary::new();
        for (name, stream) in pictures {
            let id = document.add_object(stream);
            named.set(name, id);
        }
        // A form half as large that shows the picture `Deep`.
        let deep = named.get(b"Deep").cloned();
        if let Ok(deep) = deep {
            let form = dictionary! {"Type" => "XObject", "Subtype" => "Form", "BBox" => vec![0.into(), 0.into(), 1.into(), 1.into()],
            "Matrix" => vec![0.5.into(), 0.into(), 0.into(), 0.5.into(), 0.into(), 0.into()],
            "Resources" => dictionary! {"XObject" => dictionary! {"Deep" => deep}}};
            let form = document.add_object(Stream::new(form, b"q 144 0 0 144 0 0 cm /Deep Do Q".to_vec()));
            named.set("Form", form);
        }
        let content = document.add_object(Stream::new(Dictionary::new(), content.as_bytes().to_vec()));
        let page = document.add_object(dictionary! {"Type" => "Page", "Parent" => pages, "Contents" => content,
            "MediaBox" => vec![0.into(), 0.into(), 400.into(), 400.into()], "Resources" => dictionary! {"XObject" => named}});
        document
            .objects
            .insert(pages, dictionary! {"Type" => "Pages", "Kids" => vec![page.into()], "Count" => 1}.into());
        let catalog = document.add_object(dictionary! {"Type" => "Catalog", "Pages" => pages});
        document.trailer.set("Root", catalog);
        let mut bytes = Vec::new();
        document.save_to(&mut bytes).unwrap();
        bytes
    }

    /// A picture of samples that are packed without loss.
    fn picture(space: &str, channels: usize, side: usize, more: Dictionary) -> Stream {
        let samples = (0..side * side * channels).map(|i| {
            ((i / channels) as u32).wrapping_mul(2_654_435_761).rotate_left(9) as u8 / 4
                + (i / side / 3 % 150) as u8
        });
        let mut dict = dictionary! {"Type" => "XObject", "Subtype" => "Image", "Width" => side as i64, "Height" => side as i64,
        "ColorSpace" => space, "BitsPerComponent" => 8};
        dict.extend(&more);
        let mut stream = Stream::new(dict, samples.collect());
        stream.compress().unwrap();
        stream
    }

    /// Width, filter and bytes of every picture of a document, by width.
    fn pictures(file: &[u8]) -> Vec<(i64, String, usize)> {
        let document = Document::load_mem(file).unwrap();
        let mut all: Vec<_> = document
            .objects
            .values()
            .filter_map(|o| o.as_stream().ok())
            .filter(|s| is(&s.dict, b"Subtype", b"Image"))
            .map(|s| {
                let filter = s.dict.get(b"Filter").and_then(Object::as_name).map(String::from_utf8_lossy);
                (
                    s.dict.get(b"Width").unwrap().as_i64().unwrap(),
                    filter.unwrap_or_default().into_owned(),
                    s.content.len(),
                )
            })
            .collect();
        all.sort();
        all
    }

    #[test]
    fn pictures_are_reduced_by_how_large_they_are_shown() {
        // 300 samples over 72 points are 300 an inch; the same over twice that, and over a form's half of it; grey.
        let content = "q 72 0 0 72 0 0 cm /Small Do Q q 0 144 -144 0 200 200 cm /Turned Do Q q /Form Do Q q 36 0 0 36 300 300 cm /Grey Do Q";
        let file = document(
            content,
            vec![
                ("Small", picture("DeviceRGB", 3, 300, Dictionary::new())),
                ("Turned", picture("DeviceRGB", 3, 304, Dictionary::new())),
                ("Deep", picture("DeviceRGB", 3, 308, Dictionary::new())),
                ("Grey", picture("DeviceGray", 1, 312, Dictionary::new())),
            ],
        );
        let made = smaller(&file, 100, 80).unwrap();
        assert_eq!((made.pictures, made.changed), (4, 4));
        assert!(made.bytes.len() * 2 < file.len());
        let told = pictures(&made.bytes);
        let widths: Vec<i64> = told.iter().map(|t| t.0).collect();
        assert_eq!(widths, [50, 100, 100, 200]);
        assert!(told.iter().all(|t| t.1 == "DCTDecode"), "{told:?}");
        // One shown twice is as sharp as its larger show needs.
        let twice = document(
            "q 36 0 0 36 0 0 cm /Small Do Q q 144 0 0 144 50 50 cm /Small Do Q",
            vec![("Small", picture("DeviceRGB", 3, 300, Dictionary::new()))],
        );
        assert_eq!(pictures(&smaller(&twice, 100, 80).unwrap().bytes)[0].0, 200);
        // One that no page shows keeps its pixels, and is only packed again.
        let hidden = document("", vec![("Small", picture("DeviceRGB", 3, 300, Dictionary::new()))]);
        assert_eq!(pictures(&smaller(&hidden, 100, 80).unwrap().bytes)[0].0, 300);
    }

    #[test]
    fn what_a_jpeg_cannot_hold_stays_as_it_is() {
        let content = "q 72 0 0 72 0 0 cm /A Do /B Do /C Do /D Do /E Do Q";
        let untouched = vec![
            ("A", picture("DeviceCMYK", 4, 100, Dictionary::new())),
            (
                "B",
                picture(
                    "DeviceRGB",
                    3,
                    101,
                    dictionary! {"Decode" => vec![1.into(), 0.into(), 1.into(), 0.into(), 1.into(), 0.into()]},
                ),
            ),
            ("C", picture("DeviceGray", 1, 102, dictionary! {"ImageMask" => true})),
            (
                "D",
                picture(
                    "DeviceRGB",
                    3,
                    103,
                    dictionary! {"Mask" => vec![0.into(), 9.into(), 0.into(), 9.into(), 0.into(), 9.into()]},
                ),
            ),
            ("E", picture("DeviceGray", 1, 104, dictionary! {"BitsPerComponent" => 16})),
        ];
        let file = document(content, untouched);
        let made = smaller(&file, 50, 50).unwrap();
        assert_eq!((made.pictures, made.changed), (5, 0));
        assert!(made.bytes == file);
        // Beside one that is changed the others are what they were.
        let mut beside = vec![("Small", picture("DeviceRGB", 3, 300, Dictionary::new()))];
        beside.push(("A", picture("DeviceCMYK", 4, 100, Dictionary::new())));
        let file = document("q 72 0 0 72 0 0 cm /Small Do /A Do Q", beside);
        let made = smaller(&file, 60, 70).unwrap();
        assert_eq!((made.pictures, made.changed), (2, 1));
        let (was, is) = (pictures(&file), pictures(&made.bytes));
        assert_eq!((was[0].clone(), is[0].0), (is[1].clone(), 60));
    }

    #[test]
    fn a_picture_whose_stream_is_too_short_or_too_long_stays() {
        let content = "q 72 0 0 72 0 0 cm /A Do Q";
        for height in [2i64, 400] {
            let mut wrong = picture("DeviceRGB", 3, 300, Dictionary::new());
            wrong.dict.set("Height", height);
            let file = document(content, vec![("A", wrong)]);
            let made = smaller(&file, 50, 50).unwrap();
            assert_eq!((made.pictures, made.changed), (1, 0), "{height}");
        }
        let mut spoilt = picture("DeviceRGB", 3, 300, Dictionary::new());
        spoilt.content.truncate(40);
        let file = document(content, vec![("A", spoilt)]);
        assert_eq!(smaller(&file, 50, 50).unwrap().changed, 0);
    }

    #[test]
    fn what_is_no_document_or_locked_is_told() {
        let told = |bytes: &[u8]| smaller(bytes, 100, 80).unwrap_err().to_string();
        assert_eq!(told(b"GIF89a"), "this PDF cannot be read: it is none");
        assert!(told(b"%PDF-1.7\nbut nothing else").starts_with("this PDF cannot be read"));
        let mut locked = Document::load_mem(&document("", Vec::new())).unwrap();
        locked.trailer.set("Encrypt", dictionary! {"Filter" => "Standard"});
        let mut bytes = Vec::new();
        locked.save_to(&mut bytes).unwrap();
        assert!(told(&bytes).starts_with("this PDF cannot be read"), "{}", told(&bytes));
    }
}
