//! Names: what FAT can hold, and the short form that every name has beside its long one.
//!
//! Microsoft FAT specification 1.03, "FAT Directory Structure" and "FAT Long Directory Entries".

/// UTF-16 units in a name.
pub(crate) const MAX_NAME: usize = 255;
/// Characters of a path, including the drive and the final zero that some systems count.
const MAX_PATH: usize = 259;
/// UTF-16 units in one entry of a long name.
const UNITS: usize = 13;
/// Flags that mark a short name's base or extension as lower case. They are not in the
/// specification; systems have used them ever since long names were introduced.
const SMALL_BASE: u8 = 0x08;
const SMALL_EXTENSION: u8 = 0x10;

/// Why FAT cannot store a name.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NameError {
    /// It is empty, or one of `.` and `..`.
    #[error("{0:?} is not a valid name")]
    Reserved(String),
    /// A character that is not allowed.
    #[error("FAT names cannot have {0:?}")]
    Character(char),
    /// It ends with a character that systems drop.
    #[error("FAT names cannot end with {0:?}")]
    Ending(char),
    /// It is too long.
    #[error("FAT names have at most 255 characters, this one has {0}")]
    TooLong(usize),
    /// The whole path is too long.
    #[error("paths on FAT have at most 259 characters, this one has {0}")]
    PathTooLong(usize),
}

/// Checks whether a name can be stored.
///
/// # Errors
/// [`NameError`].
pub fn check_name(name: &str) -> Result<(), NameError> {
    if name.is_empty() || name == "." || name == ".." {
        return Err(NameError::Reserved(name.to_owned()));
    }
    if let Some(bad) = name.chars().find(|&c| is_forbidden(c)) {
        return Err(NameError::Character(bad));
    }
    if let Some(last) = name.chars().last().filter(|c| matches!(c, '.' | ' ')) {
        return Err(NameError::Ending(last));
    }
    match name.encode_utf16().count() {
        count if count > MAX_NAME => Err(NameError::TooLong(count)),
        _ => Ok(()),
    }
}

/// Checks whether a path can be stored; `/` separates its names.
///
/// # Errors
/// [`NameError`].
pub fn check_path(path: &str) -> Result<(), NameError> {
    path.split('/')
        .filter(|name| !name.is_empty())
        .try_for_each(check_name)?;
    match path.trim_matches('/').encode_utf16().count() {
        count if count > MAX_PATH => Err(NameError::PathTooLong(count)),
        _ => Ok(()),
    }
}

fn is_forbidden(c: char) -> bool {
    c.is_control() || "\"*/:<>?\\|".contains(c)
}

/// The form in which names are compared: those that differ in case only are the same.
pub fn folded(name: &str) -> String {
    let fold = |c: char| {
        let mut upper = c.to_uppercase();
        match (upper.next(), upper.next()) {
            (Some(only), None) => only,
            // `ß` and the like stay unchanged.
            _ => c,
        }
    };
    name.chars().map(fold).collect()
}

/// A short name as in an entry: eight and three bytes, padded with spaces.
pub(crate) type Short = [u8; 11];

/// The short form of a name, before it is known to be unique.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Basis {
    pub(crate) short: Short,
    /// It expresses the whole name: no long name is needed.
    pub(crate) is_whole: bool,
    /// Something was lost, so it needs a number at its end.
    pub(crate) is_lossy: bool,
}

/// "The Basis-Name Generation Algorithm".
pub(crate) fn basis(name: &str) -> Basis {
    let trimmed = name.trim_start_matches(['.', ' ']);
    let mut is_lossy = trimmed.len() != name.len();
    let (base, extension) = trimmed.rsplit_once('.').unwrap_or((trimmed, ""));
    let mut short = [b' '; 11];
    let mut is_whole = true;
    let (first, last) = short.split_at_mut(8);
    for (text, room) in [(base, first), (extension, last)] {
        let mut places = room.iter_mut();
        for c in text.chars() {
            if matches!(c, ' ' | '.') {
                is_lossy = true;
                continue;
            }
            let byte = short_byte(c);
            is_lossy |= byte.is_none();
            is_whole &= byte.is_some_and(|byte| u32::from(byte) == u32::from(c));
            match places.next() {
                Some(place) => *place = byte.unwrap_or(b'_'),
                None => is_lossy = true,
            }
        }
    }
    // A name with nothing but dots and spaces before its extension has no base.
    if short[0] == b' ' {
        short[0] = b'_';
        is_lossy = true;
    }
    Basis {
        short,
        is_whole: is_whole && !is_lossy,
        is_lossy,
    }
}

