//! `pinewrit table resize`

use pinewrit_table::PartitionSize;

use super::number_of;
use super::step::{Step, edit};
use crate::args::ChangeArgs;
use crate::commands::Outcome;
use crate::context::Context;
use crate::context::change;

pub(super) fn resize(
    cx: &Context,
    change: &ChangeArgs,
    partition: &str,
    size: PartitionSize,
    with_filesystem: bool,
) -> Outcome {
    let opened = change::open(cx, change, None)?;
    let number = number_of(&opened, partition)?;
    let step = Step {
        grows: with_filesystem.then_some(number),
        command: "table resize",
        done: format!("partition {number} of {} resized", opened.name),
        loses: None,
    };
    edit(cx, change, &opened, step, |table, _| {
        table.resize(number, size)
    })
}
