//! The root file system that the command line names, its first program, and what it mounts.

use pinewrit_volume::Architecture;
use pinewrit_volume::files::FilesystemOf;

use super::entry::Entry;
use super::found::{Fault, Gravity, LoaderKind, Source, Way};
use super::program::interpreter;
use super::{HEAD, Medium};

/// Where kernels and initrds look for the first program.
const INITS: &[&str] = &["/sbin/init", "/etc/init", "/bin/init", "/bin/sh"];
/// The most programs that run each other.
const MAX_INTERPRETERS: usize = 5;
/// Words of command lines of systems that have their root in a file.
const LIVE: &[&str] = &[
    "boot=live",
    "boot=casper",
    "root=live:",
    "iso-scan/filename=",
];

/// What a name of a file system or partition leads to.
enum Resolved<'m> {
    Found(&'m FilesystemOf),
    /// A device by its number, and what is there on this medium.
    ByDevice(Option<&'m FilesystemOf>),
    Missing,
    /// Not a name of something on a medium.
    Other,
}

/// Checks what `root=` names.
pub(super) fn check(medium: &Medium<'_>, entry: &Entry, at: &Source, way: &mut Way) {
    if LIVE.iter().any(|word| entry.options.contains(word)) {
        let why = "the root is in a file of a live system".to_owned();
        return way.add(Gravity::Unknown, Fault::Unreadable { why }, at.clone());
    }
    let Some(wanted) = entry.option("root").map(str::to_owned) else {
        // A program in a loader's place may need none, or have a command line built in.
        let is_alone = way.loader == LoaderKind::Kernel;
        let gravity = match entry.has_initrd() || is_alone {
            true => Gravity::Unknown,
            false => Gravity::Fatal,
        };
        return way.add(gravity, Fault::NoRoot, at.clone());
    };
    let system = match resolve(medium, &wanted) {
        Resolved::Missing => {
            return way.add(Gravity::Fatal, Fault::RootMissing { wanted }, at.clone());
        }
        Resolved::Other => {
            let why = format!("root={wanted}");
            return way.add(Gravity::Unknown, Fault::Unreadable { why }, at.clone());
        }
        Resolved::ByDevice(None) => {
            return way.add(Gravity::Fatal, Fault::RootMissing { wanted }, at.clone());
        }
        Resolved::ByDevice(Some(system)) => {
            way.add(Gravity::Remark, Fault::RootByDevice { wanted }, at.clone());
            system
        }
        Resolved::Found(system) => {
            if !entry.has_initrd() && needs_initrd(&wanted) {
                way.add(
                    Gravity::Fatal,
                    Fault::RootNeedsInitrd { wanted },
                    at.clone(),
                );
            }
            system
        }
    };
    if let Some(starts) = &mut way.starts {
        starts.root = system.partition;
    }
    look_into(medium, system, entry, at, way);
}

/// The kernel itself knows partitions, but nothing of what is in them
/// (`Documentation/admin-guide/kernel-parameters`, `root=`).
fn needs_initrd(wanted: &str) -> bool {
    let by_content = ["UUID=", "LABEL=", "/dev/disk/"];
    by_content.iter().any(|start| wanted.starts_with(start))
}

fn look_into(medium: &Medium<'_>, root: &FilesystemOf, entry: &Entry, at: &Source, way: &mut Way) {
    let on_root = |path: &str, line: usize| Source {
        partition: root.partition,
        path: path.to_owned(),
        line,
    };
    if !root.facts.kind.has_files() {
        let why = root.facts.kind.word().to_owned();
        return way.add(Gravity::Unknown, Fault::Unreadable { why }, at.clone());
    }
    let chosen = entry.option("init");
    let inits: Vec<&str> = chosen.map_or_else(|| INITS.to_vec(), |init| vec![init]);
    let there = inits.iter().find_map(|path| {
        let head = medium.head(root, path, HEAD)?;
        Some((*path, head))
    });
    let Some((path, head)) = there else {
        let fault = Fault::NoInit {
            wanted: inits[0].to_owned(),
        };
        return way.add(Gravity::Fatal, fault, on_root(inits[0], 0));
    };
    runs(medium, root, (path, head), way);
    if let Some(starts) = &mut way.starts {
        starts.init = Some(path.to_owned());
    }
    check_mounts(medium, root, way);
}

/// Whether the first program runs on this architecture, and what runs it is there.
fn runs(medium: &Medium<'_>, root: &FilesystemOf, (path, head): (&str, Vec<u8>), way: &mut Way) {
    let at = |path: &str| Source {
        partition: root.partition,
        path: path.to_owned(),
        line: 0,
    };
    let (mut path, mut head) = (path.to_owned(), head);
    for _ in 0..MAX_INTERPRETERS {
        let found = head
            .starts_with(b"\x7fELF")
            .then(|| Architecture::of_program(&head));
        if let (Some(Some(found)), Some(wanted)) = (found, way.architecture)
            && !wanted.runs(found)
        {
            let at = at(&path);
            let fault = Fault::InitIsForOther {
                path,
                wanted,
                found,
            };
            return way.add(Gravity::Fatal, fault, at);
        }
        let Some(next) = interpreter(&head) else {
            return;
        };
        let Some(content) = medium.head(root, &next, HEAD) else {
            return way.add(Gravity::Fatal, Fault::NoInit { wanted: next }, at(&path));
        };
        (path, head) = (next, content);
    }
}

/// File systems in `fstab` that do not exist (fstab(5)); without `nofail`, systems wait for them and
/// stop.
fn check_mounts(medium: &Medium<'_>, root: &FilesystemOf, way: &mut Way) {
    let path = "/etc/fstab";
    let Some(text) = medium.text(root, path) else {
        return;
    };
    for (index, line) in text.lines().enumerate() {
        let mut words = line.split_ascii_whitespace();
        let (Some(what), Some(at), Some(kind)) = (words.next(), words.next(), words.next()) else {
            continue;
        };
        let options = words.next().unwrap_or_default();
        let is_optional = options
            .split(',')
            .any(|word| matches!(word, "nofail" | "noauto"));
        if what.starts_with('#') || is_optional {
            continue;
        }
        if !matches!(
            resolve(medium, what),
            Resolved::Missing | Resolved::ByDevice(None)
        ) {
            continue;
        }
        // Swap that is missing is waited for, but not needed.
        let gravity = match kind == "swap" {
            true => Gravity::Remark,
            false => Gravity::Fatal,
        };
        let fault = Fault::MountMissing {
            wanted: what.to_owned(),
            mount_point: at.to_owned(),
        };
        let source = Source {
            partition: root.partition,
            path: path.to_owned(),
            line: index + 1,
        };
        way.add(gravity, fault, source);
    }
}

fn resolve<'m>(medium: &'m Medium<'_>, name: &str) -> Resolved<'m> {
    let bare = |value: &str| value.trim_matches('"').to_owned();
    let by_path = |folder: &str| {
        name.strip_prefix("/dev/disk/")?
            .strip_prefix(folder)
            .map(bare)
    };
    let value = |key: &str, folder: &str| {
        let word = name
            .split_once('=')
            .filter(|(found, _)| found.eq_ignore_ascii_case(key));
        word.map(|(_, value)| bare(value))
            .or_else(|| by_path(folder))
    };
    let found =
        |system: Option<&'m FilesystemOf>| system.map_or(Resolved::Missing, Resolved::Found);
    let mut systems = medium.systems.iter();
    if let Some(id) = value("UUID", "by-uuid/") {
        return found(systems.find(|one| is_same(one.facts.id.as_deref(), &id)));
    }
    if let Some(label) = value("LABEL", "by-label/") {
        return found(systems.find(|one| one.facts.label.as_deref() == Some(label.as_str())));
    }
    if let Some(label) = value("PARTLABEL", "by-partlabel/") {
        return found(systems.find(|one| one.name.as_deref() == Some(label.as_str())));
    }
    if let Some(id) = value("PARTUUID", "by-partuuid/") {
        return found(systems.find(|one| is_same(medium.partuuid(one).as_deref(), &id)));
    }
    match partition_of_device(name) {
        Some(number) => Resolved::ByDevice(systems.find(|one| one.partition == Some(number))),
        None => Resolved::Other,
    }
}

fn is_same(found: Option<&str>, wanted: &str) -> bool {
    found.is_some_and(|found| found.eq_ignore_ascii_case(wanted))
}

/// The number in `/dev/sda2` or `/dev/mmcblk0p2`.
fn partition_of_device(name: &str) -> Option<u32> {
    let device = name.strip_prefix("/dev/")?;
    let kinds = ["sd", "vd", "hd", "xvd", "mmcblk", "nvme"];
    if !kinds.iter().any(|kind| device.starts_with(kind)) {
        return None;
    }
    let start = device.trim_end_matches(|sign: char| sign.is_ascii_digit());
    let is_numbered = device.starts_with("mmcblk") || device.starts_with("nvme");
    if is_numbered && !start.ends_with('p') {
        return None;
    }
    device[start.len()..].parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("/dev/sda2", Some(2))]
    #[case("/dev/mmcblk1p12", Some(12))]
    #[case("/dev/mmcblk0", None)]
    #[case("/dev/nvme0n1p3", Some(3))]
    #[case("/dev/mapper/hut1", None)]
    #[case("tmpfs", None)]
    fn devices(#[case] name: &str, #[case] number: Option<u32>) {
        assert_eq!(partition_of_device(name), number);
    }
}
