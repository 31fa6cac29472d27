//! Folders that only their owner can change.

use std::fs::{self, DirBuilder, Metadata, Permissions};
use std::io;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Why a folder is not safe from others.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum UnsafePlace {
    /// It belongs to somebody else.
    #[error("{} belongs to somebody else (user {owner})", path.display())]
    Foreign {
        /// The folder.
        path: PathBuf,
        /// Its owner's number.
        owner: u32,
    },
    /// Others can write in it.
    #[error("others can write to {}", path.display())]
    Shared {
        /// The folder.
        path: PathBuf,
    },
    /// It could not be created or examined.
    #[error("{} cannot be used", path.display())]
    Io {
        /// The folder.
        path: PathBuf,
        /// The system's answer.
        source: io::Error,
    },
}

/// A user and its group, by their numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Owner {
    /// The user.
    pub uid: u32,
    /// Its own group.
    pub gid: u32,
}

impl Owner {
    fn own() -> Self {
        Self {
            uid: rustix::process::geteuid().as_raw(),
            gid: rustix::process::getegid().as_raw(),
        }
    }
}

/// While it lives, this thread accesses files as another user: with that user's rights, and what it
/// creates belongs to that user (setfsuid(2)).
pub(super) struct Acting(Option<Owner>);

impl Acting {
    pub(super) fn as_one(owner: Option<Owner>) -> Self {
        let before = owner.map(|_| Owner::own());
        if let Some(owner) = owner {
            become_one(owner);
        }
        Self(before)
    }
}

impl Drop for Acting {
    fn drop(&mut self) {
        if let Some(before) = self.0 {
            // In the other order, the right to restore the group would be gone.
            nix::unistd::setfsuid(nix::unistd::Uid::from_raw(before.uid));
            nix::unistd::setfsgid(nix::unistd::Gid::from_raw(before.gid));
        }
    }
}

fn become_one(owner: Owner) {
    nix::unistd::setfsgid(nix::unistd::Gid::from_raw(owner.gid));
    nix::unistd::setfsuid(nix::unistd::Uid::from_raw(owner.uid));
}

const GROUP_WRITES: u32 = 0o020;
const OTHERS_WRITE: u32 = 0o002;
const STICKY: u32 = 0o1000;

/// Creates a folder that only its owner can read and change, with missing parents; returns its path
/// without links.
///
/// # Errors
/// [`UnsafePlace`]: it cannot be created, or somebody else could replace it or put something into
/// it.
pub fn make_private(path: &Path) -> Result<PathBuf, UnsafePlace> {
    make_private_for(path, Owner::own())
}

/// The same for another user, as whom this thread acts.
pub(super) fn make_private_for(path: &Path, owner: Owner) -> Result<PathBuf, UnsafePlace> {
    let failed = |source| UnsafePlace::Io {
        path: path.to_owned(),
        source,
    };
    let full = std::path::absolute(path).map_err(failed)?;
    let there = full.ancestors().find(|place| place.exists());
    let there = there.ok_or_else(|| failed(io::ErrorKind::NotFound.into()))?;
    let base = fs::canonicalize(there).map_err(failed)?;
    for place in base.ancestors() {
        must_be_out_of_reach(place, owner)?;
    }
    let rest = full.strip_prefix(there).unwrap_or(Path::new(""));
    let real = base.join(rest);
    if rest.as_os_str().is_empty() {
        return must_be_own(&base, owner).map(|()| real);
    }
    let mut builder = DirBuilder::new();
    builder.recursive(true).mode(0o700);
    builder.create(&real).map_err(failed)?;
    // Another process may have been quicker.
    must_be_own(&real, owner).map(|()| real)
}

/// Checks that only its owner, which is this user or the system, can replace entries in a parent
/// folder.
fn must_be_out_of_reach(path: &Path, own: Owner) -> Result<(), UnsafePlace> {
    let facts = look(path)?;
    let owner = facts.uid();
    if owner != 0 && owner != own.uid && !is_outside(owner) {
        return Err(UnsafePlace::Foreign {
            path: path.to_owned(),
            owner,
        });
    }
    // A user's own group has no other members; in a sticky folder nobody can touch the entries of
    // others.
    let own_group = [0, own.gid].contains(&facts.gid());
    let is_shared =
        facts.mode() & OTHERS_WRITE != 0 || facts.mode() & GROUP_WRITES != 0 && !own_group;
    if is_shared && facts.mode() & STICKY == 0 {
        Err(UnsafePlace::Shared {
            path: path.to_owned(),
        })
    } else {
        Ok(())
    }
}

