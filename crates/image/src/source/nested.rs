//! Content of an archive or a layer that needs random access: read in place if it is stored
//! uncompressed, otherwise unpacked to a file first.

use std::io;
use std::sync::Arc;

use super::{ImageSource, Layer, MAX_OTHERS};
use crate::archive::{self, ArchiveInput};
use crate::packed::{self, PackedBytes};
use crate::spool::{Spool, StoredPart};
use crate::{Member, OpenError, UnpackedSize, Wrapping};

/// An archive whose members are the pieces of one image, and the joined pieces.
pub(super) struct PiecesInside {
    pub(super) layer: Layer,
    pub(super) packed: Arc<dyn PackedBytes>,
}

impl ImageSource {
    /// Whether the output of the layers so far allows random access.
    pub(super) fn can_jump_here(&self) -> bool {
        let (after, packed) = self.base();
        after == self.layers.len() && packed.can_jump() && packed.size().is_some()
    }

    /// The last layer's member in place, if the archive stores it uncompressed.
    pub(super) fn stored_member(&self) -> Option<Arc<dyn PackedBytes>> {
        let (after, packed) = self.base();
        let last = self
            .layers
            .last()
            .filter(|_| self.layers.len() == after + 1)?;
        let name = &last.member.as_ref()?.name;
        let cursor = self.cursor(&Arc::default())?;
        let (start, len) = archive::stored_place(last.wrapping, cursor, name)?;
        Some(Arc::new(StoredPart {
            packed: Arc::clone(packed),
            start,
            len,
        }))
    }

    /// The output of the layers so far with random access: in place, or unpacked to a file.
    pub(super) fn spooled(&self, spool: &Spool) -> io::Result<Arc<dyn PackedBytes>> {
        if let Some(stored) = self.stored_member() {
            return Ok(stored);
        }
        let last = self.layers.last();
        spool.announce(last.and_then(|layer| layer.unpacked.exact()))?;
        spool.keep(self.stream()?)
    }

    /// An archive whose members are the pieces of one image, and the joined pieces.
    pub(super) fn find_pieces(
        &self,
        kind: Wrapping,
        wanted: Option<&str>,
        spool: &Spool,
    ) -> Result<Option<PiecesInside>, OpenError> {
        if wanted.is_some() || !self.can_jump_here() {
            return Ok(None);
        }
        let failed = |error| self.stream_failed(error);
        let input = || -> io::Result<ArchiveInput> {
            Ok(match self.cursor(&Arc::default()) {
                Some(cursor) => ArchiveInput::File(cursor),
                None => ArchiveInput::Stream(self.stream()?),
            })
        };
        let all = archive::list(kind, input().map_err(failed)?, None).map_err(failed)?;
        let sized = all
            .iter()
            .filter_map(|one| Some((one.name.clone(), one.size?)));
        let sized: Vec<(String, u64)> = sized.collect();
        let pieces = |why| OpenError::Pieces {
            path: self.location.to_string().into(),
            why,
        };
        let Some(group) = packed::find_among(&sized).map_err(pieces)? else {
            return Ok(None);
        };
        let of_group = |one: &&Member| group.members.contains(&one.name);
        let total = all.iter().filter(of_group).filter_map(|one| one.size).sum();
        spool.announce(Some(total)).map_err(failed)?;
        let mut files = Vec::new();
        for name in &group.members {
            let input = input().map_err(failed)?;
            let mut stream = archive::open(kind, input, name.clone());
            files.push(spool.fill(&mut stream).map_err(failed)?);
        }
        let files = packed::Files::of(files);
        let packed: Arc<dyn PackedBytes> = if group.is_zip {
            packed::join_zip(files, &group.name).map_err(pieces)?
        } else {
            Arc::new(files)
        };
        let others = all
            .into_iter()
            .filter(|one| !group.members.contains(&one.name));
        let layer = Layer {
            wrapping: kind,
            before: 0,
            others: others.take(MAX_OTHERS).collect(),
            unpacked: UnpackedSize::Exact(total),
            member: Some(Member {
                name: group.name,
                size: Some(total),
            }),
        };
        Ok(Some(PiecesInside { layer, packed }))
    }
}
