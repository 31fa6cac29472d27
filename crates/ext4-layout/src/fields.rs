//! Offsets of fields, under their names in the kernel's documentation.

#![allow(
    missing_docs,
    reason = "each has the name that the kernel's documentation explains"
)]

/// "The Super Block".
pub mod sb {
    pub const INODES: usize = 0x00;
    pub const BLOCKS: usize = 0x04;
    pub const RESERVED_BLOCKS: usize = 0x08;
    pub const FREE_BLOCKS: usize = 0x0c;
    pub const FREE_INODES: usize = 0x10;
    pub const FIRST_DATA_BLOCK: usize = 0x14;
    pub const LOG_BLOCK_SIZE: usize = 0x18;
    pub const LOG_CLUSTER_SIZE: usize = 0x1c;
    pub const BLOCKS_PER_GROUP: usize = 0x20;
    pub const CLUSTERS_PER_GROUP: usize = 0x24;
    pub const INODES_PER_GROUP: usize = 0x28;
    pub const WRITE_TIME: usize = 0x30;
    pub const MAX_MOUNTS: usize = 0x36;
    pub const MAGIC: usize = 0x38;
    pub const STATE: usize = 0x3a;
    pub const ON_ERRORS: usize = 0x3c;
    pub const LAST_CHECK: usize = 0x40;
    pub const REVISION: usize = 0x4c;
    pub const FIRST_INODE: usize = 0x54;
    pub const INODE_SIZE: usize = 0x58;
    pub const GROUP_NUMBER: usize = 0x5a;
    pub const COMPATIBLE: usize = 0x5c;
    pub const INCOMPATIBLE: usize = 0x60;
    pub const READ_ONLY: usize = 0x64;
    pub const UUID: usize = 0x68;
    pub const LABEL: usize = 0x78;
    pub const RESERVED_DESCRIPTORS: usize = 0xce;
    pub const JOURNAL_INODE: usize = 0xe0;
    pub const LAST_ORPHAN: usize = 0xe8;
    pub const HASH_SEED: usize = 0xec;
    pub const HASH_VERSION: usize = 0xfc;
    pub const JOURNAL_BACKUP_KIND: usize = 0xfd;
    pub const DESCRIPTOR_SIZE: usize = 0xfe;
    pub const MOUNT_OPTIONS: usize = 0x100;
    pub const FIRST_META_BG: usize = 0x104;
    pub const MADE_TIME: usize = 0x108;
    pub const JOURNAL_BACKUP: usize = 0x10c;
    pub const BLOCKS_HIGH: usize = 0x150;
    pub const RESERVED_BLOCKS_HIGH: usize = 0x154;
    pub const FREE_BLOCKS_HIGH: usize = 0x158;
    pub const MIN_EXTRA_SIZE: usize = 0x15c;
    pub const WANT_EXTRA_SIZE: usize = 0x15e;
    pub const FLAGS: usize = 0x160;
    pub const LOG_GROUPS_PER_FLEX: usize = 0x174;
    pub const CHECKSUM_KIND: usize = 0x175;
    pub const OVERHEAD: usize = 0x248;
    pub const BACKUP_GROUPS: usize = 0x24c;
    pub const CHECKSUM_SEED: usize = 0x270;
    pub const ORPHAN_FILE: usize = 0x280;
    pub const CHECKSUM: usize = 0x3fc;
}

/// "Block Group Descriptors".
pub mod bg {
    pub const BLOCK_BITMAP: usize = 0x00;
    pub const INODE_BITMAP: usize = 0x04;
    pub const INODE_TABLE: usize = 0x08;
    pub const FREE_BLOCKS: usize = 0x0c;
    pub const FREE_INODES: usize = 0x0e;
    pub const DIRECTORIES: usize = 0x10;
    pub const FLAGS: usize = 0x12;
    pub const BLOCK_BITMAP_CHECKSUM: usize = 0x18;
    pub const INODE_BITMAP_CHECKSUM: usize = 0x1a;
    pub const UNUSED_INODES: usize = 0x1c;
    pub const CHECKSUM: usize = 0x1e;

