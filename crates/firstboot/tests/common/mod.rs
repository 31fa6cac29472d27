//! What tests share that put settings somewhere: an image, and secrets.

#![allow(dead_code, reason = "not every test uses all of it")]

#[path = "../../../settings/tests/common/mod.rs"]
pub(crate) mod texts;

use pinewrit_disk::{BlockDevice, ByteRange, MemoryDevice, Window};
use pinewrit_fat::{MakeKind, MakeOptions, MakePlan, Stamp};
use pinewrit_firstboot::configure::{ConfigureError, ConfigureReport};
use pinewrit_settings::CheckedSettings;
use pinewrit_table::{Mbr, MbrEntry};
use pinewrit_volume::Gathered;

pub(crate) use texts::{KEY, settings};

pub(crate) const MIB: u64 = 1 << 20;
pub(crate) const NOW: pinewrit_ext4::Timestamp = pinewrit_ext4::Timestamp {
    seconds: 1_767_225_600,
    nanoseconds: 0,
};

/// How root file systems are made.
pub(crate) fn root_options() -> pinewrit_ext4::MakeOptions {
    pinewrit_ext4::MakeOptions {
        label: "root".into(),
        uuid: [7; 16],
        hash_seed: [8; 16],
        block_size: None,
        inodes: None,
        has_checksums: true,
        has_journal: true,
        now: NOW,
    }
}

/// An image of 14 MiB: an MBR, a FAT partition from 1 to 9 MiB, noise from there on.
pub(crate) fn image() -> Vec<u8> {
    let device = MemoryDevice::new(14 * MIB as usize);
    let entry = |kind, start: u64, size: u64| {
        Some(MbrEntry {
            active: false,
            kind,
            first_lba: (start / 512) as u32,
            sectors: (size / 512) as u32,
        })
    };
    let table = Mbr {
        has_boot_code: false,
        signature: 0x5eed_0001,
        entries: [
            entry(0x0c, MIB, 8 * MIB),
            entry(0x83, 9 * MIB, 5 * MIB),
            None,
            None,
        ],
    };
    device.write_at(0, &table.to_bytes()).unwrap();
    let fat = Window::new(&device, boot_range());
    make_fat(&fat, "");
    let noise: Vec<u8> = (0..5 * MIB).map(|i| ((i * i) >> 7) as u8).collect();
    device.write_at(9 * MIB, &noise).unwrap();
    device.to_bytes()
}

/// A FAT with this label.
pub(crate) fn make_fat(window: &Window<'_>, label: &str) {
    let options = MakeOptions {
        label: label.to_owned(),
        id: [1, 2, 3, 4],
        start: 0,
        made: Stamp::default(),
    };
    let plan = MakePlan::of(MakeKind::BySize, window.size(), 512, None).unwrap();
    plan.make(window, &options).unwrap();
}

pub(crate) fn boot_range() -> ByteRange {
    ByteRange {
        start: MIB,
        end: 9 * MIB,
    }
}

/// The changes of settings, at a time that does not matter.
pub(crate) fn prepare<'m>(
    medium: &'m dyn BlockDevice,
    settings: &CheckedSettings,
) -> Result<Gathered<'m, ConfigureReport>, ConfigureError> {
    pinewrit_firstboot::configure::prepare(medium, settings, NOW)
}

/// Settings of a hut with a password that is hashed at each run.
pub(crate) fn hut() -> CheckedSettings {
    settings(&format!(
        "hostname = \"larkfell-03\"\n[[users]]\nname = \"warden\"\npassword-env = \"GOOD\"\n\
         ssh-keys = [\"{KEY}\"]\n[wireless]\ncountry = \"AT\"\n[[wireless.networks]]\n\
         ssid = \"larkfell\"\npassphrase = \"plain sample words\"\n"
    ))
}
