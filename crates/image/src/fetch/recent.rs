//! The most recent bytes, for servers without validators: after a break they are requested again,
//! and compared.

use std::collections::VecDeque;

/// How much is compared, in bytes.
pub(super) const OVERLAP: usize = 1 << 20;
/// Readers whose last bytes are kept.
const MAX_READERS: usize = 4;

/// The last bytes given to each reader, and where they end.
#[derive(Debug, Default)]
pub(super) struct Recent(Vec<(u64, VecDeque<u8>)>);

impl Recent {
    /// Keeps the last bytes that were given from `offset` on.
    pub(super) fn remember(&mut self, bytes: &[u8], offset: u64) {
        let before = self.0.iter().position(|(end, _)| *end == offset);
        let mut last = match before {
            Some(index) => self.0.remove(index).1,
            None => VecDeque::new(),
        };
        last.extend(bytes);
        let excess = last.len().saturating_sub(OVERLAP);
        last.drain(..excess);
        if self.0.len() == MAX_READERS {
            self.0.remove(0);
        }
        self.0.push((offset + bytes.len() as u64, last));
    }

    /// The bytes last given to a reader before `offset`.
    pub(super) fn before(&self, offset: u64) -> Option<VecDeque<u8>> {
        let found = self.0.iter().find(|(end, _)| *end == offset);
        found.map(|(_, last)| last.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_bytes_of_each_reader() {
        let mut recent = Recent::default();
        recent.remember(b"abc", 0);
        recent.remember(b"xyz", 100);
        recent.remember(b"de", 3);
        assert_eq!(recent.before(5).unwrap(), b"abcde");
        assert_eq!(recent.before(103).unwrap(), b"xyz");
        assert_eq!(recent.before(3), None);
        recent.remember(&vec![7; OVERLAP + 5], 5);
        assert_eq!(recent.before(10 + OVERLAP as u64).unwrap().len(), OVERLAP);
    }
}
