//! Settings besides users and networks: texts and files on the medium, swap, time servers, and work
//! at the first start.

use pinewrit_disk::parse_size;
use pinewrit_volume::files::{Edit, Place, Rights, Spot, TextKind};

use super::regional::quoted;
use crate::document::{Document, Fields, Wrong};

/// A change to a text on the medium.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlacedEdit {
    /// Line in the settings.
    pub line: usize,
    /// The text.
    pub place: Place,
    /// What to do with it.
    pub what: EditOrRemoval,
    /// The structure of the text; recognised if `None`.
    pub kind: Option<TextKind>,
    /// Whether the original is kept beside it.
    pub keep_original: bool,
}

/// What to do with a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum EditOrRemoval {
    /// It is edited.
    Edit(Edit),
    /// The file is removed, such as an entry of a boot menu.
    Remove,
}

/// A file to put on the medium.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlacedFile {
    /// Line in the settings.
    pub line: usize,
    /// Its path.
    pub place: Place,
    /// Its content.
    pub content: Vec<u8>,
    /// Owner and permissions, if the file system has them.
    pub rights: Rights,
}

/// What happens to the image's own user.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StockUser {
    /// Nobody can log in as it.
    Lock,
    /// It becomes the first user of the settings, and keeps its files.
    Rename,
}

/// Work at the first start.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FirstStart {
    /// Packages to install.
    pub packages: Vec<String>,
    /// Commands to run, in order.
    pub commands: Vec<FirstCommand>,
}

/// A command of the first start.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FirstCommand {
    /// One line for the shell.
    pub run: String,
    /// Whether it waits for a network, for a while.
    pub needs_network: bool,
}

/// Automatic login: who, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Autologin {
    /// The user.
    pub user: String,
    /// On the console: screen and keyboard, and serial lines.
    pub on_console: bool,
    /// On the desktop.
    pub on_desktop: bool,
}

impl FirstStart {
    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.packages.is_empty() && self.commands.is_empty()
    }
}

/// Keys of an edit: first those that name the action.
const EDIT: [&str; 17] = [
    "line",
    "set",
    "unset",
    "on",
    "off",
    "word",
    "replace-word",
    "remove-word",
    "remove",
    "remove-line",
    "remove-block",
    "place",
    "with",
    "section",
    "after",
    "keep-original",
    "kind",
];
const VERBS: usize = 11;

/// The smallest and the largest swap file, in bytes.
const SWAP: std::ops::RangeInclusive<u64> = 1 << 20..=64 << 30;

fn place(text: &str) -> Result<Place, Wrong> {
    let remedy = "a partition and a path, as in \"boot:/boot.conf\" or \"root:/etc/motd\"";
    text.parse()
        .map_err(|error: pinewrit_volume::files::PlaceError| Wrong::new(error.to_string(), remedy))
}

pub(crate) fn read_edits(document: &Document<'_>, top: &Fields<'_, '_>) -> Vec<PlacedEdit> {
    let tables = top.tables("edit", "edit", &EDIT);
    tables
        .iter()
        .filter_map(|fields| read_edit(document, fields))
        .collect()
}

fn read_edit(document: &Document<'_>, fields: &Fields<'_, '_>) -> Option<PlacedEdit> {
    let line = fields.line();
    fields.must_have(
        "place",
        "an edit without a place",
        "place = \"boot:/boot.conf\"",
    );
    let place = fields.checked("place", place);
    let verbs = &EDIT[..VERBS];
    let given: Vec<_> = verbs.iter().filter(|verb| fields.has(verb)).collect();
    if given.len() != 1 {
        let what = match given.len() {
            0 => "an edit that does nothing".to_owned(),
            _ => format!("an edit with {} and {}", given[0], given[1]),
        };
        document.mistake(line, what, format!("one of {}", verbs.join(", ")));
        return None;
    }
    let section = fields.string("section").map(|at| at.value);
    let text = |key: &str| fields.string(key).map(|at| at.value);
    let edit = match *given[0] {
        "line" => Edit::Line {
            text: text("line")?,
            spot: match (text("after"), section) {
                (Some(after), _) => Spot::After(after),
                (None, Some(section)) => Spot::Section(section),
                (None, None) => Spot::End,
            },
        },
        "set" => {
            let (key, value) = fields.checked("set", assignment)?;
            Edit::Set {
                key,
                value,
                section,
            }
        }
        "unset" => Edit::Unset {
            key: text("unset")?,
            section,
        },
        "remove-line" => Edit::RemoveLine(text("remove-line")?),
        "remove-block" => Edit::RemoveBlock(text("remove-block")?),
        "on" => Edit::On(text("on")?),
        "off" => Edit::Off(text("off")?),
        "word" => Edit::AddWord(text("word")?),
        "remove-word" => Edit::RemoveWord(text("remove-word")?),
        "replace-word" => {
            fields.must_have(
                "with",
                "replace-word without its replacement",
                "with = \"…\"",
            );
            Edit::ReplaceWord {
                old: text("replace-word")?,
                new: text("with")?,
            }
        }
        _ => {
            fields.boolean("remove").filter(|at| at.value)?;
            return Some(PlacedEdit {
                line,
                place: place?,
                what: EditOrRemoval::Remove,
                kind: None,
                keep_original: false,
            });
        }
    };
    Some(PlacedEdit {
        line,
        place: place?,
        what: EditOrRemoval::Edit(edit),
        kind: fields.checked("kind", kind),
        keep_original: fields.boolean("keep-original").is_some_and(|at| at.value),
    })
}

