//! A TOML document whose fields are read one by one; every mistake has its line.

use std::borrow::Cow;
use std::cell::RefCell;
use std::fmt;
use std::io;
use std::ops::Range;
use std::path::Path;

use pinewrit_volume::Architecture;
pub use pinewrit_volume::nearest;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A mistake or a warning, with its line in the file.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
pub struct Remark {
    /// Line in the file, from 1.
    pub line: usize,
    /// What is wrong. Never contains a secret.
    pub what: String,
    /// What would be right.
    pub remedy: String,
}

impl fmt::Display for Remark {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "line {}: {}; {}", self.line, self.what, self.remedy)
    }
}

/// All mistakes of a file, in the order of their lines.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{} mistakes in the file", .0.len())]
pub struct Mistakes(pub Vec<Remark>);

/// The source of secrets and key files.
pub trait SecretSource {
    /// The value of an environment variable.
    fn variable(&self, name: &str) -> Option<String>;

    /// The content of a text file.
    ///
    /// # Errors
    /// The file could not be read.
    fn file(&self, path: &Path) -> io::Result<String>;

    /// Asks the user; `None` if there is nobody to ask.
    ///
    /// # Errors
    /// The answer could not be read.
    fn ask(&self, what: &str) -> io::Result<Option<String>>;
}

/// For documents that hold no secrets and name no files.
pub struct NoSecrets;

impl SecretSource for NoSecrets {
    fn variable(&self, _name: &str) -> Option<String> {
        None
    }

    fn file(&self, path: &Path) -> io::Result<String> {
        Err(io::Error::other(path.display().to_string()))
    }

    fn ask(&self, _what: &str) -> io::Result<Option<String>> {
        Ok(None)
    }
}

/// A size or place in bytes, with or without a unit.
///
/// # Errors
/// It is none.
pub fn size(text: &str) -> Result<u64, Wrong> {
    pinewrit_disk::parse_size(text).map_err(|_| {
        Wrong::new(
            format!("{text:?} is not a size"),
            "a number with its unit, such as \"8KiB\", \"256MiB\" or \"2GB\"",
        )
    })
}

/// The name of an architecture in board files and catalogues.
pub fn architecture_key(architecture: Architecture) -> &'static str {
    match architecture {
        Architecture::X86 => "x86",
        Architecture::Arm => "arm",
        other => other.word(),
    }
}

/// An architecture by that name.
///
/// # Errors
/// It is none.
pub fn architecture(text: &str) -> Result<Architecture, Wrong> {
    let mut all = Architecture::ALL.into_iter();
    let found = all.find(|one| architecture_key(*one) == text);
    found.ok_or_else(|| {
        let words: Vec<&str> = Architecture::ALL.map(architecture_key).to_vec();
        Wrong::new(format!("{text:?} is not an architecture"), words.join(", "))
    })
}

/// A value and its line.
#[derive(Clone, Debug)]
pub struct At<T> {
    /// The value.
    pub value: T,
    /// Its line, from 1.
    pub line: usize,
}

/// What a check of a single value finds wrong.
pub struct Wrong {
    /// What is wrong. Never contains a secret.
    pub what: String,
    /// What would be right.
    pub remedy: String,
}

impl Wrong {
    /// A fault and its remedy.
    pub fn new(what: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self {
            what: what.into(),
            remedy: remedy.into(),
        }
    }
}

/// Where the lines of a text begin.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Lines(Vec<usize>);

impl Lines {
    /// The lines of a text.
    pub fn of(text: &str) -> Self {
        Self(text.match_indices('\n').map(|(at, _)| at).collect())
    }

    /// The line of an offset in bytes, from 1.
    pub fn line_of(&self, offset: usize) -> usize {
        self.0.partition_point(|end| *end < offset) + 1
    }

