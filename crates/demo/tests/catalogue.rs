//! The catalogue: what it must hold, and that a seed gives the same bytes.

use rallo_demo::catalogue;
use rallo_engine::Source;
use rallo_media::FileSource;
use std::collections::HashSet;

#[test]
fn it_holds_what_the_demo_needs() {
    let all = catalogue(24);
    assert!(all.len() >= 24);
    let sizes: HashSet<_> = all.iter().map(|s| s.size()).collect();
    assert!(sizes.len() >= 6 && sizes.iter().any(|s| s.area() == 24_000_000));
    assert!(sizes.iter().any(|s| s.height > s.width) && sizes.iter().any(|s| s.width > s.height));
    let of = |f: &dyn Fn(&rallo_demo::Still) -> String| all.iter().map(f).collect::<HashSet<_>>().len();
    assert_eq!(of(&|s| s.camera().camera.clone().unwrap()), 2);
    assert!(of(&|s| s.camera().lens.clone().unwrap()) >= 2);
    let iso: HashSet<_> = all.iter().filter_map(|s| s.camera().iso).collect();
    assert!(iso.contains(&100) && iso.contains(&12_800));
    assert_eq!(of(&|s| s.name.clone()), all.len());
    assert!(all.windows(2).all(|p| p[0].camera().taken < p[1].camera().taken), "not in order of capture");
}

#[test]
fn the_same_seed_gives_the_same_bytes_with_noise_by_iso() {
    let all = catalogue(24);
    // The two smallest, at ISO 800 and 3200.
    let mut small: Vec<_> = all.iter().collect();
    small.sort_by_key(|s| s.size().area());
    let file = small[0].file().unwrap();
    assert!(file == small[0].file().unwrap());
    assert!(file != catalogue(25).iter().find(|s| s.name == small[0].name).unwrap().file().unwrap());
    let source = FileSource::from_bytes(file).unwrap();
    assert_eq!(source.size(), small[0].size());
    assert_eq!(source.camera(), small[0].camera());
    // A picture, not a test card: a spread of tones, neither clipped away nor flat.
    let pixels = small[0].draw();
    let mean = pixels.iter().map(|v| f64::from(*v)).sum::<f64>() / pixels.len() as f64;
    let spread = pixels.iter().map(|v| (f64::from(*v) - mean).powi(2)).sum::<f64>() / pixels.len() as f64;
    assert!((50.0..200.0).contains(&mean) && spread.sqrt() > 25.0, "mean {mean}, spread {}", spread.sqrt());
    let clipped = pixels.iter().filter(|v| **v == 255 || **v == 0).count();
    assert!(clipped * 20 < pixels.len(), "{clipped} clipped samples");
}
