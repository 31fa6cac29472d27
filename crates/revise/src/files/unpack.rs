//! Putting many files over existing ones: `unpack`, and `put` of a folder.

use pinewrit_args::{ChangeArgs, FatArgs, OverwriteArg, PutArgs, UnpackArgs};
use pinewrit_image::Location;
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::text::printable;
use pinewrit_ui::{Exit, Message, style, units, words};
use pinewrit_volume::files::{
    Overwrite, Place, Standing, UnpackOptions, UnpackReport, Unpacked, join, unpack as unpack_into,
};

use super::change::{ChangeEvent, Work, tell};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change::{self, confirm};
use pinewrit_session::signals;
use pinewrit_session::source;

/// A folder is put under its own name into a place that ends with `/`; if it ends with `/` itself,
/// only its content is.
pub(super) fn put_folder(cx: &Context, args: &PutArgs) -> Outcome {
    if args.mode.is_some() || args.owner.is_some() {
        let what = "--mode and --owner are for a single file";
        return Err(Message::new(Exit::Usage, what).remedy("leave them out"));
    }
    let is_content = args.file.as_os_str().as_encoded_bytes().ends_with(b"/");
    let name = args.file.file_name().unwrap_or_default().to_string_lossy();
    let is_inside = args.place.is_folder && !is_content && !name.is_empty();
    let to = if is_inside {
        join(&args.place.path, &name)
    } else {
        args.place.path.clone()
    };
    let place = Place {
        path: to.clone(),
        ..args.place.clone()
    };
    let options = UnpackOptions {
        archive: Location::Path(args.file.clone()),
        picks: Vec::new(),
        strip: 0,
        to,
        overwrite: Overwrite::Always,
        open: source::plain_options(),
    };
    put_many(cx, &args.change, &place, &args.fat, &options, "files put")
}

pub(super) fn unpack(cx: &Context, args: &UnpackArgs) -> Outcome {
    let options = UnpackOptions {
        archive: args.archive.clone(),
        picks: args.pick.clone(),
        strip: args.strip,
        to: args.place.path.clone(),
        overwrite: match args.overwrite {
            OverwriteArg::Newer => Overwrite::Newer,
            OverwriteArg::Always => Overwrite::Always,
            OverwriteArg::Never => Overwrite::Never,
        },
        open: source::plain_options(),
    };
    put_many(
        cx,
        &args.change,
        &args.place,
        &args.fat,
        &options,
        "files unpack",
    )
}

/// Puts an archive or a folder over what is there.
fn put_many(
    cx: &Context,
    change: &ChangeArgs,
    place: &Place,
    fat: &FatArgs,
    options: &UnpackOptions,
    command: &'static str,
) -> Outcome {
    let opened = change::open(cx, change, None)?;
    let work = Work::begin(&opened, place, fat)?;
    let archive = options.archive.to_string();
    let waiting = Waiting::new(&cx.ui, format!("unpacking {archive}"));
    let cancel = signals::watch();
    let unpacked = work.gather(change, |files| {
        unpack_into(files, options, &|| cancel.is_cancelled())
    });
    drop(waiting);
    let (changes, report) =
        unpacked.map_err(|error| words::fill_error(&archive, &opened.name, &error))?;
    if let Some(top) = &report.top_folder {
        let warning = style::WARNING;
        cx.ui.say(format!(
            "{warning}warning:{warning:#} all of {archive} is in the directory {top}, whose content \
             already exists in {}\n            → --strip 1 unpacks without {top}\n",
            place,
        ));
    }
    if !report.replaced.is_empty() {
        let count = units::counted(report.replaced.len() as u64, "file");
        let question = format!("Replace {count} in {} on {}?", place, opened.name);
        confirm(&cx.ui, change, &question, &count)?;
    }
    let files = report.new.iter().chain(&report.replaced);
    let files = files.map(|file| file.path.clone()).collect();
    let is_changed = work.finish(cx, changes, change, (command, files))?;
    cx.ui.event(&ChangeEvent {
        command,
        medium: opened.id.clone(),
        place: place.to_string(),
        dry_run: change.dry_run,
        changed: is_changed,
        diff: None,
        unpacked: Some(&report),
    });
    let put = match command {
        "files put" => "copied",
        _ => "unpacked",
    };
    let counts = format!(
        "{} new, {} replaced, {} kept",
        report.new.len(),
        report.replaced.len(),
        report.kept.len()
    );
    let size = units::size(report.bytes);
    tell(
        &cx.ui,
        change,
        is_changed,
        &format!(
            "{archive} is {put} to {} on {}: {counts}, {size}",
            place, opened.name
        ),
        &format!("{archive} would be {put} to {}: {counts}, {size}", place),
        &format!("{} has all of {archive} already: {counts}", place),
    );
    cx.ui.result(unpacked_rows(&report));
    Ok(())
}

/// The most paths of each kind to show.
const MAX_ROWS: usize = 40;

fn unpacked_rows(report: &UnpackReport) -> String {
    let mut text = String::new();
    for (word, files) in [
        ("new", &report.new),
        ("replaced", &report.replaced),
        ("kept", &report.kept),
    ] {
        for file in files.iter().take(MAX_ROWS) {
            let size = units::grouped(file.bytes);
            let instead = file.before.as_ref().map(|before| instead_of(file, before));
            let instead = instead.unwrap_or_default();
            text += &format!(
                "  {word:8}  {size:>13}  {}{instead}\n",
                printable(&file.path)
            );
        }
        if files.len() > MAX_ROWS {
            text += &format!(
                "  {word:8}  {:>13}  and {} more\n",
                "",
                files.len() - MAX_ROWS
            );
        }
    }
    text
}

/// What is at the target of a member, in words.
fn instead_of(file: &Unpacked, before: &Standing) -> String {
    let dim = style::DIM;
    let size = units::grouped(before.bytes);
    let age = match before.modified {
        None => "of unknown age",
        Some(there) if there < file.modified => "older",
        Some(there) if there > file.modified => "younger",
        Some(_) => "of the same time",
    };
    format!("  {dim}there: {size}, {age}{dim:#}")
}
