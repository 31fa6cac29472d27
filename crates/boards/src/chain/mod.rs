//! The chain from the firmware to the first program, followed as far as it can be read: the loader,
//! its configuration, the kernel, the initrd and the device tree, the root file system, its first
//! program, and what it mounts.

mod entries;
mod entry;
mod extlinux;
mod found;
mod grub;
mod loader;
mod program;
mod root;

use std::cell::RefCell;

use pinewrit_disk::{BlockDevice, DiskError, Window, error_chain};
use pinewrit_table::PartitionTable;
use pinewrit_volume::Architecture;
use pinewrit_volume::bootmode::{self, UefiLoader};
use pinewrit_volume::files::{Files, FilesError, FilesystemOf, filesystems, join, open_to_read};

pub use found::{
    Fault, Finding, Firmware, Gravity, LoaderKind, Part, Source, Started, Verdict, Way,
};

use entry::{Entry, Load, Named, Next};

/// The most configurations that lead from one to the next.
const MAX_STEPS: usize = 8;
/// The most names that are looked at in a folder.
const MAX_NAMES: usize = 256;
/// Bytes of a program that say what it is for.
const HEAD: usize = 4096;
/// The largest text that is read, in bytes.
const MAX_TEXT: u64 = 1 << 20;

/// Where loaders have their texts.
const GRUB_TEXTS: &[&str] = &[
    "/EFI/BOOT/grub.cfg",
    "/boot/grub/grub.cfg",
    "/grub/grub.cfg",
    "/boot/grub2/grub.cfg",
    "/grub2/grub.cfg",
];
const EXTLINUX_TEXTS: &[&str] = &[
    "/extlinux/extlinux.conf",
    "/boot/extlinux/extlinux.conf",
    "/extlinux.conf",
    "/syslinux/syslinux.cfg",
    "/boot/syslinux/syslinux.cfg",
    "/syslinux.cfg",
];
const ENTRIES: &str = "/loader/entries";
const VENDORS: &str = "/EFI";

/// A medium: its table and its file systems.
pub(crate) struct Medium<'d> {
    device: &'d dyn BlockDevice,
    pub(crate) table: Option<PartitionTable>,
    pub(crate) systems: Vec<FilesystemOf>,
    /// Why something could not be read.
    trouble: RefCell<Option<String>>,
}

/// A text that a loader reads.
struct Text<'m> {
    on: &'m FilesystemOf,
    path: String,
    kind: LoaderKind,
    is_extlinux: bool,
}

impl<'d> Medium<'d> {
    pub(crate) fn open(device: &'d dyn BlockDevice) -> Result<Self, DiskError> {
        Ok(Self {
            device,
            table: PartitionTable::read(device)?,
            systems: filesystems(device)?,
            trouble: RefCell::default(),
        })
    }

