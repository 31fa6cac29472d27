//! What an intake reports about its work.

use schemars::JsonSchema;
use serde::Serialize;

/// One file of the settings.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FileChange {
    /// Its path inside the partition.
    pub path: String,
    /// What happens to it.
    pub kind: ChangeKind,
    /// The change in unified form, with secrets hidden.
    pub diff: String,
    /// All of it is hidden.
    pub hidden: bool,
}

/// What happens to a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ChangeKind {
    /// It is new.
    New,
    /// Its content is replaced.
    Changed,
    /// It came with the image, equal on every card, and is replaced for this unit.
    Renewed,
    /// Something in it changes; the rest stays as it is.
    Edited,
    /// It is already as it should be.
    Same,
    /// It is removed.
    Removed,
}
