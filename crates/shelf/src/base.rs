//! Where a catalogue is, and what that makes of the places in it.

use std::path::{Path, PathBuf};

use pinewrit_image::Location;

/// Where a catalogue is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Base {
    /// A file here.
    File(PathBuf),
    /// A file on a server.
    Server(String),
}

impl Base {
    /// Distinguishes addresses from paths.
    pub fn of(text: &str) -> Self {
        match Location::parse(text.as_ref()) {
            Location::Url(address) => Self::Server(address),
            _ => Self::File(PathBuf::from(text)),
        }
    }

    /// The place of an image in the catalogue. What a server's catalogue says is always a place on a
    /// server: it must not name the files of whoever reads it.
    pub fn location(&self, source: &str) -> Location {
        match (self, Location::parse(source.as_ref())) {
            (_, url @ Location::Url(_)) => url,
            (Self::File(file), _) => {
                let folder = file.parent().unwrap_or(Path::new(""));
                Location::Path(folder.join(source))
            }
            (Self::Server(address), _) => Location::Url(joined(address, source)),
        }
    }

    /// A file beside the catalogue, named by this ending: `.minisig`.
    pub fn with_ending(&self, ending: &str) -> Location {
        match self {
            Self::File(file) => {
                let mut name = file.as_os_str().to_owned();
                name.push(ending);
                Location::Path(name.into())
            }
            Self::Server(address) => Location::Url(format!("{}{ending}", plain(address))),
        }
    }

    /// The place itself.
    pub fn place(&self) -> Location {
        match self {
            Self::File(file) => Location::Path(file.clone()),
            Self::Server(address) => Location::Url(address.clone()),
        }
    }
}

fn plain(address: &str) -> &str {
    address.split(['?', '#']).next().unwrap_or(address)
}

/// A path relative to an address (RFC 3986, section 5.2, without dot segments, which servers
/// resolve).
fn joined(address: &str, path: &str) -> String {
    let plain = plain(address);
    let host_at = plain.find("://").map_or(0, |at| at + 3);
    let host_end = plain[host_at..].find('/').map(|at| at + host_at);
    let (root, folder) = match host_end {
        Some(end) => (
            &plain[..end],
            plain.rfind('/').map_or(plain, |at| &plain[..at]),
        ),
        None => (plain, plain),
    };
    let encoded = encoded(path.trim_start_matches('/'));
    match path.starts_with('/') {
        true => format!("{root}/{encoded}"),
        false => format!("{folder}/{encoded}"),
    }
}

/// What paths in addresses do not have is written as `%XX` (RFC 3986, section 2.1).
fn encoded(path: &str) -> String {
    let is_plain =
        |byte: u8| byte.is_ascii_alphanumeric() || b"-._~/%+:@!$&'()*,;=?".contains(&byte);
    let signs = path.bytes().map(|byte| match is_plain(byte) {
        true => char::from(byte).to_string(),
        false => format!("%{byte:02X}"),
    });
    signs.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(
        "https://lark.example/os/shelf.toml",
        "a.img",
        "https://lark.example/os/a.img"
    )]
    #[case(
        "https://lark.example/os/shelf.toml?x=1",
        "b/a.img",
        "https://lark.example/os/b/a.img"
    )]
    #[case(
        "https://lark.example/shelf.toml",
        "/a.img",
        "https://lark.example/a.img"
    )]
    #[case("https://lark.example", "a.img", "https://lark.example/a.img")]
    #[case(
        "http://lark.example/shelf.toml",
        "/dev/sda",
        "http://lark.example/dev/sda"
    )]
    #[case(
        "http://lark.example/s.toml",
        "https://b.example/a.img",
        "https://b.example/a.img"
    )]
    #[case(
        "http://lark.example/s.toml",
        "a b.img",
        "http://lark.example/a%20b.img"
    )]
    #[case("team/shelf.toml", "a.img", "team/a.img")]
    #[case("shelf.toml", "a.img", "a.img")]
    #[case("team/shelf.toml", "/srv/a.img", "/srv/a.img")]
    fn places(#[case] base: &str, #[case] source: &str, #[case] expected: &str) {
        assert_eq!(Base::of(base).location(source).to_string(), expected);
    }

    #[test]
    fn signatures_are_beside() {
        let base = Base::of("https://lark.example/shelf.toml?x=1");
        let place = base.with_ending(".minisig").to_string();
        assert_eq!(place, "https://lark.example/shelf.toml.minisig");
    }
}