    pub(crate) fn window(&self, system: &FilesystemOf) -> Window<'d> {
        Window::new(self.device, system.range)
    }

    /// Opens a file system, and asks it something. What cannot be read is kept for
    /// [`Medium::doubt`].
    pub(crate) fn ask<T>(
        &self,
        system: &FilesystemOf,
        question: impl FnOnce(&Files<'_>) -> Result<T, FilesError>,
    ) -> Option<T> {
        let window = self.window(system);
        let answer = open_to_read(&window).and_then(|files| question(&files));
        match answer {
            Ok(answer) => Some(answer),
            Err(error) => {
                *self.trouble.borrow_mut() = Some(error_chain(&error));
                None
            }
        }
    }

    /// What could not be read counts as neither there nor missing.
    fn doubt(&self, way: &mut Way) {
        let Some(why) = self.trouble.take() else {
            return;
        };
        way.findings.retain(|one| one.gravity != Gravity::Fatal);
        let at = way.file.clone().unwrap_or_else(Source::nowhere);
        way.add(Gravity::Unknown, Fault::Unreadable { why }, at);
    }

    fn has(&self, system: &FilesystemOf, path: &str) -> bool {
        self.ask(system, |files| files.has(path)).unwrap_or(false)
    }

    fn text(&self, system: &FilesystemOf, path: &str) -> Option<String> {
        self.ask(system, |files| {
            let bytes = files.small(path, MAX_TEXT)?;
            Ok(bytes.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()))
        })?
    }

    /// The first bytes of a file; `None` if there is none.
    pub(crate) fn head(&self, system: &FilesystemOf, path: &str, most: usize) -> Option<Vec<u8>> {
        self.ask(system, |files| {
            if files.size_of(path)?.is_none() {
                return Ok(None);
            }
            let mut head = Head {
                bytes: Vec::new(),
                most,
            };
            // It ends with an error when it has enough.
            match files.read_to(path, &mut head) {
                Err(error) if head.bytes.len() < most => Err(error),
                _ => Ok(Some(head.bytes)),
            }
        })?
    }

    /// The name that Linux gives a partition (`root=PARTUUID=`).
    fn partuuid(&self, system: &FilesystemOf) -> Option<String> {
        let (table, number) = (self.table.as_ref()?, system.partition?);
        let partition = table.partitions.iter().find(|one| one.number == number)?;
        table.scheme.partuuid(partition)
    }

    fn named<'m>(&'m self, name: &Named, own: &'m FilesystemOf) -> Option<&'m FilesystemOf> {
        let mut all = self.systems.iter();
        match name {
            Named::Own => Some(own),
            Named::Id(id) => all.find(|one| {
                let found = one.facts.id.as_deref();
                found.is_some_and(|found| found.eq_ignore_ascii_case(id))
            }),
            Named::Label(label) => {
                all.find(|one| one.facts.label.as_deref() == Some(label.as_str()))
            }
            Named::File(path) => all.find(|one| self.has(one, path)),
            Named::Partition(number) => all.find(|one| one.partition == Some(*number)),
        }
    }

    fn texts(&self) -> Vec<Text<'_>> {
        let mut all = Vec::new();
        for system in self.systems.iter().filter(|one| one.facts.kind.has_files()) {
            let found = self.ask(system, texts_in);
            for (path, kind, is_extlinux) in found.into_iter().flatten() {
                all.push(Text {
                    on: system,
                    path,
                    kind,
                    is_extlinux,
                });
            }
        }
        all
    }
}

/// Takes the first bytes, and refuses more.
struct Head {
    bytes: Vec<u8>,
    most: usize,
}

