//! Notes of unfinished jobs: a medium without a table says nothing about itself.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A begun write, as recorded beside the receipts until it is done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
pub struct UnfinishedWrite {
    /// Version of the form.
    pub version: u32,
    /// The image's location.
    pub image: String,
    /// Its name.
    pub image_name: String,
    /// Its size as packed and as unpacked in bytes, where known.
    pub image_sizes: (Option<u64>, Option<u64>),
    /// The medium's tag, or the card file's full path.
    pub medium: String,
    /// The medium's size in bytes.
    pub medium_size: u64,
    /// When it was begun, RFC 3339.
    pub begun: String,
    /// Used bytes written so far, as of the last note.
    pub done: u64,
    /// Used bytes in total, as far as known.
    pub total: Option<u64>,
}

impl UnfinishedWrite {
    /// The current version of the format.
    pub const VERSION: u32 = 1;

    /// Whether it describes the same image, judged by its sizes.
    pub fn is_of(&self, name: &str, sizes: (Option<u64>, Option<u64>)) -> bool {
        self.image_name == name && self.image_sizes == sizes
    }
}
