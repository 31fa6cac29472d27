//! `pinewrit table add`

use pinewrit_args::AddArgs;
use pinewrit_table::{NewPartition, TableEdit};
use pinewrit_ui::words;

use super::step::{Step, edit};
use super::{ids, kind_on};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change;

pub(super) fn add_partition(cx: &Context, args: &AddArgs) -> Outcome {
    let opened = change::open(cx, &args.change, None)?;
    let kind = kind_on(&opened, &args.kind)?;
    let new = NewPartition {
        start: args.start,
        alignment: args.align,
        name: args.name.clone().unwrap_or_default(),
        is_logical: args.logical,
        ..NewPartition::new(kind, args.size)
    };
    // Its number is known once it has a place.
    let trial = TableEdit::read(&*opened.medium.device).and_then(|mut t| t.add(&new, &mut ids()));
    let number = trial.map_err(|e| words::table_error(&opened.name, &e))?;
    let step = Step {
        command: "table add",
        done: format!("partition {number} added to {}", opened.name),
        loses: None,
    };
    edit(cx, &args.change, &opened, step, |table, _| {
        let number = table.add(&new, &mut ids())?;
        if args.active {
            table.activate(Some(number))
        } else {
            Ok(())
        }
    })
}
