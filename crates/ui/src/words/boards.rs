//! What boards need, and whether a medium has it, in words.

use pinewrit_boards::board::{BoardWay, LoaderNeed, SchemeNeed};
use pinewrit_boards::chain::{Firmware, Verdict};
use pinewrit_boards::{Board, BoardError, Found, Judged, JudgedWay, Met, Need, Readiness};

use crate::{Exit, Message, style, units};

/// A board file that cannot be used.
pub fn board_error(name: &str, error: &BoardError) -> Message {
    match error {
        BoardError::Io(error) => {
            let what = format!("the board file {name} cannot be read");
            Message::new(Exit::Settings, what).fact("system", error.to_string())
        }
        BoardError::Mistakes(mistakes) => super::mistakes(name, mistakes),
    }
}

/// Whether a board starts from a medium: a line for each need.
pub fn readiness(readiness: &Readiness) -> String {
    let strong = style::STRONG;
    let mut text = format!(
        "\n{strong}{}{strong:#}: {}\n",
        readiness.board,
        styled(readiness.verdict, super::chain::verdict(readiness.verdict))
    );
    for way in &readiness.ways {
        text += &judged_way(way);
    }
    text
}

fn styled(verdict: Verdict, word: &str) -> String {
    let style = match verdict {
        Verdict::Starts => style::GOOD,
        Verdict::CannotBeTold => style::WARNING,
        Verdict::DoesNotStart => style::ERROR,
    };
    format!("{style}{word}{style:#}")
}

fn judged_way(way: &JudgedWay) -> String {
    let name = match way.name.as_str() {
        "" => "in this way",
        name => name,
    };
    let media = match way.media.as_slice() {
        [] => String::new(),
        media => format!(", from {}", media.join(", ")),
    };
    let word = super::chain::verdict(way.verdict);
    let mut text = format!("  {name}{media}: {}\n", styled(way.verdict, word));
    for one in &way.needs {
        let (style, word) = match one.met {
            Met::Yes => (style::GOOD, "yes"),
            Met::Unknown => (style::WARNING, "?  "),
            Met::No => (style::ERROR, "no "),
        };
        let found = found(one);
        text += &format!("    {style}{word}{style:#}  {}{found}\n", need(&one.need));
        if let Found::Ways(ways) = &one.found {
            for line in ways.iter().flat_map(super::chain::way) {
                text += &format!("         {line}\n");
            }
        }
        if let Some(remedy) = remedy(one) {
            text += &format!("         → {remedy}\n");
        }
    }
    text
}

fn need(need: &Need) -> String {
    match need {
        Need::Size { smallest, largest } => match (smallest, largest) {
            (Some(least), Some(most)) => format!(
                "a medium from {} to {}",
                units::size(*least),
                units::size(*most)
            ),
            (Some(least), None) => format!("a medium of {} or more", units::size(*least)),
            (_, most) => format!("a medium of at most {}", units::size(most.unwrap_or(0))),
        },
        Need::Scheme { wanted: None } => "no partition table".to_owned(),
        Need::Scheme { wanted: Some("") } => "a partition table".to_owned(),
        Need::Scheme { wanted: Some(word) } => format!("the table is {word}"),
        Need::Partition { number } => format!("there is a partition {number}"),
        Need::Active { number } => format!("partition {number} is active"),
        Need::Start { number, at } => {
            format!("partition {number} begins at {}", place(*at))
        }
        Need::Filesystem { number, wanted } => {
            format!("partition {number} is {}", wanted.join(" or "))
        }
        Need::Cluster { number, largest } => format!(
            "clusters of partition {number} have at most {}",
            place(*largest)
        ),
        Need::Label { number, wanted } => format!("partition {number} is labelled {wanted}"),
        Need::File { number, path } => format!("{number}:{path} exists"),
        Need::First { number, path } => format!("{number}:{path} is the first entry"),
        Need::OnePiece { number, path } => format!("{number}:{path} is in one piece"),
        Need::FileMagic { number, path } => format!("{number}:{path} begins as it must"),
        Need::FileSize {
            number,
            path,
            largest,
        } => format!("{number}:{path} has at most {}", place(*largest)),
        Need::Bytes { name, at } => format!("{name} is at {}", place(*at)),
        Need::Sum { name, .. } => format!("the sum of {name} is right"),
        Need::Chain { firmware } => match firmware {
            Firmware::Uefi => "a loader for UEFI, and what it starts".to_owned(),
            Firmware::LegacyBios => "boot code, and what it starts".to_owned(),
            Firmware::Own => "a text for its loader, and what it starts".to_owned(),
        },
    }
}

