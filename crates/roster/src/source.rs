//! Where units come from: tables of the roster, rows of a table in CSV, counting.

use std::path::Path;

use pinewrit_settings::Remark;
use pinewrit_settings::document::{Document, Fields, Lines, nearest};
use toml::de::{DeTable, DeValue};

use crate::Content;
use crate::count::counted;
use crate::fill::Values;
use crate::head::{self, Head};
use crate::sheet::{Cell, Sheet};

const UNIT: &[&str] = &["name", "image", "checksum", "settings", "my"];
/// Settings that are lists, by the last part of their path.
const LISTS: &[&str] = &[
    "addresses",
    "dns",
    "search",
    "routes",
    "bridge",
    "bond",
    "groups",
    "ssh-key-files",
    "time-servers",
];
/// Lists whose items contain spaces: one a line of the cell.
const LINES: &[&str] = &["ssh-keys"];
/// The most characters of a text that is taken for a number.
const MAX_NUMBER: usize = 18;

/// A unit before its settings are put together.
pub(crate) struct RawUnit<'t> {
    pub(crate) name: String,
    /// Line and offset in the text of all files.
    pub(crate) line: usize,
    pub(crate) offset: usize,
    pub(crate) placeholders: Vec<(String, String)>,
    pub(crate) own: DeTable<'t>,
    /// Values by their paths, with their offsets.
    pub(crate) cells: Vec<(String, DeValue<'t>, usize)>,
    pub(crate) image: Option<Content>,
}

impl<'t> RawUnit<'t> {
    fn new(name: String, (line, offset): (usize, usize), number: u64) -> Self {
        let placeholders = vec![
            ("n".to_owned(), number.to_string()),
            ("unit".to_owned(), name.clone()),
        ];
        Self {
            name,
            line,
            offset,
            placeholders,
            own: DeTable::new(),
            cells: Vec::new(),
            image: None,
        }
    }
}

/// The units in `[[unit]]`.
pub(crate) fn units_of_tables<'t>(
    document: &Document<'t>,
    root: &DeTable<'t>,
    head: &Head,
) -> Vec<RawUnit<'t>> {
    let top = Fields::new(document, root, 1, "", &all_keys(root));
    let tables = top.tables("unit", "unit", UNIT);
    let raw = root
        .get("unit")
        .and_then(|value| value.get_ref().as_array());
    let items = raw.into_iter().flat_map(|items| items.iter());
    let mut units = Vec::new();
    for ((fields, item), number) in tables.iter().zip(items).zip(1..) {
        let Some(table) = item.get_ref().as_table() else {
            continue;
        };
        fields.must_have("name", "a unit without a name", "name = \"larkfell-03\"");
        let Some(name) = fields.checked("name", head::name) else {
            continue;
        };
        let mut unit = RawUnit::new(name, (fields.line(), item.span().start), number);
        if let Some(DeValue::Table(own)) = table.get("settings").map(|value| value.get_ref()) {
            unit.own = own.clone();
        } else if fields.has("settings") {
            let what = "a unit's `settings` must be a table";
            document.mistake(fields.line(), what, "settings.hostname = \"larkfell-03\"");
        }
        if let Some(DeValue::Table(my)) = table.get("my").map(|value| value.get_ref()) {
            for (path, value) in crate::merge::flat(my) {
                unit.placeholders.push((format!("my.{path}"), value));
            }
        } else if fields.has("my") {
            document.mistake(
                fields.line(),
                "`my` must be a table",
                "my = { site = \"north\" }",
            );
        }
        if let Some(image) = fields.string("image") {
            unit.image = Some(head::read_image(
                document,
                fields,
                &head.folder,
                &image.value,
            ));
        } else if fields.has("checksum") {
            let what = "a checksum without its image";
            document.mistake(fields.line(), what, "image = \"…\" beside it");
        }
        units.push(unit);
    }
    units
}

/// Unknown keys were told when the head was read.
fn all_keys<'r>(root: &'r DeTable<'_>) -> Vec<&'r str> {
    root.keys().map(|key| key.get_ref().as_ref()).collect()
}

