//! What is on a medium or in an image, in words: shared by the commands that show it.

use comfy_table::presets::NOTHING;
use comfy_table::{Cell, CellAlignment, Table};
use pinewrit_core::inspect::{Inspection, PartitionFacts};
use pinewrit_image::{ChecksumOrigin, ExpectedChecksum, ImageSource, OneThread, UnpackedSize};
use pinewrit_table::SchemeKind;
use pinewrit_volume::{BiosBoot, BootModes, UefiLoader};

use crate::{map, style, units};

/// Rows of names and values, aligned.
#[derive(Default)]
pub struct FactList(Vec<(String, String)>);

impl FactList {
    /// Adds a fact.
    pub fn add(&mut self, name: &str, value: impl Into<String>) {
        self.0.push((name.to_owned(), value.into()));
    }

    /// The facts, names in a column.
    pub fn to_text(&self) -> String {
        let dim = style::DIM;
        let longest = self.0.iter().map(|(name, _)| name.len()).max();
        let width = longest.unwrap_or(0).max(9);
        let rows = self.0.iter();
        rows.map(|(name, value)| format!("  {dim}{name:<width$}{dim:#} {value}\n"))
            .collect()
    }
}

/// The layers in words: `xz, 12.61 MB packed`.
pub fn wrapping(source: &ImageSource) -> String {
    let layers: Vec<_> = source.layers().iter().map(ToString::to_string).collect();
    let packed = source.packed_size();
    let packed = packed.map_or("size unknown".to_owned(), units::size);
    match layers[..] {
        [] => "none".to_owned(),
        _ => format!("{}, {packed} packed", layers.join(" around ")),
    }
}

/// One row per layer, outermost first; then the image itself.
pub fn layers(source: &ImageSource, facts: &mut FactList) {
    match source.files().len() {
        0 | 1 => {}
        pieces => facts.add("pieces", format!("{pieces} files, joined")),
    }
    let unpacked = unpacked(source.unpacked_size());
    if source.layers().is_empty() {
        facts.add("size", unpacked);
        return;
    }
    let mut size = source.packed_size();
    for (index, layer) in source.layers().iter().enumerate() {
        let amount = size.map_or("-".to_owned(), units::size);
        let word = layer.wrapping.word();
        let member = layer.member.as_ref();
        let member = member.map_or(String::new(), |member| {
            format!("  with {}", member.display_name())
        });
        let row = format!("{word:<5}  {amount:>9}{member}");
        facts.add(if index == 0 { "wrapping" } else { "" }, row);
        size = layer.unpacked.exact();
    }
    let ratio = source.packed_size().zip(source.unpacked_size().exact());
    let ratio =
        ratio
            .filter(|(packed, _)| *packed > 0)
            .map_or(String::new(), |(packed, unpacked)| {
                format!(
                    ", {:.1} times the packed size",
                    unpacked as f64 / packed as f64
                )
            });
    facts.add("unpacked", format!("{unpacked}{ratio}"));
    let others = source.layers().iter().flat_map(|layer| &layer.others);
    let names: Vec<_> = others.map(|other| other.display_name()).collect();
    if !names.is_empty() {
        let shown = names.iter().take(4).cloned().collect::<Vec<_>>().join(", ");
        let more = match names.len().saturating_sub(4) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        facts.add("beside it", format!("{shown}{more}"));
    }
}

/// Why several cores do not help, in words.
pub fn one_thread(why: OneThread) -> String {
    match why {
        OneThread::OneBlock => "by one thread: the xz file has a single block".to_owned(),
        OneThread::LargeBlocks(limit) => format!(
            "by one thread: two of its xz blocks need more than {} MiB of memory",
            limit >> 20
        ),
        OneThread::OneCore => "by one thread: there is one core".to_owned(),
    }
}

/// What an image contains, for a plan.
pub fn content(preview: &Inspection, facts: &mut FactList) {
    for (index, line) in boot_modes(&preview.boot).iter().enumerate() {
        facts.add(if index == 0 { "boots" } else { "" }, line);
    }
    if preview.is_unknown() {
        facts.add(
            "content",
            "no partition table and no file system recognised",
        );
    }
}

/// A published checksum in words.
pub fn checksum(expected: &ExpectedChecksum) -> String {
    let kind = expected.checksum.kind;
    let doubt = if kind.is_weak() {
        "; this kind protects against accidents only"
    } else {
        ""
    };
    format!("{}, {}{doubt}", kind.word(), origin(expected))
}

/// Where a checksum comes from, in words.
pub fn origin(checksum: &ExpectedChecksum) -> String {
    match &checksum.origin {
        ChecksumOrigin::Argument => "as given".to_owned(),
        ChecksumOrigin::File(path) => {
            let name = path.file_name().unwrap_or(path.as_os_str());
            format!("from {}", name.to_string_lossy())
        }
        ChecksumOrigin::Member(name) => format!("from {name} in the archive"),
        ChecksumOrigin::Shelf(name) => format!("of {name} on the shelf"),
    }
}

