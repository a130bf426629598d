//! Watermark: a line of text or a picture laid onto the picture, once or all over.
//!
//! Text is shaped with the fonts that ship with the engine and has a contrasting edge, so that it is read on any ground. A
//! picture is a PNG with transparency or an SVG drawing; drawings with scripts, or that point outside themselves, are
//! refused. Raised, the shape shows only by light from the upper left on its edges. Allocates 8 bytes a pixel of the mark.

use crate::colour::hex::parse_colour;
use crate::ops::overlay::{Colours, Laid, Lay, Stamp, softened, wide, widened};
use crate::ops::text;
use crate::step::{
    Effect, Kind, Op, PLACES, ParamError, Place, Step, Tool, ToolKind, file_bytes, place_share, step,
    values_of,
};
use resvg::tiny_skia::{FilterQuality, IntSize, Pixmap, PixmapPaint, PremultipliedColorU8, Transform};
use resvg::usvg::{self, roxmltree};
use serde_json::Value;
use std::sync::{Arc, LazyLock, Mutex};

step! {
    /// Lays a text or a picture (PNG or SVG) onto the picture; its size is relative to the output, so that
    /// small and large pictures look alike. Fields in braces stand for data of the picture.
    pub struct Watermark: PartialEq {
        id: "watermark",
        title: "Watermark",
        group: "marks",
        words: [
            "watermark", "logo", "text", "name", "copyright", "signature", "mark", "write", "brand",
            "stamp", "overlay", "emboss", "tile", "protect",
        ],
        neutral: r#"{"text": ""}"#,
        starter: r#"{"text": "Thistlewick"}"#,
        facts: {
            tool: Some(Tool {
                kind: ToolKind::Placing,
                button: None,
                hint: "Drag it on the picture to move it.",
                opens_at_once: false,
                shows_input: false,
            }),
            effects: &[Effect::Draws],
            starts_as_last_time: true,
        },
    }
    parameters {
        /// What is written; fields in braces such as {taken:%Y} or {camera} are filled.
        text: String = String::new(), Kind::Template(200);
        /// A PNG or SVG file instead of a text; it is kept inside the recipe.
        picture: String = String::new(), Kind::File(LARGEST);
        /// Where it stands.
        place: String = "bottom right".into(), Kind::Choice(&PLACES);
        /// Height of the type or of the picture, in hundredths of the output's long edge.
        size: f64 = 3.0, Kind::Number { min: 0.5, max: 100.0, step: 0.1 }, "% of the long edge";
        /// How much it covers.
        opacity: f64 = 60.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
        /// Moved to the right, in hundredths of the picture's width.
        right: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 0.5 }, "%";
        /// Moved down, in hundredths of the picture's height.
        down: f64 = 0.0, Kind::Number { min: -100.0, max: 100.0, step: 0.5 }, "%";
        /// Turned, clockwise above 0.
        angle: f64 = 0.0, Kind::Number { min: -180.0, max: 180.0, step: 1.0 }, "°";
        /// Flat in its colours, or raised: seen by light and shade on its edges only.
        look: String = "flat".into(), Kind::Choice(&["flat", "raised"]);
        /// Colour of the type.
        colour: String = "#ffffff".into(), Kind::Colour;
        /// Strength of the contrasting edge around the type.
        edge: f64 = 50.0, Kind::Number { min: 0.0, max: 100.0, step: 1.0 }, "%";
        /// Repeated all over the picture, every second row moved by half.
        tile: bool = false, Kind::Flag;
        /// Room between repeated marks, in hundredths of the mark's longer side.
        gap: f64 = 60.0, Kind::Number { min: 0.0, max: 500.0, step: 5.0 }, "%";
    }
}

/// Largest picture as text, in bytes.
const LARGEST: usize = 4_000_000;

/// Longest side of a mark in pixels.
const LONGEST: f64 = 12_000.0;

impl Watermark {
    /// Type size in pixels of this place, at full scale.
    fn height(&self, place: &Place) -> f64 {
        self.size / 100.0 * f64::from(place.output.long_edge()) / place.to_output.max(1e-6)
    }

    fn empty(&self) -> bool {
        self.text.trim().is_empty() && self.picture.trim().is_empty()
    }

