//! A small ext2 file system for the demo: one block group, a fixed tree.
//!
//! Layout: the kernel's ext4 documentation, "Blocks", "The Super Block", "Block Group
//! Descriptors", "Index Nodes" and "Directory Entries". Little-endian, blocks of 4096 bytes.
//!
//! ```text
//! block 0  superblock (at byte 1024)     block 3       inode bitmap
//! block 1  group descriptor              blocks 4-67   inode table
//! block 2  block bitmap                  blocks 68-    data
//! ```

use pinewrit_disk::{BlockDevice, DiskError};

const BLOCK: usize = 4096;
const INODES: u32 = 2048;
const INODE_SIZE: usize = 128;
const INODE_TABLE: u32 = 4;
const FIRST_DATA: u32 = INODE_TABLE + (INODES as usize * INODE_SIZE / BLOCK) as u32;
/// Inodes 1 to 10 are reserved; 2 is the root directory, 11 by custom `lost+found`.
const ROOT: u32 = 2;
const FIRST_FREE_INODE: u32 = 11;
/// Twelve direct blocks and one indirect one.
const MAX_FILE_BLOCKS: usize = 12 + BLOCK / 4;

const DIRECTORY: u16 = 0o040_755;
const REGULAR: u16 = 0o100_644;

/// A file or folder of the demo's tree; folders come before what is in them.
pub(super) enum Entry<'a> {
    /// A folder, by its full path without a leading slash.
    Folder(&'a str),
    /// A file with its content.
    File(&'a str, &'a [u8]),
}

/// Size of the file system that this makes, in bytes: one whole block group.
pub(super) const SIZE: u64 = (BLOCK * BLOCK * 8) as u64;

/// Makes the file system on `device`, which has at least [`SIZE`] bytes and reads as zeros.
pub(super) fn make(
    device: &dyn BlockDevice,
    label: &str,
    uuid: [u8; 16],
    tree: &[Entry<'_>],
) -> Result<(), DiskError> {
    let mut maker = Maker {
        device,
        next_block: FIRST_DATA,
        next_inode: FIRST_FREE_INODE,
        folders: vec![Folder::new("", ROOT, ROOT)],
    };
    maker.add_folder("lost+found");
    for entry in tree {
        match entry {
            Entry::Folder(path) => maker.add_folder(path),
            Entry::File(path, content) => maker.add_file(path, content)?,
        }
    }
    maker.finish(label, uuid)
}

struct Folder {
    path: String,
    inode: u32,
    parent: u32,
    subfolders: u16,
    names: Vec<(String, u32, u8)>,
}

impl Folder {
    fn new(path: &str, inode: u32, parent: u32) -> Self {
        Self {
            path: path.to_owned(),
            inode,
            parent,
            subfolders: 0,
            names: Vec::new(),
        }
    }
}

struct Maker<'a> {
    device: &'a dyn BlockDevice,
    next_block: u32,
    next_inode: u32,
    folders: Vec<Folder>,
}

impl Maker<'_> {
    fn add_folder(&mut self, path: &str) {
        let inode = self.take_inode();
        let parent = self.enter(path, inode, 2);
        self.folders.push(Folder::new(path, inode, parent));
    }

    fn add_file(&mut self, path: &str, content: &[u8]) -> Result<(), DiskError> {
        let inode = self.take_inode();
        self.enter(path, inode, 1);
        let blocks = self.write_content(content)?;
        self.write_inode(inode, REGULAR, 1, content.len(), &blocks)
    }

    fn take_inode(&mut self) -> u32 {
        self.next_inode += 1;
        self.next_inode - 1
    }

    /// Puts a name into its folder; returns the folder's inode. File type 1 is a file, 2 a folder.
    fn enter(&mut self, path: &str, inode: u32, file_type: u8) -> u32 {
        let (parent, name) = path.rsplit_once('/').unwrap_or(("", path));
        let index = self.folders.iter().position(|f| f.path == parent);
        let folder = &mut self.folders[index.unwrap_or(0)];
        folder.names.push((name.to_owned(), inode, file_type));
        folder.subfolders += u16::from(file_type == 2);
        folder.inode
    }

    /// Writes content to the next blocks; returns them, an indirect block's list first if needed.
    fn write_content(&mut self, content: &[u8]) -> Result<Vec<u32>, DiskError> {
        let count = content.len().div_ceil(BLOCK).min(MAX_FILE_BLOCKS);
        let mut blocks = Vec::with_capacity(count);
        for part in content.chunks(BLOCK).take(count) {
            blocks.push(self.next_block);
            self.device
                .write_at(u64::from(self.next_block) * BLOCK as u64, part)?;
            self.next_block += 1;
        }
        Ok(blocks)
    }

    fn write_inode(
        &mut self,
        number: u32,
        i_mode: u16,
        i_links_count: u16,
        size: usize,
        blocks: &[u32],
    ) -> Result<(), DiskError> {
        let (direct, rest) = blocks.split_at(blocks.len().min(12));
        let mut inode = [0; INODE_SIZE];
        put16(&mut inode, 0x00, i_mode);
        put32(&mut inode, 0x04, size as u32);
        put16(&mut inode, 0x1a, i_links_count);
        for (index, block) in direct.iter().enumerate() {
            put32(&mut inode, 0x28 + 4 * index, *block);
        }
        let mut used = blocks.len();
        if !rest.is_empty() {
            let list: Vec<u8> = rest.iter().flat_map(|block| block.to_le_bytes()).collect();
            let indirect = self.write_content(&list)?;
            put32(&mut inode, 0x28 + 4 * 12, indirect[0]);
            used += 1;
        }
        // Counted in sectors of 512 bytes.
        put32(&mut inode, 0x1c, (used * BLOCK / 512) as u32);
        let at = u64::from(INODE_TABLE) * BLOCK as u64 + u64::from(number - 1) * INODE_SIZE as u64;
        self.device.write_at(at, &inode)
    }

    fn finish(mut self, label: &str, uuid: [u8; 16]) -> Result<(), DiskError> {
        let folders = std::mem::take(&mut self.folders);
        let folder_count = folders.len() as u16;
        for folder in folders {
            let blocks = self.write_content(&folder_block(&folder))?;
            let links = 2 + folder.subfolders;
            self.write_inode(folder.inode, DIRECTORY, links, BLOCK, &blocks)?;
        }
        let total = (SIZE / BLOCK as u64) as u32;
        let free_blocks = total - self.next_block;
        let free_inodes = INODES - (self.next_inode - 1);
        self.write_bitmap(2, self.next_block, total)?;
        self.write_bitmap(3, self.next_inode - 1, INODES)?;

        let mut descriptor = [0; 32];
        put32(&mut descriptor, 0x00, 2);
        put32(&mut descriptor, 0x04, 3);
        put32(&mut descriptor, 0x08, INODE_TABLE);
        put16(&mut descriptor, 0x0c, free_blocks as u16);
        put16(&mut descriptor, 0x0e, free_inodes as u16);
        put16(&mut descriptor, 0x10, folder_count);
        self.device.write_at(BLOCK as u64, &descriptor)?;
        let superblock = superblock(total, free_blocks, free_inodes, label, uuid);
        self.device.write_at(1024, &superblock)
    }

    /// The first `used` bits are set, and all from `count` on, which stand for nothing.
    fn write_bitmap(&self, block: u64, used: u32, count: u32) -> Result<(), DiskError> {
        let mut bitmap = vec![0u8; BLOCK];
        for bit in (0..used).chain(count..(BLOCK * 8) as u32) {
            bitmap[bit as usize / 8] |= 1 << (bit % 8);
        }
        self.device.write_at(block * BLOCK as u64, &bitmap)
    }
}

