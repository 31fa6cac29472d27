//! `pinewrit ledger list --older`: units whose image has a newer version.

use std::collections::{BTreeMap, HashMap};

use pinewrit_ledger::{Ledger, Record};
use pinewrit_session::{Context, shelf};
use pinewrit_ui::{Exit, Message, style, units};

use super::{failed, tell};
use crate::commands::Outcome;
use crate::commands::shelf::made_from;

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
    // They are sorted by name, the newest first.
    let mut newest: HashMap<&str, String> = HashMap::new();
    for found in &images {
        let full = found.image.full_name().to_string();
        newest.entry(&found.image.name).or_insert(full);
    }
    for record in ledger.current().map_err(failed)? {
        let Some(found) = made_from(&record, &images) else {
            continue;
        };
        let has = found.image.full_name().to_string();
        let replaced = found.image.replaced_by.as_ref().map(ToString::to_string);
        let newest = replaced.as_ref().or(newest.get(found.image.name.as_str()));
        if let Some(newer) = newest.filter(|newest| **newest != has) {
            *counts.entry((has, newer.clone())).or_default() += 1;
            older.push(record);
        }
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
