//! Reading back what was written, past the cache, and comparing digests chunk by chunk.

use std::thread;

use crossbeam_channel::bounded;
use pinewrit_disk::{AlignedBuf, BlockDevice, ByteRange, CHUNK_SIZE, DiskError};

use super::WriteError;
use crate::{Cancel, Observer, Progress, Stage};

/// Chunk buffers between reading and hashing.
const BUFFERS: usize = 4;

/// Compares all chunks but the first, which is not on the medium yet.
pub(super) fn verify(
    medium: &dyn BlockDevice,
    digests: &[blake3::Hash],
    image_bytes: u64,
    observer: &dyn Observer,
    cancel: &Cancel,
) -> Result<(), WriteError> {
    observer.stage(Stage::Verify, Some(image_bytes));
    medium.forget_cache(ByteRange {
        start: 0,
        end: medium.size(),
    });
    thread::scope(|scope| {
        // Made in here, so that an early end closes them and the other thread ends too.
        let (read_tx, read_rx) = bounded::<Result<(usize, AlignedBuf, usize), DiskError>>(BUFFERS);
        let (free_tx, free_rx) = bounded::<AlignedBuf>(BUFFERS);
        for _ in 0..BUFFERS {
            let _ = free_tx.send(AlignedBuf::new(CHUNK_SIZE));
        }
        scope.spawn(move || {
            for index in 1..digests.len() {
                let Ok(mut buffer) = free_rx.recv() else {
                    return;
                };
                let start = index as u64 * CHUNK_SIZE as u64;
                let len = (image_bytes - start).min(CHUNK_SIZE as u64) as usize;
                let read = medium.read_at(start, &mut buffer[..len]);
                if read_tx.send(read.map(|()| (index, buffer, len))).is_err() {
                    return;
                }
            }
        });
        let mut differing = Differing::default();
        for read in &read_rx {
            if cancel.is_cancelled() {
                return Err(WriteError::Cancelled);
            }
            let (index, buffer, len) = read?;
            let offset = index as u64 * CHUNK_SIZE as u64;
            if blake3::hash(&buffer[..len]) != digests[index] {
                differing.add(offset);
            }
            let done = offset + len as u64;
            observer.progress(Progress {
                done,
                total: Some(image_bytes),
                source_done: 0,
                source_total: 0,
            });
            let _ = free_tx.send(buffer);
        }
        differing.into_result()
    })
}

#[derive(Default)]
struct Differing {
    first: Option<u64>,
    chunks: u64,
}

impl Differing {
    fn add(&mut self, offset: u64) {
        self.first.get_or_insert(offset);
        self.chunks += 1;
    }

    fn into_result(self) -> Result<(), WriteError> {
        match self.first {
            None => Ok(()),
            Some(offset) => Err(WriteError::ReadBack {
                offset,
                chunks: self.chunks,
            }),
        }
    }
}