/// The byte for a character in a short name; `None` if there is none.
fn short_byte(c: char) -> Option<u8> {
    if c.is_ascii() {
        let is_allowed = c.is_ascii_alphanumeric() || "$%'-_@~`!(){}^#&".contains(c);
        return is_allowed.then(|| c.to_ascii_uppercase() as u8);
    }
    // Letters that have the same byte in code pages 437 and 850.
    let upper = folded(c.encode_utf8(&mut [0; 4]));
    let (_, byte) = SHARED.iter().find(|(letter, _)| upper.contains(*letter))?;
    Some(*byte)
}

/// Capital letters that have the same byte in code pages 437 and 850.
const SHARED: [(char, u8); 8] = [
    ('Ç', 0x80),
    ('Ä', 0x8e),
    ('Å', 0x8f),
    ('É', 0x90),
    ('Æ', 0x92),
    ('Ö', 0x99),
    ('Ü', 0x9a),
    ('Ñ', 0xa5),
];

/// A short name with a number at the end of its base: "The Numeric-Tail Generation Algorithm".
pub(crate) fn with_tail(basis: &Short, number: u32) -> Short {
    let tail = format!("~{number}");
    let used = basis[..8].iter().position(|&b| b == b' ').unwrap_or(8);
    let keep = used.min(8 - tail.len().min(7));
    let mut short = *basis;
    short[keep..8].fill(b' ');
    short[keep..keep + tail.len()].copy_from_slice(tail.as_bytes());
    short
}

/// Code page 850, which most systems use for short names, from 0x80 on.
const PAGE_850: &str = "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜø£Ø×ƒáíóúñÑªº¿®¬½¼¡«»░▒▓│┤ÁÂÀ©╣║╗╝¢¥┐└┴┬├─┼ãÃ╚╔╩╦╠═╬¤\
                        ðÐÊËÈıÍÎÏ┘┌█▄¦Ì▀ÓßÔÒõÕµþÞÚÛÙýÝ¯´\u{ad}±‗¾¶§÷¸°¨·¹³²■\u{a0}";

/// Text of a short name: UTF-8 where it is valid, otherwise code page 850. A first byte of 5 stands
/// for 0xE5, which would mark an erased entry.
pub(crate) fn oem_text(raw: &[u8]) -> String {
    let mut raw = raw.to_vec();
    if raw.first() == Some(&5) {
        raw[0] = 0xe5;
    }
    if let Ok(text) = std::str::from_utf8(&raw) {
        return text.to_owned();
    }
    let letter = |byte: &u8| match byte.checked_sub(0x80) {
        None => char::from(*byte),
        Some(high) => PAGE_850
            .chars()
            .nth(usize::from(high))
            .unwrap_or('\u{fffd}'),
    };
    raw.iter().map(letter).collect()
}

/// A short name as text; `flags` is the byte that says which parts are lower case.
pub(crate) fn short_text(short: &Short, flags: u8) -> String {
    let text = oem_text(short);
    // There are as many bytes as characters, unless it is UTF-8.
    let (base, extension) = if text.chars().count() == short.len() {
        let at = text.char_indices().nth(8).map_or(text.len(), |(at, _)| at);
        (text[..at].to_owned(), text[at..].to_owned())
    } else {
        (oem_text(&short[..8]), oem_text(&short[8..]))
    };
    let part = |text: &str, flag: u8| match flags & flag {
        0 => text.trim_end_matches(' ').to_owned(),
        _ => text.trim_end_matches(' ').to_lowercase(),
    };
    let base = part(&base, SMALL_BASE);
    match part(&extension, SMALL_EXTENSION) {
        extension if extension.is_empty() => safe(&base),
        extension => safe(&format!("{base}.{extension}")),
    }
}

/// A name that cannot lead out of its folder: path separators and characters that could control a
/// terminal are replaced.
fn safe(name: &str) -> String {
    let clean = |c: char| {
        if c == '/' || c.is_control() {
            '\u{fffd}'
        } else {
            c
        }
    };
    name.chars().map(clean).collect()
}

