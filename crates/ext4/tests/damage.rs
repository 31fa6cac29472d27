//! One damage at a time, in each field of each structure, and what the own check and `e2fsck -fn` say of
//! it: what is damaged is found, and what is whole is not called damaged.

#![allow(
    clippy::print_stderr,
    reason = "figures, and what was missed, where they are asked for"
)]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
#[path = "damage/fields.rs"]
mod fields;
#[path = "damage/image.rs"]
mod image;

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use common::{device, judge, sparse};
use fields::Field;
use image::Image;
use pinewrit_disk::MemoryDevice;
use pinewrit_ext4::{
    Attributes, CheckError, EditError, Editor, NodeKind, Timestamp, Xattr, Zeros, check,
};
use pinewrit_judges::noise;
use rstest::rstest;

const SIZE: u64 = 12 << 20;
const NOW: Timestamp = Timestamp {
    seconds: 1_767_225_600,
    nanoseconds: 0,
};

const KINDS: [&[&str]; 5] = [
    &["-t", "ext4", "-b", "1024"],
    &[
        "-t",
        "ext4",
        "-b",
        "1024",
        "-O",
        "^metadata_csum,uninit_bg,inline_data",
        "-I",
        "512",
    ],
    &[
        "-t",
        "ext4",
        "-b",
        "4096",
        "-O",
        "^metadata_csum,^flex_bg",
        "-g",
        "1024",
        "-J",
        "size=4",
    ],
    &["-t", "ext3", "-b", "1024", "-I", "128"],
    &["-t", "ext2", "-b", "1024"],
];

/// A file system with something of each kind in it.
fn filled(dir: &Path, options: &[&str]) -> Option<Image> {
    let path = dir.join("fs.img");
    sparse(&path, SIZE);
    let uuid = "10325476-98ba-4ddc-a117-0123456789ab";
    let seed = format!("hash_seed={uuid}");
    let args = ["-q", "-F", "-U", uuid, "-E", &seed];
    let args = [&args[..], options, &[path.to_str().unwrap()]].concat();
    let (is_good, said) = judge("mke2fs", &args)?;
    assert!(is_good, "{said}");
    let mut editor = Editor::open(device(&path), NOW).unwrap();
    let plain = Attributes::root(0o644, NOW);
    let write = |editor: &mut Editor<_>, path: &str, attributes: &Attributes, len: usize| {
        let content = noise(len, 7);
        let zeros = Zeros::Written;
        let path = path.as_bytes();
        editor
            .write_file(path, attributes, len as u64, &mut &content[..], zeros)
            .unwrap();
    };
    editor
        .make_folders(b"/etc/deep/er", &Attributes::root(0o755, NOW))
        .unwrap();
    editor
        .make_folders(b"/many", &Attributes::root(0o755, NOW))
        .unwrap();
    for name in ["/file", "/linked", "/etc/hostname", "/etc/deep/one"] {
        write(&mut editor, name, &plain, 70_000);
    }
    write(&mut editor, "/tiny", &plain, 20);
    editor.link(b"/etc/link", b"/linked").unwrap();
    editor
        .make_symlink(b"/short", b"etc/hostname", &plain)
        .unwrap();
    editor.make_symlink(b"/long", &[b'l'; 200], &plain).unwrap();
    editor
        .make_node(b"/device", NodeKind::BlockDevice(8, 1), &plain)
        .unwrap();
    editor.make_node(b"/pipe", NodeKind::Fifo, &plain).unwrap();
    for (path, len) in [("/noted", 20), ("/noted-more", 400)] {
        let value = noise(len, 3);
        let names = ["user.hut", "user.valley"];
        let xattrs = names.map(|name| Xattr {
            name: name.to_owned(),
            value: value.clone(),
        });
        let attributes = Attributes {
            xattrs: xattrs.to_vec(),
            ..plain.clone()
        };
        write(&mut editor, path, &attributes, 3000);
    }
    for index in 0..400 {
        write(
            &mut editor,
            &format!("/many/reading-of-the-day-{index:04}"),
            &plain,
            0,
        );
    }
    // Two files that grow in turn are in many pieces.
    for name in ["/pieces", "/others"] {
        write(&mut editor, name, &plain, 100);
    }
    for _ in 0..40 {
        for name in [b"/pieces", b"/others"] {
            editor.append(name, &noise(9000, 5)).unwrap();
        }
    }
    editor.remove(b"/others").unwrap();
    editor.commit().unwrap();
    let image = Image {
        bytes: fs::read(&path).unwrap(),
    };
    check(MemoryDevice::from_bytes(image.bytes.clone())).unwrap();
    Some(image)
}

