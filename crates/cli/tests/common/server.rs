//! A stand-in for servers: on 127.0.0.1, and as well or badly behaved as a test wants it.

use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::ops::Range;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

/// A request as it arrived.
#[derive(Clone, Debug)]
pub(crate) struct Asked {
    pub(crate) path: String,
    /// The number of this request, from 0.
    pub(crate) number: usize,
    pub(crate) headers: Vec<(String, String)>,
}

impl Asked {
    pub(crate) fn header(&self, name: &str) -> Option<&str> {
        let mut headers = self.headers.iter();
        let found = headers.find(|(header, _)| header.eq_ignore_ascii_case(name));
        found.map(|(_, value)| value.as_str())
    }

    /// The range that was asked for, in a file of `len` bytes.
    pub(crate) fn range(&self, len: usize) -> Option<Range<usize>> {
        let (start, last) = self
            .header("range")?
            .strip_prefix("bytes=")?
            .split_once('-')?;
        let end = last
            .parse::<usize>()
            .map_or(len, |last| (last + 1).min(len));
        Some(start.parse().unwrap()..end)
    }
}

/// What happens after the bytes that are sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Then {
    /// The rest is sent as well.
    Complete,
    /// The connection is closed after so many bytes of the body.
    Cut(usize),
    /// Nothing more comes after so many bytes, and the connection stays.
    Silence(usize),
}

/// How a request is answered.
pub(crate) struct Answer {
    pub(crate) status: u16,
    pub(crate) headers: Vec<(&'static str, String)>,
    pub(crate) body: Vec<u8>,
    pub(crate) then: Then,
}

impl Answer {
    /// A file, or the part of it that was asked for.
    pub(crate) fn part(asked: &Asked, file: &[u8]) -> Self {
        let Some(range) = asked.range(file.len()) else {
            return Self::whole(file);
        };
        let place = format!("bytes {}-{}/{}", range.start, range.end - 1, file.len());
        Self {
            status: 206,
            headers: vec![("Content-Range", place), ("ETag", "\"one\"".into())],
            body: file[range].to_vec(),
            then: Then::Complete,
        }
    }

    /// A file, whatever part of you asked for it.
    pub(crate) fn whole(file: &[u8]) -> Self {
        Self {
            status: 200,
            headers: vec![("ETag", "\"one\"".into())],
            body: file.to_vec(),
            then: Then::Complete,
        }
    }

    /// No file.
    pub(crate) fn status(status: u16) -> Self {
        Self {
            status,
            headers: Vec::new(),
            body: b"<!doctype html><title>sorry</title>".to_vec(),
            then: Then::Complete,
        }
    }

    pub(crate) fn then(self, then: Then) -> Self {
        Self { then, ..self }
    }

    pub(crate) fn with(mut self, name: &'static str, value: &str) -> Self {
        self.headers.retain(|(known, _)| *known != name);
        self.headers.push((name, value.to_owned()));
        self
    }
}

/// A running server; it stops when dropped.
pub(crate) struct Server {
    port: u16,
    asked: Arc<Mutex<Vec<Asked>>>,
    stop: Arc<AtomicBool>,
}

impl Server {
    /// Answers each request as `manner` says.
    pub(crate) fn start(manner: impl Fn(&Asked) -> Answer + Send + Sync + 'static) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let asked: Arc<Mutex<Vec<Asked>>> = Arc::default();
        let stop = Arc::new(AtomicBool::new(false));
        let (manner, log, stopped) = (Arc::new(manner), Arc::clone(&asked), Arc::clone(&stop));
        thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if stopped.load(Ordering::Relaxed) {
                    return;
                }
                let (manner, log, stopped) =
                    (Arc::clone(&manner), Arc::clone(&log), Arc::clone(&stopped));
                thread::spawn(move || serve(stream, &*manner, &log, &stopped));
            }
        });
        Self { port, asked, stop }
    }

    /// A well-behaved server of one file.
    pub(crate) fn of(file: Vec<u8>) -> Self {
        Self::start(move |asked| match asked.path.as_str() {
            "/os/hut.img" => Answer::part(asked, &file),
            _ => Answer::status(404),
        })
    }

    pub(crate) fn url(&self, path: &str) -> String {
        format!("http://127.0.0.1:{}{path}", self.port)
    }

    /// The requests for `path`, in their order.
    pub(crate) fn asked(&self, path: &str) -> Vec<Asked> {
        let asked = self.asked.lock().unwrap();
        let own = asked.iter().filter(|asked| asked.path == path);
        own.cloned().collect()
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        // Wakes the listener.
        let _ = TcpStream::connect(("127.0.0.1", self.port));
    }
}

fn serve(
    stream: TcpStream,
    manner: &dyn Fn(&Asked) -> Answer,
    log: &Mutex<Vec<Asked>>,
    stop: &AtomicBool,
) -> Option<()> {
    let mut reader = BufReader::new(stream.try_clone().ok()?);
    let mut stream = stream;
    loop {
        let asked = read_request(&mut reader, log)?;
        let answer = manner(&asked);
        let mut head = format!("HTTP/1.1 {} -\r\n", answer.status);
        for (name, value) in &answer.headers {
            head += &format!("{name}: {value}\r\n");
        }
        // Content-Length may be left out on purpose: then the end of the connection ends the body.
        let has_length = !answer.headers.iter().any(|(name, _)| *name == "Connection");
        if has_length {
            head += &format!("Content-Length: {}\r\n", answer.body.len());
        }
        stream.write_all(format!("{head}\r\n").as_bytes()).ok()?;
        let sent = match answer.then {
            Then::Complete => answer.body.len(),
            Then::Cut(len) | Then::Silence(len) => len.min(answer.body.len()),
        };
        stream.write_all(&answer.body[..sent]).ok()?;
        match answer.then {
            Then::Complete if has_length => {}
            Then::Silence(_) => {
                while !stop.load(Ordering::Relaxed) {
                    thread::sleep(Duration::from_millis(20));
                }
                return None;
            }
            _ => return None,
        }
    }
}

fn read_request(reader: &mut BufReader<TcpStream>, log: &Mutex<Vec<Asked>>) -> Option<Asked> {
    let mut lines = Vec::new();
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line).ok()? == 0 {
            return None;
        }
        match line.trim_end() {
            "" => break,
            line => lines.push(line.to_owned()),
        }
    }
    let path = lines.first()?.split(' ').nth(1)?.to_owned();
    let headers = lines[1..].iter().filter_map(|line| {
        let (name, value) = line.split_once(':')?;
        Some((name.to_owned(), value.trim().to_owned()))
    });
    let headers = headers.collect();
    let mut log = log.lock().unwrap();
    let number = log.iter().filter(|asked| asked.path == path).count();
    let asked = Asked {
        path,
        number,
        headers,
    };
    log.push(asked.clone());
    Some(asked)
}
