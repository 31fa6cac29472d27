//! What a record can be found by: whole words, their parts, and the beginnings of both.

/// A longer word says nothing more, in bytes.
const MAX_WORD: usize = 80;
/// Shorter parts of a word are in too many records.
const MIN_PART: usize = 2;

/// The words of some texts: each as a whole, and split at everything but letters and digits.
pub(crate) fn words<'a>(texts: impl IntoIterator<Item = &'a str>) -> Vec<String> {
    let mut all = Vec::new();
    for text in texts {
        for word in text.split_whitespace() {
            let word = normal(word);
            if !is_number(&word) {
                let parts = word.split(|c: char| !c.is_alphanumeric());
                let parts = parts.filter(|part| part.len() >= MIN_PART && *part != word);
                all.extend(parts.map(cut));
            }
            all.push(cut(&word));
        }
    }
    all.retain(|word| !word.is_empty());
    all.sort();
    all.dedup();
    all
}

/// Whether it is an address or an identifier, whose parts nobody looks for.
fn is_number(word: &str) -> bool {
    let is_address = word.contains(['.', ':'])
        && word
            .chars()
            .all(|c| c.is_ascii_hexdigit() || ".:/".contains(c));
    let is_identifier = word.len() == 36 && word.matches('-').count() == 4;
    is_address || is_identifier
}

/// The form in which words are compared.
pub(crate) fn normal(text: &str) -> String {
    text.trim().to_lowercase()
}

fn cut(word: &str) -> String {
    let mut end = word.len().min(MAX_WORD);
    while !word.is_char_boundary(end) {
        end -= 1;
    }
    word[..end].to_owned()
}

/// The words that begin with a text are from the first to before the second of these.
pub(crate) fn range(text: &str) -> (String, String) {
    let start = cut(&normal(text));
    // No text has this character, and none is greater.
    let end = format!("{start}{}", char::MAX);
    (start, end)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_and_their_parts_are_found() {
        let found = words(["Larkfell-07 10.77.3.10/24 2001:db8::7/64", "sha256:ABcd"]);
        let wanted = [
            "07",
            "10.77.3.10/24",
            "2001:db8::7/64",
            "abcd",
            "larkfell",
            "larkfell-07",
            "sha256",
            "sha256:abcd",
        ];
        assert_eq!(found, wanted);
    }

    #[test]
    fn a_beginning_is_a_range() {
        let (start, end) = range(" Lark");
        let is_in = |word: &str| (start.as_str()..end.as_str()).contains(&word);
        assert!(is_in("larkfell-07") && is_in("lark") && is_in("larkü"));
        assert!(!is_in("larj") && !is_in("lasso"));
    }

    #[test]
    fn long_words_are_cut_between_characters() {
        let long = "ü".repeat(100);
        assert_eq!(words([long.as_str()])[0].chars().count(), 40);
    }
}
