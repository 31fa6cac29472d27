//! `pinewrit table ...`

use pinewrit_core::inspect::{Inspection, inspect, inspect_medium};
use pinewrit_core::table::{TableChange, cut_filesystems, prepare, prepare_wipe};
use pinewrit_disk::BlockDevice;
use pinewrit_table::{NewPartition, PURPOSES, PartitionType, SchemeKind, TableEdit, TableError};
use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use crate::context::Context;
use crate::context::change::{self, Opened, confirm};
pub(crate) mod renew;

use super::Outcome;
use crate::args::{AddArgs, ChangeArgs, SchemeArg, TableAction, TableArgs};
use crate::clock;
use crate::context::medium;
use crate::events::{Event, MediumName};
use crate::exit::Exit;
use crate::message::Message;
use crate::ui::{self, style, units};
use crate::words;
use crate::words::inspection;

/// A table, before and after.
#[derive(Serialize, JsonSchema)]
pub(crate) struct TableEvent<'a> {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: MediumName,
    /// Whether nothing was changed.
    dry_run: bool,
    /// Whether anything is, or would be, another.
    changed: bool,
    /// Null where nothing was to change.
    before: Option<&'a Inspection>,
    /// What is there then.
    after: &'a Inspection,
}

impl Event for TableEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &[
        "table show",
        "table create",
        "table add",
        "table remove",
        "table resize",
        "table convert",
        "table activate",
        "table type",
        "table name",
        "table wipe",
    ];
}

/// A change in words, and the new table.
struct Step {
    /// The partition whose file system grows with it.
    grows: Option<u32>,
    command: &'static str,
    /// After "done:".
    done: String,
    /// What is lost, and the question before it.
    loses: Option<(String, String)>,
}

pub(crate) fn run(cx: &Context, args: &TableArgs) -> Outcome {
    match &args.action {
        TableAction::Show { medium } => show(cx, medium),
        TableAction::Create {
            change,
            scheme,
            size,
        } => create(cx, change, *scheme, *size),
        TableAction::Wipe { change, scheme } => wipe(cx, change, *scheme),
        TableAction::Renew { change } => renew::run(cx, change),
        TableAction::Add(add) => add_partition(cx, add),
        TableAction::Remove { change, partition } => {
            let opened = change::open(cx, change, None)?;
            let number = number_of(&opened, partition)?;
            let lost = lost_partition(&opened, number)?;
            let step = Step {
                grows: None,
                command: "table remove",
                done: format!("partition {number} of {} removed", opened.name),
                loses: Some((
                    format!("Remove partition {number} ({lost}) of {}?", opened.name),
                    lost,
                )),
            };
            edit(cx, change, &opened, step, |table, _| table.remove(number))
        }
        TableAction::Resize {
            change,
            partition,
            size,
            with_filesystem,
        } => {
            let opened = change::open(cx, change, None)?;
            let number = number_of(&opened, partition)?;
            let step = Step {
                grows: with_filesystem.then_some(number),
                command: "table resize",
                done: format!("partition {number} of {} resized", opened.name),
                loses: None,
            };
            edit(cx, change, &opened, step, |table, _| {
                table.resize(number, *size)
            })
        }
        TableAction::Convert { change, scheme } => {
            let opened = change::open(cx, change, None)?;
            let scheme = scheme.kind();
            let step = Step {
                grows: None,
                command: "table convert",
                done: format!(
                    "{} now has {}, with the same partitions",
                    opened.name,
                    scheme.with_article()
                ),
                loses: None,
            };
            edit(cx, change, &opened, step, |table, device| {
                table.convert(scheme, device, &mut ids())
            })
        }
        TableAction::Activate { change, partition } => {
            let opened = change::open(cx, change, None)?;
            let number = match partition.as_str() {
                "none" => None,
                named => Some(number_of(&opened, named)?),
            };
            let done = match number {
                Some(number) => format!("partition {number} of {} is active", opened.name),
                None => format!("no partition of {} is active", opened.name),
            };
            let step = Step {
                grows: None,
                command: "table activate",
                done,
                loses: None,
            };
            edit(cx, change, &opened, step, |table, _| table.activate(number))
        }
        TableAction::Type {
            change,
            partition,
            kind,
        } => {
            let opened = change::open(cx, change, None)?;
            let number = number_of(&opened, partition)?;
            let step = Step {
                grows: None,
                command: "table type",
                done: format!("partition {number} of {} has a new type", opened.name),
                loses: None,
            };
            let kind = kind_on(&opened, kind)?;
            edit(cx, change, &opened, step, |table, _| {
                table.set_kind(number, kind)
            })
        }
        TableAction::Name {
            change,
            partition,
            name,
        } => {
            let opened = change::open(cx, change, None)?;
            let number = number_of(&opened, partition)?;
            let step = Step {
                grows: None,
                command: "table name",
                done: format!("partition {number} of {} renamed", opened.name),
                loses: None,
            };
            edit(cx, change, &opened, step, |table, _| {
                table.set_name(number, name)
            })
        }
    }
}

