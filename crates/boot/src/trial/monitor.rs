//! The emulator's monitor ("QEMU Machine Protocol"): one JSON object a line.

use std::io::{self, BufRead, BufReader, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::time::{Duration, Instant};

use serde_json::{Value, json};

/// How long an answer takes at most.
const PATIENCE: Duration = Duration::from_secs(10);
/// The most lines that are read for one answer.
const MOST: usize = 1000;

/// What the machine does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Power {
    /// It works.
    On,
    /// The system has switched it off.
    Off,
    /// It waits for room: what it writes goes to a file here ("werror=enospc", the emulator's usual manner).
    Stuck,
}

pub(super) struct Monitor {
    reader: BufReader<UnixStream>,
    has_shut_down: bool,
}

impl Monitor {
    pub(super) fn connect(path: &Path, patience: Duration) -> io::Result<Self> {
        let stream = connect(path, patience)?;
        stream.set_read_timeout(Some(PATIENCE))?;
        let mut monitor = Self {
            reader: BufReader::new(stream),
            has_shut_down: false,
        };
        monitor.line()?;
        monitor.order("qmp_capabilities", json!({}))?;
        Ok(monitor)
    }

    pub(super) fn order(&mut self, order: &str, arguments: Value) -> io::Result<Value> {
        let mut text = json!({"execute": order, "arguments": arguments}).to_string();
        text.push('\n');
        self.reader.get_mut().write_all(text.as_bytes())?;
        for _ in 0..MOST {
            let answer = self.line()?;
            if let Some(value) = answer.get("return") {
                return Ok(value.clone());
            }
            if let Some(error) = answer.get("error") {
                let why = error
                    .get("desc")
                    .and_then(Value::as_str)
                    .unwrap_or("refused");
                return Err(io::Error::other(why.to_owned()));
            }
        }
        Err(io::Error::other("the emulator's monitor does not answer"))
    }

    /// Saves the screen as a PNG.
    pub(super) fn picture(&mut self, path: &Path) -> io::Result<()> {
        let path = std::path::absolute(path)?;
        let arguments = json!({"filename": path, "format": "png"});
        self.order("screendump", arguments).map(drop)
    }

    /// Whether the machine works.
    pub(super) fn power(&mut self) -> io::Result<Power> {
        let status = self.order("query-status", json!({}))?;
        Ok(match status.get("status").and_then(Value::as_str) {
            Some("io-error") => Power::Stuck,
            Some("shutdown") => Power::Off,
            _ if self.has_shut_down => Power::Off,
            _ => Power::On,
        })
    }

    fn line(&mut self) -> io::Result<Value> {
        let mut line = String::new();
        if self.reader.read_line(&mut line)? == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let value: Value = serde_json::from_str(&line).map_err(io::Error::other)?;
        if value.get("event").and_then(Value::as_str) == Some("SHUTDOWN") {
            self.has_shut_down = true;
        }
        Ok(value)
    }
}

/// Connects to a socket that the emulator is about to open.
pub(super) fn connect(path: &Path, patience: Duration) -> io::Result<UnixStream> {
    let end = Instant::now() + patience;
    loop {
        match UnixStream::connect(path) {
            Ok(stream) => return Ok(stream),
            Err(error) if Instant::now() > end => return Err(error),
            Err(_) => std::thread::sleep(Duration::from_millis(20)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// A monitor whose emulator has said this.
    fn hearing(said: &str) -> (Monitor, UnixStream) {
        let (here, mut there) = UnixStream::pair().unwrap();
        there.write_all(said.as_bytes()).unwrap();
        let monitor = Monitor {
            reader: BufReader::new(here),
            has_shut_down: false,
        };
        (monitor, there)
    }

    #[rstest]
    #[case::works(r#"{"return": {"status": "running"}}"#, Power::On)]
    #[case::begins(r#"{"return": {"status": "prelaunch"}}"#, Power::On)]
    #[case::off(r#"{"return": {"status": "shutdown"}}"#, Power::Off)]
    #[case::has_no_room(r#"{"return": {"status": "io-error"}}"#, Power::Stuck)]
    #[case::was_off(
        "{\"event\": \"SHUTDOWN\"}\n{\"return\": {\"status\": \"running\"}}",
        Power::Off
    )]
    fn what_a_machine_does(#[case] said: &str, #[case] expected: Power) {
        let (mut monitor, _there) = hearing(&format!("{said}\n"));
        assert_eq!(monitor.power().unwrap(), expected);
    }

    #[rstest]
    #[case::refused("{\"error\": {\"desc\": \"no such screen\"}}\n", "no such screen")]
    #[case::no_json("hut\n", "expected value")]
    #[case::ended("", "unexpected end of file")]
    #[case::talks_on(&"{\"event\": \"RESET\"}\n".repeat(MOST), "does not answer")]
    fn answers_that_are_none(#[case] said: &str, #[case] expected: &str) {
        let (mut monitor, there) = hearing(said);
        there.shutdown(std::net::Shutdown::Write).unwrap();
        let error = monitor.order("stop", json!({})).unwrap_err();
        assert!(error.to_string().contains(expected), "{error}");
    }
}
