//! The files of a roster as one text, whose lines and offsets count on from file to file.

use std::ops::Range;

use pinewrit_settings::document::Lines;
use toml::Spanned;
use toml::de::{DeArray, DeTable, DeValue};

use crate::{Place, RosterMistake};

/// Several files, one behind the other. Spans of values refer to the whole.
#[derive(Clone, Debug, Default)]
pub(crate) struct Texts {
    whole: String,
    /// The name of each file, its first byte and its first line, from 1.
    files: Vec<(String, usize, usize)>,
}

impl Texts {
    /// The line after all files so far.
    pub(crate) fn first_line(&self) -> usize {
        self.whole.matches('\n').count() + 1
    }

    /// Appends a file; returns the offset of its first byte.
    pub(crate) fn add(&mut self, name: &str, text: &str) -> usize {
        let start = self.whole.len();
        let line = self.first_line();
        self.files.push((name.to_owned(), start, line));
        self.whole.push_str(text);
        if !text.ends_with('\n') {
            self.whole.push('\n');
        }
        start
    }

    /// The lines of all of them.
    pub(crate) fn lines(&self) -> Lines {
        Lines::of(&self.whole)
    }

    /// The file and line of a line that was counted over all files.
    pub(crate) fn place(&self, line: usize) -> Place {
        let file = self.files.iter().rev().find(|(_, _, first)| *first <= line);
        match file {
            Some((name, _, first)) => Place {
                file: name.clone(),
                line: line - first + 1,
            },
            None => Place {
                file: String::new(),
                line,
            },
        }
    }

    /// A mistake at a line that was counted over all files.
    pub(crate) fn mistake(
        &self,
        line: usize,
        what: impl Into<String>,
        remedy: impl Into<String>,
    ) -> RosterMistake {
        RosterMistake {
            place: self.place(line),
            what: what.into(),
            remedy: remedy.into(),
        }
    }
}

/// A table whose spans are moved by `by` bytes.
pub(crate) fn shifted<'t>(table: &DeTable<'t>, by: usize) -> DeTable<'t> {
    let entries = table.iter().map(|(key, value)| {
        let name = key.get_ref().clone();
        (
            Spanned::new(moved(key.span(), by), name),
            shifted_value(value, by),
        )
    });
    entries.collect()
}

fn shifted_value<'t>(value: &Spanned<DeValue<'t>>, by: usize) -> Spanned<DeValue<'t>> {
    let inner = match value.get_ref() {
        DeValue::Table(table) => DeValue::Table(shifted(table, by)),
        DeValue::Array(items) => {
            let items: DeArray<'t> = items.iter().map(|item| shifted_value(item, by)).collect();
            DeValue::Array(items)
        }
        other => other.clone(),
    };
    Spanned::new(moved(value.span(), by), inner)
}

fn moved(span: Range<usize>, by: usize) -> Range<usize> {
    span.start + by..span.end + by
}