impl std::io::Write for Head {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let room = self.most - self.bytes.len();
        if room == 0 && !bytes.is_empty() {
            return Err(std::io::Error::other("enough"));
        }
        let taken = room.min(bytes.len());
        self.bytes.extend(&bytes[..taken]);
        Ok(taken)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

fn texts_in(files: &Files<'_>) -> Result<Vec<(String, LoaderKind, bool)>, FilesError> {
    let names = |folder: &str| -> Result<Vec<String>, FilesError> {
        let names = files.names(folder)?.unwrap_or_default();
        Ok(names.into_iter().take(MAX_NAMES).collect())
    };
    let mut wanted: Vec<(String, LoaderKind, bool)> = Vec::new();
    for path in GRUB_TEXTS {
        wanted.push(((*path).to_owned(), LoaderKind::Grub, false));
    }
    for vendor in names(VENDORS)? {
        if !vendor.eq_ignore_ascii_case("boot") {
            let path = format!("{VENDORS}/{vendor}/grub.cfg");
            wanted.push((path, LoaderKind::Grub, false));
        }
    }
    for path in EXTLINUX_TEXTS {
        wanted.push(((*path).to_owned(), LoaderKind::Unknown, true));
    }
    let mut entries = names(ENTRIES)?;
    entries.retain(|name| name.ends_with(".conf"));
    if let Some(chosen) = chosen_entry(files, &entries) {
        wanted.push((join(ENTRIES, chosen), LoaderKind::Entries, false));
    }
    let mut there = Vec::new();
    for one in wanted {
        if files.size_of(&one.0)?.is_some() {
            there.push(one);
        }
    }
    Ok(there)
}

/// The entry that `loader.conf` chooses; without, the one with the highest name.
fn chosen_entry<'n>(files: &Files<'_>, names: &'n [String]) -> Option<&'n str> {
    let text = files.text("/loader/loader.conf").ok().flatten();
    let pattern = text.as_deref().and_then(entries::default_in);
    let by_pattern = pattern.and_then(|pattern| {
        let mut named = names.iter().rev();
        named.find(|name| entries::is_chosen(pattern, name))
    });
    by_pattern.or(names.last()).map(String::as_str)
}

/// Follows every way that the medium shows.
///
/// # Errors
/// The device could not be read.
pub fn follow(device: &dyn BlockDevice) -> Result<Vec<Way>, DiskError> {
    follow_on(device, &Medium::open(device)?)
}

/// Follows every way of a medium that was looked at.
pub(crate) fn follow_on(
    device: &dyn BlockDevice,
    medium: &Medium<'_>,
) -> Result<Vec<Way>, DiskError> {
    let mut ways = Vec::new();
    for system in medium.systems.iter().filter(|one| one.facts.kind.is_fat()) {
        for loader in bootmode::uefi_loaders(&medium.window(system), system.partition) {
            let mut way = by_uefi(medium, system, &loader);
            way.own_up();
            medium.doubt(&mut way);
            ways.push(way);
        }
    }
    if let Some(kind) = loader::boot_code(device, medium.table.as_ref()) {
        let mut way = by_boot_code(medium, kind);
        way.own_up();
        medium.doubt(&mut way);
        ways.push(way);
    }
    if ways.is_empty() && !medium.texts().is_empty() {
        // A loader outside file systems, or in the board itself.
        ways.push(by_own_loader(medium, None));
    }
    Ok(ways)
}

/// What a loader at a place that is not known reads.
pub(crate) fn by_own_loader(medium: &Medium<'_>, architecture: Option<Architecture>) -> Way {
    let mut way = from_texts(medium, Firmware::Own, LoaderKind::Unknown, architecture);
    medium.doubt(&mut way);
    way
}

fn by_uefi(medium: &Medium<'_>, system: &FilesystemOf, loader: &UefiLoader) -> Way {
    let at = Source {
        partition: system.partition,
        path: format!("/EFI/BOOT/{}", loader.file),
        line: 0,
    };
    let wanted = loader.architecture;
    if !loader.valid {
        let head = medium.head(system, &at.path, HEAD).unwrap_or_default();
        let found = Architecture::of_pe(&head);
        return Way {
            firmware: Firmware::Uefi,
            loader: LoaderKind::Unknown,
            file: Some(at.clone()),
            architecture: Some(wanted),
            starts: None,
            findings: vec![Finding {
                gravity: Gravity::Fatal,
                fault: Fault::LoaderIsForOther { wanted, found },
                at,
            }],
        };
    }
    let looked = loader::look(medium, system, &at.path);
    let mut way = match looked.kind {
        LoaderKind::Unified | LoaderKind::Kernel => {
            let mut way = Way::new(Firmware::Uefi, looked.kind, Some(wanted));
            let mut entry = Entry::new(Named::Own, 0);
            entry.load(Part::Kernel, &at.path, 0);
            entry.options = looked.options;
            if looked.has_initrd {
                entry.load(Part::Initrd, &at.path, 0);
            }
            start(medium, system, &entry, &at, &mut way);
            way
        }
        kind => match looked.prefix.as_deref().and_then(prefixed) {
            Some((on, path)) => {
                let mut way = Way::new(Firmware::Uefi, kind, Some(wanted));
                let next = Next::Other { on, path, line: 0 };
                go_on(medium, system, next, at.clone(), &mut way);
                way
            }
            None => from_texts(medium, Firmware::Uefi, kind, Some(wanted)),
        },
    };
    way.file = Some(at.clone());
    for finding in &mut way.findings {
        if finding.at.path.is_empty() {
            finding.at = at.clone();
        }
    }
    way
}

/// The text in the folder that a GRUB's image names: on the loader's own file system, or on a
/// partition of the same medium.
fn prefixed(prefix: &str) -> Option<(Named, String)> {
    let (on, folder) = match prefix.strip_prefix('(') {
        None => (Named::Own, prefix),
        Some(rest) => {
            let (device, folder) = rest.split_once(')')?;
            // Of another disk than the one that it starts from, nothing is known.
            let partition = device.strip_prefix(',')?;
            let number = partition.trim_start_matches(|sign: char| !sign.is_ascii_digit());
            (Named::Partition(number.parse().ok()?), folder)
        }
    };
    let folder = folder.trim_end_matches('/');
    folder
        .starts_with('/')
        .then(|| (on, format!("{folder}/grub.cfg")))
}

/// A legacy BIOS starts x86 alone.
fn by_boot_code(medium: &Medium<'_>, kind: LoaderKind) -> Way {
    let mut way = from_texts(medium, Firmware::LegacyBios, kind, None);
    let is_x86 = |one: Architecture| Architecture::X86Of64.runs(one);
    if let (Some(found), Some(starts)) = (way.architecture, &way.starts)
        && !is_x86(found)
    {
        let fault = Fault::KernelIsForOther {
            path: starts.kernel.clone(),
            wanted: Architecture::X86Of64,
            found: Some(found),
        };
        let at = starts.at.clone();
        way.add(Gravity::Fatal, fault, at);
    }
    way
}

/// Follows the first text that a loader of this kind reads.
fn from_texts(
    medium: &Medium<'_>,
    firmware: Firmware,
    kind: LoaderKind,
    architecture: Option<Architecture>,
) -> Way {
    let mut way = Way::new(firmware, kind, architecture);
    let texts = medium.texts();
    let is_for = |text: &&Text<'_>| match kind {
        LoaderKind::Grub => text.kind == LoaderKind::Grub,
        LoaderKind::Entries => text.kind == LoaderKind::Entries,
        _ => true,
    };
    let Some(text) = texts.iter().find(is_for) else {
        let gravity = match kind {
            LoaderKind::Grub | LoaderKind::Entries => Gravity::Fatal,
            _ => Gravity::Unknown,
        };
        way.add(gravity, Fault::NoConfiguration, Source::nowhere());
        return way;
    };
    let content = medium.text(text.on, &text.path).unwrap_or_default();
    let next = match text.kind {
        LoaderKind::Entries => Next::Entry(entries::read(&content)),
        _ if text.is_extlinux => extlinux::read(&content),
        _ => grub::read(&content),
    };
    let at = Source {
        partition: text.on.partition,
        path: text.path.clone(),
        line: 0,
    };
    go_on(medium, text.on, next, at, &mut way);
    way
}

