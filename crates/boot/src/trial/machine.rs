//! The machine that a medium is tried in: chosen by what the medium holds.

use std::ffi::OsString;
use std::net::{IpAddr, Ipv4Addr};
use std::path::{Path, PathBuf};
use std::process::Command;

use pinewrit_boards::chain::{Firmware, Verdict, Way};
use pinewrit_settings::CheckedSettings;
use pinewrit_volume::Architecture;
use schemars::JsonSchema;
use serde::Serialize;

/// Where distributions have the firmware: code, then variables.
const OF_X86: &[(&str, &str)] = &[
    (
        "/usr/share/OVMF/OVMF_CODE_4M.fd",
        "/usr/share/OVMF/OVMF_VARS_4M.fd",
    ),
    (
        "/usr/share/OVMF/OVMF_CODE.fd",
        "/usr/share/OVMF/OVMF_VARS.fd",
    ),
    (
        "/usr/share/edk2/ovmf/OVMF_CODE.fd",
        "/usr/share/edk2/ovmf/OVMF_VARS.fd",
    ),
    (
        "/usr/share/edk2/x64/OVMF_CODE.4m.fd",
        "/usr/share/edk2/x64/OVMF_VARS.4m.fd",
    ),
    (
        "/usr/share/qemu/ovmf-x86_64-code.bin",
        "/usr/share/qemu/ovmf-x86_64-vars.bin",
    ),
];
const OF_ARM: &[(&str, &str)] = &[
    (
        "/usr/share/AAVMF/AAVMF_CODE.fd",
        "/usr/share/AAVMF/AAVMF_VARS.fd",
    ),
    (
        "/usr/share/AAVMF/AAVMF_CODE.no-secboot.fd",
        "/usr/share/AAVMF/AAVMF_VARS.fd",
    ),
    (
        "/usr/share/edk2/aarch64/QEMU_EFI-pflash.raw",
        "/usr/share/edk2/aarch64/vars-template-pflash.raw",
    ),
    (
        "/usr/share/qemu/aavmf-aarch64-code.bin",
        "/usr/share/qemu/aavmf-aarch64-vars.bin",
    ),
];
/// Everything that the emulator knows, but for what costs it time: a fifth level of page tables, and virtual machines
/// in the machine.
const X86: &str = "max,la57=off,svm=off";
/// The network of the emulator, if the settings have no fixed address (its documentation, "user").
const NET: &str = "10.0.2.0/24";

/// How the machine starts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Start {
    /// By UEFI.
    Uefi,
    /// By a legacy BIOS.
    LegacyBios,
    /// The emulator starts the kernel that the medium's loader would: the board's own loader runs on
    /// the board only.
    Kernel,
}

/// The medium's place in the machine.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Slot {
    /// A paravirtual disk: `/dev/vda`.
    #[default]
    Virtio,
    /// A SATA disk: `/dev/sda`.
    Sata,
    /// A USB stick: `/dev/sda`.
    Usb,
    /// An SD card: `/dev/mmcblk0`.
    Sd,
    /// An NVMe disk: `/dev/nvme0n1`.
    Nvme,
}

impl Slot {
    /// The one that a command line's `root=` names.
    pub fn of_root(options: &str) -> Self {
        let root = options
            .split_whitespace()
            .find_map(|word| word.strip_prefix("root="));
        match root {
            Some(root) if root.starts_with("/dev/sd") => Self::Sata,
            Some(root) if root.starts_with("/dev/mmcblk") => Self::Sd,
            Some(root) if root.starts_with("/dev/nvme") => Self::Nvme,
            _ => Self::Virtio,
        }
    }

    fn devices(self) -> &'static [&'static str] {
        match self {
            Self::Virtio => &["virtio-blk-pci,drive=medium,bootindex=0"],
            Self::Sata => &[
                "ich9-ahci,id=sata",
                "ide-hd,drive=medium,bus=sata.0,bootindex=0",
            ],
            Self::Usb => &["qemu-xhci", "usb-storage,drive=medium,bootindex=0"],
            Self::Sd => &["sdhci-pci", "sd-card,drive=medium"],
            Self::Nvme => &["nvme,drive=medium,serial=pinewrit,bootindex=0"],
        }
    }
}