fn kind(text: &str) -> Result<TextKind, Wrong> {
    let known = TextKind::ALL.iter().find(|(word, _)| *word == text);
    known.map(|(_, kind)| *kind).ok_or_else(|| {
        let words: Vec<&str> = TextKind::ALL.iter().map(|(word, _)| *word).collect();
        let what = format!("{} is not a kind of text", quoted(text));
        Wrong::new(what, words.join(", "))
    })
}

fn assignment(text: &str) -> Result<(String, String), Wrong> {
    let parts = text
        .split_once('=')
        .filter(|(key, _)| !key.trim().is_empty());
    let (key, value) = parts.ok_or_else(|| {
        Wrong::new(
            format!("{} sets nothing", quoted(text)),
            "set = \"key=value\"",
        )
    })?;
    Ok((key.trim().to_owned(), value.to_owned()))
}

pub(crate) fn read_files(document: &Document<'_>, top: &Fields<'_, '_>) -> Vec<PlacedFile> {
    let tables = top.tables("file", "file", &["from", "text", "to", "mode", "owner"]);
    let read = |fields: &Fields<'_, '_>| {
        let line = fields.line();
        let remedy = "from = \"wind.conf\" and to = \"root:/etc/wind.conf\"";
        fields.must_have("to", "a file without `to`", remedy);
        match (fields.has("from"), fields.has("text")) {
            (false, false) => {
                let remedy = format!("{remedy}; or text = \"\"\"…\"\"\"");
                document.mistake(line, "a file without `from`", remedy);
            }
            (true, true) => {
                document.mistake(
                    line,
                    "a file with both `from` and `text`",
                    "keep one of them",
                );
            }
            _ => {}
        }
        let inline = fields.string("text").map(|at| at.value);
        let content = fields.string("from").and_then(|from| {
            let content = document.read_file(&from.value).map_err(|error| {
                Wrong::new(
                    format!("{} cannot be read: {error}", from.value),
                    "a text; paths are relative to the settings file",
                )
            });
            document.accept(from.line, content)
        });
        let content = inline.or(content);
        let mode = fields.checked("mode", mode).unwrap_or(0o644);
        let owner = fields.checked("owner", owner).unwrap_or((0, 0));
        Some(PlacedFile {
            line,
            place: fields.checked("to", place)?,
            content: content?.into_bytes(),
            rights: Rights::of(mode, owner),
        })
    };
    tables.iter().filter_map(read).collect()
}

fn mode(text: &str) -> Result<u16, Wrong> {
    let mode = u16::from_str_radix(text, 8).ok();
    mode.filter(|mode| *mode <= 0o7777).ok_or_else(|| {
        let what = format!("{} is not a valid mode", quoted(text));
        Wrong::new(what, "octal digits, such as \"0644\"")
    })
}

fn owner(text: &str) -> Result<(u32, u32), Wrong> {
    let numbers = text
        .split_once(':')
        .and_then(|(uid, gid)| Some((uid.parse().ok()?, gid.parse().ok()?)));
    numbers.ok_or_else(|| {
        let what = format!("{} is not an owner", quoted(text));
        Wrong::new(what, "user and group ids, such as \"1000:1000\"")
    })
}

