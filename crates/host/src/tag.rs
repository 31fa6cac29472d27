//! Tags: short codes that name a medium by what it is, not by where it was plugged in.

use std::fmt;

/// Crockford's base 32: no `I`, `L`, `O` and `U`.
const ALPHABET: &[u8; 32] = b"0123456789ABCDEFGHJKMNPQRSTVWXYZ";
/// Characters of a usual tag: 20 bits.
pub(crate) const SHORT: usize = 4;
/// The most characters of a tag: 60 bits.
pub(crate) const LONG: usize = 12;

/// The tag of a medium, such as `K7F2`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Tag(String);

impl Tag {
    /// The tag of an identity, with `len` characters.
    pub(crate) fn of(identity: &str, len: usize) -> Self {
        let digest = blake3::hash(identity.as_bytes());
        let bits = digest.as_bytes()[..8].iter();
        let bits = bits.fold(0u64, |sum, byte| sum << 8 | u64::from(*byte));
        let letter = |index: usize| {
            let shift = 64 - 5 * (index as u32 + 1);
            char::from(ALPHABET[(bits >> shift & 31) as usize])
        };
        Self((0..len.min(LONG)).map(letter).collect())
    }

    /// Reads a tag as people type it: small letters, `O` for 0, `I` and `L` for 1.
    pub fn parse(text: &str) -> Option<Self> {
        if !(SHORT..=LONG).contains(&text.len()) {
            return None;
        }
        let letter = |c: char| {
            let plain = match c.to_ascii_uppercase() {
                'O' => '0',
                'I' | 'L' => '1',
                c => c,
            };
            ALPHABET
                .contains(&u8::try_from(plain).ok()?)
                .then_some(plain)
        };
        text.chars()
            .map(letter)
            .collect::<Option<String>>()
            .map(Self)
    }

    /// In how many characters two tags differ, to suggest what was meant.
    pub fn distance(&self, other: &Self) -> usize {
        let same = self.0.bytes().zip(other.0.bytes()).filter(|(a, b)| a == b);
        self.0.len().max(other.0.len()) - same.count()
    }
}

impl fmt::Display for Tag {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn the_same_identity_has_the_same_tag() {
        let identity = "sd|1b534d45423152543010aabbccdd0142|31914983424";
        assert_eq!(Tag::of(identity, SHORT).to_string().len(), 4);
        assert_eq!(Tag::of(identity, SHORT), Tag::of(identity, SHORT));
        assert_ne!(Tag::of(identity, SHORT), Tag::of("other", SHORT));
        // A longer tag begins like the shorter one.
        let (short, long) = (Tag::of(identity, SHORT), Tag::of(identity, LONG));
        assert!(long.to_string().starts_with(&short.to_string()));
    }

    #[rstest]
    #[case("k7f2", Some("K7F2"))]
    #[case("K7FO", Some("K7F0"))]
    #[case("l7fi", Some("17F1"))]
    #[case("K7F", None)]
    #[case("K7F2/", None)]
    #[case("K7FU", None)]
    #[case("hütte", None)]
    fn typed(#[case] text: &str, #[case] tag: Option<&str>) {
        assert_eq!(Tag::parse(text).map(|tag| tag.to_string()).as_deref(), tag);
    }
}
