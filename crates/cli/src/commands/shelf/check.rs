//! `pinewrit shelf check`: whether images are where they should be, unchanged, and the newest.

use std::time::Duration;

use pinewrit_image::{
    Checksum, ChecksumKind, ChecksumOrigin, ImageSource, Location, find_beside, size_at,
};
use pinewrit_session::source::{self, Keep};
use pinewrit_session::{Context, shelf, trust};
use pinewrit_shelf::{Found, ImageName, Shelf};
use pinewrit_ui::text::printable;
use pinewrit_ui::{Event, Exit, Message, style, units, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::{Outcome, get, name};

/// How long a server may say nothing.
const PATIENCE: Duration = Duration::from_secs(20);

/// The result for one image.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ListedFileEvent {
    /// Name and version.
    image: String,
    /// Where it is.
    source: String,
    /// What is so, the worst first.
    findings: Vec<Finding>,
}

impl Event for ListedFileEvent {
    const EVENT: &'static str = "listed-file";
}

/// The result for all.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ShelfCheckEvent {
    /// The command.
    command: &'static str,
    /// How many were checked.
    images: usize,
    /// How many of them are other files than listed.
    changed: usize,
    /// How many cannot be reached.
    missing: usize,
    /// How many have newer versions.
    older: usize,
}

impl Event for ShelfCheckEvent {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["shelf check"];
}

/// What is so of an image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "is")]
enum Finding {
    /// It is another file than listed.
    Changed {
        /// What tells.
        by: &'static str,
        /// As listed.
        listed: String,
        /// As it is.
        found: String,
    },
    /// Its signature speaks against it, or is missing although it must have one.
    NotVouched {
        /// In words.
        why: String,
    },
    /// It cannot be reached.
    Missing {
        /// Why.
        why: String,
    },
    /// There is a newer one, or another that replaces it.
    Older {
        /// The newer one.
        newer: String,
    },
    /// The catalogue has no checksum of it.
    NoChecksum,
    /// It is as listed, by its checksum.
    Verified,
    /// It is there, and has the size that is listed.
    There,
}

impl Finding {
    fn is_change(&self) -> bool {
        matches!(self, Self::Changed { .. } | Self::NotVouched { .. })
    }
}

pub(super) fn run(cx: &Context, names: &[String], full: bool) -> Outcome {
    let wanted = names.iter().map(|text| name(text));
    let wanted: Vec<ImageName> = wanted.collect::<Result<_, _>>()?;
    let shelf = shelf::open(cx)?;
    let images = chosen(&shelf, &wanted)?;
    if images.is_empty() {
        return Err(Message::new(Exit::NotFound, "the shelf is empty")
            .remedy("pinewrit shelf add IMAGE puts an image into your catalogue"));
    }
    let width = images
        .iter()
        .map(|found| found.image.full_name().to_string().len());
    let width = width.max().unwrap_or(0);
    let (mut changed, mut missing, mut older) = (0, 0, 0);
    for found in &images {
        let findings = findings(cx, &shelf, found, full)?;
        let has = |is: &dyn Fn(&Finding) -> bool| usize::from(findings.iter().any(is));
        changed += has(&Finding::is_change);
        missing += has(&|one| matches!(one, Finding::Missing { .. }));
        older += has(&|one| matches!(one, Finding::Older { .. }));
        let name = found.image.full_name().to_string();
        cx.ui.result(text(&name, width, &findings));
        cx.ui.event(&ListedFileEvent {
            image: name,
            source: found.location().to_string(),
            findings,
        });
    }
    cx.ui.event(&ShelfCheckEvent {
        command: "shelf check",
        images: images.len(),
        changed,
        missing,
        older,
    });
    let count = units::counted(images.len() as u64, "image");
    match (changed, missing) {
        (0, 0) => {
            let good = style::GOOD;
            let more = if full { "" } else { "; --full also reads them" };
            cx.ui
                .result(format!("\n{good}{count} as listed{good:#}{more}\n"));
            Ok(())
        }
        (0, missing) => Err(Message::new(
            Exit::Source,
            format!("{missing} of {count} cannot be reached"),
        )
        .remedy("pinewrit shelf remove NAME removes an image from your catalogue")),
        (changed, _) => Err(Message::new(
            Exit::Differences,
            format!("{changed} of {count} differ from the catalogue"),
        )
        .remedy("do not use them until the publisher has confirmed which file is right")),
    }
}

fn chosen<'s>(shelf: &'s Shelf, wanted: &[ImageName]) -> Result<Vec<Found<'s>>, Message> {
    if wanted.is_empty() {
        return Ok(shelf.images());
    }
    let mut all = Vec::new();
    for name in wanted {
        let found = shelf.find(name);
        let found = found.map_err(|e| words::shelf::not_found(&e, shelf.catalogues.is_empty()))?;
        match name.version {
            Some(_) => all.push(found),
            None => all.extend(shelf.versions(&name.name)),
        }
    }
    Ok(all)
}