    /// The mark upright, `height` pixels high, in sRGB: its colours and its coverage.
    fn upright(&self, height: f64) -> Option<Pixmap> {
        if !self.picture.trim().is_empty() {
            return Artwork::read(&self.picture).ok()?.drawn(height);
        }
        let letters = text::line(&self.text, height as f32)?;
        let [r, g, b] = parse_colour(&self.colour).unwrap_or([255; 3]);
        let mut map = Pixmap::new(letters.width as u32, letters.height as u32)?;
        for (to, cover) in map.pixels_mut().iter_mut().zip(&letters.cover) {
            *to = resvg::tiny_skia::ColorU8::from_rgba(r, g, b, *cover).premultiply();
        }
        Some(map)
    }

    /// The stamp for a height in pixels, and how far its edge reaches around the shape.
    fn stamp(&self, height: f64) -> Option<(Stamp, i64)> {
        let map = turned(self.upright(height)?, self.angle)?;
        let raised = self.look == "raised";
        let lettered = self.picture.trim().is_empty();
        let reach = match (raised, lettered) {
            (true, _) => (height * 0.04).max(1.0),
            (false, true) if self.edge > 0.0 => (height * 0.06).max(1.0),
            _ => 0.0,
        };
        let pad = if raised { reach.ceil() as usize * 3 } else { reach.ceil() as usize };
        let (w, h) = (map.width() as usize + 2 * pad, map.height() as usize + 2 * pad);
        let mut cover = vec![0u8; w * h];
        for (row, line) in map.pixels().chunks(map.width() as usize).enumerate() {
            let at = (row + pad) * w + pad;
            for (to, from) in cover[at..].iter_mut().zip(line) {
                *to = if raised && !lettered { height_of(*from) } else { from.alpha() };
            }
        }
        let texels =
            if raised { relief(&cover, w, h, reach) } else { self.flat(&map, &cover, (w, h), pad, reach) };
        Some((Stamp { width: w, height: h, texels }, pad as i64))
    }

    /// The shape in its colours, over its contrasting edge.
    fn flat(
        &self,
        map: &Pixmap,
        cover: &[u8],
        (w, h): (usize, usize),
        pad: usize,
        reach: f64,
    ) -> Vec<[u16; 4]> {
        let colours = Colours::new();
        let edge = if reach > 0.0 { widened(cover, w, h, reach) } else { vec![0; w * h] };
        let strength = (self.edge / 100.0) as f32;
        let type_colour = colours.working(parse_colour(&self.colour).unwrap_or([255; 3]));
        let light = 0.26 * type_colour[0] + 0.68 * type_colour[1] + 0.06 * type_colour[2];
        let edge_colour = if light > 0.5 { 0.0 } else { 1.0 };
        let mut texels = vec![[0u16; 4]; w * h];
        let (mut last, mut last_colour) = ([0u8; 3], colours.working([0; 3]));
        for (at, texel) in texels.iter_mut().enumerate() {
            let around = f32::from(edge[at]) / 255.0 * strength;
            let glyph = f32::from(cover[at]) / 255.0;
            let covered = glyph + around * (1.0 - glyph);
            if covered == 0.0 {
                continue;
            }
            let mut colour = type_colour;
            if !self.picture.trim().is_empty() && cover[at] > 0 {
                let (x, y) = (at % w - pad, at / w - pad);
                let p = map.pixels()[y * map.width() as usize + x].demultiply();
                if [p.red(), p.green(), p.blue()] != last {
                    last = [p.red(), p.green(), p.blue()];
                    last_colour = colours.working(last);
                }
                colour = last_colour;
            }
            let mixed = colour.map(|c| (c * glyph + edge_colour * (covered - glyph)) / covered);
            *texel = [wide(mixed[0]), wide(mixed[1]), wide(mixed[2]), wide(covered)];
        }
        texels
    }
}

/// How far a pixel of a picture stands out when it is raised: light parts more than dark ones, so that what is drawn inside
/// an opaque mark is seen too.
fn height_of(pixel: PremultipliedColorU8) -> u8 {
    let [r, g, b] = [pixel.red(), pixel.green(), pixel.blue()].map(f32::from);
    // The colours are multiplied with the coverage already.
    (0.4 * f32::from(pixel.alpha()) + 0.6 * (0.2126 * r + 0.7152 * g + 0.0722 * b)).round() as u8
}

