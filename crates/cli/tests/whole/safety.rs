//! Attacks: from other sites, over the network, by paths, by sizes, by what is written into names.

use crate::common::web::{Answer, Site, site};
use crate::common::*;
use serde_json::{Value, json};
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir_all(folder.path().join("pictures/Spring")).unwrap();
    folder
}

const JSON: (&str, &str) = ("Content-Type", "application/json");

#[test]
fn other_sites_and_other_names_are_refused() {
    let folder = folder();
    let site = site(folder.path(), &["--host", "desk.example:8443"]);
    let get = |path: &str, headers: &[(&str, &str)]| site.raw(&format!("GET {path}"), headers, b"").status;
    assert_eq!(get("/frames", &[]), 200);
    // A name that was pointed at this machine from outside.
    assert_eq!(get("/frames", &[("Host", "evil.example")]), 421);
    assert_eq!(get("/api/recipes", &[("Host", "127.0.0.1")]), 421);
    assert_eq!(get("/frames", &[("Host", "desk.example:8443")]), 200);
    // Another site's page: its requests, its pictures and frames; a link that somebody follows is well.
    assert_eq!(get("/api/recipes", &[("Origin", "https://evil.example")]), 403);
    assert_eq!(get("/api/runs", &[("Sec-Fetch-Site", "cross-site"), ("Sec-Fetch-Mode", "no-cors")]), 403);
    assert_eq!(get("/frames", &[("Sec-Fetch-Site", "cross-site"), ("Sec-Fetch-Mode", "navigate")]), 200);
    // What changes something needs the page's token, or a script's.
    let post = |headers: &[(&str, &str)]| site.raw("POST /api/recipes", headers, b"null").status;
    assert_eq!(post(&[JSON]), 403);
    assert_eq!(post(&[JSON, ("X-Rallo-Token", "0000000000000000000000000000000")]), 403);
    assert_eq!(post(&[JSON, ("Authorization", "Bearer 1234")]), 401);
    assert_eq!(post(&[JSON, ("Authorization", "Basic YTpi")]), 401);
    assert_eq!(site.ask("POST", "/api/recipes", &Value::Null).status, 400, "no body is no JSON");
    assert_eq!(site.ask("POST", "/api/recipes", &json!({"format": "x"})).status, 422);
    let page = site.raw("GET /frames", &[], b"").text();
    let token = page.split("name=\"rallo-token\" content=\"").nth(1).unwrap().split('"').next().unwrap();
    assert_eq!(post(&[JSON, ("X-Rallo-Token", token)]), 200);
    assert_eq!(post(&[JSON, ("X-Rallo-Token", token), ("Origin", "https://evil.example")]), 403);
    // A token that was taken away opens nothing.
    let tokens = site.json("GET", "/api/tokens", &Value::Null);
    assert_eq!(tokens[0]["name"], "test");
    assert!(!tokens.to_string().contains(&site.token));
    assert_eq!(site.ask("DELETE", &format!("/api/tokens/{}", tokens[0]["id"]), &Value::Null).status, 200);
    assert_eq!(site.ask("GET", "/api/tokens", &Value::Null).status, 401);
}

