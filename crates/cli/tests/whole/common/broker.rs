//! Several machines to test with: a broker, a server that hands pictures out, workers, and the cable between them.

use crate::common::desk::{Held, first_line};
use crate::common::files_below;
use crate::common::place::Place;
use serde_json::Value;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// A broker of one's own.
pub struct Broker {
    pub folder: tempfile::TempDir,
    pub port: u16,
    pub process: Held,
}

impl Broker {
    pub fn start() -> Self {
        Self::start_with(&[])
    }

    /// A broker that is told more.
    pub fn start_with(more: &[&str]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let process = Self::process(folder.path(), free, more);
        Self { folder, port: free, process }
    }

    pub fn process(folder: &Path, port: u16, more: &[&str]) -> Held {
        let child = Command::new("nats-server")
            .args(["-js", "-a", "127.0.0.1", "-p", &port.to_string(), "-sd"])
            .arg(folder.join("broker"))
            .args(more)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("the broker is installed by script/test");
        let held = Held(child);
        let begin = Instant::now();
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(begin.elapsed() < Duration::from_secs(20), "the broker did not start");
            std::thread::sleep(Duration::from_millis(50));
        }
        held
    }

    /// Killed, away for a while, and there again with what it had kept.
    pub fn restart(&mut self, away: Duration) {
        self.process.0.kill().unwrap();
        self.process.0.wait().unwrap();
        std::thread::sleep(away);
        self.process = Self::process(self.folder.path(), self.port, &[]);
    }

    pub fn address(&self) -> String {
        format!("nats://127.0.0.1:{}", self.port)
    }

    pub fn serve(&self, place: &Place, more: &[&str]) -> Held {
        self.serve_by(place, &self.address(), more)
    }

    /// A server that finds the broker at an address of its own.
    pub fn serve_by(&self, place: &Place, address: &str, more: &[&str]) -> Held {
        let mut child = Command::new(env!("CARGO_BIN_EXE_rallo"))
            .args(["--data", &place.text("data"), "serve", "--port", "0", "--root", &place.text("pictures")])
            .args(["--fleet", address])
            .args(more)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let line = first_line(&mut child);
        assert!(line.contains("http"), "{line}");
        Held(child)
    }

    pub fn worker(&self, place: &Place, name: &str) -> Child {
        self.worker_with(place, name, &self.address(), &[])
    }

    /// A worker that finds the broker at an address of its own.
    pub fn worker_with(&self, place: &Place, name: &str, address: &str, more: &[&str]) -> Child {
        Command::new(env!("CARGO_BIN_EXE_rallo"))
            .args(["--data", &place.text(name), "worker", "--workers", "2", "--fleet", address])
            .args(more)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap()
    }

    pub fn status(&self, place: &Place) -> Value {
        let (_, out, _) = place.rallo(&["fleet", "--json", "status", "--fleet", &self.address()]);
        serde_json::from_str(&out).unwrap_or(Value::Null)
    }

    /// Waits until so many machines help.
    pub fn until_helped_by(&self, place: &Place, count: usize) -> Value {
        let begin = Instant::now();
        loop {
            let status = self.status(place);
            let helpers = status["helpers"].as_array().cloned().unwrap_or_default();
            if helpers.iter().filter(|h| h["refused"].is_null() && h["seen"].as_f64() < Some(6.0)).count()
                >= count
            {
                return status;
            }
            assert!(begin.elapsed() < Duration::from_secs(30), "nobody helps: {status}");
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    /// Bytes of messages that the broker still holds.
    pub fn held(&self) -> u64 {
        let store = self.folder.path().join("broker");
        files_below(&store).iter().filter_map(|f| f.metadata().ok()).map(|m| m.len()).sum()
    }
}

/// A cable to a broker, which can be slow, and pulled out: what was sent waits then, and no end is told.
pub struct Link {
    port: u16,
    is_out: Arc<AtomicBool>,
}

/// How a cable carries bytes.
#[derive(Clone, Copy)]
pub struct Carries {
    /// From one end to the other.
    pub delay: Duration,
    /// Bytes a second.
    pub rate: f64,
}

impl Link {
    pub fn to(broker: &Broker, carries: Carries) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let (is_out, to) = (Arc::new(AtomicBool::new(false)), broker.port);
        let cut = is_out.clone();
        std::thread::spawn(move || {
            for here in listener.incoming().flatten() {
                let Ok(there) = TcpStream::connect(("127.0.0.1", to)) else { continue };
                for (from, to) in [(&here, &there), (&there, &here)] {
                    let (from, to) = (from.try_clone().unwrap(), to.try_clone().unwrap());
                    carry(from, to, carries, cut.clone());
                }
            }
        });
        Self { port, is_out }
    }

    pub fn address(&self) -> String {
        format!("nats://127.0.0.1:{}", self.port)
    }

    /// Pulls it out, or puts it in again.
    pub fn pull(&self, is_out: bool) {
        self.is_out.store(is_out, Ordering::Relaxed);
    }
}

/// Carries bytes one way: read as fast as the rate lets, written after the delay.
fn carry(mut from: TcpStream, mut to: TcpStream, carries: Carries, is_out: Arc<AtomicBool>) {
    let (give, take) = std::sync::mpsc::sync_channel::<(Instant, Vec<u8>)>(256);
    let cut = is_out.clone();
    let waits = move || {
        while cut.load(Ordering::Relaxed) {
            std::thread::sleep(Duration::from_millis(20));
        }
    };
    std::thread::spawn(move || {
        let mut bytes = vec![0; 16_384];
        while let Ok(count @ 1..) = from.read(&mut bytes) {
            std::thread::sleep(Duration::from_secs_f64(count as f64 / carries.rate));
            if give.send((Instant::now() + carries.delay, bytes[..count].to_vec())).is_err() {
                return;
            }
        }
    });
    std::thread::spawn(move || {
        for (at, bytes) in take {
            std::thread::sleep(at.saturating_duration_since(Instant::now()));
            waits();
            if to.write_all(&bytes).is_err() {
                break;
            }
        }
        let _ = to.shutdown(std::net::Shutdown::Both);
    });
}

/// Which machines made the results of a run.
pub fn makers(report: &Value) -> Vec<String> {
    let mut all: Vec<String> = report["items"]
        .as_array()
        .into_iter()
        .flatten()
        .flat_map(|item| item["outputs"].as_array().cloned().unwrap_or_default())
        .filter_map(|output| output["made_by"].as_str().map(str::to_owned))
        .collect();
    all.sort();
    all
}
