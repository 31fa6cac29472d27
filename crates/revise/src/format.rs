//! `pinewrit format MEDIUM PARTITION --as KIND`

use pinewrit_args::FormatArgs;
use pinewrit_core::inspect::{PartitionFacts, inspect_medium};
use pinewrit_disk::Window;
use pinewrit_ext4::Timestamp;
use pinewrit_fat::FatWidth;
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::words;
use pinewrit_ui::words::inspection::{self, FactList};
use pinewrit_ui::{Event, Exit, MediumName, Message, style, units};
use pinewrit_volume::format::{FormatKind, FormatOptions, FormatReport, check, format};
use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change::{self, Opened, confirm};
use pinewrit_session::clock;

/// A new file system.
#[derive(Serialize, JsonSchema)]
pub struct FormatEvent<'a> {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: MediumName,
    /// Its number.
    partition: u32,
    /// Whether this was a dry run.
    dry_run: bool,
    #[serde(flatten)]
    report: Option<&'a FormatReport>,
}

impl Event for FormatEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["format"];
}

/// Makes a file system in a partition.
///
/// # Errors
/// The message that ends the command.
pub fn run(cx: &Context, args: &FormatArgs) -> Outcome {
    let opened = change::open(cx, &args.change, None)?;
    let partition = find(&opened, &args.partition)?;
    let options = options(args, &partition)?;
    let range = partition.range();
    let window = Window::new(&*opened.medium.device, range);
    let sector = opened.medium.device.logical_sector().bytes();
    check(range.len(), sector, &options).map_err(|e| words::format_error(&opened.name, &e))?;
    if let Some(fs) = &partition.filesystem {
        let number = partition.number;
        let used = fs.used.map_or(String::new(), |used| {
            format!(", {} in use", units::size(used))
        });
        let lost = format!("{}{used}", inspection::brief(&partition));
        let question = format!("All of partition {number} ({lost}) will be lost. Continue?");
        confirm(&cx.ui, &args.change, &question, &lost)?;
    }
    let made = if args.change.dry_run {
        None
    } else {
        let _waiting = Waiting::new(&cx.ui, format!("making {}", args.kind.word()));
        let made = format(&window, &options);
        let made = made.map_err(|e| words::format_error(&opened.name, &e))?;
        let what = format!("partition {}", partition.number);
        opened.amend(cx, "format", vec![what]);
        Some(made)
    };
    cx.ui.event(&FormatEvent {
        command: "format",
        medium: opened.id.clone(),
        partition: partition.number,
        dry_run: args.change.dry_run,
        report: made.as_ref(),
    });
    cx.ui
        .result(text(&opened.name, &partition, args.kind, made.as_ref()));
    Ok(())
}

fn find(opened: &Opened, named: &str) -> Result<PartitionFacts, Message> {
    let device = &*opened.medium.device;
    let mut found = inspect_medium(device).map_err(|e| words::disk_error(&opened.name, &e))?;
    let number = change::partition(&opened.name, &found, named)?;
    let place = found.partitions.iter().position(|p| p.number == number);
    match place.map(|place| found.partitions.swap_remove(place)) {
        Some(partition) if partition.range().end <= device.size() => Ok(partition),
        _ => Err(Message::new(
            Exit::Medium,
            format!("partition {number} reaches past the end of {}", opened.name),
        )
        .remedy("pinewrit table show tells more")),
    }
}

fn options(args: &FormatArgs, partition: &PartitionFacts) -> Result<FormatOptions, Message> {
    let is_ext4 = args.kind == FormatKind::Ext4;
    if !is_ext4 && (args.inodes.is_some() || args.no_checksums) {
        return Err(Message::new(
            Exit::Usage,
            "--inodes and --no-checksums are for ext4 only",
        ));
    }
    let mut seed = [0; 32];
    seed[..16].copy_from_slice(Uuid::new_v4().as_bytes());
    seed[16..].copy_from_slice(Uuid::new_v4().as_bytes());
    let unit = args.unit.map(u32::try_from).transpose();
    let unit = unit.map_err(|_| Message::new(Exit::Usage, "--unit is too large"))?;
    let now = Timestamp::at(clock::seconds());
    Ok(FormatOptions {
        unit,
        inodes: args.inodes,
        has_checksums: !args.no_checksums,
        start: partition.start,
        ..FormatOptions::new(args.kind, &args.label, seed, now)
    })
}

fn text(
    name: &str,
    partition: &PartitionFacts,
    kind: FormatKind,
    made: Option<&FormatReport>,
) -> String {
    let (good, strong) = (style::GOOD, style::STRONG);
    let number = partition.number;
    let mut facts = FactList::default();
    let head = match made {
        Some(made) => {
            let label = made
                .label
                .as_ref()
                .map_or(String::new(), |l| format!(" \"{l}\""));
            facts.add("size", units::size(made.size));
            if let Some(free) = made.free {
                facts.add("free", units::size(free));
            }
            if let Some(id) = &made.id {
                facts.add("id", id.as_str());
            }
            format!(
                "{good}done:{good:#} partition {number} of {name} is {}{label}\n",
                made.kind
            )
        }
        None => format!(
            "{strong}{name}{strong:#}: partition {number} would become {}; nothing was changed (--dry-run)\n",
            kind.word()
        ),
    };
    if let Some(fs) = &partition.filesystem {
        let label = fs
            .label
            .as_ref()
            .map_or(String::new(), |l| format!(" \"{l}\""));
        facts.add("before", format!("{}{label}", fs.kind));
    }
    if let Some(word) = other_type(partition, kind) {
        facts.add(
            "note",
            format!(
                "the table says {}; `pinewrit table type {name} {number} {word}` fixes that",
                partition.kind.word()
            ),
        );
    }
    head + &facts.to_text()
}

/// The type that the table should have, if it has another.
fn other_type(partition: &PartitionFacts, kind: FormatKind) -> Option<&'static str> {
    let own = partition.kind;
    match kind {
        FormatKind::Fat(fat) => {
            // MBR types name the width.
            let made = fat.for_size(partition.size);
            let is_other = match own.fat_bits() {
                Some(bits) => bits != made.bits(),
                None => !own.is_for_fat(),
            };
            is_other.then_some(match made {
                FatWidth::Fat12 => "fat12",
                FatWidth::Fat16 => "fat16",
                FatWidth::Fat32 => "fat32",
            })
        }
        FormatKind::Ext4 => (own.is_for_fat() || own.is_swap()).then_some("linux"),
        FormatKind::Swap => (!own.is_swap()).then_some("swap"),
    }
}
