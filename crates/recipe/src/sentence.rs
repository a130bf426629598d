//! Plain sentences: how a recipe reads on the ticket, the run sheet and in print.

use crate::delivery::{Delivery, What};
use crate::text::number;
use crate::{Line, Pictures, Recipe};
use rallo_engine::step::Place;
use rallo_engine::{Kind, Param, READING, RawSettings};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

/// A piece of a sentence.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Part {
    /// Words.
    Text(String),
    /// A value.
    Value {
        /// The parameter it belongs to.
        param: &'static str,
        /// As it is shown.
        text: String,
    },
}

pub(crate) fn shown(param: &Param, value: &Value, absolute: bool, pixels: Option<f64>) -> String {
    if let Some(pixels) = pixels {
        return format!("{} px", number((pixels * 10.0).round() / 10.0));
    }
    let value = match (absolute, value.as_f64()) {
        (true, Some(v)) => Value::from(v.abs()),
        _ => value.clone(),
    };
    match (&value, param.kind) {
        (Value::Number(n), _) => {
            let text = number(n.as_f64().unwrap_or_default());
            match param.unit {
                "°" => text + "°",
                "K" => text + " K",
                "%" => text + " %",
                "‰ of the long edge" => text + " ‰",
                "% of the long edge" => text + " %",
                _ => text,
            }
        }
        (Value::Array(points), Kind::Points) => format!("{} points", points.len()),
        (Value::Array(rows), Kind::Rows(..)) => rows.len().to_string(),
        (Value::Array(_), Kind::Spot) => "there".into(),
        (Value::Array(all), Kind::Triple { .. }) => {
            let texts: Vec<String> = all.iter().map(|v| number(v.as_f64().unwrap_or_default())).collect();
            texts.join(" · ")
        }
        (Value::Array(all), Kind::Words(_)) => {
            let texts: Vec<&str> = all.iter().filter_map(Value::as_str).collect();
            texts.join(", ")
        }
        (Value::String(s), Kind::File(_)) => if s.is_empty() { "no file" } else { "a file" }.into(),
        (Value::Array(_), Kind::Kept(_)) => "kept".into(),
        (Value::Null, Kind::Kept(_)) => "measured".into(),
        (Value::Array(all), _) => {
            let texts: Vec<String> = all.iter().map(ToString::to_string).collect();
            texts.join(if param.kind == Kind::Pair { " × " } else { ", " })
        }
        (Value::String(s), _) => s.clone(),
        (Value::Bool(true), _) => "allowed".into(),
        (Value::Bool(false), _) => "not allowed".into(),
        (Value::Null | Value::Object(_), _) => "none".into(),
    }
}

