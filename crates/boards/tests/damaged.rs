//! Media with anything in them: they are followed as far as possible, and never further.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::sync::LazyLock;

use pinewrit_boards::board::Board;
use pinewrit_boards::chain::{Verdict, follow};
use pinewrit_boards::{Extent, judge, learn};
use pinewrit_disk::{ByteRange, MemoryDevice, Window};
use pinewrit_volume::Timestamp;
use pinewrit_volume::files::{Rights, open_to_change};
use pinewrit_volume::format::{FormatKind, FormatOptions, format};
use proptest::prelude::*;

const SIZE: usize = 16 << 20;
const WHOLE: ByteRange = ByteRange {
    start: 0,
    end: SIZE as u64,
};
const BOARD: &str = "name = \"Brindle B9\"\narchitecture = \"x86-64\"\nsmallest = \"1MiB\"\n\
    [[way]]\nscheme = \"none\"\nloader = \"uefi\"\n[[way.bytes]]\nat = \"510\"\nmagic = \"55aa\"\n\
    sum = { field = \"12\", length = \"16\" }\n\
    [[way]]\nloader = \"own\"\n[[way.partition]]\nnumber = 1\n";

/// A file system without a table: loader, text, kernel, and a root that is the same file system.
static MEDIUM: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let device = MemoryDevice::from_bytes(vec![0; SIZE]);
    let now = Timestamp::at(1_767_225_600);
    let kind = FormatKind::from_word("fat16").unwrap();
    format(
        &Window::new(&device, WHOLE),
        &FormatOptions::new(kind, "HUT", [3; 32], now),
    )
    .unwrap();
    let mut loader = b"MZ".to_vec();
    loader.resize(0x3c, 0);
    loader.extend(0x40_u32.to_le_bytes());
    loader.extend(b"PE\0\0\x64\x86");
    loader.resize(512, 0);
    loader.extend(b"Welcome to GRUB!");
    let mut kernel = vec![0; 1024];
    kernel[0x202..0x206].copy_from_slice(b"HdrS");
    kernel[0x236] = 1;
    let text = "search --label --set=root HUT\nmenuentry x {\n linux /vmlinuz root=LABEL=HUT\n initrd /initrd\n}\n";
    let mut files = open_to_change(&device, now).unwrap();
    for folder in ["/EFI/BOOT", "/bin", "/sbin", "/etc"] {
        files.make_folders(folder, Rights::root(0o755)).unwrap();
    }
    for (path, content) in [
        ("/EFI/BOOT/BOOTX64.EFI", loader.as_slice()),
        ("/EFI/BOOT/grub.cfg", text.as_bytes()),
        ("/vmlinuz", &kernel),
        ("/initrd", b"made up"),
        ("/sbin/init", b"#!/bin/sh\n"),
        ("/bin/sh", b"made up"),
        ("/etc/fstab", b"LABEL=HUT / vfat defaults 0 0\n"),
    ] {
        files.put(path, Rights::root(0o644), content).unwrap();
    }
    files.close().unwrap();
    device.to_bytes()
});

fn board() -> Board {
    Board::parse(BOARD).unwrap()
}

#[test]
fn the_whole_one_starts() {
    let device = MemoryDevice::from_bytes(MEDIUM.clone());
    let ways = follow(&device).unwrap();
    assert_eq!(ways.len(), 1, "{ways:#?}");
    assert_eq!(ways[0].verdict(), Verdict::Starts, "{ways:#?}");
    let readiness = judge(&board(), &device, Extent::Medium(SIZE as u64)).unwrap();
    // The sum is none.
    assert_eq!(readiness.verdict, Verdict::DoesNotStart);
    let learned = learn(&device, "Brindle B9", "a test").unwrap();
    let learned = Board::parse(&learned).unwrap();
    let readiness = judge(&learned, &device, Extent::Image(None)).unwrap();
    assert_eq!(readiness.verdict, Verdict::Starts, "{readiness:#?}");
}

#[test]
fn a_sum_is_taken_as_described() {
    let mut bytes = vec![0; 1 << 20];
    let words: [u32; 8] = [7, 0x8000_0000, 3, 0, 32, 0xffff_0000, 11, 12];
    let seed = 0x1234_5678_u32;
    let sum = words.iter().fold(seed, |sum, word| sum.wrapping_add(*word));
    for (index, word) in words.iter().enumerate() {
        let word = if index == 3 { sum } else { *word };
        bytes[8192 + index * 4..][..4].copy_from_slice(&word.to_le_bytes());
    }
    let text = "name = \"B\"\narchitecture = \"arm\"\n[[way]]\nloader = \"listed\"\n[[way.bytes]]\nat = \"8KiB\"\n\
        sum = { field = \"12\", length = \"16\", seed = \"12345678\" }\n";
    let board = Board::parse(text).unwrap();
    let verdict = |bytes: &[u8]| {
        let device = MemoryDevice::from_bytes(bytes.to_vec());
        judge(&board, &device, Extent::Image(None)).unwrap().verdict
    };
    assert_eq!(verdict(&bytes), Verdict::Starts);
    bytes[8192 + 25] ^= 1;
    assert_eq!(verdict(&bytes), Verdict::DoesNotStart);
    // A length that is more than the medium.
    bytes[8192 + 16..][..4].copy_from_slice(&(4_u32 << 20).to_le_bytes());
    assert_eq!(verdict(&bytes), Verdict::DoesNotStart);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn damaged_ones_are_looked_at(
        changes in prop::collection::vec((0..300_000_usize, any::<u8>()), 1..40),
    ) {
        let mut bytes = MEDIUM.clone();
        for (at, byte) in changes {
            bytes[at] = byte;
        }
        let device = MemoryDevice::from_bytes(bytes);
        let _ = follow(&device);
        let _ = judge(&board(), &device, Extent::Medium(SIZE as u64));
        let _ = learn(&device, "Brindle B9", "a test");
    }

    #[test]
    fn any_text_is_a_board_or_has_mistakes(text in "[ -~\n]{0,300}", at in 0..250_usize) {
        let mut board = BOARD.to_owned();
        board.insert_str(at.min(board.len()), &text);
        let _ = Board::parse(&board);
    }
}