/// A place or a length, in binary units where it is a multiple of them.
fn place(bytes: u64) -> String {
    match bytes {
        0 => "0".to_owned(),
        _ if bytes.is_multiple_of(1 << 20) => format!("{} MiB", bytes >> 20),
        _ if bytes.is_multiple_of(1 << 10) => format!("{} KiB", bytes >> 10),
        _ => format!("{} bytes", units::grouped(bytes)),
    }
}

fn found(one: &Judged) -> String {
    match (&one.found, one.met) {
        (Found::Bytes(bytes), _) if matches!(one.need, Need::Size { .. }) => {
            format!(": it has {}", units::size(*bytes))
        }
        (Found::Bytes(end), Met::No) if matches!(one.need, Need::Partition { .. }) => {
            let end = units::grouped(*end);
            format!(": it ends at byte {end}, which is not there")
        }
        (Found::Bytes(bytes), Met::No) => format!(": it is {}", place(*bytes)),
        (Found::Word(word), Met::No) => format!(": it is {word}"),
        (Found::Nothing, Met::No) => ": it is not".to_owned(),
        (Found::Ways(ways), _) if ways.is_empty() => ": there is none".to_owned(),
        _ => String::new(),
    }
}

/// What mends it, where a command can.
fn remedy(one: &Judged) -> Option<String> {
    if one.met != Met::No {
        return None;
    }
    Some(match &one.need {
        Need::Scheme { wanted: Some(word) } if !word.is_empty() => {
            let word = word.to_lowercase();
            format!("pinewrit table convert MEDIUM --scheme {word}")
        }
        Need::Active { number } => format!("pinewrit table activate MEDIUM {number}"),
        Need::Start { number, at } => format!("pinewrit table move MEDIUM {number} --to {at}"),
        Need::File { number, path } => format!("pinewrit files put MEDIUM {number}:{path} FILE"),
        Need::Bytes { at, .. } => {
            format!("pinewrit build with a [[blob]] that has at = \"{at}\" puts it there")
        }
        Need::First { .. } | Need::OnePiece { .. } => {
            "pinewrit build with first = true puts it there".to_owned()
        }
        Need::Filesystem { number, .. } | Need::Cluster { number, .. } => {
            format!("pinewrit format MEDIUM {number} --as …, which empties it")
        }
        Need::Partition { .. } if matches!(one.found, Found::Bytes(_)) => {
            "it is cut off: get or write the image again".to_owned()
        }
        Need::Size { .. } => "take a medium of another size".to_owned(),
        _ => return None,
    })
}

/// What a board needs.
pub fn board(board: &Board) -> String {
    let strong = style::STRONG;
    let mut text = format!(
        "{strong}{}{strong:#}  {}\n",
        board.name,
        board.architecture.word()
    );
    let mut line = |head: &str, value: Option<String>| {
        if let Some(value) = value {
            text += &format!("  {head:<9} {value}\n");
        }
    };
    line("smallest", board.smallest.map(units::size));
    line("largest", board.largest.map(units::size));
    line("memory", board.memory.map(units::size));
    line(
        "serial",
        board.serial_rate.map(|rate| format!("{rate} bit/s")),
    );
    for way in &board.ways {
        text += &way_of_board(way);
    }
    text
}

fn way_of_board(way: &BoardWay) -> String {
    let mut parts = Vec::new();
    parts.extend(way.scheme.map(|scheme| match scheme {
        SchemeNeed::Only(kind) => kind.word().to_owned(),
        SchemeNeed::Either => "MBR or GPT".to_owned(),
        SchemeNeed::No => "no table".to_owned(),
    }));
    for bytes in &way.bytes {
        parts.push(format!("{} at {}", bytes.name, place(bytes.at)));
    }
    for one in &way.partitions {
        let files: Vec<&str> = one.files.iter().map(|file| file.path.as_str()).collect();
        let active = if one.active { ", active" } else { "" };
        let files = match files.as_slice() {
            [] => String::new(),
            files => format!(" with {}", files.join(", ")),
        };
        parts.push(format!("partition {}{active}{files}", one.number));
    }
    parts.push(
        match way.loader {
            LoaderNeed::Uefi => "a loader for UEFI",
            LoaderNeed::Bios => "boot code for a legacy BIOS",
            LoaderNeed::Own => "a text for its own loader",
            LoaderNeed::Listed => "nothing else that is known",
        }
        .to_owned(),
    );
    let name = match way.name.as_str() {
        "" => "way",
        name => name,
    };
    format!("  {name}: {}\n", parts.join("; "))
}