/// A folder's one block of entries; the last one reaches to the block's end.
fn folder_block(folder: &Folder) -> Vec<u8> {
    let dots = [
        (".".to_owned(), folder.inode, 2),
        ("..".to_owned(), folder.parent, 2),
    ];
    let names: Vec<_> = dots.iter().chain(&folder.names).collect();
    let mut block = Vec::with_capacity(BLOCK);
    for (index, (name, inode, file_type)) in names.iter().enumerate() {
        let own = (8 + name.len()).next_multiple_of(4);
        let is_last = index + 1 == names.len();
        let rec_len = if is_last { BLOCK - block.len() } else { own };
        let start = block.len();
        block.extend(inode.to_le_bytes());
        block.extend((rec_len as u16).to_le_bytes());
        block.extend([name.len() as u8, *file_type]);
        block.extend(name.as_bytes());
        block.resize(start + rec_len, 0);
    }
    block
}

fn superblock(blocks: u32, free: u32, free_inodes: u32, label: &str, uuid: [u8; 16]) -> [u8; 1024] {
    let mut sb = [0; 1024];
    put32(&mut sb, 0x00, INODES);
    put32(&mut sb, 0x04, blocks);
    put32(&mut sb, 0x0c, free);
    put32(&mut sb, 0x10, free_inodes);
    put32(&mut sb, 0x18, 2); // s_log_block_size: 1024 << 2
    put32(&mut sb, 0x1c, 2); // s_log_cluster_size
    put32(&mut sb, 0x20, (BLOCK * 8) as u32); // s_blocks_per_group
    put32(&mut sb, 0x24, (BLOCK * 8) as u32); // s_clusters_per_group
    put32(&mut sb, 0x28, INODES); // s_inodes_per_group
    put16(&mut sb, 0x36, 0xffff); // s_max_mnt_count: no check by count
    put16(&mut sb, 0x38, 0xef53); // s_magic
    put16(&mut sb, 0x3a, 1); // s_state: clean
    put16(&mut sb, 0x3c, 1); // s_errors: go on
    put32(&mut sb, 0x4c, 1); // s_rev_level: dynamic
    put32(&mut sb, 0x54, FIRST_FREE_INODE); // s_first_ino
    put16(&mut sb, 0x58, INODE_SIZE as u16);
    put32(&mut sb, 0x60, 0x2); // s_feature_incompat: file types in directory entries
    put32(&mut sb, 0x64, 0x1); // s_feature_ro_compat: sparse superblock copies
    sb[0x68..0x78].copy_from_slice(&uuid);
    let label = &label.as_bytes()[..label.len().min(16)];
    sb[0x78..0x78 + label.len()].copy_from_slice(label);
    sb
}

fn put16(bytes: &mut [u8], offset: usize, value: u16) {
    bytes[offset..offset + 2].copy_from_slice(&value.to_le_bytes());
}

fn put32(bytes: &mut [u8], offset: usize, value: u32) {
    bytes[offset..offset + 4].copy_from_slice(&value.to_le_bytes());
}