/// Follows other configurations up to an entry.
fn go_on(medium: &Medium<'_>, own: &FilesystemOf, next: Next, at: Source, way: &mut Way) {
    let (mut own, mut next, mut at) = (own, next, at);
    for _ in 0..MAX_STEPS {
        let (on, path, line) = match next {
            Next::Entry(entry) => return start(medium, own, &entry, &at, way),
            Next::Nothing => break,
            Next::Other { on, path, line } => (on, path, line),
        };
        at.line = line;
        let Some(system) = medium.named(&on, own) else {
            let wanted = on.word();
            return way.add(Gravity::Fatal, Fault::FilesystemMissing { wanted }, at);
        };
        let Some(text) = medium.text(system, &path) else {
            return way.add(Gravity::Fatal, Fault::FileMissing { part: None, path }, at);
        };
        at = Source {
            partition: system.partition,
            path,
            line: 0,
        };
        (own, next) = (system, grub::read(&text));
    }
    way.add(Gravity::Fatal, Fault::NoEntry, at);
}

/// Follows an entry: what it loads, and the root that it names.
fn start(medium: &Medium<'_>, own: &FilesystemOf, entry: &Entry, text: &Source, way: &mut Way) {
    let at = |line: usize| Source {
        line,
        ..text.clone()
    };
    let Some(system) = medium.named(&entry.on, own) else {
        let wanted = entry.on.word();
        return way.add(
            Gravity::Fatal,
            Fault::FilesystemMissing { wanted },
            at(entry.line),
        );
    };
    let Some(kernel) = entry.kernel() else {
        return way.add(Gravity::Fatal, Fault::NoEntry, at(entry.line));
    };
    let folder = text.path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let placed = |load: &Load| {
        let path = load.path.replace('\\', "/");
        match path.starts_with('/') {
            true => path,
            false => format!("{folder}/{path}"),
        }
    };
    for load in &entry.loads {
        let path = placed(load);
        if !medium.has(system, &path) {
            let fault = Fault::FileMissing {
                part: Some(load.part),
                path,
            };
            way.add(Gravity::Fatal, fault, at(load.line));
        }
    }
    let path = placed(kernel);
    check_kernel(medium, system, &path, at(kernel.line), way);
    let initrd = entry.loads.iter().find(|load| load.part == Part::Initrd);
    way.starts = Some(Started {
        kernel: path,
        on: system.partition,
        initrd: initrd.map(placed),
        options: entry.options.trim().to_owned(),
        at: at(kernel.line),
        root: None,
        init: None,
    });
    root::check(medium, entry, &at(entry.line), way);
}

