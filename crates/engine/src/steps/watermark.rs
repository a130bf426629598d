//! Watermark: a line of text drawn onto the picture, with a contrasting edge so that it is read on any ground.
//!
//! Shaped and rasterised by cosmic-text with the font that ships with the engine; laid over on the perceptual
//! scale. Allocates two planes of bytes the size of the text.

use crate::colour::{InputColour, apply};
use crate::geometry::Rect;
use crate::point::Pixel;
use crate::step::{
    Kind, MarkOp, Op, PLACES, Param, Place, Step, StepInfo, StepKind, parse_colour, place_share, values_of,
};
use crate::tone::{decode, encode};
use cosmic_text::{
    Attrs, Buffer, Family, FontSystem, Metrics, Shaping, SwashCache, SwashContent, Weight, fontdb,
};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::sync::{Arc, LazyLock, Mutex};

/// Description.
pub static INFO: StepInfo = StepInfo {
    id: "watermark",
    title: "Watermark",
    group: "marks",
    about: "Writes a text onto the picture; its size is relative to the output, so that small and large pictures look alike.",
    words: &["watermark", "logo", "text", "name", "copyright", "signature", "mark", "write", "brand"],
    neutral: r#"{"text": ""}"#,
    starter: r#"{"text": "Thistlewick"}"#,
};

static PARAMS: [Param; 8] = [
    Param { name: "text", about: "What is written.", unit: "", kind: Kind::Text(200) },
    Param { name: "place", about: "Where it stands.", unit: "", kind: Kind::Choice(&PLACES) },
    Param {
        name: "size",
        about: "Height of the type, in hundredths of the output's long edge.",
        unit: "% of the long edge",
        kind: Kind::Number { min: 0.5, max: 30.0, step: 0.1 },
    },
    Param {
        name: "opacity",
        about: "How much it covers.",
        unit: "%",
        kind: Kind::Number { min: 0.0, max: 100.0, step: 1.0 },
    },
    Param {
        name: "right",
        about: "Moved to the right, in hundredths of the picture's width.",
        unit: "%",
        kind: Kind::Number { min: -100.0, max: 100.0, step: 0.5 },
    },
    Param {
        name: "down",
        about: "Moved down, in hundredths of the picture's height.",
        unit: "%",
        kind: Kind::Number { min: -100.0, max: 100.0, step: 0.5 },
    },
    Param { name: "colour", about: "Colour of the type.", unit: "", kind: Kind::Colour },
    Param {
        name: "edge",
        about: "Strength of the contrasting edge around it.",
        unit: "%",
        kind: Kind::Number { min: 0.0, max: 100.0, step: 1.0 },
    },
];

/// Registration.
pub static KIND: StepKind = StepKind::of::<Watermark>(&INFO, &PARAMS);

/// Values of the step.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Watermark {
    /// At most 200 characters.
    pub text: String,
    /// One of the nine places.
    pub place: String,
    /// 0.5 ..= 30 hundredths of the output's long edge.
    pub size: f64,
    /// 0 ..= 100 %.
    pub opacity: f64,
    /// −100 ..= 100 % of the width.
    pub right: f64,
    /// −100 ..= 100 % of the height.
    pub down: f64,
    /// `#rrggbb`.
    pub colour: String,
    /// 0 ..= 100 %.
    pub edge: f64,
}

impl Default for Watermark {
    fn default() -> Self {
        Self {
            text: String::new(),
            place: "bottom right".into(),
            size: 3.0,
            opacity: 60.0,
            right: 0.0,
            down: 0.0,
            colour: "#ffffff".into(),
            edge: 50.0,
        }
    }
}

impl Watermark {
    /// Type size in pixels of this place, at full scale.
    fn height(&self, place: &Place) -> f64 {
        self.size / 100.0 * f64::from(place.output.long_edge()) / place.to_output.max(1e-6)
    }
}

impl Step for Watermark {
    fn values(&self) -> Value {
        values_of(self)
    }
    fn sentence(&self) -> String {
        "Write {text} {place}, size {size}, {opacity} strong.".into()
    }
    fn ops(&self, place: &Place) -> Vec<Op> {
        if self.text.trim().is_empty() || self.opacity == 0.0 {
            return Vec::new();
        }
        let height = self.height(place) * place.scale;
        // Smaller than a pixel, nothing is left to see.
        if height < 1.0 {
            return Vec::new();
        }
        let Some(type_) = rasterise(&self.text, height as f32) else { return Vec::new() };
        vec![Op::Mark(Box::new(Mark::new(self, type_, height, place)))]
    }
    fn pixels(&self, place: &Place) -> Vec<(&'static str, f64)> {
        vec![("size", self.height(place) * place.scale)]
    }
}

