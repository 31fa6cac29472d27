//! Giving a file system another UUID.

use pinewrit_disk::BlockDevice;
use pinewrit_ext4_layout::fields::sb;
use pinewrit_ext4_layout::{Compatible, Incompatible, ReadOnlyCompatible};

use crate::edit::{EditError, Editor};

impl<D: BlockDevice> Editor<D> {
    /// Changes the UUID, in all copies of the superblock.
    ///
    /// The checksums of all metadata begin with the UUID. Instead of rewriting them all, the
    /// superblock then records the former seed (`metadata_csum_seed`, since kernel 4.4).
    ///
    /// # Errors
    /// [`EditError`]; nothing is changed then.
    pub fn set_uuid(&mut self, uuid: [u8; 16]) -> Result<(), EditError> {
        self.step(|editor| {
            let old = editor.superblock().clone();
            if old.compatible.has(Compatible::STABLE_INODES) {
                return Err(EditError::Feature("stable_inodes".to_owned()));
            }
            let keeps_seed = old.read_only.has(ReadOnlyCompatible::METADATA_CSUM)
                && !old.incompatible.has(Incompatible::CSUM_SEED);
            let raw = editor.edit_sb()?;
            raw[sb::UUID..sb::UUID + 16].copy_from_slice(&uuid);
            if keeps_seed {
                let flags = (old.incompatible | Incompatible::CSUM_SEED).bits();
                raw[sb::INCOMPATIBLE..sb::INCOMPATIBLE + 4].copy_from_slice(&flags.to_le_bytes());
                let seed = old.seed.to_le_bytes();
                raw[sb::CHECKSUM_SEED..sb::CHECKSUM_SEED + 4].copy_from_slice(&seed);
            }
            editor.take_uuid(uuid);
            editor.put_copies()
        })
    }
}
