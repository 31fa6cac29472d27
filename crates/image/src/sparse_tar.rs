//! Sparse files in archives of the POSIX form, and the names of members.
//!
//! The `tar` crate reads the older form, in which the map is in the head. In this one it is in the
//! extended head (0.0, 0.1), or at the start of the data (1.0). Source: the manual of GNU tar,
//! appendix "Storing Sparse Files".

use std::io::{self, Read};
use std::ops::Range;

/// The most pieces of a file; 16 MiB of them.
const MAX_PIECES: usize = 1 << 20;
/// Unit of an archive, in bytes.
const RECORD: usize = 512;

/// The metadata of a sparse file.
#[derive(Debug, Default)]
pub(crate) struct SparseFile {
    /// The file's own name; that of the member is artificial.
    name: Option<String>,
    /// Size with all holes, in bytes.
    pub(crate) size: u64,
    /// The places of its pieces; if `None`, the data itself has them.
    map: Option<Vec<Range<u64>>>,
}

fn wrong(what: &'static str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what)
}

/// Keys of extended headers that do not affect how the content is stored (POSIX.1-2017, "pax
/// Extended Header Keyword/Value Pairs", and what archivers add).
const PLAIN_KEYS: &[&str] = &[
    "atime",
    "ctime",
    "mtime",
    "charset",
    "hdrcharset",
    "comment",
    "gid",
    "gname",
    "uid",
    "uname",
    "linkpath",
    "path",
    "size",
];
const PLAIN_PREFIXES: &[&str] = &[
    "SCHILY.xattr.",
    "SCHILY.acl.",
    "SCHILY.dev",
    "SCHILY.ino",
    "SCHILY.nlink",
    "SCHILY.fflags",
    "LIBARCHIVE.",
    "RHT.",
    "MSWINDOWS.",
    "security.",
];

/// Refuses a member whose extended header has unknown keys: its content may be stored in an unknown
/// way.
///
/// # Errors
/// It names the key.
pub(crate) fn must_be_understood<R: Read>(entry: &mut tar::Entry<'_, R>) -> io::Result<()> {
    let Some(extensions) = entry.pax_extensions()? else {
        return Ok(());
    };
    for extension in extensions {
        let extension = extension?;
        let key = String::from_utf8_lossy(extension.key_bytes()).into_owned();
        let is_plain = PLAIN_KEYS.contains(&key.as_str())
            || PLAIN_PREFIXES.iter().any(|prefix| key.starts_with(prefix));
        let sparse = key.strip_prefix("GNU.sparse.");
        if !is_plain && !sparse.is_some_and(|key| SPARSE_KEYS.contains(&key)) {
            let shown: String = key.chars().take(60).filter(|c| !c.is_control()).collect();
            let what = format!("its header says {shown}, which is unknown");
            return Err(io::Error::new(io::ErrorKind::Unsupported, what));
        }
    }
    Ok(())
}

const SPARSE_KEYS: &[&str] = &[
    "name",
    "realsize",
    "size",
    "major",
    "minor",
    "map",
    "offset",
    "numbytes",
    "numblocks",
];

/// The sparse file described by a member's extended header; `None` for all others.
///
/// # Errors
/// The header is invalid.
pub(crate) fn sparse_file<R: Read>(
    entry: &mut tar::Entry<'_, R>,
) -> io::Result<Option<SparseFile>> {
    let mut found = SparseFile::default();
    let (mut is_sparse, mut is_in_data) = (false, false);
    let mut numbers: Vec<u64> = Vec::new();
    let Some(extensions) = entry.pax_extensions()? else {
        return Ok(None);
    };
    for extension in extensions {
        let extension = extension?;
        let Some(key) = extension
            .key()
            .ok()
            .and_then(|k| k.strip_prefix("GNU.sparse."))
        else {
            continue;
        };
        is_sparse = true;
        let value = extension
            .value()
            .map_err(|_| wrong("the map of a sparse file"))?;
        match key {
            "name" => found.name = Some(value.to_owned()),
            "realsize" | "size" => found.size = number(value)?,
            "major" => is_in_data = value == "1",
            "map" => {
                numbers = value.split(',').map(number).collect::<Result<_, _>>()?;
            }
            "offset" | "numbytes" => numbers.push(number(value)?),
            _ => {}
        }
        if numbers.len() > 2 * MAX_PIECES {
            return Err(wrong("a sparse file has too many pieces"));
        }
    }
    if !is_in_data {
        found.map = Some(pieces(&numbers, found.size)?);
    }
    Ok(is_sparse.then_some(found))
}

/// A member's name, also of a sparse file.
///
/// # Errors
/// As [`sparse_file`].
pub(crate) fn member_name<R: Read>(entry: &mut tar::Entry<'_, R>) -> io::Result<String> {
    let own = sparse_file(entry)?.and_then(|sparse| sparse.name);
    Ok(own.unwrap_or_else(|| String::from_utf8_lossy(&entry.path_bytes()).into_owned()))
}

fn number(text: &str) -> io::Result<u64> {
    text.parse()
        .map_err(|_| wrong("the map of a sparse file has no number where one belongs"))
}

