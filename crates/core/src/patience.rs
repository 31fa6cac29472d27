//! Retrying failed requests in smaller pieces, to tell a bad place from a dead reader.

use pinewrit_disk::{BlockDevice, ByteRange, DiskError};
use rustix::io::Errno;

/// Sizes of the pieces of the second and third try, in bytes.
const SMALLER: [usize; 2] = [64 << 10, 4 << 10];

/// Writes `data`; returns how many requests had to be repeated.
///
/// # Errors
/// The place fails for the third time: the error has the offset of the smallest piece.
pub(crate) fn write(device: &dyn BlockDevice, offset: u64, data: &[u8]) -> Result<u32, DiskError> {
    match device.write_at(offset, data) {
        Err(error) if is_worth_another_try(&error) => {}
        done => return done.map(|()| 0),
    }
    in_pieces(data.len(), SMALLER[0], |from, to| {
        let again = device.write_at(offset + from as u64, &data[from..to]);
        if again.as_ref().is_err_and(is_worth_another_try) {
            return in_pieces(to - from, SMALLER[1], |low, high| {
                let piece = &data[from + low..from + high];
                device
                    .write_at(offset + (from + low) as u64, piece)
                    .map(|()| 1)
            });
        }
        again.map(|()| 1)
    })
}

/// Reads into `buffer`; returns how many requests had to be repeated.
///
/// # Errors
/// As [`write`].
pub(crate) fn read(
    device: &dyn BlockDevice,
    offset: u64,
    buffer: &mut [u8],
) -> Result<u32, DiskError> {
    match device.read_at(offset, buffer) {
        Err(error) if is_worth_another_try(&error) => {}
        done => return done.map(|()| 0),
    }
    in_pieces(buffer.len(), SMALLER[0], |from, to| {
        let again = device.read_at(offset + from as u64, &mut buffer[from..to]);
        if again.as_ref().is_err_and(is_worth_another_try) {
            return in_pieces(to - from, SMALLER[1], |low, high| {
                let piece = &mut buffer[from + low..from + high];
                device
                    .read_at(offset + (from + low) as u64, piece)
                    .map(|()| 1)
            });
        }
        again.map(|()| 1)
    })
}

fn in_pieces(
    len: usize,
    piece: usize,
    mut each: impl FnMut(usize, usize) -> Result<u32, DiskError>,
) -> Result<u32, DiskError> {
    let mut repeated = 0;
    for from in (0..len).step_by(piece) {
        repeated += each(from, len.min(from + piece))?;
    }
    Ok(repeated)
}

/// Whether a retry may help: not if the medium is gone or full.
fn is_worth_another_try(error: &DiskError) -> bool {
    let code = error.io().and_then(std::io::Error::raw_os_error);
    code.is_some_and(|code| {
        let error = Errno::from_raw_os_error(code);
        [Errno::IO, Errno::TIMEDOUT, Errno::REMOTEIO, Errno::ILSEQ].contains(&error)
    })
}

/// Whether a medium that failed at one place does not answer anywhere else either.
pub(crate) fn is_dead(device: &dyn BlockDevice) -> bool {
    let mut buffer = vec![0; 4096];
    let size = device.size().saturating_sub(buffer.len() as u64);
    let places = [0, size / 3, size / 2, size];
    places.into_iter().all(|place| {
        let place = place - place % 4096;
        let range = ByteRange {
            start: place,
            end: place + 4096,
        };
        device.forget_cache(range);
        device.read_at(place, &mut buffer).is_err()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use pinewrit_disk::{Fault, FaultyDevice, MemoryDevice};

    #[test]
    fn the_bad_place_is_found_and_the_rest_is_written() {
        let bad = ByteRange {
            start: 100_000,
            end: 100_001,
        };
        let inner = MemoryDevice::new(300_000);
        let device = FaultyDevice::new(inner, vec![Fault::WriteError(bad)]);
        let error = write(&device, 0, &[7; 300_000]).unwrap_err();
        assert!(
            matches!(error, DiskError::Io { offset: 98_304, .. }),
            "{error:?}"
        );
        assert_eq!(device.inner().to_bytes()[98_303], 7);
        assert!(!is_dead(&device));
    }

    #[test]
    fn a_medium_that_is_gone_is_not_tried_again() {
        let device = FaultyDevice::new(MemoryDevice::new(8192), vec![Fault::PulledAfter(0)]);
        assert!(write(&device, 0, &[7; 8192]).is_err());
        assert!(is_dead(&device));
    }
}