/// The unpacked size in words.
pub fn unpacked(size: UnpackedSize) -> String {
    match size {
        UnpackedSize::Exact(bytes) => units::exact(bytes).trim_start().to_owned(),
        UnpackedSize::AtLeast(bytes) => format!("at least {}", units::size(bytes)),
        UnpackedSize::Unknown => "unknown until unpacked".to_owned(),
    }
}

/// The scheme in words.
pub fn scheme(inspection: &Inspection) -> String {
    match &inspection.scheme {
        Some(scheme) if scheme.kind == SchemeKind::Mbr => {
            format!("MBR, disk signature {}", scheme.id)
        }
        Some(scheme) => format!("{}, disk GUID {}", scheme.kind.word(), scheme.id),
        None => match inspection.other_table {
            Some(table) => format!("{table}, of another type of computer"),
            None => "no partition table".to_owned(),
        },
    }
}

/// What a legacy BIOS finds.
pub fn boot_code(bios: BiosBoot) -> String {
    match bios.active_partition {
        Some(number) => format!("boot code, and partition {number} is active"),
        None => "boot code, but no active partition".to_owned(),
    }
}

/// The boot modes in words, one line each.
pub fn boot_modes(boot: &BootModes) -> Vec<String> {
    let mut lines: Vec<_> = boot.uefi.iter().map(uefi).collect();
    lines.extend(
        boot.bios
            .map(|bios| format!("legacy BIOS: {}", boot_code(bios))),
    );
    if lines.is_empty() {
        lines.push("no UEFI loader and no legacy BIOS boot code found".to_owned());
    }
    lines
}

fn uefi(loader: &UefiLoader) -> String {
    let place = match loader.partition {
        Some(number) => format!("partition {number}"),
        None => "the medium itself".to_owned(),
    };
    let doubt = if loader.valid {
        ""
    } else {
        ", but that file is not an executable for it"
    };
    format!(
        "UEFI on {}: {} on {place}{doubt}",
        loader.architecture.word(),
        loader.file
    )
}

/// One line for what is on a medium.
pub fn summary(inspection: &Inspection) -> String {
    let whole = inspection.filesystem.as_ref();
    match (&inspection.scheme, whole) {
        (None, None) => match inspection.other_table {
            Some(table) => format!("a {table}, of another type of computer"),
            None => "no known data".to_owned(),
        },
        (None, Some(fs)) => format!("{}{} without partitions", fs.kind, label(fs.label.as_ref())),
        (Some(scheme), whole) => {
            let parts: Vec<_> = inspection.partitions.iter().map(brief).collect();
            // Besides the table: a member of an array, or a hybrid image.
            let whole = whole.map_or(String::new(), |fs| format!("{}, ", fs.kind));
            match parts.len() {
                0 => format!("{whole}{} without partitions", scheme.kind.word()),
                _ => format!("{whole}{}: {}", scheme.kind.word(), parts.join(", ")),
            }
        }
    }
}

/// A partition in a few words.
pub fn brief(partition: &PartitionFacts) -> String {
    let facts = partition.filesystem.as_ref();
    let kind = facts.map_or(partition.kind.word(), |fs| fs.kind.word());
    let label = label(facts.and_then(|fs| fs.label.as_ref()));
    format!("{kind}{label} {}", units::size(partition.size))
}

fn label(label: Option<&String>) -> String {
    label.map_or(String::new(), |label| format!(" \"{label}\""))
}

