//! Feature flags, "The Super Block": `s_feature_compat`, `s_feature_incompat`, `s_feature_ro_compat`.

use bitflags::bitflags;

bitflags! {
    /// Flags that a reader and a writer may ignore.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub struct Compatible: u32 {
        /// Inodes of an obsolete distributed file system.
        const IMAGIC_INODES = 0x2;
        /// There is a journal.
        const HAS_JOURNAL = 0x4;
        /// Files have extended attributes.
        const EXT_ATTR = 0x8;
        /// Blocks are reserved for more group descriptors.
        const RESIZE_INODE = 0x10;
        /// Directories may have an index.
        const DIR_INDEX = 0x20;
        /// Backups of the superblock are in two groups only.
        const SPARSE_SUPER2 = 0x200;
        /// Inode numbers and the UUID must not change, because content is encrypted with them.
        const STABLE_INODES = 0x800;
        /// Files to be removed at the next mount are listed in a file.
        const ORPHAN_FILE = 0x1000;
    }
}

bitflags! {
    /// Flags that nobody may ignore.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub struct Incompatible: u32 {
        /// Data is compressed.
        const COMPRESSION = 0x1;
        /// Directory entries hold the file type.
        const FILETYPE = 0x2;
        /// The journal has to be replayed.
        const RECOVER = 0x4;
        /// This is the external journal of another file system.
        const JOURNAL_DEV = 0x8;
        /// Group descriptors are spread over the file system.
        const META_BG = 0x10;
        /// Files are mapped by extents.
        const EXTENTS = 0x40;
        /// Block numbers have 64 bits.
        const BIT64 = 0x80;
        /// Protection against being mounted twice.
        const MMP = 0x100;
        /// The metadata of several groups is placed together.
        const FLEX_BG = 0x200;
        /// Large extended attributes have inodes of their own.
        const EA_INODE = 0x400;
        /// The seed of checksums is in the superblock.
        const CSUM_SEED = 0x2000;
        /// Directories may be larger than 2 GiB.
        const LARGEDIR = 0x4000;
        /// Small files are stored in their inodes.
        const INLINE_DATA = 0x8000;
        /// Files may be encrypted.
        const ENCRYPT = 0x10000;
        /// Directories may be case-insensitive.
        const CASEFOLD = 0x20000;
    }
}

bitflags! {
    /// Flags that only a reader may ignore.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub struct ReadOnlyCompatible: u32 {
        /// Backups of the superblock are in few groups only.
        const SPARSE_SUPER = 0x1;
        /// Files larger than 2 GiB.
        const LARGE_FILE = 0x2;
        /// Files larger than 2 TiB.
        const HUGE_FILE = 0x8;
        /// Group descriptors have a CRC-16.
        const GDT_CSUM = 0x10;
        /// Directories with very many folders in them.
        const DIR_NLINK = 0x20;
        /// Inodes with more fields.
        const EXTRA_ISIZE = 0x40;
        /// Quotas are kept.
        const QUOTA = 0x100;
        /// Blocks are allocated in clusters.
        const BIGALLOC = 0x200;
        /// All metadata has a CRC-32C.
        const METADATA_CSUM = 0x400;
        /// Never to be written.
        const READONLY = 0x1000;
        /// Quotas of projects are kept.
        const PROJECT = 0x2000;
        /// Files with hash trees.
        const VERITY = 0x8000;
        /// The file of orphans is not empty.
        const ORPHAN_PRESENT = 0x10000;
    }
}

/// What all sets of flags have in common. Bits without a name are kept, so that they can be
/// reported.
macro_rules! told {
    ($kind:ident) => {
        impl $kind {
            /// The flags of a superblock.
            pub fn of(bits: u32) -> Self {
                Self::from_bits_retain(bits)
            }

            /// Whether all flags of `other` are set.
            pub fn has(self, other: Self) -> bool {
                self.contains(other)
            }

            /// Flags that are not among `known`.
            pub fn beyond(self, known: &[Self]) -> Self {
                known.iter().fold(self, |left, flag| left.difference(*flag))
            }

            /// The name of the first flag, or its number if it has no name; `None` if no flag is
            /// set.
            pub fn first_name(self) -> Option<String> {
                match self.iter_names().next() {
                    Some((name, _)) => Some(name.to_lowercase()),
                    None => (!self.is_empty()).then(|| format!("{:#x}", self.bits())),
                }
            }
        }
    };
}

told!(Incompatible);
told!(ReadOnlyCompatible);

impl Compatible {
    /// The flags of a superblock.
    pub fn of(bits: u32) -> Self {
        Self::from_bits_retain(bits)
    }

    /// Whether all flags of `other` are set.
    pub fn has(self, other: Self) -> bool {
        self.contains(other)
    }
}
