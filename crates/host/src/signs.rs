//! Signs that a disk is in use elsewhere: a member of an array or a pool, or the disk of another
//! computer.

use std::fs::File;
use std::io::{Seek, SeekFrom};

use pinewrit_disk::{CacheUse, FileDevice, SectorSize};
use pinewrit_signs::{Format, Role, Sign};

use crate::{BlockName, Doubt, SystemRoots};

/// Sticks and cards of this size or less often have file systems of other computers.
const CARRIED: u64 = 128_000_000_000;

/// What one file system or member says about the disk's owner; `size` is that of the disk, in
/// bytes.
fn doubt_of(sign: &Sign, size: u64) -> Option<Doubt> {
    use Format::{Apfs, Gfs, Gfs2, Hfs, HfsPlus, Hpfs, Nss, Ntfs, Ocfs, Ocfs2, Refs, Vmfs, VxFs};
    let word = sign.format.word();
    match (sign.role, sign.format) {
        (Role::Member, _) => Some(Doubt::Member(word)),
        (Role::Encrypted, _) => Some(Doubt::Foreign(word)),
        (Role::Filesystem, Apfs | Refs | Vmfs | Gfs | Gfs2 | Ocfs | Ocfs2) => {
            Some(Doubt::Foreign(word))
        }
        (Role::Filesystem, Ntfs | HfsPlus | Hfs | VxFs | Nss | Hpfs) if size >= CARRIED => {
            Some(Doubt::Foreign(word))
        }
        (Role::Swap, Format::Suspended) => Some(Doubt::Foreign(word)),
        _ => None,
    }
}

impl SystemRoots {
    /// To whom the disk or one of its partitions seems to belong. What cannot be read says nothing.
    pub(crate) fn signs(&self, whole: &BlockName) -> Option<Doubt> {
        let size = self.identity(whole).size;
        let mut own = vec![whole.clone()];
        own.extend(self.partitions(whole));
        if let Some(table) = self.to_look_at(whole).and_then(|device| {
            let table = pinewrit_signs::foreign_table(&device);
            table.ok().flatten()
        }) {
            return Some(Doubt::Foreign(table));
        }
        own.iter().find_map(|name| {
            let device = self.to_look_at(name)?;
            // A member of an array may begin with the file system that is in it.
            let end = pinewrit_signs::at_end(&device).ok().flatten();
            let start = || pinewrit_signs::at_start(&device).ok().flatten();
            doubt_of(&end.or_else(start)?, size)
        })
    }

    fn to_look_at(&self, name: &BlockName) -> Option<FileDevice> {
        let mut file = File::open(self.dev.join(&name.0)).ok()?;
        let size = file.seek(SeekFrom::End(0)).ok()?;
        Some(FileDevice::new(
            file,
            size,
            SectorSize::B512,
            CacheUse::Cached,
        ))
    }
}
