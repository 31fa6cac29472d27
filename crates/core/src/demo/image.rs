//! The demo image: an MBR, a FAT boot partition with made-up boot files, and a Linux partition.

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Window};
use pinewrit_ext4::{Attributes, EditError, MakeOptions, Timestamp, Zeros, make};
use pinewrit_table::{Mbr, MbrEntry};

use crate::filesystem::{FatGeometry, FatVolume, VolumeError};
use crate::format::{FatKind, FormatError, FormatKind, FormatOptions, format};

const MIB: u64 = 1 << 20;
const BOOT: ByteRange = ByteRange {
    start: 4 * MIB,
    end: 68 * MIB,
};
const ROOT: ByteRange = ByteRange {
    start: BOOT.end,
    end: BOOT.end + 128 * MIB,
};

/// When everything on it was made, so that it is the same bytes every time.
const BORN: Timestamp = Timestamp {
    seconds: 1_767_225_600,
    nanoseconds: 0,
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
const FSTAB: &str = "LABEL=larkfell-root  /      ext4  noatime  0 1\n\
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
    #[error(transparent)]
    Format(#[from] FormatError),
    /// The root file system could not be made.
    #[error(transparent)]
    Root(#[from] EditError),
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
    let mut seed = [0; 32];
    seed[..4].copy_from_slice(&0x1a4b_0001u32.to_le_bytes());
    let options = FormatOptions {
        start: BOOT.start,
        ..FormatOptions::new(FormatKind::Fat(FatKind::Fat16), "CIDATA", seed, BORN)
    };
    format(partition, &options)?;
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

fn fill_root(partition: &Window<'_>) -> Result<(), DemoError> {
    let options = MakeOptions {
        label: "larkfell-root".to_owned(),
        uuid: *b"larkfell-root-01",
        hash_seed: *b"larkfell-names-1",
        block_size: None,
        inodes: None,
        has_checksums: true,
        has_journal: true,
        now: BORN,
    };
    let mut root = make(partition, &options)?;
    for folder in ["boot", "etc", "home", "usr/bin", "usr/lib", "var/log"] {
        root.make_folders(folder.as_bytes(), &Attributes::root(0o755, BORN))?;
    }
    let library = sample_bytes(3 * MIB as usize);
    let files: [(&str, u16, &[u8]); 6] = [
        ("etc/os-release", 0o644, OS_RELEASE.as_bytes()),
        ("etc/hostname", 0o644, b"larkfell\n"),
        ("etc/fstab", 0o644, FSTAB.as_bytes()),
        ("usr/bin/wind-log", 0o755, &library[..200_000]),
        ("usr/bin/snow-depth", 0o755, &library[..150_000]),
        ("usr/lib/libhut.so", 0o644, &library),
    ];
    for (path, mode, mut content) in files {
        let size = content.len() as u64;
        let attributes = Attributes::root(mode, BORN);
        root.write_file(
            path.as_bytes(),
            &attributes,
            size,
            &mut content,
            Zeros::Written,
        )?;
    }
    root.commit()?;
    Ok(())
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
        assert_eq!(kinds, [Some("FAT16"), Some("ext4")]);
        assert_eq!(found.boot.uefi[0].architecture, "arm64");
        assert!(found.boot.uefi[0].valid);
        assert_eq!(found.problems, [""; 0]);
    }
}
