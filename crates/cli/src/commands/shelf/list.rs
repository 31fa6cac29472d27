//! `pinewrit shelf list` and `show`.

use std::collections::HashMap;
use std::path::Path;

use comfy_table::presets::NOTHING;
use comfy_table::{Cell, CellAlignment, Table};
use pinewrit_args::ShelfListArgs;
use pinewrit_disk::parse_size;
use pinewrit_image::Location;
use pinewrit_ledger::Record;
use pinewrit_session::{Context, boards, medium, shelf};
use pinewrit_shelf::{Found, Image, Shelf};
use pinewrit_ui::text::printable;
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::{Exit, Message, style, units, words};

use super::{ImageRow, Outcome, is_here, name, tell};

pub(super) fn run(cx: &Context, args: &ShelfListArgs) -> Outcome {
    let shelf = shelf::open(cx)?;
    let room = args
        .fits
        .as_deref()
        .map(|text| room(cx, text))
        .transpose()?;
    let mut images = shelf.images();
    if !args.all {
        // They are sorted, the newest version first.
        images.dedup_by(|next, first| next.image.name == first.image.name);
    }
    let all = images.len();
    images.retain(|found| is_wanted(found.image, args.board.as_deref(), room));
    let rows = images.iter().map(|found| ImageRow::of(cx, found, None));
    tell(cx, "shelf list", rows.collect());
    if images.is_empty() {
        return Err(nothing(all));
    }
    cx.ui.result(table(cx, &images));
    Ok(())
}

fn nothing(all: usize) -> Message {
    match all {
        0 => Message::new(Exit::NotFound, "the shelf is empty")
            .remedy("pinewrit shelf add IMAGE puts an image into your catalogue")
            .remedy("pinewrit shelf use ADDRESS follows a team's"),
        all => {
            let images = units::counted(all as u64, "image");
            Message::new(Exit::NotFound, format!("none of the {images} matches"))
                .remedy("`pinewrit shelf list` without --board and --fits shows them all")
        }
    }
}

/// The bytes of a size, or of a medium.
fn room(cx: &Context, text: &Path) -> Result<u64, Message> {
    if let Some(size) = text.to_str().and_then(|text| parse_size(text).ok()) {
        return Ok(size);
    }
    let chosen = medium::find(cx, text, false)?;
    let opened = cx.readers.open_for_reading(&chosen.path);
    let opened = opened.map_err(|e| words::medium_error(&e))?;
    Ok(opened.device.size())
}

fn is_wanted(image: &Image, board: Option<&str>, room: Option<u64>) -> bool {
    let of_board = board.is_none_or(|board| {
        let mut own = image.boards.iter();
        own.any(|name| name.eq_ignore_ascii_case(board))
    });
    let needed = image.smallest.max(image.unpacked);
    let fits = room.is_none_or(|room| needed.is_none_or(|needed| needed <= room));
    of_board && fits
}

/// Where it is, in a word.
fn place(cx: &Context, location: &Location) -> String {
    match location {
        location if is_here(cx, location) => "here".to_owned(),
        Location::Url(url) => {
            let (_, rest) = url.split_once("://").unwrap_or(("", url));
            printable(rest.split('/').next().unwrap_or(rest))
        }
        _ => "missing".to_owned(),
    }
}

fn or_dash(text: Option<String>) -> String {
    text.filter(|text| !text.is_empty())
        .unwrap_or_else(|| "-".to_owned())
}

fn table(cx: &Context, images: &[Found<'_>]) -> String {
    let (dim, warning) = (style::DIM, style::WARNING);
    let heads = [
        "image",
        "version",
        "date",
        "architecture",
        "unpacked",
        "boards",
        "place",
    ];
    let mut table = Table::new();
    table.load_style(NOTHING);
    table.set_header(heads.map(|head| Cell::new(format!("{dim}{head}{dim:#}"))));
    for found in images {
        let image = found.image;
        let replaced = match &image.replaced_by {
            Some(instead) => format!("{warning}replaced by {instead}{warning:#}"),
            None => place(cx, &found.location()),
        };
        table.add_row([
            Cell::new(&image.name),
            Cell::new(&image.version),
            Cell::new(or_dash(image.date.map(|date| date.to_string()))),
            Cell::new(or_dash(image.architecture.map(|one| one.word().to_owned()))),
            Cell::new(or_dash(image.unpacked.map(units::size))).set_alignment(CellAlignment::Right),
            Cell::new(or_dash(Some(printable(&image.boards.join(", "))))),
            Cell::new(replaced),
        ]);
    }
    let lines = table.lines().map(|line| format!(" {}\n", line.trim_end()));
    lines.collect()
}

pub(super) fn show(cx: &Context, text: &str) -> Outcome {
    let wanted = name(text)?;
    let shelf = shelf::open(cx)?;
    let found = shelf.find(&wanted);
    let found = found.map_err(|e| words::shelf::not_found(&e, shelf.catalogues.is_empty()))?;
    let versions = shelf.versions(&wanted.name);
    let counts = units_of(cx, &versions);
    let count = |one: &Found<'_>| {
        let counts = counts.as_ref()?;
        Some(counts.get(&one.image.version).copied().unwrap_or(0))
    };
    let shown = versions
        .iter()
        .filter(|one| wanted.version.is_none() || one.image.version == found.image.version);
    let rows = shown.map(|one| ImageRow::of(cx, one, count(one)));
    tell(cx, "shelf show", rows.collect());
    let mut text = facts(cx, &found, &shelf);
    if versions.len() > 1 || counts.is_some() {
        text += &table_of_versions(&versions, &count);
    }
    cx.ui.result(text);
    Ok(())
}

