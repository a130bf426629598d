//! Decoders that run as programs of their own, under limits of memory, time and room on the disk: what an odd file does
//! to them does not reach the server.

use crate::MediaError;
use std::ffi::OsStr;
use std::io::Read;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// How long a program may take for one picture.
const PATIENCE: Duration = Duration::from_secs(60);

/// Seconds of computing, bytes of memory and bytes of a file a program may have.
const LIMITS: [&str; 3] = ["--cpu=120", "--as=8000000000", "--fsize=4000000000"];

/// What the shell's convention says of a program that is not there.
const NOT_THERE: i32 = 127;

/// One of several programs that do the same, and the Debian package they come in.
pub(crate) struct Helper {
    pub programs: &'static [&'static str],
    pub package: &'static str,
    /// What needs it, for the message.
    pub what: &'static str,
}

impl Helper {
    /// Runs the first program that is there; what it complained of where it failed.
    ///
    /// # Errors
    /// [`MediaError::Unsupported`] where none is installed or it takes too long, [`MediaError::Damaged`] where it gives up.
    pub fn run<A: AsRef<OsStr>>(&self, arguments: &[A]) -> Result<(), MediaError> {
        for program in self.programs {
            match run(program, arguments)? {
                Ended::Well => return Ok(()),
                Ended::Badly(complaint) => return Err(MediaError::Damaged(complaint)),
                Ended::NotThere => {}
            }
        }
        Err(MediaError::Unsupported(format!("{}; install Debian's package {}", self.what, self.package)))
    }
}

enum Ended {
    Well,
    Badly(String),
    NotThere,
}

/// Starts a program under the limits; without them where the system has no `prlimit`.
fn start<A: AsRef<OsStr>>(program: &str, arguments: &[A]) -> std::io::Result<Child> {
    let quiet = |command: &mut Command| {
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn()
    };
    quiet(Command::new("prlimit").args(LIMITS).arg(program).args(arguments)).or_else(|e| {
        if e.kind() == std::io::ErrorKind::NotFound {
            quiet(Command::new(program).args(arguments))
        } else {
            Err(e)
        }
    })
}

fn run<A: AsRef<OsStr>>(program: &str, arguments: &[A]) -> Result<Ended, MediaError> {
    let system = |e: std::io::Error| MediaError::Unsupported(format!("{program} cannot be started: {e}"));
    let mut child = match start(program, arguments) {
        Ok(child) => child,
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Ended::NotThere),
        Err(e) => return Err(system(e)),
    };
    // Read beside the waiting: a program that complains a lot would wait for ever for someone to listen.
    let listener = child.stderr.take().map(|mut error| {
        std::thread::spawn(move || {
            let (mut start, mut rest) = (Vec::new(), [0; 4096]);
            let _ = (&mut error).take(4000).read_to_end(&mut start);
            while error.read(&mut rest).is_ok_and(|n| n > 0) {}
            String::from_utf8_lossy(&start).into_owned()
        })
    });
    let since = Instant::now();
    let status = loop {
        match child.try_wait().map_err(system)? {
            Some(status) => break status,
            None if since.elapsed() > PATIENCE => {
                let _ = child.kill();
                let _ = child.wait();
                return Err(MediaError::Unsupported(
                    "decoding took longer than a minute and was given up".into(),
                ));
            }
            None => std::thread::sleep(Duration::from_millis(2)),
        }
    };
    if status.success() {
        return Ok(Ended::Well);
    }
    if status.code() == Some(NOT_THERE) {
        return Ok(Ended::NotThere);
    }
    let complaint = listener.and_then(|l| l.join().ok()).unwrap_or_default();
    let line = complaint.lines().rfind(|l| !l.trim().is_empty()).unwrap_or("the decoder gave up");
    Ok(Ended::Badly(line.trim().to_owned()))
}

/// A folder for what goes to a program and comes back.
///
/// # Errors
/// [`MediaError::Unsupported`] where there is no room.
pub(crate) fn folder() -> Result<tempfile::TempDir, MediaError> {
    tempfile::tempdir().map_err(no_room)
}

/// Writes what a program shall read.
///
/// # Errors
/// As [`folder`].
pub(crate) fn put(path: &Path, bytes: &[u8]) -> Result<(), MediaError> {
    std::fs::write(path, bytes).map_err(no_room)
}

fn no_room(e: std::io::Error) -> MediaError {
    MediaError::Unsupported(format!("no room to decode this picture: {e}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn helper(programs: &'static [&'static str]) -> Helper {
        Helper { programs, package: "pot", what: "seedlings need a pot" }
    }

    #[test]
    fn a_program_that_is_not_there_is_named_with_its_package() {
        let error = helper(&["rallo-no-such-program"]).run::<&str>(&[]).unwrap_err();
        assert_eq!(error.to_string(), "seedlings need a pot; install Debian's package pot");
        // The second does it where the first is missing.
        assert!(helper(&["rallo-no-such-program", "true"]).run::<&str>(&[]).is_ok());
    }

    #[test]
    fn what_a_program_complains_of_is_told_and_much_of_it_does_not_block() {
        let error = helper(&["sh"]).run(&["-c", "echo first >&2; echo bad strip >&2; exit 3"]).unwrap_err();
        assert_eq!(error.to_string(), "the picture's data are damaged: bad strip");
        assert!(helper(&["sh"]).run(&["-c", "seq 1 200000 >&2"]).is_ok());
    }

    #[test]
    fn a_program_gets_no_more_memory_than_it_may_have() {
        let hungry = "x=a; while :; do x=$x$x$x$x; done";
        assert!(helper(&["sh"]).run(&["-c", hungry]).is_err());
    }
}
