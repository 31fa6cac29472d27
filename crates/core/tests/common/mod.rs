//! What the tests of the jobs share: packed images, media, and what tests of settings use.

#![allow(dead_code, reason = "not every test uses all of it")]

#[path = "../../../firstboot/tests/common/mod.rs"]
mod firstboot;

use std::io;
use std::path::{Path, PathBuf};

use pinewrit_disk::{BlockDevice, MemoryDevice};
use pinewrit_image::ImageSource;

#[allow(unused_imports, reason = "not every test uses all of it")]
pub(crate) use firstboot::{KEY, MIB, boot_range, hut, image, make_fat, prepare, settings};

/// A folder with the image in it, packed with its size told (zstd) or not (gzip).
pub(crate) struct Packed {
    pub(crate) dir: tempfile::TempDir,
    pub(crate) path: PathBuf,
}

impl Packed {
    pub(crate) fn zstd(bytes: &[u8]) -> Self {
        Self::new(&zstd::bulk::compress(bytes, 1).unwrap())
    }

    pub(crate) fn gzip(bytes: &[u8]) -> Self {
        let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        io::Write::write_all(&mut out, bytes).unwrap();
        Self::new(&out.finish().unwrap())
    }

    pub(crate) fn new(packed: &[u8]) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("image");
        std::fs::write(&path, packed).unwrap();
        Self { dir, path }
    }

    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    pub(crate) fn open(&self) -> ImageSource {
        ImageSource::open(&self.path).unwrap()
    }
}

/// A medium full of an older system: noise, and a valid table.
pub(crate) fn old_medium(size: u64) -> MemoryDevice {
    let medium = MemoryDevice::from_bytes((0..size).map(|i| (i / 3) as u8 | 1).collect());
    medium.write_at(0, &image()[..512]).unwrap();
    medium
}

/// Whether a medium's first chunk and end hold nothing that could be a table.
pub(crate) fn has_no_table(medium: &MemoryDevice) -> bool {
    let bytes = medium.to_bytes();
    let head = bytes.len().min(4 * MIB as usize);
    bytes[..head].iter().all(|&b| b == 0)
}
