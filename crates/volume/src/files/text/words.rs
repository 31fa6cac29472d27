//! Words of a text of one line, such as a kernel's command line.

use super::EditFault;
use super::lines::{Line, Lines};

/// Whether a word matches: it is the same, or begins with the given key and `=`.
pub(super) fn is_word(found: &str, wanted: &str) -> bool {
    found == wanted || wanted.ends_with('=') && found.starts_with(wanted)
}

pub(super) fn replace_word(words: &mut [String], old: &str, new: &str) -> Result<(), EditFault> {
    let mut meant = words
        .iter_mut()
        .filter(|word| is_word(word, old))
        .peekable();
    if meant.peek().is_some() {
        meant.for_each(|word| new.clone_into(word));
        return Ok(());
    }
    if words.iter().any(|word| word == new) {
        Ok(())
    } else {
        Err(EditFault::NoWord(old.to_owned()))
    }
}

/// Changes the words of a text's only line.
pub(super) fn change_words(
    lines: &mut Lines,
    change: impl FnOnce(&mut Vec<String>) -> Result<(), EditFault>,
) -> Result<(), EditFault> {
    let counts = |line: &Line| {
        let text = line.text.trim();
        !text.is_empty() && !text.starts_with('#')
    };
    let count = lines.lines.iter().filter(|line| counts(line)).count();
    if count > 1 {
        return Err(EditFault::NotOneLine(count));
    }
    if count == 0 {
        lines.insert(0, "");
    }
    let index = lines.lines.iter().position(counts).unwrap_or(0);
    let before = split_words(&lines.lines[index].text);
    let mut words = before.clone();
    change(&mut words)?;
    // Blanks between words stay as they are if no word changes.
    if words != before {
        lines.lines[index].text = words.join(" ");
    }
    Ok(())
}

/// Words are separated by blanks outside double quotes.
fn split_words(line: &str) -> Vec<String> {
    let mut is_quoted = false;
    let words = line.split(|c: char| {
        is_quoted ^= c == '"';
        c.is_whitespace() && !is_quoted
    });
    words
        .filter(|word| !word.is_empty())
        .map(str::to_owned)
        .collect()
}