#[test]
fn paths_do_not_lead_out_of_the_allowed_folders() {
    let folder = folder();
    let outside = tempfile::tempdir().unwrap();
    write_jpeg(&outside.path().join("secret.jpg"), 60, 40, 1);
    std::os::unix::fs::symlink(outside.path(), folder.path().join("pictures/link")).unwrap();
    let site = site(folder.path(), &[]);
    let inside = folder.path().join("pictures/Spring");
    let link = folder.path().join("pictures/link");
    let climb = inside.join("../../data");
    for path in [Path::new("/etc"), outside.path(), &link, &climb, Path::new("..")] {
        let text = path.to_string_lossy().into_owned();
        assert_eq!(site.ask("GET", &format!("/api/folders?path={text}"), &Value::Null).status, 403, "{text}");
        let open = site.ask("POST", "/api/shoots", &json!({"places": [{"path": text, "deep": false}]}));
        assert!(matches!(open.status, 403 | 422), "{text}: {}", open.text());
        assert_eq!(
            site.ask("POST", "/api/folders", &json!({"parent": text, "name": "x"})).status,
            403,
            "{text}"
        );
        let gather = site.ask("POST", "/api/gather", &json!({"target": text, "template": "{stem}"}));
        assert!(matches!(gather.status, 403 | 422), "{text}");
    }
    let climbing = site.ask("POST", "/api/folders", &json!({"parent": inside, "name": "../../x"}));
    assert_eq!(
        Path::new(climbing.json()["path"].as_str().unwrap()).parent(),
        Some(inside.canonicalize().unwrap().as_path())
    );
    // Watched folders and results of a run.
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Out", "steps": [],
        "deliveries": [{"kind": "pictures", "name": "{stem}", "to": outside.path()}]});
    let id = site.json("POST", "/api/recipes", &recipe)["id"].clone();
    let watch = |folder: &Path, target: Option<&Path>| {
        site.ask(
            "POST",
            "/api/watches",
            &json!({"name": "x", "recipe": id, "folder": folder, "target": target}),
        )
        .status
    };
    assert_eq!(watch(outside.path(), None), 422);
    assert_eq!(watch(&link, None), 422);
    assert_eq!(watch(&inside, Some(outside.path())), 422);
    write_jpeg(&inside.join("a.jpg"), 60, 40, 1);
    site.json("POST", "/api/shoots", &json!({"places": [{"path": inside, "deep": false}]}));
    std::thread::sleep(std::time::Duration::from_millis(500));
    let sheet = site.json("POST", "/api/sheet", &json!({}));
    let stop = &sheet["problems"][0];
    assert!(
        stop["stops"] == true && stop["message"].as_str().unwrap().contains("lies outside the folders"),
        "{sheet}"
    );
    assert_eq!(site.ask("POST", "/api/runs", &json!({})).status, 422);
    assert_eq!(site.ask("POST", "/api/runs/go", &Value::Null).json()["sheet"], true);
    // The mend that is offered lets it run.
    let way = &stop["mends"][0];
    let sheet = site.json("POST", "/api/sheet", &json!({"delivery": [{"values": way["values"]}]}));
    assert!(!sheet["problems"].to_string().contains("outside"), "{sheet}");
    assert_eq!(std::fs::read_dir(outside.path()).unwrap().count(), 1);
    // A command is nothing a page may give.
    let hook = site.ask(
        "POST",
        "/api/runs",
        &json!({"delivery": [{"values": way["values"]}], "report_to": "touch /tmp/x"}),
    );
    assert!(hook.status == 422 && hook.text().contains("expected an address"), "{}", hook.text());
}

#[test]
fn what_is_too_large_or_malformed_is_refused_and_the_server_goes_on() {
    let folder = folder();
    let site = site(folder.path(), &[]);
    let bearer = format!("Bearer {}", site.token);
    let with = |path: &str, kind: &str, body: &[u8]| {
        site.raw(&format!("POST {path}"), &[("Authorization", &bearer), ("Content-Type", kind)], body)
    };
    let large = format!("\"{}\"", "x".repeat(33_000_000));
    assert_eq!(with("/api/recipes/load", "application/json", large.as_bytes()).status, 413);
    let deep = format!("{}1{}", "[".repeat(100_000), "]".repeat(100_000));
    assert!(matches!(with("/api/recipes", "application/json", deep.as_bytes()).status, 400 | 422));
    assert_eq!(with("/api/recipes", "text/plain", b"{}").status, 415);
    assert_eq!(with("/api/sheet", "application/json", b"{\"nothing\": 1}").status, 422);
    assert_eq!(site.raw("GET /assets/../../Cargo.toml", &[], b"").status, 404);
    assert_eq!(site.raw("GET /assets/%2e%2e/%2e%2e/etc/passwd", &[], b"").status, 404);
    assert_eq!(site.raw("GET /nothing", &[], b"").status, 404);
    assert_eq!(site.raw("GET /frames", &[], b"").status, 200);
}

