//! When a medium is read back: behind the writing, or after it.

use pinewrit_host::{Bus, Medium, MediumKind};

/// When a medium is read back.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ReadBack {
    /// After everything is written.
    #[default]
    After,
    /// While the rest is still being written, for media on which the two do not disturb each other.
    /// Only if transfers bypass the system's cache.
    Behind,
}

impl ReadBack {
    /// The choice that suits a medium. Reading back disturbs writing to flash behind a slow bus;
    /// elsewhere it costs no time. `bus` is `None` for card files.
    pub fn suited_to(medium: &Medium, bus: Option<Bus>) -> Self {
        let is_quick = match bus {
            None => medium.kind == MediumKind::CardFile,
            Some(bus) => matches!(bus, Bus::Nvme | Bus::Sata | Bus::Virtual | Bus::Loop),
        };
        if is_quick && medium.is_direct {
            Self::Behind
        } else {
            Self::After
        }
    }
}
