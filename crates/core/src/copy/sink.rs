//! Where a saved image goes: one file or numbered pieces, hashed on the way.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use pinewrit_image::{Checksum, ChecksumKind, Hasher};

/// A file of the image, and how large it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Piece {
    pub(super) name: String,
    pub(super) bytes: u64,
}

/// Takes the bytes of an image in order.
pub(super) struct Sink {
    folder: PathBuf,
    name: String,
    /// The largest piece in bytes; one file without it.
    most: Option<u64>,
    pieces: Vec<Piece>,
    file: Option<File>,
    hasher: Hasher,
}

impl Sink {
    /// A sink for the image `name` in a folder.
    pub(super) fn new(folder: &Path, name: &str, most: Option<u64>) -> Self {
        Self {
            folder: folder.to_owned(),
            name: name.to_owned(),
            most,
            pieces: Vec::new(),
            file: None,
            hasher: ChecksumKind::Sha256.hasher(),
        }
    }

    /// The first file, by which the image is opened.
    pub(super) fn first(&self) -> PathBuf {
        let first = self
            .pieces
            .first()
            .map_or(self.name.as_str(), |piece| &piece.name);
        self.folder.join(first)
    }

    fn next_file(&mut self) -> io::Result<()> {
        self.close()?;
        let name = match self.most {
            None => self.name.clone(),
            Some(_) => format!("{}.{:03}", self.name, self.pieces.len() + 1),
        };
        let file = File::create_new(self.folder.join(&name))?;
        self.pieces.push(Piece { name, bytes: 0 });
        self.file = Some(file);
        Ok(())
    }

    fn close(&mut self) -> io::Result<()> {
        match self.file.take() {
            Some(file) => file.sync_all(),
            None => Ok(()),
        }
    }

    /// Everything is on the disk; returns the files and the checksum of all of them together.
    pub(super) fn finish(mut self) -> io::Result<(Vec<Piece>, Checksum)> {
        if self.pieces.is_empty() {
            self.next_file()?;
        }
        // What is not written at the end of a file with holes counts as well.
        if let (Some(file), Some(piece)) = (&self.file, self.pieces.last()) {
            file.set_len(piece.bytes)?;
        }
        self.close()?;
        fs::File::open(&self.folder)?.sync_all()?;
        Ok((self.pieces, self.hasher.finish()))
    }

    /// Takes zeros, which become a hole where the file system has holes.
    pub(super) fn skip(&mut self, zeros: &[u8]) -> io::Result<()> {
        if self.most.is_some() {
            return self.write_all(zeros);
        }
        if self.file.is_none() {
            self.next_file()?;
        }
        self.hasher.update(zeros);
        if let (Some(file), Some(piece)) = (&mut self.file, self.pieces.last_mut()) {
            piece.bytes += zeros.len() as u64;
            io::Seek::seek(file, io::SeekFrom::Start(piece.bytes))?;
        }
        Ok(())
    }
}

impl Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let room = match (self.most, self.pieces.last(), &self.file) {
            (Some(most), Some(piece), Some(_)) => most - piece.bytes,
            (None, Some(_), Some(_)) => u64::MAX,
            _ => 0,
        };
        if room == 0 {
            self.next_file()?;
        }
        let room = if room == 0 {
            self.most.unwrap_or(u64::MAX)
        } else {
            room
        };
        let len = bytes.len().min(usize::try_from(room).unwrap_or(usize::MAX));
        let written = match &mut self.file {
            Some(file) => file.write(&bytes[..len])?,
            None => 0,
        };
        self.hasher.update(&bytes[..written]);
        if let Some(piece) = self.pieces.last_mut() {
            piece.bytes += written as u64;
        }
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
