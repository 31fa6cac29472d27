//! What a server's answer says about the file.

use ureq::http::{HeaderMap, Response};

use super::FetchError;

/// The version of a file that an answer belongs to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Version {
    /// The entity tag, RFC 9110 section 8.8.3.
    pub(super) tag: Option<String>,
    /// The time of the last change, section 8.8.2.
    pub(super) modified: Option<String>,
    /// The size in bytes.
    pub(super) size: Option<u64>,
}

impl Version {
    /// Whether both may be the same version. Without a validator, equal sizes are enough.
    pub(super) fn may_be(&self, other: &Self) -> bool {
        let agree = |a: &Option<String>, b: &Option<String>| match (a, b) {
            (Some(a), Some(b)) => a == b,
            _ => true,
        };
        let same_size = match (self.size, other.size) {
            (Some(a), Some(b)) => a == b,
            _ => true,
        };
        same_size && agree(&self.tag, &other.tag) && agree(&self.modified, &other.modified)
    }

    /// Whether there is a validator that distinguishes versions.
    pub(super) fn has_mark(&self) -> bool {
        self.tag.is_some() || self.modified.is_some()
    }
}

/// The head of an answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Answer {
    pub(super) version: Version,
    /// Offset of the first byte that follows.
    pub(super) start: u64,
    /// Whether this is the requested part, and not the whole file.
    pub(super) is_part: bool,
    /// The existing copy is still current.
    pub(super) not_modified: bool,
}

impl Answer {
    pub(super) fn read<B>(response: &Response<B>) -> Result<Self, FetchError> {
        let headers = response.headers();
        let mut version = Version {
            tag: text(headers, "etag"),
            modified: text(headers, "last-modified"),
            size: None,
        };
        let status = response.status().as_u16();
        let range = text(headers, "content-range");
        let start = match status {
            200 => {
                version.size = text(headers, "content-length").and_then(|len| len.parse().ok());
                0
            }
            206 => {
                let (start, size) =
                    range
                        .as_deref()
                        .and_then(content_range)
                        .ok_or_else(|| FetchError::Answer {
                            detail: "a part without saying which".to_owned(),
                        })?;
                version.size = size;
                start
            }
            // The very first byte was requested: the file is empty.
            416 if range.as_deref() == Some("bytes */0") => {
                version.size = Some(0);
                0
            }
            304 => 0,
            status => return Err(FetchError::Status { status }),
        };
        Ok(Self {
            version,
            start,
            is_part: status == 206,
            not_modified: status == 304,
        })
    }
}

fn text(headers: &HeaderMap, name: &str) -> Option<String> {
    Some(headers.get(name)?.to_str().ok()?.to_owned())
}

/// `bytes 100-199/1000`, RFC 9110 section 14.4: the start, and the size of the whole.
fn content_range(text: &str) -> Option<(u64, Option<u64>)> {
    let (range, size) = text.strip_prefix("bytes ")?.split_once('/')?;
    let (start, _) = range.split_once('-')?;
    let size = match size {
        "*" => None,
        size => Some(size.parse().ok()?),
    };
    Some((start.parse().ok()?, size))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("bytes 100-199/1000", Some((100, Some(1000))))]
    #[case("bytes 0-0/*", Some((0, None)))]
    #[case("bytes */1000", None)]
    #[case("lines 1-2/3", None)]
    #[case("bytes -1-2/3", None)]
    fn ranges(#[case] text: &str, #[case] expected: Option<(u64, Option<u64>)>) {
        assert_eq!(content_range(text), expected);
    }

    #[test]
    fn one_differing_mark_is_another_version() {
        let version = |tag: Option<&str>, size| Version {
            tag: tag.map(str::to_owned),
            modified: None,
            size,
        };
        let first = version(Some("\"a\""), Some(10));
        assert!(first.may_be(&version(Some("\"a\""), None)));
        assert!(first.may_be(&version(None, Some(10))));
        assert!(!first.may_be(&version(Some("\"b\""), Some(10))));
        assert!(!first.may_be(&version(Some("\"a\""), Some(11))));
    }
}
