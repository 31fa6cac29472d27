//! What the unwrapped bytes are, where they are plainly not an image of a medium.

use std::fmt;

/// Why the content of a source cannot be an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum NotAnImage {
    /// No bytes at all.
    Empty,
    /// Shorter than one sector.
    TooShort,
    /// Text from the first byte on.
    Text,
    /// A web page, as a server sends instead of the file it does not have.
    WebPage,
    /// Neither packed, as its name says, nor with a boot sector.
    UnlikeItsName,
    /// An archive or compression that is not unpacked here, by its name.
    Packed(&'static str),
}

impl fmt::Display for NotAnImage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Empty => f.write_str("it is empty"),
            Self::TooShort => f.write_str("it is shorter than one sector"),
            Self::Text => f.write_str("it is a text file"),
            Self::WebPage => f.write_str("it is a web page"),
            Self::UnlikeItsName => f.write_str("it is not packed as its name says"),
            Self::Packed(kind) => write!(f, "it is packed as {kind}, which is not read yet"),
        }
    }
}

/// First bytes of things that people mistake for images.
const SIGNATURES: &[(usize, &[u8], &str)] = &[(0, b"Rar!\x1a\x07", "rar")];

/// Looks at the first bytes of the unwrapped stream (`head`; the whole of it when it is shorter
/// than what was asked for).
pub(crate) fn check(head: &[u8]) -> Result<(), NotAnImage> {
    if head.is_empty() {
        return Err(NotAnImage::Empty);
    }
    for (offset, magic, kind) in SIGNATURES {
        if head
            .get(*offset..)
            .is_some_and(|rest| rest.starts_with(magic))
        {
            return Err(NotAnImage::Packed(kind));
        }
    }
    if is_text(head) {
        let start = String::from_utf8_lossy(&head[..head.len().min(256)]).to_ascii_lowercase();
        let page = ["<!doctype html", "<html", "<?xml"]
            .iter()
            .any(|tag| start.trim_start().starts_with(tag));
        return Err(if page {
            NotAnImage::WebPage
        } else {
            NotAnImage::Text
        });
    }
    if head.len() < 512 {
        return Err(NotAnImage::TooShort);
    }
    Ok(())
}

/// Whether there is nothing but printable characters and line ends, in UTF-8.
fn is_text(head: &[u8]) -> bool {
    // The head may be cut inside a character.
    let text = match std::str::from_utf8(head) {
        Ok(text) => text,
        Err(error) if error.error_len().is_none() => {
            std::str::from_utf8(&head[..error.valid_up_to()]).unwrap_or_default()
        }
        Err(_) => return false,
    };
    !text.is_empty()
        && text
            .chars()
            .all(|c| !c.is_control() || matches!(c, '\n' | '\r' | '\t' | '\x0c'))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::empty(b"", NotAnImage::Empty)]
    #[case::text("Grüße von der Hütte\n".as_bytes(), NotAnImage::Text)]
    #[case::page(b" <!DOCTYPE html><title>404</title>", NotAnImage::WebPage)]
    #[case::short(&[0xeb, 0x3c, 0x90], NotAnImage::TooShort)]
    #[case::rar(b"Rar!\x1a\x07\x01\0", NotAnImage::Packed("rar"))]
    fn what_is_no_image(#[case] head: &[u8], #[case] why: NotAnImage) {
        assert_eq!(check(head), Err(why));
    }

    #[test]
    fn a_sector_of_zeros_may_be_an_image() {
        assert_eq!(check(&[0; 512]), Ok(()));
    }
}