/// Names that would be a script if they were not taken for text.
const SCRIPT: &str = "<img src=x onerror=alert(1)>'\"><script>alert(2)</script>";

#[test]
fn pages_have_no_inline_script_and_show_names_as_text() {
    let folder = folder();
    let file = "pictures/Spring/<b onmouseover=alert(1)>.jpg";
    write_jpeg(&folder.path().join(file), 60, 40, 1);
    let site = site(folder.path(), &[]);
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": SCRIPT, "note": SCRIPT,
        "steps": [{"step": "exposure", "stops": 0.3, "checkpoint": SCRIPT}],
        "deliveries": [{"kind": "pictures", "name": "{stem}"}]});
    let id = site.json("POST", "/api/recipes", &recipe)["id"].clone();
    site.json(
        "POST",
        "/api/shoots",
        &json!({"places": [{"path": folder.path().join("pictures/Spring"), "deep": false}]}),
    );
    std::thread::sleep(std::time::Duration::from_millis(500));
    let run = site.json("POST", "/api/runs", &json!({}))["run"].clone();
    let pages = [
        "/", "/frames", "/bench", "/recipes", "/proof", "/sheet", "/runs", "/watched", "/setup", "/keys",
        "/tools", "/second", "/login",
    ];
    let pages = pages.map(str::to_owned).into_iter();
    for page in
        pages.chain([format!("/recipes/{id}/sheet"), format!("/runs/{run}"), format!("/runs/{run}/report")])
    {
        let answer = site.raw(&format!("GET {page}"), &[], b"");
        assert_eq!(answer.status, 200, "{page}");
        let policy = answer.header("content-security-policy").unwrap();
        assert!(policy.contains("default-src 'self'") && !policy.contains("unsafe"), "{policy}");
        assert_eq!(answer.header("x-content-type-options"), Some("nosniff"));
        let html = answer.text();
        for script in html.split("<script").skip(1) {
            assert!(script.split('>').next().unwrap().contains(" src=\"/assets/"), "{page}: {script:.60}");
        }
        assert!(!html.contains("onerror=alert(1)>") && !html.contains("<script>alert"), "{page}");
        for tag in html.split('<').skip(1) {
            let tag = tag.split('>').next().unwrap();
            assert!(!tag.contains(" style=") && !tag.contains(" onclick="), "{page}: {tag}");
        }
    }
    let names = site.raw(&format!("GET /runs/{run}/report"), &[], b"").text();
    assert!(names.contains("&#60;b onmouseover") || names.contains("&lt;b onmouseover"), "the file is named");
}

fn set_passphrase(folder: &Path, text: &str) {
    let mut child = Command::new(env!("CARGO_BIN_EXE_rallo"))
        .args(["--data", &folder.join("data").to_string_lossy(), "passphrase"])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
}

fn say_passphrase(site: &Site, text: &str, origin: &str) -> Answer {
    let headers = [("Origin", origin), ("Content-Type", "application/x-www-form-urlencoded")];
    site.raw("POST /login", &headers, format!("passphrase={text}").as_bytes())
}

