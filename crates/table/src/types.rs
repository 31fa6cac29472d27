//! Partition types, in codes and in words.

use std::fmt;

use crate::SchemeKind;

use uuid::{Uuid, uuid};

/// A partition's type.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PartitionType {
    /// The type byte of an MBR entry.
    Mbr(u8),
    /// The partition type GUID of a GPT entry.
    Gpt(Uuid),
}

/// EFI system partition, UEFI specification 2.10, section 5.3.3, table 5.7.
const GPT_ESP: Uuid = uuid!("C12A7328-F81F-11D2-BA4B-00A0C93EC93B");

/// Words for MBR type bytes, as in common use.
const MBR_WORDS: &[(u8, &str)] = &[
    (0x00, "empty"),
    (0x01, "FAT12"),
    (0x04, "FAT16 (small)"),
    (0x05, "extended"),
    (0x06, "FAT16"),
    (0x07, "exFAT or NTFS"),
    (0x0b, "FAT32"),
    (0x0c, "FAT32 (LBA)"),
    (0x0e, "FAT16 (LBA)"),
    (0x0f, "extended (LBA)"),
    (0x11, "FAT12 (hidden)"),
    (0x14, "FAT16 (hidden)"),
    (0x17, "ISO 9660 (hidden)"),
    (0x1b, "FAT32 (hidden)"),
    (0x1c, "FAT32 (LBA, hidden)"),
    (0x82, "Linux swap"),
    (0x83, "Linux"),
    (0x85, "extended (Linux)"),
    (0x8e, "Linux LVM"),
    (0xa0, "loader"),
    (0xcd, "ISO 9660"),
    (0xda, "raw data"),
    (0xee, "GPT protective"),
    (0xef, "EFI system"),
    (0xfd, "Linux RAID"),
];

/// Words for GPT type GUIDs: UEFI specification 2.10, table 5.7, and the Discoverable Partitions
/// Specification.
const GPT_WORDS: &[(Uuid, &str)] = &[
    (Uuid::nil(), "unused"),
    (GPT_ESP, "EFI system"),
    (
        uuid!("21686148-6449-6E6F-744E-656564454649"),
        "BIOS boot (loader)",
    ),
    (uuid!("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"), "basic data"),
    (uuid!("0FC63DAF-8483-4772-8E79-3D69D8477DE4"), "Linux"),
    (uuid!("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"), "Linux swap"),
    (uuid!("933AC7E1-2EB4-4F13-B844-0E14E2AEF915"), "Linux home"),
    (uuid!("BC13C2FF-59E6-4262-A352-B275FD6F7172"), "Linux boot"),
    (uuid!("E6D6D379-F507-44C2-A23C-238F2A3DF928"), "Linux LVM"),
    (uuid!("A19D880F-05FC-4D3B-A006-743F0F84911E"), "Linux RAID"),
    (
        uuid!("44479540-F297-41B2-9AF7-D131D5F0458A"),
        "Linux root (x86)",
    ),
    (
        uuid!("4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709"),
        "Linux root (x86-64)",
    ),
    (
        uuid!("69DAD710-2CE4-4E3C-B16C-21A1D49ABED3"),
        "Linux root (arm)",
    ),
    (
        uuid!("B921B045-1DF0-41C3-AF44-4C6F280D3FAE"),
        "Linux root (arm64)",
    ),
    (
        uuid!("72EC70A6-CF74-40E6-BD49-4BDA08E8F224"),
        "Linux root (riscv64)",
    ),
    (
        uuid!("83BD6B9D-7F41-11DC-BE0B-001560B84F0F"),
        "BSD boot (loader)",
    ),
];

/// The purposes of partitions, in the words of arguments and layouts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Purpose {
    /// Its word.
    pub word: &'static str,
    mbr: u8,
    gpt: Uuid,
}

impl Purpose {
    /// The type for this purpose.
    pub fn kind(&self, scheme: SchemeKind) -> PartitionType {
        match scheme {
            SchemeKind::Mbr => PartitionType::Mbr(self.mbr),
            SchemeKind::Gpt => PartitionType::Gpt(self.gpt),
        }
    }
}

const BASIC_DATA: Uuid = uuid!("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7");
const LINUX: Uuid = uuid!("0FC63DAF-8483-4772-8E79-3D69D8477DE4");

