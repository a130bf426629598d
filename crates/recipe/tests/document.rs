//! The document: what is read, what is refused and where, what comes back.

use rallo_engine::{Size, registry};
use rallo_recipe::delivery::What;
use rallo_recipe::{FrameContext, Recipe, ResolveContext, schema::schema, sentence::plain};
use serde_json::{Value, json};

const CATALOGUE: &str = r#"{"format": "rallo-recipe", "version": 1, "name": "Catalogue, web",
 "steps": [
  {"step": "exposure", "stops": 0.35},
  {"step": "white_balance", "temperature": 6, "tint": -2},
  {"step": "curve", "all": [[0, 0], [0.25, 0.21], [0.75, 0.8], [1, 1]]},
  {"step": "saturation", "amount": 8},
  {"step": "straighten", "degrees": 1.2},
  {"step": "crop", "proportion": "16:9", "place": "centre"},
  {"step": "resize", "long_edge": 1600},
  {"step": "unsharp_mask", "amount": 80, "radius": 0.5, "threshold": 2},
  {"step": "watermark", "text": "Thistlewick", "place": "bottom right", "size": 3, "opacity": 60}],
 "deliveries": [
  {"kind": "pictures", "format": "jpeg", "quality": 82, "name": "{stem}-web", "to": "subfolder"}]}"#;

fn large() -> ResolveContext {
    FrameContext { width: 6000, height: 4000, ..FrameContext::default() }.into()
}

fn faults(value: &Value) -> Vec<String> {
    Recipe::from_value(value).err().map(|f| f.0.iter().map(ToString::to_string).collect()).unwrap_or_default()
}

#[test]
fn the_catalogue_recipe_reads_and_comes_back() {
    let recipe = Recipe::parse(CATALOGUE).unwrap();
    let again = Recipe::from_value(&recipe.to_value()).unwrap();
    assert_eq!(again.to_value(), recipe.to_value());
    assert_eq!(again.identity(&again.shown(), &large()), recipe.identity(&recipe.shown(), &large()));
    assert_eq!(recipe.layout(&large()).unwrap().size(), Size::new(1600, 900));
    let first: Value = serde_json::from_str(CATALOGUE).unwrap();
    assert_eq!(recipe.to_value()["steps"][0], first["steps"][0]);
}

#[test]
fn it_reads_as_plain_sentences() {
    let recipe = Recipe::parse(CATALOGUE).unwrap();
    let want = "Catalogue, web
  1  Make it 0.35 stops brighter.
  2  White 6 warmer and 2 greener.
  3  Curve through 4 points.
  4  Colours 8 stronger.
  5  Straighten by 1.2°.
  6  Crop to 16:9, centre.
  7  Long edge 1600 pixels.
  8  Unsharp mask 80, radius 0.5 ‰, from 2 % on.
  9  Write Thistlewick bottom right, size 3 %, 60 % strong.
  →  JPEG, quality 82, named {stem}-web, into Catalogue, web.
";
    assert_eq!(recipe.plain(), want);
    let plan = recipe.layout(&large()).unwrap();
    let sharp = plain(&recipe.steps[7].parts(Some(&plan.place(7, 1.0))));
    assert_eq!(sharp, "Unsharp mask 80, radius 0.8 px, from 2 % on.");
}

#[test]
fn every_fault_is_told_with_its_path() {
    let got = faults(&json!({
        "format": "rallo-recipe", "version": 1, "name": "x", "colour": 1,
        "steps": [
            {"step": "exposure", "stops": 9},
            {"step": "sharpn"},
            {"step": "crop", "proportion": "wide", "place": "middle"},
            {"step": "curve", "all": [[0, 0], [0.5, 2], [1, 1]]},
            {"step": "resize", "long_edge": 10, "fit": [1, 1]},
            {"step": "saturation", "amount": 1, "mix": 101, "on": "yes"},
            {"step": "contrast", "strength": 4},
            7,
        ],
        "deliveries": [{"kind": "pictures", "format": "gif", "name": "{stam}"}, {"kind": "film"}],
    }));
    let want = [
        "colour: unknown, a recipe has format, version, name, note, labels, decode, steps, blocks, deliveries",
        "steps[0].exposure.stops: expected a number from -5 to 5, got 9",
        "steps[1].step: unknown step \"sharpn\", known are ",
        "steps[2].crop.proportion: expected W:H, got \"wide\"",
        "steps[2].crop.place: expected one of top left, top, ",
        "steps[3].curve.all[1]: expected [in, out] from 0 to 1, got [0.5,2]",
        "steps[4].resize.fit: give only one size, got long_edge and fit",
        "steps[5].saturation.mix: expected a number from 0 to 100, got 101",
        "steps[5].saturation.on: expected true or false, got \"yes\"",
        "steps[6].contrast.strength: unknown, contrast takes amount",
        "steps[7]: expected an object with \"step\", got 7",
        "deliveries[0].pictures.format: expected one of jpeg, png, webp, avif, jxl, tiff, as it is, copy, got \"gif\"",
        "deliveries[0].pictures.name: unknown field {stam}",
        "deliveries[1].kind: expected one of pictures, frames, video, pdf, contact, archive, course, dng, stack, got \"film\"",
    ];
    assert_eq!(got.len(), want.len(), "{got:#?}");
    for (got, want) in got.iter().zip(want) {
        assert!(got.starts_with(want), "{got:?} does not start with {want:?}");
    }
}

