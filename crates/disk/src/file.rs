//! Regular files and block devices of the system as a [`BlockDevice`].

use std::fs::{File, OpenOptions};
use std::os::fd::AsFd;
use std::os::unix::fs::{FileExt, FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::Path;
use std::{fmt, io};

use rustix::fs::{Advice, FallocateFlags, Mode, OFlags};
use rustix::ioctl::{Setter, opcode};

use crate::device::{Operation, check_range};
use crate::{BUFFER_ALIGNMENT, BlockDevice, ByteRange, DiskError, SectorSize};

/// Whether large transfers go through the system's page cache.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CacheUse {
    /// Everything goes through the cache.
    Cached,
    /// Aligned transfers go straight to the medium where the file system allows it.
    Direct,
}

/// An open file or block device.
pub struct FileDevice {
    cached: File,
    direct: Option<File>,
    size: u64,
    sector: SectorSize,
    is_block: bool,
}

impl FileDevice {
    /// Wraps an open file or block device of `size` bytes.
    ///
    /// With [`CacheUse::Direct`] a second descriptor of the same open device is made for direct
    /// I/O; where the file system refuses that, all transfers use the cache.
    pub fn new(file: File, size: u64, sector: SectorSize, cache: CacheUse) -> Self {
        let direct = match cache {
            CacheUse::Cached => None,
            CacheUse::Direct => reopen_direct(&file).ok(),
        };
        let is_block = file
            .metadata()
            .is_ok_and(|m| m.file_type().is_block_device());
        Self {
            cached: file,
            direct,
            size,
            sector,
            is_block,
        }
    }

    fn check_write(&self, range: ByteRange) -> Result<(), DiskError> {
        let len = usize::try_from(range.len()).unwrap_or(usize::MAX);
        check_range(Operation::Write, range.start, len, self.size)
    }

    /// The device's file descriptor, for requests that are not transfers.
    pub fn file(&self) -> &File {
        &self.cached
    }

    /// Whether aligned transfers bypass the page cache.
    pub fn is_direct(&self) -> bool {
        self.direct.is_some()
    }

    /// How many bytes of a transfer can bypass the cache: all whole `units` of an aligned one.
    fn direct_part(&self, offset: u64, bytes: &[u8], unit: usize) -> Option<(&File, usize)> {
        let direct = self.direct.as_ref()?;
        let aligned = offset.is_multiple_of(unit as u64)
            && (bytes.as_ptr() as usize).is_multiple_of(BUFFER_ALIGNMENT);
        let whole = bytes.len() - bytes.len() % unit;
        (aligned && whole > 0).then_some((direct, whole))
    }

    /// The cache reads whole pages; of a page with a bad sector, a block device still gives the others.
    fn read_unit(&self) -> usize {
        if self.is_block {
            self.sector.bytes() as usize
        } else {
            BUFFER_ALIGNMENT
        }
    }
}

impl fmt::Debug for FileDevice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("FileDevice")
            .field("size", &self.size)
            .field("direct", &self.is_direct())
            .finish_non_exhaustive()
    }
}

/// Opens the same device once more with `O_DIRECT`, through its descriptor, so that a path that
/// now leads to another device cannot slip in.
fn reopen_direct(file: &File) -> io::Result<File> {
    use std::os::fd::AsRawFd;
    let path = format!("/proc/self/fd/{}", file.as_fd().as_raw_fd());
    let access = rustix::fs::fcntl_getfl(file)? & OFlags::ACCMODE;
    let flags = access | OFlags::DIRECT | OFlags::CLOEXEC;
    let direct = File::from(rustix::fs::open(path, flags, Mode::empty())?);
    let (first, second) = (file.metadata()?, direct.metadata()?);
    if (first.dev(), first.ino(), first.rdev()) != (second.dev(), second.ino(), second.rdev()) {
        return Err(io::ErrorKind::NotFound.into());
    }
    Ok(direct)
}

/// Tells a block device that a range is no longer needed.
fn discard_blocks(file: &File, range: ByteRange) -> io::Result<()> {
    /// `BLKDISCARD` of `linux/fs.h`: a pair of offset and length.
    type Request = Setter<{ opcode::none(0x12, 119) }, [u64; 2]>;
    // SAFETY: BLKDISCARD reads two 64-bit numbers, which the request holds, and touches no other
    // memory of this process; files other than block devices answer ENOTTY.
    let asked = unsafe { rustix::ioctl::ioctl(file, Request::new([range.start, range.len()])) };
    Ok(asked?)
}

fn failed(operation: Operation, offset: u64) -> impl Fn(io::Error) -> DiskError {
    move |source| match source.raw_os_error() {
        Some(code) if code == rustix::io::Errno::BADF.raw_os_error() => DiskError::ReadOnly,
        _ => DiskError::Io {
            operation,
            offset,
            source,
        },
    }
}

impl BlockDevice for FileDevice {
    fn size(&self) -> u64 {
        self.size
    }

