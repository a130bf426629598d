//! Camera raw and JPEG of one shoot, by one recipe, in a browser: delivered as pictures and as raw, lenses known and not.

use crate::common::desk::Desk;
use crate::common::picture;
use rallo_media::{CameraData, Chroma, Encoding, Extras, FileSource, Format};
use serde_json::json;
use std::path::Path;

/// A made-up lens on a made-up camera.
const PROFILE: &str = r#"<lensdatabase version="1"><mount><name>Marlow R</name></mount>
<camera><maker>Marlow</maker><model>24 R</model><mount>Marlow R</mount><cropfactor>1.5</cropfactor></camera>
<lens><maker>Marlow</maker><model>Field 35mm f/2</model><mount>Marlow R</mount><cropfactor>1.5</cropfactor><calibration>
<distortion model="poly3" focal="35" k1="-0.03"/></calibration></lens></lensdatabase>"#;

fn write_taken(path: &Path, lens: Option<&str>) {
    let camera = CameraData {
        camera: Some("Marlow 24 R".into()),
        lens: lens.map(str::to_owned),
        focal_length: Some(35.0),
        aperture: Some(4.0),
        orientation: 1,
        ..CameraData::default()
    };
    let extras = Extras { exif: camera.write().ok(), ..Extras::default() };
    let encoding = Encoding::Jpeg { quality: 92, chroma: Chroma::Half, progressive: false, optimised: false };
    std::fs::write(path, rallo_media::encode(&picture(600, 400, 2), encoding, &extras).unwrap()).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn raws_and_jpegs_go_through_one_recipe_to_pictures_and_to_raw() {
    let desk = Desk::open_with(|shoot| {
        write_taken(&shoot.join("TN_1.jpg"), Some("Field 35mm f/2"));
        write_taken(&shoot.join("TN_2.jpg"), Some("Meadow 90mm f/4"));
        let raw = Path::new(env!("CARGO_MANIFEST_DIR")).join("../media/tests/pictures/raw-way6.dng");
        std::fs::copy(raw, shoot.join("TN_3.dng")).unwrap();
        let profiles = shoot.parent().unwrap().parent().unwrap().join("data/lens-profiles");
        std::fs::create_dir_all(&profiles).unwrap();
        std::fs::write(profiles.join("marlow.xml"), PROFILE).unwrap();
        std::fs::write(profiles.join("broken.xml"), "<lensdatabase><lens>").unwrap();
    })
    .await;
    desk.choose().await;
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Field day",
        "steps": [{"step": "denoise"}, {"step": "lens_profile"}, {"step": "resize", "long_edge": 300}],
        "deliveries": [{"kind": "pictures", "name": "{stem}", "quality": 90}, {"kind": "dng", "name": "{stem}"}]});
    desk.ask("POST", "/api/recipes", recipe).await;
    desk.go("/bench").await;
    // The shoot has raw, so line 0 is there; the lens of the sample is known.
    desk.until("document.querySelector('#reading .words')?.innerText.length > 0").await;
    desk.until("document.querySelector('#lines').innerText.includes('Profile: Marlow Field 35mm f/2')").await;
    desk.go("/sheet").await;
    let problems = "document.querySelector('#problems').innerText";
    desk.until(&format!(
        "{problems}.includes('2 pictures have no lens profile (Meadow 90mm f/4, no lens named)')"
    ))
    .await;
    desk.until(&format!("{problems}.includes('2 pictures are no camera raw and go along as they are')"))
        .await;
    desk.until("!document.querySelector('#start').disabled").await;
    desk.click_where("#start", "true").await;
    desk.until("document.querySelector('#what')?.innerText.startsWith('All done: 3 of 3')").await;
    let made = |path: &str| FileSource::open(&desk.shoot().join(path)).unwrap();
    for name in ["TN_1.jpg", "TN_2.jpg", "TN_3.jpg"] {
        assert_eq!(made(&format!("Field day/{name}")).format(), Format::Jpeg);
    }
    let raw = made("Field day DNG/TN_3.dng");
    assert!(raw.format() == Format::Raw && !raw.is_preview());
    let facts = raw.facts(Path::new("TN_3.dng"));
    assert_eq!(facts.done, ["denoise"], "only what is in it");
    assert_eq!((facts.width, facts.height), {
        let original = FileSource::open(&desk.shoot().join("TN_3.dng")).unwrap();
        let facts = original.facts(Path::new("TN_3.dng"));
        (facts.width, facts.height)
    });
    let bytes = |path: &str| std::fs::read(desk.shoot().join(path)).unwrap();
    assert_eq!(bytes("Field day DNG/TN_1.jpg"), bytes("TN_1.jpg"));
    desk.page.clone().close().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_light_of_raw_is_told_by_a_click_and_a_lens_by_another_name_is_remembered() {
    let desk = Desk::open_with(|shoot| {
        // The camera calls its lens by another name than the profile does.
        let still = rallo_demo::raw_catalogue(17).swap_remove(0);
        let lens = Some("Field 35mm f/2 II".into());
        let camera = CameraData { lens, ..still.camera().clone() };
        let still = still.taken_by(camera, (600, 400));
        std::fs::write(shoot.join("TN_1.dng"), still.raw_file().unwrap()).unwrap();
        let profiles = shoot.parent().unwrap().parent().unwrap().join("data/lens-profiles");
        std::fs::create_dir_all(&profiles).unwrap();
        std::fs::write(profiles.join("thistlewick.xml"), rallo_demo::sensor::lens_profiles()).unwrap();
    })
    .await;
    desk.choose().await;
    let recipe = json!({"format": "rallo-recipe", "version": 1, "name": "Field day",
        "steps": [{"step": "lens_profile"}], "deliveries": [{"kind": "pictures", "name": "{stem}"}]});
    desk.ask("POST", "/api/recipes", recipe).await;
    desk.go("/bench").await;
    desk.until("document.querySelector('#lines').innerText.includes('It is the Marlow Field 35mm f/2')")
        .await;
    desk.click_where("#lines button", "e.innerText.startsWith('It is')").await;
    desk.until("document.querySelector('#lines').innerText.includes('Profile: Marlow Field 35mm f/2.')")
        .await;
    // The camera's own setting, in numbers: the made-up camera was set for daylight.
    desk.until("document.querySelector('.reading-head')").await;
    desk.click_where(".reading-head", "true").await;
    desk.until("document.querySelectorAll('.reading-light button').length === 2").await;
    desk.script("document.querySelectorAll('.reading-light button')[1].click()").await;
    let kelvin = "Number(document.querySelector('#reading [aria-label=\"raw.kelvin, typed\"]').value)";
    desk.until(&format!("Math.abs({kelvin} - 6504) < 60")).await;
    // A click on the clay says that warm things are grey: the light was warm.
    desk.until("document.querySelector('#stage').dataset.shown > 0").await;
    desk.click(".reading-light button").await;
    desk.until("!document.querySelector('#hint').hidden").await;
    desk.drag("#stage", (0.47, 0.62), (0.47, 0.62)).await;
    desk.until(&format!("{kelvin} < 4500")).await;
    desk.page.clone().close().await.unwrap();
}
