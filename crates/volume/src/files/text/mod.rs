//! Edits of texts such as boot settings: small and repeatable, leaving everything else alone. Line
//! endings and a missing final newline stay as they are.

mod kind;
mod lines;
mod words;

use kind::Form;
pub use kind::TextKind;
use lines::{Lines, commented};
use words::{change_words, is_word, replace_word};

/// Where to put a line that does not exist yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Spot {
    /// At the end.
    End,
    /// At the end of the section with this head, which is added if necessary.
    Section(String),
    /// After this line.
    After(String),
}

/// One edit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Edit {
    /// A line exists.
    Line {
        /// The line.
        text: String,
        /// Where to put it if it does not exist.
        spot: Spot,
    },
    /// `key=value` is set, in the form of the text's kind.
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
    /// No line has this text.
    RemoveLine(String),
    /// No block has this head.
    RemoveBlock(String),
    /// A commented-out line becomes active.
    On(String),
    /// A line is commented out.
    Off(String),
    /// The one line has this word.
    AddWord(String),
    /// The one line has another word instead.
    ReplaceWord {
        /// The word; with `=` at its end, every word that begins like this.
        old: String,
        /// Its replacement.
        new: String,
    },
    /// The one line has no such word; with `=` at its end, none that begins like this.
    RemoveWord(String),
}

/// Why an edit was not made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EditFault {
    /// It is not text.
    #[error("it is not a text in UTF-8")]
    NotText,
    /// The line that it refers to does not exist.
    #[error("there is no line {0:?}")]
    NoLine(String),
    /// The block or section that it refers to does not exist.
    #[error("there is no block or section {0:?}")]
    NoBlock(String),
    /// No line sets the key.
    #[error("no line sets {0:?}")]
    NoKey(String),
    /// The word that it refers to does not exist.
    #[error("there is no word {0:?}")]
    NoWord(String),
    /// Words exist only in texts of one line.
    #[error("it has {0} lines; words are changed in texts of one line")]
    NotOneLine(usize),
}

impl EditFault {
    /// Whether there was nothing to do, because what should be removed is missing.
    pub fn is_absent(&self, edit: &Edit) -> bool {
        let removes = matches!(
            edit,
            Edit::Unset { .. } | Edit::RemoveLine(_) | Edit::RemoveBlock(_) | Edit::RemoveWord(_)
        );
        removes && !matches!(self, Self::NotText | Self::NotOneLine(_))
    }

    /// Whether the fault is that what the edit refers to is missing.
    pub fn is_missing(&self) -> bool {
        !matches!(self, Self::NotText | Self::NotOneLine(_))
    }
}

/// Makes the edits one after the other, in a text whose kind is recognised.
///
/// # Errors
/// The first fault; nothing is changed then.
pub fn apply(text: &[u8], edits: &[Edit]) -> Result<Vec<u8>, EditFault> {
    apply_as(text, edits, None)
}

/// The same in a text of this kind.
///
/// # Errors
/// The first fault; nothing is changed then.
pub fn apply_as(text: &[u8], edits: &[Edit], kind: Option<TextKind>) -> Result<Vec<u8>, EditFault> {
    let text = std::str::from_utf8(text).map_err(|_| EditFault::NotText)?;
    let mut lines = Lines::of(text);
    let form = Form::of(kind.unwrap_or_else(|| TextKind::of(&lines)));
    for edit in edits {
        make(&mut lines, edit, form)?;
    }
    Ok(lines.into_text().into_bytes())
}