fn check_kernel(medium: &Medium<'_>, system: &FilesystemOf, path: &str, at: Source, way: &mut Way) {
    let Some(head) = medium.head(system, path, HEAD) else {
        return;
    };
    let found = Architecture::of_program(&head);
    let Some(wanted) = way.architecture else {
        way.architecture = found;
        return;
    };
    if found != Some(wanted) {
        let path = path.to_owned();
        let fault = Fault::KernelIsForOther {
            path,
            wanted,
            found,
        };
        way.add(Gravity::Fatal, fault, at);
    }
}

impl Way {
    fn new(firmware: Firmware, loader: LoaderKind, architecture: Option<Architecture>) -> Self {
        Self {
            firmware,
            loader,
            file: None,
            architecture,
            starts: None,
            findings: Vec::new(),
        }
    }

    /// What a loader of an unknown kind reads, and whether it needs it, is a guess.
    fn own_up(&mut self) {
        let is_wrong = |one: &Finding| matches!(one.fault, Fault::LoaderIsForOther { .. });
        let is_known = !matches!(self.loader, LoaderKind::Unknown | LoaderKind::Shim);
        if is_known || self.findings.iter().any(is_wrong) {
            return;
        }
        for finding in &mut self.findings {
            finding.gravity = finding.gravity.min(Gravity::Unknown);
        }
        let at = self.file.clone().unwrap_or_else(Source::nowhere);
        self.add(Gravity::Unknown, Fault::LoaderUnknown, at);
    }

    fn add(&mut self, gravity: Gravity, fault: Fault, at: Source) {
        self.findings.push(Finding { gravity, fault, at });
    }
}

impl Source {
    fn nowhere() -> Self {
        Self {
            partition: None,
            path: String::new(),
            line: 0,
        }
    }
}

impl Named {
    fn word(&self) -> String {
        match self {
            Self::Own => String::new(),
            Self::Id(id) => format!("UUID={id}"),
            Self::Label(label) => format!("LABEL={label}"),
            Self::File(path) => path.clone(),
            Self::Partition(number) => format!("partition {number}"),
        }
    }
}
