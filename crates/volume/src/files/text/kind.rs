//! The structure of a text: it decides what a key is, where a block ends, and where a new line
//! goes.

use std::ops::Range;

use super::EditFault;
use super::lines::{Lines, commented, head_of, key_of};

/// The structure of a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TextKind {
    /// `key=value` lines.
    Assignments,
    /// `key value` lines.
    Pairs,
    /// `key=value` lines in sections with heads in brackets.
    Sections,
    /// `key value` lines; a block begins with a keyword such as `label`, and ends where the next begins.
    Blocks,
    /// Settings, and blocks in braces, such as `menuentry "…" {`.
    Braces,
}

/// Keywords with which blocks begin, in lower case.
const KEYWORDS: [&str; 7] = [
    "label",
    "entry",
    "host",
    "match",
    "image",
    "iface",
    "interface",
];

impl TextKind {
    /// All kinds, by their words.
    pub const ALL: [(&'static str, Self); 5] = [
        ("assignments", Self::Assignments),
        ("pairs", Self::Pairs),
        ("sections", Self::Sections),
        ("blocks", Self::Blocks),
        ("braces", Self::Braces),
    ];

    /// The kind that a text looks like.
    pub(super) fn of(lines: &Lines) -> Self {
        let texts = lines.lines.iter().map(|line| line.text.trim());
        let counts = |text: &&str| !text.is_empty() && commented(text).is_none();
        let texts: Vec<&str> = texts.filter(counts).collect();
        let has = |is_meant: &dyn Fn(&str) -> bool| texts.iter().any(|text| is_meant(text));
        if has(&|text| text.ends_with('{')) && has(&|text| text.starts_with('}')) {
            return Self::Braces;
        }
        if has(&|text| head_of(text).is_some()) {
            return Self::Sections;
        }
        let pairs = texts.iter().filter(|text| is_pair(text)).count();
        let is_one_line = texts.len() < 2;
        match pairs * 2 > texts.len() && !is_one_line {
            true if has(&|text| is_keyword(text)) => Self::Blocks,
            true => Self::Pairs,
            false => Self::Assignments,
        }
    }
}

/// A word, blanks, and something other than `=`.
fn is_pair(text: &str) -> bool {
    let Some((key, value)) = text.split_once(char::is_whitespace) else {
        return false;
    };
    !key.contains('=') && !value.trim_start().starts_with('=')
}

fn is_keyword(text: &str) -> bool {
    let mut words = text.split_whitespace();
    let first = words.next().unwrap_or_default().to_ascii_lowercase();
    KEYWORDS.contains(&first.as_str()) && words.next().is_some()
}

/// A head without quotation marks and brackets, its words separated by single blanks.
fn plain_head(text: &str) -> String {
    let text = text.trim().trim_end_matches('{');
    let text = text.replace(['"', '\'', '[', ']'], " ");
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Whether a block's head is meant, whole or without its keyword.
fn is_head(line: &str, wanted: &str) -> bool {
    let (head, wanted) = (plain_head(line), plain_head(wanted));
    let name = head.split_once(' ').map_or("", |(_, name)| name);
    // What follows a quoted name are options.
    let quoted = line.split(['"', '\'']).nth(1).map(plain_head);
    let keyword = head.split(' ').next().unwrap_or_default();
    let with_keyword = quoted.as_ref().map(|quoted| format!("{keyword} {quoted}"));
    head.eq_ignore_ascii_case(&wanted)
        || name == wanted
        || quoted.is_some_and(|quoted| quoted == wanted)
        || with_keyword.is_some_and(|head| head.eq_ignore_ascii_case(&wanted))
}

/// How lines of one kind are read and written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Form {
    kind: TextKind,
}

impl Form {
    pub(super) fn of(kind: TextKind) -> Self {
        Self { kind }
    }

    /// Without a named section, keys in all sections are meant.
    pub(super) fn has_sections_of_assignments(self) -> bool {
        matches!(self.kind, TextKind::Assignments | TextKind::Sections)
    }

    /// Whether a line sets the key.
    pub(super) fn sets(self, line: &str, key: &str) -> bool {
        self.split(line).is_some_and(|parts| {
            if parts.blank.is_empty() {
                parts.key == key
            } else {
                // Such texts are case-insensitive.
                parts.key.eq_ignore_ascii_case(key)
            }
        })
    }

    fn split(self, line: &str) -> Option<Parts<'_>> {
        let text = line.trim();
        if text.is_empty() || commented(text).is_some() {
            return None;
        }
        let assigned = || {
            let key = key_of(line)?;
            let key = match self.kind {
                TextKind::Braces => key.strip_prefix("set ").unwrap_or(key).trim(),
                _ => key,
            };
            Some(Parts { key, blank: "" })
        };
        match self.kind {
            TextKind::Assignments | TextKind::Sections => assigned(),
            TextKind::Braces if !is_pair(text) || text.starts_with("set ") => assigned(),
            _ => {
                let (key, rest) = text.split_once(char::is_whitespace)?;
                let at = key.len();
                let len = text.len() - at - rest.trim_start().len();
                Some(Parts {
                    key,
                    blank: text.get(at..at + len)?,
                })
            }
        }
    }

