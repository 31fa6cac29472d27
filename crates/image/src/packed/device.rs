//! A medium as the place of a source.

use std::fmt;
use std::io;
use std::sync::Arc;

use pinewrit_disk::BlockDevice;

use super::PackedBytes;

/// All of a medium.
#[derive(Clone)]
pub(crate) struct DeviceBytes(pub(crate) Arc<dyn BlockDevice>);

impl fmt::Debug for DeviceBytes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("DeviceBytes").field(&self.0.size()).finish()
    }
}

impl PackedBytes for DeviceBytes {
    fn size(&self) -> Option<u64> {
        Some(self.0.size())
    }

    fn device(&self) -> Option<&dyn BlockDevice> {
        Some(&*self.0)
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        let left = self.0.size().saturating_sub(offset);
        let len = buffer
            .len()
            .min(usize::try_from(left).unwrap_or(usize::MAX));
        let read = self.0.read_at(offset, &mut buffer[..len]);
        read.map(|()| len).map_err(io::Error::other)
    }
}
