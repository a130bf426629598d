//! What every step, present and future, must hold: one table over the registry.

use rallo_engine::*;
use serde_json::{Map, Value, json};

/// A picture with edges, gradients, full black, white and strong colours.
fn scene(width: u32, height: u32) -> Picture {
    let mut px = Vec::new();
    for y in 0..height {
        for x in 0..width {
            let check = ((x / 7 + y / 5) % 2) as f32;
            let r = (x as f32 / width.max(2) as f32 * 255.0) as u8;
            let g = ((y as f32 * 0.31).sin() * 100.0 + 128.0) as u8;
            let b = (check * 200.0 + ((x * y) % 37) as f32) as u8;
            px.extend(match (x * 13 + y * 7) % 41 {
                0 => [0, 0, 0],
                1 => [255, 255, 255],
                2 => [255, 0, 0],
                _ => [r, g, b],
            });
        }
    }
    Picture::new(Size::new(width, height), Samples::U8(px), Orientation::UPRIGHT, None).unwrap()
}

fn settings(kind: &StepKind, values: &Value) -> Settings {
    let Value::Object(map) = values else { panic!("{values}") };
    let step = kind.parse(map).unwrap_or_else(|e| panic!("{} {values}: {e}", kind.info.id));
    Settings::from(step)
}

fn program(steps: Vec<Settings>, picture: &Picture, scale: f64) -> Program {
    Plan::for_picture(steps, &Pyramid::new(picture.clone())).unwrap().program(scale)
}

fn working(program: &Program, source: &Pyramid, rect: Rect) -> Vec<[f32; 3]> {
    program.render_working(source, rect).unwrap().1
}

/// Values at both ends of every parameter's range, one at a time and all together.
fn extremes(kind: &StepKind) -> Vec<Value> {
    let ends = |p: &Param| -> Vec<Value> {
        match p.kind {
            Kind::Number { min, max, .. } => vec![json!(min), json!(max)],
            // A side so large would only test the limit, which has a test of its own.
            Kind::Whole { min, .. } => vec![json!(min), json!(700)],
            Kind::Choice(all) => all.iter().map(|c| json!(c)).collect(),
            Kind::Text(max) => vec![json!(""), json!("Wg".repeat(max / 2)), json!("\u{1F331} ﷽ \u{0301}")],
            Kind::Flag => vec![json!(true), json!(false)],
            Kind::Points => {
                vec![
                    json!([[0, 1], [1, 0]]),
                    json!([[0, 0], [0.001, 1], [1, 1]]),
                    json!([[0.999, 0], [1, 1]]),
                ]
            }
            Kind::Proportion => vec![json!("1000:1"), json!("1:1000")],
            Kind::Pair => vec![json!([1, 1]), json!([1, 900]), json!([900, 1])],
            Kind::Window => vec![json!([0, 0, 1, 1]), json!([60000, 60000, 5, 5])],
            Kind::Part => vec![json!([0, 0, 1, 1]), json!([0.9, 0.9, 0.05, 0.05]), json!(null)],
            Kind::Template(max) => vec![json!(""), json!("Wg".repeat(max / 2))],
            Kind::File(_) => vec![json!("")],
            Kind::Words(_) => vec![json!([]), json!(["seedlings", "pots"])],
            Kind::Triple { min, max, .. } => {
                vec![json!([min, min, min]), json!([max, max, max]), json!([min, max, min])]
            }
            Kind::Spot => vec![json!([-2, 3]), json!([1, 0])],
            Kind::Kept(_) => vec![Value::Null],
            Kind::Course(_) => vec![json!([]), json!([[0, 0.5], [1, 2]])],
            Kind::Rows(names, _) => {
                let row = |all: [f64; 4]| json!(all[..names.len()].to_vec());
                vec![
                    json!([]),
                    json!([row([0.3, 0.4, 0.02, 0.9])]),
                    json!([row([0.0, 1.0, 0.03, 0.1]), row([0.9, 0.1, 0.001, 0.9])]),
                ]
            }
            Kind::Colour => vec![json!("#000000"), json!("#ff00ff")],
        }
    };
    let base: Map<String, Value> = serde_json::from_str(kind.info.starter).unwrap();
    let mut all = vec![Value::Object(base.clone())];
    for param in kind.params {
        for value in ends(param) {
            // On top of the starting values, or alone where the two do not go together.
            let mut with = base.clone();
            with.insert(param.name.into(), value.clone());
            let alone = Map::from_iter([(param.name.to_owned(), value)]);
            let fits = if kind.parse(&with).is_ok() { with } else { alone };
            match kind.parse(&fits) {
                Ok(_) => all.push(Value::Object(fits)),
                // A text may have a form of its own.
                Err(e) => assert_eq!((e.path.as_str(), param.kind), (param.name, Kind::Text(30)), "{e}"),
            }
        }
    }
    all
}

