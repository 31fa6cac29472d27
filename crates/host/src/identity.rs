//! What a medium is: bus, maker, model, serial and size, from `/sys`.

use std::fmt;
use std::fs;
use std::path::{Path, PathBuf};

use crate::card::{CardMode, SdClasses};
use crate::{BlockName, SystemRoots};

/// How a medium is connected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Bus {
    /// A card in a reader of the computer's own.
    Sd,
    /// A chip on the board.
    Emmc,
    /// A stick, a disk, or a card in a reader; with the bus speed in Mbit/s, if known.
    Usb(Option<u32>),
    /// A disk inside.
    Sata,
    /// A disk inside.
    Nvme,
    /// Any other SCSI device.
    Scsi,
    /// A file that is attached as a device.
    Loop,
    /// A disk of a virtual machine.
    Virtual,
    /// Unknown.
    Other,
}

impl Bus {
    /// The bus in one word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Sd => "SD",
            Self::Emmc => "eMMC",
            Self::Usb(_) => "USB",
            Self::Sata => "SATA",
            Self::Nvme => "NVMe",
            Self::Scsi => "SCSI",
            Self::Loop => "loop",
            Self::Virtual => "virtual",
            Self::Other => "other",
        }
    }

    /// What it carries in practice, in bytes a second, if that is known. Of USB's gross rates about
    /// two thirds to four fifths are left: USB 2.0 specification, section 5.8.4; USB 3.2, chapter 8.
    pub fn carries(self) -> Option<u64> {
        match self {
            Self::Usb(Some(megabits)) => usb_carries(megabits),
            _ => None,
        }
    }

    /// Whether media on this bus come and go while the computer runs. Only buses whose media are
    /// plugged in by hand do.
    pub(crate) fn is_hot_plugged(self) -> bool {
        matches!(self, Self::Sd | Self::Usb(_) | Self::Loop)
    }
}

/// What USB of so many Mbit/s carries in practice, in bytes a second.
pub fn usb_carries(megabits: u32) -> Option<u64> {
    const KNOWN: [(u32, u64); 4] = [
        (10_000, 900_000_000),
        (5000, 400_000_000),
        (480, 40_000_000),
        (12, 1_000_000),
    ];
    let found = KNOWN.iter().find(|(least, _)| megabits >= *least);
    found.map(|(_, bytes)| *bytes)
}

impl fmt::Display for Bus {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Usb(Some(speed)) if *speed >= 1000 => {
                write!(f, "USB {} Gbit/s", f64::from(*speed) / 1000.0)
            }
            Self::Usb(Some(speed)) => write!(f, "USB {speed} Mbit/s"),
            bus => f.write_str(bus.word()),
        }
    }
}

/// What a medium is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Identity {
    /// How it is connected.
    pub bus: Bus,
    /// Its size in bytes; 0 where a reader holds nothing.
    pub size: u64,
    /// Its maker, as reported.
    pub maker: Option<String>,
    /// Its model, as reported.
    pub model: Option<String>,
    /// Its serial number; for cards in a reader of the computer's own the whole card
    /// identification register.
    pub serial: Option<String>,
    /// Whether the serial number is that of the medium, and not of the reader that it is in.
    pub is_own_serial: bool,
    /// The kernel says that the medium is removable.
    pub is_removable: bool,
    /// Where it is plugged in.
    pub port: String,
    /// What an SD card in a reader of the computer's own promises.
    pub classes: Option<SdClasses>,
    /// How fast such a reader is connected to it, if this user may know.
    pub mode: Option<CardMode>,
}

impl Identity {
    /// What its connection carries in practice, in bytes a second, and what that is called.
    pub fn carries(&self) -> Option<(String, u64)> {
        let of_bus = self.bus.carries().map(|rate| (self.bus.to_string(), rate));
        let mode = self.mode.as_ref();
        of_bus.or_else(|| mode.map(|mode| (format!("{}, {}", self.bus, mode.name), mode.carries)))
    }

