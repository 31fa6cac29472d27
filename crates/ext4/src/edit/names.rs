//! Moving and removing names.

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bytes::put32;
use pinewrit_ext4_layout::ExtError;
use pinewrit_ext4_layout::fields::node;
use pinewrit_ext4_layout::inode::{FileKind, Inode, InodeNumber};

use super::ops::MAX_PATH;
use super::{EditError, Editor};
use crate::tree::shown;

impl<D: BlockDevice> Editor<D> {
    /// Moves what is at one path to another.
    ///
    /// # Errors
    /// [`EditError::Exists`] if something is there already; [`EditError::IntoItself`].
    pub fn rename(&mut self, path: &[u8], to: &[u8]) -> Result<(), EditError> {
        self.step(|editor| {
            let from = editor.spot(path)?;
            let Some((number, kind)) = editor.named(&from)? else {
                return Err(ExtError::NotFound(shown(path)).into());
            };
            let spot = editor.free_spot(to)?;
            let is_folder = kind == FileKind::Directory;
            if is_folder {
                editor.must_not_be_inside(number, spot.folder, path)?;
                editor.paths.clear();
            }
            editor.add_name(spot.folder, spot.name, number, kind)?;
            editor.remove_name(from.folder, from.name, is_folder)?;
            if is_folder && spot.folder != from.folder {
                editor.put_parent(number, spot.folder)?;
            }
            let mut inode = editor.inode_to_change(number)?;
            let now = editor.now;
            inode.set_changed(now);
            editor.put_inode(number, &inode)
        })
    }

    /// A folder cannot move into itself.
    fn must_not_be_inside(
        &mut self,
        folder: InodeNumber,
        target: InodeNumber,
        path: &[u8],
    ) -> Result<(), EditError> {
        let mut at = target;
        for _ in 0..MAX_PATH {
            if at == folder {
                return Err(EditError::IntoItself(shown(path)));
            }
            let above = self.parent_of(at)?;
            if above == at {
                return Ok(());
            }
            at = above;
        }
        Err(ExtError::Damaged("a directory").into())
    }

    /// Removes a name, and the file with its last one; a folder only if it is empty.
    ///
    /// # Errors
    /// [`EditError::NotEmpty`], or that there is nothing.
    pub fn remove(&mut self, path: &[u8]) -> Result<(), EditError> {
        self.step(|editor| {
            let spot = editor.spot(path)?;
            let Some((number, kind)) = editor.named(&spot)? else {
                return Err(ExtError::NotFound(shown(path)).into());
            };
            let mut inode = editor.inode_to_change(number)?;
            let is_folder = kind == FileKind::Directory;
            if is_folder {
                editor.open_folder(number)?;
                if !editor.known_folder(number)?.names.is_empty() {
                    return Err(EditError::NotEmpty(shown(path)));
                }
                inode = editor.inode_to_change(number)?;
                editor.folders.remove(&number);
                editor.grown_folders.remove(&number);
                editor.paths.clear();
            }
            editor.remove_name(spot.folder, spot.name, is_folder)?;
            if !is_folder && inode.links() > 1 {
                inode.set_links(inode.links() - 1);
                let now = editor.now;
                inode.set_changed(now);
                return editor.put_inode(number, &inode);
            }
            editor.drop_inode(number, inode, is_folder)
        })
    }

    /// Frees everything an inode has, and the inode.
    pub(super) fn drop_inode(
        &mut self,
        number: InodeNumber,
        mut inode: Inode,
        is_folder: bool,
    ) -> Result<(), EditError> {
        let runs = inode.runs(self)?;
        let map = self.map_blocks(&inode)?;
        self.release_runs(&runs)?;
        for block in map {
            self.release(block..block + 1)?;
        }
        self.release_xattr_block(&mut inode)?;
        let generation = inode.generation();
        inode.raw.fill(0);
        put32(&mut inode.raw, node::GENERATION, generation);
        put32(&mut inode.raw, node::DELETE_TIME, self.now.seconds as u32);
        self.put_inode(number, &inode)?;
        self.release_inode(number, is_folder)
    }

    /// Removes what is at a path, with everything below it.
    ///
    /// # Errors
    /// [`EditError`]; what was removed before stays removed.
    pub fn remove_all(&mut self, path: &[u8]) -> Result<(), EditError> {
        self.remove_below(path, &mut Vec::new())
    }

    /// `above` are the directories on the way: one inside itself would never end.
    fn remove_below(&mut self, path: &[u8], above: &mut Vec<InodeNumber>) -> Result<(), EditError> {
        let number = self.tree().find(path)?;
        if path.len() > MAX_PATH || above.contains(&number) {
            return Err(ExtError::Damaged("a directory").into());
        }
        if self.tree().inode(number)?.kind() == FileKind::Directory {
            above.push(number);
            for entry in self.tree().list(number)? {
                let below = [path, b"/", &entry.name].concat();
                self.remove_below(&below, above)?;
            }
            above.pop();
        }
        self.remove(path)
    }
}
