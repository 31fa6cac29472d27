//! `pinewrit table convert`

use pinewrit_args::ChangeArgs;
use pinewrit_table::SchemeKind;

use super::ids;
use super::step::{Step, edit};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change;

pub(super) fn convert(cx: &Context, change: &ChangeArgs, scheme: SchemeKind) -> Outcome {
    let opened = change::open(cx, change, None)?;
    let step = Step {
        command: "table convert",
        done: format!(
            "{} now has {}, with the same partitions",
            opened.name,
            scheme.with_article()
        ),
        loses: None,
    };
    edit(cx, change, &opened, step, |table, device| {
        table.convert(scheme, device, &mut ids())
    })
}