/// The shape as light and shade on its edges, the light from the upper left: coverage, softened, against itself moved
/// towards the light.
fn relief(cover: &[u8], w: usize, h: usize, reach: f64) -> Vec<[u16; 4]> {
    let soft = softened(cover, w, h, (reach * 0.5).round().max(1.0) as usize);
    let d = (reach * 0.7).round().max(1.0) as i64;
    let at = |x: i64, y: i64| {
        let inside = x >= 0 && y >= 0 && x < w as i64 && y < h as i64;
        if inside { soft[y as usize * w + x as usize] } else { 0.0 }
    };
    let mut texels = Vec::with_capacity(w * h);
    for y in 0..h as i64 {
        for x in 0..w as i64 {
            let slope = at(x + d, y + d) - at(x - d, y - d);
            // The face itself is a little lighter, so that broad shapes are seen too.
            let face = 0.12 * f32::from(cover[y as usize * w + x as usize]) / 255.0;
            let light = slope + face;
            let colour = if light > 0.0 { u16::MAX } else { 0 };
            texels.push([colour, colour, colour, wide(light.abs())]);
        }
    }
    texels
}

/// Turned clockwise by `angle` degrees, as large as that needs.
fn turned(map: Pixmap, angle: f64) -> Option<Pixmap> {
    if angle == 0.0 {
        return Some(map);
    }
    let (w, h) = (f64::from(map.width()), f64::from(map.height()));
    let (sin, cos) = angle.to_radians().sin_cos();
    let wide = (w * cos.abs() + h * sin.abs()).ceil() + 2.0;
    let high = (w * sin.abs() + h * cos.abs()).ceil() + 2.0;
    let mut out = Pixmap::new(wide as u32, high as u32)?;
    let move_in = Transform::from_translate((wide / 2.0) as f32, (high / 2.0) as f32)
        .pre_rotate(angle as f32)
        .pre_translate((-w / 2.0) as f32, (-h / 2.0) as f32);
    let paint = PixmapPaint { quality: FilterQuality::Bicubic, ..PixmapPaint::default() };
    out.draw_pixmap(0, 0, map.as_ref(), &paint, move_in, None);
    Some(out)
}

/// A PNG or SVG.
enum Artwork {
    Pixels(Pixmap),
    Drawing(Box<usvg::Tree>),
}

type LastArtwork = Option<(String, Arc<Artwork>)>;
/// The last picture that was read: one recipe asks for it once for every tile.
static LAST: LazyLock<Mutex<LastArtwork>> = LazyLock::new(|| Mutex::new(None));

impl Artwork {
    fn read(text: &str) -> Result<Arc<Self>, String> {
        let mut last = LAST.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        if let Some((held, art)) = &*last
            && held == text
        {
            return Ok(art.clone());
        }
        let bytes = file_bytes(text).map_err(|e| e.to_string())?;
        let art = Arc::new(Self::from_bytes(&bytes)?);
        *last = Some((text.to_owned(), art.clone()));
        Ok(art)
    }

    fn from_bytes(bytes: &[u8]) -> Result<Self, String> {
        if bytes.starts_with(b"\x89PNG") {
            if let Some((w, h)) = png_size(bytes).filter(|(w, h)| u64::from(*w) * u64::from(*h) > 50_000_000)
            {
                return Err(format!("a mark of {w} × {h} pixels is larger than the limit of 50 megapixels"));
            }
            let map = Pixmap::decode_png(bytes).map_err(|e| format!("this PNG cannot be read ({e})"))?;
            return Ok(Self::Pixels(map));
        }
        let text = std::str::from_utf8(bytes).map_err(|_| "this is neither a PNG nor an SVG".to_owned())?;
        if !text.contains("<svg") {
            return Err("this is neither a PNG nor an SVG".into());
        }
        let options =
            roxmltree::ParsingOptions { allow_dtd: false, nodes_limit: 200_000, ..Default::default() };
        let document = roxmltree::Document::parse_with_options(text, options)
            .map_err(|e| format!("this SVG is no well-formed XML ({e})"))?;
        for node in document.descendants().filter(roxmltree::Node::is_element) {
            refuse(&node)?;
        }
        // Nothing outside is ever asked for, whatever was overlooked above.
        let resolver = usvg::ImageHrefResolver {
            resolve_data: usvg::ImageHrefResolver::default_data_resolver(),
            resolve_string: Box::new(|_, _| None),
        };
        let options = usvg::Options { image_href_resolver: resolver, ..usvg::Options::default() };
        let tree = usvg::Tree::from_xmltree(&document, &options)
            .map_err(|e| format!("this SVG cannot be drawn ({e})"))?;
        Ok(Self::Drawing(Box::new(tree)))
    }

