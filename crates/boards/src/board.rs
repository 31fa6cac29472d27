//! Board files: what a kind of board needs in order to start from a medium. The format is described
//! in `docs/formats.md`.

use std::path::Path;

use pinewrit_settings::Mistakes;
use pinewrit_settings::document::{Document, Fields, NoSecrets, Wrong, architecture, size};
use pinewrit_table::SchemeKind;
use pinewrit_volume::Architecture;

/// The largest board file, in bytes.
const MAX_FILE: u64 = 1 << 20;

/// A kind of board.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Board {
    /// Its name.
    pub name: String,
    /// Its processor.
    pub architecture: Architecture,
    /// The smallest medium that it starts from, in bytes.
    pub smallest: Option<u64>,
    /// The largest one, in bytes.
    pub largest: Option<u64>,
    /// Rate of its serial console, in bits per second.
    pub serial_rate: Option<u32>,
    /// Its memory, in bytes.
    pub memory: Option<u64>,
    /// The ways in which it starts, in the order in which it tries them. One is enough.
    pub ways: Vec<BoardWay>,
}

/// A way in which a board starts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BoardWay {
    /// What it is called.
    pub name: String,
    /// The media that it is for, in words; none for all.
    pub media: Vec<String>,
    /// The partition table.
    pub scheme: Option<SchemeNeed>,
    /// What its firmware starts.
    pub loader: LoaderNeed,
    /// Partitions that it looks for.
    pub partitions: Vec<PartitionNeed>,
    /// Bytes outside of file systems.
    pub bytes: Vec<BytesNeed>,
}

/// What a board's ROM expects of the partition table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SchemeNeed {
    /// This one.
    Only(SchemeKind),
    /// MBR or GPT.
    Either,
    /// None.
    No,
}

/// What a board's firmware starts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LoaderNeed {
    /// A loader for UEFI.
    Uefi,
    /// The code in the first sector.
    Bios,
    /// A loader in bytes or files that the way lists, or in the board; it reads a text.
    Own,
    /// What lists as bytes and files is all that can be known.
    Listed,
}

/// A partition that a ROM or firmware looks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartitionNeed {
    /// Its number.
    pub number: u32,
    /// Whether it must be marked active.
    pub active: bool,
    /// Where it must begin, in bytes.
    pub at: Option<u64>,
    /// Its file system: one of these.
    pub filesystems: Vec<FilesystemNeed>,
    /// The largest cluster that is read, in bytes.
    pub largest_cluster: Option<u64>,
    /// Its label.
    pub label: Option<String>,
    /// Files in it.
    pub files: Vec<FileNeed>,
}

/// A file system that firmware reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FilesystemNeed {
    /// FAT with 12 bits.
    Fat12,
    /// FAT with 16 bits.
    Fat16,
    /// FAT with 32 bits.
    Fat32,
    /// ext2, ext3 or ext4.
    Ext,
}

/// A file that firmware looks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileNeed {
    /// Its path.
    pub path: String,
    /// Whether it must be the first entry of the root directory.
    pub is_first: bool,
    /// Whether its clusters must follow each other.
    pub in_one_piece: bool,
    /// What it begins with.
    pub magic: Vec<u8>,
    /// The largest size, in bytes.
    pub largest: Option<u64>,
}

/// Bytes at a fixed place, which a ROM loads.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BytesNeed {
    /// What they are called.
    pub name: String,
    /// Where they begin, in bytes.
    pub at: u64,
    /// What is at `magic_at` behind their start.
    pub magic: Vec<u8>,
    /// See `magic`.
    pub magic_at: u64,
    /// A sum that must be right.
    pub sum: Option<SumNeed>,
}

/// A sum of little-endian 32-bit words, in a field of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SumNeed {
    /// Where the field is, from the start of the bytes.
    pub field: u64,
    /// Where their length in bytes is; a word as well.
    pub length: u64,
    /// What stands in the field while the sum is taken.
    pub seed: u32,
}

