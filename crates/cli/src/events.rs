//! The lines of `--json`: what each is called, and what is in it. `docs/events.md` and
//! `docs/events.schema.json` are made from these types.

use pinewrit_volume::files::Difference;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::medium::Chosen;

#[cfg(test)]
mod document;

/// A line of `--json`.
pub(crate) trait Event: Serialize + JsonSchema {
    /// Its `event`.
    const EVENT: &'static str;
    /// The commands whose result it is; empty for all other lines.
    #[allow(dead_code, reason = "read when the documents are made")]
    const COMMANDS: &'static [&'static str] = &[];
}

/// A line as it is printed.
#[derive(Serialize)]
pub(crate) struct Line<'a, T> {
    event: &'static str,
    #[serde(flatten)]
    body: &'a T,
}

impl<'a, T: Event> Line<'a, T> {
    pub(crate) fn of(body: &'a T) -> Self {
        Self {
            event: T::EVENT,
            body,
        }
    }
}

/// Which medium a line is about.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub(crate) struct MediumName {
    /// Its path, or `rack:` and the reader that holds it.
    pub(crate) medium: String,
    /// Its tag; null for card files.
    pub(crate) tag: Option<String>,
}

impl MediumName {
    pub(crate) fn of(chosen: &Chosen) -> Self {
        Self {
            medium: chosen.path.display().to_string(),
            tag: chosen.tag().map(ToString::to_string),
        }
    }
}

/// One file of a file system.
#[derive(Serialize, JsonSchema)]
pub(crate) struct FileEvent<'a> {
    /// Its path, from the root of its file system.
    pub(crate) path: &'a str,
    #[serde(flatten)]
    pub(crate) facts: &'a pinewrit_volume::files::FileFacts,
}

impl Event for FileEvent<'_> {
    const EVENT: &'static str = "file";
}

/// One file of a list of expected ones.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ExpectedEvent<'a> {
    /// Its path below the place.
    pub(crate) path: &'a str,
    #[serde(flatten)]
    pub(crate) expected: &'a pinewrit_volume::files::Expected,
}

impl Event for ExpectedEvent<'_> {
    const EVENT: &'static str = "expected";
}

/// What was listed, once all `file` or `expected` lines are there.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ListEvent<'a> {
    /// `files list` or `files tree`.
    pub(crate) command: &'static str,
    /// The medium or image.
    pub(crate) source: &'a str,
    /// What was listed.
    pub(crate) place: String,
    /// How many lines there were.
    pub(crate) count: usize,
}

impl Event for ListEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["files list", "files tree"];
}

/// A file that was read.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ReadEvent<'a> {
    /// `files read`.
    pub(crate) command: &'static str,
    /// The medium or image.
    pub(crate) source: &'a str,
    /// What was read.
    pub(crate) place: String,
    /// Size in bytes.
    pub(crate) bytes: u64,
    /// The file that it was copied to; null without `--to`.
    pub(crate) to: Option<String>,
    /// Its content; null with `--to`.
    pub(crate) text: Option<String>,
}

impl Event for ReadEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["files read"];
}

/// A file system against a list.
#[derive(Serialize, JsonSchema)]
pub(crate) struct CheckEvent<'a> {
    /// `files check`.
    pub(crate) command: &'static str,
    /// What was compared.
    pub(crate) place: String,
    /// How many files the list has.
    pub(crate) expected: usize,
    /// What is not as expected.
    pub(crate) differences: &'a [Difference],
}

impl Event for CheckEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["files check"];
}
