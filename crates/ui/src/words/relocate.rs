//! Words of moves of partitions.

use pinewrit_relocate::{MoveError, MovePlan};

use super::inspection::FactList;
use super::{commit_error, disk_error, error_chain, table_error};
use crate::{Exit, Message, units};

/// A partition that has been moved in part.
pub fn interrupted_move(name: &str, partition: u32, to: u64) -> Message {
    let what = format!("a move of partition {partition} of {name} was interrupted");
    Message::new(Exit::Refused, what)
        .fact(
            "state",
            "nothing was changed; the partition is between its old and its new place",
        )
        .remedy(format!(
            "pinewrit table move {name} {partition} --to {to} goes on with it"
        ))
}

/// Why a partition was not moved.
pub fn move_error(name: &str, (partition, to): (u32, u64), error: &MoveError) -> Message {
    let again = format!("pinewrit table move {name} {partition} --to {to} goes on with it");
    let kept = |message: Message| {
        message
            .instead(
                "state",
                "it is between its old and its new place; nothing is lost",
            )
            .remedy(again.clone())
    };
    match error {
        MoveError::Table(error) => table_error(name, error)
            .fact("state", "nothing was changed")
            .remedy(format!("pinewrit table show {name} lists what is free")),
        MoveError::InPlace(_) => {
            Message::new(Exit::Usage, error.to_string()).fact("state", "nothing was changed")
        }
        MoveError::Interrupted { partition, to } => interrupted_move(name, *partition, *to),
        MoveError::Elsewhere => Message::new(
            Exit::Refused,
            format!(
                "a move of partition {partition} of {name} was interrupted on another computer"
            ),
        )
        .fact("state", "nothing was changed")
        .fact("because", "that computer has the bytes of the last step")
        .remedy("the same command there"),
        MoveError::InTheWay(file) => Message::new(Exit::Refused, error.to_string())
            .fact("state", "nothing was changed")
            .remedy("that medium in this reader, and its own table move again")
            .remedy(format!(
                "or remove {}, if that medium is lost",
                file.display()
            )),
        MoveError::Cancelled => kept(Message::new(Exit::Interrupted, "stopped as requested")),
        MoveError::Disk(error) => kept(disk_error(name, error)),
        MoveError::Commit(error) => kept(commit_error(name, error)),
        MoveError::ReadBack { .. } => kept(Message::new(
            Exit::Medium,
            format!("{name} is bad: {error}"),
        )),
        _ => kept(Message::new(Exit::Refused, error_chain(error))),
    }
}

/// Where a partition goes.
pub fn move_plan(plan: &MovePlan, facts: &mut FactList) {
    facts.add("from", units::exact(plan.from).trim_start());
    facts.add("to", units::exact(plan.to).trim_start());
    let (used, len) = (units::size(plan.used_bytes), units::size(plan.len));
    facts.add("content", format!("{used} of {len}"));
    if plan.overlaps {
        facts.add(
            "meanwhile",
            "the partition is in no table: old and new place share bytes",
        );
    }
    if !plan.to.is_multiple_of(1 << 20) {
        facts.add(
            "note",
            "the new start is no multiple of 1 MiB: cards are slower then",
        );
    }
}