/// Why a board file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum BoardError {
    /// It could not be read.
    #[error("the file cannot be read")]
    Io(#[from] std::io::Error),
    /// It has mistakes.
    #[error(transparent)]
    Mistakes(#[from] Mistakes),
}

const KEYS: [&str; 7] = [
    "name",
    "architecture",
    "smallest",
    "largest",
    "serial-rate",
    "memory",
    "way",
];
const WAY_KEYS: [&str; 6] = ["name", "media", "scheme", "loader", "partition", "bytes"];
const PARTITION_KEYS: [&str; 7] = [
    "number",
    "active",
    "at",
    "filesystem",
    "largest-cluster",
    "label",
    "file",
];
const FILE_KEYS: [&str; 5] = ["path", "first", "in-one-piece", "magic", "largest"];
const BYTES_KEYS: [&str; 5] = ["name", "at", "magic", "magic-at", "sum"];
const SUM_KEYS: [&str; 3] = ["field", "length", "seed"];

impl Board {
    /// Reads a board file.
    ///
    /// # Errors
    /// [`BoardError`]: all mistakes at once.
    pub fn read(path: &Path) -> Result<Self, BoardError> {
        if std::fs::metadata(path)?.len() > MAX_FILE {
            return Err(std::io::Error::other("too large for a board file").into());
        }
        Ok(Self::parse(&std::fs::read_to_string(path)?)?)
    }

    /// The board that a text describes.
    ///
    /// # Errors
    /// All mistakes, with their lines.
    pub fn parse(text: &str) -> Result<Self, Mistakes> {
        let document = Document::new(text, Path::new(""), &NoSecrets);
        let board = document.parse().and_then(|root| {
            let root = Fields::new(&document, &root, 1, "a board file", &KEYS);
            board(&document, &root)
        });
        match board.filter(|_| !document.has_mistakes()) {
            Some(board) => Ok(board),
            None => Err(document.into_mistakes()),
        }
    }
}

fn board(document: &Document<'_>, root: &Fields<'_, '_>) -> Option<Board> {
    root.must_have("name", "a board without a name", "name = \"Brindle B2\"");
    let what = "a board without an architecture";
    root.must_have("architecture", what, "architecture = \"arm64\"");
    let ways: Vec<BoardWay> = root
        .tables("way", "way", &WAY_KEYS)
        .iter()
        .filter_map(|fields| way(document, fields))
        .collect();
    if !root.has("way") {
        let what = "there is no way in which it starts";
        document.mistake(1, what, "add one: [[way]]");
    }
    let architecture = root.checked("architecture", architecture);
    let board = Board {
        name: root.string("name").map(|at| at.value).unwrap_or_default(),
        architecture: architecture.unwrap_or(Architecture::Arm64),
        smallest: root.checked("smallest", size),
        largest: root.checked("largest", size),
        serial_rate: root
            .number("serial-rate", 300..=4_000_000)
            .and_then(|rate| u32::try_from(rate).ok()),
        memory: root.checked("memory", size),
        ways,
    };
    // Without one there is a mistake, and no board.
    architecture.map(|_| board)
}

fn way(document: &Document<'_>, fields: &Fields<'_, '_>) -> Option<BoardWay> {
    let loader = fields.checked("loader", |text| match text {
        "uefi" => Ok(LoaderNeed::Uefi),
        "bios" => Ok(LoaderNeed::Bios),
        "own" => Ok(LoaderNeed::Own),
        "listed" => Ok(LoaderNeed::Listed),
        _ => Err(Wrong::new(
            format!("{text:?} is not a loader"),
            "\"uefi\", \"bios\", \"own\" or \"listed\"",
        )),
    });
    let what = "a way without a loader";
    fields.must_have(
        "loader",
        what,
        "loader = \"uefi\", \"bios\", \"own\" or \"listed\"",
    );
    Some(BoardWay {
        name: fields.string("name").map(|at| at.value).unwrap_or_default(),
        media: fields
            .string_or_strings("media")
            .into_iter()
            .map(|at| at.value)
            .collect(),
        scheme: fields.checked("scheme", scheme),
        partitions: fields
            .one_or_more("partition", &PARTITION_KEYS)
            .iter()
            .filter_map(|fields| partition(document, fields))
            .collect(),
        bytes: fields
            .one_or_more("bytes", &BYTES_KEYS)
            .iter()
            .filter_map(bytes)
            .collect(),
        loader: loader?,
    })
}

fn partition(document: &Document<'_>, fields: &Fields<'_, '_>) -> Option<PartitionNeed> {
    fields.must_have("number", "a partition without a number", "number = 1");
    let kinds = fields.string_or_strings("filesystem").into_iter();
    let filesystems = kinds.filter_map(|at| document.accept(at.line, filesystem(&at.value)));
    // All mistakes are found before the first one ends it.
    let need = PartitionNeed {
        number: 0,
        active: fields.boolean("active").is_some_and(|at| at.value),
        at: fields.checked("at", size),
        filesystems: filesystems.collect(),
        largest_cluster: fields.checked("largest-cluster", size),
        label: fields.string("label").map(|at| at.value),
        files: fields
            .one_or_more("file", &FILE_KEYS)
            .iter()
            .filter_map(file)
            .collect(),
    };
    let number = fields.number("number", 1..=128)?;
    Some(PartitionNeed {
        number: u32::try_from(number).ok()?,
        ..need
    })
}

fn file(fields: &Fields<'_, '_>) -> Option<FileNeed> {
    fields.must_have("path", "a file without a path", "path = \"/boot.bin\"");
    let is = |key: &str| fields.boolean(key).is_some_and(|at| at.value);
    let (magic, largest) = (
        fields.checked("magic", hex),
        fields.checked("largest", size),
    );
    Some(FileNeed {
        path: fields.checked("path", |text| match text.starts_with('/') {
            true => Ok(text.to_owned()),
            false => Err(Wrong::new(
                format!("{text:?} is not a path in its file system"),
                format!("/{text}"),
            )),
        })?,
        is_first: is("first"),
        in_one_piece: is("in-one-piece"),
        magic: magic.unwrap_or_default(),
        largest,
    })
}

fn bytes(fields: &Fields<'_, '_>) -> Option<BytesNeed> {
    fields.must_have("at", "bytes without a place", "at = \"8KiB\"");
    let sum = fields.table("sum", &SUM_KEYS);
    let (magic, magic_at) = (
        fields.checked("magic", hex),
        fields.checked("magic-at", size),
    );
    Some(BytesNeed {
        name: fields
            .string("name")
            .map_or_else(|| "the loader".to_owned(), |at| at.value),
        at: fields.checked("at", size)?,
        magic: magic.unwrap_or_default(),
        magic_at: magic_at.unwrap_or(0),
        sum: sum.and_then(|sum| {
            let what = "a sum without its field";
            sum.must_have("field", what, "field = \"12\", length = \"16\"");
            Some(SumNeed {
                field: sum.checked("field", size)?,
                length: sum.checked("length", size)?,
                seed: sum.checked("seed", word).unwrap_or(0),
            })
        }),
    })
}

fn scheme(text: &str) -> Result<SchemeNeed, Wrong> {
    Ok(match text {
        "mbr" => SchemeNeed::Only(SchemeKind::Mbr),
        "gpt" => SchemeNeed::Only(SchemeKind::Gpt),
        "either" => SchemeNeed::Either,
        "none" => SchemeNeed::No,
        _ => {
            return Err(Wrong::new(
                format!("{text:?} is not a scheme"),
                "\"mbr\", \"gpt\", \"either\" or \"none\"",
            ));
        }
    })
}

fn filesystem(text: &str) -> Result<FilesystemNeed, Wrong> {
    Ok(match text {
        "fat12" => FilesystemNeed::Fat12,
        "fat16" => FilesystemNeed::Fat16,
        "fat32" => FilesystemNeed::Fat32,
        "ext" => FilesystemNeed::Ext,
        _ => {
            return Err(Wrong::new(
                format!("{text:?} is not a file system that firmware reads"),
                "\"fat12\", \"fat16\", \"fat32\" or \"ext\"",
            ));
        }
    })
}

fn word(text: &str) -> Result<u32, Wrong> {
    let digits = text.strip_prefix("0x").unwrap_or(text);
    u32::from_str_radix(digits, 16).map_err(|_| {
        let what = format!("{text:?} is not a word of 32 bits");
        Wrong::new(what, "up to eight hexadecimal digits")
    })
}

fn hex(text: &str) -> Result<Vec<u8>, Wrong> {
    let digits: String = text.chars().filter(|sign| !sign.is_whitespace()).collect();
    let pairs = digits.as_bytes().chunks(2);
    let bytes = pairs.map(|pair| {
        let pair = std::str::from_utf8(pair).ok()?;
        (pair.len() == 2).then(|| u8::from_str_radix(pair, 16).ok())?
    });
    let bytes: Option<Vec<u8>> = bytes.collect();
    bytes.filter(|bytes| !bytes.is_empty()).ok_or_else(|| {
        let what = format!("{text:?} is not a row of bytes");
        Wrong::new(what, "pairs of hexadecimal digits: \"55aa\"")
    })
}