    /// The picture, that many pixels high.
    fn drawn(&self, height: f64) -> Option<Pixmap> {
        let (w, h) = match self {
            Self::Pixels(map) => (f64::from(map.width()), f64::from(map.height())),
            Self::Drawing(tree) => (f64::from(tree.size().width()), f64::from(tree.size().height())),
        };
        let scale = (height / h).min(LONGEST / w.max(h));
        let mut out = Pixmap::new((w * scale).round().max(1.0) as u32, (h * scale).round().max(1.0) as u32)?;
        let fit = Transform::from_scale(out.width() as f32 / w as f32, out.height() as f32 / h as f32);
        match self {
            Self::Drawing(tree) => resvg::render(tree, fit, &mut out.as_mut()),
            Self::Pixels(map) => {
                // Halved as often as fits first: the bicubic kernel looks at 4 × 4 pixels only.
                let mut map = map.clone();
                while map.height() >= 2 * out.height() && map.width() >= 2 {
                    map = halved(&map)?;
                }
                let fit = Transform::from_scale(
                    out.width() as f32 / map.width() as f32,
                    out.height() as f32 / map.height() as f32,
                );
                let paint = PixmapPaint { quality: FilterQuality::Bicubic, ..PixmapPaint::default() };
                out.draw_pixmap(0, 0, map.as_ref(), &paint, fit, None);
            }
        }
        Some(out)
    }
}

fn png_size(bytes: &[u8]) -> Option<(u32, u32)> {
    let side = |at: usize| bytes.get(at..at + 4)?.try_into().ok().map(u32::from_be_bytes);
    Some((side(16)?, side(20)?))
}

/// Says why an element of a drawing is not taken.
fn refuse(node: &roxmltree::Node) -> Result<(), String> {
    let name = node.tag_name().name();
    let line = node.document().text_pos_at(node.range().start).row;
    if ["script", "foreignObject", "iframe"].contains(&name) {
        return Err(format!(
            "line {line}: the drawing has a <{name}>; only drawings without scripts are taken"
        ));
    }
    if name == "text" {
        return Err(format!(
            "line {line}: the drawing has letters that need a font; save it with its text turned into outlines"
        ));
    }
    if name == "style"
        && node.descendants().filter_map(|n| n.text()).any(|t| t.contains("@import") || outside(t))
    {
        return Err(format!("line {line}: the drawing's styles point to something outside it"));
    }
    for attribute in node.attributes() {
        let value = attribute.value().trim();
        if attribute.name().starts_with("on") {
            return Err(format!("line {line}: the drawing has the script {}", attribute.name()));
        }
        let href = attribute.name() == "href";
        let inside = value.starts_with('#') || value.starts_with("data:image/") || value.is_empty();
        if (href && name != "a" && !inside) || outside(value) {
            return Err(format!("line {line}: the drawing points to something outside it ({value:.60})"));
        }
    }
    Ok(())
}

/// Whether a value has a `url()` that is no part of the drawing itself.
fn outside(value: &str) -> bool {
    value.split("url(").skip(1).any(|rest| {
        let target = rest.trim_start_matches(['"', '\'', ' ']);
        !target.starts_with('#') && !target.starts_with("data:")
    })
}

