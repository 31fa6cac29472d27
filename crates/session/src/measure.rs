//! What a measurement that was cut off has left on a medium.

use std::path::PathBuf;

use pinewrit_disk::BlockDevice;
use pinewrit_measure::{Recovery, recover};
use pinewrit_ui::{Message, style, units, words};

use crate::Context;

/// How many are kept for one medium's name: several cards take turns in a reader.
const MOST: u32 = 8;

fn places(cx: &Context, key: &str) -> Vec<PathBuf> {
    let Some(state) = cx.folders.state_if_any() else {
        return Vec::new();
    };
    (1..=MOST).map(|nth| state.kept(key, nth)).collect()
}

/// Puts back what was on the medium before, and determines where the next measurement keeps it.
pub fn settle(
    cx: &Context,
    (name, key): (&str, &str),
    device: &dyn BlockDevice,
) -> Result<Option<PathBuf>, Message> {
    let mut free = None;
    let mut last = None;
    for path in places(cx, key) {
        let recovered = recover(&path, device);
        match recovered.map_err(|e| words::measure::measure_error(name, &e))? {
            Recovery::Nothing => {}
            Recovery::Elsewhere => {
                last = Some(path);
                continue;
            }
            Recovery::PutBack(bytes) => {
                let (style, bytes) = (style::WARNING, units::size(bytes));
                cx.ui.say(format!(
                    "{style}note:{style:#} {name} was being measured when that was interrupted: {bytes} were put \
                     back; it is as it was before\n"
                ));
            }
        }
        free.get_or_insert(path);
    }
    if free.is_none()
        && let Some(path) = &last
    {
        // The last one was abandoned.
        let _ = std::fs::remove_file(path);
    }
    Ok(free.or(last))
}

/// Warns that a medium that is only read has marks on it.
pub fn tell_interrupted(cx: &Context, (name, key): (&str, &str)) {
    if places(cx, key).iter().any(|path| path.exists()) {
        let style = style::WARNING;
        cx.ui.say(format!(
            "{style}note:{style:#} a measurement of {name} was interrupted; the next command that changes it \
             puts back what was there\n"
        ));
    }
}
