//! Extended attributes, "Extended Attributes": in the inode after its fields, and in a block.

use pinewrit_disk::bytes::{put16, put32, u16le, u32le};

use crate::blocks::ExtError;
use crate::fields::node;

const MAGIC: u32 = 0xea02_0000;
/// Bytes before the first entry in a block.
pub const BLOCK_HEADER: usize = 32;
const ENTRY: usize = 16;
/// `system.data`: the rest of a file stored in its inode.
const INLINE: (u8, &[u8]) = (7, b"data");

/// The kernel's own, for encrypted files.
const ENCRYPTION: u8 = 9;

/// Prefixes of names that are stored as a number.
const PREFIXES: [(u8, &str); 7] = [
    // The two longer ones first.
    (2, "system.posix_acl_access"),
    (3, "system.posix_acl_default"),
    (1, "user."),
    (4, "trusted."),
    (6, "security."),
    (8, "system.richacl"),
    (7, "system."),
];

/// An extended attribute.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Xattr {
    /// Its whole name, such as `security.capability`.
    pub name: String,
    /// Its value, as programs see it.
    pub value: Vec<u8>,
}

/// An attribute as stored.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Kept {
    /// Which prefix its name has.
    pub index: u8,
    /// The name behind the prefix.
    pub name: Vec<u8>,
    /// The value as stored.
    pub value: Vec<u8>,
}

impl Kept {
    /// `None` if the name cannot be stored.
    pub fn of(attribute: &Xattr) -> Option<Self> {
        let (index, rest) = PREFIXES.iter().find_map(|(index, prefix)| {
            let rest = attribute.name.strip_prefix(prefix)?;
            (prefix.ends_with('.') != rest.is_empty()).then_some((*index, rest))
        })?;
        let value = match index {
            2 | 3 => acl::to_disk(&attribute.value)?,
            _ => attribute.value.clone(),
        };
        let fits = rest.len() <= 255 && (index, rest.as_bytes()) != INLINE;
        fits.then(|| Self {
            index,
            name: rest.as_bytes().to_vec(),
            value,
        })
    }

    /// The attribute as programs see it, if its prefix is known.
    pub fn as_seen(&self) -> Option<Xattr> {
        let (_, prefix) = PREFIXES.iter().find(|(index, _)| *index == self.index)?;
        let rest = String::from_utf8_lossy(&self.name);
        let value = match self.index {
            2 | 3 => acl::from_disk(&self.value)?,
            _ => self.value.clone(),
        };
        Some(Xattr {
            name: format!("{prefix}{rest}"),
            value,
        })
    }

    /// The encryption context of a file.
    pub fn is_encryption(&self) -> bool {
        self.index == ENCRYPTION
    }

    /// Whether it is content of a small file.
    pub fn is_inline_data(&self) -> bool {
        (self.index, &self.name[..]) == INLINE
    }

    fn entry_len(&self) -> usize {
        (ENTRY + self.name.len()).next_multiple_of(4)
    }

    fn value_len(&self) -> usize {
        self.value.len().next_multiple_of(4)
    }

    /// `e_hash`, as in the kernel's `ext4_xattr_hash_entry`.
    fn hash(&self) -> u32 {
        self.hash_by(u32::from)
    }

    /// The hash of older kernels, in which bytes above 127 count as negative.
    fn hash_of_signed(&self) -> u32 {
        self.hash_by(|byte| byte as i8 as u32)
    }

    fn hash_by(&self, value: fn(u8) -> u32) -> u32 {
        let name = self
            .name
            .iter()
            .fold(0u32, |hash, &byte| hash.rotate_left(5) ^ value(byte));
        let mut padded = self.value.clone();
        padded.resize(self.value_len(), 0);
        let words = padded.chunks_exact(4).map(|word| u32le(word, 0));
        words.fold(name, |hash, word| hash.rotate_left(16) ^ word)
    }
}

/// The attributes in an inode and the place of their area: after the fields, if there is room.
pub fn in_inode(raw: &[u8]) -> Result<Vec<Kept>, ExtError> {
    let Some(start) = inode_area(raw) else {
        return Ok(Vec::new());
    };
    if u32le(raw, start) != MAGIC {
        return Ok(Vec::new());
    }
    parse(&raw[start + 4..], 0)
}

/// Offset of the area for attributes in an inode.
pub fn inode_area(raw: &[u8]) -> Option<usize> {
    if raw.len() <= node::OLD_SIZE {
        return None;
    }
    let start = node::OLD_SIZE + usize::from(u16le(raw, node::EXTRA_SIZE));
    (start.is_multiple_of(4) && start + 8 <= raw.len()).then_some(start)
}

/// The attributes in a block.
pub fn in_block(block: &[u8]) -> Result<Vec<Kept>, ExtError> {
    if u32le(block, 0) != MAGIC || u32le(block, 8) != 1 {
        return Err(ExtError::Damaged("a block of extended attributes"));
    }
    parse(block, BLOCK_HEADER)
}