/// Random numbers for identifiers.
fn ids() -> impl FnMut() -> [u8; 16] {
    || Uuid::new_v4().into_bytes()
}

impl SchemeArg {
    fn kind(self) -> SchemeKind {
        match self {
            Self::Mbr => SchemeKind::Mbr,
            Self::Gpt => SchemeKind::Gpt,
        }
    }
}

fn look_at(opened: &Opened) -> Result<Inspection, Message> {
    let device = &*opened.medium.device;
    inspect_medium(device).map_err(|e| words::disk_error(&opened.name, &e))
}

fn number_of(opened: &Opened, named: &str) -> Result<u32, Message> {
    change::partition(&opened.name, &look_at(opened)?, named)
}

/// What would be lost with a partition, in a few words.
fn lost_partition(opened: &Opened, number: u32) -> Result<String, Message> {
    let found = look_at(opened)?;
    let partition = found.partitions.iter().find(|p| p.number == number);
    Ok(partition.map_or(String::new(), inspection::brief))
}

fn kind_on(opened: &Opened, text: &str) -> Result<PartitionType, Message> {
    let table = TableEdit::read(&*opened.medium.device);
    let scheme = table
        .map_err(|e| words::table_error(&opened.name, &e))?
        .scheme();
    parse_kind(text, scheme)
}

fn parse_kind(text: &str, scheme: SchemeKind) -> Result<PartitionType, Message> {
    PartitionType::from_text(text, scheme).ok_or_else(|| {
        let words: Vec<&str> = PURPOSES.iter().map(|purpose| purpose.word).collect();
        let code = match scheme {
            SchemeKind::Mbr => "or two hexadecimal digits, such as 0x0c",
            SchemeKind::Gpt => "or a type GUID",
        };
        let what = format!(
            "{text} is not a partition type for {}",
            scheme.with_article()
        );
        Message::new(Exit::Usage, what)
            .remedy(words.join(" "))
            .remedy(code)
    })
}

fn show(cx: &Context, medium: &std::path::Path) -> Outcome {
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
        medium: MediumName::of(&chosen),
        dry_run: false,
        changed: false,
        before: None,
        after: &found,
    });
    let (strong, warning) = (style::STRONG, style::WARNING);
    let sector = opened.device.logical_sector().bytes();
    let scheme = inspection::scheme(&found);
    let mut text = format!("{strong}{name}{strong:#}  {scheme}\n\n");
    text += &inspection::table(&found, sector, ui::width());
    text += &inspection::identifiers(&found);
    text += &gaps(&*opened.device);
    for problem in &found.problems {
        text += &format!("{warning}warning:{warning:#} {problem}\n");
    }
    cx.ui.result(text);
    Ok(())
}

/// The gaps that are large enough for something.
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

fn create(cx: &Context, args: &ChangeArgs, scheme: SchemeArg, size: Option<u64>) -> Outcome {
    let opened = change::open(cx, args, size)?;
    let step = replace_step(&opened, "table create", scheme)?;
    let prepared = prepare(&*opened.medium.device, |device| {
        TableEdit::replace(device, scheme.kind(), &mut ids())
    });
    let prepared = prepared.map_err(|e| words::table_error(&opened.name, &e))?;
    finish(cx, args, &opened, step, prepared)
}

fn wipe(cx: &Context, args: &ChangeArgs, scheme: SchemeArg) -> Outcome {
    let opened = change::open(cx, args, None)?;
    let mut step = replace_step(&opened, "table wipe", scheme)?;
    step.done = format!(
        "{} has an empty {} and nothing else",
        opened.name,
        scheme.kind().word()
    );
    let device = &*opened.medium.device;
    let empty = TableEdit::replace(device, scheme.kind(), &mut ids());
    let prepared = empty.and_then(|empty| prepare_wipe(device, &empty));
    let prepared = prepared.map_err(|e| words::table_error(&opened.name, &e))?;
    finish(cx, args, &opened, step, prepared)
}

fn replace_step(
    opened: &Opened,
    command: &'static str,
    scheme: SchemeArg,
) -> Result<Step, Message> {
    let found = look_at(opened)?;
    let name = &opened.name;
    let lost = inspection::summary(&found);
    let loses = !found.is_unknown();
    Ok(Step {
        grows: None,
        command,
        done: format!("{name} has an empty {}", scheme.kind().word()),
        loses: loses.then(|| (format!("All of {name} ({lost}) will be lost. Continue?"), lost)),
    })
}