/// Coverage of a line of text.
struct Type {
    width: usize,
    height: usize,
    cover: Vec<u8>,
}

static FONTS: LazyLock<Mutex<(FontSystem, SwashCache)>> = LazyLock::new(|| {
    let shipped: [&[u8]; 2] = [
        include_bytes!("../../fonts/atkinson-hyperlegible-next-latin-600.ttf"),
        include_bytes!("../../fonts/atkinson-hyperlegible-next-latin-ext-600.ttf"),
    ];
    let mut fonts = fontdb::Database::new();
    for bytes in shipped {
        fonts.load_font_source(fontdb::Source::Binary(Arc::new(bytes)));
    }
    Mutex::new((FontSystem::new_with_locale_and_db("en".into(), fonts), SwashCache::new()))
});

/// Shapes and rasterises; `None` where nothing of it can be drawn.
fn rasterise(text: &str, height: f32) -> Option<Type> {
    let mut held = FONTS.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
    let (fonts, cache) = &mut *held;
    let mut buffer = Buffer::new(fonts, Metrics::new(height, height * 1.2));
    buffer.set_size(None, None);
    let attrs = Attrs::new().family(Family::Name("Atkinson Hyperlegible Next")).weight(Weight(600));
    buffer.set_text(text, &attrs, Shaping::Advanced, None);
    buffer.shape_until_scroll(fonts, false);
    let mut drawn = Vec::new();
    for run in buffer.layout_runs() {
        for glyph in run.glyphs {
            let at = glyph.physical((0.0, run.line_y), 1.0);
            if let Some(image) = cache.get_image_uncached(fonts, at.cache_key)
                && image.content == SwashContent::Mask
            {
                let (x, y) = (at.x + image.placement.left, at.y - image.placement.top);
                drawn.push((x, y, image));
            }
        }
    }
    let left = drawn.iter().map(|d| d.0).min()?;
    let top = drawn.iter().map(|d| d.1).min()?;
    let right = drawn.iter().map(|d| d.0 + d.2.placement.width as i32).max()?;
    let bottom = drawn.iter().map(|d| d.1 + d.2.placement.height as i32).max()?;
    let (width, high) = ((right - left).max(0) as usize, (bottom - top).max(0) as usize);
    if width == 0 || high == 0 || width * high > 200_000_000 {
        return None;
    }
    let mut cover = vec![0u8; width * high];
    for (x, y, image) in drawn {
        let (w, at) = (image.placement.width as usize, ((y - top) as usize, (x - left) as usize));
        if w == 0 {
            continue;
        }
        for (row, line) in image.data.chunks(w).enumerate() {
            let start = (at.0 + row) * width + at.1;
            for (to, from) in cover[start..start + w].iter_mut().zip(line) {
                *to = (*to).max(*from);
            }
        }
    }
    Some(Type { width, height: high, cover })
}

struct Mark {
    bounds: Rect,
    /// Coverage of the type and of the edge, each over `bounds`.
    cover: Vec<u8>,
    edge: Vec<u8>,
    colour: [f32; 3],
    edge_colour: f32,
    opacity: f32,
    edge_strength: f32,
}

impl Mark {
    fn new(step: &Watermark, text: Type, height: f64, place: &Place) -> Self {
        let reach = (height * 0.06).max(1.0);
        let pad = reach.ceil() as usize;
        let (w, h) = (text.width + 2 * pad, text.height + 2 * pad);
        let mut cover = vec![0u8; w * h];
        for (row, line) in text.cover.chunks(text.width).enumerate() {
            let at = (row + pad) * w + pad;
            cover[at..at + text.width].copy_from_slice(line);
        }
        let edge = widened(&cover, w, h, reach);
        let size = |n: u32| f64::from(n) * place.scale;
        let margin = height * 0.5;
        let (share_x, share_y) = place_share(&step.place);
        let at = |side: f64, text: usize, pad: usize, share: f64, moved: f64| {
            let room = side - text as f64 - 2.0 * margin;
            (margin + room * share + side * moved / 100.0).round() as i64 - pad as i64
        };
        let x = at(size(place.size.width), text.width, pad, share_x, step.right);
        let y = at(size(place.size.height), text.height, pad, share_y, step.down);
        let bytes = parse_colour(&step.colour).unwrap_or([255; 3]);
        let srgb = InputColour::srgb();
        let linear = std::array::from_fn(|c| srgb.byte[c][usize::from(bytes[c])]);
        let colour = apply(&srgb.to_working, linear).map(encode);
        let light = 0.26 * colour[0] + 0.68 * colour[1] + 0.06 * colour[2];
        Self {
            bounds: Rect::new(x, y, w as i64, h as i64),
            cover,
            edge,
            colour,
            edge_colour: if light > 0.5 { 0.0 } else { 1.0 },
            opacity: (step.opacity / 100.0) as f32,
            edge_strength: (step.edge / 100.0) as f32,
        }
    }
}