/// Why there is no machine for a medium.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum MachineError {
    /// An emulator is not installed.
    #[error("{program} is not installed")]
    NoEmulator {
        /// Its name.
        program: &'static str,
        /// The package that has it.
        package: &'static str,
    },
    /// The firmware is not installed.
    #[error("the firmware for UEFI on {architecture} is not installed")]
    NoFirmware {
        /// Of what it is.
        architecture: &'static str,
        /// The package that has it.
        package: &'static str,
    },
    /// Nothing on the medium can be started by an emulator.
    #[error("there is nothing on it that an emulator can start")]
    Nothing,
    /// There is no emulator for the processor.
    #[error("there is no machine for {0}")]
    Processor(String),
}

/// A machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Machine {
    /// The emulator's program.
    pub program: &'static str,
    /// The processor.
    pub architecture: Architecture,
    /// How it starts.
    pub start: Start,
    /// The firmware's code and variables, with UEFI.
    pub firmware: Option<(PathBuf, PathBuf)>,
    /// Where the medium is.
    pub slot: Slot,
    /// Memory, in MiB.
    pub memory: u32,
    /// Processors.
    pub cores: u32,
    /// Whether the processor of this computer does the work.
    pub is_fast: bool,
}

/// The way that an emulator can take: the best one, and the most usual one of several.
pub fn best_way(ways: &[Way]) -> Option<&Way> {
    let is_possible = |way: &&Way| match way.architecture {
        Some(Architecture::X86Of64 | Architecture::Arm64 | Architecture::Arm) => true,
        None => way.firmware == Firmware::LegacyBios,
        _ => false,
    };
    let possible = ways.iter().filter(is_possible);
    possible.min_by_key(|way| {
        let firmware = match way.firmware {
            Firmware::Uefi => 0,
            Firmware::LegacyBios => 1,
            Firmware::Own => 2,
        };
        (way.verdict() == Verdict::DoesNotStart, firmware)
    })
}

impl Machine {
    /// A machine for a way.
    ///
    /// # Errors
    /// [`MachineError`]: there is none here.
    pub fn for_way(way: &Way) -> Result<Self, MachineError> {
        let start = match way.firmware {
            Firmware::Uefi => Start::Uefi,
            Firmware::LegacyBios => Start::LegacyBios,
            Firmware::Own => Start::Kernel,
        };
        let architecture = match start {
            Start::LegacyBios => Architecture::X86Of64,
            _ => way.architecture.ok_or(MachineError::Nothing)?,
        };
        let (program, package) = match architecture {
            Architecture::X86Of64 => ("qemu-system-x86_64", "qemu-system-x86"),
            Architecture::Arm64 => ("qemu-system-aarch64", "qemu-system-arm"),
            Architecture::Arm => ("qemu-system-arm", "qemu-system-arm"),
            other => return Err(MachineError::Processor(other.word().to_owned())),
        };
        if !is_installed(program) {
            return Err(MachineError::NoEmulator { program, package });
        }
        let firmware = match (&start, architecture) {
            (Start::Uefi, Architecture::Arm64) => {
                Some(firmware(OF_ARM, "arm64", "qemu-efi-aarch64")?)
            }
            (Start::Uefi, Architecture::Arm) => {
                return Err(MachineError::Processor("32-bit Arm by UEFI".to_owned()));
            }
            (Start::Uefi, _) => Some(firmware(OF_X86, "x86-64", "ovmf")?),
            _ => None,
        };
        let options = way.starts.as_ref().map_or("", |starts| &starts.options);
        Ok(Self {
            program,
            architecture,
            start,
            firmware,
            slot: Slot::of_root(options),
            memory: 1024,
            cores: std::thread::available_parallelism()
                .map_or(1, |cores| cores.get().min(4) as u32),
            is_fast: is_own(architecture) && has_virtualisation() && may_use("/dev/kvm"),
        })
    }

