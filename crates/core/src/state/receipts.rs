//! Which receipt is a medium's.

use std::collections::{BTreeMap, HashMap};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use pinewrit_disk::{BlockDevice, ByteRange, Window};

use super::private::Acting;
use super::{StateFolder, read_receipt, save};
use crate::inspect::{PartitionFacts, inspect};
use crate::receipt::{Identifiers, Receipt, ReceiptError, digest_of};

/// The most receipts to examine in a search.
const MAX_LOOKED_AT: usize = 20_000;
/// The most receipts to tell apart by their digests.
const MAX_CANDIDATES: usize = 2_000;
/// The most chunks to read to tell receipts apart.
const MAX_PROBED: usize = 32;
const ENDING: &str = ".receipt.json";

/// A medium whose receipt is sought.
#[derive(Clone, Copy, Debug)]
pub struct Subject<'a> {
    /// Its tag, if it is not a card file.
    pub tag: Option<&'a str>,
    /// Its path; for card files, the full path.
    pub place: &'a Path,
    /// Only receipts of this partition; otherwise of the whole medium.
    pub partition: Option<ByteRange>,
}

/// A receipt found in the store.
#[derive(Clone, Debug)]
pub struct Found {
    /// Where it is.
    pub path: PathBuf,
    /// The receipt.
    pub receipt: Receipt,
    /// How many candidates there were.
    pub candidates: usize,
}

impl Subject<'_> {
    /// The medium's name in the names of receipts.
    fn word(&self) -> String {
        match self.tag {
            Some(tag) => plain(tag),
            None => word_of_file(&self.place.to_string_lossy()),
        }
    }
}

/// Letters and digits of a text, for a file name.
fn plain(text: &str) -> String {
    let kept = text
        .chars()
        .filter(|c| c.is_ascii_alphanumeric() || *c == '-');
    kept.take(60).collect()
}

fn word_of_file(path: &str) -> String {
    format!("file-{}", &blake3::hash(path.as_bytes()).to_hex()[..12])
}

fn id_word(identifiers: &Identifiers) -> String {
    let first = identifiers.filesystems.first().map(|(_, id)| id);
    let id = identifiers.table.as_ref().or(first);
    id.map_or("none".to_owned(), |id| plain(id))
}

/// What the name of a receipt says: identifier, medium, time.
fn parts(path: &Path) -> Option<(String, String, String)> {
    let name = path.file_name()?.to_str()?.strip_suffix(ENDING)?;
    let mut parts = name.splitn(3, '_').map(str::to_owned);
    Some((parts.next()?, parts.next()?, parts.next()?))
}

/// The parts of a receipt needed to tell it from others.
struct Candidate {
    path: PathBuf,
    /// Its medium, its identifiers, and its time, which decide if digests do not.
    rank: (u8, String),
    chunks: HashMap<u64, (Arc<[ByteRange]>, blake3::Hash)>,
    hits: usize,
}

impl StateFolder {
    /// The path of a receipt: by the medium's content, the medium, and the time; the nth of that
    /// time.
    fn receipt_path(&self, receipt: &Receipt, nth: u32) -> PathBuf {
        let key = id_word(&receipt.identifiers);
        let medium = match &receipt.medium.tag {
            Some(tag) => plain(tag),
            None => word_of_file(&receipt.medium.name),
        };
        let mut time = plain(&receipt.finished);
        if nth > 1 {
            time += &format!("-{nth}");
        }
        let part = receipt.medium.partition;
        let part = part.map_or(String::new(), |part| format!("_p{}", part.number));
        self.receipts()
            .join(format!("{key}_{medium}_{time}{part}{ENDING}"))
    }

    /// Keeps a receipt; returns where.
    ///
    /// # Errors
    /// It could not be written.
    pub fn save_receipt(&self, receipt: &Receipt) -> Result<PathBuf, ReceiptError> {
        self.save_beside(receipt, None)
    }

    /// Keeps a receipt at a path that is free or holds `old`.
    fn save_beside(&self, receipt: &Receipt, old: Option<&Path>) -> Result<PathBuf, ReceiptError> {
        let json = receipt.to_json()?;
        let mut paths = (1..).map(|nth| self.receipt_path(receipt, nth));
        let free = paths.find(|path| !path.exists() || Some(path.as_path()) == old);
        let path = free.unwrap_or_else(|| self.receipt_path(receipt, 1));
        let _acting = Acting::as_one(self.owner);
        save(&path, &json)?;
        Ok(path)
    }

