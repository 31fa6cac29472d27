//! `pinewrit inspect SOURCE`

use std::fs::File;
use std::os::unix::fs::FileTypeExt;
use std::path::Path;

use pinewrit_args::InspectArgs;
use pinewrit_boards::chain::{self, Firmware, Verdict, Way};
use pinewrit_boards::{Board, Extent, Readiness};
use pinewrit_core::inspect::{Inspection, inspect, inspect_medium};
use pinewrit_disk::{BlockDevice, CacheUse, FileDevice, ReadCache};
use pinewrit_image::{ExpectedChecksum, ImageSource, PeekDevice, UnpackedSize};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::words;
use pinewrit_ui::words::inspection::{self, FactList};
use pinewrit_ui::{Event, Exit, Message, Ui, style, units};
use schemars::JsonSchema;
use serde::Serialize;

use super::Outcome;
use super::write::unfinished_text;
use pinewrit_session::Context;
use pinewrit_session::source::{self, Keep};
use pinewrit_session::trust::{self, FoundSignature};
use pinewrit_session::{boards, change, medium};

#[derive(Serialize, JsonSchema)]
pub(crate) struct InspectEvent<'a> {
    command: &'static str,
    source: String,
    kind: &'static str,
    wrapping: Vec<LayerEvent<'a>>,
    pieces: usize,
    checksum: Option<ChecksumEvent>,
    /// The signature that was found beside it; null without one, or without keys.
    signature: Option<&'a FoundSignature>,
    packed_bytes: Option<u64>,
    unpacked_bytes: Option<u64>,
    #[serde(flatten)]
    inspection: &'a Inspection,
    /// The ways from the firmware to the first program, as far as they can be followed.
    ways: &'a [Way],
    /// Whether the board starts from it, if one was named.
    readiness: Option<&'a Readiness>,
}

impl Event for InspectEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["inspect"];
}

#[derive(Serialize, JsonSchema)]
struct LayerEvent<'a> {
    kind: &'static str,
    packed_bytes: Option<u64>,
    unpacked_bytes: Option<u64>,
    unpacked_at_least: u64,
    member: Option<&'a str>,
    others: Vec<&'a str>,
}

#[derive(Serialize, JsonSchema)]
struct ChecksumEvent {
    kind: &'static str,
    expected: String,
    origin: String,
}

fn layers(source: &ImageSource) -> Vec<LayerEvent<'_>> {
    let mut packed_bytes = source.packed_size();
    let mut events = Vec::new();
    for layer in source.layers() {
        let member = layer.member.as_ref();
        events.push(LayerEvent {
            kind: layer.wrapping.word(),
            packed_bytes,
            unpacked_bytes: layer.unpacked.exact(),
            unpacked_at_least: layer.unpacked.at_least(),
            member: member.map(|member| member.name.as_str()),
            others: layer.others.iter().map(|o| o.name.as_str()).collect(),
        });
        packed_bytes = layer.unpacked.exact();
    }
    events
}

pub(crate) fn run(cx: &Context, args: &InspectArgs) -> Outcome {
    let board = args.board.as_deref().map(boards::find).transpose()?;
    if let Some(medium) = medium::named_as_source(cx, &args.source) {
        return run_medium(cx, &medium.path, board.as_ref());
    }
    if let Some(path) = args.source.path() {
        change::tell_interrupted(cx, path);
    }
    let named = source::open_named(cx, &args.source, &args.options, Keep::No)?;
    let source = &named.source;
    let waiting = Waiting::new(&cx.ui, format!("looking into {}", source.name()));
    let device = device(source);
    let extent = Extent::Image(source.unpacked_size().exact());
    let inspection = look_into(source, &*device)?;
    let ways = ways(&*device, &source.name())?;
    let readiness = board
        .as_ref()
        .map(|board| boards::judge(board, &*device, extent, &source.name()))
        .transpose()?;
    drop(waiting);
    let mut checksum = named.checksum(None)?;
    let signature = trust::find(source, &mut checksum, &trust::keys(None)?);
    let kind = kind(source);
    cx.ui.event(&InspectEvent {
        command: "inspect",
        source: source.location().to_string(),
        kind,
        wrapping: layers(source),
        pieces: source.files().len(),
        checksum: checksum.as_ref().map(|found| ChecksumEvent {
            kind: found.checksum.kind.word(),
            expected: found.checksum.to_string(),
            origin: inspection::origin(found),
        }),
        signature: signature.as_ref(),
        packed_bytes: source.packed_size(),
        unpacked_bytes: source.unpacked_size().exact(),
        inspection: &inspection,
        ways: &ways,
        readiness: readiness.as_ref(),
    });
    let mut facts = source_facts(source, checksum.as_ref());
    if let Some(found) = &signature {
        facts.add("signed", words::trust::signed(&found.file, &found.signed));
    }
    cx.ui
        .result(text(&source.name(), kind, facts, (&inspection, &ways)));
    tell(&cx.ui, readiness.as_ref(), &source.name())
}

