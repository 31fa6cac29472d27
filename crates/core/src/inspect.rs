//! What an image or a medium holds: table, partitions, file systems, boot modes, settings.

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, ReadCache, Window};
use pinewrit_table::{Partition, PartitionTable, PartitionType, Problem, Scheme, SchemeKind};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};

use pinewrit_firstboot::intake::{self, SettingsFacts};
use pinewrit_volume::bootmode::{self, BiosBoot, BootModes};
use pinewrit_volume::system::{self, KernelFacts, SystemFacts};
use pinewrit_volume::{FilesystemFacts, probe};

/// The findings.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Inspection {
    /// Size in bytes; `None` if an image's size is unknown.
    pub size: Option<u64>,
    /// The partition table's scheme.
    pub scheme: Option<SchemeFacts>,
    /// The partitions in the order of their numbers.
    pub partitions: Vec<PartitionFacts>,
    /// A file system that spans the medium itself: without a table, or beside one as in hybrid
    /// images.
    pub filesystem: Option<FilesystemFacts>,
    /// A partition table of another kind of computer, only recognised, in words.
    pub other_table: Option<&'static str>,
    /// The boot modes that it supports.
    pub boot: BootModes,
    /// The operating system, if identified.
    pub system: Option<SystemFacts>,
    /// Kernels, as hints about suitable boards.
    pub kernels: Vec<KernelFacts>,
    /// First-boot settings found on it.
    pub settings: Option<SettingsFacts>,
    /// What is wrong with the table.
    pub problems: Vec<String>,
    /// Whether it begins with a boot sector, by its mark.
    pub has_boot_sector: bool,
}

/// Scheme and identifier of a table.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SchemeFacts {
    /// `MBR` or `GPT`.
    #[serde(serialize_with = "scheme_word")]
    #[schemars(with = "String")]
    pub kind: SchemeKind,
    /// Disk signature or disk GUID.
    pub id: String,
}

/// One partition and what is in it.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PartitionFacts {
    /// Number as operating systems count.
    pub number: u32,
    /// The type, in words.
    #[serde(serialize_with = "type_word")]
    #[schemars(with = "String")]
    pub kind: PartitionType,
    /// The type's code.
    pub code: String,
    /// First byte.
    pub start: u64,
    /// Length in bytes.
    pub size: u64,
    /// Its `PARTUUID=` in boot lines and `fstab`: its GUID, or the disk signature and its number.
    pub partuuid: Option<String>,
    /// Marked active.
    pub active: bool,
    /// Name in the table.
    pub name: Option<String>,
    /// The file system in it; `None` if none is recognised or it was not examined.
    pub filesystem: Option<FilesystemFacts>,
}

fn scheme_word<S: Serializer>(kind: &SchemeKind, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(kind.word())
}

fn type_word<S: Serializer>(kind: &PartitionType, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(kind.word())
}

impl PartitionFacts {
    /// The partition's place.
    pub fn range(&self) -> ByteRange {
        ByteRange {
            start: self.start,
            end: self.start.saturating_add(self.size),
        }
    }
}

impl Inspection {
    /// Whether neither a table nor a file system was found.
    pub fn is_unknown(&self) -> bool {
        self.scheme.is_none() && self.filesystem.is_none() && self.other_table.is_none()
    }

    /// The partition that holds the byte at `offset`.
    pub fn partition_at(&self, offset: u64) -> Option<&PartitionFacts> {
        self.partitions.iter().find(|p| p.range().contains(offset))
    }
}

/// Inspects a medium, including its end and those of its partitions, where members of arrays have
/// their marks.
///
/// # Errors
/// The device could not be read.
pub fn inspect_medium(device: &dyn BlockDevice) -> Result<Inspection, DiskError> {
    let mut found = inspect(device, Some(device.size()))?;
    let at_end = |device: &dyn BlockDevice| {
        let sign = pinewrit_signs::at_end(device).ok().flatten();
        sign.map(FilesystemFacts::from)
    };
    if let Some(member) = at_end(device) {
        found.filesystem = Some(member);
    }
    for partition in &mut found.partitions {
        let range = partition.range();
        if range.end <= device.size()
            && let Some(member) = at_end(&Window::new(device, range))
        {
            partition.filesystem = Some(member);
        }
    }
    Ok(found)
}