/// Coverage grown by a soft disc of radius `reach`: the largest coverage under a kernel that falls off to 0.
fn widened(cover: &[u8], w: usize, h: usize, reach: f64) -> Vec<u8> {
    let r = reach.ceil() as i64;
    let mut kernel = Vec::new();
    for dy in -r..=r {
        for dx in -r..=r {
            let weight = (1.0
                - (((dx * dx + dy * dy) as f64).sqrt() - reach * 0.5).max(0.0) / (reach * 0.5 + 0.5))
                .clamp(0.0, 1.0);
            if weight > 0.0 {
                kernel.push((dx, dy, weight as f32));
            }
        }
    }
    let mut out = vec![0u8; w * h];
    for y in 0..h as i64 {
        for x in 0..w as i64 {
            let mut most = 0f32;
            for &(dx, dy, weight) in &kernel {
                let (u, v) = (x + dx, y + dy);
                if u >= 0 && v >= 0 && u < w as i64 && v < h as i64 {
                    let c = cover[(v * w as i64 + u) as usize];
                    if c > 0 {
                        most = most.max(f32::from(c) * weight);
                    }
                }
            }
            out[(y * w as i64 + x) as usize] = most as u8;
        }
    }
    out
}

impl MarkOp for Mark {
    fn bounds(&self) -> Rect {
        self.bounds
    }
    fn run(&self, rect: Rect, pixels: &mut [Pixel]) {
        let part = self.bounds.within(rect);
        for y in part.y..part.bottom() {
            let from = ((y - self.bounds.y) * self.bounds.width - self.bounds.x) as isize;
            let to = ((y - rect.y) * rect.width - rect.x) as isize;
            for x in part.x..part.right() {
                let at = (from + x as isize) as usize;
                let (cover, edge) = (f32::from(self.cover[at]) / 255.0, f32::from(self.edge[at]) / 255.0);
                if edge == 0.0 {
                    continue;
                }
                let pixel = &mut pixels[(to + x as isize) as usize];
                let (cover, edge) = (cover * self.opacity, edge * self.edge_strength * self.opacity);
                for c in 0..3 {
                    let under = encode(pixel[c]);
                    let edged = under + (self.edge_colour - under) * edge * (1.0 - cover);
                    let top = edged + (self.colour[c] - edged) * cover;
                    pixel[c] = decode(top);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::geometry::Size;

    fn place(size: Size) -> Place {
        Place { size, output: size, to_output: 1.0, scale: 1.0, seed: 0 }
    }

    fn bounds(step: &Watermark, size: Size) -> Rect {
        let ops = step.ops(&place(size));
        let Some(Op::Mark(mark)) = ops.first() else { panic!("nothing drawn") };
        mark.bounds()
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
    fn real_shaping_kerns_and_joins_accents() {
        let wide = |text: &str| rasterise(text, 100.0).unwrap().width;
        assert!(wide("AVAVAV") < wide("AAA") + wide("VVV"), "no kerning");
        // e + combining acute is drawn as one letter, as wide as é.
        assert!(wide("cafe\u{301}").abs_diff(wide("café")) <= 2);
        assert!(rasterise("   ", 40.0).is_none());
    }

    #[test]
    fn opacity_is_the_share_of_the_colour() {
        let size = Size::new(400, 200);
        let step = Watermark {
            text: "■■■".into(),
            size: 30.0,
            opacity: 50.0,
            edge: 0.0,
            place: "centre".into(),
            ..Watermark::default()
        };
        let step =
            if step.ops(&place(size)).is_empty() { Watermark { text: "HHH".into(), ..step } } else { step };
        let ops = step.ops(&place(size));
        let Some(Op::Mark(mark)) = ops.first() else { panic!() };
        let grey = decode(0.4);
        let mut pixels = vec![[grey, grey, grey, 0.0]; 400 * 200];
        mark.run(size.rect(), &mut pixels);
        let most = pixels.iter().map(|p| encode(p[1])).fold(0.0, f32::max);
        assert!((most - 0.7).abs() < 2e-3, "half of white over 0.4 is 0.7, got {most}");
    }
}
