//! Messages about what failed: the user's words, then facts with numbers, then what to try.

use schemars::JsonSchema;
use serde::Serialize;

use crate::Exit;
use crate::style;
use crate::{Event, MediumName};

/// One message that ends a command.
#[derive(Clone, Debug)]
pub struct Message {
    /// The exit code.
    pub exit: Exit,
    what: String,
    facts: Vec<(String, String)>,
    remedies: Vec<String>,
    /// Mistakes in a file, reported before everything else.
    mistakes: Vec<FileMistake>,
    medium: Option<Box<MediumName>>,
}

/// The message as an event of `--json`.
#[derive(Serialize, JsonSchema)]
pub struct ErrorEvent<'a> {
    exit: u8,
    what: &'a str,
    /// The medium to which it refers, if there are several: its path and tag.
    #[serde(flatten)]
    medium: Option<&'a MediumName>,
    /// The facts.
    facts: Vec<Fact<'a>>,
    /// Mistakes in a file, ordered by line.
    mistakes: &'a [FileMistake],
    /// What to try.
    #[serde(rename = "try")]
    remedies: &'a [String],
}

/// A mistake of a settings file, a layout or a rack file.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct FileMistake {
    /// The file.
    pub file: String,
    /// The line in it, from 1.
    pub line: usize,
    /// What is wrong.
    pub what: String,
    /// What would be right.
    pub remedy: String,
}

impl Event for ErrorEvent<'_> {
    const EVENT: &'static str = "error";
}

#[derive(Serialize, JsonSchema)]
struct Fact<'a> {
    name: &'a str,
    value: &'a str,
}

impl FileMistake {
    /// With the file's name if there are several files.
    fn rows(&self, with_file: bool) -> [(String, String); 2] {
        let name = self.file.rsplit('/').next().unwrap_or_default();
        let place = match with_file {
            true => format!("{name} line {}", self.line),
            false => format!("line {}", self.line),
        };
        [
            (place, self.what.clone()),
            (String::new(), format!("→ {}", self.remedy)),
        ]
    }
}

impl Message {
    /// A message that says what failed, in the user's words.
    pub fn new(exit: Exit, what: impl Into<String>) -> Self {
        Self {
            exit,
            what: what.into(),
            facts: Vec::new(),
            remedies: Vec::new(),
            mistakes: Vec::new(),
            medium: None,
        }
    }

    /// Sets the medium to which it refers.
    pub fn of(self, medium: MediumName) -> Self {
        Self {
            medium: Some(Box::new(medium)),
            ..self
        }
    }

    /// Adds a mistake in a file.
    pub fn mistake(mut self, mistake: FileMistake) -> Self {
        self.mistakes.push(mistake);
        self
    }

    /// Adds a fact.
    pub fn fact(mut self, name: impl Into<String>, value: impl Into<String>) -> Self {
        self.facts.push((name.into(), value.into()));
        self
    }

    /// Replaces the text of a fact.
    pub fn instead(mut self, name: &str, value: impl Into<String>) -> Self {
        self.facts.retain(|(known, _)| known != name);
        self.fact(name, value)
    }

    /// Removes a fact.
    pub fn without(mut self, name: &str) -> Self {
        self.facts.retain(|(known, _)| known != name);
        self
    }

    /// Adds a remedy.
    pub fn remedy(mut self, text: impl Into<String>) -> Self {
        self.remedies.push(text.into());
        self
    }

    /// The same under another headline.
    pub fn titled(&self, what: String) -> Self {
        Self {
            what,
            ..self.clone()
        }
    }

    /// What failed.
    pub fn what(&self) -> &str {
        &self.what
    }

    /// Everything else as rows of a name and a text.
    pub fn rows(&self) -> Vec<(String, String)> {
        let several = self
            .mistakes
            .windows(2)
            .any(|pair| pair[0].file != pair[1].file);
        let mistakes = self
            .mistakes
            .iter()
            .flat_map(|mistake| mistake.rows(several));
        let remedies = self.remedies.iter().enumerate().map(|(index, remedy)| {
            let name = if index == 0 { "try" } else { "" };
            (name.to_owned(), remedy.clone())
        });
        mistakes
            .chain(self.facts.iter().cloned())
            .chain(remedies)
            .collect()
    }

    /// The message for a terminal or a log.
    pub fn to_text(&self) -> String {
        let (error, dim) = (style::ERROR, style::DIM);
        let mut text = format!("{error}pinewrit:{error:#} {}\n", self.what);
        let rows = self.rows();
        let width = rows.iter().map(|(name, _)| name.chars().count()).max();
        let width = width.unwrap_or(0).max(9);
        for (name, value) in rows {
            text += &format!("  {dim}{name:width$}{dim:#} {value}\n");
        }
        text
    }

    /// The message as a line of JSON.
    pub fn to_json(&self) -> ErrorEvent<'_> {
        ErrorEvent {
            exit: self.exit.code(),
            what: &self.what,
            facts: self
                .facts
                .iter()
                .map(|(name, value)| Fact { name, value })
                .collect(),
            mistakes: &self.mistakes,
            medium: self.medium.as_deref(),
            remedies: &self.remedies,
        }
    }
}
