//! Reads arbitrary text as a described intake with one template, and runs it within its bounds. Run it with
//! `-handle_abrt=0`: what bursts its bounds ends in a process of its own.

#![no_main]

use std::io;
use std::path::Path;
use std::sync::LazyLock;
use std::time::Instant;

use libfuzzer_sys::fuzz_target;
use pinewrit_disk::{ByteRange, MemoryDevice, Window};
use pinewrit_firstboot::configure::{IntakeWish, prepare};
use pinewrit_firstboot::intake::custom::CustomIntake;
use pinewrit_settings::{CheckedSettings, SecretSource, check};
use pinewrit_volume::Timestamp;
use pinewrit_volume::format::{FormatKind, FormatOptions, format};

const SIZE: u64 = 8 << 20;

static CARD: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let card = MemoryDevice::new(SIZE as usize);
    let kind = FormatKind::from_word("fat16").expect("a kind");
    let options = FormatOptions::new(kind, "BOOT", [7; 32], Timestamp::at(0));
    let all = ByteRange { start: 0, end: SIZE };
    format(&Window::new(&card, all), &options).expect("a file system");
    card.to_bytes()
});

struct None_;

impl SecretSource for None_ {
    fn variable(&self, _name: &str) -> Option<String> {
        None
    }

    fn file(&self, _path: &Path) -> io::Result<String> {
        Err(io::ErrorKind::NotFound.into())
    }

    fn ask(&self, _what: &str) -> io::Result<Option<String>> {
        Ok(None)
    }
}

static SETTINGS: LazyLock<CheckedSettings> = LazyLock::new(|| {
    let text = "hostname = \"larkfell-03\"\ntimezone = \"Etc/UTC\"\n[[wired]]\naddresses = [\"10.77.3.10/24\"]\n";
    check(text, Path::new("folder"), &None_).expect("settings without mistakes")
});

fuzz_target!(|text: &str| {
    let quoted = toml::Value::String(text.to_owned());
    let intake = format!(
        "name = \"odd\"\n[[step]]\nplace = \"BOOT:/odd.txt\"\ncontent = {quoted}\n"
    );
    if CustomIntake::parse(&intake).is_err() {
        return;
    }
    let settings = CheckedSettings {
        intake: Some(IntakeWish::Described(intake)),
        ..SETTINGS.clone()
    };
    let card = MemoryDevice::from_bytes(CARD.clone());
    let began = Instant::now();
    let _ = prepare(&card, &settings, Timestamp::default());
    assert!(began.elapsed().as_secs() < 15);
});
