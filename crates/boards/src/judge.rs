//! Whether a board starts from a medium: each of its needs, with what was found.

use pinewrit_disk::{AlignedBuf, BlockDevice, DiskError};
use pinewrit_fat::{FatWidth, Volume};
use pinewrit_table::Partition;
use pinewrit_volume::FilesystemKind;
use pinewrit_volume::files::FilesystemOf;
use schemars::JsonSchema;
use serde::Serialize;

use crate::board::{
    Board, BoardWay, BytesNeed, FileNeed, FilesystemNeed, LoaderNeed, PartitionNeed, SchemeNeed,
    SumNeed,
};
use crate::chain::{self, Firmware, Medium, Verdict, Way};

/// The most bytes that a sum is taken of.
const MAX_SUMMED: u32 = 64 << 20;

/// A need, with its facts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "need")]
pub enum Need {
    /// A size of the medium, in bytes.
    Size {
        /// At least.
        smallest: Option<u64>,
        /// At most.
        largest: Option<u64>,
    },
    /// A partition table: `MBR`, `GPT`, either of them (an empty word), or none.
    Scheme {
        /// Its word.
        wanted: Option<&'static str>,
    },
    /// A partition, with its end on the medium.
    Partition {
        /// Its number.
        number: u32,
    },
    /// A partition is marked active.
    Active {
        /// Its number.
        number: u32,
    },
    /// A partition begins at a place.
    Start {
        /// Its number.
        number: u32,
        /// The place, in bytes.
        at: u64,
    },
    /// A partition has one of these file systems.
    Filesystem {
        /// Its number.
        number: u32,
        /// Words of those.
        wanted: Vec<&'static str>,
    },
    /// Clusters are not too large.
    Cluster {
        /// The partition's number.
        number: u32,
        /// The most bytes.
        largest: u64,
    },
    /// A label.
    Label {
        /// The partition's number.
        number: u32,
        /// The label.
        wanted: String,
    },
    /// A file exists.
    File {
        /// The partition's number.
        number: u32,
        /// Its path.
        path: String,
    },
    /// A file is the first entry of its root directory.
    First {
        /// The partition's number.
        number: u32,
        /// Its path.
        path: String,
    },
    /// A file's clusters follow each other.
    OnePiece {
        /// The partition's number.
        number: u32,
        /// Its path.
        path: String,
    },
    /// A file begins with certain bytes.
    FileMagic {
        /// The partition's number.
        number: u32,
        /// Its path.
        path: String,
    },
    /// A file is not too large.
    FileSize {
        /// The partition's number.
        number: u32,
        /// Its path.
        path: String,
        /// The most bytes.
        largest: u64,
    },
    /// Bytes outside of file systems.
    Bytes {
        /// What they are called.
        name: String,
        /// Where, in bytes.
        at: u64,
    },
    /// Their sum is right.
    Sum {
        /// What they are called.
        name: String,
        /// Where they begin, in bytes.
        at: u64,
    },
    /// The loader, and what follows.
    Chain {
        /// What starts it.
        firmware: Firmware,
    },
}

/// Whether a need is met.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Met {
    /// It is.
    Yes,
    /// That cannot be told.
    Unknown,
    /// It is not.
    No,
}

/// What was found instead, or as wished.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "kind", content = "value")]
pub enum Found {
    /// Nothing.
    Nothing,
    /// It is as it must be.
    AsWished,
    /// A number of bytes, or a place.
    Bytes(u64),
    /// A word.
    Word(String),
    /// Ways from the firmware on.
    Ways(Vec<Way>),
}

/// A need that was judged.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Judged {
    /// The need.
    #[serde(flatten)]
    pub need: Need,
    /// Whether it is met.
    pub met: Met,
    /// What was found.
    pub found: Found,
}

/// A way of the board, judged.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct JudgedWay {
    /// What it is called.
    pub name: String,
    /// The media that it is for.
    pub media: Vec<String>,
    /// Whether the board starts in this way.
    pub verdict: Verdict,
    /// All needs.
    pub needs: Vec<Judged>,
}

/// Whether a board starts from a medium.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Readiness {
    /// The board.
    pub board: String,
    /// The best of its ways.
    pub verdict: Verdict,
    /// All ways.
    pub ways: Vec<JudgedWay>,
}

