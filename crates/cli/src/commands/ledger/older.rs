//! `pinewrit ledger list --older`: units whose image has a newer version.

use std::collections::BTreeMap;

use pinewrit_ledger::{Ledger, Record};
use pinewrit_session::{Context, shelf};
use pinewrit_shelf::{Found, Shelf};
use pinewrit_ui::{Exit, Message, style, units};

use super::{failed, tell};
use crate::commands::Outcome;
use crate::commands::shelf::is_of;

pub(super) fn run(cx: &Context, ledger: &mut Ledger) -> Outcome {
    let shelf = shelf::open(cx)?;
    let images = shelf.images();
    if images.is_empty() {
        return Err(Message::new(
            Exit::NotFound,
            "the shelf is empty: nothing says what is newer",
        )
        .remedy("pinewrit shelf add IMAGE puts an image into your catalogue"));
    }
    let mut older: Vec<Record> = Vec::new();
    let mut counts: BTreeMap<(String, String), u64> = BTreeMap::new();
    for record in ledger.current().map_err(failed)? {
        let Some(found) = images.iter().find(|found| is_of(&record, found)) else {
            continue;
        };
        let Some(newer) = newer(&shelf, found) else {
            continue;
        };
        let has = found.image.full_name().to_string();
        *counts.entry((has, newer)).or_default() += 1;
        older.push(record);
    }
    tell(cx, ledger, "ledger list", &older);
    let warning = style::WARNING;
    let mut text = String::new();
    for ((has, newer), count) in &counts {
        let count = units::counted(*count, "unit");
        text += &format!("{warning}{count}{warning:#} with {has}; {newer} is newer\n");
    }
    cx.ui.result(match older.is_empty() {
        true => "all units whose image is on the shelf have its newest version\n".to_owned(),
        false => format!("\n{text}"),
    });
    Ok(())
}

/// What is newer than an image, or replaces it.
fn newer(shelf: &Shelf, found: &Found<'_>) -> Option<String> {
    if let Some(instead) = &found.image.replaced_by {
        return Some(instead.to_string());
    }
    let own = found.image.full_name();
    let newest = shelf.versions(&found.image.name).first()?.image.full_name();
    (newest != own).then(|| newest.to_string())
}
