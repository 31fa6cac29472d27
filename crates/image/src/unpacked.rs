//! A file without the compression around it, for whoever wants more of an archive than an image.

use std::io::{self, Cursor, Read};
use std::path::Path;

use pinewrit_disk::open_plain;

use crate::unwrap::decompress;
use crate::{ImageStream, MAX_LAYERS, Wrapping};

/// Bytes that tell what a file is.
const HEAD: usize = 512;

/// The bytes of a file without its compression, and the archive that they are, if any. Members of
/// archives are not looked at.
///
/// # Errors
/// The file cannot be read, is damaged, or is packed in too many layers.
pub fn unpacked_stream(path: &Path) -> io::Result<(ImageStream, Option<Wrapping>)> {
    let mut stream: ImageStream = Box::new(open_plain(path)?);
    for _ in 0..=MAX_LAYERS {
        let mut head = Vec::with_capacity(HEAD);
        (&mut stream).take(HEAD as u64).read_to_end(&mut head)?;
        let wrapping = Wrapping::detect(&head);
        let whole: ImageStream = Box::new(Cursor::new(head).chain(stream));
        match wrapping {
            Some(wrapping) if !wrapping.is_archive() => stream = decompress(whole, wrapping)?,
            archive => return Ok((whole, archive)),
        }
    }
    Err(io::Error::other(format!("more than {MAX_LAYERS} layers")))
}
