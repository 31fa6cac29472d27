//! Edits of texts such as boot settings: small, repeatable, and nothing else is touched. Line ends
//! and the missing newline of a last line stay as they are.

/// Where a line goes that is not there yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Spot {
    /// At the end.
    End,
    /// At the end of the section with this head, which is made if need be.
    Section(String),
    /// After this line.
    After(String),
}

/// One edit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Edit {
    /// A line is there.
    Line {
        /// The line.
        text: String,
        /// Where it goes if it is not.
        spot: Spot,
    },
    /// `key=value` holds.
    Set {
        /// The key.
        key: String,
        /// Its value.
        value: String,
        /// Only in this section.
        section: Option<String>,
    },
    /// No line sets the key.
    Unset {
        /// The key.
        key: String,
        /// Only in this section.
        section: Option<String>,
    },
    /// A line that is commented out counts.
    On(String),
    /// A line is commented out.
    Off(String),
    /// The one line has this word.
    AddWord(String),
    /// The one line has another word instead.
    ReplaceWord {
        /// The word; with `=` at its end, every word that begins so.
        old: String,
        /// What stands there then.
        new: String,
    },
    /// The one line has no such word; with `=` at its end, none that begins so.
    RemoveWord(String),
}

/// Why an edit was not made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EditFault {
    /// It is no text.
    #[error("it is not a text in UTF-8")]
    NotText,
    /// The line that it refers to is not there.
    #[error("there is no line {0:?}")]
    NoLine(String),
    /// The word that it refers to is not there.
    #[error("there is no word {0:?}")]
    NoWord(String),
    /// Words are those of a text of one line.
    #[error("it has {0} lines; words are changed in texts of one line")]
    NotOneLine(usize),
}

/// A line without its end, and the end.
#[derive(Clone, Debug)]
struct Line {
    text: String,
    end: &'static str,
}

struct Lines {
    lines: Vec<Line>,
    /// How lines end here.
    end: &'static str,
}

impl Lines {
    fn of(text: &str) -> Self {
        let mut lines = Vec::new();
        for piece in text.split_inclusive('\n') {
            let (text, end) = match piece.strip_suffix("\r\n") {
                Some(text) => (text, "\r\n"),
                None => match piece.strip_suffix('\n') {
                    Some(text) => (text, "\n"),
                    None => (piece, ""),
                },
            };
            let text = text.to_owned();
            lines.push(Line { text, end });
        }
        let dos = lines.iter().filter(|line| line.end == "\r\n").count();
        let end = if dos * 2 > lines.len() { "\r\n" } else { "\n" };
        Self { lines, end }
    }

    fn insert(&mut self, at: usize, text: &str) {
        let mut end = self.end;
        if at == self.lines.len()
            && let Some(last) = self.lines.last_mut()
            && last.end.is_empty()
        {
            // The text goes on without a newline at its end.
            last.end = self.end;
            end = "";
        }
        let text = text.to_owned();
        self.lines.insert(at, Line { text, end });
    }

    fn remove_where(&mut self, mut is_meant: impl FnMut(usize, &str) -> bool) {
        let ends_open = self.lines.last().is_some_and(|last| last.end.is_empty());
        let mut index = 0;
        self.lines.retain(|line| {
            let keep = !is_meant(index, &line.text);
            index += 1;
            keep
        });
        if let Some(last) = self.lines.last_mut().filter(|_| ends_open) {
            last.end = "";
        }
    }

    fn find(
        &self,
        range: std::ops::Range<usize>,
        is_meant: impl Fn(&str) -> bool,
    ) -> Option<usize> {
        range
            .clone()
            .find(|&index| is_meant(&self.lines[index].text))
    }

    /// Lines of a section, without its head; `None` if there is none.
    fn section(&self, name: &str) -> Option<std::ops::Range<usize>> {
        let head = self.find(0..self.lines.len(), |line| head_of(line) == Some(name))?;
        let rest = head + 1..self.lines.len();
        let end = self.find(rest, |line| head_of(line).is_some());
        Some(head + 1..end.unwrap_or(self.lines.len()))
    }

