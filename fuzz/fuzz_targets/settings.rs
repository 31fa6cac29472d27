//! Reads arbitrary text as settings; what is accepted is put on a small card.

#![no_main]

use std::io;
use std::path::Path;
use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use pinewrit_disk::{ByteRange, MemoryDevice, Window};
use pinewrit_firstboot::configure::prepare;
use pinewrit_settings::{SecretSource, check};
use pinewrit_volume::Timestamp;
use pinewrit_volume::format::{FormatKind, FormatOptions, format};

const SIZE: u64 = 8 << 20;

/// A card with one FAT file system, labelled for cloud-init.
static CARD: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let card = MemoryDevice::new(SIZE as usize);
    let kind = FormatKind::from_word("fat16").expect("a kind");
    let options = FormatOptions::new(kind, "CIDATA", [7; 32], Timestamp::at(0));
    let all = ByteRange { start: 0, end: SIZE };
    format(&Window::new(&card, all), &options).expect("a file system");
    card.to_bytes()
});

struct Secrets;

impl SecretSource for Secrets {
    fn variable(&self, _name: &str) -> Option<String> {
        Some("kestrel over scree 1407".to_owned())
    }

    fn file(&self, _path: &Path) -> io::Result<String> {
        Err(io::ErrorKind::NotFound.into())
    }

    fn ask(&self, _what: &str) -> io::Result<Option<String>> {
        Ok(None)
    }
}

fuzz_target!(|text: &str| {
    let Ok(settings) = check(text, Path::new("folder"), &Secrets) else {
        return;
    };
    // Hashing takes its time, as it should; the rest is what is looked at.
    if settings.users.iter().any(|user| user.password.is_some()) {
        return;
    }
    let card = MemoryDevice::from_bytes(CARD.clone());
    if let Ok(prepared) = prepare(&card, &settings, Timestamp::default()) {
        let _ = prepared.commit(None);
    }
});