    /// The console that its kernel must use for its texts to be seen.
    pub fn console(&self) -> &'static str {
        match self.architecture {
            Architecture::X86Of64 => "ttyS0",
            _ => "ttyAMA0",
        }
    }

    /// Its arguments, but for disk, network and console.
    pub(super) fn arguments(&self, variables: &Path, has_screen: bool) -> Vec<OsString> {
        let mut all: Vec<OsString> = Vec::new();
        let mut add = |words: &[&str]| all.extend(words.iter().map(OsString::from));
        let is_x86 = self.architecture == Architecture::X86Of64;
        let machine = match self.architecture {
            Architecture::X86Of64 => "q35",
            // A kernel of 32 bits sees no device beyond 4 GiB.
            Architecture::Arm => "virt,highmem=off",
            _ => "virt",
        };
        add(&["-machine", machine]);
        let cpu = match (self.is_fast, self.architecture) {
            (true, _) => "host",
            (_, Architecture::X86Of64) => X86,
            (_, Architecture::Arm64) => "cortex-a72",
            _ => "cortex-a15",
        };
        add(&[
            "-cpu",
            cpu,
            "-accel",
            if self.is_fast { "kvm" } else { "tcg" },
        ]);
        add(&[
            "-m",
            &self.memory.to_string(),
            "-smp",
            &self.cores.to_string(),
        ]);
        add(&[
            "-nodefaults",
            "-no-user-config",
            "-display",
            "none",
            "-device",
            "virtio-rng-pci",
        ]);
        if is_x86 {
            add(&["-vga", "std"]);
        } else if has_screen {
            // With a screen, a kernel without a wish prefers it to the serial console.
            add(&["-device", "virtio-gpu-pci"]);
        }
        if let Some((code, _)) = &self.firmware {
            add(&[
                "-drive",
                &format!("if=pflash,format=raw,readonly=on,file={}", escaped(code)),
            ]);
            add(&[
                "-drive",
                &format!("if=pflash,format=raw,file={}", escaped(variables)),
            ]);
        }
        for device in self.slot.devices() {
            add(&["-device", device]);
        }
        all
    }
}

/// A comma is doubled in the emulator's options.
pub(super) fn escaped(path: &Path) -> String {
    path.display().to_string().replace(',', ",,")
}

fn firmware(
    places: &[(&str, &str)],
    architecture: &'static str,
    package: &'static str,
) -> Result<(PathBuf, PathBuf), MachineError> {
    let mut places = places
        .iter()
        .map(|(code, variables)| (Path::new(code), Path::new(variables)));
    let found = places.find(|(code, variables)| code.exists() && variables.exists());
    match found {
        Some((code, variables)) => Ok((code.to_owned(), variables.to_owned())),
        None => Err(MachineError::NoFirmware {
            architecture,
            package,
        }),
    }
}

fn is_installed(program: &str) -> bool {
    let mut command = Command::new(program);
    command.arg("--version").stdout(std::process::Stdio::null());
    command.status().is_ok_and(|status| status.success())
}

fn is_own(architecture: Architecture) -> bool {
    match architecture {
        Architecture::X86Of64 => cfg!(target_arch = "x86_64"),
        Architecture::Arm64 => cfg!(target_arch = "aarch64"),
        _ => false,
    }
}

/// Whether the processor helps: a device for it may be there although it does not, and is of no use
/// then ("flags" of x86 processors in proc(5), `cpuinfo`).
fn has_virtualisation() -> bool {
    let text = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
    let mut flags = text
        .lines()
        .filter(|line| line.starts_with("flags"))
        .peekable();
    flags.peek().is_none()
        || flags.any(|line| line.split(' ').any(|flag| matches!(flag, "vmx" | "svm")))
}

fn may_use(device: &str) -> bool {
    std::fs::File::options()
        .read(true)
        .write(true)
        .open(device)
        .is_ok()
}

/// The machine's network: no way out, and fixed addresses of the settings fit into it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Network {
    /// The network.
    pub net: ipnet::Ipv4Net,
    /// The gateway in it.
    pub gateway: Ipv4Addr,
    /// The name server in it.
    pub dns: Ipv4Addr,
    /// Where the board is; by DHCP if `None`.
    pub address: Option<Ipv4Addr>,
    /// The board's hardware address, if the settings name it.
    pub hardware: Option<String>,
    /// The name of the board's interface, if the settings name it.
    pub interface: Option<String>,
}