/// Whether an owner is from outside this user namespace, as for the system's folders in a sandbox
/// (user_namespaces(7), "Unmapped user and group IDs"). Nobody inside can act as this owner.
fn is_outside(owner: u32) -> bool {
    let number = |text: String| text.trim().parse::<u32>().ok();
    let unmapped = fs::read_to_string("/proc/sys/kernel/overflowuid");
    let map = fs::read_to_string("/proc/self/uid_map").unwrap_or_default();
    let fields: Vec<&str> = map.split_whitespace().collect();
    let is_inside = !fields.is_empty() && fields != ["0", "0", "4294967295"];
    let maps_it = map.lines().any(|line| {
        let mut fields = line
            .split_whitespace()
            .filter_map(|field| field.parse::<u32>().ok());
        let (first, _, count) = (fields.next(), fields.next(), fields.next());
        first
            .zip(count)
            .is_some_and(|(first, count)| owner >= first && owner - first < count)
    });
    is_inside && !maps_it && unmapped.ok().and_then(number) == Some(owner)
}

/// Checks that the folder itself belongs to this user, who alone has access.
fn must_be_own(path: &Path, own: Owner) -> Result<(), UnsafePlace> {
    let facts = look(path)?;
    if facts.uid() != own.uid {
        return Err(UnsafePlace::Foreign {
            path: path.to_owned(),
            owner: facts.uid(),
        });
    }
    if facts.mode() & 0o077 == 0 {
        return Ok(());
    }
    let private = Permissions::from_mode(0o700);
    fs::set_permissions(path, private).map_err(|source| UnsafePlace::Io {
        path: path.to_owned(),
        source,
    })
}

fn look(path: &Path) -> Result<Metadata, UnsafePlace> {
    fs::symlink_metadata(path).map_err(|source| UnsafePlace::Io {
        path: path.to_owned(),
        source,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_made_is_for_its_owner_only() {
        let dir = tempfile::tempdir().unwrap();
        let made = make_private(&dir.path().join("a/b")).unwrap();
        assert_eq!(fs::metadata(&made).unwrap().mode() & 0o777, 0o700);
        fs::set_permissions(&made, Permissions::from_mode(0o755)).unwrap();
        make_private(&made).unwrap();
        assert_eq!(fs::metadata(&made).unwrap().mode() & 0o777, 0o700);
        // Others may have put anything in there.
        fs::set_permissions(&made, Permissions::from_mode(0o777)).unwrap();
        let refused = make_private(&made);
        assert!(matches!(refused, Err(UnsafePlace::Shared { .. })));
    }

    #[test]
    fn nothing_is_kept_below_a_folder_where_everybody_writes() {
        let dir = tempfile::tempdir().unwrap();
        let open = dir.path().join("open");
        fs::create_dir(&open).unwrap();
        fs::set_permissions(&open, Permissions::from_mode(0o777)).unwrap();
        let refused = make_private(&open.join("pinewrit"));
        assert!(matches!(refused, Err(UnsafePlace::Shared { path }) if path == open));
        assert!(!open.join("pinewrit").exists());
        // In a sticky folder such as /tmp, a folder of one's own is safe.
        fs::set_permissions(&open, Permissions::from_mode(0o1777)).unwrap();
        make_private(&open.join("pinewrit")).unwrap();
    }

    /// Only root can act as another user.
    #[test]
    fn what_is_made_for_somebody_is_theirs() {
        if !nix::unistd::geteuid().is_root() {
            return;
        }
        let dir = tempfile::tempdir().unwrap();
        let owner = Owner {
            uid: 54_321,
            gid: 54_321,
        };
        std::os::unix::fs::chown(dir.path(), Some(owner.uid), Some(owner.gid)).unwrap();
        fs::set_permissions(dir.path(), Permissions::from_mode(0o755)).unwrap();
        let acting = Acting::as_one(Some(owner));
        let made = make_private_for(&dir.path().join("a/b"), owner).unwrap();
        drop(acting);
        assert_eq!(fs::metadata(&made).unwrap().uid(), owner.uid);
        // Afterwards this thread is itself again.
        fs::write(dir.path().join("own"), "").unwrap();
        assert_eq!(fs::metadata(dir.path().join("own")).unwrap().uid(), 0);
    }
}
