//! An image as it is, in a file.

use std::fs::File;
use std::io;

use pinewrit_disk::{CacheUse, FileDevice, SectorSize};
use pinewrit_image::{ExpectedChecksum, ImageSource};

use super::{WriteError, WriteOptions, WriteOrder, WriteReport, write};
use crate::{Cancel, Observer};

/// The largest image whose size is not known beforehand, in bytes.
const MAX_UNKNOWN: u64 = 1 << 40;

/// Why an image was not unpacked.
#[derive(Debug, thiserror::Error)]
pub enum UnpackError {
    /// The file cannot be written.
    #[error("the file cannot be written")]
    File(#[source] io::Error),
    /// The image itself is bad, or the job was stopped.
    #[error(transparent)]
    Image(WriteError),
}

/// Unpacks `source` into `file`, which stays sparse where nothing is in use. It is not read back.
///
/// # Errors
/// [`UnpackError`]: the file is of no use then.
pub fn unpack(
    source: &ImageSource,
    file: &File,
    checksum: Option<&ExpectedChecksum>,
    observer: &dyn Observer,
    cancel: &Cancel,
) -> Result<WriteReport, UnpackError> {
    let most = source.unpacked_size().exact().unwrap_or(MAX_UNKNOWN);
    file.set_len(most).map_err(UnpackError::File)?;
    let own = file.try_clone().map_err(UnpackError::File)?;
    let device = FileDevice::new(own, most, SectorSize::B512, CacheUse::Cached);
    let options = WriteOptions {
        verify: false,
        checksum,
        as_it_is: true,
        ..WriteOptions::default()
    };
    let order = WriteOrder::plain(&device, observer);
    let report = write(source, &order, &options, cancel).map_err(|error| match error {
        // The file is the medium here.
        WriteError::Disk(error) | WriteError::Dead(error) | WriteError::Clear(error) => {
            UnpackError::File(io::Error::other(error))
        }
        error => UnpackError::Image(error),
    })?;
    file.set_len(report.image_bytes)
        .map_err(UnpackError::File)?;
    Ok(report)
}
