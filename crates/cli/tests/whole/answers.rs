//! What the HTTP interface answers to requests that ask for something wrong: a status, and a sentence that says what, where
//! and what to do, as JSON.

use crate::common::web::site;
use crate::common::*;
use serde_json::{Value, json};

/// What is not there any more, or never was.

#[test]
fn every_refusal_says_what_is_wrong() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir_all(folder.path().join("pictures/Spring")).unwrap();
    let site = site(folder.path(), &[]);
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "x"});
    let delivered =
        |size: Value| json!({"recipe": recipe, "frame": 1, "at": 0, "middle": [0.5, 0.5], "size": size});
    for (request, body, status, says) in [
        // Nothing is chosen yet.
        ("POST /api/check", json!({}), 422, "there are no readable frames to check"),
        ("POST /api/gather/go", json!({}), 422, "there is no plan to carry out"),
        ("POST /api/runs", json!({}), 422, "there is no shoot; choose a folder in Frames first"),
        ("POST /api/sheet", json!({}), 422, "there is no shoot; choose a folder in Frames first"),
        ("POST /api/runs/again", json!({}), 422, "nothing has run yet, so there is nothing to repeat"),
        ("GET /api/shoot-file", Value::Null, 422, "there is no shoot to save"),
        // Numbers that belong to nothing.
        ("GET /api/runs/7", Value::Null, 404, "there is no run 7 any more; go back and choose again"),
        (
            "GET /api/runs/7/report.json",
            Value::Null,
            404,
            "there is no run 7 any more; go back and choose again",
        ),
        (
            "GET /api/runs/7/report.csv",
            Value::Null,
            404,
            "there is no run 7 any more; go back and choose again",
        ),
        (
            "GET /api/runs/7/results.zip",
            Value::Null,
            404,
            "there is no run 7 any more; go back and choose again",
        ),
        (
            "GET /api/runs/7/items/0/result",
            Value::Null,
            404,
            "there is no picture 1 in run 7 any more; go back and choose again",
        ),
        (
            "GET /api/runs/7/items/0/file/0",
            Value::Null,
            404,
            "there is no picture 1 in run 7 any more; go back and choose again",
        ),
        ("GET /api/recipes/9", Value::Null, 404, "there is no recipe 9 any more; go back and choose again"),
        (
            "GET /api/recipes/file?ids=9",
            Value::Null,
            404,
            "there is no recipe 9 any more; go back and choose again",
        ),
        (
            "GET /api/frames/1/thumb",
            Value::Null,
            404,
            "there is no frame 1 any more; go back and choose again",
        ),
        (
            "POST /api/delivered",
            delivered(json!([10, 10])),
            404,
            "there is no frame 1 any more; go back and choose again",
        ),
        ("GET /api/recipes/file?ids=", Value::Null, 422, "ids: expected at least one recipe"),
        ("GET /api/recipes/file?ids=a", Value::Null, 422, "ids: expected numbers, got a"),
        // Values out of their range.
        ("POST /api/tokens", json!({"name": ""}), 422, "a name of 1 to 80 characters is needed"),
        ("POST /api/selections", json!({"name": " ", "ids": []}), 422, "a selection needs a name"),
        ("POST /api/shoots", json!({"places": []}), 422, "choose at least one folder or picture"),
        ("POST /api/smaller", json!("no document"), 422, "this PDF cannot be read: it is none"),
        (
            "POST /api/smaller?ppi=5",
            json!("x"),
            422,
            "expected ppi from 36 to 1200 and quality from 1 to 100",
        ),
        (
            "POST /api/names",
            json!({"name": "{stam}"}),
            422,
            "name: unknown field {stam}, known are {stem}, {n}",
        ),
        // Folders that are not to be seen.
        (
            "GET /api/folders?path=/etc",
            Value::Null,
            403,
            "/etc lies outside the folders this program may use",
        ),
        ("GET /api/clip?path=/no/such.mp4", Value::Null, 403, "/no/such.mp4 lies outside"),
        (
            "POST /api/drops/abc/run",
            json!({"recipe": 1}),
            404,
            "these pictures are not here any more; drop them again",
        ),
        // Documents with faults have each at its place.
        (
            "POST /api/recipes",
            json!({"format": "x"}),
            422,
            "format: expected \"rallo-recipe\", got \"x\"\nversion: expected 1, got nothing\nname: expected a name",
        ),
        // Requests that are not as the interface says.
        ("POST /api/gather", json!({}), 422, "target is missing in the request"),
        ("POST /api/watches", json!({}), 422, "name is missing in the request"),
        ("POST /api/shoots", json!({"places": [{}]}), 422, "places[0]: path is missing in the request"),
        (
            "PUT /api/limits",
            json!({"cores": -1}),
            422,
            "the request does not fit: cores: invalid value: integer `-1`",
        ),
        ("PUT /api/recipes/9", json!([]), 422, "the request does not fit: "),
    ] {
        let (method, path) = request.split_once(' ').unwrap();
        let answer = site.ask(method, path, &body);
        assert_eq!(answer.status, status, "{request} {body}: {}", answer.text());
        let told = answer.json()["detail"].as_str().unwrap_or_default().to_owned();
        assert!(told.starts_with(says), "{request} {body}: {told}");
    }
    let bearer = format!("Bearer {}", site.token);
    for (kind, body, status, says) in [
        ("application/json", "[1", 400, "the request is not valid JSON: EOF while parsing a list"),
        ("text/plain", "{}", 415, "the request is to be JSON, and to say so"),
    ] {
        let headers = [("Authorization", bearer.as_str()), ("Content-Type", kind)];
        let answer = site.raw("POST /api/recipes", &headers, body.as_bytes());
        assert_eq!(answer.status, status, "{}", answer.text());
        assert!(answer.text().contains(says), "{}", answer.text());
    }
    // Nothing of all that left anything behind.
    let recipes = site.json("GET", "/api/recipes", &Value::Null);
    assert!(recipes.as_array().unwrap().iter().all(|r| r["name"] == "New recipe"), "{recipes}");
    assert_eq!(std::fs::read_dir(folder.path().join("pictures/Spring")).unwrap().count(), 0);
}

