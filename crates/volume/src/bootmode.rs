//! Which boot modes a medium supports, as far as the medium itself shows.

use pinewrit_disk::BlockDevice;
use pinewrit_fat::Volume;
use schemars::JsonSchema;
use serde::Serialize;

use crate::system::fat_files;

/// The boot modes found.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BootModes {
    /// Loaders on the path that UEFI firmware tries on removable media.
    pub uefi: Vec<UefiLoader>,
    /// What a legacy BIOS would boot; `None` without boot code.
    pub bios: Option<BiosBoot>,
}

/// A loader at `/EFI/BOOT/BOOT*.EFI`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct UefiLoader {
    /// Number of the partition; `None` if the medium has no table.
    pub partition: Option<u32>,
    /// Name of the file.
    pub file: String,
    /// Architecture according to the file name.
    pub architecture: &'static str,
    /// Whether the file is an executable for that architecture.
    pub valid: bool,
}

/// Boot code in the first sector.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BiosBoot {
    /// The partition marked active.
    pub active_partition: Option<u32>,
}

impl BootModes {
    /// Whether nothing was found.
    pub fn is_empty(&self) -> bool {
        self.uefi.is_empty() && self.bios.is_none()
    }
}

/// File name, architecture, and machine type of the executable.
///
/// UEFI specification 2.10, section 3.5.1.1, table 3.2; machine types from the PE format,
/// "Machine Types".
const REMOVABLE: &[(&str, &str, u16)] = &[
    ("BOOTX64.EFI", "x86-64", 0x8664),
    ("BOOTAA64.EFI", "arm64", 0xaa64),
    ("BOOTIA32.EFI", "x86 (32 bit)", 0x014c),
    ("BOOTARM.EFI", "arm (32 bit)", 0x01c2),
    ("BOOTRISCV64.EFI", "riscv64", 0x5064),
    ("BOOTLOONGARCH64.EFI", "loongarch64", 0x6264),
];

const FOLDER: &str = "EFI/BOOT";

/// Searches a FAT file system for UEFI loaders. What cannot be read cannot boot.
pub fn uefi_loaders(device: &dyn BlockDevice, partition: Option<u32>) -> Vec<UefiLoader> {
    let Ok(volume) = Volume::open(device) else {
        return Vec::new();
    };
    let files = fat_files(volume.tree(), FOLDER).unwrap_or_default();
    let loaders = files.iter().filter_map(|found| {
        let (file, architecture, machine) = REMOVABLE
            .iter()
            .find(|(file, ..)| file.eq_ignore_ascii_case(&found.name))?;
        let mut head = Vec::new();
        volume.tree().read_to(found, 4096, &mut head).ok()?;
        Some(UefiLoader {
            partition,
            file: (*file).to_owned(),
            architecture,
            valid: machine_of(&head) == Some(*machine),
        })
    });
    loaders.collect()
}

/// The machine type of an executable: `MZ`, the offset at 0x3c, `PE\0\0`, then the type.
fn machine_of(head: &[u8]) -> Option<u16> {
    if !head.starts_with(b"MZ") {
        return None;
    }
    let offset: [u8; 4] = head.get(0x3c..0x40)?.try_into().ok()?;
    let at = usize::try_from(u32::from_le_bytes(offset)).ok()?;
    let header = head.get(at..at.checked_add(6)?)?;
    let machine = header.strip_prefix(b"PE\0\0")?;
    Some(u16::from_le_bytes(machine.try_into().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::whole(b"PE\0\0\x64\xaa", 0x40, Some(0xaa64))]
    #[case::no_mark(b"NE\0\0\x64\xaa", 0x40, None)]
    #[case::outside(b"PE\0\0\x64\xaa", u32::MAX, None)]
    fn machines(#[case] header: &[u8], #[case] offset: u32, #[case] machine: Option<u16>) {
        let mut file = b"MZ".to_vec();
        file.resize(0x3c, 0);
        file.extend(offset.to_le_bytes());
        file.extend(header);
        assert_eq!(machine_of(&file), machine);
    }
}