#[test]
fn beyond_this_machine_the_passphrase_is_asked_for() {
    let folder = folder();
    let data = folder.path().join("data").to_string_lossy().into_owned();
    let pictures = folder.path().join("pictures").to_string_lossy().into_owned();
    let args = ["--data", &data, "serve", "--listen", "0.0.0.0", "--port", "0", "--root", &pictures];
    let refused = rallo(&args);
    assert_eq!(refused.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("rallo passphrase"));

    set_passphrase(folder.path(), "pots and seedlings\n");
    let site = site(folder.path(), &["--listen", "0.0.0.0"]);
    let port = site.at.rsplit(':').next().unwrap().to_owned();
    let site = Site { at: format!("127.0.0.1:{port}"), ..site };
    let origin = format!("http://{}", site.at);
    for path in ["/frames", "/runs", "/sheet", "/recipes/1/sheet.pdf"] {
        let answer = site.raw(&format!("GET {path}"), &[], b"");
        assert_eq!((answer.status, answer.header("location")), (303, Some("/login")), "{path}");
    }
    for path in ["/api/recipes", "/api/openapi.json", "/events", "/api/frames/1/thumb"] {
        assert_eq!(site.raw(&format!("GET {path}"), &[], b"").status, 401, "{path}");
    }
    assert_eq!(site.raw("POST /api/runs/1/cancel", &[JSON], b"{}").status, 401);
    assert_eq!(site.raw("GET /login", &[], b"").status, 200);
    assert_eq!(site.raw("GET /assets/styles/base.css", &[], b"").status, 200);
    // A script's token is enough; a wrong one is not.
    assert_eq!(site.ask("GET", "/api/recipes", &Value::Null).status, 200);

    assert_eq!(say_passphrase(&site, "pots", &origin).status, 401);
    assert_eq!(say_passphrase(&site, "pots+and+seedlings", "https://evil.example").status, 403);
    let answer = say_passphrase(&site, "pots+and+seedlings", &origin);
    assert_eq!((answer.status, answer.header("location")), (303, Some("/frames")));
    let cookie = answer.header("set-cookie").unwrap();
    for flag in ["HttpOnly", "SameSite=Strict", "Path=/"] {
        assert!(cookie.contains(flag), "{cookie}");
    }
    let session = cookie.split(';').next().unwrap();
    let with = |first: &str, more: &[(&str, &str)], body: &[u8]| {
        let headers: Vec<_> = more.iter().copied().chain([("Cookie", session)]).collect();
        site.raw(first, &headers, body)
    };
    let page = with("GET /frames", &[], b"");
    assert_eq!(page.status, 200);
    // The cookie alone changes nothing.
    assert_eq!(with("POST /api/recipes", &[JSON], b"null").status, 403);
    let token = page
        .text()
        .split("name=\"rallo-token\" content=\"")
        .nth(1)
        .unwrap()
        .split('"')
        .next()
        .unwrap()
        .to_owned();
    assert_eq!(with("POST /api/recipes", &[JSON, ("X-Rallo-Token", &token)], b"null").status, 200);
    assert_eq!(with("POST /api/logout", &[JSON, ("X-Rallo-Token", &token)], b"{}").status, 200);
    assert_eq!(with("GET /frames", &[], b"").status, 303);
    // Guessing is slowed down for everybody.
    let guesses: Vec<u16> =
        (0..11).map(|i| say_passphrase(&site, &format!("guess+{i}"), &origin).status).collect();
    assert!(guesses.contains(&429), "{guesses:?}");
    assert_eq!(say_passphrase(&site, "pots+and+seedlings", &origin).status, 429);

    // Nothing secret stands in the log or the data.
    let secret = session.split('=').nth(1).unwrap();
    let log = std::fs::read(folder.path().join("log")).unwrap();
    let has = |bytes: &[u8], text: &str| bytes.windows(text.len()).any(|w| w == text.as_bytes());
    for entry in
        std::fs::read_dir(folder.path().join("data")).unwrap().flatten().filter(|e| e.path().is_file())
    {
        let bytes = std::fs::read(entry.path()).unwrap();
        for text in [secret, "pots and seedlings", &site.token] {
            assert!(!has(&bytes, text), "{text} is in {:?}", entry.path());
        }
    }
    for text in [secret, "seedlings", "guess", &site.token] {
        assert!(!has(&log, text), "{text} is in the log");
    }
}