/// Judges a medium, or an image of one.
///
/// # Errors
/// The device could not be read.
pub fn judge(
    board: &Board,
    device: &dyn BlockDevice,
    extent: Extent,
) -> Result<Readiness, DiskError> {
    let medium = Medium::open(device)?;
    let found = chain::follow_on(device, &medium)?;
    let mut ways = Vec::new();
    for way in &board.ways {
        let mut judge = Judge {
            board,
            device,
            medium: &medium,
            extent,
            needs: Vec::new(),
        };
        judge.size(extent);
        judge.way(way, &found)?;
        let worst = judge.needs.iter().map(|one| one.met).max();
        ways.push(JudgedWay {
            name: way.name.clone(),
            media: way.media.clone(),
            verdict: match worst {
                Some(Met::No) => Verdict::DoesNotStart,
                Some(Met::Unknown) | None => Verdict::CannotBeTold,
                Some(Met::Yes) => Verdict::Starts,
            },
            needs: judge.needs,
        });
    }
    let best = ways.iter().map(|way| way.verdict).min();
    Ok(Readiness {
        board: board.name.clone(),
        verdict: best.unwrap_or(Verdict::CannotBeTold),
        ways,
    })
}

/// What is judged, and its size in bytes.
#[derive(Clone, Copy, Debug)]
pub enum Extent {
    /// A medium in a reader.
    Medium(u64),
    /// An image; its size may be unknown.
    Image(Option<u64>),
}

impl Extent {
    fn bytes(self) -> Option<u64> {
        match self {
            Self::Medium(size) => Some(size),
            Self::Image(size) => size,
        }
    }
}

struct Judge<'j> {
    board: &'j Board,
    device: &'j dyn BlockDevice,
    medium: &'j Medium<'j>,
    extent: Extent,
    needs: Vec<Judged>,
}