#[test]
fn wrong_documents_are_told_apart() {
    assert!(Recipe::parse("{").unwrap_err().to_string().starts_with("this is not valid JSON: "));
    assert!(faults(&json!([]))[0].starts_with("expected a recipe (an object)"));
    let bare = faults(&json!({}));
    assert_eq!(bare[0], "format: expected \"rallo-recipe\", got nothing");
    let newer = faults(&json!({"format": "rallo-recipe", "version": 2, "name": "x"}));
    assert_eq!(
        newer,
        ["version: this recipe is of version 2, this program reads up to 1; use a newer program"]
    );
}

#[test]
fn identity_is_about_the_result_only() {
    let recipe = Recipe::parse(CATALOGUE).unwrap();
    let id = recipe.identity(&recipe.shown(), &large());
    let mut renamed = recipe.clone();
    renamed.name = "Other".into();
    let What::Pictures(pictures) = &mut renamed.deliveries[0].what else { panic!() };
    pictures.name = "{n}".into();
    assert_eq!(renamed.identity(&renamed.shown(), &large()), id);
    let mut off = recipe.clone();
    off.steps[0].on = false;
    assert_ne!(off.identity(&off.shown(), &large()), id);
    let mut better = recipe.clone();
    let What::Pictures(pictures) = &mut better.deliveries[0].what else { panic!() };
    pictures.quality = 90;
    assert_ne!(better.identity(&better.shown(), &large()), id);
}

#[test]
fn the_schema_knows_every_step_and_agrees_with_the_checks() {
    let schema = schema();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let good: Value = serde_json::from_str(CATALOGUE).unwrap();
    assert!(validator.is_valid(&good), "{:?}", validator.iter_errors(&good).next().map(|e| e.to_string()));
    assert!(validator.is_valid(&Recipe::parse(CATALOGUE).unwrap().to_value()));
    for kind in registry() {
        let mut step = kind.defaults();
        step["step"] = json!(kind.info.id);
        let mut doc = json!({"format": "rallo-recipe", "version": 1, "name": "x", "steps": [step]});
        assert!(validator.is_valid(&doc), "{}", kind.info.id);
        assert!(faults(&doc).is_empty());
        doc["steps"][0]["no_such_thing"] = json!(1);
        assert!(!validator.is_valid(&doc) && !faults(&doc).is_empty(), "{}", kind.info.id);
    }
    for bad in [
        json!({"step": "exposure", "stops": 9}),
        json!({"step": "crop", "place": "middle"}),
        json!({"step": "x"}),
    ] {
        let doc = json!({"format": "rallo-recipe", "version": 1, "name": "x", "steps": [bad]});
        assert!(!validator.is_valid(&doc) && !faults(&doc).is_empty());
    }
}