/// The bar and the table of partitions.
pub fn partitions(inspection: &Inspection, width: usize) -> String {
    let end = inspection.partitions.iter().map(|p| p.range().end).max();
    let Some(end) = end else {
        return String::new();
    };
    let size = inspection.size.unwrap_or(end);
    let mut table = Table::new();
    table.load_style(NOTHING);
    let heads = [
        "nr",
        "type",
        "code",
        "start",
        "size",
        "file system",
        "label",
        "used",
        "free",
    ];
    let dim = |text: &str| {
        let style = style::DIM;
        Cell::new(format!("{style}{text}{style:#}"))
    };
    table.set_header(heads.map(dim));
    for (index, partition) in inspection.partitions.iter().enumerate() {
        table.add_row(row(index, partition));
    }
    for right in [3, 4, 7, 8] {
        if let Some(column) = table.column_mut(right) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    let rows: String = table
        .lines()
        .map(|line| format!(" {}\n", line.trim_end()))
        .collect();
    let bar = map::draw(inspection, size, width.saturating_sub(4), 2);
    let has_active = inspection.partitions.iter().any(|p| p.active);
    let active = if has_active { "  * active" } else { "" };
    let (legend, dim) = (map::legend(), style::DIM);
    let ids = identifiers(inspection);
    format!("{bar}  {legend}{dim}{active}{dim:#}\n\n{rows}{ids}")
}

/// The identifiers that `fstab` and boot lines use for partitions and file systems.
pub fn identifiers(inspection: &Inspection) -> String {
    let dim = style::DIM;
    let mut lines = String::new();
    for partition in &inspection.partitions {
        let filesystem = partition.filesystem.as_ref();
        let ids = [
            ("PARTUUID", partition.partuuid.as_ref()),
            ("UUID", filesystem.and_then(|fs| fs.id.as_ref())),
        ];
        let mut number = partition.number.to_string();
        for (kind, id) in ids {
            let Some(id) = id else { continue };
            let name = if lines.is_empty() { "ids" } else { "" };
            lines += &format!("  {dim}{name:<9}{dim:#} {number:<3} {dim}{kind:<8}{dim:#}  {id}\n");
            number.clear();
        }
    }
    if lines.is_empty() {
        lines
    } else {
        format!("\n{lines}")
    }
}

/// The bar, and the table of partitions in sectors, MB and MiB.
pub fn table(inspection: &Inspection, sector: u64, width: usize) -> String {
    let size = inspection.size.unwrap_or(0);
    let dim = style::DIM;
    let bar = map::draw(inspection, size, width.saturating_sub(4), 2);
    if inspection.partitions.is_empty() {
        // There are no numbers below it.
        let first = bar.lines().take(1);
        return first.map(|line| format!("{line}\n")).collect();
    }
    let mut heads = vec![
        "nr",
        "type",
        "first",
        "last",
        "sectors",
        "MB",
        "MiB",
        "file system",
        "name",
    ];
    // A GPT has no codes to show.
    let has_codes = inspection
        .scheme
        .as_ref()
        .is_some_and(|s| s.kind == SchemeKind::Mbr);
    if has_codes {
        heads.insert(2, "code");
    }
    let first_number = if has_codes { 3 } else { 2 };
    let mut table = Table::new();
    table.load_style(NOTHING);
    table.set_header(
        heads
            .iter()
            .map(|text| Cell::new(format!("{dim}{text}{dim:#}"))),
    );
    for (index, partition) in inspection.partitions.iter().enumerate() {
        let brief = row(index, partition);
        let sectors = partition.size / sector;
        let first = partition.start / sector;
        let mut cells: Vec<Cell> = brief[..first_number].to_vec();
        cells.push(Cell::new(first));
        cells.push(Cell::new((first + sectors).saturating_sub(1)));
        cells.push(Cell::new(sectors));
        cells.push(Cell::new(format!("{:.2}", partition.size as f64 / 1e6)));
        let mib = partition.size as f64 / f64::from(1 << 20);
        cells.push(Cell::new(format!("{mib:.2}")));
        cells.extend(brief[5..7].iter().cloned());
        table.add_row(cells);
    }
    for right in first_number..first_number + 5 {
        if let Some(column) = table.column_mut(right) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    let lines = table.lines();
    let rows: String = lines
        .map(|line| format!(" {}\n", line.trim_end()))
        .collect();
    format!("{bar}{rows}")
}

fn row(index: usize, partition: &PartitionFacts) -> Vec<Cell> {
    let facts = partition.filesystem.as_ref();
    let size = |bytes: Option<u64>| bytes.map_or("-".to_owned(), units::size);
    let color = style::partition(index);
    let active = if partition.active { "*" } else { "" };
    // A GPT type with a word needs no GUID beside it.
    let code = match partition.code.len() {
        2 => partition.code.as_str(),
        _ if partition.kind.word() == "unknown" => &partition.code[..8],
        _ => "",
    };
    let name = facts
        .and_then(|fs| fs.label.as_deref())
        .or(partition.name.as_deref())
        .unwrap_or("-");
    vec![
        Cell::new(format!("{color}{}{color:#}{active}", partition.number)),
        Cell::new(partition.kind.word()),
        Cell::new(code),
        Cell::new(units::size(partition.start)),
        Cell::new(units::size(partition.size)),
        Cell::new(facts.map_or("not recognised", |fs| fs.kind.word())),
        Cell::new(name),
        Cell::new(size(facts.and_then(|fs| fs.used))),
        Cell::new(size(facts.and_then(|fs| fs.free))),
    ]
}

/// What was grown, in words.
pub fn grown(grown: &pinewrit_volume::grow::GrowReport) -> String {
    let (before, size) = (units::size(grown.before), units::size(grown.size));
    match (grown.partition, &grown.filesystem) {
        (None, Some(filesystem)) => match &filesystem.kept_because {
            None => format!("{} from {before} to {size}", filesystem.kind),
            Some(why) => format!("{} keeps its {before}: {why}", filesystem.kind),
        },
        (number, _) => {
            let number = number.unwrap_or(0);
            format!("partition {number} from {before} to {size}{}", in_it(grown))
        }
    }
}

/// What happened to the file system in the grown partition.
fn in_it(grown: &pinewrit_volume::grow::GrowReport) -> String {
    let Some(filesystem) = &grown.filesystem else {
        return String::new();
    };
    match &filesystem.kept_because {
        None => format!(", with its {} file system", filesystem.kind),
        Some(why) => format!(
            "; its {} file system keeps its size: {why}",
            filesystem.kind
        ),
    }
}
