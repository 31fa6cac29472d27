//! A layout: a TOML file that describes a medium, checked completely before anything is created.

use std::path::{Path, PathBuf};

use pinewrit_fat::FatWidth;
use pinewrit_image::Location;
use pinewrit_settings::Mistakes;
use pinewrit_settings::document::{At, Document, Fields, NoSecrets, Wrong, size};
use pinewrit_table::{ALIGNMENT, MAX_NAME, PartitionSize, PartitionType, SchemeKind};
use pinewrit_volume::files::fill::{Origin, Portion};
use pinewrit_volume::format::{FatKind, FormatKind};

/// A layout without mistakes so far; sizes are checked when the medium is known.
#[derive(Clone, Debug)]
pub struct Layout {
    /// Kind of the table.
    pub scheme: SchemeKind,
    /// Alignment of partitions, in bytes.
    pub alignment: u64,
    /// Seed of the identifiers, for reproducible media; random if `None`.
    pub identifiers: Option<String>,
    /// The time used instead of the current one, in seconds since 1970; none if `None`.
    pub epoch: Option<i64>,
    /// The partitions in their order.
    pub partitions: Vec<PartitionPlan>,
    /// Blobs outside partitions.
    pub blobs: Vec<Blob>,
}

/// A partition to be created.
#[derive(Clone, Debug)]
pub struct PartitionPlan {
    /// Line in the layout.
    pub line: usize,
    /// Its size.
    pub size: PartitionSize,
    /// Its type, as recorded in the table.
    pub kind: PartitionType,
    /// Whether the table's type follows from the FAT that suits its size.
    pub follows_size: bool,
    /// Its name in a GPT; empty for none.
    pub name: String,
    /// The file system in it; none if `None`.
    pub filesystem: Option<FormatKind>,
    /// The file system's label.
    pub label: String,
    /// Whether a BIOS starts from it.
    pub active: bool,
    /// How many files it can have at least (ext4).
    pub inodes: Option<u32>,
    /// Whether ext4 has checksums.
    pub has_checksums: bool,
    /// What goes in it, in this order.
    pub contents: Vec<Content>,
}

/// Something to be put into a file system.
#[derive(Clone, Debug)]
pub struct Content {
    /// Line in the layout.
    pub line: usize,
    /// What it is, and its target.
    pub portion: Portion,
    /// Whether it must be the first entry of a FAT's root, in one piece.
    pub is_first: bool,
}

/// Bytes at a fixed place on the medium.
#[derive(Clone, Debug)]
pub struct Blob {
    /// Line in the layout.
    pub line: usize,
    /// The file.
    pub from: PathBuf,
    /// First byte on the medium.
    pub at: u64,
    /// The most bytes it may have.
    pub max: Option<u64>,
}

const MEDIUM_KEYS: [&str; 4] = ["scheme", "align", "identifiers", "epoch"];
const PARTITION_KEYS: [&str; 9] = [
    "size",
    "type",
    "name",
    "filesystem",
    "label",
    "active",
    "inodes",
    "checksums",
    "content",
];
const CONTENT_KEYS: [&str; 10] = [
    "from", "text", "pick", "strip", "to", "unpack", "template", "first", "owner", "mode",
];
const BLOB_KEYS: [&str; 3] = ["from", "at", "max"];

/// Reads and checks a layout. Paths in it are relative to `folder`.
///
/// # Errors
/// All mistakes, with their lines.
pub fn check(text: &str, folder: &Path) -> Result<Layout, Mistakes> {
    let document = Document::new(text, folder, &NoSecrets);
    let layout = document.parse().and_then(|root| {
        let keys = ["medium", "partition", "blob"];
        let root = Fields::new(&document, &root, 1, "a layout", &keys);
        read(&document, &root, folder)
    });
    match layout.filter(|_| !document.has_mistakes()) {
        Some(layout) => Ok(layout),
        None => Err(document.into_mistakes()),
    }
}

