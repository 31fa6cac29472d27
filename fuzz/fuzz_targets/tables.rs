//! Reads arbitrary bytes as a medium's partition table, and writes what can be changed of it.

#![no_main]

use libfuzzer_sys::fuzz_target;
use pinewrit_disk::{MemoryDevice, SectorSize};
use pinewrit_table::{PartitionTable, SchemeKind, TableEdit};

/// Bytes of the medium.
const SIZE: usize = 256 << 10;

fuzz_target!(|data: &[u8]| {
    let Some((choice, data)) = data.split_first() else {
        return;
    };
    let mut bytes = data[..data.len().min(SIZE)].to_vec();
    bytes.resize(SIZE, 0);
    let sector = if choice & 1 == 0 { SectorSize::B512 } else { SectorSize::B4096 };
    let device = MemoryDevice::from_bytes(bytes).with_sector(sector);
    let _ = PartitionTable::read(&device);
    let Ok(mut table) = TableEdit::read(&device) else {
        return;
    };
    let _ = table.gaps();
    let to = if choice & 2 == 0 { SchemeKind::Mbr } else { SchemeKind::Gpt };
    let _ = table.convert(to, &device, &mut || [1; 16]);
    if table.write(&device).is_ok() && !table.partitions().is_empty() {
        let again = TableEdit::read(&device).expect("a table that was just written");
        assert_eq!(again.partitions(), table.partitions());
    }
});