    /// The offset at which a line begins; 0 for lines that do not exist.
    pub fn start_of(&self, line: usize) -> usize {
        let end = line.checked_sub(2).and_then(|before| self.0.get(before));
        end.map_or(0, |end| end + 1)
    }
}

/// A document being read.
pub struct Document<'t> {
    text: &'t str,
    lines: Cow<'t, Lines>,
    folder: &'t Path,
    secrets: &'t dyn SecretSource,
    mistakes: RefCell<Vec<Remark>>,
    warnings: RefCell<Vec<Remark>>,
}

impl<'t> Document<'t> {
    /// A text whose files are named relative to `folder`.
    pub fn new(text: &'t str, folder: &'t Path, secrets: &'t dyn SecretSource) -> Self {
        Self {
            text,
            lines: Cow::Owned(Lines::of(text)),
            folder,
            secrets,
            mistakes: RefCell::default(),
            warnings: RefCell::default(),
        }
    }

    /// One whose tables were read before, from a text with these lines.
    pub fn of_lines(lines: &'t Lines, folder: &'t Path, secrets: &'t dyn SecretSource) -> Self {
        Self {
            lines: Cow::Borrowed(lines),
            ..Self::new("", folder, secrets)
        }
    }

    /// The root table; `None` after mistakes of syntax.
    pub fn parse(&self) -> Option<DeTable<'t>> {
        let (root, errors) = DeTable::parse_recoverable(self.text);
        for error in &errors {
            let line = self.line_of(error.span().unwrap_or_default());
            let what = format!("this is not TOML: {}", error.message());
            self.mistake(line, what, "see the example in docs/formats.md");
        }
        errors.is_empty().then(|| root.into_inner())
    }

    /// The folder to which paths in it are relative.
    pub fn folder(&self) -> &Path {
        self.folder
    }

    /// The source of secrets and key files.
    pub fn secrets(&self) -> &dyn SecretSource {
        self.secrets
    }

    /// Reads a file that it names, relative to the document.
    ///
    /// # Errors
    /// The file could not be read.
    pub fn read_file(&self, path: &str) -> io::Result<String> {
        self.secrets.file(&self.folder.join(path))
    }

    /// Records a mistake.
    pub fn mistake(&self, line: usize, what: impl Into<String>, remedy: impl Into<String>) {
        self.mistakes.borrow_mut().push(remark(line, what, remedy));
    }

    /// Records a warning.
    pub fn warn(&self, line: usize, what: impl Into<String>, remedy: impl Into<String>) {
        self.warnings.borrow_mut().push(remark(line, what, remedy));
    }

    /// Whether any mistake has been recorded.
    pub fn has_mistakes(&self) -> bool {
        !self.mistakes.borrow().is_empty()
    }

    /// All mistakes, in the order of their lines.
    pub fn into_mistakes(self) -> Mistakes {
        Mistakes(sorted(self.mistakes.into_inner()))
    }

    /// All warnings, in the order of their lines.
    pub fn into_warnings(self) -> Vec<Remark> {
        sorted(self.warnings.into_inner())
    }

    fn line_of(&self, span: Range<usize>) -> usize {
        self.lines.line_of(span.start)
    }
}

fn remark(line: usize, what: impl Into<String>, remedy: impl Into<String>) -> Remark {
    Remark {
        line,
        what: what.into(),
        remedy: remedy.into(),
    }
}

fn sorted(mut remarks: Vec<Remark>) -> Vec<Remark> {
    remarks.sort_by_key(|remark| remark.line);
    remarks
}

/// A table whose keys are read by name.
pub struct Fields<'d, 't> {
    document: &'d Document<'t>,
    table: &'d DeTable<'t>,
    line: usize,
}

