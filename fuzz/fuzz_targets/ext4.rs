//! Reads arbitrary bytes as an ext2, ext3 or ext4 file system, and changes it.

#![no_main]

use std::collections::BTreeSet;

use libfuzzer_sys::fuzz_target;
use pinewrit_disk::MemoryDevice;
use pinewrit_ext4::{
    Attributes, EditError, Editor, FileKind, InodeNumber, Timestamp, Volume, Xattr, Zeros, check, settle,
};

/// Bytes of the device: the file system may be larger than the input.
const SIZE: usize = 1 << 20;
/// Inodes that are looked at.
const MOST: usize = 200;

fuzz_target!(|data: &[u8]| {
    let mut bytes = data[..data.len().min(SIZE)].to_vec();
    bytes.resize(SIZE, 0);
    let device = MemoryDevice::from_bytes(bytes);
    if let Ok(volume) = Volume::open(&device) {
        look(&volume);
        let _ = volume.owner_at(300 << 10);
    }
    // Half of it may be done when it fails: what is then in the memory is of no use to anybody.
    if settle(&device, Timestamp::at(0)).is_err() {
        return;
    }
    let was_whole = check(&device).is_ok();
    let changed = change(&device);
    // What was whole stays so, whatever of the changes was possible.
    if let (true, Some(Ok(()))) = (was_whole, changed) {
        check(&device).expect("it was whole before");
    }
});

/// `None` where it is not changed at all.
fn change(device: &MemoryDevice) -> Option<Result<(), EditError>> {
    let mut editor = Editor::open(device, Timestamp::at(0)).ok()?;
    let mut plain = Attributes::root(0o755, Timestamp::at(0));
    let content = [7; 5000];
    let _ = editor.make_folders(b"/etc/hut", &plain);
    plain.xattrs.push(Xattr {
        name: "user.hut".to_owned(),
        value: vec![1; 200],
    });
    let _ = editor.write_file(b"/etc/hut/log", &plain, 5000, &mut &content[..], Zeros::Written);
    let _ = editor.append(b"/etc/hut/log", &content);
    let _ = editor.link(b"/again", b"/a");
    let _ = editor.truncate(b"/a", 100);
    let _ = editor.write_file(b"/lost+found/x", &plain, 5000, &mut &content[..], Zeros::Holes);
    let _ = editor.remove_all(b"/etc");
    let _ = editor.remove(b"/b");
    let _ = editor.set_uuid([9; 16]);
    let _ = editor.grow(SIZE as u64);
    if let Ok(least) = editor.smallest_size() {
        let _ = editor.shrink(least);
    }
    Some(editor.commit().map(drop))
}

/// Follows all folders from the root.
fn look(volume: &Volume<&MemoryDevice>) {
    let tree = volume.tree();
    let mut open = vec![InodeNumber::ROOT];
    let mut seen = BTreeSet::new();
    while let Some(number) = open.pop() {
        if !seen.insert(number) || seen.len() > MOST {
            continue;
        }
        let Ok(facts) = tree.metadata(number) else {
            continue;
        };
        let _ = tree.xattrs(number);
        match facts.kind {
            FileKind::Directory => {
                let found = tree.list(number).unwrap_or_default();
                open.extend(found.into_iter().take(MOST).map(|entry| entry.inode));
            }
            FileKind::Symlink => drop(tree.link_target(number)),
            _ => drop(tree.read_at(number, 0, &mut [0; 9000])),
        }
    }
}