pub(crate) fn stock_user(text: &str) -> Result<StockUser, Wrong> {
    match text {
        "lock" => Ok(StockUser::Lock),
        "rename" => Ok(StockUser::Rename),
        _ => Err(Wrong::new(
            format!("{} is not an action for the stock user", quoted(text)),
            "\"lock\", or \"rename\" to make it the first user of these settings",
        )),
    }
}

pub(crate) fn swap(text: &str) -> Result<u64, Wrong> {
    let size = parse_size(text).ok();
    size.filter(|size| SWAP.contains(size)).ok_or_else(|| {
        Wrong::new(
            format!("{} is not a valid swap size", quoted(text)),
            "a size from 1MiB to 64GiB, such as \"512MiB\"",
        )
    })
}

/// A time server: an address, or a host name (RFC 1123).
pub(crate) fn time_server(name: &str) -> Result<String, Wrong> {
    let is_label = |label: &str| {
        !label.is_empty()
            && label.len() <= 63
            && label
                .bytes()
                .all(|b| b.is_ascii_alphanumeric() || b == b'-')
    };
    let is_name = name.len() <= 253 && name.split('.').all(is_label);
    if is_name || name.parse::<std::net::IpAddr>().is_ok() {
        Ok(name.to_owned())
    } else {
        Err(Wrong::new(
            format!("{} is not a server name or address", quoted(name)),
            "as in \"time.larkfell.example\" or \"10.77.0.53\"",
        ))
    }
}

pub(crate) fn read_first_start(document: &Document<'_>, top: &Fields<'_, '_>) -> FirstStart {
    let Some(fields) = top.table("first-start", &["packages", "commands"]) else {
        return FirstStart::default();
    };
    let packages = fields.strings("packages").into_iter();
    let packages = packages.filter_map(|at| document.accept(at.line, package(&at.value)));
    let items = fields.texts_or_tables("commands", &["run", "network"]);
    let commands = items.into_iter().filter_map(|item| {
        let (line, needs_network) = match item {
            Ok(text) => (Some(text), false),
            Err(table) => {
                if !table.has("run") {
                    let remedy = "{ run = \"…\", network = true }";
                    document.mistake(table.line(), "a command without `run`", remedy);
                }
                let network = table.boolean("network").is_some_and(|at| at.value);
                (table.string("run"), network)
            }
        };
        let at = line?;
        let checked = if at.value.contains(['\n', '\0']) || at.value.trim().is_empty() {
            Err(Wrong::new(
                "a command is one line",
                "put a script on the medium with [[file]], and call it",
            ))
        } else {
            Ok(at.value)
        };
        Some(FirstCommand {
            run: document.accept(at.line, checked)?,
            needs_network,
        })
    });
    FirstStart {
        packages: packages.collect(),
        commands: commands.collect(),
    }
}

pub(crate) fn read_autologin(
    document: &Document<'_>,
    top: &Fields<'_, '_>,
    users: &[super::User],
) -> Option<Autologin> {
    let fields = top.table("autologin", &["user", "console", "desktop"])?;
    let on = |key: &str| fields.boolean(key).is_some_and(|at| at.value);
    let (on_console, on_desktop) = (on("console"), on("desktop"));
    if !on_console && !on_desktop {
        let remedy = "console = true, or desktop = true";
        document.mistake(fields.line(), "[autologin] does not say where", remedy);
    }
    let unnamed = "[autologin] does not say who";
    fields.must_have("user", unnamed, "user = \"warden\"");
    let user = fields.checked("user", |name| {
        if users.iter().any(|user| user.name == name) {
            Ok(name.to_owned())
        } else {
            Err(Wrong::new(
                format!(
                    "[autologin] names {}, who is not a user in these settings",
                    quoted(name)
                ),
                "add [[users]] with that name",
            ))
        }
    });
    Some(Autologin {
        user: user?,
        on_console,
        on_desktop,
    })
}

/// Package names as distributions allow them.
fn package(name: &str) -> Result<String, Wrong> {
    let fits = name.starts_with(|c: char| c.is_ascii_alphanumeric())
        && name
            .bytes()
            .all(|b| b.is_ascii_alphanumeric() || b"+-._:".contains(&b));
    if fits {
        Ok(name.to_owned())
    } else {
        Err(Wrong::new(
            format!("{} is not a package name", quoted(name)),
            "letters, digits, `+`, `-`, `.`",
        ))
    }
}