fn run_medium(cx: &Context, path: &Path, board: Option<&Board>) -> Outcome {
    change::tell_interrupted(cx, path);
    let medium = cx
        .readers
        .open_for_reading(path)
        .map_err(|e| words::medium_error(&e))?;
    let size = medium.device.size();
    let inspection =
        inspect_medium(&*medium.device).map_err(|e| words::disk_error(&medium.name(), &e))?;
    let ways = ways(&*medium.device, &medium.name())?;
    let readiness = board
        .map(|board| boards::judge(board, &*medium.device, Extent::Medium(size), &medium.name()))
        .transpose()?;
    let kind = "medium";
    cx.ui.event(&InspectEvent {
        command: "inspect",
        source: path.display().to_string(),
        kind,
        wrapping: Vec::new(),
        pieces: 0,
        checksum: None,
        signature: None,
        packed_bytes: Some(size),
        unpacked_bytes: Some(size),
        inspection: &inspection,
        ways: &ways,
        readiness: readiness.as_ref(),
    });
    let mut facts = FactList::default();
    facts.add("size", inspection::unpacked(UnpackedSize::Exact(size)));
    let chosen = medium::find(cx, path, false)?;
    let note = cx
        .folders
        .state_if_any()
        .and_then(|state| state.note(&chosen.key()));
    if let Some(note) = note.filter(|_| inspection.is_unknown()) {
        facts.add("started", unfinished_text(&note));
    }
    cx.ui
        .result(text(&chosen.name(), kind, facts, (&inspection, &ways)));
    tell(&cx.ui, readiness.as_ref(), &chosen.name())
}

/// Tells whether the board starts; if it does not, that is a difference.
fn tell(ui: &Ui, readiness: Option<&Readiness>, name: &str) -> Outcome {
    let Some(readiness) = readiness else {
        return Ok(());
    };
    ui.result(words::boards::readiness(readiness));
    match readiness.verdict {
        Verdict::DoesNotStart => {
            let what = format!("{} does not start from {name}", readiness.board);
            Err(Message::new(Exit::Differences, what))
        }
        _ => Ok(()),
    }
}

/// The ways from the firmware to the first program.
fn ways(device: &dyn BlockDevice, name: &str) -> Result<Vec<Way>, Message> {
    let device = &ReadCache::new(device);
    chain::follow(device).map_err(|e| words::disk_error(name, &e))
}

/// Inspects a source through its wrapping.
fn look_into(source: &ImageSource, device: &dyn BlockDevice) -> Result<Inspection, Message> {
    let found = match source.plain() {
        // Its end can be read as quickly as its start.
        Some(_) => inspect_medium(device),
        None => inspect(device, source.unpacked_size().exact()),
    };
    found.map_err(|e| words::disk_error(&source.name(), &e))
}

pub(crate) fn device(source: &ImageSource) -> Box<dyn BlockDevice> {
    let mut files = source.files();
    let only = files
        .next()
        .filter(|_| files.len() == 0 && source.layers().is_empty());
    match (only.map(File::try_clone), source.packed_size()) {
        (Some(Ok(file)), Some(size)) => {
            let sector = pinewrit_host::logical_sector(&file);
            Box::new(FileDevice::new(file, size, sector, CacheUse::Cached))
        }
        _ => Box::new(PeekDevice::new(source.clone())),
    }
}

