//! The lines of `--json`: the name and content of each. `docs/events.md` and
//! `docs/events.schema.json` are generated from these types.

use pinewrit_volume::files::Difference;
use schemars::JsonSchema;
use serde::Serialize;

use pinewrit_ui::Event;

#[cfg(test)]
mod document;

/// One file of a file system.
#[derive(Serialize, JsonSchema)]
pub(crate) struct FileEvent<'a> {
    /// Its path from the root of its file system.
    pub(crate) path: &'a str,
    #[serde(flatten)]
    pub(crate) facts: &'a pinewrit_volume::files::FileFacts,
}

impl Event for FileEvent<'_> {
    const EVENT: &'static str = "file";
}

/// One file in a list of expected ones.
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

/// What was listed, after all `file` or `expected` lines.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ListEvent<'a> {
    /// `files list` or `files tree`.
    pub(crate) command: &'static str,
    /// The medium or image.
    pub(crate) source: &'a str,
    /// What was listed.
    pub(crate) place: String,
    /// The number of lines.
    pub(crate) count: usize,
}

impl Event for ListEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["files list", "files tree"];
}

/// A file's content.
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
    /// The file it was copied to; null without `--to`.
    pub(crate) to: Option<String>,
    /// Its content; null with `--to`.
    pub(crate) text: Option<String>,
}

impl Event for ReadEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["files read"];
}

/// A comparison with a list.
#[derive(Serialize, JsonSchema)]
pub(crate) struct CheckEvent<'a> {
    /// `files check`.
    pub(crate) command: &'static str,
    /// What was compared.
    pub(crate) place: String,
    /// The number of files in the list.
    pub(crate) expected: usize,
    /// The differences.
    pub(crate) differences: &'a [Difference],
}

impl Event for CheckEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["files check"];
}
