//! Walking through folders.

use super::{Facts, Files, FilesError, Kind, join};

/// Something that was met on the way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Node {
    /// Its path.
    pub path: String,
    /// What is known of it.
    pub facts: Facts,
    /// How deep it lies below the start; 1 for what is in it.
    pub depth: usize,
}

/// Deeper folders are not gone into.
const MAX_DEPTH: usize = 128;

/// Calls `visit` with all below a folder, folders before what is in them, names in order. `visit`
/// says whether to go on.
///
/// # Errors
/// [`FilesError::NotFound`], and others.
pub fn walk(
    files: &Files<'_>,
    folder: &str,
    deepest: usize,
    visit: &mut dyn FnMut(Node) -> bool,
) -> Result<(), FilesError> {
    below(files, folder, 1, deepest.min(MAX_DEPTH), visit).map(drop)
}

fn below(
    files: &Files<'_>,
    folder: &str,
    depth: usize,
    deepest: usize,
    visit: &mut dyn FnMut(Node) -> bool,
) -> Result<bool, FilesError> {
    let names = files.names(folder)?;
    let names = names.ok_or_else(|| FilesError::NotFound(folder.to_owned()))?;
    for name in names {
        let path = join(folder, &name);
        let Some(facts) = files.facts(&path)? else {
            continue;
        };
        let is_folder = facts.kind == Kind::Folder;
        let node = Node {
            path: path.clone(),
            facts,
            depth,
        };
        let goes_on = visit(node)
            && (!is_folder || depth >= deepest || below(files, &path, depth + 1, deepest, visit)?);
        if !goes_on {
            return Ok(false);
        }
    }
    Ok(true)
}