    /// Offsets of upper halves, in descriptors of 64 bytes.
    pub const fn high(field: usize) -> usize {
        match field {
            UNUSED_INODES => 0x32,
            field => 0x20 + field,
        }
    }

    /// `bg_flags`: the inode table and bitmap were never written.
    pub const INODE_UNINIT: u16 = 0x1;
    /// `bg_flags`: the block bitmap was never written.
    pub const BLOCK_UNINIT: u16 = 0x2;
    /// `bg_flags`: the unused part of the inode table is zero.
    pub const INODE_ZEROED: u16 = 0x4;
}

/// "Index Nodes".
pub mod node {
    pub const MODE: usize = 0x00;
    pub const UID: usize = 0x02;
    pub const SIZE: usize = 0x04;
    pub const ACCESS_TIME: usize = 0x08;
    pub const CHANGE_TIME: usize = 0x0c;
    pub const MODIFY_TIME: usize = 0x10;
    pub const DELETE_TIME: usize = 0x14;
    pub const GID: usize = 0x18;
    pub const LINKS: usize = 0x1a;
    pub const SECTORS: usize = 0x1c;
    pub const FLAGS: usize = 0x20;
    pub const MAP: usize = 0x28;
    pub const MAP_LEN: usize = 60;
    pub const GENERATION: usize = 0x64;
    pub const XATTR_BLOCK: usize = 0x68;
    pub const SIZE_HIGH: usize = 0x6c;
    pub const SECTORS_HIGH: usize = 0x74;
    pub const FRAGMENT: usize = 0x70;
    pub const XATTR_BLOCK_HIGH: usize = 0x76;
    pub const UID_HIGH: usize = 0x78;
    pub const GID_HIGH: usize = 0x7a;
    pub const CHECKSUM: usize = 0x7c;
    /// Where the fields of 128 byte inodes end.
    pub const OLD_SIZE: usize = 0x80;
    pub const EXTRA_SIZE: usize = 0x80;
    pub const CHECKSUM_HIGH: usize = 0x82;
    pub const CHANGE_TIME_EXTRA: usize = 0x84;
    pub const MODIFY_TIME_EXTRA: usize = 0x88;
    pub const ACCESS_TIME_EXTRA: usize = 0x8c;
    pub const CREATE_TIME: usize = 0x90;
    pub const CREATE_TIME_EXTRA: usize = 0x94;

    /// `i_flags`: the directory has an index.
    pub const FLAG_INDEX: u32 = 0x1000;
    /// `i_flags`: sectors are counted in blocks.
    pub const FLAG_HUGE: u32 = 0x4_0000;
    /// `i_flags`: mapped by extents.
    pub const FLAG_EXTENTS: u32 = 0x8_0000;
    /// `i_flags`: encrypted.
    pub const FLAG_ENCRYPT: u32 = 0x800;
    /// `i_flags`: a hash tree follows the end of the content.
    pub const FLAG_VERITY: u32 = 0x10_0000;
    /// `i_flags`: the content is in the inode.
    pub const FLAG_INLINE: u32 = 0x1000_0000;
    /// `i_flags`: immutable, or append-only.
    pub const FLAGS_FIXED: u32 = 0x10 | 0x20;
    /// `i_flags`: encrypted, verity, extended attribute value, or case-insensitive.
    pub const FLAGS_STRANGE: u32 = FLAG_ENCRYPT | FLAG_VERITY | 0x20_0000 | FLAG_CASEFOLD;
    /// `i_flags`: flags that only directories have.
    pub const FLAGS_OF_DIRECTORIES: u32 = FLAG_INDEX | FLAG_CASEFOLD;
    /// `i_flags`: of an obsolete distributed file system.
    pub const FLAG_MAGIC: u32 = 0x2000;
    /// `i_flags`: immutable.
    pub const FLAG_IMMUTABLE: u32 = 0x10;
    /// `i_flags`: a case-insensitive directory.
    pub const FLAG_CASEFOLD: u32 = 0x4000_0000;
}
