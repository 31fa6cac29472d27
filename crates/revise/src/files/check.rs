//! `pinewrit files check`

use std::path::Path;

use pinewrit_args::ReadArgs;
use pinewrit_ui::text::printable;
use pinewrit_ui::{Exit, Message, style, units, words};
use pinewrit_volume::files::{Difference, compare, read_expected};

use super::look::{look, not_there};
use crate::events::CheckEvent;
use pinewrit_session::Context;
use pinewrit_session::Outcome;

pub(super) fn check(cx: &Context, at: &ReadArgs, list: &Path) -> Outcome {
    let unreadable = |found: String| {
        let what = format!("the list {} cannot be read", list.display());
        Message::new(Exit::Settings, what)
            .fact("found", found)
            .remedy("pinewrit files list MEDIUM PLACE --expected prints one")
    };
    let text = std::fs::read_to_string(list).map_err(|e| unreadable(e.to_string()))?;
    let expected = read_expected(&text).map_err(|e| unreadable(e.trim().to_owned()))?;
    let differences = look(cx, at, |files, name| {
        let compared = compare(files, &at.place.path, &expected);
        compared.map_err(|e| match e {
            pinewrit_volume::files::FilesError::NotFound(_) => not_there(at, files),
            e => words::files_error(name, &e),
        })
    })?;
    cx.ui.event(&CheckEvent {
        command: "files check",
        place: at.place.to_string(),
        expected: expected.len(),
        differences: &differences,
    });
    if differences.is_empty() {
        let good = style::GOOD;
        let count = units::counted(expected.len() as u64, "file");
        cx.ui.result(format!(
            "{good}equal:{good:#} {} has {count}, all as expected\n",
            at.place
        ));
        return Ok(());
    }
    let count = units::counted(differences.len() as u64, "difference");
    let what = format!("{} is not as expected: {count}", at.place);
    let message = Message::new(Exit::Differences, what);
    Err(differences.iter().fold(message, |message, difference| {
        let (name, text) = told(difference);
        message.fact(name, text)
    }))
}

fn told(difference: &Difference) -> (&'static str, String) {
    match difference {
        Difference::Missing { path, instead } => match instead {
            None => ("missing", printable(path)),
            Some(other) => (
                "missing",
                format!(
                    "{}; an editor renamed it to {}",
                    printable(path),
                    printable(other)
                ),
            ),
        },
        Difference::Extra { path } => ("extra", printable(path)),
        Difference::Size {
            path,
            expected,
            found,
        } => {
            let (expected, found) = (units::grouped(*expected), units::grouped(*found));
            (
                "size",
                format!("{}: {found} bytes, expected {expected}", printable(path)),
            )
        }
        Difference::Content { path } => ("content", printable(path)),
    }
}
