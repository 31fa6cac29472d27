//! Partition tables of other computers, only recognised.

use pinewrit_disk::{BlockDevice, DiskError};

use crate::bytes::{read, u16be, u32be, u32le};

/// Which table of another computer a medium has, in words: its content belongs to somebody.
///
/// # Errors
/// The device could not be read.
pub fn foreign_table(device: &dyn BlockDevice) -> Result<Option<&'static str>, DiskError> {
    let Some(first) = read::<512>(device, 0)? else {
        return Ok(None);
    };
    let second = read::<512>(device, 512)?.unwrap_or([0; 512]);
    // Inside Macintosh: Devices, "Driver Descriptor Record" and "Partition Map".
    if first[..2] == *b"ER" && second[..2] == *b"PM" {
        return Ok(Some("Mac partition map"));
    }
    // linux/msdos_partition.h, block/partitions/sun.c: words that add up to nothing.
    let words = first.chunks_exact(2).map(|pair| u16be(pair, 0));
    if u16be(&first, 508) == 0xdabe && words.fold(0, |sum, word| sum ^ word) == 0 {
        return Ok(Some("Sun disk label"));
    }
    // block/partitions/sgi.c
    if u32be(&first, 0) == 0x0be5_a941 {
        return Ok(Some("SGI disk label"));
    }
    // block/partitions/msdos.c: BSD_DISKMAGIC, twice, in the second sector or at 64.
    let labels = [&second[..], &first[64..]];
    if labels
        .iter()
        .any(|label| u32le(label, 0) == 0x8256_4557 && u32le(label, 132) == 0x8256_4557)
    {
        return Ok(Some("BSD disk label"));
    }
    if first[..4] == *b"\xc9\xc2\xd4\xc1" {
        return Ok(Some("AIX disk label"));
    }
    // block/partitions/ultrix.c
    if read::<4>(device, 16384 - 72)?.is_some_and(|raw| u32le(&raw, 0) == 0x0003_2957) {
        return Ok(Some("Ultrix disk label"));
    }
    // block/partitions/msdos.c: SOLARIS_X86_VTOC_SANE, UNIXWARE_DISKMAGIC
    if u32le(&second, 12) == 0x600d_deee {
        return Ok(Some("Solaris label"));
    }
    if read::<8>(device, 29 * 512)?.is_some_and(|raw| u32le(&raw, 4) == 0xca5e_600d) {
        return Ok(Some("UnixWare label"));
    }
    if is_rigid(device)? {
        return Ok(Some("Amiga rigid disk block"));
    }
    Ok(is_atari(&first, device.size() / 512).then_some("Atari partition table"))
}

/// block/partitions/amiga.c: in one of the first sixteen sectors.
fn is_rigid(device: &dyn BlockDevice) -> Result<bool, DiskError> {
    for sector in 0..16 {
        match read::<4>(device, sector * 512)? {
            Some(raw) if raw == *b"RDSK" => return Ok(true),
            Some(_) => {}
            None => break,
        }
    }
    Ok(false)
}

/// block/partitions/atari.c: no mark, but entries with known names that lie inside the medium.
fn is_atari(first: &[u8; 512], sectors: u64) -> bool {
    // Anything with the mark of a boot sector is not one.
    if first[510..] == [0x55, 0xaa] {
        return false;
    }
    let mut used = 0;
    for entry in first[0x1c6..0x1f6].chunks_exact(12) {
        if entry[0] & 1 == 0 {
            continue;
        }
        let names: [&[u8]; 6] = [b"GEM", b"BGM", b"LNX", b"SWP", b"RAW", b"XGM"];
        let (start, len) = (u64::from(u32be(entry, 4)), u64::from(u32be(entry, 8)));
        if !names.contains(&&entry[1..4]) || start == 0 || len == 0 || start + len > sectors {
            return false;
        }
        used += 1;
    }
    used > 0
}
