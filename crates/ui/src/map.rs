//! A scale bar of the medium: partitions with their used and free parts, and gaps.

use pinewrit_core::inspect::{Inspection, PartitionFacts};

use super::style;

const USED: char = '█';
const FREE: char = '▒';
const UNKNOWN: char = '▓';
const GAP: char = '·';

/// One column of the bar.
#[derive(Clone, Copy, PartialEq)]
enum Cell {
    Gap,
    /// Position of the partition in the list, and the sign for its content.
    Partition(usize, char),
}

/// Two lines, the bar and the partition numbers below it, `width` columns wide and indented by
/// `indent` blanks. Every partition has at least one column.
pub fn draw(inspection: &Inspection, size: u64, width: usize, indent: usize) -> String {
    let cells = cells(&inspection.partitions, size, width);
    let blanks = " ".repeat(indent);
    let mut bar = blanks.clone();
    let mut numbers = blanks;
    for run in cells.chunk_by(|a, b| a == b) {
        let (style, sign) = match run[0] {
            Cell::Gap => (style::DIM, GAP),
            Cell::Partition(index, sign) => (style::partition(index), sign),
        };
        let signs: String = std::iter::repeat_n(sign, run.len()).collect();
        bar += &format!("{style}{signs}{style:#}");
    }
    let mut next_free = 0;
    for (index, partition) in inspection.partitions.iter().enumerate() {
        let is_own = |cell: &Cell| matches!(cell, Cell::Partition(own, _) if *own == index);
        let Some(at) = cells.iter().position(is_own) else {
            continue;
        };
        let label = partition.number.to_string();
        if at >= next_free {
            let style = style::partition(index);
            numbers += &" ".repeat(at - next_free);
            numbers += &format!("{style}{label}{style:#}");
            next_free = at + label.len();
        }
    }
    format!("{bar}\n{numbers}\n")
}

/// What the signs of the bar mean.
pub fn legend() -> String {
    let dim = style::DIM;
    format!("{dim}{USED} used  {FREE} free  {UNKNOWN} not known  {GAP} no partition{dim:#}")
}

fn cells(partitions: &[PartitionFacts], size: u64, width: usize) -> Vec<Cell> {
    let mut cells = vec![Cell::Gap; width];
    let size = size.max(1);
    let column =
        |byte: u64| (u128::from(byte.min(size)) * width as u128 / u128::from(size)) as usize;
    for (index, partition) in partitions.iter().enumerate() {
        let range = partition.range();
        let from = column(range.start).min(width - 1);
        let to = column(range.end).clamp(from + 1, width);
        let facts = partition.filesystem.as_ref();
        let used = facts.and_then(|facts| facts.used);
        let used_to = used.map(|used| column(range.start.saturating_add(used)).max(from + 1));
        for (at, cell) in cells.iter_mut().enumerate().take(to).skip(from) {
            let sign = match used_to {
                None => UNKNOWN,
                Some(used_to) if at < used_to => USED,
                Some(_) => FREE,
            };
            *cell = Cell::Partition(index, sign);
        }
    }
    cells
}

#[cfg(test)]
mod tests {
    use super::*;
    use pinewrit_volume::{FilesystemFacts, FilesystemKind};

    fn partition(number: u32, start: u64, size: u64, used: Option<u64>) -> PartitionFacts {
        PartitionFacts {
            number,
            kind: pinewrit_table::PartitionType::Mbr(0x83),
            code: "83".into(),
            start,
            size,
            partuuid: None,
            active: false,
            name: None,
            filesystem: Some(FilesystemFacts {
                kind: FilesystemKind::Ext(pinewrit_ext4::Generation::Ext4),
                label: None,
                id: None,
                size: Some(size),
                used,
                free: None,
            }),
        }
    }

    fn signs(partitions: &[PartitionFacts], size: u64) -> String {
        let sign = |cell: &Cell| match cell {
            Cell::Gap => GAP,
            Cell::Partition(_, sign) => *sign,
        };
        cells(partitions, size, 20).iter().map(sign).collect()
    }

    #[test]
    fn the_bar_is_to_scale() {
        let partitions = [partition(1, 10, 20, Some(10)), partition(2, 30, 40, None)];
        assert_eq!(signs(&partitions, 100), "··██▒▒▓▓▓▓▓▓▓▓······");
    }

    #[test]
    fn the_smallest_partition_and_one_past_the_end_are_seen() {
        let partitions = [
            partition(1, 0, 1, None),
            partition(2, u64::MAX - 5, 5, None),
        ];
        assert_eq!(signs(&partitions, 1000), "▓··················▓");
    }
}
