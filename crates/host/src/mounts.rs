//! What is mounted, and what is in use as swap: `/proc/self/mountinfo` and `/proc/swaps`.

use std::ffi::OsString;
use std::fs;
use std::io;
use std::os::unix::ffi::OsStringExt;
use std::path::{Path, PathBuf};

use crate::{BlockName, SystemRoots};

/// A block device and the place where it is mounted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mount {
    /// The device, often a partition.
    pub device: BlockName,
    /// Where it is mounted.
    pub point: PathBuf,
    /// Nothing is written to it.
    pub is_read_only: bool,
}

impl SystemRoots {
    /// Every mount of a block device.
    ///
    /// File systems with device numbers of their own (major 0) are found by their source.
    ///
    /// # Errors
    /// The list cannot be read. It must not be taken for an empty one.
    pub(crate) fn mounts(&self) -> io::Result<Vec<Mount>> {
        Ok(self.parse_mounts(&fs::read(self.proc.join("self/mountinfo"))?))
    }

    /// The mounts of block devices in a list of the kernel.
    pub(crate) fn parse_mounts(&self, text: &[u8]) -> Vec<Mount> {
        let lines = text.split(|&byte| byte == b'\n');
        lines.filter_map(|line| self.parse_mount(line)).collect()
    }

    /// One line, proc_pid_mountinfo(5): fields 3 (major:minor) and 5 (mount point); the source
    /// is the second field after the separator `-`.
    fn parse_mount(&self, line: &[u8]) -> Option<Mount> {
        let fields: Vec<&[u8]> = line.split(|&byte| byte == b' ').collect();
        let number = std::str::from_utf8(fields.get(2)?).ok()?;
        let (major, minor) = number.split_once(':')?;
        let (major, minor) = (major.parse().ok()?, minor.parse().ok()?);
        let point = unescape(fields.get(4)?);
        let device = if major == 0 {
            let separator = fields.iter().position(|field| *field == b"-")?;
            self.by_path(&unescape(fields.get(separator + 2)?))
        } else {
            self.by_number(major, minor)
        };
        // The options of the file system, not those of one mount of it.
        let options = fields.last()?.split(|&byte| byte == b',').next()?;
        Some(Mount {
            device: device?,
            point,
            is_read_only: options == b"ro",
        })
    }

    /// The device of the mount that a path lies in, by the longest mount point that leads to it. Of an
    /// overlay, the device that takes its changes.
    pub(crate) fn device_mounted_over(&self, path: &Path) -> Option<BlockName> {
        let text = fs::read(self.proc.join("self/mountinfo")).ok()?;
        let lines = text.split(|&byte| byte == b'\n');
        let over = lines.filter_map(|line| {
            let fields: Vec<&[u8]> = line.split(|&byte| byte == b' ').collect();
            let point = unescape(fields.get(4)?);
            let depth = point.components().count();
            path.starts_with(&point).then_some((depth, line, fields))
        });
        // Of two mounts at one place, the later one is visible.
        let (_, line, fields) = over.max_by_key(|(depth, ..)| *depth)?;
        if let Some(mount) = self.parse_mount(line) {
            return Some(mount.device);
        }
        let options = fields.last()?.split(|&byte| byte == b',');
        let mut upper = options.filter_map(|option| option.strip_prefix(b"upperdir="));
        let upper = unescape(upper.next_back()?);
        // The search through stacked overlays ends when a path gets no shorter.
        (upper != path && !path.starts_with(&upper))
            .then(|| self.device_of_file(&upper))
            .flatten()
    }

    /// The block devices in use as swap.
    ///
    /// # Errors
    /// The list cannot be read. A kernel without swap has no list, which is fine.
    pub(crate) fn swaps(&self) -> io::Result<Vec<BlockName>> {
        let text = match fs::read(self.proc.join("swaps")) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Vec::new(),
            read => read?,
        };
        let swaps = text
            .split(|&byte| byte == b'\n')
            .skip(1)
            .filter_map(|line| {
                let mut fields = line
                    .split(|byte| byte.is_ascii_whitespace())
                    .filter(|field| !field.is_empty());
                let path = unescape(fields.next()?);
                match fields.next() {
                    // A swap file keeps its disk in use.
                    Some(b"file") => self.device_of_file(&path),
                    _ => self.by_path(&path),
                }
            });
        Ok(swaps.collect())
    }
}

/// Undoes the kernel's octal escapes of blanks and backslashes.
fn unescape(field: &[u8]) -> PathBuf {
    let mut bytes = Vec::with_capacity(field.len());
    let mut rest = field;
    while let [first, tail @ ..] = rest {
        let octal = match rest {
            [b'\\', a @ b'0'..=b'3', b @ b'0'..=b'7', c @ b'0'..=b'7', ..] => {
                Some((a - b'0') * 64 + (b - b'0') * 8 + (c - b'0'))
            }
            _ => None,
        };
        bytes.push(octal.unwrap_or(*first));
        rest = if octal.is_some() { &rest[4..] } else { tail };
    }
    PathBuf::from(OsString::from_vec(bytes))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn octal_escapes_are_undone() {
        assert_eq!(
            unescape(br"/media/hut\040card"),
            PathBuf::from("/media/hut card")
        );
        assert_eq!(unescape(br"/a\134b\9\04"), PathBuf::from(r"/a\b\9\04"));
    }
}