    /// Keeps a receipt in place of the one at `old`; its name may change.
    ///
    /// # Errors
    /// It could not be written; the old one stays.
    pub fn replace_receipt(&self, old: &Path, receipt: &Receipt) -> Result<PathBuf, ReceiptError> {
        let path = self.save_beside(receipt, Some(old))?;
        if path != old {
            let _acting = Acting::as_one(self.owner);
            match fs::remove_file(old) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error.into()),
                _ => {}
            }
        }
        Ok(path)
    }

    /// The receipt of what is on a medium: by its tag or path, its identifiers and its size; among
    /// several candidates, by the digests in which they differ.
    pub fn find_receipt(&self, device: &dyn BlockDevice, subject: Subject<'_>) -> Option<Found> {
        if self.names().is_empty() {
            return None;
        }
        let identifiers = match subject.partition {
            None => Identifiers::of(device),
            Some(range) => Identifiers::of(&Window::new(device, range)),
        };
        let mut candidates = self.candidates(device, &identifiers, subject);
        let count = candidates.len();
        if count > 1 {
            probe(
                device,
                subject.partition.map_or(0, |range| range.start),
                &mut candidates,
            );
        }
        let best = candidates
            .into_iter()
            .max_by(|a, b| (a.hits, &a.rank).cmp(&(b.hits, &b.rank)))?;
        Some(Found {
            receipt: read_receipt(&best.path).ok()?,
            path: best.path,
            candidates: count,
        })
    }

    /// The receipts of a medium, and of partitions that were written separately, for a change.
    pub fn receipts_of(&self, device: &dyn BlockDevice, subject: Subject<'_>) -> Vec<Found> {
        let names = self.names();
        let whole = self.find_receipt(device, subject);
        // Slow media are not read again for partitions without receipts.
        let of_partitions = names.iter().any(|name| name.contains("_p"));
        let size = device.size();
        let found = of_partitions
            .then(|| inspect(device, Some(size)).ok())
            .flatten();
        let partitions = found.map_or(Vec::new(), |found| found.partitions);
        let ending = |partition: &PartitionFacts| format!("_p{}{ENDING}", partition.number);
        let wanted = partitions.iter().filter(|partition| {
            let ending = ending(partition);
            partition.range().end <= size && names.iter().any(|name| name.ends_with(&ending))
        });
        let parts = wanted.filter_map(|partition| {
            let partition = Some(partition.range());
            self.find_receipt(
                device,
                Subject {
                    partition,
                    ..subject
                },
            )
        });
        whole.into_iter().chain(parts).collect()
    }

    /// The names of all receipts.
    fn names(&self) -> Vec<String> {
        let entries = fs::read_dir(self.receipts());
        let names = entries.into_iter().flatten().flatten();
        let names = names.filter_map(|entry| entry.file_name().into_string().ok());
        names
            .filter(|name| name.ends_with(ENDING))
            .take(MAX_LOOKED_AT)
            .collect()
    }

    fn candidates(
        &self,
        device: &dyn BlockDevice,
        identifiers: &Identifiers,
        subject: Subject<'_>,
    ) -> Vec<Candidate> {
        let (key, word) = (id_word(identifiers), subject.word());
        let folder = self.receipts();
        let paths = self.names().into_iter().map(|name| folder.join(name));
        let mut named: Vec<((u8, String), PathBuf)> = paths
            .filter_map(|path| {
                let (id, medium, time) = parts(&path)?;
                let by_id = !identifiers.is_empty() && id == key;
                let by_medium = medium == word;
                let rank = u8::from(by_medium) * 2 + u8::from(by_id);
                (rank > 0).then_some(((rank, time), path))
            })
            .collect();
        named.sort();
        let mut shared: BTreeMap<Vec<ByteRange>, Arc<[ByteRange]>> = BTreeMap::new();
        let likely = named.into_iter().rev().take(MAX_CANDIDATES);
        let fitting = likely.filter_map(|(rank, path)| {
            let receipt = read_receipt(&path).ok()?;
            fits(&receipt, device, subject).then_some(())?;
            let records = receipt.records()?.into_iter();
            let chunks = records.map(|record| {
                let used = shared.entry(record.used.clone());
                let used = Arc::clone(used.or_insert_with(|| record.used.into()));
                (record.index, (used, record.digest))
            });
            Some(Candidate {
                path,
                rank,
                chunks: chunks.collect(),
                hits: 0,
            })
        });
        fitting.collect()
    }
}

/// Whether a receipt can belong to this medium, by its range and size.
fn fits(receipt: &Receipt, device: &dyn BlockDevice, subject: Subject<'_>) -> bool {
    let medium = &receipt.medium;
    let partition = medium.partition.map(|partition| partition.start);
    let end = partition.unwrap_or(0).checked_add(medium.size);
    partition == subject.partition.map(|range| range.start)
        && match partition {
            None => end == Some(device.size()),
            Some(_) => end.is_some_and(|end| end <= device.size()),
        }
}

/// Counts, for each candidate, in how many of the differing chunks the medium matches it. Chunks
/// are chosen one at a time, to divide the best candidates so far.
fn probe(device: &dyn BlockDevice, start: u64, candidates: &mut [Candidate]) {
    let mut probed: Vec<u64> = Vec::new();
    while probed.len() < MAX_PROBED {
        let best = candidates.iter().map(|one| one.hits).max().unwrap_or(0);
        let leading: Vec<&Candidate> = candidates.iter().filter(|one| one.hits == best).collect();
        let Some(index) = differing_chunk(&leading, &probed) else {
            return;
        };
        probed.push(index);
        let mut known: BTreeMap<Arc<[ByteRange]>, Option<blake3::Hash>> = BTreeMap::new();
        for one in candidates.iter_mut() {
            let Some((used, digest)) = one.chunks.get(&index) else {
                continue;
            };
            let found = known
                .entry(Arc::clone(used))
                .or_insert_with(|| digest_of(device, start, used).ok());
            one.hits += usize::from(*found == Some(*digest));
        }
    }
}

/// The first chunk in which one of these candidates differs from the first of them.
fn differing_chunk(candidates: &[&Candidate], probed: &[u64]) -> Option<u64> {
    let (first, others) = candidates.split_first()?;
    let mut found: Option<u64> = None;
    for other in others {
        let both = first.chunks.keys().chain(other.chunks.keys());
        let differing = both
            .filter(|index| first.chunks.get(index) != other.chunks.get(index))
            .filter(|index| !probed.contains(index));
        found = differing.copied().chain(found).min();
    }
    found
}
