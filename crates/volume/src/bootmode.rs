//! Which boot modes a medium supports, as far as the medium itself shows.

use pinewrit_disk::BlockDevice;
use pinewrit_fat::Volume;
use schemars::JsonSchema;
use serde::Serialize;

use crate::Architecture;
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
    pub architecture: Architecture,
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

/// File name and architecture: UEFI specification 2.10, section 3.5.1.1, table 3.2.
const REMOVABLE: &[(&str, Architecture)] = &[
    ("BOOTX64.EFI", Architecture::X86Of64),
    ("BOOTAA64.EFI", Architecture::Arm64),
    ("BOOTIA32.EFI", Architecture::X86),
    ("BOOTARM.EFI", Architecture::Arm),
    ("BOOTRISCV64.EFI", Architecture::Riscv64),
    ("BOOTLOONGARCH64.EFI", Architecture::Loongarch64),
];

const FOLDER: &str = "EFI/BOOT";

/// Searches a FAT file system for UEFI loaders. What cannot be read cannot boot.
pub fn uefi_loaders(device: &dyn BlockDevice, partition: Option<u32>) -> Vec<UefiLoader> {
    let Ok(volume) = Volume::open(device) else {
        return Vec::new();
    };
    let files = fat_files(volume.tree(), FOLDER).unwrap_or_default();
    let loaders = files.iter().filter_map(|found| {
        let (file, architecture) = REMOVABLE
            .iter()
            .find(|(file, _)| file.eq_ignore_ascii_case(&found.name))?;
        let mut head = Vec::new();
        volume.tree().read_to(found, 4096, &mut head).ok()?;
        Some(UefiLoader {
            partition,
            file: (*file).to_owned(),
            architecture: *architecture,
            valid: Architecture::of_pe(&head) == Some(*architecture),
        })
    });
    loaders.collect()
}