fn kind(source: &ImageSource) -> &'static str {
    let is_block = source.files().any(|file| {
        let facts = file.metadata();
        facts.is_ok_and(|facts| facts.file_type().is_block_device())
    });
    match (is_block, source.layers().is_empty()) {
        (true, _) => "block device",
        (false, true) => "image or card file",
        (false, false) => "packed image",
    }
}

fn source_facts(source: &ImageSource, checksum: Option<&ExpectedChecksum>) -> FactList {
    let mut facts = FactList::default();
    inspection::layers(source, &mut facts);
    if let Some(checksum) = checksum {
        let text = inspection::checksum(checksum);
        facts.add("checksum", format!("{text}; `write` verifies it"));
    } else if !source.layers().is_empty() {
        facts.add("checksum", "none found beside the image");
    }
    facts
}

fn text(
    name: &str,
    kind: &str,
    mut facts: FactList,
    (inspection, ways): (&Inspection, &[Way]),
) -> String {
    let strong = style::STRONG;
    if let Some(system) = &inspection.system {
        let version = system.version.as_deref().unwrap_or_default();
        facts.add("system", format!("{} {version}", system.name).trim_end());
    }
    facts.add("scheme", inspection::scheme(inspection));
    if let Some(fs) = &inspection.filesystem {
        let label = fs.label.as_ref();
        let label = label.map_or(String::new(), |label| format!(" \"{label}\""));
        facts.add(
            "whole",
            format!("{}{label} from the first sector on", fs.kind),
        );
        if let Some(id) = &fs.id {
            facts.add("", format!("id {id}"));
        }
    }
    let mut lines = Vec::new();
    for way in ways {
        let mut told = words::chain::way(way);
        if let (Firmware::LegacyBios, Some(code)) = (way.firmware, inspection.boot.bios) {
            told.insert(1, format!("  {}", inspection::boot_code(code)));
        }
        lines.extend(told);
    }
    if lines.is_empty() {
        lines = inspection::boot_modes(&inspection.boot);
    }
    for (index, line) in lines.iter().enumerate() {
        facts.add(if index == 0 { "boots" } else { "" }, line);
    }
    for (index, kernel) in inspection.kernels.iter().enumerate() {
        let place = kernel
            .partition
            .map_or(String::new(), |number| format!(", partition {number}"));
        let text = format!("{} for {}{place}", kernel.file, kernel.architecture.word());
        facts.add(if index == 0 { "kernels" } else { "" }, text);
    }
    if let Some(found) = &inspection.settings {
        let mut parts = Vec::new();
        if let Some(name) = &found.host_name {
            parts.push(format!("host name {name}"));
        }
        if !found.users.is_empty() {
            parts.push(format!("users {}", found.users.join(", ")));
        }
        facts.add(
            "settings",
            format!("{}: {}", found.intake, parts.join(", ")),
        );
        if !found.networks.is_empty() {
            facts.add("networks", found.networks.join(", "));
        }
        if let Some(grown) = growth(inspection) {
            facts.add("growth", grown);
        }
    }
    let mut text = format!("{strong}{name}{strong:#}  {kind}\n{}\n", facts.to_text());
    text += &inspection::partitions(inspection, pinewrit_ui::width());
    for problem in &inspection.problems {
        let warning = style::WARNING;
        text += &format!("{warning}warning:{warning:#} {problem}\n");
    }
    text
}

/// Space at a medium's end outside partitions: the backup of a GPT, and alignment.
const MARGIN: u64 = 4 << 20;

/// Whether the last partition reaches the medium's end, for media with settings.
fn growth(inspection: &Inspection) -> Option<String> {
    let last = inspection.partitions.iter().max_by_key(|p| p.start)?;
    let free = inspection.size?.saturating_sub(last.range().end);
    Some(if free < MARGIN {
        format!("partition {} reaches the end of the medium", last.number)
    } else {
        format!("{} free after partition {}", units::size(free), last.number)
    })
}
