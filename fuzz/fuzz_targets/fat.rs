//! Reads arbitrary bytes as a FAT file system, and changes it.

#![no_main]

use std::sync::Mutex;

use libfuzzer_sys::fuzz_target;
use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Operation, SectorSize, Sought};
use pinewrit_fat::{EditError, Editor, Geometry, Placement, Usage, Volume, check, owners};

/// Bytes of the device: the file system may be larger than the input.
const SIZE: usize = 2_600_000;
/// Files and folders that are looked at.
const MOST: usize = 200;

/// A device of which only the first part is in memory: the rest is zero until it is written.
struct Sparse(Mutex<Vec<u8>>);

impl Sparse {
    fn end(operation: Operation, offset: u64, len: usize) -> Result<(usize, usize), DiskError> {
        let past = DiskError::PastEnd {
            operation,
            offset,
            len: len as u64,
            size: SIZE as u64,
        };
        let start = usize::try_from(offset).ok().filter(|start| *start <= SIZE);
        let Some(start) = start else { return Err(past) };
        match SIZE - start >= len {
            true => Ok((start, start + len)),
            false => Err(past),
        }
    }
}

impl BlockDevice for Sparse {
    fn size(&self) -> u64 {
        SIZE as u64
    }

    fn logical_sector(&self) -> SectorSize {
        SectorSize::B512
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        let (start, _) = Self::end(Operation::Read, offset, buffer.len())?;
        let bytes = self.0.lock().expect("one thread");
        let there = bytes.get(start..).unwrap_or_default();
        let len = there.len().min(buffer.len());
        buffer[..len].copy_from_slice(&there[..len]);
        buffer[len..].fill(0);
        Ok(())
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        let (start, end) = Self::end(Operation::Write, offset, data.len())?;
        let mut bytes = self.0.lock().expect("one thread");
        if bytes.len() < end {
            bytes.resize(end, 0);
        }
        bytes[start..end].copy_from_slice(data);
        Ok(())
    }

    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }
}

fuzz_target!(|data: &[u8]| {
    let len = data.len().min(SIZE);
    let device = Sparse(Mutex::new(data[..len].to_vec()));
    let Ok(Some(geometry)) = Geometry::read(&device) else {
        return;
    };
    look(&device, &geometry);
    let was_whole = check(&device).is_ok();
    let changed = change(&device);
    // What was whole stays so, whatever of the changes was possible.
    if let (true, Some(Ok(()))) = (was_whole, changed) {
        check(&device).expect("it was whole before");
    }
});

/// `None` where it is not changed at all.
fn change(device: &Sparse) -> Option<Result<(), EditError>> {
    let mut editor = Editor::open(device).ok()?;
    let content = [7; 5000];
    let usual = Placement::Usual;
    let _ = editor.make_folder("/Huts of Larkfell", 0);
    let _ = editor.write_file("/Huts of Larkfell/log", 5000, &mut &content[..], 0, usual);
    let _ = editor.write_file("/A", 3000, &mut &content[..], 0, Placement::Contiguous);
    let _ = editor.write_file("/a/b.txt", 700, &mut &content[..], 0, usual);
    let _ = editor.write_file("/SHORT", 5001, &mut &content[..], 0, usual);
    let _ = editor.remove("/a name that is long.txt");
    let _ = editor.remove("/B");
    let _ = editor.move_to_front("/A");
    editor.set_id([9; 4]);
    let _ = editor.resize(editor.smallest_size());
    Some(editor.commit())
}

/// Follows all folders from the root.
fn look(device: &Sparse, geometry: &Geometry) {
    let Ok(volume) = Volume::open(device) else {
        return;
    };
    let tree = volume.tree();
    let mut open = vec![tree.root()];
    let mut seen = 0;
    while let Some(folder) = open.pop() {
        for node in tree.list(&folder).unwrap_or_default() {
            seen += 1;
            if seen > MOST {
                return;
            }
            match node.is_folder {
                true => open.push(node),
                false => drop(tree.read_to(&node, 9000, &mut std::io::sink())),
            }
        }
    }
    let _ = volume.label();
    let _ = volume.count_free();
    let place = ByteRange { start: 30_000, end: 30_001 };
    let _ = owners(device, geometry, &mut Sought::new(vec![place]));
    let mut boot = [0; 512];
    let _ = device.read_at(0, &mut boot);
    if let Some((mut usage, reads)) = Usage::begin(&boot, SIZE as u64) {
        for (range, read) in reads {
            let mut bytes = vec![0; range.len() as usize];
            if device.read_at(range.start, &mut bytes).is_ok() {
                usage.take(read, &bytes);
            }
        }
        let _ = usage.used(ByteRange { start: 0, end: SIZE as u64 });
    }
}
