//! What following the chain found: the way from the firmware to the first program, and what is
//! wrong with it.

use pinewrit_volume::Architecture;
use schemars::JsonSchema;
use serde::Serialize;

/// A file of a medium, and a line of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Source {
    /// Number of the partition; `None` if the medium has no table.
    pub partition: Option<u32>,
    /// Path in its file system.
    pub path: String,
    /// Line, from 1; 0 for files that are not texts.
    pub line: usize,
}

/// What an entry of a boot menu loads.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// The kernel.
    Kernel,
    /// Its first root file system, in memory.
    Initrd,
    /// The description of the board.
    DeviceTree,
}

impl Part {
    /// Its name in a sentence.
    pub fn word(self) -> &'static str {
        match self {
            Self::Kernel => "kernel",
            Self::Initrd => "initrd",
            Self::DeviceTree => "device tree",
        }
    }
}

/// What starts a loader.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Firmware {
    /// UEFI, from the path for removable media.
    Uefi,
    /// A legacy BIOS, by the code in the first sector.
    LegacyBios,
    /// A board's own, or a loader outside file systems.
    Own,
}

/// What a loader is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LoaderKind {
    /// GRUB, which reads `grub.cfg`.
    Grub,
    /// A boot manager that reads entries of the Boot Loader Specification.
    Entries,
    /// A loader that only checks the signature of the next one, beside it.
    Shim,
    /// Kernel, initrd and command line in one file.
    Unified,
    /// A kernel that the firmware starts by itself.
    Kernel,
    /// Something else.
    Unknown,
}

/// What is wrong, or cannot be known.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "fault")]
pub enum Fault {
    /// A loader is no executable for the architecture in its name.
    LoaderIsForOther {
        /// What it should be for.
        wanted: Architecture,
        /// What it is for; `None` if it is no executable.
        found: Option<Architecture>,
    },
    /// A loader is of an unknown kind: what it reads is a guess.
    LoaderUnknown,
    /// A loader has no configuration.
    NoConfiguration,
    /// A configuration has nothing to start.
    NoEntry,
    /// A configuration looks for a file system that is not on the medium.
    FilesystemMissing {
        /// Its identifier, label, or a file in it.
        wanted: String,
    },
    /// A file that is named does not exist.
    FileMissing {
        /// What it would be; `None` for another configuration.
        part: Option<Part>,
        /// Its path.
        path: String,
    },
    /// A kernel is not for the loader's architecture.
    KernelIsForOther {
        /// Its path.
        path: String,
        /// What it should be for.
        wanted: Architecture,
        /// What it is for; `None` if it is no kernel.
        found: Option<Architecture>,
    },
    /// `root=` names nothing on the medium.
    RootMissing {
        /// Its value.
        wanted: String,
    },
    /// `root=` names an identifier or label that only an initrd finds, and there is none.
    RootNeedsInitrd {
        /// Its value.
        wanted: String,
    },
    /// `root=` names a device by its number: another disk may be in its place.
    RootByDevice {
        /// Its value.
        wanted: String,
    },
    /// There is no `root=`.
    NoRoot,
    /// The root file system has no first program.
    NoInit {
        /// Where it was looked for.
        wanted: String,
    },
    /// The first program is for another processor.
    InitIsForOther {
        /// Its path.
        path: String,
        /// What the kernel is for.
        wanted: Architecture,
        /// What it is for.
        found: Architecture,
    },
    /// `fstab` names a file system that is not on the medium.
    MountMissing {
        /// What it names.
        wanted: String,
        /// Where it would be mounted.
        mount_point: String,
    },
    /// A file system cannot be read here.
    Unreadable {
        /// Why, or its kind.
        why: String,
    },
}

/// How bad a fault is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Gravity {
    /// It starts all the same.
    Remark,
    /// From here on it cannot be known.
    Unknown,
    /// It does not start.
    Fatal,
}

/// A fault and its place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Finding {
    /// How bad it is.
    pub gravity: Gravity,
    /// What it is.
    #[serde(flatten)]
    pub fault: Fault,
    /// Where it was found.
    pub at: Source,
}

/// A loader, and what it starts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Way {
    /// What starts the loader.
    pub firmware: Firmware,
    /// What the loader is.
    pub loader: LoaderKind,
    /// The file; `None` for boot code outside file systems, or a loader of the board's own.
    pub file: Option<Source>,
    /// Its architecture; `None` if that is unknown.
    pub architecture: Option<Architecture>,
    /// What it starts by default.
    pub starts: Option<Started>,
    /// What was found on the way.
    pub findings: Vec<Finding>,
}

/// What a loader starts by default.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Started {
    /// The kernel's path.
    pub kernel: String,
    /// The kernel's partition; `None` if the medium has no table.
    pub on: Option<u32>,
    /// The path of its initrd, if it has one.
    pub initrd: Option<String>,
    /// The kernel's command line.
    pub options: String,
    /// Where it is named.
    pub at: Source,
    /// The partition of the root file system, if it is on the medium.
    pub root: Option<u32>,
    /// The first program.
    pub init: Option<String>,
}

/// Whether a medium starts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// It does.
    Starts,
    /// That cannot be told from the medium.
    CannotBeTold,
    /// It does not.
    DoesNotStart,
}

impl Way {
    /// Whether it leads to the first program.
    pub fn verdict(&self) -> Verdict {
        let worst = self.findings.iter().map(|one| one.gravity).max();
        match worst {
            Some(Gravity::Fatal) => Verdict::DoesNotStart,
            Some(Gravity::Unknown) => Verdict::CannotBeTold,
            _ if self.starts.as_ref().is_some_and(|it| it.init.is_some()) => Verdict::Starts,
            _ => Verdict::CannotBeTold,
        }
    }
}
