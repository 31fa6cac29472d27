//! Notes of jobs that are not finished: a medium without a table says nothing of itself.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A write that was begun, as it is kept beside the receipts until it is done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
pub struct UnfinishedWrite {
    /// Version of the form.
    pub version: u32,
    /// Where the image is.
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
    /// Bytes in use that were written, as far as it was noted.
    pub done: u64,
    /// Bytes in use there will be, as far as it was known.
    pub total: Option<u64>,
}

impl UnfinishedWrite {
    /// The version that is written.
    pub const VERSION: u32 = 1;

    /// Whether it is about the same image, as far as its sizes tell.
    pub fn is_of(&self, name: &str, sizes: (Option<u64>, Option<u64>)) -> bool {
        self.image_name == name && self.image_sizes == sizes
    }
}
