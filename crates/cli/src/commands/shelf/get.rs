//! `pinewrit shelf get`: an image is fetched and verified.

use std::io::Read;

use pinewrit_args::SourceArgs;
use pinewrit_core::{Observer, Progress, Stage};
use pinewrit_image::{
    Checksum, ChecksumKind, ExpectedChecksum, ImageSource, Location, StreamError, Subject,
};
use pinewrit_session::source::{self, Keep};
use pinewrit_session::{Context, shelf, signals, trust};
use pinewrit_ui::progress::ProgressView;
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::{Exit, Message, style, units, words};

use super::{ImageRow, Outcome, forget, is_here, name, tell};

pub(super) fn run(cx: &Context, text: &str, options: &SourceArgs) -> Outcome {
    let wanted = name(text)?;
    let location = Location::Shelf(wanted.to_string());
    let named = source::open_named(cx, &location, options, Keep::Yes)?;
    let vouched = trust::vouched(&named, None, None)?;
    let source = &named.source;
    let kind = vouched.checksum.as_ref().map(|one| one.checksum.kind);
    let summed = sum(cx, source, kind.unwrap_or(ChecksumKind::Sha256))?;
    let mut facts = FactList::default();
    let is_packed =
        |one: &&ExpectedChecksum| one.subject.is_none_or(|subject| subject == Subject::Packed);
    match vouched.checksum.as_ref().filter(is_packed) {
        Some(expected) if expected.checksum == summed => {
            let of = words::inspection::checksum(expected);
            facts.add("checksum", format!("{of}: matches"));
        }
        Some(expected) => {
            // What is not the image is not kept.
            forget(cx, source.location());
            return Err(words::shelf::not_as_listed(
                &source.name(),
                &expected.checksum,
                &summed,
            ));
        }
        None => facts.add("checksum", format!("none is published; it is {summed}")),
    }
    if let Some(found) = &vouched.signature {
        facts.add("signed", words::trust::signed(&found.file, &found.signed));
    }
    let finished = source::finish(cx, source, Keep::Yes);
    if !is_here(cx, source.location()) {
        return Err(not_kept(&source.name(), finished));
    }
    for (name, text) in finished {
        facts.add(name, text);
    }
    if let Location::Path(path) = source.location() {
        facts.add("is in", path.display().to_string());
    }
    let shelf = shelf::open(cx)?;
    let rows = shelf.find(&wanted).ok();
    let rows = rows.map(|found| ImageRow::of(cx, &found, None));
    tell(cx, "shelf get", rows.into_iter().collect());
    let called = source.listed().unwrap_or(text);
    facts.add("next", format!("pinewrit write shelf:{called} --to MEDIUM"));
    let good = style::GOOD;
    cx.ui.result(format!(
        "{good}done:{good:#} {called} is here, {}\n{}",
        source.packed_size().map_or_else(String::new, units::size),
        facts.to_text()
    ));
    Ok(())
}

/// A download that is good, and yet not here.
fn not_kept(name: &str, finished: Vec<(&'static str, String)>) -> Message {
    let message = Message::new(Exit::Refused, format!("{name} could not be kept"));
    let message = finished
        .into_iter()
        .fold(message, |message, (name, text)| message.fact(name, text));
    message
        .remedy("free space in $XDG_CACHE_HOME, or set it to another place")
        .remedy("if its server sends neither entity tag nor date: save the file by hand, then shelf add it")
}

/// The checksum of the file as it is at its place.
pub(super) fn sum(
    cx: &Context,
    source: &ImageSource,
    kind: ChecksumKind,
) -> Result<Checksum, Message> {
    let cancel = signals::watch();
    let name = source.name();
    let view = ProgressView::new(cx.ui);
    let total = source.packed_size();
    view.stage(Stage::Fetch, total);
    let (mut hasher, mut done) = (kind.hasher(), 0);
    let mut reader = source.packed_reader();
    let mut buffer = vec![0; 1 << 20];
    loop {
        if cancel.is_cancelled() {
            source.interrupt();
            let message = Message::new(Exit::Interrupted, "stopped");
            return Err(message.remedy("the same command resumes it"));
        }
        let read = reader.read(&mut buffer);
        let read = read.map_err(|e| words::stream_error(&name, &StreamError::from_io(e)))?;
        if read == 0 {
            return Ok(hasher.finish());
        }
        hasher.update(&buffer[..read]);
        done += read as u64;
        view.progress(Progress {
            done,
            total,
            source_done: done,
            source_total: total.unwrap_or(0),
            waiting_seconds: 0.0,
        });
    }
}
