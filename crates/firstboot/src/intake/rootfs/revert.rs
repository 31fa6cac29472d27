//! Changes by settings to shared texts, recorded so that a later run can take them back line by
//! line, whatever else has changed since.

use serde::{Deserialize, Serialize};
use similar::{DiffOp, TextDiff};

/// The changes to one text.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Edits {
    /// Whether the text existed before.
    pub(crate) was_there: bool,
    /// Lines that replaced others.
    pub(crate) hunks: Vec<Hunk>,
}

/// Lines that replaced others, each with its newline.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Hunk {
    pub(crate) was: String,
    pub(crate) is: String,
}

impl Edits {
    /// The edits that turn one text into the other.
    pub(crate) fn between(before: Option<&str>, after: &str) -> Self {
        let old = before.unwrap_or_default();
        let diff = TextDiff::from_lines(old, after);
        let hunk = |op: &DiffOp| Hunk {
            was: op
                .old_range()
                .filter_map(|line| diff.old_slice(line))
                .collect(),
            is: op
                .new_range()
                .filter_map(|line| diff.new_slice(line))
                .collect(),
        };
        let changed = |op: &&DiffOp| !matches!(op, DiffOp::Equal { .. });
        Self {
            was_there: before.is_some(),
            hunks: diff.ops().iter().filter(changed).map(hunk).collect(),
        }
    }

    /// The text without these edits: `None` if nothing of it would be left and it did not exist
    /// before. The second value says whether some lines were missing.
    pub(crate) fn taken_back(&self, text: &str) -> (Option<String>, bool) {
        let mut text = text.to_owned();
        let mut is_missing = false;
        for hunk in &self.hunks {
            match find_lines(&text, &hunk.is) {
                Some(at) if !hunk.is.is_empty() => {
                    text.replace_range(at..at + hunk.is.len(), &hunk.was);
                }
                // If lines were only removed, there is no way to know where they belong.
                _ => is_missing = true,
            }
        }
        let is_nothing = !self.was_there && text.trim().is_empty();
        ((!is_nothing).then_some(text), is_missing)
    }
}

/// The positions of whole lines in a text.
fn find_lines(text: &str, lines: &str) -> Option<usize> {
    let found = text.match_indices(lines).map(|(at, _)| at);
    let mut whole = found.filter(|at| *at == 0 || text.as_bytes().get(at - 1) == Some(&b'\n'));
    whole.next()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::replaced(
        "LANG=C\nB=1\n",
        "LANG=de\nB=1\n",
        "LANG=de\nB=2\nC=3\n",
        Some("LANG=C\nB=2\nC=3\n")
    )]
    #[case::added("a\n", "a\nswap\n", "x\na\nswap\n", Some("x\na\n"))]
    #[case::lost("a\n", "a\nswap\n", "a\n", Some("a\n"))]
    #[case::part_of_a_line("", "Port 7\n", "#Port 7\n", Some("#Port 7\n"))]
    fn lines_are_taken_back(
        #[case] before: &str,
        #[case] after: &str,
        #[case] now: &str,
        #[case] expected: Option<&str>,
    ) {
        let edits = Edits::between(Some(before), after);
        assert_eq!(edits.taken_back(now).0.as_deref(), expected);
    }

    #[test]
    fn a_new_text_goes_again() {
        let edits = Edits::between(None, "one\ntwo\n");
        assert_eq!(edits.taken_back("one\ntwo\n"), (None, false));
        assert_eq!(
            edits.taken_back("one\ntwo\nthree\n").0.as_deref(),
            Some("three\n")
        );
    }

    proptest! {
        #[test]
        fn nothing_panics(before in "[ab\n]{0,20}", after in "[ab\n]{0,20}", now in "[ab\n]{0,20}") {
            let edits = Edits::between(Some(&before), &after);
            let _ = edits.taken_back(&now);
        }
    }
}
