//! `pinewrit inspect SOURCE`

use std::os::unix::fs::FileTypeExt;

use pinewrit_core::inspect::{Inspection, inspect};
use pinewrit_disk::{BlockDevice, CacheUse, FileDevice};
use pinewrit_image::{ImageSource, Layer, PeekDevice};
use serde::Serialize;

use super::Outcome;
use super::report::{self, Facts};
use crate::args::InspectArgs;
use crate::explain;
use crate::message::Message;
use crate::ui::progress::Waiting;
use crate::ui::{self, Ui, style};

#[derive(Serialize)]
struct InspectEvent<'a> {
    event: &'static str,
    command: &'static str,
    source: String,
    kind: &'static str,
    wrapping: Vec<LayerEvent<'a>>,
    packed_bytes: u64,
    unpacked_bytes: Option<u64>,
    #[serde(flatten)]
    inspection: &'a Inspection,
}

#[derive(Serialize)]
struct LayerEvent<'a> {
    kind: &'static str,
    member: Option<&'a str>,
    member_bytes: Option<u64>,
}

impl<'a> From<&'a Layer> for LayerEvent<'a> {
    fn from(layer: &'a Layer) -> Self {
        let member = layer.member.as_ref();
        Self {
            kind: layer.wrapping.word(),
            member: member.map(|member| member.name.as_str()),
            member_bytes: member.and_then(|member| member.size),
        }
    }
}

pub(crate) fn run(ui: &Ui, args: &InspectArgs) -> Outcome {
    let source = ImageSource::open_member(&args.source, args.member.as_deref())
        .map_err(|e| explain::open_error(&e))?;
    let waiting = Waiting::new(ui, format!("looking into {}", source.name()));
    let inspection = look_into(&source)?;
    drop(waiting);
    let kind = kind(&source);
    ui.event(&InspectEvent {
        event: "result",
        command: "inspect",
        source: source.path().display().to_string(),
        kind,
        wrapping: source.layers().iter().map(LayerEvent::from).collect(),
        packed_bytes: source.packed_size(),
        unpacked_bytes: source.unpacked_size().exact(),
        inspection: &inspection,
    });
    ui.result(text(&source, kind, &inspection));
    Ok(())
}

/// Inspects a source through its wrapping.
fn look_into(source: &ImageSource) -> Result<Inspection, Message> {
    let device = device(source);
    inspect(&*device, source.unpacked_size().exact())
        .map_err(|e| explain::disk_error(&source.name(), &e))
}

fn device(source: &ImageSource) -> Box<dyn BlockDevice> {
    let file = source.file().try_clone();
    match (source.layers(), file) {
        ([], Ok(file)) => {
            let sector = pinewrit_host::logical_sector(&file);
            let size = source.packed_size();
            Box::new(FileDevice::new(file, size, sector, CacheUse::Cached))
        }
        _ => Box::new(PeekDevice::new(source.clone())),
    }
}

fn kind(source: &ImageSource) -> &'static str {
    let is_block = source
        .file()
        .metadata()
        .is_ok_and(|m| m.file_type().is_block_device());
    match (is_block, source.layers().is_empty()) {
        (true, _) => "block device",
        (false, true) => "image or card file",
        (false, false) => "packed image",
    }
}

fn text(source: &ImageSource, kind: &str, inspection: &Inspection) -> String {
    let strong = style::STRONG;
    let mut facts = Facts::default();
    if !source.layers().is_empty() {
        facts.add("wrapping", report::wrapping(source));
        facts.add("unpacked", report::unpacked(source.unpacked_size()));
    } else {
        facts.add("size", report::unpacked(source.unpacked_size()));
    }
    facts.add("scheme", report::scheme(inspection));
    if let Some(fs) = &inspection.filesystem {
        let label = fs.label.as_ref();
        let label = label.map_or(String::new(), |label| format!(" \"{label}\""));
        facts.add(
            "whole",
            format!("{}{label} from the first sector on", fs.kind),
        );
    }
    for (index, line) in report::boot_modes(&inspection.boot).iter().enumerate() {
        facts.add(if index == 0 { "boots" } else { "" }, line);
    }
    if let Some(seed) = &inspection.settings {
        let name = seed.host_name.as_deref().unwrap_or("not set");
        let users = match seed.users[..] {
            [] => "no users".to_owned(),
            _ => format!("users {}", seed.users.join(", ")),
        };
        facts.add(
            "settings",
            format!("{} seed: host name {name}, {users}", seed.intake),
        );
    }
    let name = source.name();
    let mut text = format!("{strong}{name}{strong:#}  {kind}\n{}\n", facts.to_text());
    text += &report::partitions(inspection, ui::width());
    for problem in &inspection.problems {
        let warning = style::WARNING;
        text += &format!("{warning}warning:{warning:#} {problem}\n");
    }
    text
}
