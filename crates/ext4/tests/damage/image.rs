//! A file system as bytes, in which fields are changed and all checksums put right again, so that a
//! check has to see the damage itself.

use pinewrit_disk::MemoryDevice;
use pinewrit_ext4::Volume;

/// Where a field lies, and by which checksum it is covered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Seal {
    Nothing,
    Superblock,
    Descriptor(u64),
    /// The block bitmap of a group, and the inode bitmap.
    Bitmaps(u64),
    Inode(u32),
    /// A block of names of this directory.
    Names(u32, u64),
    /// A block of an index of this directory, and where its counts begin.
    Index(u32, u64, usize),
    /// A node of this file's tree of extents.
    Extents(u32, u64),
    Attributes(u64),
    /// The head of the journal.
    Journal(u64),
}

#[derive(Clone)]
pub(crate) struct Image {
    pub(crate) bytes: Vec<u8>,
}

fn crc(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

impl Image {
    pub(crate) fn number(&self, at: usize, width: usize) -> u64 {
        let mut raw = [0; 8];
        raw[..width].copy_from_slice(&self.bytes[at..at + width]);
        u64::from_le_bytes(raw)
    }

    pub(crate) fn put(&mut self, at: usize, width: usize, value: u64) {
        self.bytes[at..at + width].copy_from_slice(&value.to_le_bytes()[..width]);
    }

    pub(crate) fn block(&self) -> usize {
        // Its field may be what is damaged.
        1024 << self.number(1024 + 0x18, 4).min(6)
    }

    fn has_sums(&self) -> bool {
        self.number(1024 + 0x64, 4) & 0x400 != 0
    }

    fn is_wide(&self) -> bool {
        self.number(1024 + 0x60, 4) & 0x80 != 0
    }

    fn seed(&self) -> u32 {
        match self.number(1024 + 0x60, 4) & 0x2000 {
            0 => crc(!0, &self.bytes[1024 + 0x68..1024 + 0x78]),
            _ => self.number(1024 + 0x270, 4) as u32,
        }
    }

    pub(crate) fn descriptor_size(&self) -> usize {
        match self.is_wide() {
            true => self.number(1024 + 0xfe, 2) as usize,
            false => 32,
        }
    }

    pub(crate) fn groups(&self) -> u64 {
        let blocks = self.number(1024 + 4, 4) - self.number(1024 + 0x14, 4);
        blocks.div_ceil(self.number(1024 + 0x20, 4))
    }

    pub(crate) fn descriptor(&self, group: u64) -> usize {
        (1024 / self.block() + 1) * self.block() + group as usize * self.descriptor_size()
    }

    pub(crate) fn inode_size(&self) -> usize {
        self.number(1024 + 0x58, 2) as usize
    }

    pub(crate) fn inode(&self, number: u32) -> usize {
        let per_group = self.number(1024 + 0x28, 4) as u32;
        let table = self.descriptor(u64::from((number - 1) / per_group)) + 8;
        let table = self.number(table, 4) as usize * self.block();
        table + ((number - 1) % per_group) as usize * self.inode_size()
    }

    pub(crate) fn find(&self, path: &str) -> u32 {
        let device = MemoryDevice::from_bytes(self.bytes.clone());
        let volume = Volume::open(&device).unwrap();
        volume.tree().find(path.as_bytes()).unwrap().0
    }

    fn inode_seed(&self, number: u32) -> u32 {
        let generation = self.inode(number) + 0x64;
        let seed = crc(self.seed(), &number.to_le_bytes());
        crc(seed, &self.bytes[generation..generation + 4])
    }

    /// Puts a checksum right, if there is one.
    pub(crate) fn seal(&mut self, what: Seal) {
        let size = self.block();
        if let Seal::Descriptor(group) = what {
            return self.seal_descriptor(group);
        }
        if !self.has_sums() {
            return;
        }
        match what {
            Seal::Nothing | Seal::Descriptor(_) => {}
            Seal::Superblock => {
                let sum = crc(!0, &self.bytes[1024..1024 + 0x3fc]);
                self.put(1024 + 0x3fc, 4, u64::from(sum));
            }
            Seal::Bitmaps(group) => self.seal_bitmaps(group),
            Seal::Inode(number) => self.seal_inode(number),
            Seal::Names(number, block) => {
                let at = block as usize * size;
                let sum = crc(self.inode_seed(number), &self.bytes[at..at + size - 12]);
                self.put(at + size - 4, 4, u64::from(sum));
            }
            Seal::Index(number, block, start) => {
                let at = block as usize * size;
                let limit = self.number(at + start, 2) as usize;
                let count = self.number(at + start + 2, 2) as usize;
                let (end, tail) = (start + count * 8, start + limit * 8);
                if end <= size && tail + 8 <= size {
                    let sum = crc(self.inode_seed(number), &self.bytes[at..at + end]);
                    let sum = crc(sum, &self.bytes[at + tail..at + tail + 4]);
                    self.put(at + tail + 4, 4, u64::from(crc(sum, &[0; 4])));
                }
            }
            Seal::Extents(number, block) => {
                let at = block as usize * size;
                let tail = 12 + self.number(at + 4, 2) as usize * 12;
                if tail + 4 <= size {
                    let sum = crc(self.inode_seed(number), &self.bytes[at..at + tail]);
                    self.put(at + tail, 4, u64::from(sum));
                }
            }
            Seal::Attributes(block) => {
                let at = block as usize * size;
                self.put(at + 16, 4, 0);
                let sum = crc(
                    crc(self.seed(), &block.to_le_bytes()),
                    &self.bytes[at..at + size],
                );
                self.put(at + 16, 4, u64::from(sum));
            }
            Seal::Journal(block) => {
                let at = block as usize * size;
                if u32::from_be_bytes(self.bytes[at + 40..at + 44].try_into().unwrap()) & 0x18 != 0
                {
                    self.put(at + 252, 4, 0);
                    let sum = crc(!0, &self.bytes[at..at + 1024]);
                    self.bytes[at + 252..at + 256].copy_from_slice(&sum.to_be_bytes());
                }
            }
        }
    }

    fn seal_bitmaps(&mut self, group: u64) {
        let at = self.descriptor(group);
        let covered = [
            self.number(1024 + 0x20, 4) / 8,
            self.number(1024 + 0x28, 4) / 8,
        ];
        for (field, sum_at, covered) in [(0, 0x18, covered[0]), (4, 0x1a, covered[1])] {
            let bitmap = self.number(at + field, 4) as usize * self.block();
            let sum = crc(self.seed(), &self.bytes[bitmap..bitmap + covered as usize]);
            self.put(at + sum_at, 2, u64::from(sum & 0xffff));
            if self.descriptor_size() >= 64 {
                self.put(at + sum_at + 0x20, 2, u64::from(sum >> 16));
            }
        }
        self.seal_descriptor(group);
    }

    fn seal_descriptor(&mut self, group: u64) {
        if !self.has_sums() {
            return;
        }
        let (at, size) = (self.descriptor(group), self.descriptor_size());
        self.put(at + 0x1e, 2, 0);
        let sum = crc(self.seed(), &(group as u32).to_le_bytes());
        let sum = crc(sum, &self.bytes[at..at + size]);
        self.put(at + 0x1e, 2, u64::from(sum & 0xffff));
    }

    fn seal_inode(&mut self, number: u32) {
        let (at, size) = (self.inode(number), self.inode_size());
        let has_high = size > 128 && self.number(at + 0x80, 2) >= 4;
        self.put(at + 0x7c, 2, 0);
        if has_high {
            self.put(at + 0x82, 2, 0);
        }
        let sum = crc(self.inode_seed(number), &self.bytes[at..at + size]);
        self.put(at + 0x7c, 2, u64::from(sum & 0xffff));
        if has_high {
            self.put(at + 0x82, 2, u64::from(sum >> 16));
        }
    }
}