/// Another value for a field.
fn other(old: u64, width: usize, random: u64) -> u64 {
    let mask = u64::MAX >> (64 - width * 8);
    let bit = 1 << ((random >> 8) % (width as u64 * 8));
    let new = match random % 8 {
        0 => old.wrapping_add(1),
        1 => old.wrapping_sub(1),
        2 => 0,
        3 => mask,
        4 => old.wrapping_add(1 << ((random >> 16) % 9)),
        5 => random >> 20,
        _ => old ^ bit,
    };
    match new & mask == old {
        true => old ^ bit,
        false => new & mask,
    }
}

/// What came of all cases.
#[derive(Default)]
struct Tally {
    clean: usize,
    refused: usize,
    doubtful: usize,
    found: usize,
    missed: BTreeMap<String, String>,
    /// Called damaged, and whole as others say.
    alarms: BTreeMap<String, String>,
}

impl Tally {
    fn take(&mut self, what: String, bytes: Vec<u8>, scratch: &Path) -> Option<()> {
        fs::write(scratch, &bytes).unwrap();
        let (is_clean, said) = judge("e2fsck", &["-fn", scratch.to_str().unwrap()])?;
        let medium = MemoryDevice::from_bytes(bytes);
        let own = check(&medium);
        let opened = Editor::open(&medium, NOW).map(drop);
        // A feature, an orphan or a journal: nothing is changed, for another reason.
        let is_refused = matches!(
            &own,
            Err(CheckError::Feature(_)
                | CheckError::NeedsReplay
                | CheckError::Journal(_)
                | CheckError::JournalHead(_))
        ) || matches!(
            &opened,
            Err(EditError::Feature(_) | EditError::NeedsReplay | EditError::Unclean)
        );
        match (is_clean, own.is_err() || opened.is_err()) {
            // It would mend something, and calls it clean all the same; the kernel may not mount it.
            _ if is_clean && said.contains("? no") => self.doubtful += 1,
            (_, true) if is_refused => self.refused += 1,
            (true, false) => self.clean += 1,
            (false, true) => self.found += 1,
            (false, false) => drop(self.missed.insert(what, said)),
            (true, true) => {
                let why = own
                    .err()
                    .map_or(format!("{opened:?}"), |error| error.to_string());
                drop(self.alarms.insert(what, why));
            }
        }
        Some(())
    }

    fn judge(&self) {
        let told = std::env::var_os("PINEWRIT_DAMAGE_TOLD").is_some();
        for (what, said) in self.missed.iter().filter(|_| told) {
            let said: Vec<&str> = said
                .lines()
                .filter(|line| !line.starts_with("Pass "))
                .collect();
            eprintln!("missed: {what}: {}", said.join(" | "));
        }
        let (found, missed) = (self.found, self.missed.len());
        eprintln!(
            "{found} found, {missed} missed, {} whole, {} refused, {} doubtful",
            self.clean, self.refused, self.doubtful
        );
        assert!(self.alarms.is_empty(), "called damaged: {:#?}", self.alarms);
        assert!(
            missed * 10 <= found + missed,
            "missed: {:#?}",
            self.missed.keys()
        );
    }
}

fn damaged(image: &Image, field: &Field, random: u64) -> (String, Vec<u8>) {
    let old = image.number(field.at, field.width);
    let new = other(old, field.width, random);
    let mut image = image.clone();
    image.put(field.at, field.width, new);
    image.seal(field.seal);
    (
        format!("{} of {}: {old:#x} to {new:#x}", field.name, field.of),
        image.bytes,
    )
}

/// How many damages each field of each structure has; a third of the fields has one, unless it is told by
/// `PINEWRIT_DAMAGES=20`.
fn damages() -> (usize, usize) {
    let wanted = std::env::var("PINEWRIT_DAMAGES").ok();
    let wanted = wanted.and_then(|count| count.parse().ok());
    wanted.map_or((1, 3), |count| (count, 1))
}

