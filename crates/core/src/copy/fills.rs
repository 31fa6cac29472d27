//! What fills a file system.

use std::collections::BTreeMap;

use pinewrit_disk::BlockDevice;
use pinewrit_volume::files::{FilesError, Kind, open_to_read, walk};

/// How many directories are named.
const MOST: usize = 5;

/// The directories of the upper two levels that hold most, with the bytes of the files in them,
/// the largest first. Files with several names count once a name.
pub(super) fn largest(window: &dyn BlockDevice) -> Result<Vec<(String, u64)>, FilesError> {
    let files = open_to_read(window)?;
    let mut sums: BTreeMap<String, u64> = BTreeMap::new();
    walk(&files, "/", usize::MAX, &mut |node| {
        if node.facts.kind == Kind::File {
            *sums.entry(upper(&node.path)).or_default() += node.facts.size;
        }
        true
    })?;
    let mut sums: Vec<(String, u64)> = sums.into_iter().collect();
    sums.sort_by_key(|(_, bytes)| std::cmp::Reverse(*bytes));
    sums.truncate(MOST);
    Ok(sums)
}

/// `/var/log` of `/var/log/apt/term.log`, `/` of `/kernel`.
fn upper(path: &str) -> String {
    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let mut ends = folder.match_indices('/').map(|(at, _)| at);
    let end = ends.nth(2).unwrap_or(folder.len());
    match &folder[..end] {
        "" => "/".to_owned(),
        upper => upper.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::upper;

    #[test]
    fn two_levels_are_named() {
        let paths = [
            "/kernel",
            "/etc/fstab",
            "/var/log/syslog",
            "/var/log/apt/term.log",
        ];
        let named = paths.map(upper);
        assert_eq!(named, ["/", "/etc", "/var/log", "/var/log"]);
    }
}
