//! The demo image: an MBR, a FAT boot partition with made-up boot files, and a Linux partition.

use fatfs::{FormatVolumeOptions, format_volume};
use pinewrit_disk::{BlockDevice, ByteRange, DeviceCursor, DiskError, Window};
use pinewrit_table::{Mbr, MbrEntry};

use super::ext2::{self, Entry};
use crate::filesystem::{FatGeometry, FatVolume, VolumeError};

const MIB: u64 = 1 << 20;
const BOOT: ByteRange = ByteRange {
    start: 4 * MIB,
    end: 68 * MIB,
};
const ROOT: ByteRange = ByteRange {
    start: BOOT.end,
    end: BOOT.end + ext2::SIZE,
};

/// Size of the demo image in bytes.
pub const DEMO_IMAGE_SIZE: u64 = ROOT.end;

const READ_ME: &str = "Larkfell OS 4.2 for the Brindle B2 and B4 boards.\r\n\
Everything on this medium is a made-up sample; it starts no computer.\r\n";
const BOOT_CONF: &str = "# Larkfell OS boot settings\nkernel=kernel.bin\n\
devicetree=brindle-b4.dtb\nserial=115200\n# overlay=wind-gauge\n";
const COMMAND_LINE: &str = "console=ttyS0,115200 root=LABEL=larkfell-root rootwait\n";
const OS_RELEASE: &str = "NAME=\"Larkfell OS\"\nID=larkfell\nVERSION_ID=\"4.2\"\n\
PRETTY_NAME=\"Larkfell OS 4.2 (Scree)\"\n";
const FSTAB: &str = "LABEL=larkfell-root  /      ext2  noatime  0 1\n\
LABEL=CIDATA         /boot  vfat  noatime  0 2\n";

/// Why the demo image could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DemoError {
    /// The device under it failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// The boot partition could not be filled.
    #[error(transparent)]
    Volume(#[from] VolumeError),
    /// The boot partition could not be formatted.
    #[error("the boot partition could not be formatted")]
    Format(#[source] std::io::Error),
}

/// Makes the image on `device`, which has [`DEMO_IMAGE_SIZE`] bytes and reads as zeros. The same
/// bytes every time.
///
/// # Errors
/// [`DemoError`].
pub fn make_image(device: &dyn BlockDevice) -> Result<(), DemoError> {
    device.write_at(0, &table())?;
    fill_boot(&Window::new(device, BOOT))?;
    fill_root(&Window::new(device, ROOT))?;
    Ok(device.flush()?)
}

fn table() -> [u8; 512] {
    let entry = |kind, active, range: ByteRange| {
        Some(MbrEntry {
            active,
            kind,
            first_lba: (range.start / 512) as u32,
            sectors: (range.len() / 512) as u32,
        })
    };
    Mbr {
        has_boot_code: false,
        signature: 0x1a4b_fe11,
        entries: [
            entry(0x0e, true, BOOT),
            entry(0x83, false, ROOT),
            None,
            None,
        ],
    }
    .to_bytes()
}

fn fill_boot(partition: &Window<'_>) -> Result<(), DemoError> {
    let options = FormatVolumeOptions::new()
        .volume_label(*b"CIDATA     ")
        .volume_id(0x1a4b_0001);
    format_volume(DeviceCursor::new(partition), options).map_err(DemoError::Format)?;
    let damaged = VolumeError::Damaged {
        what: "it was just made, and is not recognised",
    };
    let geometry = FatGeometry::read(partition)?.ok_or(damaged)?;
    let volume = FatVolume::open(partition, &geometry)?;
    volume.make_folder("EFI")?;
    volume.make_folder("EFI/BOOT")?;
    volume.write("READ-ME.txt", READ_ME.as_bytes())?;
    volume.write("boot.conf", BOOT_CONF.as_bytes())?;
    volume.write("cmdline", COMMAND_LINE.as_bytes())?;
    volume.write("kernel.bin", &sample_bytes(9 * MIB as usize))?;
    volume.write("brindle-b2.dtb", &sample_bytes(24_000))?;
    volume.write("brindle-b4.dtb", &sample_bytes(31_000))?;
    volume.write("EFI/BOOT/BOOTAA64.EFI", &sample_loader())?;
    Ok(volume.close()?)
}

fn fill_root(partition: &Window<'_>) -> Result<(), DiskError> {
    let library = sample_bytes(3 * MIB as usize);
    let tree = [
        Entry::Folder("boot"),
        Entry::Folder("etc"),
        Entry::File("etc/os-release", OS_RELEASE.as_bytes()),
        Entry::File("etc/hostname", b"larkfell\n"),
        Entry::File("etc/fstab", FSTAB.as_bytes()),
        Entry::Folder("home"),
        Entry::Folder("usr"),
        Entry::Folder("usr/bin"),
        Entry::File("usr/bin/wind-log", &library[..200_000]),
        Entry::File("usr/bin/snow-depth", &library[..150_000]),
        Entry::Folder("usr/lib"),
        Entry::File("usr/lib/libhut.so", &library),
        Entry::Folder("var"),
        Entry::Folder("var/log"),
    ];
    let uuid = *b"larkfell-root-01";
    ext2::make(partition, "larkfell-root", uuid, &tree)
}

/// Bytes that pack about as well as programs do: every second run of 64 repeats.
fn sample_bytes(len: usize) -> Vec<u8> {
    let mut state: u64 = 0x1a4b_fe11;
    let mut bytes = Vec::with_capacity(len + 64);
    while bytes.len() < len {
        let start = bytes.len();
        for _ in 0..8 {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            bytes.extend(state.to_le_bytes());
        }
        bytes.extend_from_within(start..);
    }
    bytes.truncate(len);
    bytes
}

/// The start of an executable for arm64, so that it is recognised; there is nothing to run in it.
fn sample_loader() -> Vec<u8> {
    let mut file = b"MZ".to_vec();
    file.resize(0x3c, 0);
    file.extend(0x40u32.to_le_bytes());
    file.extend(b"PE\0\0\x64\xaa");
    file.extend(sample_bytes(60_000));
    file
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::inspect::inspect;
    use pinewrit_disk::MemoryDevice;

    #[test]
    fn the_image_is_recognised_in_all_its_parts() {
        let device = MemoryDevice::new(DEMO_IMAGE_SIZE as usize);
        make_image(&device).unwrap();
        let found = inspect(&device, Some(device.size())).unwrap();
        let kinds: Vec<_> = found
            .partitions
            .iter()
            .map(|p| p.filesystem.as_ref().map(|fs| fs.kind))
            .collect();
        assert_eq!(kinds, [Some("FAT16"), Some("ext2")]);
        assert_eq!(found.boot.uefi[0].architecture, "arm64");
        assert!(found.boot.uefi[0].valid);
        assert_eq!(found.problems, [""; 0]);
    }
}
