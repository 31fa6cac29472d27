//! `pinewrit table create` and `pinewrit table wipe`

use pinewrit_args::{ChangeArgs, SchemeArg};
use pinewrit_core::table::{prepare, prepare_wipe};
use pinewrit_table::TableEdit;
use pinewrit_ui::Message;
use pinewrit_ui::words::{self, inspection};

use super::step::{Step, finish};
use super::{ids, look_at};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change::{self, Opened};

pub(super) fn create(
    cx: &Context,
    args: &ChangeArgs,
    scheme: SchemeArg,
    size: Option<u64>,
) -> Outcome {
    let opened = change::open(cx, args, size)?;
    let step = replace_step(&opened, "table create", scheme)?;
    let prepared = prepare(&*opened.medium.device, |device| {
        TableEdit::replace(device, scheme.kind(), &mut ids())
    });
    let prepared = prepared.map_err(|e| words::table_error(&opened.name, &e))?;
    finish(cx, args, &opened, step, prepared)
}

pub(super) fn wipe(cx: &Context, args: &ChangeArgs, scheme: SchemeArg) -> Outcome {
    let opened = change::open(cx, args, None)?;
    let mut step = replace_step(&opened, "table wipe", scheme)?;
    step.done = format!(
        "{} has an empty {} and nothing else",
        opened.name,
        scheme.kind().word()
    );
    let device = &*opened.medium.device;
    let empty = TableEdit::replace(device, scheme.kind(), &mut ids());
    let prepared = empty.and_then(|empty| prepare_wipe(device, &empty));
    let prepared = prepared.map_err(|e| words::table_error(&opened.name, &e))?;
    finish(cx, args, &opened, step, prepared)
}

fn replace_step(
    opened: &Opened,
    command: &'static str,
    scheme: SchemeArg,
) -> Result<Step, Message> {
    let found = look_at(opened)?;
    let name = &opened.name;
    let lost = inspection::summary(&found);
    let loses = !found.is_unknown();
    Ok(Step {
        command,
        done: format!("{name} has an empty {}", scheme.kind().word()),
        loses: loses.then(|| {
            (
                format!("All of {name} ({lost}) will be lost. Continue?"),
                lost,
            )
        }),
    })
}
