//! Walking through folders.

use std::io::Write;

use pinewrit_ext4::{ExtError, InodeNumber, Tree};
use pinewrit_fat as fat;

use super::facts::{ext_facts, fat_facts, fat_hand_on, hand_on};
use super::{FileFacts, Files, FilesError, Kind, join};

/// Something found on the way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Node {
    /// Its path.
    pub path: String,
    /// The facts.
    pub facts: FileFacts,
    /// Its depth below the start; 1 for direct children.
    pub depth: usize,
}

/// Deeper folders are not entered.
const MAX_DEPTH: usize = 128;

/// A node's handle, so that it need not be looked up by its path.
pub(super) enum Met<'m> {
    Ext(Tree<'m>, InodeNumber),
    Fat(fat::Tree<'m>, fat::Node),
}

impl Met<'_> {
    /// Passes on a file's content.
    pub(super) fn read_to(&self, path: &str, taker: &mut dyn Write) -> Result<(), FilesError> {
        match self {
            Self::Ext(tree, number) => hand_on(*tree, *number, path, taker),
            Self::Fat(tree, node) => fat_hand_on(*tree, node, path, taker),
        }
    }
}

/// Called with each node; returns whether to continue.
pub(super) type Visit<'v> = &'v mut dyn FnMut(Node, &Met<'_>) -> Result<bool, FilesError>;

/// Calls `visit` with everything below a folder: folders before their content, names in order.
/// `visit` says whether to continue. Each folder is read once.
///
/// # Errors
/// [`FilesError::NotFound`], and others.
pub fn walk(
    files: &Files<'_>,
    folder: &str,
    deepest: usize,
    visit: &mut dyn FnMut(Node) -> bool,
) -> Result<(), FilesError> {
    walk_with(files, folder, deepest, &mut |node, _| Ok(visit(node)))
}

/// As [`walk`], with the handle of each node.
pub(super) fn walk_with(
    files: &Files<'_>,
    folder: &str,
    deepest: usize,
    visit: Visit<'_>,
) -> Result<(), FilesError> {
    let missing = || FilesError::NotFound(folder.to_owned());
    let start = match (files.fat(), files.tree()) {
        (Some(tree), _) => match tree.find(folder) {
            Ok(node) if node.is_folder => Start::Fat(tree, node),
            Ok(_) | Err(fat::FatError::NotFound(_)) => return Err(missing()),
            Err(error) => return Err(error.into()),
        },
        (_, Some(tree)) => match tree.find_target(folder.as_bytes()) {
            Err(ExtError::NotFound(_) | ExtError::NotDirectory(_)) => return Err(missing()),
            number => Start::Ext(tree, number?),
        },
        _ => return Err(missing()),
    };
    let deepest = deepest.min(MAX_DEPTH);
    match start.below(folder, 1, deepest, visit) {
        Err(FilesError::Ext(ExtError::NotDirectory(_))) => Err(missing()),
        walked => walked.map(drop),
    }
}

/// A folder being walked.
enum Start<'m> {
    Ext(Tree<'m>, InodeNumber),
    Fat(fat::Tree<'m>, fat::Node),
}

impl<'m> Start<'m> {
    /// What is in it, sorted by name.
    fn met(&self) -> Result<Vec<(String, FileFacts, Met<'m>)>, FilesError> {
        let mut met = Vec::new();
        match self {
            Self::Ext(tree, number) => {
                for (entry, found) in tree.list_with_metadata(*number)? {
                    let name = String::from_utf8_lossy(&entry.name).into_owned();
                    let facts = ext_facts(*tree, entry.inode, &found)?;
                    met.push((name, facts, Met::Ext(*tree, entry.inode)));
                }
            }
            Self::Fat(tree, folder) => {
                let nodes = tree.list(folder)?.into_iter();
                met.extend(
                    nodes.map(|node| (node.name.clone(), fat_facts(&node), Met::Fat(*tree, node))),
                );
            }
        }
        met.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(met)
    }

    fn below(
        &self,
        folder: &str,
        depth: usize,
        deepest: usize,
        visit: &mut dyn FnMut(Node, &Met<'_>) -> Result<bool, FilesError>,
    ) -> Result<bool, FilesError> {
        for (name, facts, met) in self.met()? {
            let path = join(folder, &name);
            let is_folder = facts.kind == Kind::Folder;
            let node = Node {
                path: path.clone(),
                facts,
                depth,
            };
            if !visit(node, &met)? {
                return Ok(false);
            }
            if !is_folder || depth >= deepest {
                continue;
            }
            let below = match &met {
                Met::Ext(tree, number) => Start::Ext(*tree, *number),
                Met::Fat(tree, node) => Start::Fat(*tree, node.clone()),
            };
            if !below.below(&path, depth + 1, deepest, visit)? {
                return Ok(false);
            }
        }
        Ok(true)
    }
}