/// All purposes. If several share a code, the code stands for the first.
pub const PURPOSES: &[Purpose] = &[
    purpose("fat32", 0x0c, BASIC_DATA),
    purpose("fat16", 0x0e, BASIC_DATA),
    purpose("fat12", 0x01, BASIC_DATA),
    purpose("exfat", 0x07, BASIC_DATA),
    purpose("esp", 0xef, GPT_ESP),
    purpose("linux", 0x83, LINUX),
    purpose("swap", 0x82, uuid!("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F")),
    purpose("home", 0x83, uuid!("933AC7E1-2EB4-4F13-B844-0E14E2AEF915")),
    purpose(
        "root-arm",
        0x83,
        uuid!("69DAD710-2CE4-4E3C-B16C-21A1D49ABED3"),
    ),
    purpose(
        "root-arm64",
        0x83,
        uuid!("B921B045-1DF0-41C3-AF44-4C6F280D3FAE"),
    ),
    purpose(
        "root-riscv64",
        0x83,
        uuid!("72EC70A6-CF74-40E6-BD49-4BDA08E8F224"),
    ),
    purpose(
        "root-x86-64",
        0x83,
        uuid!("4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709"),
    ),
    purpose(
        "loader",
        0xa0,
        uuid!("21686148-6449-6E6F-744E-656564454649"),
    ),
    purpose("raw", 0xda, LINUX),
    purpose("lvm", 0x8e, uuid!("E6D6D379-F507-44C2-A23C-238F2A3DF928")),
    purpose("raid", 0xfd, uuid!("A19D880F-05FC-4D3B-A006-743F0F84911E")),
];

const fn purpose(word: &'static str, mbr: u8, gpt: Uuid) -> Purpose {
    Purpose { word, mbr, gpt }
}

impl PartitionType {
    /// A type from its word, its two hexadecimal digits (`0x0c`), or its GUID; `None` if the scheme
    /// has no such type.
    pub fn from_text(text: &str, scheme: SchemeKind) -> Option<Self> {
        let text = text.trim().to_ascii_lowercase();
        if let Some(purpose) = PURPOSES.iter().find(|purpose| purpose.word == text) {
            return Some(purpose.kind(scheme));
        }
        match scheme {
            SchemeKind::Mbr => {
                let digits = text.strip_prefix("0x").unwrap_or(&text);
                let is_code = digits.len() <= 2 && !digits.is_empty();
                let code = u8::from_str_radix(digits, 16).ok();
                code.filter(|_| is_code).map(Self::Mbr)
            }
            SchemeKind::Gpt => Uuid::try_parse(&text).ok().map(Self::Gpt),
        }
    }

    /// A type's purpose, if known.
    pub fn purpose(self) -> Option<&'static Purpose> {
        // Older codes of the same purposes.
        let own = match self {
            Self::Mbr(0x0b | 0x1c | 0x1b) => Self::Mbr(0x0c),
            Self::Mbr(0x04 | 0x06 | 0x14) => Self::Mbr(0x0e),
            other => other,
        };
        PURPOSES.iter().find(|purpose| match own {
            Self::Mbr(code) => purpose.mbr == code,
            Self::Gpt(guid) => purpose.gpt == guid,
        })
    }

    /// The type in words, or `unknown`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Mbr(code) => find(MBR_WORDS, code),
            Self::Gpt(guid) => find(GPT_WORDS, guid),
        }
    }

    /// The type's code: two hexadecimal digits, or a GUID.
    pub fn code(self) -> String {
        match self {
            Self::Mbr(code) => format!("{code:02x}"),
            Self::Gpt(guid) => guid.to_string(),
        }
    }

    /// Whether this is an EFI system partition by its type.
    pub fn is_efi_system(self) -> bool {
        matches!(self, Self::Mbr(0xef)) || self == Self::Gpt(GPT_ESP)
    }

    /// Whether this is a swap partition.
    pub fn is_swap(self) -> bool {
        self.purpose().is_some_and(|purpose| purpose.word == "swap")
    }

    /// Whether it may hold a FAT: by its name, or as data of any kind.
    pub fn is_for_fat(self) -> bool {
        self.is_efi_system()
            || self.fat_bits().is_some()
            || matches!(self, Self::Mbr(0x07))
            || self == Self::Gpt(BASIC_DATA)
    }

    /// The width of the FAT that it names, in bits; GPT types name none.
    pub fn fat_bits(self) -> Option<u8> {
        match self {
            Self::Mbr(0x01 | 0x11) => Some(12),
            Self::Mbr(0x04 | 0x06 | 0x0e | 0x14) => Some(16),
            Self::Mbr(0x0b | 0x0c | 0x1b | 0x1c) => Some(32),
            _ => None,
        }
    }

    /// Whether this is an extended partition, which only holds logical ones.
    pub fn is_extended(self) -> bool {
        matches!(self, Self::Mbr(0x05 | 0x0f | 0x85))
    }
}

fn find<K: PartialEq + Copy>(words: &[(K, &'static str)], key: K) -> &'static str {
    words
        .iter()
        .find(|(known, _)| *known == key)
        .map_or("unknown", |(_, word)| word)
}

impl fmt::Display for PartitionType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Mbr(code) => write!(f, "{} (0x{code:02x})", self.word()),
            Self::Gpt(guid) if self.word() == "unknown" => write!(f, "unknown ({guid})"),
            Self::Gpt(_) => f.write_str(self.word()),
        }
    }
}
