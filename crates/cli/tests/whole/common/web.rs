//! Asking the server as a script does, down to the bytes.

use super::desk::Held;
use super::*;
use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

/// An answer.
pub struct Answer {
    pub status: u16,
    pub head: String,
    pub body: Vec<u8>,
}

impl Answer {
    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }

    pub fn json(&self) -> Value {
        serde_json::from_slice(&self.body).unwrap_or_else(|e| panic!("{e}: {}", self.text()))
    }

    pub fn header(&self, name: &str) -> Option<&str> {
        let line = self
            .head
            .lines()
            .find(|l| l.split_once(':').is_some_and(|(n, _)| n.eq_ignore_ascii_case(name)))?;
        line.split_once(':').map(|(_, v)| v.trim())
    }
}

/// A server, and a token for it.
pub struct Site {
    pub held: Held,
    pub at: String,
    pub token: String,
}

/// Starts the program with more arguments on `folder/data` and `folder/pictures`; its log goes to `folder/log`.
pub fn site(folder: &Path, more: &[&str]) -> Site {
    let data = folder.join("data").to_string_lossy().into_owned();
    std::fs::create_dir_all(folder.join("pictures")).unwrap();
    let made =
        Command::new(env!("CARGO_BIN_EXE_rallo")).args(["--data", &data, "token", "add", "test"]).output();
    let made = made.unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let log = std::fs::File::options().create(true).append(true).open(folder.join("log")).unwrap();
    let mut child = Command::new(env!("CARGO_BIN_EXE_rallo"))
        .args(["--data", &data, "serve", "--port", "0", "--root", &folder.join("pictures").to_string_lossy()])
        .args(more)
        .stdout(Stdio::piped())
        .stderr(log)
        .spawn()
        .unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let at = line.split("http://").nth(1).unwrap().split('/').next().unwrap().to_owned();
    Site { held: Held(child), at, token: String::from_utf8(made.stdout).unwrap().trim().to_owned() }
}

impl Site {
    /// Sends exactly these lines and this body; the connection is closed after the answer.
    pub fn raw(&self, first: &str, headers: &[(&str, &str)], body: &[u8]) -> Answer {
        let port = self.at.rsplit(':').next().unwrap();
        let mut stream = TcpStream::connect(format!("127.0.0.1:{port}")).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
        let mut text = format!("{first} HTTP/1.1\r\nConnection: close\r\nContent-Length: {}\r\n", body.len());
        if !headers.iter().any(|(n, _)| n.eq_ignore_ascii_case("host")) {
            text += &format!("Host: {}\r\n", self.at);
        }
        for (name, value) in headers {
            text += &format!("{name}: {value}\r\n");
        }
        text += "\r\n";
        stream.write_all(text.as_bytes()).unwrap();
        // A refused upload may be hung up on.
        let _ = stream.write_all(body);
        let mut all = Vec::new();
        let _ = stream.read_to_end(&mut all);
        let end = all.windows(4).position(|w| w == b"\r\n\r\n").unwrap_or_else(|| {
            panic!("no answer to {first}: {}", String::from_utf8_lossy(&body[..body.len().min(300)]))
        });
        let head = String::from_utf8_lossy(&all[..end]).into_owned();
        let mut body = all[end + 4..].to_vec();
        if head.to_lowercase().contains("transfer-encoding: chunked") {
            body = dechunked(&body);
        }
        let status = head.split(' ').nth(1).unwrap().parse().unwrap();
        Answer { status, head, body }
    }

    /// As a script with its token, with JSON.
    pub fn ask(&self, method: &str, path: &str, body: &Value) -> Answer {
        let bearer = format!("Bearer {}", self.token);
        let headers = [("Authorization", bearer.as_str()), ("Content-Type", "application/json")];
        let text = if body.is_null() { String::new() } else { body.to_string() };
        self.raw(&format!("{method} {path}"), &headers, text.as_bytes())
    }

    /// As [`ask`](Self::ask), of what must be well.
    pub fn json(&self, method: &str, path: &str, body: &Value) -> Value {
        let answer = self.ask(method, path, body);
        assert_eq!(answer.status, 200, "{method} {path}: {}", answer.text());
        answer.json()
    }

    /// Waits until a run is done; its report.
    pub fn done(&self, run: &Value) -> Value {
        for _ in 0..600 {
            let told = self.json("GET", &format!("/api/runs/{run}"), &Value::Null);
            if told["progress"]["state"] == "done" {
                return self.json("GET", &format!("/api/runs/{run}/report.json"), &Value::Null);
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        panic!("run {run} is never done");
    }
}

fn dechunked(mut body: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    while let Some(end) = body.windows(2).position(|w| w == b"\r\n") {
        let size = usize::from_str_radix(std::str::from_utf8(&body[..end]).unwrap().trim(), 16).unwrap();
        if size == 0 {
            break;
        }
        out.extend(&body[end + 2..end + 2 + size]);
        body = &body[end + 4 + size..];
    }
    out
}
