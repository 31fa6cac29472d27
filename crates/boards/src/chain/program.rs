//! What a program needs in order to run: another one that reads it.

/// What runs a program that is not machine code alone: the shell of a script (execve(2)), or the
/// loader that an ELF file names (System V ABI, "Program Interpreter").
pub(super) fn interpreter(head: &[u8]) -> Option<String> {
    if let Some(line) = head.strip_prefix(b"#!") {
        let end = line.iter().position(|byte| *byte == b'\n')?;
        let text = String::from_utf8_lossy(&line[..end]).into_owned();
        return text.split_ascii_whitespace().next().map(str::to_owned);
    }
    let elf = Elf::of(head)?;
    let mut parts = (0..elf.count.min(64)).filter_map(|index| elf.part(index));
    let (at, len) =
        parts.find_map(|(kind, at, len)| (kind == Elf::INTERPRETER).then_some((at, len)))?;
    let path = head.get(at..at.checked_add(len)?)?;
    let path = path.split(|byte| *byte == 0).next()?;
    Some(String::from_utf8_lossy(path).into_owned())
}

/// The table of parts of an ELF file with little-endian numbers.
struct Elf<'h> {
    head: &'h [u8],
    is_wide: bool,
    table: usize,
    entry: usize,
    count: usize,
}

impl<'h> Elf<'h> {
    /// `PT_INTERP`.
    const INTERPRETER: usize = 3;

    fn of(head: &'h [u8]) -> Option<Self> {
        let is_wide = match head.get(..6)? {
            [0x7f, b'E', b'L', b'F', 2, 1] => true,
            [0x7f, b'E', b'L', b'F', 1, 1] => false,
            _ => return None,
        };
        // e_phoff, e_phentsize, e_phnum
        let (table, entry, count) = match is_wide {
            true => (number(head, 32, 8)?, 54, 56),
            false => (number(head, 28, 4)?, 42, 44),
        };
        Some(Self {
            head,
            is_wide,
            table,
            entry: number(head, entry, 2)?,
            count: number(head, count, 2)?,
        })
    }

    /// `p_type`, `p_offset` and `p_filesz` of a part.
    fn part(&self, index: usize) -> Option<(usize, usize, usize)> {
        let at = self.table.checked_add(index.checked_mul(self.entry)?)?;
        let field = |offset: usize, len: usize| number(self.head, at.checked_add(offset)?, len);
        Some(match self.is_wide {
            true => (field(0, 4)?, field(8, 8)?, field(32, 8)?),
            false => (field(0, 4)?, field(4, 4)?, field(16, 4)?),
        })
    }
}

fn number(bytes: &[u8], at: usize, len: usize) -> Option<usize> {
    let mut all = [0; 8];
    all[..len].copy_from_slice(bytes.get(at..at.checked_add(len)?)?);
    usize::try_from(u64::from_le_bytes(all)).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(b"#!/bin/busybox sh\necho\n", Some("/bin/busybox"))]
    #[case(b"#! /bin/sh\n", Some("/bin/sh"))]
    #[case(b"#!\n", None)]
    #[case(b"#!/bin/sh", None)]
    #[case(b"", None)]
    fn scripts(#[case] head: &[u8], #[case] expected: Option<&str>) {
        assert_eq!(interpreter(head).as_deref(), expected);
    }

    fn elf(is_wide: bool, kind: u8) -> Vec<u8> {
        let mut head = vec![0; 512];
        head[..6].copy_from_slice(&[0x7f, b'E', b'L', b'F', if is_wide { 2 } else { 1 }, 1]);
        let (table, entry, count, at, len) = match is_wide {
            true => (32, 54, 56, 8, 32),
            false => (28, 42, 44, 4, 16),
        };
        (head[table], head[entry], head[count]) = (64, 56, 2);
        let second = 64 + 56;
        (head[second], head[second + at], head[second + at + 1]) = (kind, 0, 1);
        head[second + len] = 20;
        head[256..276].copy_from_slice(b"/lib/ld-made-up.so\0\0");
        head
    }

    #[rstest]
    #[case(true)]
    #[case(false)]
    fn programs(#[case] is_wide: bool) {
        let found = interpreter(&elf(is_wide, 3));
        assert_eq!(found.as_deref(), Some("/lib/ld-made-up.so"));
        assert_eq!(interpreter(&elf(is_wide, 1)), None);
    }

    proptest! {
        #[test]
        fn no_bytes_panic(is_wide: bool, at in 0..512_usize, value: u8, cut in 0..512_usize) {
            let mut head = elf(is_wide, 3);
            head[at] = value;
            let _ = interpreter(&head);
            let _ = interpreter(&head[..cut]);
        }
    }
}
