//! `pinewrit table show`

use pinewrit_core::inspect::inspect;
use pinewrit_disk::BlockDevice;
use pinewrit_table::TableEdit;
use pinewrit_ui::words::{self, inspection};
use pinewrit_ui::{style, units};

use super::TableEvent;
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change;
use pinewrit_session::medium;

pub(super) fn show(cx: &Context, medium: &std::path::Path) -> Outcome {
    let chosen = medium::find(cx, medium, false)?;
    let name = chosen.name();
    change::tell_interrupted(cx, &chosen.path);
    let opened = cx
        .readers
        .open_for_reading(&chosen.path)
        .map_err(|e| words::medium_error(&e))?;
    let size = opened.device.size();
    let found = inspect(&*opened.device, Some(size)).map_err(|e| words::disk_error(&name, &e))?;
    cx.ui.event(&TableEvent {
        command: "table show",
        medium: chosen.medium_name(),
        dry_run: false,
        changed: false,
        before: None,
        after: &found,
    });
    let (strong, warning) = (style::STRONG, style::WARNING);
    let sector = opened.device.logical_sector().bytes();
    let scheme = inspection::scheme(&found);
    let mut text = format!("{strong}{name}{strong:#}  {scheme}\n\n");
    text += &inspection::table(&found, sector, pinewrit_ui::width());
    text += &inspection::identifiers(&found);
    text += &gaps(&*opened.device);
    for problem in &found.problems {
        text += &format!("{warning}warning:{warning:#} {problem}\n");
    }
    cx.ui.result(text);
    Ok(())
}

/// The gaps that are large enough to be useful.
fn gaps(device: &dyn BlockDevice) -> String {
    let Ok(table) = TableEdit::read(device) else {
        return String::new();
    };
    let (sector, dim) = (device.logical_sector().bytes(), style::DIM);
    let gaps = table.gaps().into_iter();
    let large = gaps.filter(|gap| (gap.end - gap.start) * sector >= 2 << 20);
    large
        .map(|gap| {
            let size = units::size((gap.end - gap.start) * sector);
            let (first, last) = (gap.start, gap.end - 1);
            format!("  {dim}free{dim:#}  {size}, sectors {first} to {last}\n")
        })
        .collect()
}