/// `area` is what offsets of values count from.
fn parse(area: &[u8], mut at: usize) -> Result<Vec<Kept>, ExtError> {
    let damaged = || ExtError::Damaged("an extended attribute");
    let mut found = Vec::new();
    while at + 4 <= area.len() && u32le(area, at) != 0 {
        let head = area.get(at..at + ENTRY).ok_or_else(damaged)?;
        let name_len = usize::from(head[0]);
        let name = area.get(at + ENTRY..at + ENTRY + name_len);
        let (offset, len) = (usize::from(u16le(head, 2)), u32le(head, 8) as usize);
        if u32le(head, 4) != 0 {
            return Err(ExtError::Unreadable(
                "an extended attribute with an inode of its own".to_owned(),
            ));
        }
        let value = offset
            .checked_add(len)
            .and_then(|end| area.get(offset..end));
        found.push(Kept {
            index: head[1],
            name: name.ok_or_else(damaged)?.to_vec(),
            value: value.ok_or_else(damaged)?.to_vec(),
        });
        at += (ENTRY + name_len).next_multiple_of(4);
    }
    Ok(found)
}

/// What is wrong with attributes, in words.
pub type XattrFault = &'static str;

/// Checks the attributes in an inode.
pub fn check_inode(raw: &[u8]) -> Result<(), XattrFault> {
    match inode_area(raw) {
        Some(start) if u32le(raw, start) == MAGIC => check_area(&raw[start + 4..], 0, false),
        _ => Ok(()),
    }
}

/// Checks a block of attributes, except its checksum.
pub fn check_block(block: &[u8]) -> Result<(), XattrFault> {
    if u32le(block, 0) == MAGIC && u32le(block, 8) == 1 {
        check_area(block, BLOCK_HEADER, true)
    } else {
        Err("its block of extended attributes cannot be")
    }
}

/// Checks that the list ends inside the area, that values lie after it without overlaps, and that
/// hashes are right.
fn check_area(area: &[u8], first: usize, is_hashed: bool) -> Result<(), XattrFault> {
    let fault = "an extended attribute cannot be";
    let mut values = Vec::new();
    let mut at = first;
    while u32::from_le_bytes(*area.get(at..).and_then(<[u8]>::first_chunk).ok_or(fault)?) != 0 {
        let head = area.get(at..at + ENTRY).ok_or(fault)?;
        let name_len = usize::from(head[0]);
        let name = area.get(at + ENTRY..at + ENTRY + name_len).ok_or(fault)?;
        let (offset, len) = (usize::from(u16le(head, 2)), u32le(head, 8) as usize);
        let end = offset.checked_add(len).filter(|_| u32le(head, 4) == 0);
        area.get(offset..end.ok_or(fault)?).ok_or(fault)?;
        // Hashes cover whole words, including the padding after the value.
        let words = offset..offset + len.next_multiple_of(4);
        let value = area.get(words).ok_or(fault)?;
        let kept = Kept {
            index: head[1],
            name: name.to_vec(),
            value: value.to_vec(),
        };
        let stored = u32le(head, 12);
        let hashes = [kept.hash(), kept.hash_of_signed()];
        if is_hashed && kept.index == 0 {
            return Err(fault);
        }
        if (is_hashed || stored != 0) && !hashes.contains(&stored) {
            return Err("the hash of an extended attribute is wrong");
        }
        if len > 0 {
            values.push((offset, offset + len.next_multiple_of(4)));
        }
        at += (ENTRY + name_len).next_multiple_of(4);
    }
    values.sort_unstable();
    let is_behind = values.first().is_none_or(|(start, _)| *start >= at + 4);
    let is_apart = values.windows(2).all(|pair| pair[0].1 <= pair[1].0);
    if is_behind && is_apart && values.last().is_none_or(|(_, end)| *end <= area.len()) {
        Ok(())
    } else {
        Err("values of its extended attributes overlap")
    }
}

/// Bytes that attributes need, including the end of the list.
pub fn needed(all: &[Kept]) -> usize {
    let each = all.iter().map(|one| one.entry_len() + one.value_len());
    each.sum::<usize>() + 4
}

/// Lays attributes out in an area; offsets of values count from its start. They fit.
fn lay_out(all: &[Kept], area: &mut [u8], first: usize) {
    let (mut at, mut end) = (first, area.len());
    for one in all {
        end -= one.value_len();
        area[at] = one.name.len() as u8;
        area[at + 1] = one.index;
        let offset = if one.value.is_empty() { 0 } else { end };
        put16(area, at + 2, offset as u16);
        put32(area, at + 8, one.value.len() as u32);
        put32(area, at + 12, one.hash());
        area[at + ENTRY..at + ENTRY + one.name.len()].copy_from_slice(&one.name);
        area[end..end + one.value.len()].copy_from_slice(&one.value);
        at += one.entry_len();
    }
}

