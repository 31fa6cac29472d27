//! Offsets of fields, under their names in the kernel's documentation.

/// "The Super Block".
pub(crate) mod sb {
    pub(crate) const INODES: usize = 0x00;
    pub(crate) const BLOCKS: usize = 0x04;
    pub(crate) const RESERVED_BLOCKS: usize = 0x08;
    pub(crate) const FREE_BLOCKS: usize = 0x0c;
    pub(crate) const FREE_INODES: usize = 0x10;
    pub(crate) const FIRST_DATA_BLOCK: usize = 0x14;
    pub(crate) const LOG_BLOCK_SIZE: usize = 0x18;
    pub(crate) const LOG_CLUSTER_SIZE: usize = 0x1c;
    pub(crate) const BLOCKS_PER_GROUP: usize = 0x20;
    pub(crate) const CLUSTERS_PER_GROUP: usize = 0x24;
    pub(crate) const INODES_PER_GROUP: usize = 0x28;
    pub(crate) const WRITE_TIME: usize = 0x30;
    pub(crate) const MAX_MOUNTS: usize = 0x36;
    pub(crate) const MAGIC: usize = 0x38;
    pub(crate) const STATE: usize = 0x3a;
    pub(crate) const ON_ERRORS: usize = 0x3c;
    pub(crate) const LAST_CHECK: usize = 0x40;
    pub(crate) const REVISION: usize = 0x4c;
    pub(crate) const FIRST_INODE: usize = 0x54;
    pub(crate) const INODE_SIZE: usize = 0x58;
    pub(crate) const GROUP_NUMBER: usize = 0x5a;
    pub(crate) const COMPATIBLE: usize = 0x5c;
    pub(crate) const INCOMPATIBLE: usize = 0x60;
    pub(crate) const READ_ONLY: usize = 0x64;
    pub(crate) const UUID: usize = 0x68;
    pub(crate) const LABEL: usize = 0x78;
    pub(crate) const RESERVED_DESCRIPTORS: usize = 0xce;
    pub(crate) const JOURNAL_INODE: usize = 0xe0;
    pub(crate) const LAST_ORPHAN: usize = 0xe8;
    pub(crate) const HASH_SEED: usize = 0xec;
    pub(crate) const HASH_VERSION: usize = 0xfc;
    pub(crate) const JOURNAL_BACKUP_KIND: usize = 0xfd;
    pub(crate) const DESCRIPTOR_SIZE: usize = 0xfe;
    pub(crate) const MOUNT_OPTIONS: usize = 0x100;
    pub(crate) const FIRST_META_BG: usize = 0x104;
    pub(crate) const MADE_TIME: usize = 0x108;
    pub(crate) const JOURNAL_BACKUP: usize = 0x10c;
    pub(crate) const BLOCKS_HIGH: usize = 0x150;
    pub(crate) const RESERVED_BLOCKS_HIGH: usize = 0x154;
    pub(crate) const FREE_BLOCKS_HIGH: usize = 0x158;
    pub(crate) const MIN_EXTRA_SIZE: usize = 0x15c;
    pub(crate) const WANT_EXTRA_SIZE: usize = 0x15e;
    pub(crate) const FLAGS: usize = 0x160;
    pub(crate) const LOG_GROUPS_PER_FLEX: usize = 0x174;
    pub(crate) const CHECKSUM_KIND: usize = 0x175;
    pub(crate) const OVERHEAD: usize = 0x248;
    pub(crate) const BACKUP_GROUPS: usize = 0x24c;
    pub(crate) const CHECKSUM_SEED: usize = 0x270;
    pub(crate) const ORPHAN_FILE: usize = 0x280;
    pub(crate) const CHECKSUM: usize = 0x3fc;
}

/// "Block Group Descriptors".
pub(crate) mod bg {
    pub(crate) const BLOCK_BITMAP: usize = 0x00;
    pub(crate) const INODE_BITMAP: usize = 0x04;
    pub(crate) const INODE_TABLE: usize = 0x08;
    pub(crate) const FREE_BLOCKS: usize = 0x0c;
    pub(crate) const FREE_INODES: usize = 0x0e;
    pub(crate) const DIRECTORIES: usize = 0x10;
    pub(crate) const FLAGS: usize = 0x12;
    pub(crate) const BLOCK_BITMAP_CHECKSUM: usize = 0x18;
    pub(crate) const INODE_BITMAP_CHECKSUM: usize = 0x1a;
    pub(crate) const UNUSED_INODES: usize = 0x1c;
    pub(crate) const CHECKSUM: usize = 0x1e;

