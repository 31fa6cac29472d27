//! Names of images: `larkfell-os`, or with a version `larkfell-os@2.4`.

use std::fmt;

use serde::Serialize;

use crate::Image;

/// Longer names and versions were not made by a person, in bytes.
const LONGEST: usize = 100;

/// An image by its name: the newest version, or this one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ImageName {
    /// Its name.
    pub name: String,
    /// The version; `None` for the newest.
    pub version: Option<String>,
}

/// Why a text is no name of an image.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    /// It has a character that names do not have, or none at all.
    #[error("{0:?} is not the name of an image")]
    Name(String),
    /// The same of a version.
    #[error("{0:?} is not a version")]
    Version(String),
}

impl ImageName {
    /// Reads `NAME` or `NAME@VERSION`.
    ///
    /// # Errors
    /// [`NameError`].
    pub fn parse(text: &str) -> Result<Self, NameError> {
        let (name, version) = match text.split_once('@') {
            Some((name, version)) => (name, Some(version)),
            None => (text, None),
        };
        if !is_name(name) {
            return Err(NameError::Name(name.to_owned()));
        }
        match version.filter(|version| !is_version(version)) {
            Some(version) => Err(NameError::Version(version.to_owned())),
            None => Ok(Self {
                name: name.to_owned(),
                version: version.map(str::to_owned),
            }),
        }
    }
}

impl ImageName {
    /// Whether it means this image.
    pub fn means(&self, image: &Image) -> bool {
        let version = self.version.as_ref();
        self.name == image.name && version.is_none_or(|version| *version == image.version)
    }
}

impl fmt::Display for ImageName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.version {
            Some(version) => write!(f, "{}@{version}", self.name),
            None => f.write_str(&self.name),
        }
    }
}

/// Letters, digits, `.`, `_`, `-`: what neither a shell nor a URL changes.
pub(crate) fn is_name(text: &str) -> bool {
    let is_sign = |sign: char| sign.is_ascii_alphanumeric() || "._-".contains(sign);
    let starts = text.starts_with(|sign: char| sign.is_ascii_alphanumeric());
    starts && text.len() <= LONGEST && text.chars().all(is_sign)
}

/// The same, and the signs that versions have besides.
pub(crate) fn is_version(text: &str) -> bool {
    let is_sign = |sign: char| sign.is_ascii_alphanumeric() || "._-+~:".contains(sign);
    let is_short = (1..=LONGEST).contains(&text.len());
    is_short && text.chars().all(is_sign)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("larkfell-os", Some(("larkfell-os", None)))]
    #[case("larkfell-os@2.4~rc1+b2", Some(("larkfell-os", Some("2.4~rc1+b2"))))]
    #[case("", None)]
    #[case("@2", None)]
    #[case("larkfell-os@", None)]
    #[case("../etc", None)]
    #[case("-os", None)]
    #[case("lark fell", None)]
    #[case("os@2@3", None)]
    fn names(#[case] text: &str, #[case] expected: Option<(&str, Option<&str>)>) {
        let found = ImageName::parse(text).ok();
        let found = found
            .as_ref()
            .map(|one| (&*one.name, one.version.as_deref()));
        assert_eq!(found, expected);
    }
}