#[test]
fn neutral_values_change_nothing() {
    let picture = scene(150, 110);
    let source = Pyramid::new(picture.clone());
    let Samples::U8(before) = picture.samples() else { panic!() };
    for kind in registry() {
        let neutral: Value = serde_json::from_str(kind.info.neutral).unwrap();
        let program = program(vec![settings(kind, &neutral)], &picture, 1.0);
        assert_eq!(program.size(), picture.size(), "{}", kind.info.id);
        let out = program.render(&source, program.size().rect(), OutputProfile::Srgb.colour()).unwrap();
        assert!(out.pixels == Pixels::U8(before.clone()), "{} with {neutral} changed pixels", kind.info.id);
    }
}

#[test]
fn starting_values_do_something_or_are_set_on_the_picture() {
    let picture = scene(1600, 300);
    let source = Pyramid::new(picture.clone());
    for kind in registry().iter().filter(|k| {
        ![
            "straighten",
            "resize",
            "lut",
            "dust",
            "perspective",
            "hot_pixels",
            "lens_profile",
            "capture_sharpening",
            "deflicker",
            "hold_steady",
            "blend",
            "denoise_over_time",
            "trails",
            "data",
            "convert_profile",
        ]
        .contains(&k.info.id)
    }) {
        let starter: Value = serde_json::from_str(kind.info.starter).unwrap();
        let program = program(vec![settings(kind, &starter)], &picture, 1.0);
        let out = program.render(&source, program.size().rect(), OutputProfile::Srgb.colour()).unwrap();
        let Samples::U8(before) = picture.samples() else { panic!() };
        assert!(out.pixels != Pixels::U8(before.clone()), "{} with {starter} did nothing", kind.info.id);
    }
}

#[test]
fn extreme_values_stay_finite_and_in_range() {
    let picture = scene(90, 60);
    let source = Pyramid::new(picture.clone());
    for kind in registry() {
        for values in extremes(kind) {
            let program = program(vec![settings(kind, &values)], &picture, 1.0);
            for p in working(&program, &source, program.size().rect()) {
                for v in p {
                    assert!(v.is_finite() && RANGE.contains(&v), "{} {values}: {v}", kind.info.id);
                }
            }
        }
    }
}

#[test]
fn any_tiling_and_any_number_of_threads_give_the_same_pixels() {
    let picture = scene(230, 170);
    let source = Pyramid::new(picture.clone());
    let pool = |n| rayon::ThreadPoolBuilder::new().num_threads(n).build().unwrap();
    let (one, three) = (pool(1), pool(3));
    for kind in registry() {
        for values in extremes(kind) {
            for scale in [1.0, 0.37] {
                let program = program(vec![settings(kind, &values)], &picture, scale);
                let all = program.size().rect();
                let whole = one.install(|| working(&program, &source, all));
                assert!(
                    whole == three.install(|| working(&program, &source, all)),
                    "{} {values}",
                    kind.info.id
                );
                let tiles = all.tiles((all.width / 3).max(1), (all.height / 2).max(1) + 3);
                for tile in tiles {
                    let part = working(&program, &source, tile);
                    for (i, p) in part.iter().enumerate() {
                        let x = tile.x + i as i64 % tile.width;
                        let y = tile.y + i as i64 / tile.width;
                        let want = whole[(y * all.width + x) as usize];
                        assert!(*p == want, "{} {values} at {x},{y}: {p:?} {want:?}", kind.info.id);
                    }
                }
            }
        }
    }
}

#[test]
fn the_smallest_pictures_work() {
    for (w, h) in [(1, 1), (1, 40), (40, 1), (2, 3)] {
        let picture = scene(w, h);
        let source = Pyramid::new(picture.clone());
        for kind in registry() {
            for values in extremes(kind) {
                for scale in [1.0, 0.5] {
                    let program = program(vec![settings(kind, &values)], &picture, scale);
                    let size = program.size();
                    let out = working(&program, &source, size.rect());
                    assert_eq!(out.len() as u64, size.area(), "{} {values} on {w} × {h}", kind.info.id);
                }
            }
        }
    }
}