    fn logical_sector(&self) -> SectorSize {
        self.sector
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        check_range(Operation::Read, offset, buffer.len(), self.size)?;
        let failed = failed(Operation::Read, offset);
        let mut done = 0;
        if let Some((direct, whole)) = self.direct_part(offset, buffer, self.read_unit()) {
            direct
                .read_exact_at(&mut buffer[..whole], offset)
                .map_err(&failed)?;
            done = whole;
        }
        self.cached
            .read_exact_at(&mut buffer[done..], offset + done as u64)
            .map_err(&failed)
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        check_range(Operation::Write, offset, data.len(), self.size)?;
        let failed = failed(Operation::Write, offset);
        let mut done = 0;
        if let Some((direct, whole)) = self.direct_part(offset, data, BUFFER_ALIGNMENT) {
            direct
                .write_all_at(&data[..whole], offset)
                .map_err(&failed)?;
            done = whole;
        }
        self.cached
            .write_all_at(&data[done..], offset + done as u64)
            .map_err(&failed)
    }

    /// A hole in a regular file reads as zeros and takes no space; a block device takes the same
    /// request only where it guarantees zeros without a transfer (`blkdev_fallocate` in the kernel).
    fn zero_cheaply(&self, range: ByteRange) -> Result<bool, DiskError> {
        self.check_write(range)?;
        let flags = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
        let asked = range.is_empty()
            || rustix::fs::fallocate(&self.cached, flags, range.start, range.len()).is_ok();
        Ok(asked)
    }

    fn discard(&self, range: ByteRange) -> Result<bool, DiskError> {
        self.check_write(range)?;
        if self.is_block {
            Ok(discard_blocks(&self.cached, range).is_ok())
        } else {
            self.zero_cheaply(range)
        }
    }

    fn flush(&self) -> Result<(), DiskError> {
        // `sync_all`, not `sync_data`: it also reports write-back errors of the cache.
        self.cached
            .sync_all()
            .map_err(failed(Operation::Flush, self.size))
    }

    fn forget_cache(&self, range: ByteRange) {
        let len = std::num::NonZeroU64::new(range.len());
        // Only advice: where it is refused, direct reads still bypass the cache.
        let _ = rustix::fs::fadvise(&self.cached, range.start, len, Advice::DontNeed);
    }
}

/// Opens a regular file for reading, and nothing else: a pipe would wait for its writer, and a device may
/// never end.
///
/// # Errors
/// The system's, or what it is instead of a file.
pub fn open_plain(path: &Path) -> io::Result<File> {
    let mut options = OpenOptions::new();
    options.read(true);
    options.custom_flags(OFlags::NONBLOCK.bits() as i32);
    let file = options.open(path)?;
    let kind = file.metadata()?.file_type();
    let what = if kind.is_file() {
        return Ok(file);
    } else if kind.is_dir() {
        "a folder"
    } else if kind.is_fifo() {
        "a pipe"
    } else {
        "a device"
    };
    let detail = format!("it is {what}, not a file");
    Err(io::Error::new(io::ErrorKind::InvalidInput, detail))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::AlignedBuf;
    use std::fs::OpenOptions;

    fn card(size: u64, cache: CacheUse) -> FileDevice {
        let file = tempfile::tempfile().unwrap();
        file.set_len(size).unwrap();
        FileDevice::new(file, size, SectorSize::B512, cache)
    }

    #[test]
    fn direct_and_cached_transfers_see_the_same_bytes() {
        let device = card(1 << 20, CacheUse::Direct);
        let mut block = AlignedBuf::new(8192);
        block.fill(0xa5);
        device.write_at(4096, &block).unwrap();
        device.write_at(5000, b"small").unwrap();
        let mut back = AlignedBuf::new(8192);
        device.flush().unwrap();
        device.read_at(4096, &mut back).unwrap();
        assert_eq!(&back[904..909], b"small");
        assert_eq!(back[0], 0xa5);
    }

    #[test]
    fn zeroing_keeps_the_size_and_its_neighbours() {
        let device = card(100_000, CacheUse::Cached);
        device.write_at(0, &[1; 100_000]).unwrap();
        let middle = ByteRange {
            start: 10,
            end: 90_000,
        };
        device.zero(middle).unwrap();
        let mut all = vec![9; 100_000];
        device.read_at(0, &mut all).unwrap();
        assert_eq!(all.iter().map(|&b| usize::from(b)).sum::<usize>(), 10_010);
    }

    #[test]
    fn a_device_open_for_reading_says_so() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("card.img");
        std::fs::write(&path, [0; 4096]).unwrap();
        let file = OpenOptions::new().read(true).open(&path).unwrap();
        let device = FileDevice::new(file, 4096, SectorSize::B512, CacheUse::Cached);
        assert!(matches!(device.write_at(0, b"x"), Err(DiskError::ReadOnly)));
    }
}