/// Takes a sentence with `{name}` holes apart; `text` gives a value's text.
fn parts(
    sentence: &str,
    params: &'static [Param],
    text: impl Fn(&'static Param, bool) -> String,
) -> Vec<Part> {
    let mut parts = Vec::new();
    let mut rest = sentence;
    while let Some((before, after)) = rest.split_once('{') {
        if !before.is_empty() {
            parts.push(Part::Text(before.into()));
        }
        let Some((hole, after)) = after.split_once('}') else { break };
        let (name, absolute) = hole.split_once('|').map_or((hole, false), |(n, _)| (n, true));
        if let Some(param) = params.iter().find(|p| p.name == name) {
            parts.push(Part::Value { param: param.name, text: text(param, absolute) });
        }
        rest = after;
    }
    if !rest.is_empty() {
        parts.push(Part::Text(rest.into()));
    }
    parts
}

impl Line {
    /// Its sentence; at a known place, spatial values in pixels.
    pub fn parts(&self, place: Option<&Place>) -> Vec<Part> {
        let kind = self.kind();
        let values = self.step.values();
        let pixels = place.map(|p| self.step.pixels(p)).unwrap_or_default();
        let mut sentence = self.step.sentence();
        let mut add = |more: String| sentence = format!("{}, {more}.", sentence.trim_end_matches('.'));
        if self.mix < 100.0 {
            add(format!("mixed {} %", number(self.mix)));
        }
        if let Some(area) = &self.area {
            add(area.words());
        }
        if let Some(iso_table) = &self.by_iso {
            let (low, high) = iso_table.ends();
            add(format!("by ISO from {low} to {high}"));
        }
        for (name, first, last) in self.ramp.iter().flat_map(|ramp| ramp.ends()) {
            let name = name.replace('_', " ");
            add(format!("{name} from {} to {} over the sequence", number(first), number(last)));
        }
        if let Some(when) = &self.when {
            add(format!("where {}", when.text()));
        }
        if !self.ask.is_empty() {
            let names: Vec<String> = self.ask.iter().map(|n| n.replace('_', " ")).collect();
            add(format!("asking for {}", names.join(" and ")));
        }
        parts(&sentence, kind.params, |param, absolute| {
            let px = pixels.iter().find(|(name, _)| *name == param.name).map(|(_, px)| *px);
            shown(param, &values[param.name], absolute, px)
        })
    }

    /// Whether it moves or widens the picture, so that before has it too.
    pub fn moves(&self) -> bool {
        self.kind().info.facts.moves_pixels
    }

    /// Its sentence as plain text.
    pub fn sentence(&self) -> String {
        plain(&self.parts(None))
    }
}

/// Parts as plain text.
pub fn plain(parts: &[Part]) -> String {
    parts
        .iter()
        .map(|p| match p {
            Part::Text(t) => t.as_str(),
            Part::Value { text, .. } => text.as_str(),
        })
        .collect()
}

/// A picture delivery, as a sentence with holes.
fn pictures(delivery: &Pictures) -> String {
    let quality = if delivery.limit.is_some() {
        "quality up to {quality}, at most {limit} kB"
    } else {
        "quality {quality}"
    };
    let mut sentence = match delivery.format.as_str() {
        "as it is" => return "The original {format}, only name and data are new".into(),
        "copy" => return "An untouched copy of the original ({format})".into(),
        "png" => "PNG with {bits} bits".to_owned(),
        "tiff" => "TIFF with {bits} bits, packed: {compression}".to_owned(),
        "webp" if delivery.lossless => "Lossless WebP".to_owned(),
        "webp" => format!("WebP, {quality}"),
        "avif" => format!("AVIF, {quality}"),
        "jxl" if delivery.lossless => "Lossless JPEG XL with {bits} bits".to_owned(),
        "jxl" => format!("JPEG XL with {{bits}} bits, {quality}"),
        _ if delivery.progressive => format!("Progressive JPEG, {quality}"),
        _ => format!("JPEG, {quality}"),
    };
    if !delivery.transparent && delivery.format != "jpeg" {
        sentence += ", nothing transparent";
    }
    if !delivery.widths.is_empty() {
        sentence += ", {widths} pixels wide";
    } else if delivery.long_edge.is_some() {
        sentence += ", {long_edge} pixels long";
    }
    if delivery.sharpen > 0.0 {
        sentence += ", sharpened {sharpen}";
    }
    if delivery.profile.is_some() {
        sentence += " in {profile}";
    }
    sentence
}

impl Delivery {
    /// What the delivery writes, as a sentence with holes; its names and target are said behind it.
    fn sentence(&self) -> String {
        let custom = |size: &str| match size {
            "custom" => "{width} × {height}",
            "own" => "in their {size} size",
            _ => "{size}",
        };
        let mut sentence = match &self.what {
            What::Pictures(p) => pictures(p),
            What::Frames(f) => {
                let format = match f.format.as_str() {
                    "png" => "PNG with {bits} bits",
                    "tiff" => "TIFF with {bits} bits",
                    _ => "JPEG, quality {quality}",
                };
                let fit = match f.fit.as_str() {
                    "fill" => ", filled",
                    "fit" => ", fitted in {colour}",
                    _ => "",
                };
                let start = if f.start == 1.0 { "" } else { ", from number {start}" };
                format!("Numbered frames, {}{fit}{start}, {format}", custom(&f.size))
            }
            What::Video(v) => {
                let codec = if v.codec == "purpose" { "to {purpose}" } else { "in {codec}" };
                let mut text = format!("Clip {codec}, {}, {{rate}} frames a second", custom(&v.size));
                if let (true, Some(first), Some(last)) = (v.is_moving(), v.marks.first(), v.marks.last()) {
                    let size = |mark: &[f64; 4]| format!("{} %", number((mark[3] * 100.0).round()));
                    let by = if v.marks.len() > 2 { format!(" in {} marks", v.marks.len()) } else { String::new() };
                    text += &match (size(first), size(last)) {
                        (a, b) if a == b => format!(", a window of {a} of the frame moves{by} ({{ease}})"),
                        (a, b) => format!(", a window moves from {a} to {b} of the frame{by} ({{ease}})"),
                    };
                }
                for (is, more) in [
                    (v.length > 0.0, ", {length} seconds long"),
                    (v.length <= 0.0 && v.speed != 1.0, ", {speed} times as fast"),
                    (!v.speeds.is_empty(), ", at a speed that changes"),
                    (v.between == "blend", ", frames between them mixed"),
                    (v.between == "motion", ", frames between them made by their motion"),
                    (v.backwards, ", backwards"),
                    (v.hold_first > 0.0, ", first frame held {hold_first} s"),
                    (v.hold_last > 0.0, ", last frame held {hold_last} s"),
                    (v.times > 1.0, ", {times} times over"),
                    (!v.text.is_empty(), ", written over: {text}"),
                    (!v.sound.is_empty(), ", sound from {sound}"),
                    (v.megabytes.is_some(), ", about {megabytes} MB"),
                ] {
                    if is {
                        text += more;
                    }
                }
                text
            }
            What::Pdf(p) => {
                let grid = match p.grid() {
                    (1, 1) => "one picture a page",
                    _ => "{columns} × {rows} pictures a page",
                };
                let under = if p.caption.is_empty() { "" } else { ", under each {caption}" };
                format!("PDF, {{page}}, {grid}{under}, at most {{resolution}} ppi")
            }
            What::Contact(c) => {
                let under = if c.caption.is_empty() { "" } else { ", under each {caption}" };
                format!("Contact sheet, {{columns}} to a row, {{cell}} pixels each{under}, {{format}}")
            }
            What::Stack(s) => {
                let edge = if s.long_edge.is_some() { ", {long_edge} pixels" } else { "" };
                let gaps = if s.closes_gaps() { ", gaps closed" } else { "" };
                format!("One picture of all frames, by {{by}}{gaps}{edge}, {{format}}")
            }
            What::Archive(a) => {
                let with = match (a.sidecars, a.checksums) {
                    (true, true) => ", with sidecars and checksums",
                    (true, false) => ", with sidecars",
                    (false, true) => ", with checksums",
                    (false, false) => "",
                };
                format!("Archive, TIFF with 16 bits in {{profile}}, packed: {{compression}}{with}")
            }
            What::Dng(_) => "Linear DNG, packed: {compression}".into(),
            What::Course(_) => {
                "Course pack {title}: numbered frames {size}, clip of {seconds} s a picture, hand-out of {per_page} a page, settings sheet".into()
            }
        };
        if !self.lines.is_empty() {
            let lines: Vec<String> = self
                .lines
                .iter()
                .map(|l| l.sentence().trim_end_matches('.').replace(['{', '}'], ""))
                .collect();
            sentence += &format!(" ({})", lines.join("; "));
        }
        sentence
    }

    /// What the delivery writes, as a sentence.
    pub fn parts(&self, recipe: &Recipe) -> Vec<Part> {
        let target = self.target();
        let mut sentence = self.sentence() + ", named {name}, into ";
        sentence += match target.to.as_str() {
            "subfolder" => "{folder}",
            "same" => "the {to} folder as the originals",
            _ => "{to}",
        };
        let values = self.values();
        if values["zip"] == Value::Bool(true) {
            sentence += ", and as a ZIP";
        }
        sentence += ".";
        let folder = target.folder.replace("{recipe}", &recipe.name);
        parts(&sentence, self.kind().params, |param, _| match param.name {
            "folder" => folder.clone(),
            name => shown(param, &values[name], false, None),
        })
    }
}

impl Recipe {
    /// What stands above a line: the head of a block that begins there, a place to wait.
    pub fn heads(&self, at: usize) -> Vec<String> {
        let line = &self.steps[at];
        let above = at.checked_sub(1).and_then(|a| self.steps[a].block.as_ref());
        let block = line.block.as_ref().filter(|b| Some(*b) != above).map(|b| self.block_sentence(b));
        let wait = line.checkpoint.as_ref().map(|what| format!("Wait for a yes: {what}"));
        block.into_iter().chain(wait).collect()
    }

    /// What is said above the lines of a block.
    pub fn block_sentence(&self, name: &str) -> String {
        let mut text = format!("Block {name}");
        if let Some(block) = self.blocks.iter().find(|b| b.name == name) {
            if let Some(from) = &block.from {
                let follow = if from.follow { ", followed" } else { "" };
                text += &format!(", from {} version {}{follow}", from.recipe, from.version);
            }
            if block.mix < 100.0 {
                text += &format!(", mixed {} %", number(block.mix));
            }
            if !block.on {
                text += " (off)";
            }
        }
        text
    }

    /// How files are read, where that is not as usual; with what is said of camera raw in any case where there is some.
    pub fn reading_parts(&self, has_raw: bool) -> Vec<Part> {
        let decode = &self.decode;
        let mut said = Vec::new();
        if has_raw || decode.raw != RawSettings::default() {
            said.push("camera raw with the look {raw.look}");
        }
        if decode.raw.given_white().is_some() {
            said.push("its white for {raw.kelvin} and Duv {raw.duv}");
        }
        if !decode.raw.mend_defects {
            said.push("its sensor's defects left as they are");
        }
        if decode.assumed_profile.is_some() {
            said.push("files that name no profile as {assumed_profile}");
        }
        if decode.background.is_some() {
            said.push("transparent parts on {background}");
        }
        if decode.use_part {
            said.push("of files that are cut off the part that is there");
        }
        if said.is_empty() {
            return Vec::new();
        }
        let values = decode.values();
        let sentence = format!("Read {}.", said.join(", "));
        parts(&sentence, &READING, |param, absolute| shown(param, &values[param.name], absolute, None))
    }

    /// The whole recipe in plain sentences, numbered.
    pub fn plain(&self) -> String {
        let mut text = format!("{}\n", self.name);
        let reading = self.reading_parts(false);
        if !reading.is_empty() {
            text += &format!("  0  {}\n", plain(&reading));
        }
        for (i, line) in self.steps.iter().enumerate() {
            for head in self.heads(i) {
                text += &format!("     {head}\n");
            }
            let off = if line.on { "" } else { " (off)" };
            text += &format!("{:>3}  {}{off}\n", i + 1, line.sentence());
        }
        for delivery in &self.deliveries {
            text += &format!("  →  {}\n", plain(&delivery.parts(self)));
        }
        text
    }
}
