//! Whether what a serial port gives is text, or bits read at another rate.

/// Fewer bytes say nothing.
const ENOUGH: usize = 24;
/// Text has at most this share of bytes that are none, in percent.
const TEXT: usize = 10;
/// Garbage has at least this share.
const GARBAGE: usize = 30;

/// What bytes of a serial port are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Text.
    Text,
    /// Bits at another rate.
    Garbage,
    /// Too few, or something of each.
    Unclear,
}

/// Looks at bytes. At a wrong rate, most have their highest bit set, or are zero or other control
/// characters.
pub fn look(bytes: &[u8]) -> Kind {
    if bytes.len() < ENOUGH {
        return Kind::Unclear;
    }
    let text = String::from_utf8_lossy(bytes);
    let is_wrong = |sign: &char| {
        *sign == char::REPLACEMENT_CHARACTER
            || sign.is_control() && !matches!(sign, '\n' | '\r' | '\t' | '\x07' | '\x08' | '\x1b')
    };
    let (all, wrong) = text.chars().fold((0, 0), |(all, wrong), sign| {
        (all + 1, wrong + usize::from(is_wrong(&sign)))
    });
    match wrong * 100 / all {
        0..=TEXT => Kind::Text,
        GARBAGE.. => Kind::Garbage,
        _ => Kind::Unclear,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_and_garbage() {
        let text = "[    0.000000] Linux version 6.1.0 (made up)\r\n\x1b[32mok\x1b[0m Umläut";
        assert_eq!(look(text.as_bytes()), Kind::Text);
        let garbage: Vec<u8> = (0..64_u8).map(|n| n.wrapping_mul(37) | 0x80).collect();
        assert_eq!(look(&garbage), Kind::Garbage);
        assert_eq!(look(&[0; 64]), Kind::Garbage);
        assert_eq!(look(b"short"), Kind::Unclear);
    }
}
