//! Swap: a file with its line in fstab(5), and compressed memory.

use pinewrit_ext4::EditError;
use pinewrit_settings::CheckedSettings;
use pinewrit_volume::files::{FilesError, Rights};
use pinewrit_volume::format::swap_header;

use super::writer::{Secrecy, Writer};
use super::{RootError, services};

const SWAP: &str = "/swapfile";
const FSTAB: &str = "/etc/fstab";

pub(super) fn apply(
    writer: &mut Writer<'_, '_>,
    settings: &CheckedSettings,
) -> Result<(), RootError> {
    match settings.swap {
        Some(size) => put_swap(writer, size)?,
        None => drop_swap(writer)?,
    }
    if settings.zram == Some(false) {
        for unit in ["systemd-zram-setup@zram0.service", "zramswap.service"] {
            services::mask(writer, unit)?;
        }
        let generator = "/usr/lib/systemd/system-generators/zram-generator";
        if writer.has(generator)? {
            writer.link("/etc/systemd/zram-generator.conf", "/dev/null")?;
        }
    }
    Ok(())
}

/// The swap file of an earlier run is removed with its setting; its line in fstab is taken back
/// like all edits.
fn drop_swap(writer: &mut Writer<'_, '_>) -> Result<(), FilesError> {
    if writer.old.as_ref().is_some_and(|old| old.has_swap) {
        writer.remove(SWAP)
    } else {
        Ok(())
    }
}

fn put_swap(writer: &mut Writer<'_, '_>, size: u64) -> Result<(), RootError> {
    let made_before = writer.old.as_ref().is_some_and(|old| old.has_swap);
    writer.state.has_swap = made_before || !writer.files.has_name(SWAP)?;
    // Rounded to whole pages.
    let size = size / 4096 * 4096;
    if writer.files.size_of(SWAP)? != Some(size) {
        if writer.files.has_name(SWAP)? {
            writer.files.remove(SWAP)?;
        }
        let uuid = *uuid::Uuid::new_v4().as_bytes();
        let header = swap_header(size, uuid, "");
        let room = writer.files.free_bytes()?;
        match writer
            .files
            .reserve(SWAP, Rights::root(0o600), size, &header)
        {
            Err(FilesError::Edit(EditError::NoSpace { .. })) => {
                return Err(RootError::NoRoomForSwap { size, room });
            }
            done => done?,
        }
        writer.changes.push(crate::intake::FileChange {
            path: SWAP.to_owned(),
            kind: crate::intake::ChangeKind::New,
            diff: String::new(),
            hidden: false,
        });
    }
    let fstab = writer.text(FSTAB)?.unwrap_or_default();
    let has_line = fstab
        .lines()
        .any(|line| line.split_whitespace().next() == Some(SWAP));
    if has_line {
        return Ok(());
    }
    let newline = if fstab.is_empty() || fstab.ends_with('\n') {
        ""
    } else {
        "\n"
    };
    let text = format!("{fstab}{newline}{SWAP} none swap sw 0 0\n");
    Ok(writer.shared(FSTAB, Rights::root(0o644), &text, Secrecy::Open)?)
}
