//! A desk to test at: the program, a browser, pictures in a folder.

use super::*;
use fantoccini::actions::{InputSource, KeyAction, KeyActions, MouseActions, PointerAction};
use fantoccini::elements::Element;
use fantoccini::error::CmdError;
use fantoccini::key::Key;
use fantoccini::wd::WebDriverCompatibleCommand;
use fantoccini::{Client, ClientBuilder, Locator};
use http::Method;
use serde_json::json;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::time::Duration;
use url::{ParseError, Url};

/// A child process that ends with the test.
pub struct Held(pub Child);
impl Drop for Held {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Lets every answer reach the browser late, by so many milliseconds: a command of the browser's driver.
#[derive(Debug)]
struct Late(u32);

impl WebDriverCompatibleCommand for Late {
    fn endpoint(&self, base: &Url, session: Option<&str>) -> Result<Url, ParseError> {
        base.join(&format!("session/{}/chromium/network_conditions", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &Url) -> (Method, Option<String>) {
        let conditions = json!({"offline": false, "latency": self.0, "throughput": -1});
        (Method::POST, Some(json!({"network_conditions": conditions}).to_string()))
    }
}

/// An element that a page shows, by its selector: what was drawn anew between being found and being used is
/// found again.
pub struct Found<'a> {
    page: &'a Client,
    css: String,
}

impl Found<'_> {
    async fn element(&self) -> Element {
        let wait = self.page.wait().at_most(Duration::from_secs(60));
        let found = wait.for_element(Locator::Css(&self.css)).await;
        found.unwrap_or_else(|e| panic!("{}: {e}", self.css))
    }

    /// Does something with the element; with the one that is there then, if it was drawn anew meanwhile.
    async fn once_more<T, Done>(&self, what: impl Fn(Element) -> Done) -> T
    where
        Done: Future<Output = Result<T, CmdError>>,
    {
        let mut why = None;
        for _ in 0..20 {
            match what(self.element().await).await {
                Ok(value) => return value,
                Err(e) => why = Some(e),
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        panic!("{} never stood still: {why:?}", self.css);
    }

    pub async fn click(&self) {
        self.once_more(|e| async move { e.click().await }).await;
    }

    pub async fn send_keys(&self, keys: &str) {
        self.once_more(|e| async move { e.send_keys(keys).await }).await;
    }

    pub async fn clear(&self) {
        self.once_more(|e| async move { e.clear().await }).await;
    }

    pub async fn text(&self) -> String {
        self.once_more(|e| async move { e.text().await }).await
    }

    pub async fn attr(&self, name: &str) -> Option<String> {
        self.once_more(|e| async move { e.attr(name).await }).await
    }

    /// Left, top, width and height in the page.
    pub async fn rectangle(&self) -> (f64, f64, f64, f64) {
        self.once_more(|e| async move { e.rectangle().await }).await
    }
}

pub struct Desk {
    pub page: Client,
    pub base: String,
    pub server: Option<Held>,
    pub port: u16,
    pub folder: tempfile::TempDir,
    _driver: Held,
}

/// What a program says first, with its output piped.
pub fn first_line(child: &mut Child) -> String {
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    line
}

/// Starts the program and reads its address.
pub fn serve(folder: &Path, port: u16) -> (Held, String) {
    let mut child = Command::new(env!("CARGO_BIN_EXE_rallo"))
        .args(["--data", &folder.join("data").to_string_lossy(), "serve", "--port", &port.to_string()])
        .args(["--root", &folder.join("pictures").to_string_lossy()])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let line = first_line(&mut child);
    let base =
        line.split_whitespace().find(|w| w.starts_with("http")).unwrap().trim_end_matches('/').to_owned();
    (Held(child), base)
}

impl Desk {
    /// Three pictures in a folder, the program and a browser; the frames page is open.
    pub async fn open() -> Self {
        Self::open_with(|shoot| {
            for i in 1..=3 {
                write_jpeg(&shoot.join(format!("TN_{i}.jpg")), 900, 600, i);
            }
        })
        .await
    }

    /// As [`open`](Self::open), with pictures of one's own in the folder.
    pub async fn open_with(draw: impl Fn(&Path)) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let shoot = folder.path().join("pictures/Spring");
        std::fs::create_dir_all(&shoot).unwrap();
        draw(&shoot);
        let (server, base) = serve(folder.path(), 0);
        let port = base.rsplit(':').next().unwrap().parse().unwrap();
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut at = None;
        for line in BufReader::new(driver.stdout.take().unwrap()).lines().map_while(Result::ok) {
            if let Some((_, port)) = line.split_once("started successfully on port ") {
                at = Some(port.trim_end_matches('.').to_owned());
                break;
            }
        }
        let driver = Held(driver);
        let profile = folder.path().join("browser").to_string_lossy().into_owned();
        let options = json!({"binary": "/usr/bin/chromium", "args": [
            "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
            "--disable-background-networking", "--disable-component-update", "--disable-sync", "--disable-dev-shm-usage",
            "--window-size=1280,900", format!("--user-data-dir={profile}")]});
        let capabilities = serde_json::Map::from_iter([("goog:chromeOptions".to_owned(), options)]);
        let page = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
            .capabilities(capabilities)
            .connect(&format!("http://127.0.0.1:{}", at.expect("chromedriver says its port")))
            .await
            .unwrap();
        page.goto(&format!("{base}/frames")).await.unwrap();
        Self { page, base, server: Some(server), port, folder, _driver: driver }
    }

    /// Kills the browser as the system would, without a word to its pages.
    pub fn kill_browser(&mut self) {
        let profile = self.folder.path().join("browser").to_string_lossy().into_owned();
        let is_browser = |pid: &&String| {
            std::fs::read(format!("/proc/{pid}/cmdline"))
                .is_ok_and(|line| String::from_utf8_lossy(&line).contains(&profile))
        };
        let all = std::fs::read_dir("/proc").unwrap().flatten();
        let names: Vec<String> = all.map(|e| e.file_name().to_string_lossy().into_owned()).collect();
        let pids: Vec<&String> = names.iter().filter(is_browser).collect();
        assert!(!pids.is_empty(), "there is no browser to kill");
        let mut kill = Command::new("sh");
        kill.args(["-c", "kill -9 \"$@\" 2>/dev/null; true", "kill"]).args(pids);
        assert!(kill.status().unwrap().success());
    }

    /// From now on every answer comes so many milliseconds late.
    pub async fn answer_late(&self, milliseconds: u32) {
        self.page.issue_cmd(Late(milliseconds)).await.unwrap();
    }

    pub fn shoot(&self) -> PathBuf {
        self.folder.path().join("pictures/Spring")
    }

    /// Waits for an element to be there.
    pub async fn find(&self, css: &str) -> Found<'_> {
        let found = Found { page: &self.page, css: css.to_owned() };
        found.element().await;
        found
    }