impl Judge<'_> {
    fn add(&mut self, need: Need, is_met: bool, found: Found) {
        let met = if is_met { Met::Yes } else { Met::No };
        self.needs.push(Judged { need, met, found });
    }

    fn size(&mut self, extent: Extent) {
        let (smallest, largest) = (self.board.smallest, self.board.largest);
        if smallest.is_none() && largest.is_none() {
            return;
        }
        let need = Need::Size { smallest, largest };
        let is_small = |size: u64| largest.is_none_or(|largest| size <= largest);
        match extent {
            Extent::Medium(size) => {
                let is_met = is_small(size) && smallest.is_none_or(|least| size >= least);
                self.add(need, is_met, Found::Bytes(size));
            }
            // It goes on a medium that is large enough.
            Extent::Image(Some(size)) if !is_small(size) => {
                self.add(need, false, Found::Bytes(size));
            }
            Extent::Image(_) => {}
        }
    }

    fn way(&mut self, way: &BoardWay, found: &[Way]) -> Result<(), DiskError> {
        if let Some(scheme) = way.scheme {
            self.scheme(scheme);
        }
        for bytes in &way.bytes {
            self.bytes(bytes)?;
        }
        for partition in &way.partitions {
            self.partition(partition);
        }
        let firmware = match way.loader {
            LoaderNeed::Uefi => Firmware::Uefi,
            LoaderNeed::Bios => Firmware::LegacyBios,
            LoaderNeed::Own => Firmware::Own,
            LoaderNeed::Listed => return Ok(()),
        };
        self.chain(firmware, found);
        Ok(())
    }

    fn scheme(&mut self, wanted: SchemeNeed) {
        let table = self.medium.table.as_ref();
        let found = table.map(|table| table.scheme.kind());
        let (is_met, word) = match wanted {
            SchemeNeed::Only(kind) => (found == Some(kind), Some(kind.word())),
            SchemeNeed::Either => (found.is_some(), Some("")),
            SchemeNeed::No => (found.is_none(), None),
        };
        let found = found.map_or(Found::Nothing, |kind| Found::Word(kind.word().to_owned()));
        self.add(Need::Scheme { wanted: word }, is_met, found);
    }

    fn bytes(&mut self, bytes: &BytesNeed) -> Result<(), DiskError> {
        let need = Need::Bytes {
            name: bytes.name.clone(),
            at: bytes.at,
        };
        let place = bytes.at.saturating_add(bytes.magic_at);
        let len = bytes.magic.len().max(16);
        let Some(there) = self.read(place, len)? else {
            self.add(need, false, Found::Nothing);
            return Ok(());
        };
        let is_met = match bytes.magic.is_empty() {
            true => there.iter().any(|byte| *byte != 0),
            false => there.starts_with(&bytes.magic),
        };
        let found = if is_met {
            Found::AsWished
        } else {
            Found::Word(hex(&there))
        };
        self.add(need, is_met, found);
        if let Some(sum) = bytes.sum.filter(|_| is_met) {
            let is_right = self.sum_is_right(bytes.at, &sum)?;
            let need = Need::Sum {
                name: bytes.name.clone(),
                at: bytes.at,
            };
            self.add(need, is_right, Found::Nothing);
        }
        Ok(())
    }

    /// Bytes of the medium; `None` if it ends before.
    fn read(&self, at: u64, len: usize) -> Result<Option<Vec<u8>>, DiskError> {
        let sector = self.device.logical_sector().bytes();
        let start = at / sector * sector;
        let end = at.saturating_add(len as u64).next_multiple_of(sector);
        if end > self.device.size() {
            return Ok(None);
        }
        let mut buffer = AlignedBuf::new((end - start) as usize);
        self.device.read_at(start, &mut buffer)?;
        let skipped = (at - start) as usize;
        Ok(Some(buffer[skipped..skipped + len].to_vec()))
    }

    fn word(&self, at: u64) -> Result<Option<u32>, DiskError> {
        let bytes = self.read(at, 4)?;
        let word = bytes.and_then(|bytes| <[u8; 4]>::try_from(bytes).ok());
        Ok(word.map(u32::from_le_bytes))
    }

    fn sum_is_right(&self, at: u64, sum: &SumNeed) -> Result<bool, DiskError> {
        let (field, length) = (at.saturating_add(sum.field), at.saturating_add(sum.length));
        let (Some(stated), Some(length)) = (self.word(field)?, self.word(length)?) else {
            return Ok(false);
        };
        if length == 0 || length > MAX_SUMMED || length % 4 != 0 {
            return Ok(false);
        }
        let Some(content) = self.read(at, length as usize)? else {
            return Ok(false);
        };
        let words = content
            .chunks_exact(4)
            .map(|word| u32::from_le_bytes([word[0], word[1], word[2], word[3]]));
        let total = words.fold(0_u32, u32::wrapping_add);
        Ok(total.wrapping_sub(stated).wrapping_add(sum.seed) == stated)
    }

    fn partition(&mut self, wanted: &PartitionNeed) {
        let number = wanted.number;
        let table = self.medium.table.as_ref();
        let partitions = table.map(|table| table.partitions.as_slice());
        let mut partitions = partitions.unwrap_or_default().iter();
        let found = partitions.find(|one| one.number == number).cloned();
        let need = Need::Partition { number };
        let Some(found) = found else {
            return self.add(need, false, Found::Nothing);
        };
        let end = found.range.end;
        if self.extent.bytes().is_some_and(|size| end > size) {
            return self.add(need, false, Found::Bytes(end));
        }
        self.add(need, true, Found::AsWished);
        self.place(wanted, &found);
        let mut systems = self.medium.systems.iter();
        let system = systems.find(|one| one.partition == Some(number)).cloned();
        self.filesystem(wanted, system.as_ref());
        let Some(system) = system else { return };
        for file in &wanted.files {
            self.file(number, file, &system);
        }
    }

    fn place(&mut self, wanted: &PartitionNeed, found: &Partition) {
        let number = wanted.number;
        if wanted.active {
            self.add(Need::Active { number }, found.active, Found::Nothing);
        }
        if let Some(at) = wanted.at {
            let start = found.range.start;
            let need = Need::Start { number, at };
            self.add(need, start == at, Found::Bytes(start));
        }
    }

    fn filesystem(&mut self, wanted: &PartitionNeed, found: Option<&FilesystemOf>) {
        let number = wanted.number;
        let kind = found.map(|found| found.facts.kind);
        if !wanted.filesystems.is_empty() {
            let need = Need::Filesystem {
                number,
                wanted: wanted.filesystems.iter().map(|one| one.word()).collect(),
            };
            let is_met = kind.is_some_and(|kind| wanted.filesystems.iter().any(|one| one.is(kind)));
            let found = kind.map_or(Found::Nothing, |kind| Found::Word(kind.word().to_owned()));
            self.add(need, is_met, found);
        }
        let Some(system) = found else { return };
        if let Some(label) = &wanted.label {
            let found = system.facts.label.clone();
            let need = Need::Label {
                number,
                wanted: label.clone(),
            };
            let is_met = found.as_ref() == Some(label);
            self.add(need, is_met, found.map_or(Found::Nothing, Found::Word));
        }
        if let Some(largest) = wanted
            .largest_cluster
            .filter(|_| system.facts.kind.is_fat())
            && let Ok(volume) = Volume::open(&self.medium.window(system) as &dyn BlockDevice)
        {
            let cluster = volume.geometry().cluster;
            let need = Need::Cluster { number, largest };
            self.add(need, cluster <= largest, Found::Bytes(cluster));
        }
    }

    fn file(&mut self, number: u32, wanted: &FileNeed, system: &FilesystemOf) {
        let path = wanted.path.clone();
        let size = self.medium.ask(system, |files| files.size_of(&path));
        let Some(size) = size else {
            let need = Need::File { number, path };
            self.needs.push(Judged {
                need,
                met: Met::Unknown,
                found: Found::Nothing,
            });
            return;
        };
        let need = Need::File {
            number,
            path: path.clone(),
        };
        let found = size.map_or(Found::Nothing, Found::Bytes);
        self.add(need, size.is_some(), found);
        let Some(size) = size else { return };
        if let Some(largest) = wanted.largest {
            let need = Need::FileSize {
                number,
                path: path.clone(),
                largest,
            };
            self.add(need, size <= largest, Found::Bytes(size));
        }
        if !wanted.magic.is_empty() {
            let head = self.medium.head(system, &path, wanted.magic.len());
            let is_met = head.as_ref() == Some(&wanted.magic);
            let found = head.map_or(Found::Nothing, |head| Found::Word(hex(&head)));
            let need = Need::FileMagic {
                number,
                path: path.clone(),
            };
            self.add(need, is_met, found);
        }
        self.entry(number, wanted, system);
    }

    /// Where a file stands in a FAT.
    fn entry(&mut self, number: u32, wanted: &FileNeed, system: &FilesystemOf) {
        let window = self.medium.window(system);
        let Ok(volume) = Volume::open(&window as &dyn BlockDevice) else {
            return;
        };
        let tree = volume.tree();
        let Ok(node) = tree.find(&wanted.path) else {
            return;
        };
        let path = wanted.path.clone();
        if wanted.is_first {
            let first = tree
                .list(&tree.root())
                .ok()
                .and_then(|all| all.into_iter().next());
            let is_met = first.as_ref() == Some(&node);
            let found = first.map_or(Found::Nothing, |first| Found::Word(first.name));
            let need = Need::First {
                number,
                path: path.clone(),
            };
            self.add(need, is_met, found);
        }
        if wanted.in_one_piece {
            let is_met = tree.is_in_one_piece(&node).unwrap_or(false);
            self.add(Need::OnePiece { number, path }, is_met, Found::Nothing);
        }
    }

    fn chain(&mut self, firmware: Firmware, all: &[Way]) {
        let is_for = |way: &&Way| {
            let fits = way
                .architecture
                .is_none_or(|one| one == self.board.architecture);
            way.firmware == firmware && (fits || firmware == Firmware::LegacyBios)
        };
        let mut ways: Vec<Way> = all.iter().filter(is_for).cloned().collect();
        if firmware == Firmware::Own {
            let architecture = Some(self.board.architecture);
            ways = vec![chain::by_own_loader(self.medium, architecture)];
        }
        let best = ways.iter().map(Way::verdict).min();
        let met = match best {
            Some(Verdict::Starts) => Met::Yes,
            Some(Verdict::CannotBeTold) => Met::Unknown,
            Some(Verdict::DoesNotStart) | None => Met::No,
        };
        self.needs.push(Judged {
            need: Need::Chain { firmware },
            met,
            found: Found::Ways(ways),
        });
    }
}

impl FilesystemNeed {
    fn word(self) -> &'static str {
        match self {
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::Ext => "ext2, ext3 or ext4",
        }
    }

    fn is(self, kind: FilesystemKind) -> bool {
        match self {
            Self::Fat12 => kind == FilesystemKind::Fat(FatWidth::Fat12),
            Self::Fat16 => kind == FilesystemKind::Fat(FatWidth::Fat16),
            Self::Fat32 => kind == FilesystemKind::Fat(FatWidth::Fat32),
            Self::Ext => kind.is_ext(),
        }
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
