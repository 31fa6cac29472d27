//! File systems made by the system's own tools.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::path::{Path, PathBuf};

use common::good;
use pinewrit_disk::{BlockDevice, MemoryDevice};
use pinewrit_ext4::{Owner, Superblock, Volume};
use rstest::rstest;

/// A file system with folders and files in it.
fn make(dir: &Path, options: &[&str]) -> Option<PathBuf> {
    let tree = dir.join("tree/etc/huts");
    fs::create_dir_all(&tree).unwrap();
    fs::write(tree.join("three.conf"), vec![b'3'; 300_000]).unwrap();
    fs::write(dir.join("tree/readme"), vec![b'r'; 70_000]).unwrap();
    for index in 0..300 {
        fs::write(
            tree.join(format!("log-{index:04}-of-the-winter")),
            vec![b'x'; 2000],
        )
        .unwrap();
    }
    let image = dir.join("fs.img");
    fs::File::create(&image).unwrap().set_len(48 << 20).unwrap();
    let (tree, path) = (dir.join("tree"), image.to_str().unwrap());
    let args = [
        &["-q", "-F", "-d", tree.to_str().unwrap()],
        options,
        &[path],
    ]
    .concat();
    good("mke2fs", &args)?;
    Some(image)
}

/// The first block of a file, by a stranger.
fn first_block(image: &Path, file: &str) -> u64 {
    let request = format!("bmap {file} 0");
    let said = good("debugfs", &["-R", &request, image.to_str().unwrap()]).unwrap();
    said.split_whitespace().next().unwrap().parse().unwrap()
}

#[rstest]
#[case::ext4(&["-t", "ext4"])]
#[case::ext2(&["-t", "ext2"])]
#[case::ext3_of_small_blocks(&["-t", "ext3", "-b", "1024"])]
#[case::without_checksums(&["-t", "ext4", "-O", "^metadata_csum,uninit_bg,^64bit"])]
#[case::spread_descriptors(&["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode"])]
#[case::plain(&["-t", "ext4", "-O", "none"])]
fn the_owner_of_a_block_is_found(#[case] options: &[&str]) {
    let dir = tempfile::tempdir().unwrap();
    let Some(image) = make(dir.path(), options) else {
        return;
    };
    let device = MemoryDevice::from_bytes(fs::read(&image).unwrap());
    let volume = Volume::open(&device).unwrap();
    let sb: &Superblock = volume.superblock();
    let owner = |block: u64| volume.owner_at(block * sb.block_size).unwrap();
    for file in [
        "/etc/huts/three.conf",
        "/readme",
        "/etc/huts/log-0123-of-the-winter",
    ] {
        let block = first_block(&image, file);
        assert_eq!(owner(block), Owner::File(file.to_owned()));
    }
    assert_eq!(
        owner(first_block(&image, "/etc/huts")),
        Owner::File("/etc/huts".into())
    );
    assert_eq!(
        owner(sb.first_data_block + 1),
        Owner::Metadata("the superblock and group descriptors")
    );
    assert_eq!(owner(sb.blocks - 1), Owner::Free);
}

#[test]
fn any_damage_is_told_or_passed_over() {
    let dir = tempfile::tempdir().unwrap();
    let Some(image) = make(dir.path(), &["-t", "ext4", "-O", "^metadata_csum"]) else {
        return;
    };
    let whole = fs::read(&image).unwrap();
    let mut state = 1u64;
    for _ in 0..120 {
        let mut damaged = whole.clone();
        for _ in 0..4 {
            state = state
                .wrapping_mul(6364136223846793005)
                .wrapping_add(1442695040888963407);
            let at = 1024 + (state >> 33) as usize % 300_000;
            damaged[at] = (state >> 20) as u8;
        }
        let device = MemoryDevice::from_bytes(damaged);
        if let Ok(volume) = Volume::open(&device) {
            for offset in (0..device.size()).step_by(17 << 20) {
                let _ = volume.owner_at(offset);
            }
        }
    }
}
