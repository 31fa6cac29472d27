//! The two checksums of ext4: CRC-32C, and the older CRC-16 of group descriptors.

/// CRC-32C continued from `seed`, without the usual inversions at both ends, as ext4 uses it.
pub fn crc32c(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

/// CRC-16 with the polynomial 0x8005, reflected, continued from `seed`.
pub fn crc16(seed: u16, bytes: &[u8]) -> u16 {
    bytes.iter().fold(seed, |crc, &byte| {
        (0..8).fold(crc ^ u16::from(byte), |crc, _| match crc & 1 {
            1 => crc >> 1 ^ 0xa001,
            _ => crc >> 1,
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The check values of the catalogue of parametrised CRC algorithms: CRC-16/ARC and CRC-32/ISCSI.
    #[test]
    fn check_values() {
        assert_eq!(crc16(0, b"123456789"), 0xbb3d);
        assert_eq!(!crc32c(!0, b"123456789"), 0xe306_9283);
    }
}
