//! `pinewrit table type`

use pinewrit_args::ChangeArgs;

use super::step::{Step, edit};
use super::{kind_on, number_of};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change;

pub(super) fn set_type(cx: &Context, change: &ChangeArgs, partition: &str, kind: &str) -> Outcome {
    let opened = change::open(cx, change, None)?;
    let number = number_of(&opened, partition)?;
    let step = Step {
        command: "table type",
        done: format!("partition {number} of {} has a new type", opened.name),
        loses: None,
    };
    let kind = kind_on(&opened, kind)?;
    edit(cx, change, &opened, step, |table, _| {
        table.set_kind(number, kind)
    })
}