    pub async fn click(&self, css: &str) {
        self.find(css).await.click().await;
    }

    /// Clicks the first of several elements that a condition on `e` holds for, as soon as there is one.
    pub async fn click_where(&self, css: &str, condition: &str) {
        self.until(&format!(
            "(() => {{ const one = [...document.querySelectorAll({css:?})].find((e) => {condition}); one?.click(); return one; }})()"
        ))
        .await;
    }

    /// Clicks the first of several elements that reads so.
    pub async fn click_on(&self, css: &str, text: &str) {
        self.click_where(css, &format!("e.innerText === {text:?}")).await;
    }

    /// Waits until a script's expression is true, for a minute: several browsers may share two busy cores.
    pub async fn until(&self, expression: &str) {
        self.until_within(60, expression).await;
    }

    /// The same for so many seconds.
    pub async fn until_within(&self, seconds: u32, expression: &str) {
        let mut last = Ok(json!(null));
        for _ in 0..seconds * 10 {
            // A page that is just being left answers with an error; the next one is asked again.
            last = self.page.execute(&format!("return Boolean({expression})"), vec![]).await;
            if last.as_ref().is_ok_and(|value| *value == json!(true)) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        let said = self.page.execute("return document.body.innerText", vec![]).await;
        let unsaved = self.page.execute("return document.querySelector('#saved')?.title", vec![]).await;
        panic!(
            "never true: {expression}\nthe last answer: {last:?}\nnot saved because: {unsaved:?}\nthe page says: {said:?}"
        );
    }

    pub async fn text(&self, css: &str) -> String {
        self.find(css).await.text().await
    }

    /// The folder that results of a run went into last: it is called after what the recipe does.
    pub fn results(&self) -> PathBuf {
        let folders =
            std::fs::read_dir(self.shoot()).unwrap().map(|e| e.unwrap().path()).filter(|p| p.is_dir());
        folders.max_by_key(|p| p.metadata().unwrap().modified().unwrap()).expect("no folder of results")
    }

    /// Chooses the folder of the pictures.
    pub async fn choose(&self) {
        let count = std::fs::read_dir(self.shoot()).unwrap().count();
        self.click("#choose").await;
        self.until("document.querySelector('#folder-list')?.innerText.includes('Spring')").await;
        self.click("#folder-list button").await;
        self.until(&format!("document.querySelector('#take').innerText.includes('({count} picture')")).await;
        self.click("#take").await;
        self.until(&format!("document.querySelector('#count')?.innerText.startsWith('{count} frame')")).await;
        self.until(
            "document.querySelector('.fr img') && [...document.querySelectorAll('.fr img')].every((i) => i.complete && i.naturalWidth > 0)",
        )
        .await;
    }

    /// Asks for the frames to be gathered in a new folder beside the pictures; a look at the names is asked for.
    pub async fn gather_into(&self, folder: &str) {
        self.click("#gather").await;
        self.find(".new-folder input").await.send_keys(folder).await;
        self.until(
            "(() => { const b = document.querySelector('.new-folder button'); b?.click(); return b; })()",
        )
        .await;
        self.until(&format!("document.querySelector('#folder-path').value.includes('{folder}')")).await;
        self.click("#take").await;
        self.click("#gather-look").await;
    }

    /// Adds a line by typing what is wanted.
    pub async fn add(&self, words: &str) {
        let before = self.lines().await;
        self.click("#ask").await;
        let field = self.find("#ask").await;
        field.send_keys(words).await;
        field.send_keys(&String::from(char::from(Key::Enter))).await;
        self.until(&format!("document.querySelectorAll('#lines > li').length === {}", before + 1)).await;
        // As after a rest, when keys are shortcuts again.
        self.script("document.querySelector('#ask').blur(); if (!document.querySelector('#hint').hidden) document.querySelector('#stage').focus()").await;
    }

    pub async fn lines(&self) -> usize {
        self.page
            .execute("return document.querySelectorAll('#lines > li').length", vec![])
            .await
            .unwrap()
            .as_u64()
            .unwrap() as usize
    }

    /// Types a value into a field of the opened line.
    pub async fn set(&self, label: &str, value: &str) {
        let css = format!("#lines .is-open .controls [aria-label='{label}']");
        // The ticket may be drawn anew between finding the field and typing: then once more.
        for _ in 0..10 {
            if self.type_into(&css, value).await.is_ok() {
                return;
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        panic!("{css} never stood still");
    }

    async fn type_into(&self, css: &str, value: &str) -> Result<(), CmdError> {
        let field = self.find(css).await.element().await;
        self.page.execute("arguments[0].value = ''", vec![serde_json::to_value(&field).unwrap()]).await?;
        field.send_keys(value).await?;
        field.send_keys(&String::from(char::from(Key::Tab))).await
    }

    pub async fn saved(&self) {
        self.until("document.querySelector('#saved').innerText === 'saved'").await;
    }

    /// Presses at one place of an element and lets go at another, both as shares of its size.
    pub async fn drag(&self, css: &str, from: (f64, f64), to: (f64, f64)) {
        // In one script: the ticket is drawn anew after each answer, so an element held here could be gone.
        let script = "const b = document.querySelector(arguments[0])?.getBoundingClientRect(); \
                      return b && [b.left, b.top, b.width, b.height]";
        self.find(css).await;
        self.until(&format!("document.querySelector({css:?})")).await;
        let found = self.page.execute(script, vec![json!(css)]).await.unwrap();
        let (left, top, width, height): (f64, f64, f64, f64) = serde_json::from_value(found).unwrap();
        let point = |p: (f64, f64)| (left + width * p.0, top + height * p.1);
        self.drag_between(point(from), point(to)).await;
    }

    /// Presses at one place of the page and lets go at another.
    pub async fn drag_between(&self, a: (f64, f64), b: (f64, f64)) {
        let middle = ((a.0 + b.0) / 2.0, (a.1 + b.1) / 2.0);
        let go =
            |(x, y): (f64, f64)| PointerAction::MoveTo { duration: Some(Duration::from_millis(60)), x, y };
        let mouse = MouseActions::new("mouse".into())
            .then(go(a))
            .then(PointerAction::Down { button: 0 })
            .then(go(middle))
            .then(go(b))
            .then(PointerAction::Up { button: 0 });
        self.page.perform_actions(mouse).await.unwrap();
    }

    /// Presses a key where the focus is.
    pub async fn press(&self, key: char) {
        let keys = KeyActions::new("keys".into())
            .then(KeyAction::Down { value: key })
            .then(KeyAction::Up { value: key });
        self.page.perform_actions(keys).await.unwrap();
    }

    pub async fn sentences(&self) -> Vec<String> {
        let script = "return [...document.querySelectorAll('#lines > li .words')].map((w) => w.innerText.replace(/\\s+/g, ' '))";
        serde_json::from_value(self.page.execute(script, vec![]).await.unwrap()).unwrap()
    }

    /// Runs a script in the page.
    pub async fn script(&self, text: &str) -> serde_json::Value {
        self.page.execute(text, vec![]).await.unwrap()
    }

    /// Opens another page of the program.
    pub async fn go(&self, to: &str) {
        self.page.goto(&format!("{}{to}", self.base)).await.unwrap();
    }

    /// Asks the program as its pages do.
    pub async fn ask(&self, method: &str, path: &str, body: serde_json::Value) -> serde_json::Value {
        let text = "const [method, path, body, done] = arguments; \
            fetch(path, { method, headers: { 'content-type': 'application/json', 'x-rallo-token': document.querySelector('meta[name=rallo-token]').content }, \
            body: method === 'GET' ? undefined : JSON.stringify(body) }).then((r) => r.json()).then(done, (e) => done(String(e)))";
        self.page.execute_async(text, vec![json!(method), json!(path), body]).await.unwrap()
    }
}
