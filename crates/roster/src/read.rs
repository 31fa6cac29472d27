//! Reading a roster: its own keys, its units from all sources, and each unit's settings.

use std::borrow::Cow;
use std::cell::RefCell;
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use pinewrit_disk::open_plain;
use pinewrit_settings::document::{Document, Lines};
use pinewrit_settings::{CheckedSettings, Mistakes, Remark, SecretSource, check_table};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use crate::among;
use crate::fill::Values;
use crate::head::{self, Head};
use crate::merge::{fill, flat, from_folder, lay_over, secrets_in};
use crate::sheet::{Sheet, text_of};
use crate::source::{self, RawUnit};
use crate::texts::{Texts, shifted};
use crate::{MAX_UNITS, Place, Roster, RosterMistake, Unit, UnitMedium};

/// A roster or one of its files is not larger, in bytes.
const MAX_FILE: u64 = 64 << 20;
/// As many like mistakes at one place are told, and the others counted.
const MAX_ALIKE: usize = 2;

/// Reads a file that a person or a spreadsheet wrote.
pub(crate) fn file(path: &Path) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut file: io::Take<File> = open_plain(path)?.take(MAX_FILE + 1);
    if file.read_to_end(&mut bytes)? as u64 > MAX_FILE {
        let what = format!("it has more than {MAX_FILE} bytes");
        return Err(io::Error::other(what));
    }
    Ok(bytes)
}

/// The secrets of a first reading: nobody is asked, and what would be typed is assumed to be good.
struct NotYet<'s> {
    real: &'s dyn SecretSource,
    asked: RefCell<bool>,
}

impl SecretSource for NotYet<'_> {
    fn variable(&self, name: &str) -> Option<String> {
        self.real.variable(name)
    }

    fn file(&self, path: &Path) -> io::Result<String> {
        self.real.file(path)
    }

    fn ask(&self, _: &str) -> io::Result<Option<String>> {
        *self.asked.borrow_mut() = true;
        Ok(Some("made up: 7 larks fell over 3 pines".to_owned()))
    }
}

/// Asks once for what all units share, and for each unit's own.
struct Asking<'s> {
    real: &'s dyn SecretSource,
    known: &'s RefCell<HashMap<String, String>>,
    /// The unit, if it has prompts of its own.
    unit: Option<&'s str>,
}

impl SecretSource for Asking<'_> {
    fn variable(&self, name: &str) -> Option<String> {
        self.real.variable(name)
    }

    fn file(&self, path: &Path) -> io::Result<String> {
        self.real.file(path)
    }

    fn ask(&self, what: &str) -> io::Result<Option<String>> {
        let what = match self.unit {
            Some(unit) => format!("{unit}: {what}"),
            None => format!("all units: {what}"),
        };
        let known = self.known.borrow().get(&what).cloned();
        if known.is_some() {
            return Ok(known);
        }
        let answer = self.real.ask(&what)?;
        if let Some(answer) = &answer {
            self.known.borrow_mut().insert(what, answer.clone());
        }
        Ok(answer)
    }
}

/// A unit's settings as one table, and where its parts came from.
struct Merged<'t> {
    table: DeTable<'t>,
    has_own_prompt: bool,
    /// Whether all of its parts could be put together.
    is_whole: bool,
}

