//! `pinewrit table activate`

use pinewrit_args::ChangeArgs;

use super::number_of;
use super::step::{Step, edit};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change;

pub(super) fn activate(cx: &Context, change: &ChangeArgs, partition: &str) -> Outcome {
    let opened = change::open(cx, change, None)?;
    let number = match partition {
        "none" => None,
        named => Some(number_of(&opened, named)?),
    };
    let done = match number {
        Some(number) => format!("partition {number} of {} is active", opened.name),
        None => format!("no partition of {} is active", opened.name),
    };
    let step = Step {
        command: "table activate",
        done,
        loses: None,
    };
    edit(cx, change, &opened, step, |table, _| table.activate(number))
}
