//! A board file from a medium that is known to start: what a ROM may have looked for on it.

use std::fmt::Write;

use pinewrit_disk::{AlignedBuf, BlockDevice, DiskError};
use pinewrit_fat::Volume;
use pinewrit_settings::document::architecture_key;
use pinewrit_table::Scheme;
use pinewrit_volume::Architecture;

use crate::chain::{self, Firmware, Medium, Verdict, Way};

/// The most bytes of a gap that are looked at.
const MAX_GAP: u64 = 64 << 20;
/// As many zeros between two blobs make them two.
const APART: u64 = 32 << 10;
/// Bytes of a blob that tell it from others.
const MAGIC: usize = 16;
/// The most blobs that are written down.
const MAX_BLOBS: usize = 8;

/// Writes the board file, to be read and shortened by somebody who knows the board.
///
/// # Errors
/// The device could not be read.
pub fn learn(device: &dyn BlockDevice, name: &str, note: &str) -> Result<String, DiskError> {
    let medium = Medium::open(device)?;
    let ways = chain::follow_on(device, &medium)?;
    let architecture = ways.iter().find_map(|way| way.architecture);
    let mut text = format!(
        "# What a {name} needs in order to start, learned from {note}.\n\
         # What is not really needed can be taken out.\n\n\
         name = {name:?}\narchitecture = \"{}\"{}\n\n[[way]]\nloader = \"{}\"\n",
        architecture_key(architecture.unwrap_or(Architecture::Arm64)),
        match architecture {
            Some(_) => "",
            None => "   # not found on the medium: to be checked",
        },
        loader(&ways),
    );
    let scheme = medium.table.as_ref().map(|table| match table.scheme {
        Scheme::Mbr { .. } => "mbr",
        Scheme::Gpt { .. } => "gpt",
    });
    let _ = writeln!(text, "scheme = \"{}\"", scheme.unwrap_or("none"));
    for (at, head) in blobs(device, &medium)? {
        let hex: String = head.iter().map(|byte| format!("{byte:02x}")).collect();
        let _ = write!(
            text,
            "\n  [[way.bytes]]\n  at = \"{at}\"\n  magic = \"{hex}\"\n"
        );
    }
    text += &partition(&medium);
    Ok(text)
}

/// What its loader is, if a way leads somewhere.
fn loader(ways: &[Way]) -> &'static str {
    let leads = |way: &&Way| way.verdict() != Verdict::DoesNotStart;
    let found = ways.iter().filter(leads).min_by_key(|way| way.verdict());
    match found.map(|way| (way.firmware, way.starts.is_some())) {
        Some((Firmware::Uefi, true)) => "uefi",
        Some((Firmware::LegacyBios, true)) => "bios",
        Some((Firmware::Own, true)) => "own",
        _ => "listed",
    }
}

/// What lies before the first partition and behind the table: places, and their first bytes.
fn blobs(device: &dyn BlockDevice, medium: &Medium<'_>) -> Result<Vec<(u64, Vec<u8>)>, DiskError> {
    let table = medium.table.as_ref();
    let starts = table.map(|table| table.partitions.iter().map(|one| one.range.start));
    let Some(end) = starts.and_then(Iterator::min) else {
        return Ok(Vec::new());
    };
    let behind_table = match table.map(|table| &table.scheme) {
        Some(Scheme::Gpt { .. }) => 34 * device.logical_sector().bytes(),
        _ => device.logical_sector().bytes(),
    };
    let (mut all, mut last_used) = (Vec::new(), None::<u64>);
    let mut buffer = AlignedBuf::new(1 << 20);
    let mut at = behind_table;
    let end = end.min(device.size()).min(MAX_GAP);
    while at < end && all.len() < MAX_BLOBS {
        let len = (end - at).min(buffer.len() as u64) as usize;
        let part = &mut buffer[..len];
        device.read_at(at, part)?;
        for (index, sector) in part.chunks(512).enumerate() {
            if sector.iter().all(|byte| *byte == 0) {
                continue;
            }
            let place = at + index as u64 * 512;
            let is_new = last_used.is_none_or(|last| place - last > APART);
            if is_new && all.len() < MAX_BLOBS {
                all.push((place, sector[..MAGIC.min(sector.len())].to_vec()));
            }
            last_used = Some(place);
        }
        at += len as u64;
    }
    Ok(all)
}

/// The partition that a ROM would read: the active one, or else the first FAT.
fn partition(medium: &Medium<'_>) -> String {
    let Some(table) = &medium.table else {
        return String::new();
    };
    let is_fat = |number: u32| {
        let mut systems = medium.systems.iter();
        systems.any(|one| one.partition == Some(number) && one.facts.kind.is_fat())
    };
    let active = table.partitions.iter().find(|one| one.active);
    let Some(found) = active.or_else(|| table.partitions.iter().find(|one| is_fat(one.number)))
    else {
        return String::new();
    };
    let mut text = format!("\n  [[way.partition]]\n  number = {}\n", found.number);
    if found.active {
        text += "  active = true\n";
    }
    let _ = writeln!(text, "  at = \"{}\"", found.range.start);
    let mut systems = medium.systems.iter();
    let Some(system) = systems.find(|one| one.partition == Some(found.number)) else {
        return text;
    };
    let window = medium.window(system);
    let Ok(volume) = Volume::open(&window as &dyn BlockDevice) else {
        return text;
    };
    let width = system.facts.kind.word().to_lowercase();
    let known = ["fat12", "fat16", "fat32"];
    if known.contains(&width.as_str()) {
        let _ = writeln!(text, "  filesystem = \"{width}\"");
    }
    let tree = volume.tree();
    let first = tree
        .list(&tree.root())
        .ok()
        .and_then(|all| all.into_iter().next());
    if let Some(first) = first.filter(|first| !first.is_folder) {
        let in_one_piece = tree.is_in_one_piece(&first).unwrap_or(false);
        let _ = write!(
            text,
            "\n    [[way.partition.file]]\n    path = {:?}\n    first = true\n    in-one-piece = {in_one_piece}\n",
            format!("/{}", first.name)
        );
    }
    text
}