/// Reads a roster; all mistakes, in the order of their places.
pub(crate) fn roster(
    text: &str,
    path: &Path,
    secrets: &dyn SecretSource,
) -> Result<Roster, Vec<RosterMistake>> {
    let folder = path.parent().unwrap_or(Path::new(""));
    let mut texts = Texts::default();
    texts.add(&path.display().to_string(), text);
    let document = Document::new(text, folder, secrets);
    let Some(root) = document.parse() else {
        return Err(in_place(&texts, document.into_mistakes().0));
    };
    let head = head::read(&document, &root, path);
    let mut mistakes = Vec::new();

    // Everything that is read is one text before settings are put together.
    let settings_text = head.settings_file.as_ref().map(|at| {
        let bytes = file(&folder.join(&at.value));
        let text = bytes.and_then(|bytes| String::from_utf8(bytes).map_err(io::Error::other));
        (at, text)
    });
    let sheet_text = head.sheet.as_ref().map(|at| {
        let bytes = file(&folder.join(&at.value)).map_err(|error| error.to_string());
        (at, bytes.and_then(|bytes| text_of(&bytes)))
    });
    let mut base = head.settings_table(&root);
    match &settings_text {
        Some((at, Ok(text))) => {
            let line = texts.first_line();
            let start = texts.add(&folder.join(&at.value).display().to_string(), text);
            let own = Document::new(text, folder, secrets);
            match own.parse() {
                Some(table) => {
                    base = shifted(&table, start);
                    let beside = Path::new(&at.value).parent();
                    from_folder(&mut base, beside.unwrap_or(Path::new("")));
                }
                None => {
                    let wrong = own.into_mistakes().0.into_iter();
                    let moved = wrong.map(|one| Remark {
                        line: one.line + line - 1,
                        ..one
                    });
                    mistakes.extend(moved);
                }
            }
        }
        Some((at, Err(error))) => document.mistake(
            at.line,
            format!("the settings file {} cannot be read: {error}", at.value),
            "paths are relative to the roster",
        ),
        None => {}
    }
    let sheet = match &sheet_text {
        Some((at, Ok(text))) => {
            let name = folder.join(&at.value).display().to_string();
            let line = texts.first_line();
            texts.add(&name, text);
            match Sheet::read(text) {
                Ok(sheet) => Some((sheet, line)),
                Err(faults) => {
                    mistakes.extend(faults.into_iter().map(|fault| Remark {
                        line: fault.line + line - 1,
                        what: fault.what,
                        remedy: fault.remedy,
                    }));
                    None
                }
            }
        }
        Some((at, Err(why))) => {
            let what = format!("the table {} cannot be read: {why}", at.value);
            let remedy = "save it as CSV in UTF-8; paths are relative to the roster";
            document.mistake(at.line, what, remedy);
            None
        }
        None => None,
    };
    let lines = texts.lines();
    let mut raw = source::units_of_tables(&document, &root, &head);
    if let Some((sheet, line)) = &sheet {
        let rows = source::units_of_sheet(sheet, *line, (&lines, folder), raw.len(), &mut mistakes);
        raw.extend(rows);
    }
    raw.extend(source::counted_units(&document, &head));
    if raw.is_empty() && !document.has_mistakes() && mistakes.is_empty() {
        document.mistake(
            1,
            "the roster has no units",
            "[[unit]] with a name, units = \"units.csv\", or [count] with units = 12",
        );
    }
    if raw.len() > MAX_UNITS {
        document.mistake(
            1,
            format!("there are more than {MAX_UNITS} units"),
            "several rosters",
        );
        raw.truncate(MAX_UNITS);
    }
    mistakes.extend(document.into_mistakes().0);
    let has_own = |unit: &RawUnit<'_>| !unit.own.is_empty() || !unit.cells.is_empty();
    let wants_settings = head.has_settings || raw.iter().any(has_own);
    let work = Units {
        has_settings: wants_settings && head.media.iter().any(|medium| medium.gets_settings),
        head: &head,
        texts: &texts,
        lines: &lines,
        folder,
        secrets,
        base,
        each: head.each_table(&root),
    };
    work.finish(raw, mistakes)
}

fn in_place(texts: &Texts, remarks: Vec<Remark>) -> Vec<RosterMistake> {
    let place = |remark: Remark| texts.mistake(remark.line, remark.what, remark.remedy);
    remarks.into_iter().map(place).collect()
}

/// What all units are made from.
struct Units<'r, 't> {
    head: &'r Head,
    has_settings: bool,
    texts: &'r Texts,
    lines: &'r Lines,
    folder: &'r Path,
    secrets: &'r dyn SecretSource,
    base: DeTable<'t>,
    each: DeTable<'t>,
}

