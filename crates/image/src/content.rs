//! What the unwrapped bytes are, if they are clearly not an image of a medium.

use std::fmt;

use crate::packed::has_boot_sector;

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
    /// A web page, which servers send in place of a missing file.
    WebPage,
    /// Not packed although its name says so, and without a boot sector.
    UnlikeItsName,
    /// An archive or compression that is not unpacked here, by its name.
    Packed(&'static str),
    /// A virtual machine's disk, by the name of its format.
    Disk(&'static str),
    /// Encrypted, by the name of what did it.
    Encrypted(&'static str),
    /// A document, picture, or the like, by its name.
    Other(&'static str),
}

impl fmt::Display for NotAnImage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Empty => f.write_str("it is empty"),
            Self::TooShort => f.write_str("it is shorter than one sector"),
            Self::Text => f.write_str("it is a text file"),
            Self::WebPage => f.write_str("it is a web page"),
            Self::UnlikeItsName => f.write_str("it is not packed as its name says"),
            Self::Packed(kind) => write!(f, "it is {kind}, a format that Pinewrit cannot unpack"),
            Self::Disk(kind) => write!(f, "it is a virtual machine's disk in the format {kind}"),
            Self::Encrypted(by) => write!(f, "it is encrypted by {by}"),
            Self::Other(kind) => write!(f, "it is {kind}"),
        }
    }
}

/// The mark of something that people mistake for an image, with its place.
struct Mark(usize, &'static [u8], NotAnImage);

use NotAnImage::{Disk, Encrypted, Other, Packed};

const MARKS: &[Mark] = &[
    // Archives and compressions.
    Mark(0, b"Rar!\x1a\x07", Packed("rar")),
    Mark(0, b"MSCF\0\0\0\0", Packed("cab")),
    Mark(0, b"070701", Packed("cpio")),
    Mark(0, b"070702", Packed("cpio")),
    Mark(0, b"070707", Packed("cpio")),
    Mark(0, b"\xc7\x71", Packed("cpio")),
    Mark(0, b"\x71\xc7", Packed("cpio")),
    Mark(0, b"\xed\xab\xee\xdb", Packed("rpm")),
    Mark(0, b"!<arch>\n", Packed("ar or deb")),
    Mark(0, b"xar!", Packed("xar")),
    Mark(0, b"MSWIM\0\0\0", Packed("wim")),
    Mark(2, b"-lh", Packed("lha")),
    Mark(0, b"\x60\xea", Packed("arj")),
    Mark(7, b"**ACE**", Packed("ace")),
    Mark(0, b"\x1f\x9d", Packed("compress (.Z)")),
    Mark(0, b"\x1f\xa0", Packed("compress -H (.Z)")),
    Mark(0, b"\x1f\x1e", Packed("pack (.z)")),
    Mark(0, b"\x89LZO\0\r\n\x1a\n", Packed("lzop (.lzo)")),
    Mark(0, b"LRZI", Packed("lrzip (.lrz)")),
    Mark(0, b"zPQ", Packed("zpaq")),
    Mark(0, b"7kSt", Packed("zpaq")),
    Mark(0, b"ArC\x01", Packed("FreeArc")),
    Mark(0, b"BZ0", Packed("bzip")),
    Mark(0, b"BZ3v1", Packed("bzip3")),
    Mark(0, b"\x02\x21\x4c\x18", Packed("lz4 in its older form")),
    Mark(0, b"\xff\x06\0\0sNaPpY", Packed("snappy")),
    Mark(0, b"bvx2", Packed("lzfse")),
    // Disks of virtual machines.
    Mark(0, b"QFI\xfb", Disk("qcow2")),
    Mark(0, b"QED\0", Disk("QED")),
    Mark(0, b"KDMV", Disk("VMDK")),
    Mark(0, b"COWD", Disk("VMDK")),
    Mark(0, b"# Disk DescriptorFile", Disk("VMDK")),
    Mark(0, b"conectix", Disk("VHD")),
    Mark(0, b"vhdxfile", Disk("VHDX")),
    Mark(64, b"\x7f\x10\xda\xbe", Disk("VDI")),
    Mark(0, b"WithoutFreeSpace", Disk("HDD")),
    Mark(0, b"WithouFreSpacExt", Disk("HDD")),
    Mark(0, b"Bochs Virtual HD Image", Disk("growing")),
    Mark(0, b"SH disk", Disk("SH")),
    Mark(0, b"EVF\x09\x0d\x0a\xff\0", Disk("EWF")),
    Mark(0, b"AFF10\r\n\0", Disk("AFF")),
    // Encrypted.
    Mark(0, b"Salted__", Encrypted("a passphrase (salted)")),
    Mark(0, b"age-encryption.org/", Encrypted("age")),
    Mark(0, b"-----BEGIN PGP MESSAGE-----", Encrypted("OpenPGP")),
    // What a browser saves instead of the file.
    Mark(0, b"%PDF-", Other("a PDF document")),
    Mark(0, b"\x89PNG\r\n\x1a\n", Other("a picture (PNG)")),
    Mark(0, b"\xff\xd8\xff", Other("a picture (JPEG)")),
    Mark(0, b"GIF8", Other("a picture (GIF)")),
    Mark(
        0,
        b"d8:announce",
        Other("a torrent file, which only says where the image is"),
    ),
    Mark(0, b"\x7fELF", Other("a program or a kernel (ELF)")),
];

/// Formats with their mark at the end, checked in files without a wrapping.
const END_MARKS: &[Mark] = &[
    // Sizes of the ends are those of the formats' trailers.
    Mark(512, b"conectix", Disk("VHD")),
    Mark(512, b"koly", Disk("DMG")),
];

/// How much of the end [`check_end`] looks at, in bytes.
pub(crate) const END: usize = 512;

/// Examines the last bytes of a file without a wrapping.
pub(crate) fn check_end(end: &[u8]) -> Result<(), NotAnImage> {
    let found = END_MARKS.iter().find(|Mark(before, mark, _)| {
        let place = end.len().checked_sub(*before);
        place.is_some_and(|place| end[place..].starts_with(mark))
    });
    found.map_or(Ok(()), |Mark(_, _, what)| Err(*what))
}

/// Examines the first bytes of the unwrapped stream (`head`, which is all of it if the stream is
/// short).
pub(crate) fn check(head: &[u8]) -> Result<(), NotAnImage> {
    if head.is_empty() {
        return Err(NotAnImage::Empty);
    }
    let found = MARKS.iter().find(|Mark(offset, mark, _)| {
        let rest = head.get(*offset..);
        rest.is_some_and(|rest| rest.starts_with(mark))
    });
    // A boot sector may begin with anything.
    if let Some(Mark(_, mark, what)) = found
        && (mark.len() > 3 || !has_boot_sector(head))
    {
        return Err(*what);
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
