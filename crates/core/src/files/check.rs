//! Comparing a place with a list of files that are expected there.

use std::collections::BTreeMap;
use std::io::Write;

use pinewrit_image::{Checksum, ChecksumKind};
use serde::{Deserialize, Serialize};

use super::{Files, FilesError, Kind, join, walk};

/// One file of the list.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Expected {
    /// Its size in bytes, if that matters.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// SHA-256 of its content, if that matters.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
}

/// What is not as expected.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "what", rename_all = "kebab-case")]
pub enum Difference {
    /// It is not there.
    Missing {
        /// Its path below the place.
        path: String,
        /// A file of that name with one more ending, as editors add it.
        instead: Option<String>,
    },
    /// It is not in the list.
    Extra {
        /// Its path below the place.
        path: String,
    },
    /// It has another size.
    Size {
        /// Its path below the place.
        path: String,
        /// Bytes that it should have.
        expected: u64,
        /// Bytes that it has.
        found: u64,
    },
    /// It has another content.
    Content {
        /// Its path below the place.
        path: String,
    },
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct List {
    files: BTreeMap<String, Expected>,
}

/// Reads a list of expected files.
///
/// # Errors
/// A message with the line.
pub fn read_expected(text: &str) -> Result<BTreeMap<String, Expected>, String> {
    let list: List = toml::from_str(text).map_err(|error| error.to_string())?;
    Ok(list.files)
}

/// The list of what is below a folder now.
///
/// # Errors
/// [`FilesError`].
pub fn expected_of(files: &Files<'_>, folder: &str) -> Result<String, FilesError> {
    let mut list = List {
        files: BTreeMap::new(),
    };
    for (path, size) in sizes(files, folder)? {
        let sha256 = digest(files, &join(folder, &path))?;
        let expected = Expected {
            size: Some(size),
            sha256: Some(sha256),
        };
        list.files.insert(path, expected);
    }
    let mut text = String::from("[files]\n");
    for (path, expected) in &list.files {
        let quoted = toml::Value::String(path.clone());
        let (size, sha256) = (
            expected.size.unwrap_or(0),
            expected.sha256.as_deref().unwrap_or(""),
        );
        text += &format!("{quoted} = {{ size = {size}, sha256 = \"{sha256}\" }}\n");
    }
    Ok(text)
}

/// Files below a folder, with their sizes.
fn sizes(files: &Files<'_>, folder: &str) -> Result<BTreeMap<String, u64>, FilesError> {
    let mut found = BTreeMap::new();
    walk(files, folder, usize::MAX, &mut |node| {
        if node.facts.kind == Kind::File {
            let path = node.path[folder.trim_end_matches('/').len() + 1..].to_owned();
            found.insert(path, node.facts.size);
        }
        true
    })?;
    Ok(found)
}

struct Summing(pinewrit_image::Hasher);

impl Write for Summing {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

fn digest(files: &Files<'_>, path: &str) -> Result<String, FilesError> {
    let mut summing = Summing(ChecksumKind::Sha256.hasher());
    files.read_to(path, &mut summing)?;
    let sum: Checksum = summing.0.finish();
    Ok(hex::encode(&sum.digest))
}

/// Compares a folder with a list.
///
/// # Errors
/// [`FilesError`].
pub fn compare(
    files: &Files<'_>,
    folder: &str,
    expected: &BTreeMap<String, Expected>,
) -> Result<Vec<Difference>, FilesError> {
    let found = sizes(files, folder)?;
    let mut differences = Vec::new();
    let mut explained = Vec::new();
    for (path, expected) in expected {
        let path = path.trim_start_matches('/');
        let Some(size) = found.get(path) else {
            let instead = found
                .keys()
                .find(|other| is_with_second_ending(path, other))
                .cloned();
            explained.extend(instead.clone());
            differences.push(Difference::Missing {
                path: path.to_owned(),
                instead,
            });
            continue;
        };
        if let Some(wanted) = expected.size.filter(|wanted| wanted != size) {
            differences.push(Difference::Size {
                path: path.to_owned(),
                expected: wanted,
                found: *size,
            });
        } else if let Some(wanted) = &expected.sha256
            && !digest(files, &join(folder, path))?.eq_ignore_ascii_case(wanted)
        {
            differences.push(Difference::Content {
                path: path.to_owned(),
            });
        }
    }
    let is_expected = |path: &String| {
        let mut names = expected.keys().map(|name| name.trim_start_matches('/'));
        names.any(|name| name == path) || explained.contains(path)
    };
    let extra = found.into_keys().filter(|path| !is_expected(path));
    differences.extend(extra.map(|path| Difference::Extra { path }));
    Ok(differences)
}

/// Whether an editor has made one name of the other: `gauge.txt` instead of `gauge`.
fn is_with_second_ending(path: &str, other: &str) -> bool {
    other
        .strip_prefix(path)
        .is_some_and(|rest| matches!(rest, ".txt" | ".rtf" | ".bak" | ".TXT" | "~"))
}