fn make(lines: &mut Lines, edit: &Edit, form: Form) -> Result<(), EditFault> {
    match edit {
        Edit::Line { text, spot } => ensure_line(lines, text, spot, form),
        Edit::Set {
            key,
            value,
            section,
        } => set(lines, form, (key, value), section.as_deref()),
        Edit::Unset { key, section } => unset(lines, form, key, section.as_deref()),
        Edit::RemoveLine(text) => {
            let count = lines.lines.len();
            lines.remove_where(|_, line| line.trim() == text.trim());
            if lines.lines.len() < count {
                Ok(())
            } else {
                Err(EditFault::NoLine(text.clone()))
            }
        }
        Edit::RemoveBlock(head) => {
            let block = form.block(lines, head);
            let block = block.ok_or_else(|| EditFault::NoBlock(head.clone()))?;
            lines.remove_where(|index, _| block.contains(&index));
            Ok(())
        }
        Edit::On(wanted) => switch(lines, form, wanted, true),
        Edit::Off(wanted) => switch(lines, form, wanted, false),
        Edit::AddWord(word) => change_words(lines, |words| {
            if !words.contains(word) {
                words.push(word.clone());
            }
            Ok(())
        }),
        Edit::RemoveWord(word) => change_words(lines, |words| {
            let count = words.len();
            words.retain(|found| !is_word(found, word));
            if words.len() < count {
                Ok(())
            } else {
                Err(EditFault::NoWord(word.clone()))
            }
        }),
        Edit::ReplaceWord { old, new } => {
            change_words(lines, |words| replace_word(words, old, new))
        }
    }
}