#[test]
fn what_is_kept_has_a_name_that_every_browser_takes() {
    let folder = tempfile::tempdir().unwrap();
    let pictures = folder.path().join("pictures");
    std::fs::create_dir_all(&pictures).unwrap();
    write_jpeg(&pictures.join("a.jpg"), 90, 60, 1);
    let site = site(folder.path(), &[]);
    let named = |name: &str| json!({"format": "rallo-recipe", "version": 1, "name": name, "steps": []});
    let made = site.json("POST", "/api/recipes", &named("Grün \"& hell\""));
    let answer = site.ask("GET", &format!("/api/recipes/file?ids={}", made["id"]), &Value::Null);
    let told = answer.header("content-disposition").unwrap().to_owned();
    // Plain letters for old browsers, all of them for the others; no quotation mark ends the name early.
    assert!(told.starts_with("attachment; filename=\"Gr_n ") && told.matches('"').count() == 2, "{told}");
    assert!(told.contains("filename*=UTF-8''Gr%C3%BCn%20") && told.ends_with(".rallo-recipe.json"), "{told}");
    assert_eq!(answer.json()["name"], "Grün \"& hell\"");
}

#[test]
fn what_the_pages_are_made_of_is_sent_again_only_when_it_has_changed() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir_all(folder.path().join("pictures")).unwrap();
    let site = site(folder.path(), &[]);
    let bearer = format!("Bearer {}", site.token);
    let ask = |known: &str| {
        site.raw(
            "GET /assets/app/api.js",
            &[("Authorization", bearer.as_str()), ("If-None-Match", known)],
            b"",
        )
    };
    let first = ask("\"other\"");
    let tag = first.header("etag").unwrap().to_owned();
    assert!(first.status == 200 && !first.text().is_empty() && tag.starts_with('"'), "{tag}");
    for known in [tag.clone(), format!("\"x\", W/{tag}")] {
        let again = ask(&known);
        assert!(again.status == 304 && again.text().is_empty(), "{known}: {}", again.status);
    }
}