/// The units of a table in CSV.
pub(crate) fn units_of_sheet<'t>(
    sheet: &'t Sheet,
    first_line: usize,
    (lines, folder): (&Lines, &Path),
    before: usize,
    mistakes: &mut Vec<Remark>,
) -> Vec<RawUnit<'t>> {
    let line_of = |cell: &Cell| cell.line + first_line - 1;
    for cell in &sheet.head {
        if let Some((what, remedy)) = fault_of_column(&cell.text) {
            mistakes.push(Remark {
                line: line_of(cell),
                what,
                remedy,
            });
        }
    }
    let Some(names) = sheet.head.iter().position(|cell| cell.text == "unit") else {
        mistakes.push(Remark {
            line: first_line,
            what: "the table has no column `unit`".to_owned(),
            remedy: "a column with the units' names".to_owned(),
        });
        return Vec::new();
    };
    let mut units = Vec::new();
    for (row, number) in sheet.rows.iter().zip(before as u64 + 1..) {
        let line = row.first().map_or(first_line, line_of);
        let offset = lines.start_of(line);
        let name = match head::name(&row[names].text) {
            Ok(name) => name,
            Err(wrong) => {
                mistakes.push(Remark {
                    line,
                    what: wrong.what,
                    remedy: wrong.remedy,
                });
                continue;
            }
        };
        let mut unit = RawUnit::new(name, (line, offset), number);
        for (head, cell) in sheet.head.iter().zip(row) {
            let column = head.text.as_str();
            if column.starts_with("my.") {
                let value = (column.to_owned(), cell.text.clone());
                unit.placeholders.push(value);
            } else if cell.text.is_empty() || column == "unit" {
                // An empty cell leaves what is shared.
            } else if column == "image" {
                unit.image = Some(head::image_at(folder, &cell.text, None));
            } else {
                unit.cells.push((
                    column.to_owned(),
                    value_of(column, &cell.text, offset),
                    offset,
                ));
            }
        }
        units.push(unit);
    }
    units
}

fn fault_of_column(column: &str) -> Option<(String, String)> {
    let first = column.split('.').next().unwrap_or_default();
    if matches!(column, "" | "unit" | "image") || first == "my" && column.len() > 3 {
        return None;
    }
    if pinewrit_settings::TOP.contains(&first) {
        let is_secret = ["passphrase", "password"]
            .iter()
            .any(|word| column.ends_with(word));
        return is_secret.then(|| {
            let what = format!("the column `{column}` would hold secrets");
            (
                what,
                "…-file or …-env, with the secret elsewhere".to_owned(),
            )
        });
    }
    let what = format!("the column `{column}` is not a setting");
    let known = pinewrit_settings::TOP
        .iter()
        .copied()
        .chain(["unit", "image"]);
    Some(match nearest(first, known) {
        Some(near) => (what, format!("did you mean `{near}`?")),
        None => (
            what,
            format!("`my.{first}` is for values of your own, to be used as {{my.{first}}}"),
        ),
    })
}

/// A cell's value, of the type that its setting has.
fn value_of<'t>(column: &str, text: &'t str, offset: usize) -> DeValue<'t> {
    let last = column.rsplit('.').next().unwrap_or_default();
    let list = |items: &mut dyn Iterator<Item = &'t str>| {
        let items = items.map(str::trim).filter(|item| !item.is_empty());
        let items =
            items.map(|item| toml::Spanned::new(offset..offset, DeValue::String(item.into())));
        DeValue::Array(items.collect())
    };
    if LISTS.contains(&last) {
        return list(&mut text.split([',', ';', ' ', '\n']));
    }
    if LINES.contains(&last) {
        return list(&mut text.lines());
    }
    match text {
        "true" | "TRUE" => return DeValue::Boolean(true),
        "false" | "FALSE" => return DeValue::Boolean(false),
        _ => {}
    }
    let is_number = matches!(last, "port" | "vlan" | "mtu" | "uid") && text.len() <= MAX_NUMBER;
    match DeValue::parse(text) {
        Ok(value) if is_number && value.get_ref().is_integer() => value.into_inner(),
        _ => DeValue::String(text.into()),
    }
}

/// The units of `[count]`.
pub(crate) fn counted_units<'t>(document: &Document<'t>, head: &Head) -> Vec<RawUnit<'t>> {
    let Some(count) = &head.count else {
        return Vec::new();
    };
    let mut units = Vec::new();
    for nth in 0..count.units {
        let number = count.first.saturating_add(nth);
        let mut values = Values::default();
        values.set("n", number.to_string());
        let filled = match values.fill(&count.name.value) {
            Ok(filled) => filled,
            Err(error) => {
                let (what, remedy) = error.words();
                document.mistake(count.name.line, what, remedy);
                return units;
            }
        };
        let Some(name) = document.accept(count.name.line, head::name(&filled)) else {
            return units;
        };
        if nth > 0
            && units
                .first()
                .is_some_and(|first: &RawUnit<'_>| first.name == name)
        {
            let what = "all counted units would have the same name";
            document.mistake(count.name.line, what, "name = \"larkfell-{n:02}\"");
            return units;
        }
        let mut unit = RawUnit::new(name, (count.line, 0), number);
        if let Some(first) = &count.address {
            match counted(&first.value, nth) {
                Ok(address) => {
                    let address = ("address".to_owned(), address.to_string());
                    unit.placeholders.push(address);
                }
                Err(error) => {
                    let what = format!(
                        "from {} on there are {} addresses, for {} units",
                        first.value, error.room, count.units
                    );
                    document.mistake(
                        first.line,
                        what,
                        "an earlier first address, or a wider network",
                    );
                    return units;
                }
            }
        }
        units.push(unit);
    }
    units
}
