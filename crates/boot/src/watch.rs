//! Listening to a board's console: lines, stages, and what to do when nothing, or nothing that can
//! be read, comes.

use std::io;
use std::time::{Duration, Instant};

use pinewrit_core::Cancel;
use regex::Regex;
use schemars::JsonSchema;
use serde::Serialize;

use crate::garbage::{Kind, look};
use crate::{End, Line, Lines, Place, Progress, RATES, Stage};

/// So many bytes show whether a rate is right.
const WINDOW: usize = 200;
/// How long a rate is tried.
const TRIAL: Duration = Duration::from_millis(1500);
/// After what ends a boot, so much longer is listened for the rest of it.
const AFTER: Duration = Duration::from_secs(2);
/// How often a port that is gone is looked for.
const LOOK: Duration = Duration::from_millis(200);

/// A console.
pub trait Console {
    /// Reads what has come; 0 if nothing came for a moment.
    ///
    /// # Errors
    /// The port is gone.
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize>;

    /// Writes to the board.
    ///
    /// # Errors
    /// The port is gone.
    fn write(&mut self, bytes: &[u8]) -> io::Result<()>;

    /// Sets the rate, in bits a second.
    ///
    /// # Errors
    /// The port does not support it.
    fn set_rate(&mut self, rate: u32) -> io::Result<()>;
}

/// Something to type when the board asks for it, once.
#[derive(Clone, Debug)]
pub struct Typing {
    /// What the board says; at once without.
    pub after: Option<Regex>,
    /// What is typed, with an end of line.
    pub text: String,
}

/// What to listen for.
#[derive(Clone, Debug)]
pub struct WatchRequest {
    /// The rate, in bits a second.
    pub rate: u32,
    /// Whether other rates are used if nothing can be read at this one.
    pub finds_rate: bool,
    /// Any of these ends it well.
    pub until: Vec<Regex>,
    /// Any of these ends it badly.
    pub fail: Vec<Regex>,
    /// Whether it ends where a boot cannot go on.
    pub ends_at_failures: bool,
    /// How long it may take.
    pub timeout: Option<Duration>,
    /// After so long without a byte that is told, and again after twice as long.
    pub silence: Duration,
    /// What is typed.
    pub sends: Vec<Typing>,
}

/// Something that people should know.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "hint")]
pub enum Hint {
    /// Nothing has come for so long.
    Silent {
        /// In seconds.
        seconds: u64,
    },
    /// What comes is no text.
    Garbage {
        /// The rate at which it is none.
        rate: u32,
        /// The rate at which it is, if one was found.
        text_at: Option<u32>,
    },
    /// The port is gone.
    Gone,
    /// It is back.
    Back,
}

/// Who is told.
pub trait Listener {
    /// Bytes as they come.
    fn bytes(&mut self, _bytes: &[u8]) {}

    /// A line, and when it came.
    fn line(&mut self, _line: &Line, _at: Duration) {}

    /// A stage has begun.
    fn stage(&mut self, _stage: Stage, _at: Duration) {}

    /// Something to know.
    fn hint(&mut self, _hint: &Hint) {}

    /// What was typed; `None` to leave.
    fn typed(&mut self) -> Option<Vec<u8>> {
        Some(Vec::new())
    }
}

/// Why listening ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "ended")]
pub enum Ended {
    /// What was waited for has come.
    Found {
        /// The line.
        line: String,
    },
    /// What must not come has come.
    Failed {
        /// Why, if that is known.
        because: Option<End>,
        /// The line.
        line: String,
    },
    /// The time is over.
    TimedOut,
    /// Somebody has stopped it.
    Stopped,
}

/// What was heard.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct WatchReport {
    /// Why it ended.
    #[serde(flatten)]
    pub ended: Ended,
    /// How far the board has come.
    pub stage: Option<Stage>,
    /// How often it began anew.
    pub restarts: u32,
    /// The rate, in bits a second.
    pub rate: u32,
    /// Bytes that came.
    pub bytes: u64,
    /// Lines that came.
    pub lines: u64,
    /// How long it took.
    pub seconds: f64,
    /// The last line.
    pub last: Option<String>,
}

