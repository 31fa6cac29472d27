//! Processor architectures, and the programs that are for them.

use schemars::JsonSchema;
use serde::{Serialize, Serializer};

/// A processor architecture.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Architecture {
    /// 64-bit x86.
    X86Of64,
    /// 32-bit x86.
    X86,
    /// 64-bit Arm.
    Arm64,
    /// 32-bit Arm.
    Arm,
    /// 64-bit RISC-V.
    Riscv64,
    /// 64-bit LoongArch.
    Loongarch64,
    /// MIPS.
    Mips,
}

impl Architecture {
    /// All of them.
    pub const ALL: [Self; 7] = [
        Self::X86Of64,
        Self::X86,
        Self::Arm64,
        Self::Arm,
        Self::Riscv64,
        Self::Loongarch64,
        Self::Mips,
    ];

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Self::X86Of64 => "x86-64",
            Self::X86 => "x86 (32 bit)",
            Self::Arm64 => "arm64",
            Self::Arm => "arm (32 bit)",
            Self::Riscv64 => "riscv64",
            Self::Loongarch64 => "loongarch64",
            Self::Mips => "mips",
        }
    }

    /// The architecture in the header of a kernel or program. Offsets are those of Linux's boot
    /// documentation (arm64/booting, arch/riscv/boot-image-header, arch/x86/boot), of the zImage
    /// header, of the legacy boot image header, of ELF, and of PE.
    pub fn of_program(head: &[u8]) -> Option<Self> {
        let at = |offset: usize, magic: &[u8]| {
            let end = offset + magic.len();
            head.get(offset..end) == Some(magic)
        };
        if at(56, b"ARM\x64") {
            Some(Self::Arm64)
        } else if at(56, b"RSC\x05") {
            Some(Self::Riscv64)
        } else if at(0x24, &0x016f_2818_u32.to_le_bytes()) {
            Some(Self::Arm)
        } else if at(0x202, b"HdrS") {
            // xloadflags: the kernel has a 64-bit entry point.
            let is_64 = head.get(0x236).is_some_and(|flags| flags & 1 != 0);
            Some(if is_64 { Self::X86Of64 } else { Self::X86 })
        } else if at(0, b"\x7fELF") {
            Self::of_elf(u16::from_le_bytes([*head.get(18)?, *head.get(19)?]))
        } else if at(0, b"MZ") {
            Self::of_pe(head)
        } else if at(0, &0x2705_1956_u32.to_be_bytes()) {
            Self::of_legacy_image(*head.get(29)?)
        } else if at(0, b"\x1f\x8b") {
            // arm64 and riscv64 kernels are often compressed as a whole.
            unpack(head).and_then(|inner| Self::of_program(&inner))
        } else {
            None
        }
    }

    /// The machine type of an executable for UEFI: `MZ`, the offset at 0x3c, `PE\0\0`, then the
    /// type (PE format, "Machine Types").
    pub fn of_pe(head: &[u8]) -> Option<Self> {
        if !head.starts_with(b"MZ") {
            return None;
        }
        let offset: [u8; 4] = head.get(0x3c..0x40)?.try_into().ok()?;
        let at = usize::try_from(u32::from_le_bytes(offset)).ok()?;
        let header = head.get(at..at.checked_add(6)?)?;
        let machine = header.strip_prefix(b"PE\0\0")?;
        match u16::from_le_bytes(machine.try_into().ok()?) {
            0x8664 => Some(Self::X86Of64),
            0x014c => Some(Self::X86),
            0xaa64 => Some(Self::Arm64),
            0x01c2 => Some(Self::Arm),
            0x5064 => Some(Self::Riscv64),
            0x6264 => Some(Self::Loongarch64),
            _ => None,
        }
    }

    fn of_elf(machine: u16) -> Option<Self> {
        match machine {
            3 => Some(Self::X86),
            8 => Some(Self::Mips),
            40 => Some(Self::Arm),
            62 => Some(Self::X86Of64),
            183 => Some(Self::Arm64),
            243 => Some(Self::Riscv64),
            258 => Some(Self::Loongarch64),
            _ => None,
        }
    }

    fn of_legacy_image(architecture: u8) -> Option<Self> {
        match architecture {
            2 => Some(Self::Arm),
            3 => Some(Self::X86),
            5 => Some(Self::Mips),
            22 => Some(Self::Arm64),
            24 => Some(Self::X86Of64),
            26 => Some(Self::Riscv64),
            _ => None,
        }
    }

    /// Whether a processor of this architecture runs programs of another: those of its 32-bit kind.
    pub fn runs(self, other: Self) -> bool {
        self == other
            || matches!(
                (self, other),
                (Self::X86Of64, Self::X86) | (Self::Arm64, Self::Arm)
            )
    }
}

impl Serialize for Architecture {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.word())
    }
}

impl JsonSchema for Architecture {
    fn inline_schema() -> bool {
        true
    }

    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Architecture".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "type": "string" })
    }
}

/// The first bytes of something packed with gzip.
fn unpack(head: &[u8]) -> Option<Vec<u8>> {
    use std::io::Read;
    let mut inner = vec![0; 64];
    let mut decoder = flate2::read::GzDecoder::new(head);
    decoder.read_exact(&mut inner).ok()?;
    Some(inner)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Write;

    fn head(offset: usize, magic: &[u8]) -> Vec<u8> {
        let mut head = vec![0; 4096];
        head[offset..offset + magic.len()].copy_from_slice(magic);
        head
    }

    #[rstest]
    #[case::arm64(head(56, b"ARM\x64"), Some(Architecture::Arm64))]
    #[case::riscv(head(56, b"RSC\x05"), Some(Architecture::Riscv64))]
    #[case::arm(head(0x24, b"\x18\x28\x6f\x01"), Some(Architecture::Arm))]
    #[case::x86(head(0x202, b"HdrS"), Some(Architecture::X86))]
    #[case::elf(
        head(0, b"\x7fELF\x02\x01\x01\0\0\0\0\0\0\0\0\0\x02\0\xf3\0"),
        Some(Architecture::Riscv64)
    )]
    #[case::legacy(head(0, &[0x27, 0x05, 0x19, 0x56]), None)]
    #[case::nothing(vec![0; 64], None)]
    #[case::short(vec![0x1f, 0x8b], None)]
    fn architectures(#[case] head: Vec<u8>, #[case] expected: Option<Architecture>) {
        assert_eq!(Architecture::of_program(&head), expected);
    }

    #[test]
    fn a_packed_kernel_is_looked_into() {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(&head(56, b"ARM\x64")).unwrap();
        assert_eq!(
            Architecture::of_program(&encoder.finish().unwrap()),
            Some(Architecture::Arm64)
        );
    }

    #[rstest]
    #[case::whole(b"PE\0\0\x64\xaa", 0x40, Some(Architecture::Arm64))]
    #[case::no_mark(b"NE\0\0\x64\xaa", 0x40, None)]
    #[case::outside(b"PE\0\0\x64\xaa", u32::MAX, None)]
    fn machines(#[case] header: &[u8], #[case] offset: u32, #[case] machine: Option<Architecture>) {
        let mut file = b"MZ".to_vec();
        file.resize(0x3c, 0);
        file.extend(offset.to_le_bytes());
        file.extend(header);
        assert_eq!(Architecture::of_pe(&file), machine);
    }
}
