//! `pinewrit table name`

use pinewrit_args::ChangeArgs;

use super::number_of;
use super::step::{Step, edit};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change;

pub(super) fn rename(cx: &Context, change: &ChangeArgs, partition: &str, name: &str) -> Outcome {
    let opened = change::open(cx, change, None)?;
    let number = number_of(&opened, partition)?;
    let step = Step {
        command: "table name",
        done: format!("partition {number} of {} renamed", opened.name),
        loses: None,
    };
    edit(cx, change, &opened, step, |table, _| {
        table.set_name(number, name)
    })
}