fn read(document: &Document<'_>, root: &Fields<'_, '_>, folder: &Path) -> Option<Layout> {
    let medium = root.table("medium", &MEDIUM_KEYS);
    let scheme = medium.as_ref().and_then(|m| m.checked("scheme", scheme));
    let scheme = scheme.unwrap_or(SchemeKind::Mbr);
    let tables = root.tables("partition", "partition", &PARTITION_KEYS);
    if tables.is_empty() {
        document.mistake(1, "there is no partition", "add one: [[partition]]");
    }
    let partitions: Vec<PartitionPlan> = tables
        .iter()
        .filter_map(|fields| partition(document, fields, scheme, folder))
        .collect();
    let rest = |plan: &&PartitionPlan| plan.size == PartitionSize::Rest;
    for second in partitions.iter().filter(rest).skip(1) {
        let what = "a second partition takes the rest of the medium";
        document.mistake(second.line, what, "give all but one a size");
    }
    if scheme == SchemeKind::Mbr && partitions.len() > 4 {
        let line = partitions[4].line;
        let what = format!("{} partitions; an MBR has four entries", partitions.len());
        document.mistake(line, what, "scheme = \"gpt\" has up to 128");
    }
    let blobs = root.tables("blob", "blob", &BLOB_KEYS);
    let epoch = medium.as_ref().and_then(|m| m.string("epoch"));
    Some(Layout {
        scheme,
        alignment: medium
            .as_ref()
            .and_then(|m| m.checked("align", alignment))
            .unwrap_or(ALIGNMENT),
        identifiers: medium
            .as_ref()
            .and_then(|m| m.string("identifiers"))
            .map(|at| at.value),
        epoch: epoch.and_then(|at| document.accept(at.line, time(&at.value))),
        partitions,
        blobs: blobs
            .iter()
            .filter_map(|fields| blob(document, fields, folder))
            .collect(),
    })
}

fn scheme(text: &str) -> Result<SchemeKind, Wrong> {
    match text {
        "mbr" => Ok(SchemeKind::Mbr),
        "gpt" => Ok(SchemeKind::Gpt),
        _ => Err(Wrong::new(
            format!("{text:?} is not a scheme"),
            "\"mbr\" or \"gpt\"",
        )),
    }
}

fn partition_size(text: &str) -> Result<PartitionSize, Wrong> {
    match text {
        "rest" => Ok(PartitionSize::Rest),
        text => match size(text)? {
            0 => Err(Wrong::new(
                "a partition of 0 bytes",
                "a size such as \"256MiB\", or \"rest\"",
            )),
            bytes => Ok(PartitionSize::Bytes(bytes)),
        },
    }
}

fn alignment(text: &str) -> Result<u64, Wrong> {
    let bytes = size(text)?;
    if bytes.is_power_of_two() && (512..=1 << 30).contains(&bytes) {
        Ok(bytes)
    } else {
        Err(Wrong::new(
            format!("{text:?} is not an alignment"),
            "a power of two from 512 on, such as \"1MiB\" or \"4MiB\"",
        ))
    }
}

/// Seconds since 1970.
fn time(text: &str) -> Result<i64, Wrong> {
    text.parse().map_err(|_| {
        let what = format!("{text:?} is not a time");
        Wrong::new(what, "seconds since 1970, such as \"1795435200\"")
    })
}

fn mode(text: &str) -> Result<u16, Wrong> {
    u16::from_str_radix(text, 8)
        .ok()
        .filter(|mode| *mode <= 0o7777)
        .ok_or_else(|| {
            let what = format!("{text:?} is not a valid mode");
            Wrong::new(what, "octal digits, such as \"0644\"")
        })
}

fn owner(text: &str) -> Result<(u32, u32), Wrong> {
    let pair = text.split_once(':');
    let numbers = pair.and_then(|(u, g)| Some((u.parse().ok()?, g.parse().ok()?)));
    numbers.ok_or_else(|| {
        let what = format!("{text:?} is not an owner");
        Wrong::new(what, "user and group ids, such as \"1000:1000\"")
    })
}