fn findings(
    cx: &Context,
    shelf: &Shelf,
    found: &Found<'_>,
    full: bool,
) -> Result<Vec<Finding>, Message> {
    let mut all = Vec::new();
    match there(cx, found, full)? {
        Ok(mut what) => all.append(&mut what),
        Err(why) => all.push(Finding::Missing { why }),
    }
    let newest = shelf.versions(&found.image.name);
    let newest = newest.first().map(|newest| newest.image.full_name());
    let newer = match &found.image.replaced_by {
        Some(instead) => Some(instead.clone()),
        None => newest.filter(|newest| *newest != found.image.full_name()),
    };
    all.extend(newer.map(|newer| Finding::Older {
        newer: newer.to_string(),
    }));
    if found.image.checksum.is_none() {
        all.push(Finding::NoChecksum);
    }
    Ok(all)
}

/// What is so at the image's place, or why it cannot be reached.
fn there(
    cx: &Context,
    found: &Found<'_>,
    full: bool,
) -> Result<Result<Vec<Finding>, String>, Message> {
    let location = found.location();
    let size = match size_of(&location) {
        Ok(size) => size,
        Err(why) => return Ok(Err(why)),
    };
    let changed = |by, listed: String, found: String| Finding::Changed { by, listed, found };
    if let (Some(listed), Some(size)) = (found.image.packed, size)
        && listed != size
    {
        let bytes = |count| units::counted(count, "byte");
        return Ok(Ok(vec![changed("size", bytes(listed), bytes(size))]));
    }
    let source = match source::open(cx, &location, &pinewrit_args::SourceArgs::plain(), Keep::No) {
        Ok(source) => source,
        Err(message) => return Ok(Err(message.what().to_owned())),
    };
    let mut all = Vec::new();
    if let Some((file, published)) = published(&source, found.image.checksum.as_ref()) {
        let listed = found.image.checksum.as_ref().map(ToString::to_string);
        let listed = words::shelf::short(&listed.unwrap_or_default());
        all.push(changed(
            "published checksum",
            listed,
            format!("{} in {file}", words::shelf::short(&published.to_string())),
        ));
    }
    all.extend(not_vouched(&source, found)?);
    if full {
        let kind = found.image.checksum.as_ref();
        let kind = kind.map_or(ChecksumKind::Sha256, |sum| sum.kind);
        let summed = get::sum(cx, &source, kind)?;
        match &found.image.checksum {
            Some(listed) if *listed != summed => {
                let short = |sum: &Checksum| words::shelf::short(&sum.to_string());
                all.push(changed("content", short(listed), short(&summed)));
            }
            Some(_) => all.push(Finding::Verified),
            None => {}
        }
    }
    if all.is_empty() {
        all.push(Finding::There);
    }
    Ok(Ok(all))
}

/// The size of the file at its place; of pieces, nothing is said.
fn size_of(location: &Location) -> Result<Option<u64>, String> {
    match location {
        Location::Path(path) => match std::fs::metadata(path) {
            Ok(facts) => Ok(facts.is_file().then_some(facts.len())),
            Err(error) => Err(error.to_string()),
        },
        Location::Url(url) => size_at(url, PATIENCE).map_err(|error| shelf::why(&error)),
        Location::Shelf(name) => Err(name.clone()),
    }
}

/// A checksum beside the image that differs from the listed one.
fn published(source: &ImageSource, listed: Option<&Checksum>) -> Option<(String, Checksum)> {
    let listed = listed?;
    let beside = find_beside(source).ok()??;
    let of_file = beside
        .subject
        .is_some_and(|subject| subject == pinewrit_image::Subject::Packed);
    let differs = beside.checksum.kind == listed.kind && beside.checksum != *listed;
    let file = match &beside.origin {
        ChecksumOrigin::File(path) => path.file_name()?.to_string_lossy().into_owned(),
        _ => return None,
    };
    (of_file && differs).then_some((printable(&file), beside.checksum))
}

fn not_vouched(source: &ImageSource, found: &Found<'_>) -> Result<Option<Finding>, Message> {
    let mut checksum = None;
    let signature = trust::find(source, &mut checksum, &trust::keys(None)?);
    let judged = trust::must_be_good(signature.as_ref(), &source.name(), found.must_be_signed());
    Ok(judged.err().map(|message| Finding::NotVouched {
        why: message.what().to_owned(),
    }))
}

fn text(name: &str, width: usize, findings: &[Finding]) -> String {
    let mut lines = String::new();
    for (index, finding) in findings.iter().enumerate() {
        let head = if index == 0 { name } else { "" };
        lines += &format!(" {head:<width$}  {}\n", told(finding));
    }
    lines
}

fn told(finding: &Finding) -> String {
    let (good, warning, error) = (style::GOOD, style::WARNING, style::ERROR);
    match finding {
        Finding::Changed { by, listed, found } => {
            format!("{error}changed{error:#}   {by}: listed {listed}, found {found}")
        }
        Finding::NotVouched { why } => format!("{error}signature{error:#} {why}"),
        Finding::Missing { why } => format!("{error}missing{error:#}   {why}"),
        Finding::Older { newer } => format!("{warning}older{warning:#}     {newer} is newer"),
        Finding::NoChecksum => {
            format!("{warning}unchecked{warning:#} the catalogue has no checksum of it")
        }
        Finding::Verified => format!("{good}verified{good:#}  its checksum is as listed"),
        Finding::There => format!("{good}there{good:#}     size as listed"),
    }
}