/// Alternating offsets and lengths, as ascending ranges.
fn pieces(numbers: &[u64], size: u64) -> io::Result<Vec<Range<u64>>> {
    let mut pieces: Vec<Range<u64>> = Vec::new();
    for pair in numbers.chunks(2) {
        let [start, len] = *pair else {
            return Err(wrong("the map of a sparse file is truncated"));
        };
        let before = pieces.last().map_or(0, |piece| piece.end);
        let end = start.checked_add(len).filter(|end| *end <= size);
        match end {
            Some(end) if start >= before => pieces.push(start..end),
            _ => return Err(wrong("the map of a sparse file is invalid")),
        }
    }
    Ok(pieces)
}

/// The whole content of a sparse file, with zeros where it has holes.
pub(crate) struct SparseReader<R> {
    data: R,
    pieces: std::vec::IntoIter<Range<u64>>,
    /// The current or next piece.
    piece: Range<u64>,
    at: u64,
    size: u64,
}

impl<R: Read> SparseReader<R> {
    /// The content of a sparse file, of which `data` has the pieces.
    ///
    /// # Errors
    /// Its map at the start of the data is invalid.
    pub(crate) fn new(sparse: SparseFile, mut data: R) -> io::Result<Self> {
        let pieces = match sparse.map {
            Some(map) => map,
            None => read_map(&mut data, sparse.size)?,
        };
        let mut pieces = pieces.into_iter();
        let end = sparse.size..sparse.size;
        Ok(Self {
            data,
            piece: pieces.next().unwrap_or(end),
            pieces,
            at: 0,
            size: sparse.size,
        })
    }
}

/// Format 1.0: a count, then offsets and lengths, each on its own line, padded to a record.
fn read_map(data: &mut impl Read, size: u64) -> io::Result<Vec<Range<u64>>> {
    let (mut count, mut numbers) = (None, Vec::new());
    let mut line = String::new();
    loop {
        let mut record = [0; RECORD];
        data.read_exact(&mut record)?;
        for byte in record {
            match byte {
                b'\n' => {
                    let number = number(&line)?;
                    line.clear();
                    match count {
                        None => count = Some(number),
                        Some(_) => numbers.push(number),
                    }
                    let wanted = count.unwrap_or(0);
                    if wanted > MAX_PIECES as u64 {
                        return Err(wrong("a sparse file has too many pieces"));
                    }
                    // The rest of the record is padding.
                    if numbers.len() as u64 == 2 * wanted {
                        return pieces(&numbers, size);
                    }
                }
                // Longer than any number of 64 bits.
                _ if line.len() > 20 => return Err(wrong("the map of a sparse file is invalid")),
                byte => line.push(char::from(byte)),
            }
        }
    }
}

impl<R: Read> Read for SparseReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.piece.end && self.at < self.size {
            self.piece = self.pieces.next().unwrap_or(self.size..self.size);
            if self.piece.start == self.size {
                break;
            }
        }
        let is_hole = self.at < self.piece.start;
        let end = if is_hole {
            self.piece.start
        } else {
            self.piece.end
        };
        let len = (buffer.len() as u64).min(end - self.at) as usize;
        let len = if is_hole {
            buffer[..len].fill(0);
            len
        } else {
            self.data.read(&mut buffer[..len])?
        };
        // The file ends before its map does.
        if len == 0 && !buffer.is_empty() && self.at < self.size {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        self.at += len as u64;
        Ok(len)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn read(map: &[u8], data: &[u8], size: u64) -> io::Result<Vec<u8>> {
        let mut bytes = map.to_vec();
        bytes.resize(map.len().next_multiple_of(RECORD), 0);
        bytes.extend(data);
        let sparse = SparseFile {
            size,
            ..SparseFile::default()
        };
        let mut content = Vec::new();
        SparseReader::new(sparse, &bytes[..])?.read_to_end(&mut content)?;
        Ok(content)
    }

    #[rstest]
    #[case::in_the_middle("1\n2\n3\n", "abc", 7, "\0\0abc\0\0")]
    #[case::both_ends("2\n0\n1\n5\n2\n", "abc", 7, "a\0\0\0\0bc")]
    #[case::with_its_end_marked("2\n0\n1\n4\n0\n", "a", 4, "a\0\0\0")]
    #[case::side_by_side("3\n0\n1\n1\n0\n1\n1\n", "ab", 2, "ab")]
    #[case::only_a_hole("0\n", "", 3, "\0\0\0")]
    #[case::empty("0\n", "", 0, "")]
    fn holes_are_zeros(
        #[case] map: &str,
        #[case] data: &str,
        #[case] size: u64,
        #[case] content: &str,
    ) {
        let read = read(map.as_bytes(), data.as_bytes(), size).unwrap();
        assert_eq!(read, content.as_bytes());
    }

    #[rstest]
    #[case::past_its_size("1\n2\n3\n", "abc", 4)]
    #[case::backwards("2\n4\n1\n0\n1\n", "ab", 9)]
    #[case::over_the_edge("1\n18446744073709551615\n2\n", "ab", 9)]
    #[case::no_number("1\nx\n3\n", "abc", 9)]
    #[case::too_many("9999999999\n", "abc", 9)]
    #[case::no_line("11111111111111111111111111", "abc", 9)]
    #[case::cut_off("1\n0\n5\n", "abc", 9)]
    fn maps_that_cannot_be(#[case] map: &str, #[case] data: &str, #[case] size: u64) {
        assert!(read(map.as_bytes(), data.as_bytes(), size).is_err());
    }
}