#[test]
fn a_half_scale_render_is_the_reduced_full_render() {
    // Smooth enough that a half-size picture can hold it; the tolerance is stated in `plan`.
    let (w, h) = (640u32, 480u32);
    let px = (0..w * h)
        .flat_map(|i| {
            let (x, y) = ((i % w) as f32, (i / w) as f32);
            let wave =
                |k: f32, p: f32| (127.0 + 90.0 * (x * 0.021 * k + p).sin() * (y * 0.017 / k + p).cos()) as u8;
            [wave(1.0, 0.2), wave(1.7, 1.0), wave(0.6, 2.2)]
        })
        .collect();
    let picture = Picture::new(Size::new(w, h), Samples::U8(px), Orientation::UPRIGHT, None).unwrap();
    let source = Pyramid::new(picture.clone());
    for kind in registry() {
        let starter: Value = serde_json::from_str(kind.info.starter).unwrap();
        let steps = vec![settings(kind, &starter)];
        let full = program(steps.clone(), &picture, 1.0);
        let half = program(steps, &picture, 0.5);
        assert_eq!(half.size(), full.size().scaled(0.5), "{}", kind.info.id);
        let a = full.render(&source, full.size().rect(), OutputProfile::Srgb.colour()).unwrap();
        let b = half.render(&source, half.size().rect(), OutputProfile::Srgb.colour()).unwrap();
        let (Pixels::U8(a), Pixels::U8(b)) = (a.pixels, b.pixels) else { panic!() };
        let (fw, hw) = (full.size().width as usize, half.size().width as usize);
        let mut sum = 0.0;
        let mut count = 0.0;
        for y in 0..full.size().height as usize / 2 {
            for x in 0..fw / 2 {
                for c in 0..3 {
                    let at = |dx: usize, dy: usize| f32::from(a[((2 * y + dy) * fw + 2 * x + dx) * 3 + c]);
                    let mean = (at(0, 0) + at(1, 0) + at(0, 1) + at(1, 1)) / 4.0;
                    sum += (mean - f32::from(b[(y * hw + x) * 3 + c])).abs();
                    count += 1.0;
                }
            }
        }
        assert!(sum / count < 1.5, "{}: mean difference {}", kind.info.id, sum / count);
    }
}

#[test]
fn description_defaults_and_sentence_agree() {
    for kind in registry() {
        let id = kind.info.id;
        let defaults = kind.defaults();
        let names: Vec<&str> = kind.params.iter().map(|p| p.name).collect();
        let keys: Vec<&str> = defaults.as_object().unwrap().keys().map(String::as_str).collect();
        assert_eq!(names, keys, "{id}: the struct and the description differ");
        for param in kind.params {
            param.check(&defaults[param.name]).unwrap_or_else(|e| panic!("{id}: default {e}"));
            assert!(!param.about.is_empty());
        }
        for text in [kind.info.neutral, kind.info.starter] {
            let Value::Object(map) = serde_json::from_str(text).unwrap() else { panic!() };
            kind.parse(&map).unwrap_or_else(|e| panic!("{id}: {e}"));
        }
        for values in extremes(kind) {
            let step = kind.parse(values.as_object().unwrap()).unwrap();
            let sentence = step.sentence();
            assert!(sentence.ends_with('.') && sentence.starts_with(char::is_uppercase), "{sentence}");
            for hole in sentence.split('{').skip(1) {
                let name = hole.split(['}', '|']).next().unwrap();
                assert!(names.contains(&name), "{id}: {sentence:?} speaks of {name}");
            }
            // What was given comes back.
            for (name, value) in values.as_object().unwrap() {
                let back = &step.values()[name];
                let same = match (back.as_f64(), value.as_f64()) {
                    (Some(a), Some(b)) => a == b,
                    _ => {
                        serde_json::to_string(back).unwrap().replace(".0", "")
                            == value.to_string().replace(".0", "")
                    }
                };
                assert!(same, "{id}.{name}: {back} is not {value}");
            }
        }
        let mut wrong = Map::new();
        wrong.insert("no_such_thing".into(), json!(1));
        let error = kind.parse(&wrong).unwrap_err().to_string();
        assert!(error.starts_with("no_such_thing: unknown"), "{error}");
    }
}