    /// Everything that stays the same on every port and every computer.
    pub fn key(&self) -> String {
        let text = |part: &Option<String>| part.clone().unwrap_or_default();
        // A stick stays the same on a faster port.
        format!(
            "{}|{}|{}|{}|{}",
            self.bus.word(),
            text(&self.maker),
            text(&self.model),
            text(&self.serial),
            self.size
        )
    }

    /// Whether it is built in, as far as its connection shows.
    pub(crate) fn is_built_in(&self) -> bool {
        !self.is_removable && !self.bus.is_hot_plugged()
    }
}

impl SystemRoots {
    /// The whole devices that are media or readers of media.
    pub(crate) fn wholes(&self) -> Vec<BlockName> {
        let is_medium = |name: &BlockName| {
            self.whole_of(name).is_none() && !is_part_of_another(&name.0) && !self.is_hidden(name)
        };
        self.all().into_iter().filter(is_medium).collect()
    }

    fn is_hidden(&self, name: &BlockName) -> bool {
        let hidden = self
            .attribute(name, "hidden")
            .is_some_and(|text| text == "1");
        let detached = name.0.starts_with("loop") && self.backing_file(name).is_none();
        hidden || detached
    }

    /// What a whole device is.
    pub(crate) fn identity(&self, name: &BlockName) -> Identity {
        let home = self.home(name);
        let bus = self.bus(name, &home);
        let usb = usb_device(&home);
        let from_usb = |file: &str| usb.as_deref().and_then(|usb| text(&usb.join(file)));
        let own = |file: &str| self.attribute(name, file);
        let card = own("device/cid").filter(|_| matches!(bus, Bus::Sd | Bus::Emmc));
        let sectors = own("size").and_then(|text| text.parse::<u64>().ok());
        let backing = self
            .backing_file(name)
            .map(|file| file.display().to_string());
        Identity {
            bus,
            // Always in sectors of 512 bytes, whatever the device's own are.
            size: sectors.unwrap_or(0).saturating_mul(512),
            maker: own("device/vendor")
                .filter(|vendor| !vendor.starts_with("0x") && vendor != "ATA")
                .or_else(|| from_usb("manufacturer"))
                .or_else(|| own("device/manfid").and_then(|id| card_maker(&id))),
            model: own("device/model")
                .or_else(|| own("device/name"))
                .or_else(|| from_usb("product"))
                .or_else(|| backing.clone()),
            serial: card
                .clone()
                .or_else(|| from_usb("serial"))
                .or_else(|| own("device/serial"))
                .or_else(|| own("serial"))
                .or_else(|| own("device/wwid"))
                .or_else(|| own("wwid"))
                .or_else(|| own("loop/backing_file")),
            is_own_serial: card.is_some() || !matches!(bus, Bus::Usb(_)),
            is_removable: own("removable").is_some_and(|text| text == "1")
                || is_on_outer_port(&home),
            port: port(&self.sys, &home),
            classes: self
                .register(name, "device/ssr")
                .and_then(|text| SdClasses::parse(&text)),
            mode: self.card_mode(&home),
        }
    }

    /// How a card's host is set. Only debuggers are told, so this is often unknown.
    fn card_mode(&self, home: &Path) -> Option<CardMode> {
        let mut parts = home.components();
        parts.find(|part| part.as_os_str() == "mmc_host")?;
        let host = parts.next()?;
        let told = self.sys.join("kernel/debug").join(host).join("ios");
        CardMode::parse(&fs::read_to_string(told).ok()?)
    }

    fn bus(&self, name: &BlockName, home: &Path) -> Bus {
        let path = home.to_string_lossy();
        let has = |part: &str| path.contains(part);
        if name.0.starts_with("loop") {
            Bus::Loop
        } else if let Some(usb) = usb_device(home) {
            Bus::Usb(text(&usb.join("speed")).and_then(|speed| speed.parse().ok()))
        } else if has("/mmc_host/") {
            match self.attribute(name, "device/type").as_deref() {
                Some("SD" | "SDcombo") => Bus::Sd,
                _ => Bus::Emmc,
            }
        } else if has("/nvme") {
            Bus::Nvme
        } else if has("/virtio") || has("/vbd-") || has("/devices/virtual/") {
            Bus::Virtual
        } else if has("/ata") {
            Bus::Sata
        } else if has("/host") {
            Bus::Scsi
        } else {
            Bus::Other
        }
    }
}