/// Listens to a port, which may come and go.
pub fn watch<C: Console>(
    open: &mut dyn FnMut(u32) -> Option<C>,
    request: &WatchRequest,
    listener: &mut dyn Listener,
    cancel: &Cancel,
) -> WatchReport {
    let now = Instant::now();
    let mut watcher = Watcher {
        request,
        listener,
        cancel,
        begun: now,
        heard: now,
        told_silence: request.silence,
        rate: request.rate,
        window: Vec::new(),
        is_judged: false,
        lines: Lines::default(),
        progress: Progress::default(),
        sends: request.sends.clone(),
        failed: None,
        bytes: 0,
        count: 0,
        last: None,
    };
    let ended = watcher.run(open);
    WatchReport {
        ended,
        stage: watcher.progress.stage(),
        restarts: watcher.progress.restarts(),
        rate: watcher.rate,
        bytes: watcher.bytes,
        lines: watcher.count,
        seconds: watcher.begun.elapsed().as_secs_f64(),
        last: watcher.last,
    }
}

impl Place {
    /// A function that opens the port at a rate while it is there.
    pub fn opener(&self) -> impl FnMut(u32) -> Option<crate::SerialConsole> {
        let place = self.clone();
        move |rate| place.open(rate).ok()
    }
}

struct Watcher<'w> {
    request: &'w WatchRequest,
    listener: &'w mut dyn Listener,
    cancel: &'w Cancel,
    begun: Instant,
    /// When the last byte came.
    heard: Instant,
    /// The silence that is told next.
    told_silence: Duration,
    rate: u32,
    /// What came last at this rate.
    window: Vec<u8>,
    /// Whether it is known what comes at this rate.
    is_judged: bool,
    lines: Lines,
    progress: Progress,
    sends: Vec<Typing>,
    /// What has ended the boot, and when.
    failed: Option<(Ended, Instant)>,
    bytes: u64,
    count: u64,
    last: Option<String>,
}

