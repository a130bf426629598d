//! The HTTP interface described for programs: OpenAPI 3.1, served at `/api/openapi.json`.

use super::{bench, clips, delivered, drops, folders, frames, gather, recipes, runs, sheet, watches};
use crate::App;
use crate::api::{auth, inspect};
use axum::routing::get;
use axum::{Json, Router};
use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, SchemaGenerator};
use serde_json::{Map, Value, json};

pub fn routes() -> Router<App> {
    Router::new().route("/api/openapi.json", get(|| async { Json(document()) }))
}

/// What a request brings.
enum Body {
    Nothing,
    /// A type of ours.
    Of(fn(&mut SchemaGenerator) -> Value),
    /// JSON described here.
    Json(&'static str),
    /// The bytes of a file.
    File,
}

/// What is answered.
#[derive(Clone, Copy)]
enum Answer {
    Json,
    Picture,
    Text(&'static str),
}

fn of<T: JsonSchema>(generator: &mut SchemaGenerator) -> Value {
    generator.subschema_for::<T>().to_value()
}

use Answer::{Json as AsJson, Picture, Text};
use Body::{File, Json as Plain, Nothing, Of};

type Route = (&'static str, &'static str, &'static str, Body, Answer);

const LIMITS: &str = r#"{"type": "object", "properties": {"cores": {"type": "integer", "minimum": 0},
    "memory": {"type": "integer", "minimum": 0}, "quiet": {"type": "boolean"}}, "additionalProperties": false}"#;
const RECIPE: &str =
    r#"{"type": ["object", "null"], "description": "A recipe document, see rallo recipe schema."}"#;
const OBJECT: &str = r#"{"type": "object"}"#;

/// Every route: method, path, what it does, what it takes and answers.
fn all() -> Vec<Route> {
    vec![
        ("get", "/api/openapi.json", "This document", Nothing, AsJson),
        // Frames.
        ("get", "/api/folders", "Folders that may be used, or those inside ?path=", Nothing, AsJson),
        ("post", "/api/folders", "Make a folder", Of(of::<folders::NewFolder>), AsJson),
        ("get", "/api/shoots", "Shoots", Nothing, AsJson),
        (
            "post",
            "/api/shoots",
            "Open folders and files as a shoot, or one that is known",
            Plain(OBJECT),
            AsJson,
        ),
        (
            "put",
            "/api/shoots/{id}",
            "Name, following, results of a shoot",
            Of(of::<folders::ChangeShoot>),
            AsJson,
        ),
        ("post", "/api/shoots/{id}/scan", "Look through a shoot's folders again", Nothing, AsJson),
        ("get", "/api/shoots/{id}/left-out", "Files that were left out, with reasons", Nothing, AsJson),
        (
            "post",
            "/api/dropped",
            "Find files on this machine by name, size and time",
            Of(of::<Vec<folders::Dropped>>),
            AsJson,
        ),
        ("get", "/api/shoot-file", "The shoot on the desk as a document", Nothing, AsJson),
        ("post", "/api/shoot-file", "Take over a shoot document", Plain(r#"{"type": "string"}"#), AsJson),
        ("post", "/api/view", "Frames on the desk, filtered and sorted", Plain(OBJECT), AsJson),
        ("post", "/api/rows", "What is shown of some frames", Of(of::<frames::Ids>), AsJson),
        ("post", "/api/change", "Choose, rate, label frames", Plain(OBJECT), AsJson),
        ("post", "/api/undo", "Take the last change back", Nothing, AsJson),
        ("post", "/api/redo", "Do it again after all", Nothing, AsJson),
        ("post", "/api/shift", "Correct capture times", Of(of::<frames::Shift>), AsJson),
        ("post", "/api/check", "Check a sequence", Of(of::<frames::Ids>), AsJson),
        (
            "post",
            "/api/sidecars",
            "Write or read XMP files beside frames",
            Of(of::<frames::Sidecars>),
            AsJson,
        ),
        ("get", "/api/keywords", "Keywords of one's own", Nothing, AsJson),
        ("put", "/api/keywords", "Keep them", Of(of::<Vec<String>>), AsJson),
        ("get", "/api/selections", "Selections", Nothing, AsJson),
        ("post", "/api/selections", "Keep a selection", Of(of::<frames::Named>), AsJson),
        ("delete", "/api/selections/{id}", "Forget a selection", Nothing, AsJson),
        (
            "post",
            "/api/selections/{id}/remove",
            "Take frames out of a selection",
            Of(of::<frames::Ids>),
            AsJson,
        ),
        ("get", "/api/frames/{id}/thumb", "A frame, small", Nothing, Picture),
        ("get", "/api/frames/{id}/part", "A part of a frame at full size: ?x=&y=&w=&h=", Nothing, Picture),
        ("get", "/api/desk", "What lies on the desk", Nothing, AsJson),
        ("put", "/api/desk", "Lay something else on it", Plain(OBJECT), AsJson),
        ("get", "/api/gather", "A gathering: plan, progress, report", Nothing, AsJson),
        (
            "post",
            "/api/gather",
            "Plan verified copies of the frames on the desk",
            Of(of::<gather::Start>),
            AsJson,
        ),
        ("post", "/api/gather/go", "Make the copies", Nothing, AsJson),
        ("post", "/api/gather/stop", "Stop after the copy in work", Nothing, AsJson),
        ("get", "/api/camera", "The simulated camera", Nothing, AsJson),
        ("post", "/api/camera", "Let it shoot into a folder", Plain(OBJECT), AsJson),
        ("post", "/api/camera/stop", "Let it stop", Nothing, AsJson),
        // Recipes.
        ("get", "/api/steps", "Every step with its parameters", Nothing, AsJson),
        ("post", "/api/plan", "What a recipe makes of a frame", Of(of::<bench::Ask>), AsJson),
        ("post", "/api/render", "A part of a frame through a recipe", Of(of::<bench::Ask>), Picture),
        ("post", "/api/neutral", "White balance from a neutral spot", Of(of::<bench::Ask>), AsJson),
        ("post", "/api/value", "The value of one pixel of a result", Of(of::<bench::Ask>), AsJson),
        ("post", "/api/cost", "Seconds and bytes of one picture", Of(of::<bench::Ask>), AsJson),
        ("post", "/api/move", "The course of a clip's window", Of(of::<delivered::Moving>), AsJson),
        (
            "post",
            "/api/delivered",
            "A part of a file as a delivery would write it",
            Of(of::<delivered::Delivered>),
            Picture,
        ),
        (
            "post",
            "/api/names",
            "Old and new names of the frames on the desk",
            Of(of::<delivered::Template>),
            AsJson,
        ),
        ("post", "/api/places", "Places worth a close look", Of(of::<bench::Ask>), AsJson),
        ("get", "/api/typical", "The most typical frames", Nothing, AsJson),
        ("get", "/api/proof", "The sample and the frames least like it", Nothing, AsJson),
        ("put", "/api/proof", "Keep what was accepted", Of(of::<inspect::Proof>), AsJson),
        ("get", "/api/recipes", "Recipes", Nothing, AsJson),
        ("post", "/api/recipes", "Keep a new recipe", Plain(RECIPE), AsJson),
        ("post", "/api/recipes/load", "Take in a file of recipes", Plain(r#"{"type": "string"}"#), AsJson),
        ("get", "/api/recipes/file", "Recipes as a file: ?ids=", Nothing, AsJson),
        (
            "post",
            "/api/recipes/block",
            "A document with another recipe as a block",
            Of(of::<recipes::Take>),
            AsJson,
        ),
        ("get", "/api/starters", "Recipes to start from", Nothing, AsJson),
        ("get", "/api/kept", "Values kept under names", Nothing, AsJson),
        ("put", "/api/kept", "Keep values under a name", Of(of::<recipes::KeepValues>), AsJson),
        ("get", "/api/recipes/{id}", "A recipe", Nothing, AsJson),
        ("put", "/api/recipes/{id}", "Its next version", Of(of::<recipes::Save>), AsJson),
        ("delete", "/api/recipes/{id}", "Remove it with its versions", Nothing, AsJson),
        ("post", "/api/recipes/{id}/copy", "Duplicate it", Nothing, AsJson),
        ("get", "/api/recipes/{id}/versions", "Its versions with what changed", Nothing, AsJson),
        ("get", "/api/recipes/{id}/versions/{version}", "One version", Nothing, AsJson),
        ("post", "/api/recipes/{id}/versions/{version}", "Go back to it", Nothing, AsJson),
        // Runs.
        (
            "post",
            "/api/sheet",
            "What a run of what lies on the desk would do",
            Of(of::<sheet::Asked>),
            AsJson,
        ),
        (
            "post",
            "/api/sheet/measure",
            "Times and sizes, from a few pictures made",
            Of(of::<sheet::Asked>),
            AsJson,
        ),
        ("post", "/api/sheet/keep", "Keep the changes in the recipe", Of(of::<sheet::Asked>), AsJson),
        ("get", "/api/runs", "The queue", Nothing, AsJson),
        ("post", "/api/runs", "Start a run of what lies on the desk", Of(of::<sheet::Asked>), AsJson),
        ("post", "/api/runs/go", "Start it if there is nothing to say", Nothing, AsJson),
        ("post", "/api/runs/again", "The last run once more, on what is chosen now", Nothing, AsJson),
        (
            "get",
            "/api/runs/{id}",
            "A run and its progress; ?since= for what has ended after that",
            Nothing,
            AsJson,
        ),
        ("post", "/api/runs/{id}/cancel", "Cancel it; what is done stays", Nothing, AsJson),
        ("post", "/api/runs/{id}/pause", "Let it pause after the pictures in work", Nothing, AsJson),
        ("post", "/api/runs/{id}/go-on", "Let it go on", Nothing, AsJson),
        ("post", "/api/runs/{id}/retry", "Try failed pictures again, or one", Of(of::<runs::Retry>), AsJson),
        ("post", "/api/runs/{id}/move", "Another place in the queue", Of(of::<runs::Move>), AsJson),
        ("post", "/api/runs/{id}/undo", "Remove what it wrote, as far as unchanged", Nothing, AsJson),
        ("get", "/api/runs/{id}/checkpoint", "What it asks", Nothing, AsJson),
        ("post", "/api/runs/{id}/checkpoint", "The yes it waits for", Of(of::<runs::Pass>), AsJson),
        (
            "post",
            "/api/runs/{id}/look",
            "One of its pictures with other values",
            Of(of::<runs::Look>),
            Picture,
        ),
        ("get", "/api/runs/{id}/report.json", "Its report", Nothing, AsJson),
        ("get", "/api/runs/{id}/report.csv", "Its report as a table", Nothing, Text("text/csv")),
        ("get", "/api/runs/{id}/results.zip", "What it wrote, in one file", Nothing, Text("application/zip")),
        ("get", "/api/runs/{id}/items/{position}/thumb", "A result, small", Nothing, Picture),
        ("get", "/api/runs/{id}/items/{position}/result", "A result", Nothing, Picture),
        ("get", "/api/runs/{id}/items/{position}/original", "Its original", Nothing, Picture),
        (
            "get",
            "/api/runs/{id}/items/{position}/file/{n}",
            "A file it wrote, or a range of it",
            Nothing,
            Text("application/octet-stream"),
        ),
        (
            "get",
            "/api/runs/{id}/items/{position}/proxy",
            "A clip for browsers, of one they do not play",
            Nothing,
            Text("video/webm"),
        ),
        ("get", "/api/runs/{id}/items/{position}/still", "A clip's first frame", Nothing, Picture),
        (
            "post",
            "/api/smaller",
            "A PDF with its pictures reduced: ?ppi=&quality=",
            File,
            Text("application/pdf"),
        ),
        ("get", "/api/clip", "What is known about a clip: ?path=", Nothing, AsJson),
        ("post", "/api/clip", "Take its frames out into a folder", Of(of::<clips::TakeOut>), AsJson),
        ("get", "/api/limits", "What runs may have of this machine", Nothing, AsJson),
        ("put", "/api/limits", "Give them another share", Plain(LIMITS), AsJson),
        ("get", "/api/in-work", "Frames on the desk that are in work", Nothing, AsJson),
        ("get", "/events", "What happens, as server-sent events", Nothing, Text("text/event-stream")),
        // More ways in.
        ("post", "/api/drops", "Begin to bring pictures", Nothing, AsJson),
        ("put", "/api/drops/{drop}/files/{name}", "Bring one", File, AsJson),
        (
            "post",
            "/api/drops/{drop}/run",
            "Run a recipe on what was brought",
            Of(of::<drops::DropRun>),
            AsJson,
        ),
        ("delete", "/api/drops/{drop}", "Give it up", Nothing, AsJson),
        ("get", "/api/watches", "Watched folders", Nothing, AsJson),
        ("post", "/api/watches", "Watch a folder", Of(of::<watches::NewWatch>), AsJson),
        ("delete", "/api/watches/{id}", "Watch it no longer", Nothing, AsJson),
        ("post", "/api/watches/{id}/pause", "Let it pause", Nothing, AsJson),
        ("post", "/api/watches/{id}/go-on", "Let it go on", Nothing, AsJson),
        ("post", "/api/watches/{id}/renew", "Take the newest version of its recipe", Nothing, AsJson),
        ("get", "/api/kept-work", "What is kept on the disk to save time", Nothing, AsJson),
        (
            "put",
            "/api/kept-work",
            "Give it another size, or empty it",
            Of(of::<super::cache::NewLimit>),
            AsJson,
        ),
        // Who may come in.
        ("get", "/api/tokens", "Tokens of scripts", Nothing, AsJson),
        ("post", "/api/tokens", "Make one; it is told this once", Of(of::<auth::NewToken>), AsJson),
        ("delete", "/api/tokens/{id}", "Take one away", Nothing, AsJson),
        ("post", "/api/logout", "End this session", Nothing, AsJson),
    ]
}

/// The parameters in a path.
fn parameters(path: &str) -> Vec<Value> {
    let names = path.split('{').skip(1).filter_map(|p| p.split_once('}')).map(|(name, _)| name);
    names
        .map(|name| {
            let number = !matches!(name, "drop" | "name");
            let kind = if number { "integer" } else { "string" };
            json!({"name": name, "in": "path", "required": true, "schema": {"type": kind}})
        })
        .collect()
}

fn answers(answer: Answer) -> Value {
    let good = match answer {
        AsJson => json!({"application/json": {}}),
        Picture => json!({"image/jpeg": {}, "image/png": {}, "application/octet-stream": {}}),
        Text(kind) => json!({ kind: {} }),
    };
    let error = json!({"description": "Why not, for people",
        "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Refusal"}}}});
    json!({"200": {"description": "Done", "content": good}, "4XX": error})
}

/// The document.
pub fn document() -> Value {
    // JSON Schema 2020-12, as OpenAPI 3.1 has it, with the definitions where that looks for them.
    let settings = SchemaSettings::draft2020_12().with(|s| {
        s.definitions_path = "/components/schemas".into();
        s.meta_schema = None;
    });
    let mut generator = settings.into_generator();
    let mut paths: Map<String, Value> = Map::new();
    for (method, path, summary, body, answer) in all() {
        let mut one =
            json!({"summary": summary, "parameters": parameters(path), "responses": answers(answer)});
        let content = match body {
            Nothing => None,
            Of(schema) => Some(json!({"application/json": {"schema": schema(&mut generator)}})),
            Plain(text) => {
                let schema: Value = serde_json::from_str(text).unwrap_or_default();
                Some(json!({"application/json": {"schema": schema}}))
            }
            File => Some(json!({"application/octet-stream": {}})),
        };
        if let Some(content) = content {
            one["requestBody"] = json!({"required": true, "content": content});
        }
        paths.entry(path).or_insert_with(|| json!({}))[method] = one;
    }
    let mut schemas = generator.take_definitions(true);
    schemas.insert(
        "Refusal".into(),
        json!({"type": "object", "properties": {"title": {"type": "string"}, "status": {"type": "integer"},
            "detail": {"type": "string"}}, "required": ["title", "status", "detail"]}),
    );
    json!({
        "openapi": "3.1.0",
        "info": {
            "title": "Rallo",
            "version": env!("CARGO_PKG_VERSION"),
            "description": "Everything the pages do. A script brings a token (rallo token add NAME) as Authorization: Bearer.",
        },
        "security": [{"token": []}],
        "components": {"securitySchemes": {"token": {"type": "http", "scheme": "bearer"}}, "schemas": schemas},
        "paths": paths,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    /// Routes as the source files register them.
    fn registered() -> BTreeSet<(String, String)> {
        let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src/api");
        let mut all = BTreeSet::new();
        for entry in std::fs::read_dir(folder).unwrap() {
            let text = std::fs::read_to_string(entry.unwrap().path()).unwrap();
            for part in text.split(".route(\"").skip(1) {
                let (path, rest) = part.split_once('"').unwrap();
                // Up to the next call of the router.
                let rest = rest.split(".route(").next().unwrap().split('\n').next().unwrap();
                for method in ["get", "post", "put", "delete"] {
                    if rest.contains(&format!("{method}(")) {
                        all.insert((method.to_owned(), path.to_owned()));
                    }
                }
            }
        }
        all.retain(|(_, path)| path.starts_with("/api/") || path == "/events");
        all
    }

    #[test]
    fn every_route_is_described_and_nothing_else() {
        let described: BTreeSet<(String, String)> =
            all().iter().map(|r| (r.0.to_owned(), r.1.to_owned())).collect();
        let registered = registered();
        assert!(registered.len() > 80, "{}", registered.len());
        assert_eq!(registered.difference(&described).collect::<Vec<_>>(), Vec::<&(String, String)>::new());
        assert_eq!(described.difference(&registered).collect::<Vec<_>>(), Vec::<&(String, String)>::new());
    }

    #[test]
    fn every_reference_leads_somewhere() {
        let document = document();
        let text = document.to_string();
        for part in text.split("\"$ref\":\"").skip(1) {
            let to = part.split('"').next().unwrap().trim_start_matches('#');
            assert!(document.pointer(to).is_some(), "{to}");
        }
        assert!(document.pointer("/paths/~1api~1runs/post/requestBody").is_some());
        assert!(document["components"]["schemas"]["Asked"]["properties"]["leave_out"].is_object(), "{text}");
    }
}
