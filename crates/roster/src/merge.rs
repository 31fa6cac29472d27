//! Putting a unit's settings together: shared ones, templates, and its own values.

use std::borrow::Cow;
use std::ops::Range;
use std::path::Path;

use toml::Spanned;
use toml::de::{DeArray, DeTable, DeValue};

use crate::fill::{Filling, Values};

/// Keys whose values are secrets in clear.
const PLAIN: &[&str] = &["passphrase"];
/// Keys whose values must not be shown, and take no part in a unit's digest.
const SECRET: &[&str] = &["passphrase", "password-hash"];

/// Where secrets stand in a table themselves, and not where they can be found.
pub(crate) fn secrets_in(table: &DeTable<'_>) -> Vec<usize> {
    let mut found = Vec::new();
    for (key, value) in table {
        match value.get_ref() {
            DeValue::String(_) if PLAIN.contains(&key.get_ref().as_ref()) => {
                found.push(value.span().start);
            }
            DeValue::Table(inner) => found.extend(secrets_in(inner)),
            DeValue::Array(items) => {
                let tables = items.iter().filter_map(|item| item.get_ref().as_table());
                found.extend(tables.flat_map(secrets_in));
            }
            _ => {}
        }
    }
    found
}

/// Puts `own` over `base`: tables are merged key by key, anything else replaces what was there. A
/// table over a list of exactly one table is merged into that.
pub(crate) fn lay_over<'t>(base: &mut DeTable<'t>, own: &DeTable<'t>) {
    for (key, value) in own {
        let name: &str = key.get_ref();
        match (base.get_mut(name).map(Spanned::get_mut), value.get_ref()) {
            (Some(DeValue::Table(below)), DeValue::Table(above)) => lay_over(below, above),
            (Some(DeValue::Array(items)), DeValue::Table(above)) if is_one_table(items) => {
                if let Some(DeValue::Table(below)) = items.iter_mut().next().map(Spanned::get_mut) {
                    lay_over(below, above);
                }
            }
            _ => {
                base.insert(key.clone(), value.clone());
            }
        }
    }
}

fn is_one_table(items: &DeArray<'_>) -> bool {
    items.len() == 1 && items.iter().all(|item| item.get_ref().is_table())
}

/// Why a value cannot be put at a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct NoSuchPlace(pub(crate) String);

/// Puts a value at a dotted path, such as `wired.addresses`. A number in the path chooses one of
/// several tables of a list, from 1; it can be left out if there is one.
pub(crate) fn put<'t>(
    table: &mut DeTable<'t>,
    path: &[&str],
    value: DeValue<'t>,
    span: Range<usize>,
) -> Result<(), NoSuchPlace> {
    let Some((first, rest)) = path.split_first() else {
        return Ok(());
    };
    if rest.is_empty() {
        let key = Spanned::new(span.clone(), Cow::Owned((*first).to_owned()));
        table.insert(key, Spanned::new(span, value));
        return Ok(());
    }
    if !table.contains_key(*first) {
        let key = Spanned::new(span.clone(), Cow::Owned((*first).to_owned()));
        let empty = DeValue::Table(DeTable::new());
        table.insert(key, Spanned::new(span.clone(), empty));
    }
    match table.get_mut(*first).map(Spanned::get_mut) {
        Some(DeValue::Table(inner)) => put(inner, rest, value, span),
        Some(DeValue::Array(items)) => put_in_list(items, first, rest, value, span),
        _ => Err(NoSuchPlace(format!("`{first}` is not a table"))),
    }
}

fn put_in_list<'t>(
    items: &mut DeArray<'t>,
    name: &str,
    rest: &[&str],
    value: DeValue<'t>,
    span: Range<usize>,
) -> Result<(), NoSuchPlace> {
    let number = rest.first().and_then(|step| step.parse::<usize>().ok());
    let count = items.len();
    let (nth, rest) = match number {
        Some(number) => (number, &rest[1..]),
        None if count == 1 => (1, rest),
        None => {
            let what = format!("there are {count} [[{name}]]; say which, as in `{name}.1`");
            return Err(NoSuchPlace(what));
        }
    };
    let item = nth.checked_sub(1).and_then(|index| items.get_mut(index));
    match item.map(Spanned::get_mut) {
        Some(DeValue::Table(inner)) => put(inner, rest, value, span),
        _ => Err(NoSuchPlace(format!("there is no {name}.{nth}"))),
    }
}

