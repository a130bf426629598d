//! A PDF of pictures made smaller: its pictures are reduced to a resolution and compressed again; everything else stays.
//!
//! How large a picture is printed is read from the pages' content streams (ISO 32000-1, 8.3 and 8.10). Pictures that would
//! not become smaller stay as they are, as do those whose samples are no plain grey or RGB of 8 bits.

use crate::MediaError;
use image::imageops::{FilterType, resize};
use image::{ImageBuffer, Luma, Rgb};
use lopdf::content::Content;
use lopdf::{Dictionary, Document, Object, ObjectId, SaveOptions, Stream};
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
/// Most pixels of a picture that is looked at.
const MOST: u64 = 400_000_000;

/// Makes a PDF smaller: pictures with more than `ppi` pixels an inch are reduced to that, all are compressed with `quality`
/// (1 ..= 100).
///
/// # Errors
/// [`MediaError::Unsupported`] where it is no PDF, or is locked.
pub fn smaller(file: &[u8], ppi: u32, quality: u8) -> Result<Smaller, MediaError> {
    let none = |why: String| MediaError::Unsupported(format!("this PDF cannot be read: {why}"));
    if !file.windows(5).take(1024).any(|w| w == b"%PDF-") {
        return Err(none("it is none".into()));
    }
    let mut document = Document::load_mem(file).map_err(|e| none(e.to_string()))?;
    if document.is_encrypted() || document.trailer.has(b"Encrypt") {
        return Err(none("it is locked with a password".into()));
    }
    let mut printed: HashMap<ObjectId, f64> = HashMap::new();
    for page in document.get_pages().into_values() {
        let content = document.get_page_content(page);
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
    let mut all = Vec::new();
    let mut at = document.get_dictionary(page).ok();
    for _ in 0..32 {
        let Some(dict) = at else { break };
        if let Ok(own) = dict.get(b"Resources")
            && let Ok(own) = found(document, own).as_dict()
        {
            all.push(own.clone());
        }
        at = dict
            .get(b"Parent")
            .and_then(Object::as_reference)
            .and_then(|id| document.get_dictionary(id))
            .ok();
    }
    all
}

/// A picture or form by its name.
fn named(document: &Document, resources: &[Dictionary], name: &[u8]) -> Option<ObjectId> {
    resources.iter().find_map(|one| {
        let all = found(document, one.get(b"XObject").ok()?).as_dict().ok()?;
        all.get(name).and_then(Object::as_reference).ok()
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
                    let own = stream.dict.get(b"Matrix").and_then(Object::as_array).ok();
                    let inner = own.and_then(|m| matrix(m)).map_or(now, |m| after(m, now));
                    let mut inside = Vec::new();
                    if let Ok(Ok(own)) = stream.dict.get(b"Resources").map(|o| found(document, o).as_dict()) {
                        inside.push(own.clone());
                    }
                    inside.extend(resources.iter().cloned());
                    let bytes = stream.decompressed_content().unwrap_or_else(|_| stream.content.clone());
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
        let own = if head.subsamp == Subsamp::Gray { 1 } else { 3 };
        let fits = (head.width, head.height) == (width as usize, height as usize) && own == channels;
        // Four channels are none of ours.
        let rgb = !matches!(head.colorspace, turbojpeg::Colorspace::CMYK | turbojpeg::Colorspace::YCCK);
        if !fits || !rgb {
            return None;
        }
        turbojpeg::decompress(&stream.content, format).ok()?.pixels
    } else if filters.iter().all(|f| *f == b"FlateDecode" || *f == b"LZWDecode") && !filters.is_empty() {
        stream.decompressed_content().ok()?
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