/// Inspects a device. `size` is `None` for an image of unknown size.
///
/// Partitions that reach past what can be read are listed without a file system.
///
/// # Errors
/// The device could not be read.
pub fn inspect(device: &dyn BlockDevice, size: Option<u64>) -> Result<Inspection, DiskError> {
    // Directories and tables are read in many small parts.
    let device = &ReadCache::new(device);
    let table = PartitionTable::read(device)?;
    let filesystem = probe(device)?;
    let mut inspection = Inspection {
        size,
        scheme: table.as_ref().map(|table| scheme_facts(&table.scheme)),
        partitions: Vec::new(),
        filesystem,
        other_table: None,
        boot: BootModes::default(),
        system: None,
        kernels: Vec::new(),
        settings: None,
        problems: Vec::new(),
        has_boot_sector: false,
    };
    let mut first = [0; 512];
    inspection.has_boot_sector =
        device.read_at(0, &mut first).is_ok() && first[510..] == [0x55, 0xaa];
    let Some(table) = table else {
        inspection.other_table = pinewrit_signs::foreign_table(device)?;
        if let Some(facts) = inspection.filesystem.clone() {
            look_into(device, &facts, None, &mut inspection);
        }
        return Ok(inspection);
    };
    for partition in &table.partitions {
        let window = Window::new(device, partition.range);
        let filesystem = probe(&window)?;
        if let Some(facts) = &filesystem {
            look_into(&window, facts, Some(partition.number), &mut inspection);
        }
        inspection
            .partitions
            .push(partition_facts(&table.scheme, partition, filesystem));
    }
    if table.has_boot_code {
        let active = table.partitions.iter().find(|p| p.active);
        inspection.boot.bios = Some(BiosBoot {
            active_partition: active.map(|p| p.number),
        });
    }
    let told = |problem: &&Problem| size.is_some() || !needs_size(problem);
    inspection.problems = table
        .problems
        .iter()
        .filter(told)
        .map(Problem::to_string)
        .collect();
    Ok(inspection)
}

/// Whether a problem only counts if the size is really known.
fn needs_size(problem: &Problem) -> bool {
    matches!(
        problem,
        Problem::PastEnd { .. } | Problem::BackupNotAtEnd { .. }
    )
}

/// Searches a file system for loaders, kernels, the system's name and settings.
fn look_into(
    device: &dyn BlockDevice,
    facts: &FilesystemFacts,
    partition: Option<u32>,
    inspection: &mut Inspection,
) {
    if facts.kind.is_fat() {
        let loaders = bootmode::uefi_loaders(device, partition);
        inspection.boot.uefi.extend(loaders);
        let kernels = system::kernels(device, partition);
        inspection.kernels.extend(kernels);
    } else if !facts.kind.is_ext() {
        return;
    }
    if inspection.system.is_none() {
        inspection.system = system::system(device);
    }
    if inspection.settings.is_none() {
        inspection.settings = intake::find_settings(device, partition);
    }
}

fn scheme_facts(scheme: &Scheme) -> SchemeFacts {
    match scheme {
        Scheme::Mbr { signature } => SchemeFacts {
            kind: SchemeKind::Mbr,
            id: format!("{signature:08x}"),
        },
        Scheme::Gpt { disk_guid, .. } => SchemeFacts {
            kind: SchemeKind::Gpt,
            id: disk_guid.to_string(),
        },
    }
}

fn partition_facts(
    scheme: &Scheme,
    partition: &Partition,
    filesystem: Option<FilesystemFacts>,
) -> PartitionFacts {
    let name = partition.name.as_ref();
    PartitionFacts {
        number: partition.number,
        kind: partition.kind,
        code: partition.kind.code(),
        start: partition.range.start,
        size: partition.range.len(),
        partuuid: scheme.partuuid(partition),
        active: partition.active,
        name: name.map(|name| name.chars().map(pinewrit_volume::printable).collect()),
        filesystem,
    }
}