    fn range_of(&self, section: Option<&str>) -> Option<std::ops::Range<usize>> {
        match section {
            None => Some(0..self.lines.len()),
            Some(name) => self.section(name),
        }
    }

    /// Puts a line at the end of a section, before the blank lines that part it from the next.
    fn add_to_section(&mut self, name: &str, text: &str) {
        let range = match self.section(name) {
            Some(range) => range,
            None => {
                if self
                    .lines
                    .last()
                    .is_some_and(|last| !last.text.trim().is_empty())
                {
                    self.insert(self.lines.len(), "");
                }
                self.insert(self.lines.len(), &format!("[{name}]"));
                self.lines.len()..self.lines.len()
            }
        };
        let mut at = range.end;
        while at > range.start && self.lines[at - 1].text.trim().is_empty() {
            at -= 1;
        }
        self.insert(at, text);
    }

    fn into_text(self) -> String {
        let lines = self.lines.iter();
        lines
            .flat_map(|line| [line.text.as_str(), line.end])
            .collect()
    }
}

/// The name in a section's head.
fn head_of(line: &str) -> Option<&str> {
    line.trim()
        .strip_prefix('[')?
        .strip_suffix(']')
        .map(str::trim)
}

/// A line that is commented out, without the comment's sign.
fn commented(line: &str) -> Option<&str> {
    let line = line.trim_start();
    let bare = line.trim_start_matches(['#', ';']);
    (bare.len() < line.len()).then_some(bare.trim())
}

/// The key of a line that sets one.
fn key_of(line: &str) -> Option<&str> {
    let line = line.trim();
    match line.starts_with(['#', ';']) {
        true => None,
        false => line.split_once('=').map(|(key, _)| key.trim_end()),
    }
}

/// Makes the edits one after the other.
///
/// # Errors
/// The first fault; nothing is changed then.
pub fn apply(text: &[u8], edits: &[Edit]) -> Result<Vec<u8>, EditFault> {
    let text = std::str::from_utf8(text).map_err(|_| EditFault::NotText)?;
    let mut lines = Lines::of(text);
    for edit in edits {
        make(&mut lines, edit)?;
    }
    Ok(lines.into_text().into_bytes())
}

fn make(lines: &mut Lines, edit: &Edit) -> Result<(), EditFault> {
    match edit {
        Edit::Line { text, spot } => ensure_line(lines, text, spot),
        Edit::Set {
            key,
            value,
            section,
        } => {
            set(lines, key, value, section.as_deref());
            Ok(())
        }
        Edit::Unset { key, section } => {
            if let Some(range) = lines.range_of(section.as_deref()) {
                lines.remove_where(|index, line| {
                    range.contains(&index) && key_of(line) == Some(key)
                });
            }
            Ok(())
        }
        Edit::On(wanted) => switch(lines, wanted, true),
        Edit::Off(wanted) => switch(lines, wanted, false),
        Edit::AddWord(word) => change_words(lines, |words| {
            if !words.contains(word) {
                words.push(word.clone());
            }
            Ok(())
        }),
        Edit::RemoveWord(word) => change_words(lines, |words| {
            words.retain(|found| !is_word(found, word));
            Ok(())
        }),
        Edit::ReplaceWord { old, new } => {
            change_words(lines, |words| replace_word(words, old, new))
        }
    }
}

fn ensure_line(lines: &mut Lines, text: &str, spot: &Spot) -> Result<(), EditFault> {
    let is_it = |line: &str| line.trim() == text.trim();
    match spot {
        Spot::End => {
            if lines.find(0..lines.lines.len(), is_it).is_none() {
                lines.insert(lines.lines.len(), text);
            }
        }
        Spot::Section(name) => {
            let range = lines.section(name).unwrap_or(0..0);
            if lines.find(range, is_it).is_none() {
                lines.add_to_section(name, text);
            }
        }
        Spot::After(other) => {
            let all = 0..lines.lines.len();
            let after = lines.find(all.clone(), |line| line.trim() == other.trim());
            let after = after.ok_or_else(|| EditFault::NoLine(other.clone()))?;
            if lines.find(all, is_it).is_none() {
                lines.insert(after + 1, text);
            }
        }
    }
    Ok(())
}