impl<'t> Units<'_, 't> {
    fn finish(
        &self,
        raw: Vec<RawUnit<'t>>,
        mut mistakes: Vec<Remark>,
    ) -> Result<Roster, Vec<RosterMistake>> {
        let mut apart = Seen::default();
        let merged: Vec<Merged<'t>> = raw
            .iter()
            .map(|unit| self.merge(unit, &mut apart))
            .collect();
        mistakes.extend(apart.told(raw.len()));
        let first = NotYet {
            real: self.secrets,
            asked: RefCell::new(false),
        };
        let mut warnings = Vec::new();
        let (mut checked, wrong) = self.check_all(&raw, &merged, &mut warnings, |_| &first);
        mistakes.extend(wrong);
        let asked = *first.asked.borrow();
        if mistakes.is_empty() && asked {
            let known = RefCell::default();
            let askers: Vec<Asking<'_>> = raw
                .iter()
                .zip(&merged)
                .map(|(unit, merged)| Asking {
                    real: self.secrets,
                    known: &known,
                    unit: merged.has_own_prompt.then_some(unit.name.as_str()),
                })
                .collect();
            warnings.clear();
            let (again, wrong) = self.check_all(&raw, &merged, &mut warnings, |nth| &askers[nth]);
            checked = again;
            mistakes.extend(wrong);
        }
        let mut places: HashMap<(String, &'static str), Place> = HashMap::new();
        let mut units = Vec::new();
        for ((unit, merged), settings) in raw.iter().zip(&merged).zip(checked) {
            for (key, path) in [
                ("hostname", &["hostname"][..]),
                ("wired", &["wired", "addresses"]),
            ] {
                let at = offset_of(&merged.table, path);
                let line = at.map_or(unit.line, |at| self.lines.line_of(at));
                places.insert((unit.name.clone(), key), self.texts.place(line));
            }
            units.push(Unit {
                name: unit.name.clone(),
                place: self.texts.place(unit.line),
                settings: settings.filter(|_| self.has_settings),
                media: self.media_of(unit),
                values: flat(&merged.table),
            });
        }
        let place_of = |unit: &Unit, key: &str| {
            let known = ["hostname", "wired"]
                .into_iter()
                .find(|known| *known == key);
            let place = known.and_then(|key| places.get(&(unit.name.clone(), key)));
            place.unwrap_or(&unit.place).clone()
        };
        let mut mistakes = in_place(self.texts, mistakes);
        mistakes.extend(among::check(&units, &self.head.network, &place_of));
        mistakes.sort_by(|a, b| (&a.place.file, a.place.line).cmp(&(&b.place.file, b.place.line)));
        if !mistakes.is_empty() {
            return Err(shortened(mistakes));
        }
        Ok(Roster {
            board: self.head.board.clone(),
            signed_by: self.head.signed_by.clone(),
            name: self.head.name.clone(),
            units,
            warnings: shortened(in_place(self.texts, warnings)),
        })
    }

    /// A unit's settings: shared, from templates, its own.
    fn merge(&self, unit: &RawUnit<'t>, apart: &mut Seen) -> Merged<'t> {
        let mut mistakes = Vec::new();
        let mut values = Values::default();
        for (name, value) in &unit.placeholders {
            values.set(name, value.clone());
        }
        let each = fill(&self.each, &values, &mut |offset, error| {
            let (what, remedy) = error.words();
            mistakes.push(Remark {
                line: self.lines.line_of(offset),
                what,
                remedy,
            });
        });
        let mut table = self.base.clone();
        lay_over(&mut table, &each);
        lay_over(&mut table, &unit.own);
        for (path, value, offset) in &unit.cells {
            let steps: Vec<&str> = path.split('.').collect();
            let put = crate::merge::put(&mut table, &steps, value.clone(), *offset..*offset);
            if let Err(why) = put {
                mistakes.push(Remark {
                    line: self.lines.line_of(*offset),
                    what: format!("{path} cannot be set: {}", why.0),
                    remedy: "put what it belongs to under [settings] first".to_owned(),
                });
            }
        }
        for offset in secrets_in(&table) {
            mistakes.push(Remark {
                line: self.lines.line_of(offset),
                what: "a roster goes to many people and stations, and has a passphrase in it"
                    .to_owned(),
                remedy: "passphrase-env, passphrase-file or passphrase-prompt".to_owned(),
            });
        }
        if !table.contains_key("hostname") {
            let name = DeValue::String(Cow::Owned(unit.name.clone()));
            let key = Spanned::new(unit.offset..unit.offset, Cow::Borrowed("hostname"));
            table.insert(key, Spanned::new(unit.offset..unit.offset, name));
        }
        let own_prompt = |table: &DeTable<'_>| {
            flat(table)
                .iter()
                .any(|(path, _)| path.ends_with("-prompt"))
        };
        let in_cells = unit
            .cells
            .iter()
            .any(|(path, ..)| path.ends_with("-prompt"));
        apart.add(&unit.name, &mistakes);
        Merged {
            is_whole: mistakes.is_empty(),
            has_own_prompt: in_cells || own_prompt(&unit.own) || own_prompt(&self.each),
            table,
        }
    }

    /// Checks the settings of all units; a mistake that all have is told once.
    fn check_all<'s>(
        &self,
        raw: &[RawUnit<'t>],
        merged: &[Merged<'t>],
        warnings: &mut Vec<Remark>,
        secrets: impl Fn(usize) -> &'s dyn SecretSource,
    ) -> (Vec<Option<CheckedSettings>>, Vec<Remark>) {
        let (mut checked, mut wrong) = (Vec::new(), Seen::default());
        let mut doubtful = Seen::default();
        if !self.has_settings {
            return (vec![None; raw.len()], Vec::new());
        }
        for (nth, (unit, merged)) in raw.iter().zip(merged).enumerate() {
            if !merged.is_whole {
                checked.push(None);
                continue;
            }
            let place = (self.lines, unit.line);
            match check_table(&merged.table, place, self.folder, secrets(nth)) {
                Ok(settings) => {
                    doubtful.add(&unit.name, &settings.warnings);
                    checked.push(Some(settings));
                }
                Err(Mistakes(mistakes)) => {
                    wrong.add(&unit.name, &mistakes);
                    checked.push(None);
                }
            }
        }
        warnings.extend(doubtful.told(raw.len()));
        (checked, wrong.told(raw.len()))
    }

    fn media_of(&self, unit: &RawUnit<'_>) -> Vec<UnitMedium> {
        let mut media = self.head.media.clone();
        if let Some(image) = &unit.image {
            let mut images = media.iter_mut();
            let first =
                images.find(|medium| matches!(medium.content, crate::Content::Image { .. }));
            if let Some(medium) = first {
                medium.content = image.clone();
            }
        }
        media
    }
}

/// Remarks about units, and how many units have each.
#[derive(Default)]
struct Seen {
    order: Vec<(Remark, String, usize)>,
    index: HashMap<(usize, String), usize>,
}

impl Seen {
    fn add(&mut self, unit: &str, remarks: &[Remark]) {
        for remark in remarks {
            let key = (remark.line, remark.what.clone());
            match self.index.get(&key) {
                Some(&at) => self.order[at].2 += 1,
                None => {
                    self.index.insert(key, self.order.len());
                    self.order.push((remark.clone(), unit.to_owned(), 1));
                }
            }
        }
    }

    /// What not all of `units` have names the first that does.
    fn told(self, units: usize) -> Vec<Remark> {
        let told = self.order.into_iter().map(|(remark, unit, count)| {
            let what = match count {
                all if all == units => remark.what,
                1 => format!("{unit}: {}", remark.what),
                count => format!("{unit} and {} more: {}", count - 1, remark.what),
            };
            Remark { what, ..remark }
        });
        told.collect()
    }
}

/// Where a value is; of several tables in a list, the first that has it.
fn offset_of(table: &DeTable<'_>, path: &[&str]) -> Option<usize> {
    let (first, rest) = path.split_first()?;
    let value = table.get(*first)?;
    match (rest.is_empty(), value.get_ref()) {
        (true, _) => Some(value.span().start),
        (false, DeValue::Table(inner)) => offset_of(inner, rest),
        (false, DeValue::Array(items)) => {
            let mut tables = items.iter().filter_map(|item| item.get_ref().as_table());
            tables.find_map(|inner| offset_of(inner, rest))
        }
        _ => None,
    }
}

/// Of many like mistakes at one place, the first few, and how many more there are.
fn shortened(mistakes: Vec<RosterMistake>) -> Vec<RosterMistake> {
    let mut counts: HashMap<(Place, String), usize> = HashMap::new();
    for mistake in &mistakes {
        let key = (mistake.place.clone(), mistake.remedy.clone());
        *counts.entry(key).or_default() += 1;
    }
    let mut seen: HashMap<(Place, String), usize> = HashMap::new();
    let mut kept = Vec::new();
    for mut mistake in mistakes {
        let key = (mistake.place.clone(), mistake.remedy.clone());
        let total = counts.get(&key).copied().unwrap_or(1);
        let nth = seen.entry(key).or_default();
        *nth += 1;
        if *nth == MAX_ALIKE && total > MAX_ALIKE {
            mistake.what += &format!(" (and {} more like this)", total - MAX_ALIKE);
        }
        if *nth <= MAX_ALIKE {
            kept.push(mistake);
        }
    }
    kept
}
