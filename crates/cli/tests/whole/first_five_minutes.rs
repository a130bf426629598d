//! Somebody who reads nothing: from the first page to results in the folder, with the mouse alone.

use crate::common::desk::{Desk, Held};
use serde_json::json;

/// Clicks on what can be seen, and counts it.
struct Mouse<'a>(&'a Desk, usize);

impl Mouse<'_> {
    async fn click(&mut self, css: &str) {
        self.0.click(css).await;
        self.1 += 1;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn results_lie_in_the_folder_after_six_clicks() {
    let desk = Desk::open().await;
    // Cards of the first page: folders that could be opened, a shoot that lies there as a document.
    let document = json!({"format": "rallo-shoot", "version": 1, "name": "Seed beds",
        "places": [{"path": "Spring", "deep": false}], "order": {"by": "time", "descending": false}, "frames": []});
    let file = desk.shoot().parent().unwrap().join("Seed beds.rallo-shoot.json");
    std::fs::write(&file, document.to_string()).unwrap();
    desk.go("/").await;
    desk.until("[...document.querySelectorAll('.card-of[data-opens] img')].every((i) => i.naturalWidth > 0)")
        .await;
    assert_eq!(
        desk.script(
            "return [...document.querySelectorAll('.card-of[data-opens] b')].map((b) => b.innerText)"
        )
        .await,
        json!(["Seed beds"]),
        "the document stands for its folder"
    );
    assert!(desk.text(".start").await.contains("Record a recipe on one of them"));
    let mut mouse = Mouse(&desk, 0);
    mouse.click(".card-of[data-opens]").await;
    desk.until("document.querySelectorAll('.fr img').length === 3").await;
    mouse.click(".holder[href='/bench']").await;
    // An empty ticket offers recipes to start from.
    mouse.click("#starting button").await;
    desk.until("document.querySelectorAll('#lines > li').length > 2 && !document.querySelector('#starting').offsetParent")
        .await;
    desk.saved().await;
    assert_eq!(
        desk.script("return document.querySelector('#name').value").await,
        json!("Catalogue for the web")
    );
    mouse.click("#run-button").await;
    desk.until("!document.querySelector('#start')?.disabled").await;
    mouse.click("#start").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done: 3 of 3')").await;
    assert_eq!(std::fs::read_dir(desk.shoot().join("Catalogue for the web")).unwrap().count(), 3);
    // The run hangs among those that are done, with its picture.
    mouse.click("a.queue[href='/runs']").await;
    desk.until("document.querySelector('#done .card-of img')?.naturalWidth > 0").await;
    assert!(desk.text("#done").await.contains("3 done"));
    assert!(mouse.1 <= 6, "{} clicks", mouse.1);
    // Whoever has run something knows what people do here, and finds the shoot again.
    desk.go("/").await;
    desk.until(
        "document.querySelector('.card-of[data-opens] span').innerText === '3 pictures, opened before'",
    )
    .await;
    assert_eq!(desk.script("return document.querySelector('.what-people-do')").await, json!(null));
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recipe_is_named_by_what_it_does_until_somebody_names_it() {
    let desk = Desk::open().await;
    desk.choose().await;
    desk.click("#to-bench").await;
    let name = "document.querySelector('#name').value";
    desk.add("denoise").await;
    desk.add("1600").await;
    desk.until(&format!("{name} === 'Denoise, 1600'")).await;
    desk.saved().await;
    let field = desk.find("#name").await;
    desk.script("document.querySelector('#name').value = ''").await;
    field.send_keys("Pots\n").await;
    desk.add("contrast").await;
    desk.saved().await;
    let kept = desk.ask("GET", "/api/recipes", json!(null)).await;
    assert_eq!((&kept[0]["name"], &kept[0]["named_by_itself"]), (&json!("Pots"), &json!(false)));
    // An empty name goes back to that.
    desk.script("const f = document.querySelector('#name'); f.value = ''; f.dispatchEvent(new Event('change')); f.blur()").await;
    desk.until(&format!("{name} === 'Denoise, 1600, contrast'")).await;
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn several_folders_are_ticked_and_a_path_is_typed() {
    let desk = Desk::open().await;
    let pots = desk.shoot().parent().unwrap().join("Pots");
    std::fs::create_dir(&pots).unwrap();
    std::fs::copy(desk.shoot().join("TN_1.jpg"), pots.join("POT_1.jpg")).unwrap();
    desk.go("/").await;
    desk.click("#choose").await;
    desk.until("document.querySelectorAll('#folder-list [data-folder]').length === 2").await;
    desk.until("[...document.querySelectorAll('#folder-list .strip img')].every((i) => i.naturalWidth > 0)")
        .await;
    // A path may be pasted; one that is not there is said, and the list stays.
    let path = desk.find("#folder-path").await;
    desk.script("document.querySelector('#folder-path').value = ''").await;
    path.send_keys("/nowhere\n").await;
    desk.until("document.querySelector('#said').textContent.includes('/nowhere')").await;
    desk.script("document.querySelector('#folder-path').value = ''").await;
    path.send_keys(&format!("{}\n", pots.display())).await;
    desk.until("document.querySelector('#take').innerText === 'Open this folder (1 picture)'").await;
    desk.click("#up").await;
    desk.until("document.querySelectorAll('#folder-list [data-folder]').length === 2").await;
    desk.script("document.querySelectorAll('#folder-list [data-folder]').forEach((b) => b.click())").await;
    desk.until("document.querySelector('#take').innerText === 'Open 2 folders'").await;
    desk.click("#take").await;
    desk.until("document.querySelector('#count')?.innerText.startsWith('4 frames')").await;
    desk.page.clone().close().await.unwrap();
}

#[test]
fn without_a_folder_the_desktops_pictures_are_served_and_the_browser_is_opened() {
    use std::io::{BufRead, BufReader};
    use std::os::unix::fs::PermissionsExt;
    let home = tempfile::tempdir().unwrap();
    let (bin, config) = (home.path().join("bin"), home.path().join(".config"));
    for folder in [&bin, &config] {
        std::fs::create_dir(folder).unwrap();
    }
    // The desktop's word on where pictures lie, by its own standard; the folder itself is made.
    std::fs::write(config.join("user-dirs.dirs"), "XDG_PICTURES_DIR=\"$HOME/Bilder\"\n").unwrap();
    let browser = bin.join("xdg-open");
    std::fs::write(&browser, "#!/bin/sh\necho \"$1\" > \"$HOME/opened\"\n").unwrap();
    std::fs::set_permissions(&browser, std::fs::Permissions::from_mode(0o755)).unwrap();
    let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
    let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_rallo"))
        .args(["--data", &home.path().join("data").to_string_lossy(), "serve", "--port", "0"])
        .env("HOME", home.path())
        .env("PATH", path)
        .env_remove("XDG_CONFIG_HOME")
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let _held = Held(child);
    let address = line.split_whitespace().find(|w| w.starts_with("http")).unwrap();
    let opened = home.path().join("opened");
    for _ in 0..100 {
        if std::fs::read_to_string(&opened).is_ok_and(|text| !text.is_empty()) {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    assert_eq!(std::fs::read_to_string(&opened).unwrap().trim(), address);
    assert!(home.path().join("Bilder").is_dir());
}
