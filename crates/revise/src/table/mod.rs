//! `pinewrit table ...`, a file a subcommand; `step` has what they share

mod activate;
mod add;
mod convert;
mod create;
mod relocate;
mod remove;
mod rename;
mod renew;
mod resize;
mod set_type;
mod show;
mod step;

pub use relocate::MoveEvent;
pub use renew::RenewEvent;

use pinewrit_args::{TableAction, TableArgs};
use pinewrit_core::inspect::{Inspection, inspect_medium};
use pinewrit_table::{PURPOSES, PartitionType, SchemeKind, TableEdit};
use pinewrit_ui::words::{self, inspection};
use pinewrit_ui::{Event, Exit, MediumName, Message};
use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change::{self, Opened};

/// A table, before and after.
#[derive(Serialize, JsonSchema)]
pub struct TableEvent<'a> {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: MediumName,
    /// Whether nothing was changed.
    dry_run: bool,
    /// Whether anything changed, or would change.
    changed: bool,
    /// Null if there was nothing to change.
    before: Option<&'a Inspection>,
    /// The table afterwards.
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

/// Shows or changes a partition table.
///
/// # Errors
/// The message that ends the command.
pub fn run(cx: &Context, args: &TableArgs) -> Outcome {
    match &args.action {
        TableAction::Show { medium } => show::show(cx, medium),
        TableAction::Create {
            change,
            scheme,
            size,
        } => create::create(cx, change, *scheme, *size),
        TableAction::Wipe { change, scheme } => create::wipe(cx, change, *scheme),
        TableAction::Renew { change } => renew::run(cx, change),
        TableAction::Add(add) => add::add_partition(cx, add),
        TableAction::Remove { change, partition } => remove::remove(cx, change, partition),
        TableAction::Resize {
            change,
            partition,
            size,
            with_filesystem,
        } => resize::resize(cx, change, partition, *size, *with_filesystem),
        TableAction::Move {
            change,
            partition,
            to,
        } => relocate::run(cx, change, partition, *to),
        TableAction::Convert { change, scheme } => convert::convert(cx, change, scheme.kind()),
        TableAction::Activate { change, partition } => activate::activate(cx, change, partition),
        TableAction::Type {
            change,
            partition,
            kind,
        } => set_type::set_type(cx, change, partition, kind),
        TableAction::Name {
            change,
            partition,
            name,
        } => rename::rename(cx, change, partition, name),
    }
}

/// Random numbers for identifiers.
fn ids() -> impl FnMut() -> [u8; 16] {
    || Uuid::new_v4().into_bytes()
}

fn look_at(opened: &Opened) -> Result<Inspection, Message> {
    let device = &*opened.medium.device;
    inspect_medium(device).map_err(|e| words::disk_error(&opened.name, &e))
}

fn number_of(opened: &Opened, named: &str) -> Result<u32, Message> {
    change::partition(&opened.name, &look_at(opened)?, named)
}

/// What would be lost with a partition, in brief.
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
