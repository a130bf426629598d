fn main() {
    let to = std::env::args().nth(1).expect("folder");
    let start = std::time::Instant::now();
    if let Some(n) = std::env::args().nth(2) {
        let s = &rallo_demo::catalogue(24)[n.parse::<usize>().unwrap()];
        std::fs::write(format!("{to}/{}", s.name), s.file().unwrap()).unwrap();
        println!("{:?}", start.elapsed());
        return;
    }
    rallo_demo::write_catalogue(std::path::Path::new(&to), 24, |n| println!("{n} {:?}", start.elapsed())).unwrap();
}
