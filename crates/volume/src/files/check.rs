//! Comparing a place with a list of expected files.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::ops::Bound;

use pinewrit_image::{Checksum, ChecksumKind};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::walk::walk_with;
use super::{Files, FilesError, Kind};

/// One file of the list.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Expected {
    /// Its size in bytes, if that matters.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// SHA-256 of its content, if that matters.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
}

/// The differences.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(tag = "what", rename_all = "kebab-case")]
pub enum Difference {
    /// It is missing.
    Missing {
        /// Its path below the place.
        path: String,
        /// A file with that name plus an extension, as editors add it.
        instead: Option<String>,
    },
    /// It is not in the list.
    Extra {
        /// Its path below the place.
        path: String,
    },
    /// Its size differs.
    Size {
        /// Its path below the place.
        path: String,
        /// Bytes that it should have.
        expected: u64,
        /// Bytes that it has.
        found: u64,
    },
    /// Its content differs.
    Content {
        /// Its path below the place.
        path: String,
    },
}

#[derive(Serialize, JsonSchema, Deserialize)]
#[serde(deny_unknown_fields)]
struct List {
    files: BTreeMap<String, Expected>,
}

/// Reads a list of expected files.
///
/// # Errors
/// A message with the line.
pub fn read_expected(text: &str) -> Result<BTreeMap<String, Expected>, String> {
    if let Some(files) = read_lines(text) {
        return Ok(files);
    }
    let list: List = toml::from_str(text).map_err(|error| error.to_string())?;
    Ok(list.files)
}

/// Lines per read.
const LINES: usize = 1000;

/// A list as it is printed, one file per line: read in parts, which takes a tenth of the memory.
/// `None` for lists of another form.
fn read_lines(text: &str) -> Option<BTreeMap<String, Expected>> {
    let mut lines = text.lines();
    let is_entry = |line: &&str| line.starts_with('"') && line.ends_with('}');
    if lines.next()? != "[files]" || !lines.clone().all(|line| is_entry(&line)) {
        return None;
    }
    let mut all = BTreeMap::new();
    loop {
        let part: Vec<&str> = lines.by_ref().take(LINES).collect();
        if part.is_empty() {
            return Some(all);
        }
        let list: List = toml::from_str(&format!("[files]\n{}", part.join("\n"))).ok()?;
        for (path, expected) in list.files {
            // Duplicates are reported when the list is read as a whole.
            if all.insert(path, expected).is_some() {
                return None;
            }
        }
    }
}

/// The list of what is currently below a folder.
///
/// # Errors
/// [`FilesError`].
pub fn expected_of(files: &Files<'_>, folder: &str) -> Result<String, FilesError> {
    let mut list = List {
        files: BTreeMap::new(),
    };
    for_files(files, folder, &mut |path, size, content| {
        let sha256 = digest(content)?;
        let expected = Expected {
            size: Some(size),
            sha256: Some(sha256),
        };
        list.files.insert(path.to_owned(), expected);
        Ok(())
    })?;
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

/// A file's content, which is read on demand.
type ContentOf<'c> = &'c dyn Fn(&mut dyn Write) -> Result<(), FilesError>;

/// Calls `visit` with each file below a folder: its path from there, its size, its content.
fn for_files(
    files: &Files<'_>,
    folder: &str,
    visit: &mut dyn FnMut(&str, u64, ContentOf<'_>) -> Result<(), FilesError>,
) -> Result<(), FilesError> {
    let start = folder.trim_end_matches('/').len() + 1;
    walk_with(files, folder, usize::MAX, &mut |node, met| {
        if node.facts.kind == Kind::File {
            let read = |taker: &mut dyn Write| met.read_to(&node.path, taker);
            visit(&node.path[start..], node.facts.size, &read)?;
        }
        Ok(true)
    })
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

fn digest(content: ContentOf<'_>) -> Result<String, FilesError> {
    let mut summing = Summing(ChecksumKind::Sha256.hasher());
    content(&mut summing)?;
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
    let mut wanted: BTreeMap<&str, &Expected> = BTreeMap::new();
    for (path, one) in expected {
        wanted.insert(path.trim_start_matches('/'), one);
    }
    let mut found = BTreeSet::new();
    let mut extra = BTreeSet::new();
    let mut differing = BTreeMap::new();
    for_files(files, folder, &mut |path, size, content| {
        let Some(one) = wanted.get(path) else {
            extra.insert(path.to_owned());
            return Ok(());
        };
        found.insert(path.to_owned());
        let path = path.to_owned();
        if let Some(expected) = one.size.filter(|expected| *expected != size) {
            let difference = Difference::Size {
                path: path.clone(),
                expected,
                found: size,
            };
            differing.insert(path, difference);
        } else if let Some(sum) = &one.sha256
            && !digest(content)?.eq_ignore_ascii_case(sum)
        {
            differing.insert(path.clone(), Difference::Content { path });
        }
        Ok(())
    })?;
    let mut differences = Vec::new();
    for path in wanted.into_keys() {
        if found.contains(path) {
            differences.extend(differing.remove(path));
            continue;
        }
        // Names that begin with this one follow it.
        let longer = extra.range::<str, _>((Bound::Included(path), Bound::Unbounded));
        let mut longer = longer.take_while(|other| other.starts_with(path));
        let instead = longer
            .find(|other| is_with_second_ending(path, other))
            .cloned();
        if let Some(other) = &instead {
            extra.remove(other);
        }
        differences.push(Difference::Missing {
            path: path.to_owned(),
            instead,
        });
    }
    differences.extend(extra.into_iter().map(|path| Difference::Extra { path }));
    Ok(differences)
}

/// Whether an editor has turned one name into the other: `gauge.txt` instead of `gauge`.
fn is_with_second_ending(path: &str, other: &str) -> bool {
    other
        .strip_prefix(path)
        .is_some_and(|rest| matches!(rest, ".txt" | ".rtf" | ".bak" | ".TXT" | "~"))
}
