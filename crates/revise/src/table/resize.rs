//! `pinewrit table resize`

use pinewrit_args::ChangeArgs;
use pinewrit_core::table::prepare_resize;
use pinewrit_disk::FreeWrites;
use pinewrit_table::PartitionSize;
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::{units, words};

use super::number_of;
use super::step::{Step, edit, finish};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change;
use pinewrit_session::clock;

pub(super) fn resize(
    cx: &Context,
    change: &ChangeArgs,
    partition: &str,
    size: PartitionSize,
    with_filesystem: bool,
) -> Outcome {
    let opened = change::open(cx, change, None)?;
    let number = number_of(&opened, partition)?;
    let name = &opened.name;
    let step = Step {
        command: "table resize",
        done: format!("partition {number} of {name} resized"),
        loses: None,
    };
    if !with_filesystem {
        return edit(cx, change, &opened, step, |table, _| {
            table.resize(number, size)
        });
    }
    // What moves goes to unused space at once, unless nothing is to be changed.
    let free = if change.dry_run {
        FreeWrites::Referenced
    } else {
        FreeWrites::Direct
    };
    let device = &*opened.medium.device;
    let waiting = Waiting::new(&cx.ui, format!("working out the new size on {name}"));
    let prepared = prepare_resize(
        device,
        (number, size),
        (free, change.flags()),
        clock::timestamp(),
    );
    drop(waiting);
    let (prepared, resized) = prepared.map_err(|e| words::resize_error(name, number, &e))?;
    change::tell_recovered(&cx.ui, &opened.id, prepared.recovered(), change.dry_run);
    if resized.moved > 0 {
        let moved = units::size(resized.moved);
        let verb = if change.dry_run {
            "would move"
        } else {
            "moved"
        };
        cx.ui.say(format!(
            "{moved} {verb} to the front of partition {number}\n"
        ));
    }
    finish(cx, change, &opened, step, prepared)
}
