//! ISO 9660 with Joliet, and UDF.

use pinewrit_disk::{BlockDevice, DiskError};

use crate::bytes::{has, read, text, text_at, u16le, u32le, wide_be};
use crate::{Format, Sign};

const SECTOR: u64 = 2048;

/// ECMA-119, section 8.4 (primary volume descriptor, in sector 16), and Joliet's supplementary one.
pub(crate) fn iso9660(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let Some(primary) = read::<2048>(device, 16 * SECTOR)? else {
        return Ok(None);
    };
    if primary[..6] != *b"\x01CD001" {
        return Ok(None);
    }
    let mut label = text_at(&primary, 40, 32);
    for sector in 17..32 {
        let Some(raw) = read::<2048>(device, sector * SECTOR)? else {
            break;
        };
        let is_joliet = [&b"%/@"[..], b"%/C", b"%/E"].contains(&&raw[88..91]);
        match raw[..6] {
            [2, b'C', b'D', b'0', b'0', b'1'] if is_joliet => {
                label = wide_be(&raw[40..72]).or(label);
                break;
            }
            [255, ..] => break,
            [_, b'C', b'D', b'0', b'0', b'1'] => {}
            _ => break,
        }
    }
    let size = u64::from(u32le(&primary, 80)) * u64::from(u16le(&primary, 128));
    Ok(Some(Sign {
        label,
        id: date(&primary[830..847]).or_else(|| date(&primary[813..830])),
        size: Some(size),
        ..Sign::filesystem(Format::Iso9660)
    }))
}

/// Section 8.4.26.1: a date of digits, the identifier of such a volume; `None` if it was not set.
fn date(raw: &[u8]) -> Option<String> {
    let digits = std::str::from_utf8(raw.get(..16)?).ok()?;
    let is_set = digits.bytes().all(|byte| byte.is_ascii_digit()) && digits != "0000000000000000";
    let parts = [0..4, 4..6, 6..8, 8..10, 10..12, 12..14, 14..16];
    let parts: Vec<&str> = parts.into_iter().map(|part| &digits[part]).collect();
    is_set.then(|| parts.join("-"))
}

/// ECMA-167, 2/8.3 and 3/9.1: the recognition sequence; then 3/8.4.2, the anchor in sector 256, and 3/10,
/// the descriptors that it leads to.
pub(crate) fn udf(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    if !is_udf(device)? {
        return Ok(None);
    }
    let mut sign = Sign::filesystem(Format::Udf);
    for block in [2048, 512, 1024, 4096] {
        let Some(anchor) = read::<32>(device, 256 * block)? else {
            continue;
        };
        if u16le(&anchor, 0) != 2 || u32le(&anchor, 12) != 256 {
            continue;
        }
        let (len, first) = (u32le(&anchor, 16), u64::from(u32le(&anchor, 20)));
        for index in 0..(u64::from(len) / block).min(64) {
            let Some(raw) = read::<512>(device, (first + index).saturating_mul(block))? else {
                break;
            };
            match u16le(&raw, 0) {
                1 => sign.id = dstring(&raw[72..200]).map(|set| udf_id(&set)),
                6 => sign.label = dstring(&raw[84..212]),
                8 => break,
                _ => {}
            }
        }
        break;
    }
    Ok(Some(sign))
}

fn is_udf(device: &dyn BlockDevice) -> Result<bool, DiskError> {
    // Structures of 2048 bytes, one to a block where blocks are larger.
    for step in [SECTOR, 4096] {
        for index in 0..64 {
            let place = 16 * SECTOR + index * step;
            let Some(raw) = read::<6>(device, place)? else {
                break;
            };
            match &raw[1..] {
                b"NSR02" | b"NSR03" => return Ok(true),
                b"BEA01" | b"BOOT2" | b"CD001" | b"CDW02" | b"TEA01" => {}
                _ => break,
            }
        }
    }
    has(device, 16 * SECTOR + 1, b"NSR02")
}

/// OSTA UDF 2.60, 2.1.1 and 2.1.3: characters of 8 or 16 bits, the length in the last byte.
fn dstring(raw: &[u8]) -> Option<String> {
    let (len, body) = raw.split_last()?;
    let used = body.get(1..usize::from(*len).min(body.len()))?;
    match body[0] {
        8 | 254 => {
            let latin: String = used.iter().map(|&byte| char::from(byte)).collect();
            text(latin.as_bytes())
        }
        16 | 255 => wide_be(used),
        _ => None,
    }
}

/// The first sixteen characters of the volume set's name, which should be unique; those that are
/// not hexadecimal digits are written in hexadecimal.
fn udf_id(set: &str) -> String {
    let head: Vec<u8> = set.bytes().take(16).collect();
    if head.iter().all(u8::is_ascii_hexdigit) {
        String::from_utf8_lossy(&head).to_lowercase()
    } else {
        let (first, rest) = head.split_at(head.len().min(8));
        let first = if first.iter().all(u8::is_ascii_hexdigit) {
            String::from_utf8_lossy(first).to_lowercase() + &hex::encode(rest)
        } else {
            hex::encode(&head)
        };
        first.chars().take(16).collect()
    }
}
