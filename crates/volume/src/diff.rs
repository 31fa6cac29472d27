//! The difference between two texts, for display.

use similar::TextDiff;

/// The change from one text to another in unified form, without terminal control characters.
pub fn text_diff(old: &[u8], new: &[u8]) -> String {
    let (old, new) = (String::from_utf8_lossy(old), String::from_utf8_lossy(new));
    let diff = TextDiff::from_lines(&*old, &*new);
    let diff = diff.unified_diff().context_radius(2).to_string();
    let plain = |c: char| match c {
        '\n' | '\t' => c,
        c => crate::printable(c),
    };
    diff.replace('\r', "").chars().map(plain).collect()
}