impl<'d, 't> Fields<'d, 't> {
    /// The table at `line`, called `place` in messages. Keys that are not `known` are mistakes.
    pub fn new(
        document: &'d Document<'t>,
        table: &'d DeTable<'t>,
        line: usize,
        place: &str,
        known: &[&str],
    ) -> Self {
        for key in table.keys() {
            let name: &str = key.get_ref();
            if !known.contains(&name) {
                let line = document.line_of(key.span());
                let remedy = match nearest(name, known.iter().copied()) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("known keys: {}", known.join(", ")),
                };
                document.mistake(
                    line,
                    format!("`{name}` is not a known key in {place}"),
                    remedy,
                );
            }
        }
        Self {
            document,
            table,
            line,
        }
    }

    /// Line of the table's head.
    pub fn line(&self) -> usize {
        self.line
    }

    fn get(&self, key: &str) -> Option<(&'d DeValue<'t>, usize)> {
        let value: &Spanned<DeValue<'t>> = self.table.get(key)?;
        Some((value.get_ref(), self.document.line_of(value.span())))
    }

    /// Whether the key exists, right or wrong.
    pub fn has(&self, key: &str) -> bool {
        self.table.contains_key(key)
    }

    /// Records a mistake in the table's line if the key is missing.
    pub fn must_have(&self, key: &str, what: impl Into<String>, remedy: impl Into<String>) {
        if !self.has(key) {
            self.document.mistake(self.line, what, remedy);
        }
    }

    /// Whether the key exists and is a string.
    pub fn has_text(&self, key: &str) -> bool {
        self.get(key).is_some_and(|(value, _)| value.is_str())
    }

    fn wrong_type(&self, key: &str, line: usize, found: &DeValue<'_>, wanted: &str, example: &str) {
        self.document.mistake(
            line,
            format!(
                "`{key}` is of type {}, but must be {wanted}",
                found.type_str()
            ),
            format!("write {key} = {example}"),
        );
    }

    /// A string.
    pub fn string(&self, key: &str) -> Option<At<String>> {
        let (value, line) = self.get(key)?;
        let Some(text) = value.as_str() else {
            self.wrong_type(key, line, value, "a string", "\"…\"");
            return None;
        };
        Some(At {
            value: text.to_owned(),
            line,
        })
    }

    /// A day: a date of TOML, or a string.
    pub fn day(&self, key: &str) -> Option<At<String>> {
        match self.get(key) {
            Some((DeValue::Datetime(day), line)) => Some(At {
                value: day.to_string(),
                line,
            }),
            _ => self.string(key),
        }
    }

    /// A checked value, or its mistake recorded.
    pub fn accept<T>(&self, line: usize, checked: Result<T, Wrong>) -> Option<T> {
        self.document.accept(line, checked)
    }

    /// A string that passes `check`, which may convert it.
    pub fn checked<T>(&self, key: &str, check: impl Fn(&str) -> Result<T, Wrong>) -> Option<T> {
        let at = self.string(key)?;
        self.document.accept(at.line, check(&at.value))
    }

    /// `true` or `false`.
    pub fn boolean(&self, key: &str) -> Option<At<bool>> {
        let (value, line) = self.get(key)?;
        let Some(value) = value.as_bool() else {
            self.wrong_type(key, line, value, "true or false", "true");
            return None;
        };
        Some(At { value, line })
    }

    /// A whole number in a range.
    pub fn number(&self, key: &str, range: std::ops::RangeInclusive<i64>) -> Option<i64> {
        let (value, line) = self.get(key)?;
        let number = value
            .as_integer()
            .and_then(|number| i64::from_str_radix(number.as_str(), number.radix()).ok());
        let Some(number) = number else {
            self.wrong_type(key, line, value, "a whole number", "7");
            return None;
        };
        if !range.contains(&number) {
            let what = format!("`{key}` is {number}");
            let remedy = format!("a number from {} to {}", range.start(), range.end());
            self.document.mistake(line, what, remedy);
            return None;
        }
        Some(number)
    }

    /// A string, or a list of them.
    pub fn string_or_strings(&self, key: &str) -> Vec<At<String>> {
        match self.get(key) {
            Some((value, _)) if value.is_str() => self.string(key).into_iter().collect(),
            _ => self.strings(key),
        }
    }

    /// One table, or a list of them.
    pub fn one_or_more(&self, key: &str, known: &[&str]) -> Vec<Fields<'d, 't>> {
        match self.get(key) {
            Some((value, _)) if value.is_table() => self.table(key, known).into_iter().collect(),
            _ => self.tables(key, key, known),
        }
    }

    /// A list of strings; empty if the key is absent.
    pub fn strings(&self, key: &str) -> Vec<At<String>> {
        let Some((value, line)) = self.get(key) else {
            return Vec::new();
        };
        let Some(items) = value.as_array() else {
            self.wrong_type(key, line, value, "a list", "[\"…\"]");
            return Vec::new();
        };
        let mut strings = Vec::new();
        for item in items.iter() {
            let line = self.document.line_of(item.span());
            match item.get_ref().as_str() {
                Some(text) => strings.push(At {
                    value: text.to_owned(),
                    line,
                }),
                None => self.wrong_type(key, line, item.get_ref(), "a list of strings", "[\"…\"]"),
            }
        }
        strings
    }

    /// A list of which each item is a string or a table.
    pub fn texts_or_tables(
        &self,
        key: &str,
        known: &[&str],
    ) -> Vec<Result<At<String>, Fields<'d, 't>>> {
        let Some((value, line)) = self.get(key) else {
            return Vec::new();
        };
        let Some(items) = value.as_array() else {
            self.wrong_type(key, line, value, "a list", "[\"…\"]");
            return Vec::new();
        };
        let mut found = Vec::new();
        for item in items.iter() {
            let line = self.document.line_of(item.span());
            let value: &'d DeValue<'t> = item.get_ref();
            match (value.as_str(), value.as_table()) {
                (Some(text), _) => found.push(Ok(At {
                    value: text.to_owned(),
                    line,
                })),
                (None, Some(table)) => {
                    let place = format!("an item of {key}");
                    found.push(Err(Fields::new(self.document, table, line, &place, known)));
                }
                (None, None) => self.wrong_type(key, line, value, "a list of strings", "[\"…\"]"),
            }
        }
        found
    }

    /// A table.
    pub fn table(&self, key: &str, known: &[&str]) -> Option<Fields<'d, 't>> {
        let (value, line) = self.get(key)?;
        let Some(table) = value.as_table() else {
            let example = format!("{{ … }}, or a section [{key}]");
            self.wrong_type(key, line, value, "a table", &example);
            return None;
        };
        let place = format!("[{key}]");
        Some(Fields::new(self.document, table, line, &place, known))
    }

    /// A list of tables; empty if the key is absent. `name` is its header.
    pub fn tables(&self, key: &str, name: &str, known: &[&str]) -> Vec<Fields<'d, 't>> {
        let Some((value, line)) = self.get(key) else {
            return Vec::new();
        };
        let tables = value.as_array().map(|items| {
            let table = |item: &'d Spanned<DeValue<'t>>| {
                let line = self.document.line_of(item.span());
                Some((item.get_ref().as_table()?, line))
            };
            items.iter().map(table).collect::<Option<Vec<_>>>()
        });
        let Some(Some(tables)) = tables else {
            self.document.mistake(
                line,
                format!("`{key}` must be a list of tables"),
                format!("begin each with [[{name}]]"),
            );
            return Vec::new();
        };
        let place = format!("[[{name}]]");
        tables
            .into_iter()
            .map(|(table, line)| Fields::new(self.document, table, line, &place, known))
            .collect()
    }
}

impl Document<'_> {
    /// A checked value, or its mistake recorded.
    pub fn accept<T>(&self, line: usize, checked: Result<T, Wrong>) -> Option<T> {
        checked
            .map_err(|wrong| self.mistake(line, wrong.what, wrong.remedy))
            .ok()
    }
}
