//! Which operating system a medium holds, and for which processors, as far as its FAT file systems
//! show.

use pinewrit_disk::BlockDevice;
use pinewrit_fat::{FatError, Node, Tree, Volume};
use schemars::JsonSchema;
use serde::Serialize;

use crate::Architecture;

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
    pub architecture: Architecture,
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
            if let Some(architecture) = Architecture::of_program(&head) {
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

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