/// Numbers that are the same each time.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % sides.max(1)
    }

    /// A value of any kind; one of the names that mean something where an object is made.
    fn value(&mut self, names: &[String], depth: usize) -> Value {
        match self.roll(if depth == 0 { 7 } else { 9 }) {
            0 => Value::Null,
            1 => json!(self.roll(2) == 0),
            2 => json!(self.roll(5) as i64 - 2),
            3 => json!([1e300, -0.0, 0.5, 1e-9][self.roll(4)]),
            4 => json!(i64::MAX),
            5 => json!(
                ["", "..", "{stem}", "/etc", "16:9", "2026-05-04T22:00:00Z", "\u{0}\u{1f600}"][self.roll(7)]
            ),
            6 => json!({}),
            7 => (0..self.roll(4)).map(|_| self.value(names, depth - 1)).collect::<Vec<_>>().into(),
            _ => self.object(names, depth - 1),
        }
    }

    fn object(&mut self, names: &[String], depth: usize) -> Value {
        let some = (0..1 + self.roll(5)).map(|_| names[self.roll(names.len())].clone()).collect::<Vec<_>>();
        Value::Object(some.into_iter().map(|n| (n, self.value(names, depth))).collect())
    }
}

/// Names of all properties in a schema, references followed.
fn properties(schema: &Value, document: &Value, all: &mut Vec<String>) {
    if let Some(to) = schema["$ref"].as_str() {
        return properties(document.pointer(to.trim_start_matches('#')).unwrap(), document, all);
    }
    for (name, inside) in schema["properties"].as_object().into_iter().flatten() {
        all.push(name.clone());
        properties(inside, document, all);
    }
    if schema["items"].is_object() {
        properties(&schema["items"], document, all);
    }
}

#[test]
fn bodies_of_any_kind_are_refused_or_taken_by_every_route() {
    let folder = folder();
    let site = site(folder.path(), &[]);
    write_jpeg(&folder.path().join("pictures/Spring/a.jpg"), 60, 40, 1);
    let shoot = json!({"places": [{"path": folder.path().join("pictures/Spring"), "deep": false}]});
    site.json("POST", "/api/shoots", &shoot);
    let good = json!({"format": "rallo-recipe", "version": 1, "name": "x", "steps": [{"step": "exposure", "stops": 1}],
        "deliveries": [{"kind": "pictures", "name": "{stem}"}]});
    site.json("POST", "/api/recipes", &good);
    let document = site.json("GET", "/api/openapi.json", &Value::Null);
    let names = || {
        let mut all: Vec<_> =
            std::fs::read_dir(folder.path()).unwrap().flatten().map(|e| e.file_name()).collect();
        all.sort();
        all
    };
    let before = names();
    assert!(before.iter().any(|n| n == "pictures"));
    let mut dice = Dice(2026);
    // More of them: ROUNDS=500 cargo test …
    let rounds: usize = std::env::var("ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(24);
    let mut asked = 0;
    for (path, methods) in document["paths"].as_object().unwrap() {
        for (method, about) in methods.as_object().unwrap() {
            let schema = &about["requestBody"]["content"]["application/json"]["schema"];
            if schema.is_null() || path.starts_with("/api/tokens") {
                continue;
            }
            let mut names = Vec::new();
            properties(schema, &document, &mut names);
            names.extend(["recipe", "frame", "ids", "x"].map(str::to_owned));
            // A frame and a recipe that are there, for half of them.
            for n in 0..rounds {
                let mut body = if n % 8 == 7 { dice.value(&names, 3) } else { dice.object(&names, 2) };
                if n % 2 == 0 && body.is_object() {
                    body["frame"] = json!(1);
                    body["recipe"] = if dice.roll(2) == 0 { good.clone() } else { json!(1) };
                }
                let path =
                    path.replace("{id}", "1").replace("{version}", "1").replace("{drop}", &"0".repeat(32));
                let answer = site.ask(&method.to_uppercase(), &path, &body);
                assert!(answer.status < 500, "{method} {path} {body}: {} {}", answer.status, answer.text());
                asked += 1;
            }
        }
    }
    assert!(asked > 500, "{asked}");
    assert_eq!(site.raw("GET /frames", &[], b"").status, 200);
    assert_eq!(names(), before, "something was written outside of the pictures and the program's data");
}