/// Fills the placeholders of all strings in a table.
pub(crate) fn fill<'t>(
    table: &DeTable<'t>,
    values: &Values<'_>,
    wrong: &mut dyn FnMut(usize, Filling),
) -> DeTable<'t> {
    let entries = table
        .iter()
        .map(|(key, value)| (key.clone(), fill_value(value, values, wrong)));
    entries.collect()
}

fn fill_value<'t>(
    value: &Spanned<DeValue<'t>>,
    values: &Values<'_>,
    wrong: &mut dyn FnMut(usize, Filling),
) -> Spanned<DeValue<'t>> {
    let filled = match value.get_ref() {
        DeValue::String(text) => match values.fill(text) {
            Ok(filled) => DeValue::String(filled.into()),
            Err(error) => {
                wrong(value.span().start, error);
                value.get_ref().clone()
            }
        },
        DeValue::Table(table) => DeValue::Table(fill(table, values, wrong)),
        DeValue::Array(items) => {
            let items = items.iter().map(|item| fill_value(item, values, wrong));
            DeValue::Array(items.collect())
        }
        other => other.clone(),
    };
    Spanned::new(value.span(), filled)
}

/// Makes the paths of files in a table absolute, or relative to another folder.
pub(crate) fn from_folder<'t>(table: &mut DeTable<'t>, folder: &Path) {
    if folder.as_os_str().is_empty() {
        return;
    }
    for (key, value) in table.iter_mut() {
        let is_path = names_a_file(key.get_ref());
        match value.get_mut() {
            DeValue::String(text) if is_path => *text = inside(folder, text).into(),
            DeValue::Table(inner) => from_folder(inner, folder),
            DeValue::Array(items) => {
                for item in items.iter_mut() {
                    match item.get_mut() {
                        DeValue::String(text) if is_path => *text = inside(folder, text).into(),
                        DeValue::Table(inner) => from_folder(inner, folder),
                        _ => {}
                    }
                }
            }
            _ => {}
        }
    }
}

fn names_a_file(key: &str) -> bool {
    key == "from" || key.ends_with("-file") || key.ends_with("-files")
}

fn inside(folder: &Path, text: &str) -> String {
    folder.join(text).to_string_lossy().into_owned()
}

/// All values of a table in one line each, by their paths; secrets are left out.
pub(crate) fn flat(table: &DeTable<'_>) -> Vec<(String, String)> {
    let mut all = Vec::new();
    flatten(table, "", &mut all);
    all
}

fn flatten(table: &DeTable<'_>, before: &str, all: &mut Vec<(String, String)>) {
    for (key, value) in table {
        let key: &str = key.get_ref();
        if SECRET.contains(&key) {
            continue;
        }
        let path = match before {
            "" => key.to_owned(),
            before => format!("{before}.{key}"),
        };
        flatten_value(value.get_ref(), path, all);
    }
}

fn flatten_value(value: &DeValue<'_>, path: String, all: &mut Vec<(String, String)>) {
    match value {
        DeValue::Table(inner) => flatten(inner, &path, all),
        DeValue::Array(items) if items.iter().any(|item| item.get_ref().is_table()) => {
            let several = items.len() > 1;
            for (item, number) in items.iter().zip(1..) {
                let path = if several {
                    format!("{path}.{number}")
                } else {
                    path.clone()
                };
                flatten_value(item.get_ref(), path, all);
            }
        }
        DeValue::Array(items) => {
            let items: Vec<String> = items.iter().map(|item| plain(item.get_ref())).collect();
            all.push((path, items.join(", ")));
        }
        other => all.push((path, plain(other))),
    }
}

fn plain(value: &DeValue<'_>) -> String {
    match value {
        DeValue::String(text) => text.to_string(),
        DeValue::Integer(number) => number.to_string(),
        DeValue::Float(number) => number.to_string(),
        DeValue::Boolean(value) => value.to_string(),
        DeValue::Datetime(time) => time.to_string(),
        DeValue::Array(_) | DeValue::Table(_) => String::new(),
    }
}