fn set(lines: &mut Lines, key: &str, value: &str, section: Option<&str>) {
    let range = lines.range_of(section);
    let found = range
        .clone()
        .and_then(|range| lines.find(range, |line| key_of(line) == Some(key)));
    if let Some(index) = found {
        let line = &mut lines.lines[index].text;
        *line = with_value(line, value);
        return;
    }
    let new = format!("{key}={value}");
    let is_off = |line: &str| commented(line).and_then(key_of) == Some(key);
    match range.and_then(|range| lines.find(range, is_off)) {
        Some(index) => lines.insert(index + 1, &new),
        None => match section {
            Some(name) => lines.add_to_section(name, &new),
            None => lines.insert(lines.lines.len(), &new),
        },
    }
}

/// A line with another value; what stands around it is kept, a comment behind it too.
fn with_value(line: &str, value: &str) -> String {
    let Some((key, old)) = line.split_once('=') else {
        return line.to_owned();
    };
    let blank = &old[..old.len() - old.trim_start().len()];
    let is_quoted = old.trim_start().starts_with(['"', '\'']);
    let comment = old.find(" #").filter(|_| !is_quoted);
    let rest = comment.map_or("", |at| &old[old[..at].trim_end().len()..]);
    format!("{key}={blank}{value}{rest}")
}

/// Switches a line on or off that is there in one of the two forms. It is named by its text, or by
/// its key.
fn switch(lines: &mut Lines, wanted: &str, on: bool) -> Result<(), EditFault> {
    let wanted = wanted.trim();
    let is_named = |text: &str| text == wanted || key_of(text) == Some(wanted);
    let all = 0..lines.lines.len();
    let is_on = |line: &str| commented(line).is_none() && is_named(line.trim());
    let is_off = |line: &str| commented(line).is_some_and(is_named);
    match on {
        true if lines.find(all.clone(), is_on).is_some() => Ok(()),
        true => {
            let index = lines.find(all, is_off);
            let index = index.ok_or_else(|| EditFault::NoLine(wanted.to_owned()))?;
            let text = &mut lines.lines[index].text;
            let indent: String = text.chars().take_while(|c| c.is_whitespace()).collect();
            *text = format!("{indent}{}", commented(text).unwrap_or_default());
            Ok(())
        }
        false => {
            let mut found = lines.find(all.clone(), is_off).is_some();
            for line in &mut lines.lines {
                if is_on(&line.text) {
                    let bare = line.text.trim_start();
                    let indent = &line.text[..line.text.len() - bare.len()];
                    line.text = format!("{indent}# {bare}");
                    found = true;
                }
            }
            match found {
                true => Ok(()),
                false => Err(EditFault::NoLine(wanted.to_owned())),
            }
        }
    }
}

/// Whether a word is meant: the same, or one that begins so, if a key with its `=` is given.
fn is_word(found: &str, wanted: &str) -> bool {
    found == wanted || wanted.ends_with('=') && found.starts_with(wanted)
}

fn replace_word(words: &mut [String], old: &str, new: &str) -> Result<(), EditFault> {
    let mut meant = words
        .iter_mut()
        .filter(|word| is_word(word, old))
        .peekable();
    if meant.peek().is_some() {
        meant.for_each(|word| new.clone_into(word));
        return Ok(());
    }
    match words.iter().any(|word| word == new) {
        true => Ok(()),
        false => Err(EditFault::NoWord(old.to_owned())),
    }
}

/// Changes the words of a text's only line.
fn change_words(
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
    // Blanks between words stay as they are where no word changes.
    if words != before {
        lines.lines[index].text = words.join(" ");
    }
    Ok(())
}

