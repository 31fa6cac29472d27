//! What a write should do, and to which media.

use std::path::PathBuf;

use pinewrit_firstboot::as_new::AsNew;
use pinewrit_host::{Bus, MediumFacts, Target};
use pinewrit_image::ExpectedChecksum;
use pinewrit_settings::CheckedSettings;
use pinewrit_volume::Timestamp;

use crate::inspect::Inspection;
use crate::receipt::{Receipt, ReceiptPartition};
use crate::unfinished::UnfinishedWrite;

/// Everything about a write except the image and the media.
#[derive(Clone, Debug)]
pub struct WriteRequest {
    /// Checksum that the packed source or the image must have.
    pub checksum: Option<ExpectedChecksum>,
    /// First-boot settings to put on each medium.
    pub settings: Option<CheckedSettings>,
    /// The identity of those settings in receipts: a digest without secrets.
    pub settings_digest: Option<String>,
    /// Grow the last partition to the whole medium; when writing a partition, its file system.
    pub grow: bool,
    /// Read everything back and compare.
    pub verify: bool,
    /// How long it is expected to take, for receipts.
    pub expected_seconds: Option<f64>,
    /// Write free space of file systems as well.
    pub every_byte: bool,
    /// First tell the media that nothing on them is needed any more.
    pub clear_free: bool,
    /// First take away what makes the system one unit.
    pub as_new: Option<AsNew>,
    /// Give each medium identifiers of its own, from these random bytes.
    pub new_ids: Option<Randomness>,
    /// How many writes of this program share its memory.
    pub at_once: usize,
    /// Write something that does not look like an image, or is shorter than its table says.
    pub as_it_is: bool,
    /// The program and its version, for receipts.
    pub tool: String,
    /// Where to put each medium's receipt besides the store.
    pub receipt: Option<PathBuf>,
    /// The time.
    pub clock: Clock,
}

/// Returns random bytes.
pub type Randomness = fn() -> [u8; 16];

/// Returns the time, in seconds since 1970.
pub type Clock = fn() -> i64;

impl WriteRequest {
    /// A request for nothing but a verified copy.
    pub fn new(tool: impl Into<String>, clock: Clock) -> Self {
        Self {
            checksum: None,
            settings: None,
            settings_digest: None,
            grow: false,
            verify: true,
            expected_seconds: None,
            every_byte: false,
            clear_free: false,
            as_new: None,
            new_ids: None,
            at_once: 1,
            as_it_is: false,
            tool: tool.into(),
            receipt: None,
            clock,
        }
    }

    /// Whether the last partition should grow, on request or for the settings.
    pub(super) fn grows(&self) -> bool {
        self.grow || self.settings.as_ref().is_some_and(|all| all.grows_root)
    }

    /// The time of changes in file systems.
    pub(super) fn now(&self) -> Timestamp {
        Timestamp::at((self.clock)())
    }
}

/// The time in the form of receipts: RFC 3339, in whole seconds.
pub(crate) fn rfc3339(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).map_or(String::new(), |time| time.to_string())
}

/// A medium to be written, chosen and opened by the caller.
pub struct Destination {
    /// What it is called: its tag, or the card file's name.
    pub name: String,
    /// The key of its notes: its tag, or the card file's full path.
    pub key: String,
    /// Where it is.
    pub path: PathBuf,
    /// Its identity; `None` for card files.
    pub facts: Option<MediumFacts>,
    /// The medium; narrowed to a partition if only that is written.
    pub target: Target,
    /// The partition that is written, if it is not the whole medium.
    pub partition: Option<ReceiptPartition>,
    /// The receipt of the whole medium without that partition, and where it is.
    pub whole: Option<(PathBuf, Receipt)>,
    /// What is on it now, as far as it can be read.
    pub present: Option<Inspection>,
    /// An earlier write that was not finished.
    pub note: Option<UnfinishedWrite>,
}

impl Destination {
    /// Whether it holds nothing that could be lost.
    pub fn is_new(&self) -> bool {
        self.present.is_none() && matches!(self.target, Target::New { .. })
    }

    /// Whether it already holds the image.
    pub fn is_drafted(&self) -> bool {
        matches!(self.target, Target::New { draft: Some(_), .. })
    }

    /// How it is connected; `None` for card files.
    pub fn bus(&self) -> Option<Bus> {
        self.facts.as_ref().map(|facts| facts.identity.bus)
    }
}