#[test]
fn blocks_checkpoints_and_questions_are_read_checked_and_come_back() {
    let good = json!({
        "format": "rallo-recipe", "version": 1, "name": "x",
        "steps": [
            {"step": "exposure", "stops": 1, "ask": ["stops"]},
            {"step": "contrast", "amount": 20, "block": "Look", "checkpoint": "Are the colours right?"},
            {"step": "saturation", "amount": 30, "block": "Look"},
            {"step": "resize", "long_edge": 800},
        ],
        "blocks": [{"name": "Look", "mix": 50, "from": {"recipe": "Base", "version": 3, "follow": true}}],
        "deliveries": [{"kind": "pictures", "format": "jpeg", "quality": 85, "name": "{stem}", "to": "subfolder"}],
    });
    let recipe = Recipe::from_value(&good).unwrap();
    assert_eq!(recipe.to_value(), good);
    let checker = jsonschema::validator_for(&schema()).unwrap();
    assert!(checker.is_valid(&good));
    let said = recipe.plain();
    assert!(
        said.contains("asking for stops") && said.contains("Wait for a yes: Are the colours right?"),
        "{said}"
    );
    assert!(said.contains("Block Look, from Base version 3, followed, mixed 50 %"), "{said}");
    // Only the lines of the block are mixed, and switching it off leaves the others.
    let settings = recipe.settings(&large());
    let mixed: Vec<bool> = settings.iter().map(|s| s.block.is_some()).collect();
    assert_eq!(mixed, [false, true, true, false]);
    let mut off = recipe.clone();
    off.blocks[0].on = false;
    assert_eq!(off.settings(&large()).len(), 2);
    // What stands in a block that is off is not waited for, not asked for and not advised about.
    assert_eq!((recipe.checkpoints().len(), off.checkpoints().len()), (1, 0));
    let mut asking = good.clone();
    asking["steps"][2] = json!({"step": "saturation", "ask": ["amount"], "block": "Look"});
    asking["steps"][1] = json!({"step": "local_contrast", "block": "Look"});
    asking["steps"][3] = json!({"step": "denoise"});
    let mut asking = Recipe::from_value(&asking).unwrap();
    asking.steps[0].on = false;
    assert_eq!((asking.asks().len(), rallo_recipe::advice(&asking).len()), (1, 1));
    asking.blocks[0].on = false;
    assert_eq!((asking.asks().len(), rallo_recipe::advice(&asking).len()), (0, 0));
    // What a block that is off says about the results' data is not said either.
    let mut said = good.clone();
    said["steps"][2] = json!({"step": "data", "creator": "Mara Quill", "block": "Look"});
    let mut said = Recipe::from_value(&said).unwrap();
    assert_eq!(said.data(&large())[0].creator, "Mara Quill");
    said.blocks[0].on = false;
    assert!(said.data(&large()).is_empty());
    assert_ne!(off.identity(&off.shown(), &large()), recipe.identity(&recipe.shown(), &large()));

    let change = |pointer: &str, value: Value| {
        let mut bad = good.clone();
        *bad.pointer_mut(pointer).unwrap() = value;
        faults(&bad)
    };
    for (pointer, value, want) in [
        (
            "/steps/0/ask",
            json!(["sops"]),
            "steps[0].exposure.ask: expected a list of parameters of exposure (stops",
        ),
        ("/steps/1/block", json!("Lok"), "steps[1].contrast.block: there is no block called Lok"),
        ("/steps/3", json!({"step": "grey", "block": "Look"}), ""),
        ("/steps/0/stops", json!(1), ""),
        ("/blocks/0/mix", json!(200), "blocks[0].mix: expected a number from 0 to 100, got 200"),
        (
            "/blocks/0",
            json!({"name": "Look", "off": true}),
            "blocks[0].off: unknown, a block has name, on, mix, from",
        ),
        (
            "/steps/1/checkpoint",
            json!(""),
            "steps[1].contrast.checkpoint: expected text of 1 to 200 characters",
        ),
    ] {
        let found = change(pointer, value);
        match want {
            "" => assert!(found.is_empty(), "{pointer}: {found:?}"),
            want => assert!(found.iter().any(|f| f.starts_with(want)), "{pointer}: {found:?}"),
        }
    }
    let apart = change("/steps/2", json!({"step": "grey"}));
    assert!(apart.is_empty());
    let mut apart = good.clone();
    apart["steps"][3] = json!({"step": "crop", "block": "Look"});
    assert!(
        faults(&apart)[0].contains("Crop cannot be mixed together with other lines"),
        "{:?}",
        faults(&apart)
    );
    apart["steps"][2] = json!({"step": "grey"});
    assert!(faults(&apart)[0].contains("the lines of block Look must be neighbours"), "{:?}", faults(&apart));
}

#[test]
fn how_files_are_read_is_part_of_the_document_and_of_what_it_makes() {
    let with = |decode: Value| {
        Recipe::from_value(&json!({"format": "rallo-recipe", "version": 1, "name": "x", "decode": decode,
            "deliveries": [{"kind": "pictures"}]}))
    };
    let wide = with(json!({"assumed_profile": "display-p3"})).unwrap();
    assert_eq!(wide.to_value()["decode"], json!({"assumed_profile": "display-p3"}));
    assert!(wide.plain().contains("as display-p3"), "{}", wide.plain());
    let usual = with(json!({})).unwrap();
    assert!(usual.to_value().get("decode").is_none());
    let identity = |r: &Recipe| r.identity(&r.files()[0].1, &large());
    assert_ne!(identity(&wide), identity(&usual));
    let refused = with(json!({"assumed_profile": "cinema"})).unwrap_err().to_string();
    assert!(refused.starts_with("decode.assumed_profile: expected one of srgb, display-p3,"), "{refused}");
    assert!(with(json!({"assume": 1})).is_err());
    let black = with(json!({"background": "#000000", "use_part": true})).unwrap();
    assert_eq!(black.to_value()["decode"], json!({"background": "#000000", "use_part": true}));
    let text = black.plain();
    assert!(
        text.contains("transparent parts on #000000") && text.contains("the part that is there"),
        "{text}"
    );
    assert_ne!(identity(&black), identity(&usual));
    let later = usual.reading(json!({"use_part": true}).as_object().unwrap()).unwrap();
    assert!(later.decode.use_part && !usual.decode.use_part);
    assert!(usual.reading(json!({"use_part": "yes"}).as_object().unwrap()).is_err());
    let linear = with(json!({"raw": {"look": "linear"}})).unwrap();
    assert_eq!(linear.to_value()["decode"], json!({"raw": {"look": "linear"}}));
    assert!(linear.plain().contains("with the look linear") && identity(&linear) != identity(&usual));
    assert!(with(json!({"raw": {"look": "film"}})).is_err());
    let refused = with(json!({"background": "black"})).unwrap_err().to_string();
    assert!(refused.starts_with("decode.background: expected a colour such as #ffffff"), "{refused}");
}
