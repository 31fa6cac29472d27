//! Marks: sectors that say where they belong, with content that cannot be guessed or packed.
//!
//! ```text
//! "PINEMARK"  session [16], offset u64 (little-endian, bytes), rest [480]
//! ```
//! The rest is the BLAKE3 stream of the offset, keyed with the session.

/// Bytes of a mark: what a medium writes as a whole or not at all.
pub(crate) const SECTOR: usize = 512;

const MAGIC: &[u8; 8] = b"PINEMARK";
const HEAD: usize = 32;

/// The random identifier of one measurement.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Session(pub [u8; 16]);

impl Session {
    /// Fills whole sectors with the marks of the place that starts at `offset` bytes.
    pub(crate) fn mark(&self, offset: u64, sectors: &mut [u8]) {
        let key = blake3::derive_key("pinewrit 2026 marks of a measurement", &self.0);
        let places = (offset..).step_by(SECTOR);
        for (place, sector) in places.zip(sectors.chunks_mut(SECTOR)) {
            self.mark_one(&key, place, sector);
        }
    }

    fn mark_one(&self, key: &[u8; 32], place: u64, sector: &mut [u8]) {
        let (head, rest) = sector.split_at_mut(HEAD);
        head[..8].copy_from_slice(MAGIC);
        head[8..24].copy_from_slice(&self.0);
        head[24..].copy_from_slice(&place.to_le_bytes());
        let mut hasher = blake3::Hasher::new_keyed(key);
        hasher.update(&place.to_le_bytes());
        hasher.finalize_xof().fill(rest);
    }

    /// The place to which a sector says that it belongs, if it is a whole mark of this session.
    pub(crate) fn place_of(&self, sector: &[u8]) -> Option<u64> {
        if sector.len() != SECTOR || &sector[..8] != MAGIC || sector[8..24] != self.0 {
            return None;
        }
        let place = u64::from_le_bytes(sector[24..HEAD].try_into().ok()?);
        let mut whole = [0; SECTOR];
        self.mark(place, &mut whole);
        (sector == whole).then_some(place)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mark_is_recognised_whole_or_not_at_all() {
        let session = Session([7; 16]);
        let mut sectors = [0; 2 * SECTOR];
        session.mark(4096, &mut sectors);
        assert_eq!(session.place_of(&sectors[..SECTOR]), Some(4096));
        assert_eq!(session.place_of(&sectors[SECTOR..]), Some(4608));
        assert_eq!(Session([8; 16]).place_of(&sectors[..SECTOR]), None);
        sectors[511] ^= 1;
        assert_eq!(session.place_of(&sectors[..SECTOR]), None);
    }
}