impl Network {
    /// The one that settings need.
    pub fn of(settings: Option<&CheckedSettings>) -> Self {
        let wired =
            settings.and_then(|settings| settings.wired.iter().find(|one| one.vlan.is_none()));
        let fixed = wired
            .into_iter()
            .flat_map(|one| &one.addresses)
            .find_map(|net| match net {
                ipnet::IpNet::V4(net) if net.prefix_len() <= 29 => Some(*net),
                _ => None,
            });
        let net = fixed
            .map(|net| net.trunc())
            .or_else(|| NET.parse().ok())
            .unwrap_or_default();
        let address = fixed.map(|net| net.addr());
        let inside = |wanted: Option<&IpAddr>| match wanted {
            Some(IpAddr::V4(one)) if net.contains(one) && Some(*one) != address => Some(*one),
            _ => None,
        };
        let gateways = wired.into_iter().flat_map(|one| &one.gateways);
        let gateway = gateways.filter_map(|one| inside(Some(one))).next();
        let mut free = net
            .hosts()
            .filter(|one| Some(*one) != address && Some(*one) != gateway);
        let gateway = gateway
            .or_else(|| free.nth(1))
            .unwrap_or(Ipv4Addr::UNSPECIFIED);
        let dns =
            wired.and_then(|one| inside(one.dns.iter().find(|one| **one != IpAddr::V4(gateway))));
        Self {
            net,
            gateway,
            dns: dns.or_else(|| free.next()).unwrap_or(Ipv4Addr::UNSPECIFIED),
            address,
            hardware: wired.and_then(|one| Some(one.mac?.to_string())),
            interface: wired
                .filter(|one| one.mac.is_none())
                .and_then(|one| one.interface.clone()),
        }
    }

    /// The emulator's words for it; `port` here leads to `ssh` there.
    pub(super) fn option(&self, port: u16, ssh: u16) -> String {
        // DHCP begins somewhere in the middle, in a small network with the last address.
        let given = self
            .net
            .hosts()
            .filter(|one| *one != self.gateway && *one != self.dns && Some(*one) != self.address)
            .take(11)
            .last();
        let dhcp = given
            .map(|start| format!(",dhcpstart={start}"))
            .unwrap_or_default();
        // The first address that DHCP gives is that of the board, if it has no other.
        let to = self
            .address
            .or(given)
            .map(|one| one.to_string())
            .unwrap_or_default();
        format!(
            "user,id=net,restrict=on,net={},host={},dns={}{dhcp},hostfwd=tcp:127.0.0.1:{port}-{to}:{ssh}",
            self.net, self.gateway, self.dns
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("root=UUID=1-2 ro", Slot::Virtio)]
    #[case("root=/dev/mmcblk0p2", Slot::Sd)]
    #[case("console=ttyS0 root=/dev/sda1", Slot::Sata)]
    #[case("root=/dev/nvme0n1p2", Slot::Nvme)]
    fn where_the_medium_is(#[case] options: &str, #[case] expected: Slot) {
        assert_eq!(Slot::of_root(options), expected);
    }

    #[rstest]
    #[case::usual("10.77.3.10/24", "10.77.3.1", "10.77.3.53", "10.77.3.13")]
    #[case::small("10.77.3.10/29", "10.77.3.9", "10.77.3.14", "10.77.3.13")]
    fn a_network_that_fits_the_settings(
        #[case] address: &str,
        #[case] gateway: &str,
        #[case] dns: &str,
        #[case] given: &str,
    ) {
        let text = format!(
            "hostname = \"larkfell-03\"\n[wired]\naddresses = [\"{address}\"]\ngateway = \"{gateway}\"\n\
            dns = [\"{dns}\"]\n"
        );
        let settings = pinewrit_settings::check(
            &text,
            Path::new(""),
            &pinewrit_settings::document::NoSecrets,
        )
        .unwrap();
        let network = Network::of(Some(&settings));
        assert_eq!(
            network.net,
            address.parse::<ipnet::Ipv4Net>().unwrap().trunc()
        );
        let option = network.option(2222, 22);
        let expected = format!(
            "host={gateway},dns={dns},dhcpstart={given},hostfwd=tcp:127.0.0.1:2222-10.77.3.10:22"
        );
        assert!(option.ends_with(&expected), "{option}");
    }

    #[test]
    fn without_addresses_dhcp_gives_one() {
        let plain = Network::of(None);
        assert_eq!(plain.net.to_string(), NET);
        assert_ne!(plain.gateway, plain.dns);
        let option = plain.option(2222, 22);
        let (_, start) = option.split_once("dhcpstart=").unwrap();
        let (start, rest) = start.split_once(',').unwrap();
        assert_eq!(rest, format!("hostfwd=tcp:127.0.0.1:2222-{start}:22"));
    }
}