impl Watcher<'_> {
    fn run<C: Console>(&mut self, open: &mut dyn FnMut(u32) -> Option<C>) -> Ended {
        let mut console = open(self.rate);
        if console.is_none() {
            self.listener.hint(&Hint::Gone);
        }
        loop {
            if let Some(ended) = self.is_over() {
                return self.leave(ended);
            }
            let Some(own) = &mut console else {
                std::thread::sleep(LOOK);
                console = open(self.rate);
                if console.is_some() {
                    self.listener.hint(&Hint::Back);
                    self.heard = Instant::now();
                }
                continue;
            };
            match self.turn(own) {
                Ok(Some(ended)) => return self.leave(ended),
                Ok(None) => {}
                Err(_) => {
                    console = None;
                    // What comes later does not belong to the line that broke off.
                    if let Some(line) = self.lines.finish()
                        && let Some(ended) = self.heard_line(&line)
                    {
                        return ended;
                    }
                    self.listener.hint(&Hint::Gone);
                }
            }
        }
    }

    /// What is not finished is a line as well.
    fn leave(&mut self, ended: Ended) -> Ended {
        match self.lines.finish() {
            Some(line) => self.heard_line(&line).unwrap_or(ended),
            None => ended,
        }
    }

    fn is_over(&mut self) -> Option<Ended> {
        if self.cancel.is_cancelled() {
            return Some(Ended::Stopped);
        }
        if let Some((failed, since)) = &self.failed
            && since.elapsed() >= AFTER
        {
            return Some(failed.clone());
        }
        let limit = self.request.timeout?;
        (self.begun.elapsed() >= limit).then(|| match self.failed.take() {
            Some((failed, _)) => failed,
            None => Ended::TimedOut,
        })
    }

    /// Reads, types, and says what is to be said.
    fn turn(&mut self, console: &mut dyn Console) -> io::Result<Option<Ended>> {
        let mut buffer = [0; 4096];
        let read = console.read(&mut buffer)?;
        let now = Instant::now();
        match self.listener.typed() {
            None => return Ok(Some(Ended::Stopped)),
            Some(typed) if !typed.is_empty() => console.write(&typed)?,
            Some(_) => {}
        }
        self.send(console, None)?;
        if read == 0 {
            self.tell_silence();
            let waiting = self.lines.waiting(now);
            return match waiting {
                Some(line) => self.answered(console, &line),
                None => Ok(None),
            };
        }
        let bytes = &buffer[..read];
        (self.heard, self.told_silence) = (now, self.request.silence);
        self.bytes += read as u64;
        self.listener.bytes(bytes);
        if self.is_garbage(console, bytes)? {
            return Ok(None);
        }
        for line in self.lines.take(bytes, now) {
            if let Some(ended) = self.answered(console, &line)? {
                return Ok(Some(ended));
            }
        }
        Ok(None)
    }

    fn answered(&mut self, console: &mut dyn Console, line: &Line) -> io::Result<Option<Ended>> {
        let ended = self.heard_line(line);
        self.send(console, Some(&line.text))?;
        Ok(ended)
    }

    /// Types what is due after a line, or at once.
    fn send(&mut self, console: &mut dyn Console, line: Option<&str>) -> io::Result<()> {
        let is_due = |send: &Typing| match (&send.after, line) {
            (None, None) => true,
            (Some(after), Some(line)) => after.is_match(line),
            _ => false,
        };
        while let Some(index) = self.sends.iter().position(is_due) {
            let send = self.sends.remove(index);
            console.write(format!("{}\r", send.text).as_bytes())?;
        }
        Ok(())
    }

    fn heard_line(&mut self, line: &Line) -> Option<Ended> {
        let at = self.begun.elapsed();
        if let Some(stage) = self.progress.take(&line.text) {
            self.listener.stage(stage, at);
        }
        self.listener.line(line, at);
        self.count += u64::from(line.is_whole);
        self.last = Some(line.text.clone());
        let matches = |all: &[Regex]| all.iter().any(|one| one.is_match(&line.text));
        let text = || line.text.clone();
        if matches(&self.request.until) {
            return Some(Ended::Found { line: text() });
        }
        if matches(&self.request.fail) {
            return Some(Ended::Failed {
                because: None,
                line: text(),
            });
        }
        let because = self
            .progress
            .end()
            .filter(|_| self.request.ends_at_failures);
        match because {
            // It began anew.
            None => self.failed = None,
            Some(because) if self.failed.is_none() => {
                let failed = Ended::Failed {
                    because: Some(because),
                    line: text(),
                };
                self.failed = Some((failed, Instant::now()));
            }
            Some(_) => {}
        }
        None
    }

    fn tell_silence(&mut self) {
        // A board that has stopped says no more.
        if self.failed.is_none() && self.heard.elapsed() >= self.told_silence {
            self.listener.hint(&Hint::Silent {
                seconds: self.told_silence.as_secs(),
            });
            self.told_silence *= 2;
        }
    }

    /// Whether what comes is no text; then other rates are tried.
    fn is_garbage(&mut self, console: &mut dyn Console, bytes: &[u8]) -> io::Result<bool> {
        if self.is_judged {
            return Ok(false);
        }
        self.window.extend(bytes);
        let kind = look(&self.window);
        if kind == Kind::Unclear && self.window.len() < WINDOW {
            return Ok(false);
        }
        self.is_judged = true;
        if kind != Kind::Garbage {
            return Ok(false);
        }
        let found = self.other_rate(console)?;
        self.listener.hint(&Hint::Garbage {
            rate: self.rate,
            text_at: found,
        });
        // Bytes of several rates are no line.
        self.lines = Lines::default();
        let rate = found.filter(|_| self.request.finds_rate);
        self.rate = rate.unwrap_or(self.rate);
        console.set_rate(self.rate)?;
        Ok(true)
    }

    /// The usual rate at which text comes.
    fn other_rate(&mut self, console: &mut dyn Console) -> io::Result<Option<u32>> {
        for rate in RATES.into_iter().filter(|rate| *rate != self.rate) {
            if console.set_rate(rate).is_err() {
                continue;
            }
            let begun = Instant::now();
            let mut window = Vec::new();
            let mut buffer = [0; 1024];
            while begun.elapsed() < TRIAL && !self.cancel.is_cancelled() {
                let read = console.read(&mut buffer)?;
                // What was on its way at the rate before is left out.
                if begun.elapsed() > TRIAL / 10 {
                    window.extend(&buffer[..read]);
                }
                match look(&window) {
                    Kind::Text => return Ok(Some(rate)),
                    Kind::Garbage if window.len() >= WINDOW => break,
                    _ => {}
                }
            }
        }
        Ok(None)
    }
}
