//! Published checksums: as an argument, or in a file beside the image.

use std::fmt;
use std::io::{ErrorKind, Read};
use std::path::{Path, PathBuf};

/// A checksum file larger than this is something else.
const MAX_FILE: u64 = 1 << 20;

/// A SHA-256 digest.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sha256Digest(pub [u8; 32]);

impl Sha256Digest {
    /// Parses 64 hexadecimal digits.
    pub fn from_hex(text: &str) -> Option<Self> {
        let mut digest = [0; 32];
        hex::decode_to_slice(text, &mut digest).ok()?;
        Some(Self(digest))
    }
}

impl fmt::Display for Sha256Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&hex::encode(self.0))
    }
}

/// Where an expected checksum comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ChecksumOrigin {
    /// Given as an argument.
    Argument,
    /// Read from this file.
    File(PathBuf),
}

/// The checksum that a packed image should have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExpectedChecksum {
    /// SHA-256 of the packed file.
    pub digest: Sha256Digest,
    /// Where it comes from.
    pub origin: ChecksumOrigin,
}

/// Why a checksum that was asked for cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ChecksumError {
    /// Neither `sha256:` with 64 hexadecimal digits nor a file.
    #[error("`{text}` is neither sha256: with 64 hexadecimal digits nor a file")]
    Argument {
        /// The argument as given.
        text: String,
    },
    /// The checksum file could not be read.
    #[error("the checksum file {} could not be read", path.display())]
    Io {
        /// The checksum file.
        path: PathBuf,
        /// The system's answer.
        source: std::io::Error,
    },
    /// The checksum file has no line for this image.
    #[error("the checksum file {} has no SHA-256 for {name}", path.display())]
    NotListed {
        /// The checksum file.
        path: PathBuf,
        /// The image's name.
        name: String,
    },
}

impl ExpectedChecksum {
    /// Takes `sha256:HEX`, or the path of a checksum file that lists `image`.
    ///
    /// # Errors
    /// [`ChecksumError`].
    pub fn from_argument(text: &str, image: &Path) -> Result<Self, ChecksumError> {
        let bad = || ChecksumError::Argument {
            text: text.to_owned(),
        };
        if let Some(hex) = text.strip_prefix("sha256:") {
            let digest = Sha256Digest::from_hex(hex).ok_or_else(bad)?;
            return Ok(Self {
                digest,
                origin: ChecksumOrigin::Argument,
            });
        }
        let path = Path::new(text);
        if !path.exists() {
            return Err(bad());
        }
        Self::from_file(path, image)?.ok_or_else(|| ChecksumError::NotListed {
            path: path.to_owned(),
            name: file_name(image),
        })
    }

    /// Looks for `image` in a checksum file; `None` if it is not listed there.
    fn from_file(path: &Path, image: &Path) -> Result<Option<Self>, ChecksumError> {
        let mut text = String::new();
        let read = std::fs::File::open(path)
            .and_then(|file| file.take(MAX_FILE).read_to_string(&mut text));
        match read {
            // Binary content lists nothing that could be checked.
            Err(error) if error.kind() == ErrorKind::InvalidData => return Ok(None),
            Err(source) => {
                return Err(ChecksumError::Io {
                    path: path.to_owned(),
                    source,
                });
            }
            Ok(_) => {}
        }
        Ok(find_in_list(&text, &file_name(image)).map(|digest| Self {
            digest,
            origin: ChecksumOrigin::File(path.to_owned()),
        }))
    }
}

/// Looks for a checksum file beside `image`: `IMAGE.sha256`, `IMAGE.sha256sum`, then
/// `SHA256SUMS`. A file that does not list the image counts as not found.
///
/// # Errors
/// A checksum file is there and cannot be read.
pub fn find_beside(image: &Path) -> Result<Option<ExpectedChecksum>, ChecksumError> {
    let name = file_name(image);
    let folder = image.parent().unwrap_or(Path::new(""));
    let candidates = [
        format!("{name}.sha256"),
        format!("{name}.sha256sum"),
        "SHA256SUMS".to_owned(),
    ];
    for candidate in candidates {
        let path = folder.join(candidate);
        if path.is_file()
            && let Some(found) = ExpectedChecksum::from_file(&path, image)?
        {
            return Ok(Some(found));
        }
    }
    Ok(None)
}

fn file_name(path: &Path) -> String {
    let name = path.file_name().unwrap_or_default();
    name.to_string_lossy().into_owned()
}

/// The digest for `name` in a list: GNU lines (`HEX  NAME`, `HEX *NAME`), BSD lines
/// (`SHA256 (NAME) = HEX`), or one bare digest and nothing else.
fn find_in_list(text: &str, name: &str) -> Option<Sha256Digest> {
    let lines = || text.lines().map(str::trim).filter(|line| !line.is_empty());
    let mut all = lines();
    if let (Some(only), None) = (all.next(), all.next())
        && let Some(digest) = Sha256Digest::from_hex(only)
    {
        return Some(digest);
    }
    lines().find_map(|line| {
        let (listed, hex) = match line.strip_prefix("SHA256 (") {
            Some(rest) => rest.rsplit_once(") = ")?,
            None => {
                let (hex, listed) = line.split_once(char::is_whitespace)?;
                let listed = listed.trim_start();
                (listed.strip_prefix('*').unwrap_or(listed), hex)
            }
        };
        let listed = listed.rsplit('/').next()?;
        (listed == name).then(|| Sha256Digest::from_hex(hex))?
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const A: &str = "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa";
    const B: &str = "bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb";

    #[rstest]
    #[case::gnu(&format!("{B}  other.img\n{A}  hut.img.xz\n"), true)]
    #[case::gnu_binary(&format!("{A} *./hut.img.xz\n"), true)]
    #[case::bsd(&format!("SHA256 (hut.img.xz) = {A}\n"), true)]
    #[case::bare(&format!("{A}\n"), true)]
    #[case::other_only(&format!("{A}  other.img\n"), false)]
    #[case::too_short("abcd  hut.img.xz\n", false)]
    #[case::two_bare(&format!("{A}\n{B}\n"), false)]
    fn lists(#[case] text: &str, #[case] found: bool) {
        let digest = find_in_list(text, "hut.img.xz");
        assert_eq!(digest, found.then(|| Sha256Digest::from_hex(A).unwrap()));
    }

    #[test]
    fn the_own_file_goes_before_the_list() {
        let dir = tempfile::tempdir().unwrap();
        let image = dir.path().join("hut.img");
        std::fs::write(dir.path().join("SHA256SUMS"), format!("{B}  hut.img")).unwrap();
        let found = find_beside(&image).unwrap().unwrap();
        assert_eq!(found.digest.to_string(), B);
        std::fs::write(dir.path().join("hut.img.sha256"), A).unwrap();
        let found = find_beside(&image).unwrap().unwrap();
        assert_eq!(found.digest.to_string(), A);
    }
}