    /// A line with another value; what surrounds it is kept, including a trailing comment.
    pub(super) fn with_value(self, line: &str, value: &str) -> String {
        let Some(parts) = self.split(line) else {
            return line.to_owned();
        };
        let (before, old) = if parts.blank.is_empty() {
            match line.split_once('=') {
                Some((key, old)) => {
                    let blank = &old[..old.len() - old.trim_start().len()];
                    (format!("{key}={blank}"), old)
                }
                None => return line.to_owned(),
            }
        } else {
            let indent = &line[..line.len() - line.trim_start().len()];
            let start = indent.len() + parts.key.len() + parts.blank.len();
            (line[..start].to_owned(), &line[start..])
        };
        let is_quoted = old.trim_start().starts_with(['"', '\'']);
        let comment = old.find(" #").filter(|_| !is_quoted);
        let rest = comment.map_or("", |at| &old[old[..at].trim_end().len()..]);
        format!("{before}{value}{rest}")
    }

    /// A new line that sets a key.
    pub(super) fn line(self, lines: &Lines, key: &str, value: &str, is_inside: bool) -> String {
        match self.kind {
            TextKind::Assignments | TextKind::Sections => format!("{key}={value}"),
            TextKind::Pairs | TextKind::Blocks => format!("{key} {value}"),
            TextKind::Braces if is_inside => format!("{key} {value}"),
            TextKind::Braces => {
                let mut texts = lines.lines.iter().map(|line| line.text.trim_start());
                if texts.any(|text| text.starts_with("set ")) {
                    format!("set {key}={value}")
                } else {
                    format!("{key}={value}")
                }
            }
        }
    }

    fn is_start(self, line: &str) -> bool {
        match self.kind {
            TextKind::Assignments | TextKind::Pairs => false,
            TextKind::Sections => head_of(line).is_some(),
            TextKind::Blocks => is_keyword(line.trim()),
            TextKind::Braces => line.trim_end().ends_with('{') && commented(line).is_none(),
        }
    }

    /// Lines before the first block; all lines in texts without blocks.
    pub(super) fn outside(self, lines: &Lines) -> Range<usize> {
        let all = 0..lines.lines.len();
        match self.kind {
            // Keys of sections are found wherever they are.
            TextKind::Sections => all,
            _ => {
                let first = lines.find(all.clone(), |line| self.is_start(line));
                0..first.unwrap_or(all.end)
            }
        }
    }

    /// A block with its head and its end.
    pub(super) fn block(self, lines: &Lines, wanted: &str) -> Option<Range<usize>> {
        let count = lines.lines.len();
        let is_meant = |line: &str| self.is_start(line) && is_head(line, wanted);
        let start = lines.find(0..count, is_meant)?;
        let end = match self.kind {
            TextKind::Braces => self.closing(lines, start)? + 1,
            _ => {
                let next = lines.find(start + 1..count, |line| self.is_start(line));
                next.unwrap_or(count)
            }
        };
        // The last block includes the blank lines before it.
        let is_blank = |index: usize| lines.lines[index].text.trim().is_empty();
        let mut start = start;
        while end == count && start > 0 && is_blank(start - 1) {
            start -= 1;
        }
        Some(start..end)
    }

    fn closing(self, lines: &Lines, start: usize) -> Option<usize> {
        let mut depth = 0_usize;
        for (index, line) in lines.lines.iter().enumerate().skip(start) {
            let text = line.text.trim();
            if commented(text).is_some() {
                continue;
            }
            if text.starts_with('}') {
                depth = depth.checked_sub(1)?;
                if depth == 0 {
                    return Some(index);
                }
            }
            if text.ends_with('{') {
                depth += 1;
            }
        }
        None
    }

    /// Lines of a block, without its head and end.
    pub(super) fn inside(self, lines: &Lines, wanted: &str) -> Option<Range<usize>> {
        let section = || lines.section(plain_head(wanted).as_str());
        match self.kind {
            TextKind::Assignments | TextKind::Sections | TextKind::Pairs => section(),
            TextKind::Blocks | TextKind::Braces => {
                let count = lines.lines.len();
                let is_meant = |line: &str| self.is_start(line) && is_head(line, wanted);
                let start = lines.find(0..count, is_meant)?;
                let block = self.block(lines, wanted)?;
                let tail = usize::from(self.kind == TextKind::Braces);
                Some(start + 1..block.end.saturating_sub(tail))
            }
        }
    }

    /// Adds a line to a block, or before all blocks.
    pub(super) fn add(
        self,
        lines: &mut Lines,
        block: Option<(&str, Option<Range<usize>>)>,
        text: &str,
    ) -> Result<(), EditFault> {
        let has_blocks = matches!(self.kind, TextKind::Blocks | TextKind::Braces);
        let range = match (block, has_blocks) {
            (Some((name, _)), false) => {
                lines.add_to_section(name, text);
                return Ok(());
            }
            (Some((name, None)), true) => return Err(EditFault::NoBlock(name.to_owned())),
            (Some((_, Some(range))), true) => range,
            (None, true) => self.outside(lines),
            (None, false) => {
                lines.insert(lines.lines.len(), text);
                return Ok(());
            }
        };
        let mut at = range.end;
        while at > range.start && lines.lines[at - 1].text.trim().is_empty() {
            at -= 1;
        }
        let like = if at > range.start {
            lines.lines[at - 1].text.as_str()
        } else {
            ""
        };
        let indent = &like[..like.len() - like.trim_start().len()];
        let text = format!("{indent}{text}");
        lines.insert(at, &text);
        Ok(())
    }
}

/// The key of a line, and the blanks between it and its value, if blanks separate them.
struct Parts<'l> {
    key: &'l str,
    blank: &'l str,
}
