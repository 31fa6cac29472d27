//! Reads arbitrary bytes as a key and as a signature.

#![no_main]

use std::io::{Cursor, Read};

use libfuzzer_sys::fuzz_target;
use pinewrit_trust::{Keys, verify};

fuzz_target!(|bytes: &[u8]| {
    let (first, second) = match bytes.iter().position(|byte| *byte == 0xff) {
        Some(at) => (&bytes[..at], &bytes[at + 1..]),
        None => (bytes, bytes),
    };
    let mut file = tempfile::NamedTempFile::new().expect("a file");
    std::io::Write::write_all(&mut file, first).expect("a key");
    let Ok(keys) = Keys::in_file(file.path()) else {
        return;
    };
    let content = || Ok(Box::new(Cursor::new(b"made up".to_vec())) as Box<dyn Read>);
    assert!(!verify(&keys, second, &content, 1_795_000_000).is_good());
});
