//! The metadata of a file and its content, by its handle.

use std::io::Write;

use pinewrit_ext4::{FileKind, InodeNumber, Metadata, Tree};
use pinewrit_fat as fat;
use schemars::JsonSchema;
use serde::Serialize;

use super::FilesError;

/// Bytes per read.
const PIECE: usize = 1 << 20;

/// What is at a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A device, pipe or socket.
    Special,
}

/// The metadata of a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FileFacts {
    /// What it is.
    pub kind: Kind,
    /// Its size in bytes.
    pub size: u64,
    /// Permission bits; `None` on FAT, which has none.
    pub mode: Option<u16>,
    /// Owner and group; `None` on FAT.
    pub owner: Option<(u32, u32)>,
    /// When its content was last changed, in seconds since 1970.
    pub modified: Option<i64>,
    /// The target of a link.
    pub target: Option<String>,
}

/// Passes on the content of a file; `path` is for errors.
pub(super) fn hand_on(
    tree: Tree<'_>,
    number: InodeNumber,
    path: &str,
    taker: &mut dyn Write,
) -> Result<(), FilesError> {
    let not_taken = |source| FilesError::Taker {
        path: path.to_owned(),
        source,
    };
    let content = tree.content(number)?;
    let mut buffer = vec![0; PIECE.min(content.size().max(1) as usize)];
    let mut at = 0;
    while at < content.size() {
        let len = content.read_at(at, &mut buffer)?;
        if len == 0 {
            break;
        }
        taker.write_all(&buffer[..len]).map_err(not_taken)?;
        at += len as u64;
    }
    Ok(())
}

/// Passes on the content of a file on a FAT; `path` is for errors.
pub(super) fn fat_hand_on(
    tree: fat::Tree<'_>,
    node: &fat::Node,
    path: &str,
    taker: &mut dyn Write,
) -> Result<(), FilesError> {
    match tree.read_to(node, u64::MAX, taker) {
        Err(fat::FatError::Taker(source)) => Err(FilesError::Taker {
            path: path.to_owned(),
            source,
        }),
        read => Ok(read?),
    }
}

pub(super) fn ext_facts(
    tree: Tree<'_>,
    number: InodeNumber,
    found: &Metadata,
) -> Result<FileFacts, FilesError> {
    let target = match found.kind {
        FileKind::Symlink => Some(tree.link_target(number)?),
        _ => None,
    };
    Ok(FileFacts {
        kind: match found.kind {
            FileKind::Regular => Kind::File,
            FileKind::Directory => Kind::Folder,
            FileKind::Symlink => Kind::Link,
            _ => Kind::Special,
        },
        size: found.size,
        mode: Some(found.mode),
        owner: Some((found.uid, found.gid)),
        modified: Some(found.modified.seconds),
        target: target.map(|target| String::from_utf8_lossy(&target).into_owned()),
    })
}

pub(super) fn fat_facts(node: &fat::Node) -> FileFacts {
    FileFacts {
        kind: if node.is_folder {
            Kind::Folder
        } else {
            Kind::File
        },
        size: node.size,
        mode: None,
        owner: None,
        modified: node.modified,
        target: None,
    }
}
