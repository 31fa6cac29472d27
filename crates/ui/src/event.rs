//! The lines of `--json`, and the medium to which one refers.

use schemars::JsonSchema;
use serde::Serialize;

/// A line of `--json`.
pub trait Event: Serialize + JsonSchema {
    /// Its `event`.
    const EVENT: &'static str;
    /// The commands that end with it; empty for all other lines.
    const COMMANDS: &'static [&'static str] = &[];
}

/// A line as printed.
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

/// The medium to which a line refers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct MediumName {
    /// Its path, or `rack:` and the reader that holds it.
    pub medium: String,
    /// Its tag; null for card files.
    pub tag: Option<String>,
}
