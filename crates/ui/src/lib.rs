//! What users and programs see: results on stdout, progress and messages on stderr, the lines of
//! `--json`, and the page of a report.
//!
//! A message says what failed, then facts, then what to try:
//!
//! ```
//! use pinewrit_ui::{Exit, Message};
//!
//! let message = Message::new(Exit::Refused, "hut.img does not fit on CARD-7G2")
//!     .fact("image", "3.25 GB")
//!     .remedy("use a card of 4 GB or more");
//! assert_eq!(message.exit.code(), 3);
//! assert!(message.to_text().contains("try"));
//! ```

pub mod batch;
mod event;
mod exit;
pub mod map;
mod message;
pub mod output;
pub mod page;
pub mod progress;
pub mod style;
pub mod text;
pub mod units;
pub mod words;

use std::fmt::Display;
use std::io::{self, BufRead, IsTerminal, Write};

use crate::event::Line;

pub use event::{Event, MediumName};
pub use exit::Exit;
pub use message::{ErrorEvent, FileMistake, Message};

/// How to communicate with the user.
#[derive(Clone, Copy, Debug)]
pub struct Ui {
    /// JSON lines for programs, instead of text.
    pub json: bool,
    /// Only results and errors.
    pub quiet: bool,
    /// More details.
    pub verbose: bool,
}

/// A question's answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// Yes.
    Yes,
    /// No, or anything else than yes.
    No,
    /// There is no terminal.
    NobodyToAsk,
}

impl Ui {
    /// A part of the result as text. A closed pipe is not an error; a failed write is reported at
    /// the end.
    pub fn result(&self, text: impl Display) {
        if !self.json {
            let text = text::safe(&text.to_string());
            output::write(|| write!(anstream::stdout(), "{text}"));
        }
    }

    /// An event or the result for programs.
    pub fn event<T: Event>(&self, event: &T) {
        if self.json
            && let Ok(line) = serde_json::to_string(&Line::of(event))
        {
            let line = text::safe_json(&line);
            output::write(|| writeln!(io::stdout(), "{line}"));
        }
    }

    /// A message besides the result.
    pub fn say(&self, text: impl Display) {
        if !self.quiet {
            self.warn(text);
        }
    }

    /// A message that even `--quiet` shows.
    pub fn warn(&self, text: impl Display) {
        let _ = write!(anstream::stderr(), "{}", text::safe(&text.to_string()));
    }

    /// Asks a yes-or-no question; Enter alone means no.
    pub fn ask(&self, question: impl Display) -> Answer {
        if !io::stdin().is_terminal() || !io::stderr().is_terminal() {
            return Answer::NobodyToAsk;
        }
        self.warn(format!("{question} [y/N] "));
        let mut line = String::new();
        match io::stdin().lock().read_line(&mut line) {
            Ok(_) if matches!(line.trim(), "y" | "Y" | "yes" | "Yes") => Answer::Yes,
            _ => Answer::No,
        }
    }
}

impl Ui {
    /// Rings the terminal's bell.
    pub fn ring(&self) {
        let _ = write!(io::stderr(), "\x07");
    }

    /// Asks for a line of text; `None` if there is nobody to ask.
    pub fn ask_text(&self, question: impl Display) -> Option<String> {
        if !io::stdin().is_terminal() || !io::stderr().is_terminal() {
            return None;
        }
        self.warn(format!("{question} "));
        let mut line = String::new();
        io::stdin().lock().read_line(&mut line).ok()?;
        Some(line.trim().to_owned())
    }
}

/// Width of the terminal in columns, within reason; 80 without one.
pub fn width() -> usize {
    let found = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    found.unwrap_or(80).clamp(40, 120)
}