fn partition(
    document: &Document<'_>,
    fields: &Fields<'_, '_>,
    scheme: SchemeKind,
    folder: &Path,
) -> Option<PartitionPlan> {
    let line = fields.line();
    fields.must_have(
        "size",
        "a partition without a size",
        "size = \"256MiB\", or \"rest\"",
    );
    let filesystem = fields.checked("filesystem", |text| {
        FormatKind::from_word(text).ok_or_else(|| {
            let words: Vec<&str> = FormatKind::WORDS.iter().map(|(word, _)| *word).collect();
            let what = format!("{text:?} is not a file system");
            Wrong::new(what, words.join(", "))
        })
    });
    let label = fields.string("label");
    if let Some(label) = &label {
        check_label(document, filesystem, label);
    }
    let name = fields.string("name");
    if let Some(name) = &name {
        check_name(document, scheme, name);
    }
    let kind = fields.checked("type", |text| {
        PartitionType::from_text(text, scheme).ok_or_else(|| {
            let what = format!(
                "{text:?} is not a partition type for {}",
                scheme.with_article()
            );
            Wrong::new(
                what,
                "a word such as \"fat32\", \"linux\", \"esp\", or a code",
            )
        })
    });
    let filesystem = match (filesystem, kind) {
        (Some(FormatKind::Fat(fat)), Some(kind)) => {
            Some(FormatKind::Fat(fitting(document, line, fat, kind)))
        }
        (filesystem, _) => filesystem,
    };
    let usual = match filesystem {
        Some(FormatKind::Fat(FatKind::Fat16)) => "fat16",
        Some(FormatKind::Fat(FatKind::Fat12)) => "fat12",
        Some(FormatKind::Fat(_)) => "fat32",
        Some(FormatKind::Swap) => "swap",
        _ => "linux",
    };
    let contents: Vec<Content> = fields
        .tables("content", "partition.content", &CONTENT_KEYS)
        .iter()
        .filter_map(|fields| content(document, fields, folder))
        .collect();
    if let Some(content) = contents.first()
        && !matches!(filesystem, Some(FormatKind::Fat(_) | FormatKind::Ext4))
    {
        let what = "content for a partition that cannot hold files";
        document.mistake(content.line, what, "filesystem = \"ext4\" or \"fat32\"");
    }
    for content in contents.iter().filter(|content| content.is_first) {
        let is_fat = matches!(filesystem, Some(FormatKind::Fat(_)));
        let is_alone = contents.first().is_some_and(|c| c.line == content.line);
        if !is_fat || !is_alone {
            let what = "`first` is for the first content of a FAT";
            document.mistake(content.line, what, "put it before the others");
        }
    }
    let inodes = fields.checked("inodes", |text| {
        let wrong = |_| Wrong::new(format!("{text:?} is not a number"), "inodes = \"50000\"");
        text.parse::<u32>().map_err(wrong)
    });
    Some(PartitionPlan {
        line,
        size: fields.checked("size", partition_size)?,
        follows_size: kind.is_none() && filesystem == Some(FormatKind::Fat(FatKind::BySize)),
        kind: kind.or_else(|| PartitionType::from_text(usual, scheme))?,
        name: name.map_or(String::new(), |at| at.value),
        filesystem,
        label: label.map_or(String::new(), |at| at.value),
        active: fields.boolean("active").is_some_and(|at| at.value),
        inodes,
        has_checksums: fields.boolean("checksums").is_none_or(|at| at.value),
        contents,
    })
}

/// The FAT that matches a partition type; an MBR's types name its width.
fn fitting(document: &Document<'_>, line: usize, fat: FatKind, kind: PartitionType) -> FatKind {
    let named = match kind {
        PartitionType::Mbr(0x01 | 0x11) => FatKind::Fat12,
        PartitionType::Mbr(0x04 | 0x06 | 0x0e | 0x14 | 0x16 | 0x1e) => FatKind::Fat16,
        PartitionType::Mbr(0x0b | 0x0c | 0x1b | 0x1c) => FatKind::Fat32,
        _ => return fat,
    };
    if fat != named && fat != FatKind::BySize {
        let (made, told) = (FormatKind::Fat(fat).word(), FormatKind::Fat(named).word());
        let what = format!("a {made} in a partition whose type says {told}");
        document.mistake(line, what, format!("type = \"{made}\", or omit it"));
    }
    named
}

/// The partition type for a FAT of this width.
pub(super) fn type_for(width: FatWidth, scheme: SchemeKind) -> Option<PartitionType> {
    PartitionType::from_text(&width.word().to_ascii_lowercase(), scheme)
}

fn check_label(document: &Document<'_>, kind: Option<FormatKind>, label: &At<String>) {
    match kind.map(|kind| kind.check_label(&label.value)) {
        None => document.mistake(
            label.line,
            "a label without a file system",
            "filesystem = \"ext4\"",
        ),
        Some(Err(error)) => document.mistake(label.line, error.to_string(), "choose another one"),
        Some(Ok(())) => {}
    }
}