fn facts(cx: &Context, found: &Found<'_>, shelf: &Shelf) -> String {
    let (strong, warning) = (style::STRONG, style::WARNING);
    let image = found.image;
    let mut facts = FactList::default();
    let location = found.location();
    let here = match is_here(cx, &location) {
        true => "",
        false => "  (not here; `pinewrit shelf get` fetches it)",
    };
    facts.add(
        "source",
        format!("{}{here}", printable(&location.to_string())),
    );
    if let Some(date) = image.date {
        facts.add("date", date.to_string());
    }
    let sizes = [
        ("packed", image.packed),
        ("unpacked", image.unpacked),
        ("smallest", image.smallest),
    ];
    for (name, bytes) in sizes {
        if let Some(bytes) = bytes {
            facts.add(name, units::exact(bytes).trim().to_owned());
        }
    }
    if let Some(checksum) = &image.checksum {
        facts.add("checksum", checksum.to_string());
    }
    if let Some(architecture) = image.architecture {
        facts.add("runs on", architecture.word());
    }
    if !image.boards.is_empty() {
        facts.add("boards", printable(&image.boards.join(", ")));
    }
    let unknown: Vec<&String> = image
        .boards
        .iter()
        .filter(|name| boards::find(name).is_err())
        .collect();
    if !unknown.is_empty() && unknown.len() == image.boards.len() {
        facts.add(
            "",
            "no board file says what they need (`pinewrit boards list`)",
        );
    }
    let texts = [("intake", &image.intake), ("notes", &image.notes)];
    for (name, text) in texts {
        if let Some(text) = text {
            facts.add(name, printable(text));
        }
    }
    if found.must_be_signed() {
        facts.add("signed", "must be, by a key that you have");
    }
    if let Some(instead) = &image.replaced_by {
        facts.add("replaced", format!("{warning}by {instead}{warning:#}"));
    }
    if shelf.catalogues.len() > 1 {
        facts.add("listed in", printable(&found.base.place().to_string()));
    }
    let name = image.full_name();
    format!("{strong}{name}{strong:#}\n{}", facts.to_text())
}

/// How many units have each version; `None` without a ledger that answers at once.
fn units_of(cx: &Context, versions: &[Found<'_>]) -> Option<HashMap<String, usize>> {
    if !cx.has_ledger_here() {
        return None;
    }
    let records = cx.ledger().ok()?.current().ok()?;
    let mut counts = HashMap::new();
    for record in &records {
        if let Some(found) = made_from(record, versions) {
            *counts.entry(found.image.version.clone()).or_default() += 1;
        }
    }
    Some(counts)
}

/// The image that a medium was made from: by its checksum, or else by the file's name, if only one is
/// called so.
pub(crate) fn made_from<'f, 's>(record: &Record, images: &'f [Found<'s>]) -> Option<&'f Found<'s>> {
    let checksum = record.checksum.as_deref();
    let is_it = |found: &&Found<'_>| {
        let listed = found.image.checksum.as_ref();
        listed.is_some_and(|listed| Some(listed.to_string().as_str()) == checksum)
    };
    if let Some(found) = images.iter().find(is_it) {
        return Some(found);
    }
    let kind = checksum.and_then(|text| text.split(':').next());
    let mut called = images.iter().filter(|found| {
        let listed = found.image.checksum.as_ref();
        // What has another checksum of the same kind is another file.
        let is_other = listed.is_some_and(|listed| Some(listed.kind.word()) == kind);
        !is_other && record.image.as_deref() == Some(found.location().name().as_str())
    });
    called.next().filter(|_| called.next().is_none())
}

fn table_of_versions(
    versions: &[Found<'_>],
    count: &dyn Fn(&Found<'_>) -> Option<usize>,
) -> String {
    let dim = style::DIM;
    let has_counts = versions.iter().any(|one| count(one).is_some());
    let mut text = format!("\n{dim}versions{dim:#}\n");
    let width = versions.iter().map(|one| one.image.version.chars().count());
    let width = width.max().unwrap_or(0).max(8);
    for (index, one) in versions.iter().enumerate() {
        let image = one.image;
        let date = or_dash(image.date.map(|date| date.to_string()));
        let units = match count(one) {
            Some(0) if has_counts => "  no unit has it".to_owned(),
            Some(units) => format!("  {}", units::counted(units as u64, "unit")),
            None => String::new(),
        };
        let newest = if index == 0 { "  newest" } else { "" };
        text += &format!("  {:<width$}  {date:<10}{units}{newest}\n", image.version);
    }
    text
}
