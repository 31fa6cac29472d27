//! Arguments of `pinewrit trial`, `pinewrit find` and `pinewrit commission`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, ValueEnum, ValueHint};
use ipnet::IpNet;
use pinewrit_disk::parse_size;
use pinewrit_image::Location;

use crate::{SourceArgs, location};

/// Find boards in the network
///
/// Asks by multicast DNS, looks into leases and the kernel's neighbours, and knocks at recorded
/// addresses. Compares each board's host key with the one that was put on its medium.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit find larkfell-03 --wait 180\n  \
    pinewrit find --leases /var/lib/misc/dnsmasq.leases\n  \
    pinewrit find larkfell-03 --net 10.77.3.0/24")]
pub struct FindArgs {
    /// Names of boards [default: all units in the ledger that are not commissioned yet]
    #[arg(value_name = "HOST")]
    pub hosts: Vec<String>,
    /// Go on until all are found, or for so many seconds
    #[arg(long, value_name = "SECONDS", num_args = 0..=1, default_missing_value = "600",
        value_parser = clap::value_parser!(u64).range(1..=86_400))]
    pub wait: Option<u64>,
    /// A DHCP server's leases: dnsmasq, ISC, Kea (CSV), or systemd-networkd; repeatable
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub leases: Vec<PathBuf>,
    /// Also look for SSH servers at all addresses of this private network, up to a /20
    #[arg(long, value_name = "CIDR")]
    pub net: Option<IpNet>,
    /// The port of their SSH servers [default: as recorded, else 22]
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..))]
    pub port: Option<u16>,
}

/// What a board should be.
#[derive(Clone, Debug, Default, ClapArgs)]
pub struct WantedArgs {
    /// Compare with this settings file
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath, conflicts_with = "roster")]
    pub settings: Option<PathBuf>,
    /// Compare with the settings of this unit in a roster
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub roster: Option<PathBuf>,
    /// Compare with this receipt [default: that of the ledger]
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub receipt: Option<PathBuf>,
    /// Log in as this user [default: the first one of the settings with a key]
    #[arg(long, value_name = "USER")]
    pub user: Option<String>,
    /// Log in with the private key in this file [default: the agent, or ssh's configuration]
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub key: Option<PathBuf>,
}

/// Compare a running board with its settings
///
/// Logs in by ssh, once, and only reads: name, users and keys, network, region, medium, system,
/// failed services, clock. The ledger records it if nothing differs.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit commission larkfell-03 --settings hut-03.toml\n  \
    pinewrit commission larkfell-03 --roster huts.toml --wait\n  \
    pinewrit commission 10.77.3.10 --unit larkfell-03")]
pub struct CommissionArgs {
    /// Name or address of the board, or what ssh's configuration calls it
    #[arg(value_name = "HOST")]
    pub host: String,
    /// Its unit in the ledger and the roster [default: HOST]
    #[arg(long, value_name = "NAME")]
    pub unit: Option<String>,
    #[command(flatten)]
    pub wanted: WantedArgs,
    /// The port of its SSH server [default: as recorded, else ssh's]
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..))]
    pub port: Option<u16>,
    /// Wait until the board answers and its first-boot work is over, for so many seconds
    #[arg(long, value_name = "SECONDS", num_args = 0..=1, default_missing_value = "600",
        value_parser = clap::value_parser!(u64).range(1..=86_400))]
    pub wait: Option<u64>,
}

/// Boot a medium or image in an emulator, and compare it with its settings
///
/// It boots on a temporary overlay: the medium is never written. UEFI, legacy BIOS or the kernel
/// itself, as the medium needs. With settings or a receipt, the trial logs in by ssh and compares;
/// otherwise a login prompt is enough.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit trial larkfell-os.img.xz\n  \
    pinewrit trial K7F2 --settings hut-03.toml --key ~/.ssh/warden\n  \
    pinewrit trial hut.img --size 8GB --second-boot --log hut.log")]
pub struct TrialArgs {
    /// Tag, block device, card file, or an image in any wrapping
    #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath, value_parser = location())]
    pub source: Location,
    #[command(flatten)]
    pub options: SourceArgs,
    /// Its unit in the ledger or the roster [default: as the ledger knows the medium]
    #[arg(long, value_name = "NAME")]
    pub unit: Option<String>,
    #[command(flatten)]
    pub wanted: WantedArgs,
    /// Boot it once more: what happens only once, and does it still hold?
    #[arg(long)]
    pub second_boot: bool,
    /// Give up after so many seconds, for each boot
    #[arg(long, value_name = "SECONDS", default_value_t = 600,
        value_parser = clap::value_parser!(u64).range(5..=86_400))]
    pub timeout: u64,
    /// The disk in the machine is as large as this: a larger card
    #[arg(long, value_parser = parse_size)]
    pub size: Option<u64>,
    /// What the medium is in the machine [default: as root= says, else virtio]
    #[arg(long, value_name = "KIND")]
    pub disk: Option<DiskArg>,
    /// Memory of the machine
    #[arg(long, value_name = "SIZE", default_value = "1GiB", value_parser = parse_size)]
    pub memory: u64,
    /// Cores of the machine [default: those of this computer, up to 4]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=64))]
    pub cores: Option<u32>,
    /// Show the console live
    #[arg(long)]
    pub console: bool,
    /// Write the console to this file, with times
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub log: Option<PathBuf>,
    /// Save the screen at the end
    #[arg(long, value_name = "FILE.png", value_hint = ValueHint::FilePath)]
    pub picture: Option<PathBuf>,
}

/// What a medium is in the machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum DiskArg {
    /// A virtio disk, /dev/vda
    Virtio,
    /// A SATA disk, /dev/sda
    Sata,
    /// A USB stick, /dev/sda
    Usb,
    /// An SD card, /dev/mmcblk0
    Sd,
    /// An NVMe disk, /dev/nvme0n1
    Nvme,
}