/// A long name as text; `None` if no file can have it.
pub(crate) fn long_text(units: &[u16]) -> Option<String> {
    let name = safe(&String::from_utf16_lossy(units));
    (!matches!(name.as_str(), "" | "." | "..")).then_some(name)
}

/// Whether a long name is free of characters that names cannot have.
pub(crate) fn is_long_name(units: &[u16]) -> bool {
    let text = String::from_utf16_lossy(units);
    !text.is_empty() && units.len() <= MAX_NAME && !text.chars().any(is_forbidden)
}

/// Whether the specification allows this short name.
pub(crate) fn is_short_name(short: &Short) -> bool {
    let is_bad = |byte: u8| byte < 0x20 || b"\"*+,./:;<=>?[\\]|\x7f".contains(&byte);
    let first = if short[0] == 5 { 0xe5 } else { short[0] };
    short[0] != b' ' && !is_bad(first) && !short[1..].iter().any(|&byte| is_bad(byte))
}

/// "The checksum" that ties a long name to its short one.
pub(crate) fn checksum(short: &Short) -> u8 {
    short
        .iter()
        .fold(0, |sum: u8, byte| sum.rotate_right(1).wrapping_add(*byte))
}

/// The parts of a long name in order, padded as entries hold them.
pub(crate) fn long_parts(name: &str) -> Vec<[u16; UNITS]> {
    let mut units: Vec<u16> = name.encode_utf16().collect();
    if !units.len().is_multiple_of(UNITS) {
        units.push(0);
    }
    units.resize(units.len().next_multiple_of(UNITS), 0xffff);
    let mut parts = vec![[0; UNITS]; units.len() / UNITS];
    for (part, units) in parts.iter_mut().zip(units.chunks_exact(UNITS)) {
        part.copy_from_slice(units);
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("KERNEL.IMG", b"KERNEL  IMG", true, false)]
    #[case("kernel.img", b"KERNEL  IMG", false, false)]
    #[case("device-trees", b"DEVICE-T   ", false, true)]
    #[case("a.b.c", b"AB      C  ", false, true)]
    #[case("a+b", b"A_B        ", false, true)]
    #[case(".hidden", b"HIDDEN     ", false, true)]
    #[case("my dir", b"MYDIR      ", false, true)]
    #[case("Umläut", b"UML\x8eUT     ", false, false)]
    #[case("日本語", b"___        ", false, true)]
    #[case(". .x", b"X          ", false, true)]
    fn short_forms(
        #[case] name: &str,
        #[case] short: &[u8; 11],
        #[case] is_whole: bool,
        #[case] is_lossy: bool,
    ) {
        let found = basis(name);
        assert_eq!(&found.short, short);
        assert_eq!((found.is_whole, found.is_lossy), (is_whole, is_lossy));
    }

    #[rstest]
    #[case(b"KERNEL  IMG", 1, b"KERNEL~1IMG")]
    #[case(b"DEVICE-T   ", 17, b"DEVIC~17   ")]
    #[case(b"AB      C  ", 123_456, b"A~123456C  ")]
    fn tails(#[case] basis: &Short, #[case] number: u32, #[case] short: &Short) {
        assert_eq!(&with_tail(basis, number), short);
    }

    #[rstest]
    #[case("a:b", NameError::Character(':'))]
    #[case("x.", NameError::Ending('.'))]
    #[case("..", NameError::Reserved("..".into()))]
    #[case("a\u{7}b", NameError::Character('\u{7}'))]
    fn names_that_cannot_be(#[case] name: &str, #[case] fault: NameError) {
        assert_eq!(check_name(name), Err(fault));
    }

    #[test]
    fn bytes_of_strangers_are_read_in_their_code_page() {
        assert_eq!(short_text(b"UML\x8eUT  TXT", 0), "UMLÄUT.TXT");
        assert_eq!(short_text(b"\x05UT     TXT", 0), "ÕUT.TXT");
        assert_eq!(short_text(b"README  TXT", 0x18), "readme.txt");
        assert_eq!(short_text(b"A/B     \x1b  ", 0), "A\u{fffd}B.\u{fffd}");
    }
}