/// Words are parted by blanks outside of double quotes.
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn line(text: &str, spot: Spot) -> Edit {
        Edit::Line {
            text: text.into(),
            spot,
        }
    }

    fn assign(key: &str, value: &str, section: Option<&str>) -> Edit {
        Edit::Set {
            key: key.into(),
            value: value.into(),
            section: section.map(str::to_owned),
        }
    }

    fn unset(key: &str) -> Edit {
        Edit::Unset {
            key: key.into(),
            section: None,
        }
    }

    fn replace(old: &str, new: &str) -> Edit {
        Edit::ReplaceWord {
            old: old.into(),
            new: new.into(),
        }
    }

    /// Every edit is made twice: the second time nothing changes.
    #[rstest]
    #[case::line_at_end("a\nb\n", line("c", Spot::End), "a\nb\nc\n")]
    #[case::line_is_there("a\n  c \nb", line("c", Spot::End), "a\n  c \nb")]
    #[case::no_newline_stays("a", line("c", Spot::End), "a\nc")]
    #[case::dos_ends("a\r\nb\r\n", line("c", Spot::End), "a\r\nb\r\nc\r\n")]
    #[case::empty("", line("c", Spot::End), "c\n")]
    #[case::after("a\nb\n", line("c", Spot::After("a".into())), "a\nc\nb\n")]
    #[case::section("[x]\na\n\n[y]\nc\n", line("c", Spot::Section("x".into())), "[x]\na\nc\n\n[y]\nc\n")]
    #[case::new_section("a\n", line("c", Spot::Section("x".into())), "a\n\n[x]\nc\n")]
    #[case::set(
        "# k\n k = 1  # why\nz=2\n",
        assign("k", "3", None),
        "# k\n k = 3  # why\nz=2\n"
    )]
    #[case::set_new("#k=1\nz=2\n", assign("k", "3", None), "#k=1\nk=3\nz=2\n")]
    #[case::set_at_end("z=2", assign("k", "3", None), "z=2\nk=3")]
    #[case::set_in_section("k=0\n[x]\nz=1\n", assign("k", "3", Some("x")), "k=0\n[x]\nz=1\nk=3\n")]
    #[case::set_quoted("k=\"a # b\"\n", assign("k", "c", None), "k=c\n")]
    #[case::unset("k=1\n#k=2\nz=3\nk=4", unset("k"), "#k=2\nz=3")]
    #[case::on("a=1\n  # b=2\n", Edit::On("b=2".into()), "a=1\n  b=2\n")]
    #[case::on_by_key(";b=2\n", Edit::On("b".into()), "b=2\n")]
    #[case::off("a=1\n\tb=2\n", Edit::Off("b".into()), "a=1\n\t# b=2\n")]
    #[case::word("x  y\n", Edit::AddWord("z=1".into()), "x y z=1\n")]
    #[case::word_is_there("x  y\n", Edit::AddWord("y".into()), "x  y\n")]
    #[case::word_of_nothing("", Edit::AddWord("y".into()), "y\n")]
    #[case::no_word("x c=1 c=2 y", Edit::RemoveWord("c=".into()), "x y")]
    #[case::quoted_words("a=\"b c\" d", Edit::RemoveWord("d".into()), "a=\"b c\"")]
    #[case::other_word("root=/dev/a rw", replace("root=", "root=LABEL=x"), "root=LABEL=x rw")]
    fn edits(#[case] before: &str, #[case] edit: Edit, #[case] after: &str) {
        let edits = [edit];
        let once = apply(before.as_bytes(), &edits).unwrap();
        assert_eq!(String::from_utf8_lossy(&once), after);
        assert_eq!(apply(&once, &edits).unwrap(), once);
    }

    #[rstest]
    #[case::after("a\n", line("c", Spot::After("b".into())), EditFault::NoLine("b".into()))]
    #[case::on("a\n", Edit::On("b".into()), EditFault::NoLine("b".into()))]
    #[case::off("a\n", Edit::Off("b".into()), EditFault::NoLine("b".into()))]
    #[case::word("a\n", replace("b", "c"), EditFault::NoWord("b".into()))]
    #[case::lines("a\nb\n", Edit::AddWord("c".into()), EditFault::NotOneLine(2))]
    fn faults(#[case] before: &str, #[case] edit: Edit, #[case] fault: EditFault) {
        assert_eq!(apply(before.as_bytes(), &[edit]), Err(fault));
    }

    #[test]
    fn bytes_that_are_no_text_are_left_alone() {
        assert_eq!(apply(b"\xff\xfe", &[]), Err(EditFault::NotText));
    }
}
