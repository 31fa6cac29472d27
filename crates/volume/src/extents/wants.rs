//! Parts of a stream that are wanted as a whole, collected as the stream passes.

use std::collections::BTreeMap;

use pinewrit_disk::ByteRange;

/// Wanted parts, by their start. What begins before the current position comes too late and is
/// dropped.
#[derive(Debug)]
pub(super) struct Wants<K> {
    waiting: BTreeMap<(u64, u64), (u64, K)>,
    begun: Vec<Begun<K>>,
    place: u64,
    count: u64,
}

#[derive(Debug)]
struct Begun<K> {
    range: ByteRange,
    key: K,
    bytes: Vec<u8>,
}

/// The most bytes collected at once.
const MAX_BEGUN: u64 = 64 << 20;

impl<K> Wants<K> {
    pub(super) fn new() -> Self {
        Self {
            waiting: BTreeMap::new(),
            begun: Vec::new(),
            place: 0,
            count: 0,
        }
    }

    /// Asks for a part of the stream.
    pub(super) fn add(&mut self, range: ByteRange, key: K) {
        if range.start >= self.place && !range.is_empty() {
            self.count += 1;
            self.waiting
                .insert((range.start, self.count), (range.end, key));
        }
    }

    /// Takes a part that the current bytes, which begin at `offset`, complete. Call it until it
    /// returns `None`, then [`Wants::pass`].
    pub(super) fn take(&mut self, offset: u64, bytes: &[u8]) -> Option<(K, Vec<u8>)> {
        let here = ByteRange {
            start: offset,
            end: offset + bytes.len() as u64,
        };
        while let Some((&(start, _), &(end, _))) = self.waiting.first_key_value() {
            if start >= here.end {
                break;
            }
            let (_, (_, key)) = self.waiting.pop_first()?;
            let range = ByteRange { start, end };
            let in_memory: u64 = self.begun.iter().map(|begun| begun.range.len()).sum();
            if start >= here.start && in_memory + range.len() <= MAX_BEGUN {
                self.begun.push(Begun {
                    range,
                    key,
                    bytes: Vec::new(),
                });
            }
        }
        for begun in &mut self.begun {
            let next = begun.range.start + begun.bytes.len() as u64;
            let wanted = ByteRange {
                start: next,
                end: begun.range.end,
            };
            if let Some(part) = wanted.intersection(here) {
                let (from, to) = (part.start - here.start, part.end - here.start);
                begun
                    .bytes
                    .extend_from_slice(&bytes[from as usize..to as usize]);
            }
        }
        let is_whole = |begun: &Begun<K>| begun.bytes.len() as u64 == begun.range.len();
        let index = self.begun.iter().position(is_whole)?;
        let done = self.begun.swap_remove(index);
        Some((done.key, done.bytes))
    }

    /// What is wanted of the current bytes, as far as it is known.
    pub(super) fn needed(&self, here: ByteRange) -> Vec<ByteRange> {
        let waiting = self.waiting.iter();
        let waiting = waiting.map(|(&(start, _), &(end, _))| ByteRange { start, end });
        let begun = self.begun.iter().map(|begun| begun.range);
        let all = waiting
            .take_while(|range| range.start < here.end)
            .chain(begun);
        all.filter_map(|range| range.intersection(here)).collect()
    }

    /// Moves past these bytes.
    pub(super) fn pass(&mut self, end: u64) {
        self.place = end;
    }

    /// The start of the current bytes.
    pub(super) fn place(&self) -> u64 {
        self.place
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_come_whole_and_late_wishes_are_dropped() {
        let range = |start, end| ByteRange { start, end };
        let mut wants = Wants::new();
        wants.add(range(2, 7), 'a');
        let stream = *b"0123456789";
        assert_eq!(wants.take(0, &stream[..4]), None);
        // What lies in the current bytes can still be had.
        wants.add(range(1, 3), 'b');
        assert_eq!(wants.take(0, &stream[..4]), Some(('b', b"12".to_vec())));
        wants.pass(4);
        wants.add(range(3, 6), 'c');
        assert_eq!(wants.take(4, &stream[4..]), Some(('a', b"23456".to_vec())));
        assert_eq!(wants.take(4, &stream[4..]), None);
    }
}
