//! A file system that was pulled while it was mounted: if it is sound otherwise, its flags are cleared.

use pinewrit_disk::BlockDevice;

use super::{EditError, Editor, is_clean};
use crate::check::lost_clusters;
use crate::error::FatError;
use crate::geometry::Geometry;
use crate::store::Store;

/// What was settled.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct FatSettled {
    /// It was marked as in use, or as having errors.
    pub was_marked: bool,
    /// Clusters that were freed.
    pub freed: u64,
}

/// Clears the flags of a file system that was not unmounted, if everything else about it is sound, frees
/// clusters that are marked as used but belong to no file, and puts its counts right.
///
/// # Errors
/// [`EditError::Check`]: it is not. Then nothing is changed.
pub fn settle(device: &dyn BlockDevice) -> Result<FatSettled, EditError> {
    let geometry = Geometry::read(device)?.ok_or(FatError::NotFat)?;
    let store = Store::new(device, geometry);
    let was_marked = !is_clean(&store)?;
    let found = lost_clusters(&store)?;
    let freed = found.len() as u64;
    if was_marked || freed > 0 {
        let mut editor = Editor::open_unclean(device)?;
        editor.clear_marks()?;
        editor.release(&found)?;
        editor.commit()?;
    }
    Ok(FatSettled { was_marked, freed })
}

impl<D: BlockDevice> Editor<D> {
    fn clear_marks(&mut self) -> Result<(), EditError> {
        let geometry = self.store.geometry;
        let second = self
            .store
            .table
            .borrow_mut()
            .get(&self.store.device, &geometry, 1)?;
        self.store.set_link(1, geometry.width.sound_mark(second))?;
        self.store.geometry.state &= !3;
        self.has_changed = true;
        Ok(())
    }
}
