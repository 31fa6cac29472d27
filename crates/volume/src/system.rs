//! Which operating system a medium holds, and for which processors, as far as its FAT file systems
//! show.

use pinewrit_disk::BlockDevice;
use pinewrit_fat::{FatError, Node, Tree, Volume};
use schemars::JsonSchema;
use serde::Serialize;

/// The operating system, as its `os-release` file names it (os-release(5)).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SystemFacts {
    /// `NAME`.
    pub name: String,
    /// `VERSION`, or `VERSION_ID`.
    pub version: Option<String>,
}

/// A kernel, and its processor architecture.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct KernelFacts {
    /// Number of the partition; `None` if the medium has no table.
    pub partition: Option<u32>,
    /// Name of the file.
    pub file: String,
    /// Architecture according to the file's header.
    pub architecture: &'static str,
}

const OS_RELEASE: &[&str] = &["os-release", "etc/os-release", "usr/lib/os-release"];
/// An os-release file is a few hundred bytes.
const MAX_OS_RELEASE: u64 = 16 << 10;
/// How the names of kernels begin where boot loaders look for them.
const KERNEL_NAMES: &[&str] = &[
    "kernel", "image", "zimage", "uimage", "vmlinuz", "bzimage", "linux",
];
const KERNEL_FOLDERS: &[&str] = &["", "boot"];
/// The most kernels to examine.
const MAX_KERNELS: usize = 16;
const HEAD: u64 = 4096;

/// Looks for an `os-release` file.
pub fn system(device: &dyn BlockDevice) -> Option<SystemFacts> {
    let files = crate::files::open_to_read(device).ok()?;
    OS_RELEASE.iter().find_map(|path| {
        let content = files.read(&format!("/{path}"), MAX_OS_RELEASE).ok()??;
        parse(&String::from_utf8_lossy(&content))
    })
}

/// Looks for kernels where boot loaders do.
pub fn kernels(device: &dyn BlockDevice, partition: Option<u32>) -> Vec<KernelFacts> {
    let Ok(volume) = Volume::open(device) else {
        return Vec::new();
    };
    let mut kernels = Vec::new();
    for folder in KERNEL_FOLDERS {
        for file in fat_files(volume.tree(), folder).unwrap_or_default() {
            let lower = file.name.to_ascii_lowercase();
            let is_kernel = KERNEL_NAMES.iter().any(|start| lower.starts_with(start));
            if !is_kernel || kernels.len() == MAX_KERNELS {
                continue;
            }
            let path = match *folder {
                "" => file.name.clone(),
                folder => format!("{folder}/{}", file.name),
            };
            let mut head = Vec::new();
            // What cannot be read is not a kernel.
            let _ = volume.tree().read_to(&file, HEAD, &mut head);
            if let Some(architecture) = architecture(&head) {
                kernels.push(KernelFacts {
                    partition,
                    file: path.chars().map(crate::printable).collect(),
                    architecture,
                });
            }
        }
    }
    kernels
}

/// The files in a folder of a FAT, none if there is no such folder.
///
/// # Errors
/// [`FatError`].
pub fn fat_files(tree: Tree<'_>, folder: &str) -> Result<Vec<Node>, FatError> {
    let found = match tree.find(folder) {
        Err(FatError::NotFound(_)) => return Ok(Vec::new()),
        found => found?,
    };
    let all = if found.is_folder {
        tree.list(&found)?
    } else {
        Vec::new()
    };
    Ok(all.into_iter().filter(|node| !node.is_folder).collect())
}

/// `KEY=value` lines; values may be quoted as in a shell.
fn parse(text: &str) -> Option<SystemFacts> {
    let value = |key: &str| {
        let line = text.lines().find_map(|line| {
            let (found, value) = line.split_once('=')?;
            (found.trim() == key).then_some(value.trim())
        })?;
        let bare = line.trim_matches(['"', '\'']);
        let clean: String = bare.chars().map(crate::printable).take(80).collect();
        (!clean.is_empty()).then_some(clean)
    };
    Some(SystemFacts {
        name: value("NAME")?,
        version: value("VERSION").or_else(|| value("VERSION_ID")),
    })
}

