//! Feature flags, "The Super Block": `s_feature_compat`, `s_feature_incompat`, `s_feature_ro_compat`.

/// Flags that a reader and a writer may ignore.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Compatible(pub u32);

/// Flags that nobody may ignore.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Incompatible(pub u32);

/// Flags that only a reader may ignore.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ReadOnlyCompatible(pub u32);

macro_rules! flags {
    ($kind:ident { $($(#[$doc:meta])* $name:ident = $bit:literal),* $(,)? }) => {
        impl $kind {
            $($(#[$doc])* pub const $name: Self = Self($bit);)*

            /// Whether all flags of `other` are set.
            pub fn has(self, other: Self) -> bool {
                self.0 & other.0 == other.0
            }

            /// The name of a flag among `flags`; its number, where it is unknown.
            #[allow(dead_code, reason = "not all kinds of flags are told")]
            pub(crate) fn name_in(flags: u32) -> Option<String> {
                let known = [$((stringify!($name), $bit)),*];
                let found = known.iter().find(|(_, bit)| flags & bit != 0);
                match found {
                    Some((name, _)) => Some(name.to_lowercase()),
                    None => (flags != 0).then(|| format!("{flags:#x}")),
                }
            }

            /// Flags that are not among `known`.
            pub fn beyond(self, known: &[Self]) -> u32 {
                known.iter().fold(self.0, |left, flag| left & !flag.0)
            }
        }
    };
}

flags!(Compatible {
    /// Inodes of a distributed file system of old.
    IMAGIC_INODES = 0x2,
    /// There is a journal.
    HAS_JOURNAL = 0x4,
    /// Files have extended attributes.
    EXT_ATTR = 0x8,
    /// Blocks are reserved for more group descriptors.
    RESIZE_INODE = 0x10,
    /// Directories may have an index.
    DIR_INDEX = 0x20,
    /// Backups of the superblock are in two groups only.
    SPARSE_SUPER2 = 0x200,
    /// Inode numbers and the UUID must stay, because contents are encrypted by them.
    STABLE_INODES = 0x800,
    /// Files to be removed at the next mount are listed in a file.
    ORPHAN_FILE = 0x1000,
});

flags!(Incompatible {
    /// Data is compressed.
    COMPRESSION = 0x1,
    /// Directory entries say what they lead to.
    FILETYPE = 0x2,
    /// The journal has to be replayed.
    RECOVER = 0x4,
    /// This is a journal of another file system.
    JOURNAL_DEV = 0x8,
    /// Group descriptors are spread over the file system.
    META_BG = 0x10,
    /// Files are mapped by extents.
    EXTENTS = 0x40,
    /// Block numbers have 64 bits.
    BIT64 = 0x80,
    /// Protected against being mounted twice.
    MMP = 0x100,
    /// The metadata of several groups lies together.
    FLEX_BG = 0x200,
    /// Large extended attributes have inodes of their own.
    EA_INODE = 0x400,
    /// The seed of checksums is in the superblock.
    CSUM_SEED = 0x2000,
    /// Directories may be larger than 2 GiB.
    LARGEDIR = 0x4000,
    /// Small files lie in their inodes.
    INLINE_DATA = 0x8000,
    /// Files may be encrypted.
    ENCRYPT = 0x10000,
    /// Directories may be without regard for case.
    CASEFOLD = 0x20000,
});

flags!(ReadOnlyCompatible {
    /// Backups of the superblock are in few groups only.
    SPARSE_SUPER = 0x1,
    /// Files larger than 2 GiB.
    LARGE_FILE = 0x2,
    /// Files larger than 2 TiB.
    HUGE_FILE = 0x8,
    /// Group descriptors have a CRC-16.
    GDT_CSUM = 0x10,
    /// Directories with many folders in them.
    DIR_NLINK = 0x20,
    /// Inodes with more fields.
    EXTRA_ISIZE = 0x40,
    /// Quotas are kept.
    QUOTA = 0x100,
    /// Blocks are allocated in clusters.
    BIGALLOC = 0x200,
    /// All metadata has a CRC-32C.
    METADATA_CSUM = 0x400,
    /// Never to be written.
    READONLY = 0x1000,
    /// Quotas of projects are kept.
    PROJECT = 0x2000,
    /// Files with their own hash trees.
    VERITY = 0x8000,
});