/// Puts attributes into an inode; returns `false` without a change if they do not fit.
pub fn put_in_inode(raw: &mut [u8], all: &[Kept]) -> bool {
    let Some(start) = inode_area(raw) else {
        return all.is_empty();
    };
    let area = &mut raw[start..];
    if !all.is_empty() && needed(all) > area.len() - 4 {
        return false;
    }
    area.fill(0);
    if !all.is_empty() {
        put32(area, 0, MAGIC);
        lay_out(all, &mut area[4..], 0);
    }
    true
}

/// A block with attributes, without its checksum; `None` if they do not fit.
pub fn block_of(mut all: Vec<Kept>, block_size: usize) -> Option<Vec<u8>> {
    if needed(&all) > block_size - BLOCK_HEADER {
        return None;
    }
    all.sort_by(|a, b| {
        let key = |one: &Kept| (one.index, one.name.len(), one.name.clone());
        key(a).cmp(&key(b))
    });
    let mut block = vec![0; block_size];
    put32(&mut block, 0, MAGIC);
    put32(&mut block, 4, 1);
    put32(&mut block, 8, 1);
    lay_out(&all, &mut block, BLOCK_HEADER);
    let hash = all
        .iter()
        .fold(0u32, |hash, one| hash.rotate_left(16) ^ one.hash());
    put32(&mut block, 12, hash);
    Some(block)
}

/// Access control lists: entries without an owner of their own are four bytes shorter on the medium
/// than programs see them (`linux/posix_acl_xattr.h`).
mod acl {
    use pinewrit_disk::bytes::{u16le, u32le};

    const NAMED_USER: u16 = 2;
    const NAMED_GROUP: u16 = 8;

    pub(super) fn to_disk(seen: &[u8]) -> Option<Vec<u8>> {
        if seen.len() < 4 || u32le(seen, 0) != 2 || !(seen.len() - 4).is_multiple_of(8) {
            return None;
        }
        let mut kept = 1u32.to_le_bytes().to_vec();
        for entry in seen[4..].chunks_exact(8) {
            kept.extend_from_slice(&entry[..4]);
            if matches!(u16le(entry, 0), NAMED_USER | NAMED_GROUP) {
                kept.extend_from_slice(&entry[4..]);
            }
        }
        Some(kept)
    }

    pub(super) fn from_disk(kept: &[u8]) -> Option<Vec<u8>> {
        if kept.len() < 4 || u32le(kept, 0) != 1 {
            return None;
        }
        let mut seen = 2u32.to_le_bytes().to_vec();
        let mut rest = &kept[4..];
        while !rest.is_empty() {
            let short = rest.get(..4)?;
            seen.extend_from_slice(short);
            let is_named = matches!(u16le(short, 0), NAMED_USER | NAMED_GROUP);
            let len = if is_named { 8 } else { 4 };
            let id = rest.get(4..len)?;
            seen.extend_from_slice(if is_named { id } else { &[0xff; 4] });
            rest = &rest[len..];
        }
        Some(seen)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_laid_out_is_read_back() {
        let acl = [
            &2u32.to_le_bytes()[..],
            &[1, 0, 7, 0, 255, 255, 255, 255],
            &[2, 0, 5, 0, 232, 3, 0, 0],
            &[4, 0, 5, 0, 255, 255, 255, 255],
        ]
        .concat();
        let all = [
            ("user.hut", b"larkfell".to_vec()),
            ("system.posix_acl_access", acl),
            ("security.capability", vec![1, 0, 0, 2, 0, 32, 0, 0]),
            ("trusted.empty", Vec::new()),
        ]
        .map(|(name, value)| Xattr {
            name: name.to_owned(),
            value,
        });
        let kept: Vec<Kept> = all.iter().map(|one| Kept::of(one).unwrap()).collect();
        let seen = |kept: Vec<Kept>| {
            let mut seen: Vec<Xattr> = kept.iter().filter_map(Kept::as_seen).collect();
            seen.sort();
            seen
        };
        let mut expected = all.to_vec();
        expected.sort();
        let block = block_of(kept.clone(), 1024).unwrap();
        assert_eq!(seen(in_block(&block).unwrap()), expected);
        let mut raw = vec![0; 512];
        put16(&mut raw, node::EXTRA_SIZE, 32);
        assert!(put_in_inode(&mut raw, &kept));
        assert_eq!(seen(in_inode(&raw).unwrap()), expected);
        assert!(!put_in_inode(&mut [0; 192], &kept));
    }

    #[test]
    fn names_that_cannot_be_kept() {
        for name in [
            "user.",
            "other.name",
            "system.data",
            "user",
            "system.posix_acl_accessory",
        ] {
            let attribute = Xattr {
                name: name.to_owned(),
                value: vec![1],
            };
            let is_kept = Kept::of(&attribute).is_some();
            assert_eq!(is_kept, name == "system.posix_acl_accessory", "{name}");
        }
    }
}
