//! Whether a medium starts, in words.

use pinewrit_boards::chain::{
    Fault, Finding, Firmware, Gravity, LoaderKind, Source, Started, Verdict, Way,
};

use crate::style;

/// A way from the firmware to the first program, in lines: the way itself, where it leads, and what
/// is wrong with it.
pub fn way(way: &Way) -> Vec<String> {
    let mut lines = vec![head(way)];
    if let Some(starts) = &way.starts {
        lines.push(format!("  {}", started(starts)));
    }
    let mut findings: Vec<&Finding> = way.findings.iter().collect();
    findings.sort_by_key(|one| std::cmp::Reverse(one.gravity));
    for finding in findings {
        let (style, word) = match finding.gravity {
            Gravity::Fatal => (style::ERROR, "wrong: "),
            Gravity::Unknown => (style::WARNING, "not known: "),
            Gravity::Remark => (style::DIM, "note: "),
        };
        let text = fault(&finding.fault);
        lines.push(format!(
            "  {style}{word}{style:#}{text}{}",
            place(&finding.at)
        ));
        if let Some(remedy) = remedy(&finding.fault) {
            lines.push(format!("  → {remedy}"));
        }
    }
    lines
}

/// A verdict in a word or three.
pub fn verdict(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Starts => "starts",
        Verdict::CannotBeTold => "cannot be told",
        Verdict::DoesNotStart => "does not start",
    }
}

fn head(way: &Way) -> String {
    let (style, word) = match way.verdict() {
        Verdict::Starts => (style::GOOD, "starts"),
        Verdict::CannotBeTold => (style::WARNING, "cannot be told"),
        Verdict::DoesNotStart => (style::ERROR, "does not start"),
    };
    let on = match (way.firmware, way.architecture) {
        (Firmware::Uefi, Some(architecture)) => format!("UEFI on {}", architecture.word()),
        (Firmware::Uefi, None) => "UEFI".to_owned(),
        (Firmware::LegacyBios, _) => "legacy BIOS".to_owned(),
        (Firmware::Own, _) => "a loader of the board's own".to_owned(),
    };
    let kind = loader(way.loader).map_or(String::new(), |kind| format!(", {kind}"));
    let file = way.file.as_ref().map_or(String::new(), |file| {
        let place = file
            .partition
            .map_or(String::new(), |number| format!("{number}:"));
        format!(", {place}{}", file.path)
    });
    format!("{on}{kind}{file}: {style}{word}{style:#}")
}

fn loader(kind: LoaderKind) -> Option<&'static str> {
    Some(match kind {
        LoaderKind::Grub => "GRUB",
        LoaderKind::Entries => "boot entries",
        LoaderKind::Shim => "a signed loader for the next one",
        LoaderKind::Unified => "a unified kernel image",
        LoaderKind::Kernel => "a kernel without a loader",
        LoaderKind::Unknown => return None,
    })
}

fn started(starts: &Started) -> String {
    let root = starts.root.map_or(String::new(), |number| {
        format!(", root on partition {number}")
    });
    let init = starts
        .init
        .as_ref()
        .map_or(String::new(), |init| format!(", then {init}"));
    format!("{}{root}{init}", starts.kernel)
}

/// `, 1:/boot/grub/grub.cfg line 7`.
fn place(at: &Source) -> String {
    if at.path.is_empty() {
        return String::new();
    }
    let partition = at
        .partition
        .map_or(String::new(), |number| format!("{number}:"));
    let line = match at.line {
        0 => String::new(),
        line => format!(" line {line}"),
    };
    format!(" ({partition}{}{line})", at.path)
}

/// What is wrong.
pub fn fault(fault: &Fault) -> String {
    match fault {
        Fault::LoaderIsForOther { wanted, found } => match found {
            Some(found) => format!("the loader is for {}, not {}", found.word(), wanted.word()),
            None => format!("the loader is no executable for {}", wanted.word()),
        },
        Fault::LoaderUnknown => "the loader is of an unknown kind".to_owned(),
        Fault::NoConfiguration => "no configuration of a loader was found".to_owned(),
        Fault::NoEntry => "it names no kernel".to_owned(),
        Fault::FilesystemMissing { wanted } => {
            format!("it looks for a file system that is not there: {wanted}")
        }
        Fault::FileMissing { part, path } => {
            let part = part.map_or("the configuration", |part| match part.word() {
                "kernel" => "the kernel",
                "initrd" => "the initrd",
                _ => "the device tree",
            });
            format!("{part} {path} is not there")
        }
        Fault::KernelIsForOther {
            path,
            wanted,
            found,
        } => match found {
            Some(found) => format!("{path} is for {}, not {}", found.word(), wanted.word()),
            None => format!("{path} is no kernel for {}", wanted.word()),
        },
        Fault::RootMissing { wanted } => format!("no partition is root={wanted}"),
        Fault::RootNeedsInitrd { wanted } => {
            format!("root={wanted} is found by an initrd only, and there is none")
        }
        Fault::RootByDevice { wanted } => {
            format!("root={wanted} is another disk's if the board has more than one")
        }
        Fault::NoRoot => "the command line has no root=".to_owned(),
        Fault::NoInit { wanted } => format!("the root has no {wanted}"),
        Fault::InitIsForOther {
            path,
            wanted,
            found,
        } => format!(
            "{path} is for {}, and the kernel for {}",
            found.word(),
            wanted.word()
        ),
        Fault::MountMissing {
            wanted,
            mount_point,
        } => {
            format!("{wanted} for {mount_point} is not on the medium")
        }
        Fault::Unreadable { why } => format!("it cannot be followed further: {why}"),
    }
}

fn remedy(fault: &Fault) -> Option<&'static str> {
    Some(match fault {
        Fault::LoaderIsForOther { .. }
        | Fault::KernelIsForOther { .. }
        | Fault::InitIsForOther { .. } => "take the image for the board's processor",
        Fault::FileMissing { .. } => "pinewrit files put MEDIUM PARTITION:/path FILE puts it there",
        Fault::RootMissing { .. } | Fault::FilesystemMissing { .. } => {
            "pinewrit inspect MEDIUM lists the identifiers; pinewrit files edit MEDIUM PLACE changes the line"
        }
        Fault::RootNeedsInitrd { .. } => "name the partition: root=PARTUUID=…",
        Fault::RootByDevice { .. } => "root=PARTUUID=… is found wherever the medium is",
        Fault::MountMissing { .. } => {
            "pinewrit files edit MEDIUM PLACE changes the line; nofail lets it start without"
        }
        _ => return None,
    })
}
