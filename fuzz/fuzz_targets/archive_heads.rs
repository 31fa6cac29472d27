//! Reads arbitrary bytes as the heads of an archive: tar with all its extensions and sparse files, and
//! archives in archives that have to be unpacked to a file first.

#![no_main]

use std::fs;
use std::io::{self, Read};
use std::path::Path;
use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use pinewrit_image::{ImageSource, Location, OpenOptions, Spool, Unpackable};

/// More than this is unpacked by nobody.
const MOST: u64 = 1 << 20;

static FOLDER: LazyLock<tempfile::TempDir> =
    LazyLock::new(|| tempfile::tempdir().expect("a folder for one file"));

/// Reads all members of an archive.
fn unpack(path: &Path, options: &OpenOptions) {
    let Ok(archive) = Unpackable::open(&Location::Path(path.to_owned()), options) else {
        return;
    };
    let mut left = MOST;
    let _ = archive.each(|_, content| {
        let len = io::copy(&mut content.take(left), &mut io::sink())?;
        left -= len;
        if left == 0 {
            return Err(io::Error::other("enough"));
        }
        Ok(())
    });
}

fuzz_target!(|data: &[u8]| {
    let path = FOLDER.path().join("source");
    fs::write(&path, data).expect("room for a file");
    let options = OpenOptions {
        spool: Spool {
            folder: Some(|| Some(FOLDER.path().join("spool"))),
            ..Spool::default()
        },
        ..OpenOptions::default()
    };
    unpack(&path, &options);
    if let Ok(source) = ImageSource::open_with(&Location::Path(path), &options)
        && let Ok(stream) = source.stream()
    {
        let _ = io::copy(&mut stream.take(MOST), &mut io::sink());
    }
});