/// Boot and protected partitions of eMMC look like devices of their own; optical drives, memory
/// disks and device mapper are no media.
fn is_part_of_another(name: &str) -> bool {
    let of_emmc = name.starts_with("mmcblk") && (name.contains("boot") || name.contains("rpmb"));
    let kinds = [
        "ram", "zram", "dm-", "md", "sr", "fd", "mtdblock", "drbd", "rbd", "nbd",
    ];
    of_emmc || kinds.iter().any(|kind| name.starts_with(kind))
}

/// The folder of the USB device that a block device belongs to: the nearest with `idVendor`.
fn usb_device(home: &Path) -> Option<PathBuf> {
    let mut folders = home.ancestors().skip(1);
    folders
        .find(|folder| folder.join("idVendor").exists())
        .map(Path::to_path_buf)
}

/// Whether a device is on a bus outside the case: the kernel marks what is behind such a port of
/// PCI (`removable` of the port's devices, ABI `sysfs-devices-removable`).
fn is_on_outer_port(home: &Path) -> bool {
    // USB ports are marked likewise, but there the medium itself says more.
    let is_pci = |folder: &Path| {
        let name = folder.file_name().unwrap_or_default().to_string_lossy();
        name.matches(':').count() == 2 && name.contains('.')
    };
    let mut folders = home.ancestors().skip(1).filter(|folder| is_pci(folder));
    folders.any(|folder| text(&folder.join("removable")).is_some_and(|text| text == "removable"))
}

/// Where a device is plugged in: its path in `/sys`, without its own changing names.
fn port(sys: &Path, home: &Path) -> String {
    let inside = home.strip_prefix(sys.join("devices")).unwrap_or(home);
    let parts: Vec<_> = inside.iter().map(|part| part.to_string_lossy()).collect();
    let stable = parts.iter().take_while(|part| {
        let numbered = ["host", "target", "block", "mmc_host"];
        !numbered.iter().any(|start| part.starts_with(start))
    });
    // Slots of one reader are told apart by their unit number: host:channel:target:unit.
    let unit = parts.iter().find_map(|part| {
        let (_, unit) = part.rsplit_once(':')?;
        (part.matches(':').count() == 3).then(|| unit.to_owned())
    });
    let stable: Vec<_> = stable.map(|part| part.to_string()).collect();
    format!("{}#{}", stable.join("/"), unit.unwrap_or_default())
}

/// Makers of cards only have numbers.
fn card_maker(id: &str) -> Option<String> {
    let number = u32::from_str_radix(id.trim_start_matches("0x"), 16).ok()?;
    Some(format!("maker 0x{number:02x}"))
}

/// The trimmed text of a small file, without terminal control characters.
fn text(path: &Path) -> Option<String> {
    let text = fs::read_to_string(path).ok()?;
    let clean: String = text
        .trim()
        .chars()
        .filter(|c| !c.is_control())
        .take(120)
        .collect();
    (!clean.is_empty()).then_some(clean)
}

impl SystemRoots {
    /// An attribute of a device, below its folder.
    fn attribute(&self, name: &BlockName, file: &str) -> Option<String> {
        text(&self.sys.join("class/block").join(&name.0).join(file))
    }

    /// A register of a card, in hexadecimal digits.
    fn register(&self, name: &BlockName, file: &str) -> Option<String> {
        let path = self.sys.join("class/block").join(&name.0).join(file);
        Some(fs::read_to_string(path).ok()?.trim().to_owned())
    }

    /// The device's real folder.
    fn home(&self, name: &BlockName) -> PathBuf {
        let link = self.sys.join("class/block").join(&name.0);
        fs::canonicalize(&link).unwrap_or(link)
    }
}