/// What `debugfs` does to a file system: damage by another hand, and some that is none.
const REQUESTS: &[&str] = &[
    "clri /file",
    "clri /etc/deep",
    "freei /file",
    "seti <900>",
    "freeb 700 3",
    "setb 2300 5",
    "unlink /file",
    "unlink /etc/deep",
    "kill_file /pieces",
    "ln /file /etc/again",
    "ln /etc/deep /again",
    "copy_inode /file /pieces",
    "set_inode_field /file links_count 7",
    "set_inode_field /etc links_count 9",
    "set_inode_field /file mode 0",
    "set_inode_field /file mode 040755",
    "set_inode_field /etc mode 0100644",
    "set_inode_field / size 3",
    "set_inode_field /etc size 0",
    "set_inode_field /file size 99999999999",
    "set_inode_field /file flags 0x1000",
    "set_inode_field /file flags 0x10000000",
    "set_inode_field /file dtime 20260101",
    "set_inode_field /file blocks 3",
    "set_inode_field /file file_acl 5",
    "set_inode_field /noted-more file_acl 0",
    "set_inode_field /short size 5",
    "set_inode_field /long size 900",
    "set_inode_field <7> block[DIND] 77",
    "set_inode_field <8> mode 040755",
    "set_bg 0 free_blocks_count 7",
    "set_bg 0 free_inodes_count 7",
    "set_bg 0 used_dirs_count 77",
    "set_bg 0 block_bitmap 900",
    "set_bg 0 inode_table 1",
    "set_bg 0 flags 7",
    "set_bg 0 itable_unused 2999",
    "set_super_value blocks_count 99999",
    "set_super_value inodes_count 999",
    "set_super_value inode_size 100",
    "set_super_value first_ino 3",
    "set_super_value last_orphan 12",
    "set_super_value reserved_gdt_blocks 3",
    "set_super_value journal_inum 12",
    "set_super_value free_blocks_count 3",
    "set_super_value free_inodes_count 3",
    "zap_block -f /etc 0",
    "zap_block -f / 0",
    "zap_block -f /many 0",
    "zap_block -f /many 1",
    "zap_block -f /many -p 0xff 2",
    "zap_block -f /long 0",
    "zap_block -f /file 3",
    "rm /linked",
    "rm /etc/hostname",
    "rmdir /etc/deep/er",
    "symlink /new there",
    "symlink /newer there-is-a-longer-text-than-fits-into-an-inode-so-that-it-needs-a-block",
    "ea_set /file user.more snow",
    "ea_rm /noted user.hut",
    "expand_dir /etc",
    "punch /file 2 3",
    "mknod /etc/pipe p",
];

#[rstest]
fn damage_by_another_hand_is_found(#[values(0, 1, 2, 3, 4)] kind: usize) {
    let dir = tempfile::tempdir().unwrap();
    let Some(image) = filled(dir.path(), KINDS[kind]) else {
        return;
    };
    let mut tally = Tally::default();
    for request in REQUESTS {
        let path = dir.path().join("damaged.img");
        fs::write(&path, &image.bytes).unwrap();
        if judge("debugfs", &["-w", "-R", request, path.to_str().unwrap()]).is_none() {
            return;
        }
        let bytes = fs::read(&path).unwrap();
        tally.take((*request).to_owned(), bytes, &path);
    }
    tally.judge();
}

#[rstest]
fn damage_of_a_field_is_found(#[values(0, 1, 2, 3, 4)] kind: usize) {
    let dir = tempfile::tempdir().unwrap();
    let Some(image) = filled(dir.path(), KINDS[kind]) else {
        return;
    };
    let mut tally = Tally::default();
    let mut random = 0x1234_5678_9abc_def1_u64 ^ (kind as u64) << 40;
    let (times, each) = damages();
    for _ in 0..times {
        for field in fields::all(&image)
            .iter()
            .flatten()
            .skip(kind % each)
            .step_by(each)
        {
            random ^= random << 13;
            random ^= random >> 7;
            random ^= random << 17;
            let (what, bytes) = damaged(&image, field, random);
            if tally
                .take(what, bytes, &dir.path().join("damaged.img"))
                .is_none()
            {
                return;
            }
        }
    }
    tally.judge();
}
