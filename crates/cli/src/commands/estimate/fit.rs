//! `pinewrit estimate fit`

use std::collections::BTreeMap;

use pinewrit_args::SourceArgs;
use pinewrit_core::inspect::{Inspection, inspect};
use pinewrit_disk::{BlockDevice, ReadCache, Window};
use pinewrit_image::Location;
use pinewrit_measure::{SOLD, Sold, fitting};
use pinewrit_session::Context;
use pinewrit_session::source::{self, Keep};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::{Event, style, units, words};
use pinewrit_volume::files::{Kind, open_to_read, walk};
use pinewrit_volume::resize::size_limits;
use schemars::JsonSchema;
use serde::Serialize;

use crate::commands::Outcome;
use crate::commands::inspect::device;

/// So many levels of folders are told apart.
const DEPTH: usize = 2;
/// The most folders to list.
const MAX_FOLDERS: usize = 6;

/// On which media an image fits.
#[derive(Serialize, JsonSchema)]
pub(crate) struct FitEvent<'a> {
    /// The command.
    command: &'static str,
    /// The image, as given.
    image: String,
    /// Its unpacked size.
    bytes: u64,
    /// The smallest size that is sold on which it fits whatever the maker.
    fits: Option<Sold>,
    /// A smaller one on which it fits only with some makers.
    fits_some: Option<Sold>,
    /// What `save --shrink` would take off it, in bytes; null if it cannot be shrunk.
    shrinks_by: Option<u64>,
    /// The largest folders: partition, path, bytes.
    folders: &'a [(u32, String, u64)],
}

impl Event for FitEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["estimate fit"];
}

pub(super) fn run(cx: &Context, image: &Location, options: &SourceArgs) -> Outcome {
    let source = source::open(cx, image, options, Keep::No)?;
    let name = source.name();
    let waiting = Waiting::new(&cx.ui, format!("looking into {name}"));
    let device = device(&source);
    let device = ReadCache::new(&*device);
    let failed = |e| words::disk_error(&name, &e);
    let found = inspect(&device, source.unpacked_size().exact()).map_err(failed)?;
    let size = source.unpacked_size();
    let bytes = size.exact().unwrap_or(size.at_least());
    let gain = gain(&device, &found);
    let folders = largest(&device, &found);
    drop(waiting);
    let (fits, fits_some) = fitting(bytes);
    cx.ui.event(&FitEvent {
        command: "estimate fit",
        image: image.to_string(),
        bytes,
        fits,
        fits_some,
        shrinks_by: gain,
        folders: &folders,
    });
    cx.ui.result(text(&name, bytes, gain, &folders));
    Ok(())
}

/// What the file system of the last partition could give back, in bytes.
fn gain(device: &dyn BlockDevice, found: &Inspection) -> Option<u64> {
    let last = found.partitions.iter().max_by_key(|one| one.start)?;
    let limits = size_limits(&Window::new(device, last.range())).ok()?;
    Some(limits.now.saturating_sub(limits.least)).filter(|&gain| gain > 0)
}

/// The folders in which most bytes are. What cannot be read has none.
fn largest(device: &dyn BlockDevice, found: &Inspection) -> Vec<(u32, String, u64)> {
    let mut all = Vec::new();
    for partition in &found.partitions {
        let window = Window::new(device, partition.range());
        let Ok(files) = open_to_read(&window) else {
            continue;
        };
        let mut sums: BTreeMap<String, u64> = BTreeMap::new();
        let _ = walk(&files, "/", usize::MAX, &mut |node| {
            if node.facts.kind == Kind::File {
                *sums.entry(folder_of(&node.path)).or_default() += node.facts.size;
            }
            true
        });
        let number = partition.number;
        all.extend(sums.into_iter().map(|(path, bytes)| (number, path, bytes)));
    }
    all.sort_by_key(|(_, _, bytes)| std::cmp::Reverse(*bytes));
    all.truncate(MAX_FOLDERS);
    all
}

/// The first levels of the folder that a file is in.
fn folder_of(path: &str) -> String {
    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let parts = folder.split('/').filter(|part| !part.is_empty());
    let parts: Vec<&str> = parts.take(DEPTH).collect();
    format!("/{}", parts.join("/"))
}

fn text(name: &str, bytes: u64, gain: Option<u64>, folders: &[(u32, String, u64)]) -> String {
    let (strong, dim) = (style::STRONG, style::DIM);
    let mut facts = FactList::default();
    facts.add("size", units::exact(bytes).trim().to_owned());
    let (always, sometimes) = fitting(bytes);
    let head = match always {
        Some(sold) => format!("fits on media of {}", label(&sold)),
        None => "is larger than any medium that is sold".to_owned(),
    };
    if let Some(sold) = sometimes {
        let (least, most) = (units::size(sold.smallest), units::size(sold.largest));
        facts.add(
            label(&sold).as_str(),
            format!("only some: they have {least} to {most}"),
        );
    }
    let larger = SOLD.iter().filter(|sold| sold.smallest >= bytes).take(3);
    for sold in larger {
        let room = units::size(sold.smallest - bytes);
        facts.add(
            label(sold).as_str(),
            format!("all of them; {room} or more are left"),
        );
    }
    let smaller = gain.map(|gain| (gain, fitting(bytes.saturating_sub(gain)).0));
    if let Some((gain, fits)) = smaller {
        let fits = fits.filter(|fits| Some(*fits) != always);
        let fits = fits.map_or(String::new(), |fits| {
            format!(": it fits on {} then", label(&fits))
        });
        facts.add(
            "shrunk",
            format!("by {} with save --shrink{fits}", units::size(gain)),
        );
    }
    for (index, (partition, path, bytes)) in folders.iter().enumerate() {
        let head = if index == 0 { "filled by" } else { "" };
        facts.add(
            head,
            format!("{:>9}  {dim}{partition}:{dim:#}{path}", units::size(*bytes)),
        );
    }
    format!("{strong}{name}{strong:#} {head}\n{}", facts.to_text())
}

fn label(sold: &Sold) -> String {
    match sold.label / 1_000_000_000 {
        1000 => "1 TB".to_owned(),
        gigabytes => format!("{gigabytes} GB"),
    }
}
