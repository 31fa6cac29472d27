//! Opens arbitrary bytes as an image and unpacks what comes out, up to a bound.
//!
//! The first byte chooses the file's name: some names make it one of two pieces.

#![no_main]

use std::fs;
use std::io::Read;
use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use pinewrit_image::{ImageSource, find_beside};

/// More than this is unpacked by nobody.
const MOST: u64 = 8 << 20;
const NAMES: &[&str] = &["source", "source.zip", "source.7z.001", "source.z01"];

static FOLDER: LazyLock<tempfile::TempDir> =
    LazyLock::new(|| tempfile::tempdir().expect("a folder for one file"));

fuzz_target!(|data: &[u8]| {
    let Some((choice, data)) = data.split_first() else {
        return;
    };
    let name = NAMES[usize::from(*choice) % NAMES.len()];
    let second = match name {
        "source.7z.001" => Some("source.7z.002"),
        "source.z01" => Some("source.zip"),
        _ => None,
    };
    let cut = if second.is_some() { data.len() / 2 } else { data.len() };
    let path = FOLDER.path().join(name);
    fs::write(&path, &data[..cut]).expect("room for a file");
    let other = second.map(|name| FOLDER.path().join(name));
    if let Some(other) = &other {
        fs::write(other, &data[cut..]).expect("room for a file");
    }
    if let Ok(source) = ImageSource::open(&path) {
        let _ = find_beside(&source);
        if let Ok(stream) = source.stream() {
            let _ = std::io::copy(&mut stream.take(MOST), &mut std::io::sink());
        }
    }
    let _ = fs::remove_file(&path);
    if let Some(other) = other {
        let _ = fs::remove_file(other);
    }
});
