//! The start of a download, kept so that going back to it costs no request.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;

/// Bytes that are kept in memory: enough to look into most images before writing.
pub(super) const IN_MEMORY: u64 = 32 << 20;

/// All bytes from the first one on, as far as they have arrived and are kept.
#[derive(Debug)]
pub(super) enum Start {
    /// In memory, up to a limit.
    Memory(Vec<u8>),
    /// In a file, of which this many bytes are filled.
    File(File, u64),
}

impl Start {
    pub(super) fn len(&self) -> u64 {
        match self {
            Self::Memory(bytes) => bytes.len() as u64,
            Self::File(_, len) => *len,
        }
    }

    /// Copies bytes from `offset`; `None` if they are not kept.
    pub(super) fn copy(&self, buffer: &mut [u8], offset: u64) -> Option<io::Result<usize>> {
        let left = self.len().checked_sub(offset).filter(|left| *left > 0)?;
        let len = buffer
            .len()
            .min(usize::try_from(left).unwrap_or(usize::MAX));
        match self {
            Self::Memory(bytes) => {
                let offset = usize::try_from(offset).ok()?;
                buffer[..len].copy_from_slice(&bytes[offset..offset + len]);
                Some(Ok(len))
            }
            Self::File(file, _) => Some(file.read_at(&mut buffer[..len], offset)),
        }
    }

    /// Moves to memory what was kept in a file that cannot grow; a start that is too long for that
    /// stays in the file, and no longer grows.
    pub(super) fn move_to_memory(&mut self) -> io::Result<()> {
        if let Self::File(file, len) = self
            && *len < IN_MEMORY
        {
            let mut bytes = vec![0; *len as usize];
            file.read_exact_at(&mut bytes, 0)?;
            *self = Self::Memory(bytes);
        }
        Ok(())
    }

    /// Takes bytes that continue what is there; others are ignored.
    pub(super) fn append(&mut self, bytes: &[u8], offset: u64) -> io::Result<()> {
        let Some(known) = self.len().checked_sub(offset) else {
            return Ok(());
        };
        let Some(new) = usize::try_from(known).ok().and_then(|at| bytes.get(at..)) else {
            return Ok(());
        };
        match self {
            Self::Memory(kept) => {
                let room = IN_MEMORY.saturating_sub(kept.len() as u64) as usize;
                kept.extend(&new[..new.len().min(room)]);
            }
            Self::File(file, len) => {
                file.write_all_at(new, *len)?;
                *len += new.len() as u64;
            }
        }
        Ok(())
    }
}