fn ensure_line(lines: &mut Lines, text: &str, spot: &Spot, form: Form) -> Result<(), EditFault> {
    let is_it = |line: &str| line.trim() == text.trim();
    match spot {
        Spot::End => {
            if lines.find(0..lines.lines.len(), is_it).is_none() {
                lines.insert(lines.lines.len(), text);
            }
        }
        Spot::Section(name) => {
            let range = form.inside(lines, name);
            let is_there = range.clone().and_then(|range| lines.find(range, is_it));
            if is_there.is_none() {
                form.add(lines, Some((name, range)), text)?;
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

fn set(
    lines: &mut Lines,
    form: Form,
    (key, value): (&str, &str),
    section: Option<&str>,
) -> Result<(), EditFault> {
    let range = match section {
        None => Some(form.outside(lines)),
        Some(name) => form.inside(lines, name),
    };
    let found = range
        .clone()
        .and_then(|range| lines.find(range, |line| form.sets(line, key)));
    if let Some(index) = found {
        let line = &mut lines.lines[index].text;
        *line = form.with_value(line, value);
        return Ok(());
    }
    let new = form.line(lines, key, value, section.is_some());
    let is_off = |line: &str| commented(line).is_some_and(|line| form.sets(line, key));
    match range.clone().and_then(|range| lines.find(range, is_off)) {
        Some(index) => lines.insert(index + 1, &new),
        None => form.add(lines, section.map(|name| (name, range)), &new)?,
    }
    Ok(())
}

fn unset(lines: &mut Lines, form: Form, key: &str, section: Option<&str>) -> Result<(), EditFault> {
    let range = match section {
        None if form.has_sections_of_assignments() => 0..lines.lines.len(),
        None => form.outside(lines),
        Some(name) => {
            let range = form.inside(lines, name);
            range.ok_or_else(|| EditFault::NoBlock(name.to_owned()))?
        }
    };
    let count = lines.lines.len();
    lines.remove_where(|index, line| range.contains(&index) && form.sets(line, key));
    if lines.lines.len() < count {
        Ok(())
    } else {
        Err(EditFault::NoKey(key.to_owned()))
    }
}

/// Activates a line or comments it out. It is named by its text, or by its key.
fn switch(lines: &mut Lines, form: Form, wanted: &str, on: bool) -> Result<(), EditFault> {
    let wanted = wanted.trim();
    let is_named = |text: &str| text == wanted || form.sets(text, wanted);
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
            if found {
                Ok(())
            } else {
                Err(EditFault::NoLine(wanted.to_owned()))
            }
        }
    }
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

    /// Every edit is made twice: the second time nothing changes, or what should be removed is
    /// missing.
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
    #[case::pair(
        "timeout 3\n\nlabel a\n  linux /a\n",
        assign("timeout", "5", None),
        "timeout 5\n\nlabel a\n  linux /a\n"
    )]
    #[case::pair_case(
        "TIMEOUT  30 # s\nDEFAULT a\n",
        assign("timeout", "5", None),
        "TIMEOUT  5 # s\nDEFAULT a\n"
    )]
    #[case::new_pair(
        "default a\n\nlabel a\n  linux /a\n",
        assign("timeout", "5", None),
        "default a\ntimeout 5\n\nlabel a\n  linux /a\n"
    )]
    #[case::pair_in_block(
        "default a\nlabel a\n  linux /a\n\nlabel b\n  linux /b\n",
        assign("append", "quiet", Some("label a")),
        "default a\nlabel a\n  linux /a\n  append quiet\n\nlabel b\n  linux /b\n"
    )]
    #[case::block_by_name(
        "label a\n\tlinux /a\nlabel b\n\tlinux /b\n",
        assign("linux", "/c", Some("b")),
        "label a\n\tlinux /a\nlabel b\n\tlinux /c\n"
    )]
    #[case::braces(
        "set timeout=3\nmenuentry \"Hut\" {\n  linux /a quiet\n}\n",
        assign("timeout", "5", None),
        "set timeout=5\nmenuentry \"Hut\" {\n  linux /a quiet\n}\n"
    )]
    #[case::new_in_braces(
        "set default=0\n\nmenuentry \"Hut\" {\n  linux /a\n}\n",
        assign("timeout", "5", None),
        "set default=0\nset timeout=5\n\nmenuentry \"Hut\" {\n  linux /a\n}\n"
    )]
    #[case::inside_braces(
        "menuentry 'Hut' {\n  linux /a quiet\n}\n",
        assign("linux", "/b", Some("Hut")),
        "menuentry 'Hut' {\n  linux /b\n}\n"
    )]
    #[case::unset("k=1\n#k=2\nz=3\nk=4", unset("k"), "#k=2\nz=3")]
    #[case::unset_pair("default a\ntimeout 5\n", unset("timeout"), "default a\n")]
    #[case::no_line("a\nentry b\nc\n", Edit::RemoveLine("entry b".into()), "a\nc\n")]
    #[case::no_block("default a\nlabel a\n  x 1\n\nlabel b\n  x 2\n", Edit::RemoveBlock("label a".into()), "default a\nlabel b\n  x 2\n")]
    #[case::no_last_block("default a\n\nlabel a\n  x 1\n\nlabel b\n  x 2\n", Edit::RemoveBlock("b".into()), "default a\n\nlabel a\n  x 1\n")]
    #[case::no_braces("a=1\nmenuentry \"B\" {\n if x {\n }\n}\nc=1\n", Edit::RemoveBlock("menuentry \"B\"".into()), "a=1\nc=1\n")]
    #[case::no_section("a=1\n\n[x]\nb=2\n", Edit::RemoveBlock("[x]".into()), "a=1\n")]
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
        match apply(&once, &edits) {
            Ok(twice) => assert_eq!(twice, once),
            Err(fault) => assert!(fault.is_absent(&edits[0]), "{fault}"),
        }
    }

    #[rstest]
    #[case::after("a\n", line("c", Spot::After("b".into())), EditFault::NoLine("b".into()))]
    #[case::on("a\n", Edit::On("b".into()), EditFault::NoLine("b".into()))]
    #[case::off("a\n", Edit::Off("b".into()), EditFault::NoLine("b".into()))]
    #[case::word("a\n", replace("b", "c"), EditFault::NoWord("b".into()))]
    #[case::key("a=1\n", unset("b"), EditFault::NoKey("b".into()))]
    #[case::block("a 1\nlabel x\n  b 1\n", Edit::RemoveBlock("label y".into()), EditFault::NoBlock("label y".into()))]
    #[case::set_in_no_block("a 1\nlabel x\n  b 1\n", assign("b", "2", Some("y")), EditFault::NoBlock("y".into()))]
    #[case::lines("a\nb\n", Edit::AddWord("c".into()), EditFault::NotOneLine(2))]
    fn faults(#[case] before: &str, #[case] edit: Edit, #[case] fault: EditFault) {
        assert_eq!(apply(before.as_bytes(), &[edit]), Err(fault));
    }

    #[test]
    fn bytes_that_are_no_text_are_left_alone() {
        assert_eq!(apply(b"\xff\xfe", &[]), Err(EditFault::NotText));
    }
}