/// Half as large each way, each pixel the mean of four.
fn halved(map: &Pixmap) -> Option<Pixmap> {
    let (w, h) = ((map.width() / 2).max(1), (map.height() / 2).max(1));
    let wide = map.width() as usize;
    let mut data = Vec::with_capacity((w * h * 4) as usize);
    for y in 0..h as usize {
        for x in 0..w as usize {
            let four: [PremultipliedColorU8; 4] =
                [(0, 0), (1, 0), (0, 1), (1, 1)].map(|(i, j)| map.pixels()[(2 * y + j) * wide + 2 * x + i]);
            let mean = |of: fn(PremultipliedColorU8) -> u8| {
                ((four.iter().map(|p| u32::from(of(*p))).sum::<u32>() + 2) / 4) as u8
            };
            data.extend([mean(|p| p.red()), mean(|p| p.green()), mean(|p| p.blue()), mean(|p| p.alpha())]);
        }
    }
    Pixmap::from_vec(data, IntSize::from_wh(w, h)?)
}

impl Step for Watermark {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        let what = if self.picture.trim().is_empty() { "Write {text}" } else { "Lay {picture}" };
        let mut text = what.to_owned();
        text += if self.tile { " all over" } else { " {place}" };
        text += ", size {size}, {opacity} strong";
        if self.look == "raised" {
            text += ", {look}";
        }
        if self.angle != 0.0 {
            text += ", turned {angle}";
        }
        text + "."
    }
    fn check(&self) -> Result<(), ParamError> {
        if self.picture.trim().is_empty() {
            return Ok(());
        }
        Artwork::read(&self.picture).map(drop).map_err(|message| ParamError::new("picture", message))
    }
    fn works(&self, place: &Place) -> bool {
        // Smaller than a pixel, nothing is left to see.
        !self.empty() && self.opacity > 0.0 && self.height(place) * place.scale >= 1.0
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        if !self.works(place) {
            return Vec::new();
        }
        let height = self.height(place) * place.scale;
        let Some((stamp, pad)) = self.stamp(height) else { return Vec::new() };
        let size = |n: u32| f64::from(n) * place.scale;
        let margin = if self.tile { 0.0 } else { height.min(size(place.size.long_edge()) * 0.06) * 0.5 };
        let (share_x, share_y) = place_share(&self.place);
        let at = |side: f64, mark: usize, share: f64, moved: f64| {
            let room = side - (mark as i64 - 2 * pad) as f64 - 2.0 * margin;
            (margin + room * share + side * moved / 100.0).round() as i64 - pad
        };
        let x = at(size(place.size.width), stamp.width, share_x, self.right);
        let y = at(size(place.size.height), stamp.height, share_y, self.down);
        let lay = if self.tile {
            let (w, h) = (stamp.width as i64, stamp.height as i64);
            let gap = (w.max(h) as f64 * self.gap / 100.0).round() as i64;
            Lay::Over { at: (x, y), pitch: (w + gap, h + gap) }
        } else {
            Lay::Once(x, y)
        };
        let whole = place.size.scaled(place.scale).rect();
        vec![Op::Mark(Box::new(Laid::new(stamp, lay, (self.opacity / 100.0) as f32, whole)))]
    }
    fn pixels(&self, place: &Place) -> Vec<(&'static str, f64)> {
        vec![("size", self.height(place) * place.scale)]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::colour::transfer::{decode, encode};
    use crate::geometry::{Rect, Size};

    fn place(size: Size) -> Place {
        Place { size, output: size, to_output: 1.0, scale: 1.0, seed: 0 }
    }

    fn bounds(step: &Watermark, size: Size) -> Rect {
        let ops = step.ops(&place(size));
        let Some(Op::Mark(mark)) = ops.first() else { panic!("nothing drawn") };
        mark.bounds()
    }

    /// The mark on a grey of 0.4 (perceptual), as perceptual values.
    fn on_grey(step: &Watermark, size: Size) -> Vec<[f32; 3]> {
        let grey = decode(0.4);
        let mut pixels = vec![[grey, grey, grey, 0.0]; size.area() as usize];
        for op in step.ops(&place(size)) {
            let Op::Mark(mark) = op else { panic!("not a mark") };
            mark.run(size.rect(), &mut pixels);
        }
        pixels.iter().map(|p| [encode(p[0]), encode(p[1]), encode(p[2])]).collect()
    }

    const SQUARE: &str = r##"<svg xmlns="http://www.w3.org/2000/svg" width="20" height="10"><rect width="10" height="10" fill="#ff0000"/><rect x="10" width="10" height="10" fill="#808080" fill-opacity="0.5"/></svg>"##;

    fn logo() -> Watermark {
        Watermark {
            picture: SQUARE.into(),
            place: "centre".into(),
            size: 10.0,
            opacity: 100.0,
            ..Watermark::default()
        }
    }

    #[test]
    fn places_and_sizes_are_as_asked() {
        let size = Size::new(1600, 900);
        let step = Watermark { text: "Thistlewick".into(), ..Watermark::default() };
        let b = bounds(&step, size);
        assert!(b.right() <= 1600 && b.bottom() <= 900 && b.x > 1200 && b.y > 800, "{b:?}");
        // Capital height of the shipped font is about 2/3 of the type size of 48 pixels.
        assert!((25..60).contains(&b.height), "{b:?}");
        let double = bounds(&Watermark { size: 6.0, ..step.clone() }, size);
        assert!((double.width as f64 / b.width as f64 - 2.0).abs() < 0.1);
        let middle = bounds(&Watermark { place: "centre".into(), ..step.clone() }, size);
        assert!((middle.x + middle.width / 2 - 800).abs() <= 1);
        let moved = bounds(&Watermark { place: "centre".into(), right: 10.0, ..step }, size);
        assert_eq!(moved.x - middle.x, 160);
    }

    #[test]
    fn opacity_is_the_share_of_the_colour() {
        let step = Watermark {
            text: "HHH".into(),
            size: 30.0,
            opacity: 50.0,
            edge: 0.0,
            place: "centre".into(),
            ..Watermark::default()
        };
        let most = on_grey(&step, Size::new(400, 200)).iter().map(|p| p[1]).fold(0.0, f32::max);
        assert!((most - 0.7).abs() < 1e-3, "half of white over 0.4 is 0.7, got {most}");
    }

    #[test]
    fn a_drawing_keeps_its_colours_and_its_transparency() {
        let size = Size::new(400, 200);
        let out = on_grey(&logo(), size);
        // 40 pixels high, so 80 wide, in the middle.
        let at = |x: usize, y: usize| out[y * 400 + x];
        let red = Colours::new().working([255, 0, 0]);
        let want = Colours::new().working([128, 128, 128])[0];
        for (got, want) in at(180, 100).iter().zip(red) {
            assert!((got - want).abs() < 2e-3, "{:?} {red:?}", at(180, 100));
        }
        // Half of the grey 128 over 0.4.
        assert!((at(220, 100)[1] - (0.4 + (want - 0.4) * 0.5)).abs() < 4e-3, "{:?}", at(220, 100));
        assert!((at(158, 100)[1] - 0.4).abs() < 1e-5 && (at(200, 78)[1] - 0.4).abs() < 1e-5);
    }

    #[test]
    fn a_png_is_laid_as_it_is() {
        let mut map = Pixmap::new(40, 20).unwrap();
        for (i, p) in map.pixels_mut().iter_mut().enumerate() {
            let v = if i % 40 < 20 { 200 } else { 30 };
            *p = PremultipliedColorU8::from_rgba(v, v, v, 255).unwrap();
        }
        let png = map.encode_png().unwrap();
        let picture = format!("data:image/png;base64,{}", base64(&png));
        let out = on_grey(&Watermark { picture, ..logo() }, Size::new(400, 200));
        let value = |v: u8| Colours::new().working([v; 3])[1];
        assert!((out[100 * 400 + 175][1] - value(200)).abs() < 2e-3);
        assert!((out[100 * 400 + 225][1] - value(30)).abs() < 2e-3);
    }

    /// RFC 4648, section 4.
    fn base64(bytes: &[u8]) -> String {
        const LETTERS: &[u8] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
        let mut text = String::new();
        for three in bytes.chunks(3) {
            let n = three.iter().fold(0u32, |n, b| n << 8 | u32::from(*b)) << (8 * (3 - three.len()));
            for i in 0..4 {
                let letter = LETTERS[(n >> (18 - 6 * i)) as usize & 63] as char;
                text.push(if i <= three.len() { letter } else { '=' });
            }
        }
        text
    }

    #[test]
    fn turning_a_quarter_swaps_the_sides() {
        let size = Size::new(400, 400);
        let upright = bounds(&logo(), size);
        let turned = bounds(&Watermark { angle: 90.0, ..logo() }, size);
        assert!((turned.width - upright.height).abs() <= 3 && (turned.height - upright.width).abs() <= 3);
        // What was left is now on top: clockwise.
        let out = on_grey(&Watermark { angle: 90.0, ..logo() }, size);
        let red = Colours::new().working([255, 0, 0]);
        assert!(
            (out[180 * 400 + 200][0] - red[0]).abs() < 4e-3
                && (out[180 * 400 + 200][2] - red[2]).abs() < 4e-3
        );
        assert!((out[220 * 400 + 200][0] - out[220 * 400 + 200][2]).abs() < 1e-3);
    }

    #[test]
    fn tiles_repeat_by_their_pitch() {
        let size = Size::new(600, 500);
        let step = Watermark { tile: true, gap: 50.0, size: 5.0, ..logo() };
        let out = on_grey(&step, size);
        // 30 high, 60 wide, a gap of 30: the pitch is 90 by 60; a second row is moved by 45.
        let red = |x: usize, y: usize| (out[y * 600 + x][0] - 0.4).abs() > 0.1;
        let count = (0..600 * 500).filter(|i| red(i % 600, i / 600)).count();
        let expected = 600.0 * 500.0 * (30.0 * 30.0) / (90.0 * 60.0);
        assert!((count as f64 / expected - 1.0).abs() < 0.1, "{count} {expected}");
        for (x, y) in [(100, 100), (250, 200), (300, 260)] {
            assert_eq!(red(x, y), red(x + 90, y));
            assert_eq!(red(x, y), red(x + 45, y + 60));
        }
    }

    #[test]
    fn raised_shows_light_above_and_shade_below_and_leaves_the_rest() {
        let size = Size::new(400, 400);
        let out = on_grey(&Watermark { look: "raised".into(), size: 25.0, ..logo() }, size);
        // The drawing covers 100 ..= 300 by 150 ..= 250.
        let at = |x: usize, y: usize| out[y * 400 + x];
        assert!(at(200, 150)[1] > 0.45, "no light on the upper edge: {:?}", at(200, 150));
        assert!(at(200, 250)[1] < 0.35, "no shade on the lower edge: {:?}", at(200, 250));
        assert!((at(150, 200)[1] - 0.4).abs() < 0.09 && at(150, 200)[0] == at(150, 200)[2]);
        assert!((at(30, 30)[1] - 0.4).abs() < 1e-5);
    }

    #[test]
    fn drawings_that_reach_outside_are_refused() {
        let svg = |inner: &str| {
            format!(
                "<svg xmlns='http://www.w3.org/2000/svg' xmlns:xlink='http://www.w3.org/1999/xlink' width='9' height='9'>\n{inner}</svg>"
            )
        };
        for (inner, want) in [
            ("<script>alert(1)</script>", "without scripts"),
            ("<rect onclick='x()' width='9' height='9'/>", "line 2: the drawing has the script onclick"),
            ("<image href='file:///etc/passwd' width='9' height='9'/>", "points to something outside it"),
            (
                "<image xlink:href='logo.png' width='9' height='9'/>",
                "points to something outside it (logo.png)",
            ),
            ("<use href='other.svg#a'/>", "points to something outside it"),
            ("<rect fill='url(http://a.test/x)' width='9' height='9'/>", "points to something outside it"),
            ("<style>@import 'x.css';</style>", "styles point to something outside"),
            ("<foreignObject/>", "without scripts"),
            ("<text>Hello</text>", "text turned into outlines"),
        ] {
            let step = Watermark { picture: svg(inner), ..logo() };
            let error = step.check().unwrap_err();
            assert_eq!(error.path, "picture");
            assert!(error.message.contains(want), "{inner}: {}", error.message);
        }
        for (text, want) in [
            ("hello", "neither a PNG nor an SVG"),
            ("data:image/png;base64,iVBORw0KGgo=", "cannot be read"),
            ("<svg", "no well-formed XML"),
        ] {
            let error = Watermark { picture: text.into(), ..logo() }.check().unwrap_err();
            assert!(error.message.contains(want), "{text}: {}", error.message);
        }
        let inside = svg(
            "<defs><linearGradient id='g'><stop stop-color='#fff'/></linearGradient></defs><rect fill='url(#g)' width='9' height='9'/>",
        );
        assert!(Watermark { picture: inside, ..logo() }.check().is_ok());
    }
}
