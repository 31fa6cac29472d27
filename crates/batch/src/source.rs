//! The images of a batch, each opened once and shared by all media.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use pinewrit_boards::Board;
use pinewrit_core::receipt::ReceiptImage;
use pinewrit_image::{ExpectedChecksum, ImageSource};
use pinewrit_roster::Content;
use pinewrit_settings::IntakeWish;

use crate::{NoSpool, Spool};

/// An image that was opened for a batch.
#[derive(Clone)]
pub struct Prepared {
    /// The image.
    pub source: ImageSource,
    /// The checksum that it must have.
    pub checksum: Option<ExpectedChecksum>,
    /// What is free in it, as far as known, in bytes.
    pub expected_free: u64,
    /// The board that is to start from the finished medium.
    pub board: Option<Arc<Board>>,
}

/// All images of a batch, by what the roster says.
#[derive(Default)]
pub struct Sources {
    images: Vec<(Content, Prepared)>,
    intakes: Vec<(String, IntakeWish)>,
    spools: Mutex<HashMap<String, Spool>>,
}

/// An image for one medium.
pub(crate) struct ForMedium {
    pub(crate) source: ImageSource,
    pub(crate) checksum: Option<ExpectedChecksum>,
    /// What the receipt says, if it is not the source's own.
    pub(crate) image: Option<ReceiptImage>,
}

impl Sources {
    /// Adds an image.
    pub fn add(&mut self, content: Content, prepared: Prepared) {
        self.images.push((content, prepared));
    }

    /// Adds an intake that the roster names.
    pub fn add_intake(&mut self, name: &str, wish: IntakeWish) {
        self.intakes.push((name.to_owned(), wish));
    }

    /// The intake of this name.
    pub(crate) fn intake(&self, name: Option<&str>) -> Option<IntakeWish> {
        let found = self
            .intakes
            .iter()
            .find(|(known, _)| Some(known.as_str()) == name);
        found.map(|(_, wish)| wish.clone())
    }

    /// The image for what the roster says.
    pub fn get(&self, content: &Content) -> Option<&Prepared> {
        let found = self.images.iter().find(|(known, _)| known == content);
        found.map(|(_, prepared)| prepared)
    }

    /// Says which board is to start from the media with this content.
    pub fn must_start(&mut self, content: &Content, board: &Arc<Board>) {
        let mut images = self.images.iter_mut();
        if let Some((_, prepared)) = images.find(|(known, _)| known == content) {
            prepared.board = Some(Arc::clone(board));
        }
    }

    /// All images.
    pub fn all(&self) -> impl Iterator<Item = &(Content, Prepared)> {
        self.images.iter()
    }

    pub(crate) fn keep(&self, content: &Content, spool: Spool) {
        let mut spools = self.spools.lock().unwrap_or_else(|e| e.into_inner());
        spools.insert(format!("{content:?}"), spool);
    }

    /// The image for a medium: unpacked already, or to be unpacked for it alone.
    pub(crate) fn for_medium(&self, content: &Content) -> Result<Option<ForMedium>, NoSpool> {
        let spools = self.spools.lock().unwrap_or_else(|e| e.into_inner());
        let spool = spools.get(&format!("{content:?}")).cloned();
        drop(spools);
        let Some(prepared) = self.get(content) else {
            return Ok(None);
        };
        Ok(Some(match spool {
            Some(spool) => ForMedium {
                source: spool.source()?,
                checksum: None,
                image: Some(spool.image),
            },
            None => ForMedium {
                source: prepared.source.clone(),
                checksum: prepared.checksum.clone(),
                image: None,
            },
        }))
    }
}