fn add_partition(cx: &Context, args: &AddArgs) -> Outcome {
    let opened = change::open(cx, &args.change, None)?;
    let kind = kind_on(&opened, &args.kind)?;
    let new = NewPartition {
        start: args.start,
        alignment: args.align,
        name: args.name.clone().unwrap_or_default(),
        is_logical: args.logical,
        ..NewPartition::new(kind, args.size)
    };
    // What it will be called is known once it has a place.
    let trial = TableEdit::read(&*opened.medium.device).and_then(|mut t| t.add(&new, &mut ids()));
    let number = trial.map_err(|e| words::table_error(&opened.name, &e))?;
    let step = Step {
        grows: None,
        command: "table add",
        done: format!("partition {number} added to {}", opened.name),
        loses: None,
    };
    edit(cx, &args.change, &opened, step, |table, _| {
        let number = table.add(&new, &mut ids())?;
        if args.active {
            table.activate(Some(number))
        } else {
            Ok(())
        }
    })
}

/// Changes the table that is there.
fn edit(
    cx: &Context,
    args: &ChangeArgs,
    opened: &Opened,
    step: Step,
    change: impl FnOnce(&mut TableEdit, &dyn BlockDevice) -> Result<(), TableError>,
) -> Outcome {
    let prepared = prepare(&*opened.medium.device, |device| {
        let mut table = TableEdit::read(device)?;
        change(&mut table, device)?;
        Ok(table)
    });
    let mut prepared = prepared.map_err(|e| words::table_error(&opened.name, &e))?;
    if let Some(number) = step.grows {
        grow_filesystem(&opened.name, &mut prepared, number)?;
    }
    finish(cx, args, opened, step, prepared)
}

fn grow_filesystem(name: &str, prepared: &mut TableChange<'_>, number: u32) -> Outcome {
    let grown = pinewrit_core::table::grow_filesystem(prepared, number, clock::timestamp());
    let why = match grown.map_err(|e| words::disk_error(name, &e))? {
        None => "it has no known file system".to_owned(),
        Some(grown) => match grown.kept_because {
            None => return Ok(()),
            Some(why) => why,
        },
    };
    let size = |found: &Inspection| {
        let mut all = found.partitions.iter();
        all.find(|partition| partition.number == number)
            .map(|partition| partition.size)
    };
    let (before, after) = (
        size(&prepared.report().before),
        size(&prepared.report().after),
    );
    let remedy = if before > after {
        format!(
            "Pinewrit grows file systems but does not shrink them: --size {}s or more",
            before.unwrap_or(0) / 512
        )
    } else {
        "without --with-filesystem only the partition is resized".to_owned()
    };
    let what = format!("the file system of partition {number} of {name} cannot grow");
    Err(Message::new(Exit::Usage, what)
        .fact("found", why)
        .fact("state", "nothing was changed")
        .remedy(remedy))
}

fn finish(
    cx: &Context,
    args: &ChangeArgs,
    opened: &Opened,
    step: Step,
    prepared: TableChange<'_>,
) -> Outcome {
    let name = &opened.name;
    let failed = |e: pinewrit_disk::DiskError| words::disk_error(name, &e);
    if let Some(cut) = cut_filesystems(&prepared).map_err(failed)?.first() {
        return Err(words::cut_filesystem(name, cut));
    }
    let changed = !prepared.is_empty().map_err(failed)?;
    if let Some((question, lost)) = &step.loses
        && changed
    {
        confirm(&cx.ui, args, question, lost)?;
    }
    let mut note = None;
    let outcome = prepared.report().clone();
    if changed && !args.dry_run {
        prepared
            .commit(Some(&opened.undo))
            .map_err(|e| words::commit_error(name, &e))?;
        opened.amend(cx, step.command, Vec::new());
        note = rescan_note(opened);
    }
    cx.ui.event(&TableEvent {
        command: step.command,
        medium: opened.id.clone(),
        dry_run: args.dry_run,
        changed,
        before: Some(&outcome.before),
        after: &outcome.after,
    });
    let (good, strong, dim) = (style::GOOD, style::STRONG, style::DIM);
    let mut text = match (changed, args.dry_run) {
        (false, _) => format!("{good}nothing to change{good:#} on {name}\n"),
        (true, true) => {
            format!(
                "{strong}{name}{strong:#} would change like this; nothing was changed (--dry-run)\n"
            )
        }
        (true, false) => format!("{good}done:{good:#} {}\n", step.done),
    };
    if let Some(note) = note {
        text += &format!("  {dim}note{dim:#} {note}\n");
    }
    let sector = opened.medium.device.logical_sector().bytes();
    let sides = [("before", &outcome.before), ("after", &outcome.after)];
    for (side, found) in sides
        .into_iter()
        .filter(|(side, _)| changed || *side == "after")
    {
        let scheme = inspection::scheme(found);
        text += &format!("\n  {dim}{side:<9}{dim:#} {scheme}\n");
        text += &inspection::table(found, sector, ui::width());
    }
    text += &inspection::identifiers(&outcome.after);
    cx.ui.result(text);
    Ok(())
}

/// The system reads the new table, unless it still uses the old one.
fn rescan_note(opened: &Opened) -> Option<&'static str> {
    match opened.medium.rescan() {
        pinewrit_host::Rescan::InUse => {
            Some("this computer shows the old partitions until it is reconnected")
        }
        _ => None,
    }
}
