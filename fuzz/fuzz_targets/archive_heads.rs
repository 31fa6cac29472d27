//! Reads arbitrary bytes as the heads of an archive: tar with all its extensions and sparse files, and
//! archives in archives that have to be unpacked to a file first.

#![no_main]

use std::fs;
use std::io::{self, Read};
use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use pinewrit_image::{
    ImageSource, Location, OpenOptions, SparseReader, Spool, member_name, must_be_understood,
    sparse_file,
};

/// More than this is unpacked by nobody.
const MOST: u64 = 1 << 20;

static FOLDER: LazyLock<tempfile::TempDir> =
    LazyLock::new(|| tempfile::tempdir().expect("a folder for one file"));

fn tape(data: &[u8]) -> io::Result<()> {
    for entry in tar::Archive::new(data).entries()?.take(100) {
        let mut entry = entry?;
        member_name(&mut entry)?;
        must_be_understood(&mut entry)?;
        let Some(sparse) = sparse_file(&mut entry)? else {
            continue;
        };
        let size = sparse.size;
        let mut content = SparseReader::new(sparse, &mut entry)?.take(MOST);
        let len = io::copy(&mut content, &mut io::sink())?;
        assert!(len <= size);
    }
    Ok(())
}

fuzz_target!(|data: &[u8]| {
    let _ = tape(data);
    let path = FOLDER.path().join("source");
    fs::write(&path, data).expect("room for a file");
    let options = OpenOptions {
        spool: Spool {
            folder: Some(|| Some(FOLDER.path().join("spool"))),
            ..Spool::default()
        },
        ..OpenOptions::default()
    };
    if let Ok(source) = ImageSource::open_with(&Location::Path(path), &options)
        && let Ok(stream) = source.stream()
    {
        let _ = io::copy(&mut stream.take(MOST), &mut io::sink());
    }
});