fn check_name(document: &Document<'_>, scheme: SchemeKind, name: &At<String>) {
    let count = name.value.encode_utf16().count();
    if count > MAX_NAME {
        let what = format!("a name of {count} characters");
        document.mistake(name.line, what, format!("at most {MAX_NAME} are allowed"));
    }
    if scheme == SchemeKind::Mbr {
        let what = "a name for a partition of an MBR, which has none";
        document.mistake(name.line, what, "scheme = \"gpt\", or omit it");
    }
}

fn content(document: &Document<'_>, fields: &Fields<'_, '_>, folder: &Path) -> Option<Content> {
    let line = fields.line();
    let from = origin(document, fields, folder)?;
    let to = fields.string("to").map_or("/".to_owned(), |at| at.value);
    if to.split('/').any(|name| name == "..") {
        document.mistake(
            line,
            format!("{to:?} leaves the file system"),
            "a path without \"..\"",
        );
    }
    let portion = Portion {
        from,
        picks: fields
            .string_or_strings("pick")
            .into_iter()
            .map(|at| at.value)
            .collect(),
        strip: fields
            .number("strip", 0..=64)
            .and_then(|count| usize::try_from(count).ok())
            .unwrap_or(0),
        is_template: fields.boolean("template").is_some_and(|at| at.value),
        to,
        is_packed: fields.boolean("unpack").is_some_and(|at| !at.value),
        owner: fields.checked("owner", owner).unwrap_or((0, 0)),
        mode: fields.checked("mode", mode),
    };
    Some(Content {
        line,
        portion,
        is_first: fields.boolean("first").is_some_and(|at| at.value),
    })
}

fn origin(document: &Document<'_>, fields: &Fields<'_, '_>, folder: &Path) -> Option<Origin> {
    if let Some(text) = fields.string("text") {
        if fields.has("from") {
            document.mistake(
                fields.line(),
                "content with both `from` and `text`",
                "keep one of them",
            );
        }
        let to = fields.string("to").map_or(String::new(), |at| at.value);
        if to.is_empty() || to.ends_with('/') {
            let remedy = "to = \"/loader/entries/hut.conf\"";
            document.mistake(fields.line(), "a text without a destination", remedy);
        }
        return Some(Origin::Text(text.value));
    }
    let given = fields.string("from").map(|at| at.value).unwrap_or_default();
    match Location::parse(given.as_ref()) {
        url @ Location::Url(_) => Some(Origin::At(url)),
        Location::Shelf(_) => {
            let what = "`from` does not take names on the shelf";
            document.mistake(fields.line(), what, "the file, or its address");
            None
        }
        Location::Path(_) => {
            let path = source(document, fields, folder)?;
            Some(Origin::At(Location::Path(path)))
        }
    }
}

fn source(document: &Document<'_>, fields: &Fields<'_, '_>, folder: &Path) -> Option<PathBuf> {
    let Some(from) = fields.string("from") else {
        fields.must_have(
            "from",
            "nothing to take",
            "from = \"a file, directory or archive\"",
        );
        return None;
    };
    let path = folder.join(&from.value);
    if !path.exists() {
        let what = format!("there is no {}", path.display());
        document.mistake(
            from.line,
            what,
            "paths are relative to the layout's directory",
        );
    } else if !path.is_file() && !path.is_dir() {
        let what = format!("{} is a pipe or a device", path.display());
        document.mistake(from.line, what, "a file, a directory or an archive");
    }
    Some(path)
}

fn blob(document: &Document<'_>, fields: &Fields<'_, '_>, folder: &Path) -> Option<Blob> {
    let line = fields.line();
    let from = source(document, fields, folder)?;
    fields.must_have("at", "a blob without a place", "at = \"8KiB\"");
    let (at, max) = (fields.checked("at", size)?, fields.checked("max", size));
    let len = std::fs::metadata(&from).map_or(0, |facts| facts.len());
    if let Some(max) = max.filter(|max| len > *max) {
        let what = format!("{} has {len} bytes, {max} are allowed", from.display());
        document.mistake(line, what, "a smaller file, or a larger `max`");
    }
    Some(Blob {
        line,
        from,
        at,
        max,
    })
}
