//! How far a board has come, by what its console says.

use std::sync::LazyLock;

use regex::RegexSet;
use schemars::JsonSchema;
use serde::Serialize;

/// A stage of a boot, in the order in which they come.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Stage {
    /// The board's ROM or firmware.
    Firmware,
    /// A boot loader.
    Loader,
    /// The kernel.
    Kernel,
    /// The first program, and what it starts.
    UserSpace,
    /// What is done at the first start only: settings, growth, keys.
    FirstStart,
    /// A login can be had.
    Login,
}

/// Why a boot ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum End {
    /// The firmware found nothing to start.
    NoBootDevice,
    /// A loader waits for commands.
    LoaderPrompt,
    /// The root was not found.
    NoRoot,
    /// The first program was not found, or does not run.
    NoInit,
    /// The kernel gave up.
    Panic,
    /// A shell for repairs.
    Emergency,
}

/// What lines mean that a stage has begun; the first that fits counts. Texts of Linux, systemd,
/// cloud-init, GRUB, the generic boot loaders and EDK2.
const SIGNS: &[(Stage, &str)] = &[
    (Stage::Login, r"(^|[\w.-] )login: *$"),
    (
        Stage::FirstStart,
        r"(?i)cloud-init\[\d+\]: Cloud-init v\..* running|pinewrit: first start|Resizing the filesystem on|Generating public/private \w+ key pair",
    ),
    // A loader welcomes as systems do.
    (
        Stage::Loader,
        r"GNU GRUB|Welcome to GRUB!|U-Boot (SPL )?\d|Hit any key to stop autoboot|Retrieving file: |Loading Linux |^Boot in \d+ s",
    ),
    (
        Stage::UserSpace,
        r"^Welcome to .+!$|systemd\[1\]: |INIT: version |Run /\S+ as init process|\[  OK  \] ",
    ),
    (
        Stage::Kernel,
        r"Linux version \d|Booting Linux on physical CPU|EFI stub: |Starting kernel|^\[ *0\.000000\] ",
    ),
    (
        Stage::Firmware,
        r"SeaBIOS|UEFI firmware|BdsDxe: |EDK II|^NOTICE:  BL\d|Booting from ",
    ),
];

/// What lines mean that it ends here.
const ENDS: &[(End, &str)] = &[
    (
        End::NoBootDevice,
        r"(?i)no bootable (device|option or device)|Shell> *$|BdsDxe: failed to (load|start) Boot\w+ .*Not Found|Boot failed: not a bootable disk",
    ),
    (End::LoaderPrompt, r"^grub(?: rescue)?> *$|^=> *$"),
    (
        End::NoRoot,
        r"Unable to mount root fs|Gave up waiting for root|Cannot open root device|ALERT! .* does not exist|Warning: /dev/\S+ does not exist|Timed out waiting for device .*root",
    ),
    (
        End::NoInit,
        r"No working init found|Requested init \S+ failed|No init found\. Try passing init=|Failed to execute /\S+ \(error",
    ),
    (End::Panic, r"Kernel panic - not syncing"),
    (
        End::Emergency,
        r"You are in (emergency|rescue) mode|Entering emergency mode|^\(initramfs\) *$|Give root password for maintenance",
    ),
];

static STAGES: LazyLock<Option<RegexSet>> =
    LazyLock::new(|| RegexSet::new(SIGNS.iter().map(|(_, sign)| sign)).ok());
static FAILURES: LazyLock<Option<RegexSet>> =
    LazyLock::new(|| RegexSet::new(ENDS.iter().map(|(_, sign)| sign)).ok());

/// How far a boot has come.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Progress {
    stage: Option<Stage>,
    end: Option<End>,
    /// How often it began anew.
    restarts: u32,
}

impl Progress {
    /// Takes a line; returns the stage that it begins.
    pub fn take(&mut self, line: &str) -> Option<Stage> {
        if let Some(end) = first(&FAILURES, line).map(|index| ENDS[index].0) {
            // What is said first is the reason; a panic follows from it.
            self.end = self.end.or(Some(end));
            return None;
        }
        let stage = first(&STAGES, line).map(|index| SIGNS[index].0)?;
        let is_new = self.stage.is_none_or(|known| stage > known);
        let restarts =
            stage <= Stage::Loader && self.stage.is_some_and(|known| known >= Stage::Kernel);
        if restarts {
            self.restarts += 1;
            self.end = None;
        }
        (is_new || restarts).then(|| {
            self.stage = Some(stage);
            stage
        })
    }

    /// The stage that it is in.
    pub fn stage(&self) -> Option<Stage> {
        self.stage
    }

    /// Why it does not go on.
    pub fn end(&self) -> Option<End> {
        self.end
    }

    /// How often it began anew after its kernel had started.
    pub fn restarts(&self) -> u32 {
        self.restarts
    }
}

fn first(set: &Option<RegexSet>, line: &str) -> Option<usize> {
    set.as_ref()?.matches(line).iter().next()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn all_signs_are_expressions() {
        assert!(STAGES.is_some() && FAILURES.is_some());
    }

    #[rstest]
    #[case("SeaBIOS (version 1.16.2-debian)", Stage::Firmware)]
    #[case(
        "BdsDxe: loading Boot0001 \"UEFI Misc Device\" from PciRoot(0x0)",
        Stage::Firmware
    )]
    #[case("Welcome to GRUB!", Stage::Loader)]
    #[case(
        "[    0.000000] Booting Linux on physical CPU 0x0000000000",
        Stage::Kernel
    )]
    #[case("EFI stub: Booting Linux Kernel...", Stage::Kernel)]
    #[case("Welcome to Larkfell OS 4.2!", Stage::UserSpace)]
    #[case("[    2.1] Run /init as init process", Stage::UserSpace)]
    #[case(
        "[   12.3] cloud-init[312]: Cloud-init v. 22.4 running 'init'",
        Stage::FirstStart
    )]
    #[case("larkfell-03 login: ", Stage::Login)]
    fn stages(#[case] line: &str, #[case] stage: Stage) {
        assert_eq!(Progress::default().take(line), Some(stage));
    }

    #[rstest]
    #[case("No bootable device.", End::NoBootDevice)]
    #[case("Shell> ", End::NoBootDevice)]
    #[case("grub> ", End::LoaderPrompt)]
    #[case("VFS: Unable to mount root fs on unknown-block(0,0)", End::NoRoot)]
    #[case("ALERT!  UUID=1111 does not exist.  Dropping to a shell!", End::NoRoot)]
    #[case("No init found. Try passing init= bootarg.", End::NoInit)]
    #[case(
        "[    2.9] Kernel panic - not syncing: Attempted to kill init!",
        End::Panic
    )]
    #[case("You are in emergency mode. After logging in, type", End::Emergency)]
    fn ends(#[case] line: &str, #[case] end: End) {
        let mut progress = Progress::default();
        assert_eq!(progress.take(line), None);
        assert_eq!(progress.end(), Some(end));
    }

    #[test]
    fn the_first_reason_counts_and_a_restart_begins_anew() {
        let mut progress = Progress::default();
        for line in [
            "Welcome to GRUB!",
            "[    0.000000] Linux version 6.1.0",
            "VFS: Unable to mount root fs on unknown-block(0,0)",
            "Kernel panic - not syncing: VFS: Unable to mount root fs",
        ] {
            progress.take(line);
        }
        assert_eq!(progress.end(), Some(End::NoRoot));
        assert_eq!(progress.take("Welcome to GRUB!"), Some(Stage::Loader));
        assert_eq!((progress.end(), progress.restarts()), (None, 1));
    }
}
