//! `pinewrit table remove`

use pinewrit_args::ChangeArgs;

use super::step::{Step, edit};
use super::{lost_partition, number_of};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change;

pub(super) fn remove(cx: &Context, change: &ChangeArgs, partition: &str) -> Outcome {
    let opened = change::open(cx, change, None)?;
    let number = number_of(&opened, partition)?;
    let lost = lost_partition(&opened, number)?;
    let step = Step {
        command: "table remove",
        done: format!("partition {number} of {} removed", opened.name),
        loses: Some((
            format!("Remove partition {number} ({lost}) of {}?", opened.name),
            lost,
        )),
    };
    edit(cx, change, &opened, step, |table, _| table.remove(number))
}