/// The architecture in a kernel's header. Offsets are those of Linux's boot documentation
/// (arm64/booting, arch/riscv/boot-image-header, arch/x86/boot), of the zImage header, of U-Boot's
/// legacy image header, and of ELF.
fn architecture(head: &[u8]) -> Option<&'static str> {
    let at = |offset: usize, magic: &[u8]| {
        let end = offset + magic.len();
        head.get(offset..end) == Some(magic)
    };
    if at(56, b"ARM\x64") {
        Some("arm64")
    } else if at(56, b"RSC\x05") {
        Some("riscv64")
    } else if at(0x24, &0x016f_2818_u32.to_le_bytes()) {
        Some("arm (32 bit)")
    } else if at(0x202, b"HdrS") {
        // xloadflags: the kernel has a 64-bit entry point.
        let is_64 = head.get(0x236).is_some_and(|flags| flags & 1 != 0);
        Some(if is_64 { "x86-64" } else { "x86 (32 bit)" })
    } else if at(0, b"\x7fELF") {
        elf_machine(u16::from_le_bytes([*head.get(18)?, *head.get(19)?]))
    } else if at(0, &0x2705_1956_u32.to_be_bytes()) {
        uboot_machine(*head.get(29)?)
    } else if at(0, b"\x1f\x8b") {
        // arm64 and riscv64 kernels are often compressed as a whole.
        unpack(head).and_then(|inner| architecture(&inner))
    } else {
        None
    }
}

fn elf_machine(machine: u16) -> Option<&'static str> {
    match machine {
        3 => Some("x86 (32 bit)"),
        8 => Some("mips"),
        40 => Some("arm (32 bit)"),
        62 => Some("x86-64"),
        183 => Some("arm64"),
        243 => Some("riscv64"),
        258 => Some("loongarch64"),
        _ => None,
    }
}

fn uboot_machine(architecture: u8) -> Option<&'static str> {
    match architecture {
        2 => Some("arm (32 bit)"),
        3 => Some("x86 (32 bit)"),
        5 => Some("mips"),
        22 => Some("arm64"),
        24 => Some("x86-64"),
        26 => Some("riscv64"),
        _ => None,
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
    #[case::arm64(head(56, b"ARM\x64"), Some("arm64"))]
    #[case::riscv(head(56, b"RSC\x05"), Some("riscv64"))]
    #[case::arm(head(0x24, b"\x18\x28\x6f\x01"), Some("arm (32 bit)"))]
    #[case::x86(head(0x202, b"HdrS"), Some("x86 (32 bit)"))]
    #[case::elf(
        head(0, b"\x7fELF\x02\x01\x01\0\0\0\0\0\0\0\0\0\x02\0\xf3\0"),
        Some("riscv64")
    )]
    #[case::legacy(head(0, &[0x27, 0x05, 0x19, 0x56]), None)]
    #[case::nothing(vec![0; 64], None)]
    #[case::short(vec![0x1f, 0x8b], None)]
    fn architectures(#[case] head: Vec<u8>, #[case] expected: Option<&str>) {
        assert_eq!(architecture(&head), expected);
    }

    #[test]
    fn a_packed_kernel_is_looked_into() {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(&head(56, b"ARM\x64")).unwrap();
        assert_eq!(architecture(&encoder.finish().unwrap()), Some("arm64"));
    }

    #[rstest]
    #[case("NAME=\"Larkfell OS\"\nVERSION_ID='4.2'\n", "Larkfell OS", Some("4.2"))]
    #[case(
        "# made up\nNAME=Hut\nVERSION=\"4.2 (Snow)\"\nVERSION_ID=4\n",
        "Hut",
        Some("4.2 (Snow)")
    )]
    #[case("NAME=a\x1b[31m\n", "a\u{fffd}[31m", None)]
    fn os_release(#[case] text: &str, #[case] name: &str, #[case] version: Option<&str>) {
        let found = parse(text).unwrap();
        assert_eq!(found.name, name);
        assert_eq!(found.version.as_deref(), version);
    }
}
