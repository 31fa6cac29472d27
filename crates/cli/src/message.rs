//! Messages about what failed: the user's words, then facts with numbers, then what to try.

use serde::Serialize;

use crate::exit::Exit;
use crate::ui::style;

/// One message that ends a command.
#[derive(Clone, Debug)]
pub(crate) struct Message {
    pub(crate) exit: Exit,
    what: String,
    facts: Vec<(String, String)>,
    remedies: Vec<String>,
}

/// The message as an event of `--json`.
#[derive(Serialize)]
struct ErrorEvent<'a> {
    event: &'static str,
    exit: u8,
    what: &'a str,
    facts: Vec<Fact<'a>>,
    #[serde(rename = "try")]
    remedies: &'a [String],
}

#[derive(Serialize)]
struct Fact<'a> {
    name: &'a str,
    value: &'a str,
}

impl Message {
    /// A message that says what failed, in the user's words.
    pub(crate) fn new(exit: Exit, what: impl Into<String>) -> Self {
        Self {
            exit,
            what: what.into(),
            facts: Vec::new(),
            remedies: Vec::new(),
        }
    }

    /// Adds a fact.
    pub(crate) fn fact(mut self, name: impl Into<String>, value: impl Into<String>) -> Self {
        self.facts.push((name.into(), value.into()));
        self
    }

    /// Says something else under the name of a fact.
    pub(crate) fn instead(mut self, name: &str, value: impl Into<String>) -> Self {
        self.facts.retain(|(known, _)| known != name);
        self.fact(name, value)
    }

    /// Leaves a fact out.
    pub(crate) fn without(mut self, name: &str) -> Self {
        self.facts.retain(|(known, _)| known != name);
        self
    }

    /// Adds something to try.
    pub(crate) fn remedy(mut self, text: impl Into<String>) -> Self {
        self.remedies.push(text.into());
        self
    }

    /// The message for a terminal or a log.
    pub(crate) fn to_text(&self) -> String {
        let (error, dim) = (style::ERROR, style::DIM);
        let mut text = format!("{error}pinewrit:{error:#} {}\n", self.what);
        let remedies = self.remedies.iter().enumerate();
        let remedies = remedies.map(|(index, remedy)| {
            let name = if index == 0 { "try" } else { "" };
            (name, remedy.as_str())
        });
        let facts = self.facts.iter().map(|(n, v)| (n.as_str(), v.as_str()));
        let rows: Vec<_> = facts.chain(remedies).collect();
        let width = rows.iter().map(|(name, _)| name.chars().count()).max();
        let width = width.unwrap_or(0).max(9);
        for (name, value) in rows {
            text += &format!("  {dim}{name:width$}{dim:#} {value}\n");
        }
        text
    }

    /// The message as a line of JSON.
    pub(crate) fn to_json(&self) -> impl Serialize + '_ {
        ErrorEvent {
            event: "error",
            exit: self.exit.code(),
            what: &self.what,
            facts: self
                .facts
                .iter()
                .map(|(name, value)| Fact { name, value })
                .collect(),
            remedies: &self.remedies,
        }
    }
}
