//! A broker of one's own, and what the server is told to have made.
#![allow(missing_docs)]

use rallo_fleet::BrokerOptions;
use rallo_media::content_hash;
use rallo_runner::Decided;
use rallo_runner::render::elsewhere::PictureRequest;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

pub struct Broker(pub Child, pub u16);

impl Drop for Broker {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Broker {
    pub fn start(folder: &Path) -> Self {
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let child = Command::new("nats-server")
            .args(["-js", "-a", "127.0.0.1", "-p", &port.to_string(), "-sd"])
            .arg(folder)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("the broker is installed by script/test");
        let broker = Self(child, port);
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            std::thread::sleep(Duration::from_millis(50));
        }
        broker
    }

    pub fn options(&self) -> BrokerOptions {
        BrokerOptions { address: format!("nats://127.0.0.1:{}", self.1), ..BrokerOptions::default() }
    }
}

/// What the server is told to have made.
pub fn request(original: &[u8]) -> PictureRequest {
    PictureRequest {
        source: content_hash(original),
        length: original.len() as u64,
        name: "Spring/TN_1.jpg".into(),
        recipe: "{}".into(),
        answers: Vec::new(),
        decided: Decided::default(),
        number: 1,
        count: 1,
        overrides: rallo_recipe::Overrides::default(),
        files: vec![0],
        pieces: Vec::new(),
        of: 0,
        measures: false,
        beside: Vec::new(),
        group: String::new(),
    }
}