    /// Offsets of upper halves, in descriptors of 64 bytes.
    pub(crate) const fn high(field: usize) -> usize {
        match field {
            UNUSED_INODES => 0x32,
            field => 0x20 + field,
        }
    }

    /// `bg_flags`: the inode table and bitmap were never written.
    pub(crate) const INODE_UNINIT: u16 = 0x1;
    /// `bg_flags`: the block bitmap was never written.
    pub(crate) const BLOCK_UNINIT: u16 = 0x2;
    /// `bg_flags`: the unused part of the inode table is zero.
    pub(crate) const INODE_ZEROED: u16 = 0x4;
}

/// "Index Nodes".
pub(crate) mod node {
    pub(crate) const MODE: usize = 0x00;
    pub(crate) const UID: usize = 0x02;
    pub(crate) const SIZE: usize = 0x04;
    pub(crate) const ACCESS_TIME: usize = 0x08;
    pub(crate) const CHANGE_TIME: usize = 0x0c;
    pub(crate) const MODIFY_TIME: usize = 0x10;
    pub(crate) const DELETE_TIME: usize = 0x14;
    pub(crate) const GID: usize = 0x18;
    pub(crate) const LINKS: usize = 0x1a;
    pub(crate) const SECTORS: usize = 0x1c;
    pub(crate) const FLAGS: usize = 0x20;
    pub(crate) const MAP: usize = 0x28;
    pub(crate) const MAP_LEN: usize = 60;
    pub(crate) const GENERATION: usize = 0x64;
    pub(crate) const XATTR_BLOCK: usize = 0x68;
    pub(crate) const SIZE_HIGH: usize = 0x6c;
    pub(crate) const SECTORS_HIGH: usize = 0x74;
    pub(crate) const FRAGMENT: usize = 0x70;
    pub(crate) const XATTR_BLOCK_HIGH: usize = 0x76;
    pub(crate) const UID_HIGH: usize = 0x78;
    pub(crate) const GID_HIGH: usize = 0x7a;
    pub(crate) const CHECKSUM: usize = 0x7c;
    /// Where the fields of 128 byte inodes end.
    pub(crate) const OLD_SIZE: usize = 0x80;
    pub(crate) const EXTRA_SIZE: usize = 0x80;
    pub(crate) const CHECKSUM_HIGH: usize = 0x82;
    pub(crate) const CHANGE_TIME_EXTRA: usize = 0x84;
    pub(crate) const MODIFY_TIME_EXTRA: usize = 0x88;
    pub(crate) const ACCESS_TIME_EXTRA: usize = 0x8c;
    pub(crate) const CREATE_TIME: usize = 0x90;
    pub(crate) const CREATE_TIME_EXTRA: usize = 0x94;

    /// `i_flags`: the directory has an index.
    pub(crate) const FLAG_INDEX: u32 = 0x1000;
    /// `i_flags`: sectors are counted in blocks.
    pub(crate) const FLAG_HUGE: u32 = 0x4_0000;
    /// `i_flags`: mapped by extents.
    pub(crate) const FLAG_EXTENTS: u32 = 0x8_0000;
    /// `i_flags`: encrypted.
    pub(crate) const FLAG_ENCRYPT: u32 = 0x800;
    /// `i_flags`: a hash tree follows the end of the content.
    pub(crate) const FLAG_VERITY: u32 = 0x10_0000;
    /// `i_flags`: the content is in the inode.
    pub(crate) const FLAG_INLINE: u32 = 0x1000_0000;
    /// `i_flags`: immutable, or append-only.
    pub(crate) const FLAGS_FIXED: u32 = 0x10 | 0x20;
    /// `i_flags`: encrypted, verity, extended attribute value, or case-insensitive.
    pub(crate) const FLAGS_STRANGE: u32 = FLAG_ENCRYPT | FLAG_VERITY | 0x20_0000 | FLAG_CASEFOLD;
    /// `i_flags`: flags that only directories have.
    pub(crate) const FLAGS_OF_DIRECTORIES: u32 = FLAG_INDEX | FLAG_CASEFOLD;
    /// `i_flags`: of an obsolete distributed file system.
    pub(crate) const FLAG_MAGIC: u32 = 0x2000;
    /// `i_flags`: immutable.
    pub(crate) const FLAG_IMMUTABLE: u32 = 0x10;
    /// `i_flags`: a case-insensitive directory.
    pub(crate) const FLAG_CASEFOLD: u32 = 0x4000_0000;
}
