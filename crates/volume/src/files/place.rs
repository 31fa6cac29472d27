//! Places: `PARTITION:/path`, the partition by number, label, name or role.

use std::fmt;
use std::str::FromStr;

/// Which partition is meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// The only file system that there is.
    Only,
    /// The one with the loader and its settings: the first FAT file system.
    Boot,
    /// The one with the system: the ext file system that contains `/etc`.
    Root,
    /// The file system that fills a medium without a table; or what has this label or name.
    Whole,
    /// A number, a label, or a name in the table.
    Named(String),
}

/// A location inside a medium.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// The partition.
    pub partition: Wanted,
    /// The path, starting with `/`, without a trailing slash.
    pub path: String,
    /// It was given with a trailing slash, so a folder is meant.
    pub is_folder: bool,
}

/// Why a text is not a place.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{text:?} is not a place: {why}")]
pub struct PlaceError {
    /// The text.
    pub text: String,
    /// What is wrong with it.
    pub why: &'static str,
}

impl FromStr for Place {
    type Err = PlaceError;

    fn from_str(text: &str) -> Result<Self, PlaceError> {
        let wrong = |why| PlaceError {
            text: text.to_owned(),
            why,
        };
        let (partition, path) = match text.split_once(':') {
            Some((partition, path)) if !partition.contains('/') => (partition, path),
            _ => ("", text),
        };
        if !path.is_empty() && !path.starts_with('/') {
            return Err(wrong("write it as PARTITION:/path, as in boot:/cmdline"));
        }
        if path.split('/').any(|name| name == "..") {
            return Err(wrong("a path goes down from / only, without \"..\""));
        }
        if path.chars().any(char::is_control) {
            return Err(wrong("it has control characters"));
        }
        let names = path
            .split('/')
            .filter(|name| !name.is_empty() && *name != ".");
        Ok(Self {
            partition: match partition {
                "" => Wanted::Only,
                "boot" => Wanted::Boot,
                "root" => Wanted::Root,
                "whole" => Wanted::Whole,
                named => Wanted::Named(named.to_owned()),
            },
            path: format!("/{}", names.collect::<Vec<_>>().join("/")),
            is_folder: path.is_empty() || path.ends_with('/'),
        })
    }
}

impl fmt::Display for Wanted {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Only => "the only file system",
            Self::Boot => "boot",
            Self::Root => "root",
            Self::Whole => "whole",
            Self::Named(name) => name,
        })
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.partition {
            Wanted::Only => f.write_str(&self.path),
            _ => write!(f, "{}:{}", self.partition, self.path),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("boot:/cmdline", Wanted::Boot, "/cmdline", false)]
    #[case("whole:/log", Wanted::Whole, "/log", false)]
    #[case("2:/etc//ssh/./", Wanted::Named("2".into()), "/etc/ssh", true)]
    #[case("larkfell-root:", Wanted::Named("larkfell-root".into()), "/", true)]
    #[case("/a:b", Wanted::Only, "/a:b", false)]
    fn places(
        #[case] text: &str,
        #[case] partition: Wanted,
        #[case] path: &str,
        #[case] is_folder: bool,
    ) {
        let found: Place = text.parse().unwrap();
        assert_eq!((found.partition, found.path), (partition, path.to_owned()));
        assert_eq!(found.is_folder, is_folder);
    }

    #[rstest]
    #[case("boot:cmdline")]
    #[case("boot:/../etc")]
    #[case("boot:/a\x1b")]
    fn no_places(#[case] text: &str) {
        text.parse::<Place>().unwrap_err();
    }
}
