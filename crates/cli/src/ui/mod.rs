//! What is shown: results on stdout, progress and messages on stderr.

pub(crate) mod map;
pub(crate) mod output;
pub(crate) mod progress;
pub(crate) mod style;
pub(crate) mod text;
pub(crate) mod units;

use std::fmt::Display;
use std::io::{self, BufRead, IsTerminal, Write};

use crate::args::{ColorWhen, Global};
use crate::events::{Event, Line};

/// How to talk to the user.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Ui {
    pub(crate) json: bool,
    pub(crate) quiet: bool,
    pub(crate) verbose: bool,
}

/// A question's answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Answer {
    Yes,
    No,
    NobodyToAsk,
}

impl Ui {
    pub(crate) fn new(global: &Global) -> Self {
        let choice = match global.color {
            ColorWhen::Auto => anstream::ColorChoice::Auto,
            ColorWhen::Always => anstream::ColorChoice::Always,
            ColorWhen::Never => anstream::ColorChoice::Never,
        };
        choice.write_global();
        Self {
            json: global.json,
            quiet: global.quiet,
            verbose: global.verbose,
        }
    }

    /// Before the arguments are known.
    pub(crate) fn for_programs() -> Self {
        Self {
            json: true,
            quiet: false,
            verbose: false,
        }
    }

    /// A part of the result for people. Nobody reading it any more is no error; that it cannot be
    /// written is told at the end.
    pub(crate) fn result(&self, text: impl Display) {
        if !self.json {
            let text = text::safe(&text.to_string());
            output::write(|| write!(anstream::stdout(), "{text}"));
        }
    }

    /// An event or the result for programs.
    pub(crate) fn event<T: Event>(&self, event: &T) {
        if self.json
            && let Ok(line) = serde_json::to_string(&Line::of(event))
        {
            let line = text::safe_json(&line);
            output::write(|| writeln!(io::stdout(), "{line}"));
        }
    }

    /// Something said beside the result.
    pub(crate) fn say(&self, text: impl Display) {
        if !self.quiet {
            self.warn(text);
        }
    }

    /// Something said in any case.
    pub(crate) fn warn(&self, text: impl Display) {
        let _ = write!(anstream::stderr(), "{}", text::safe(&text.to_string()));
    }

    /// Asks a question to be answered with yes or no; no is what Enter alone means.
    pub(crate) fn ask(&self, question: impl Display) -> Answer {
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
    /// Asks for a line of text; `None` where there is nobody to ask.
    pub(crate) fn ask_text(&self, question: impl Display) -> Option<String> {
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
pub(crate) fn width() -> usize {
    let found = terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    found.unwrap_or(80).clamp(40, 120)
}
