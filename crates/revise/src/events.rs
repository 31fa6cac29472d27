//! The lines of `--json`: the name and content of each. `docs/events.md` and
//! `docs/events.schema.json` are generated from these types.

use pinewrit_volume::files::Difference;
use schemars::JsonSchema;
use serde::Serialize;

use pinewrit_ui::Event;

/// One file of a file system.
#[derive(Serialize, JsonSchema)]
pub struct FileEvent<'a> {
    /// Its path from the root of its file system.
    pub path: &'a str,
    /// What is known of it.
    #[serde(flatten)]
    pub facts: &'a pinewrit_volume::files::FileFacts,
}

impl Event for FileEvent<'_> {
    const EVENT: &'static str = "file";
}

/// One file in a list of expected ones.
#[derive(Serialize, JsonSchema)]
pub struct ExpectedEvent<'a> {
    /// Its path below the place.
    pub path: &'a str,
    /// What is expected.
    #[serde(flatten)]
    pub expected: &'a pinewrit_volume::files::Expected,
}

impl Event for ExpectedEvent<'_> {
    const EVENT: &'static str = "expected";
}

/// What was listed, after all `file` or `expected` lines.
#[derive(Serialize, JsonSchema)]
pub struct ListEvent<'a> {
    /// `files list` or `files tree`.
    pub command: &'static str,
    /// The medium or image.
    pub source: &'a str,
    /// What was listed.
    pub place: String,
    /// The number of lines.
    pub count: usize,
}

impl Event for ListEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["files list", "files tree"];
}

/// A file's content.
#[derive(Serialize, JsonSchema)]
pub struct ReadEvent<'a> {
    /// `files read`.
    pub command: &'static str,
    /// The medium or image.
    pub source: &'a str,
    /// What was read.
    pub place: String,
    /// Size in bytes.
    pub bytes: u64,
    /// The file it was copied to; null without `--to`.
    pub to: Option<String>,
    /// Its content; null with `--to`.
    pub text: Option<String>,
}

impl Event for ReadEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["files read"];
}

/// A comparison with a list.
#[derive(Serialize, JsonSchema)]
pub struct CheckEvent<'a> {
    /// `files check`.
    pub command: &'static str,
    /// What was compared.
    pub place: String,
    /// The number of files in the list.
    pub expected: usize,
    /// The differences.
    pub differences: &'a [Difference],
}

impl Event for CheckEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["files check"];
}
