//! `pinewrit clone SOURCE --to MEDIUM`

use std::path::Path;
use std::sync::Arc;

use pinewrit_args::{AsNewArgs, CloneArgs, RescueArgs};
use pinewrit_core::copy::{CopyView, Shrunk, ViewRequest, ViewSize};
use pinewrit_core::renew::renew;
use pinewrit_core::write::{WriteRequest, sum_before};
use pinewrit_disk::{BlockDevice, FreeWrites, Overlay};
use pinewrit_firstboot::as_new::{AsNew, AsNewReport};
use pinewrit_image::{ImageSource, Location};
use pinewrit_rescue::RescueReport;
use pinewrit_table::{TableEdit, TableError};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::{Event, Exit, Message, Ui, style, words};
use pinewrit_volume::Recovered;
use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use super::Outcome;
use super::write::{self, Wish};
use pinewrit_session::clock;
use pinewrit_session::signals;
use pinewrit_session::source::{self, CopySource, Keep, Named};
use pinewrit_session::trust::{self, Vouched};
use pinewrit_session::{Context, medium, rescue};

/// How a copy differs from its source.
#[derive(Serialize, JsonSchema)]
pub(crate) struct CopyEvent<'a> {
    /// The command: `clone` or `save`.
    command: &'static str,
    /// The source, as given.
    source: String,
    /// Size of the copy in bytes.
    bytes: u64,
    /// What was taken away to make the system as new.
    as_new: Option<&'a AsNewReport>,
    /// The file system that is smaller in the copy.
    shrunk: Option<&'a Shrunk>,
    /// What was finished in file systems that were cut off.
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    recovered: &'a [Recovered],
}

impl Event for CopyEvent<'_> {
    const EVENT: &'static str = "copy";
}

/// What the arguments ask to be taken away.
pub(super) fn as_new(args: &AsNewArgs) -> Option<AsNew> {
    let place = |path: &String| match path.split_once(':') {
        Some((_, path)) => path.to_owned(),
        None => path.clone(),
    };
    args.as_new.then(|| AsNew {
        keep: args.keep.iter().map(place).collect(),
    })
}

/// A medium or image as its copy will be.
pub(super) struct Copied {
    pub(super) source: ImageSource,
    pub(super) view: Option<CopyView>,
    /// What could be read of it, if it is rescued.
    pub(super) rescued: Option<RescueReport>,
}

/// Works out the copy of an opened source.
pub(super) fn copied(
    ui: &Ui,
    (command, opened): (&'static str, CopySource),
    request: &ViewRequest,
    args: &RescueArgs,
) -> Result<Copied, Message> {
    let CopySource {
        source,
        device,
        rescue,
        ..
    } = opened;
    let Some(device) = device else {
        return Ok(Copied {
            source,
            view: None,
            rescued: None,
        });
    };
    let name = source.name();
    let (view, rescued) = match rescue {
        Some(rescue) => {
            let (view, report) = rescue::view(ui, (&name, command), &rescue, request, args)?;
            (view, Some(report))
        }
        None => {
            let waiting = Waiting::new(ui, format!("working out the copy of {name}"));
            let view = CopyView::new(device, request, clock::timestamp());
            drop(waiting);
            (view.map_err(|e| words::view_error(&name, &e))?, None)
        }
    };
    let place = source.location().clone();
    Ok(Copied {
        source: source::of_device(&place, &name, &view.device)?,
        view: Some(view),
        rescued,
    })
}

/// Says how the copy differs from its source.
pub(super) fn tell(
    ui: &Ui,
    (command, location): (&'static str, &Location),
    view: &CopyView,
    is_dry: bool,
) {
    ui.event(&CopyEvent {
        command,
        source: location.to_string(),
        bytes: view.size(),
        as_new: view.as_new.as_ref(),
        shrunk: view.shrunk.as_ref(),
        recovered: &view.recovered,
    });
    let mut facts = FactList::default();
    for one in &view.recovered {
        facts.add("finished", words::recovered(one));
    }
    if let Some(shrunk) = &view.shrunk {
        facts.add("smaller", words::shrunk(shrunk));
    }
    if let Some(why) = &view.stays {
        facts.add("not smaller", why);
    }
    if let Some(report) = &view.as_new {
        words::as_new_facts(report, &mut facts);
    }
    for what in words::copied_whole(&view.content) {
        facts.add("every byte", what);
    }
    let text = facts.to_text();
    if text.is_empty() {
        return;
    }
    let strong = style::STRONG;
    ui.say(format!("{strong}changed{strong:#} in the copy\n{text}"));
    if let Some(report) = view.as_new.as_ref().filter(|_| is_dry) {
        ui.say(words::as_new_list(report));
    }
}

fn random() -> [u8; 16] {
    Uuid::new_v4().into_bytes()
}

pub(crate) fn run(cx: &Context, args: &CloneArgs) -> Outcome {
    let ui = &cx.ui;
    let settings = write::request(ui, args.settings.as_deref(), args.intake.as_deref())?;
    let access = (&args.medium, args.dry_run);
    let opened = source::open_to_copy(cx, &args.source, &args.options, access, &args.rescue)?;
    let vouched = vouched(&opened, args.signed_by.as_deref())?;
    let meant_for = opened.listed.as_ref().and_then(|one| one.smallest);
    let smallest = smallest_target(cx, args)?;
    let size = match (&opened.device, smallest) {
        (Some(device), Some(most)) if most < device.size() => ViewSize::AtMost(most),
        // An exact copy has what lies behind the last partition as well.
        _ if args.keep_identifiers => ViewSize::Whole,
        _ => ViewSize::ToLastPartition,
    };
    let is_device = opened.device.is_some();
    let request = ViewRequest {
        as_new: as_new(&args.new),
        size,
        // An exact copy is as it was.
        recovers: !args.keep_identifiers,
    };
    let copied = copied(ui, ("clone", opened), &request, &args.rescue)?;
    let mut is_renewed = !args.keep_identifiers;
    if let Some(view) = &copied.view {
        tell(ui, ("clone", &args.source), view, args.dry_run);
        let is_whole = copied.rescued.as_ref().is_none_or(RescueReport::is_whole);
        let fault = table_fault(&*view.device);
        let fault = fault.or_else(|| renewal_fault(&view.device).filter(|_| !is_whole));
        if let Some(why) = fault.filter(|_| is_renewed) {
            is_renewed = false;
            let mut facts = FactList::default();
            let stay = format!("stay, because {why}: never use both in one computer");
            facts.add("identifiers", stay);
            ui.say(facts.to_text());
        }
        if args.dry_run && is_renewed {
            tell_identifiers(ui, &view.device);
        }
    } else if args.new.as_new {
        let mut facts = FactList::default();
        facts.add("as new", "worked out on the medium: the image is packed");
        ui.say(facts.to_text());
    }
    let request = WriteRequest {
        // A packed image cannot be changed before it is on a medium.
        as_new: request.as_new.filter(|_| !is_device),
        new_ids: is_renewed.then_some(random),
        grow: args.grow,
        verify: !args.no_verify,
        as_it_is: true,
        checksum: vouched.checksum,
        receipt: args.receipt.clone(),
        ..settings
    };
    let location = copied.source.location().clone();
    let name = copied.source.name();
    let wish = Wish {
        smallest: meant_for,
        command: "clone",
        image: &location,
        source: copied.source,
        to: &args.to,
        access: &args.medium,
        size: args.size,
        into: None,
        signature: vouched.signature,
        board: write::board(args.board.as_deref(), &request)?,
        request,
        report: args.report.as_deref(),
        keep: Keep::No,
        only_changes: args.only_changes,
        eject: args.eject,
        dry_run: args.dry_run,
        yes: args.yes,
        is_draft: false,
    };
    let written = write::carry(cx, &wish);
    written.map_err(|message| match message.exit {
        Exit::Source if is_device => message.remedy(words::READ_AROUND),
        _ => message,
    })?;
    rescue::end(
        &format!("{name} is copied"),
        copied.rescued.as_ref(),
        &args.rescue,
    )
}

/// What a packed image, or one of the shelf, must be. A medium, and a file that stands for one, may
/// have been changed since somebody wrote down its checksum: that is asked for only with a key.
fn vouched(opened: &CopySource, key: Option<&Path>) -> Result<Vouched, Message> {
    if opened.device.is_some() && key.is_none() {
        return Ok(Vouched::default());
    }
    let named = Named {
        source: opened.source.clone(),
        listed: opened.listed.clone(),
    };
    let vouched = trust::vouched(&named, None, key)?;
    let (Some(_), Some(expected)) = (&opened.device, &vouched.checksum) else {
        return Ok(vouched);
    };
    // The copy will not be the same bytes: they are summed beforehand.
    let name = named.source.name();
    let summed = sum_before(&named.source, expected, &signals::watch());
    summed.map_err(|e| words::write_error(&name, "", &e).without(""))?;
    Ok(Vouched {
        checksum: None,
        ..vouched
    })
}

/// The size of the smallest target, as far as it is known.
fn smallest_target(cx: &Context, args: &CloneArgs) -> Result<Option<u64>, Message> {
    let mut smallest: Option<u64> = None;
    for named in &args.to {
        let chosen = medium::find(cx, named, args.size.is_some())?;
        let size = match &chosen.facts {
            Some(facts) => Some(facts.identity.size),
            None => file_size(&chosen.path).or(args.size),
        };
        smallest = smallest.into_iter().chain(size).min();
    }
    Ok(smallest)
}

fn file_size(path: &Path) -> Option<u64> {
    let facts = path.metadata().ok().filter(std::fs::Metadata::is_file);
    facts.map(|facts| facts.len())
}

/// Why a table cannot be changed, if there is one.
fn table_fault(device: &dyn BlockDevice) -> Option<String> {
    match TableEdit::read(device) {
        Ok(_) | Err(TableError::NoTable | TableError::Disk(_)) => None,
        Err(why) => Some(why.to_string()),
    }
}

/// Why the copy of a damaged medium cannot have identifiers of its own.
fn renewal_fault(device: &Arc<dyn BlockDevice>) -> Option<String> {
    let overlay = Overlay::new(&**device).with_free_writes(FreeWrites::Referenced);
    let renewed = renew(&overlay, &mut random, clock::timestamp());
    renewed.err().map(|why| why.to_string())
}

/// Which identifiers would be new, and what would follow.
fn tell_identifiers(ui: &Ui, device: &Arc<dyn BlockDevice>) {
    let overlay = Overlay::new(&**device).with_free_writes(FreeWrites::Referenced);
    let mut facts = FactList::default();
    match renew(&overlay, &mut random, clock::timestamp()) {
        Ok(report) => words::renewed(&report, true, &mut facts),
        Err(why) => facts.add("identifiers", format!("stay: {why}")),
    }
    let strong = style::STRONG;
    ui.say(format!(
        "{strong}identifiers{strong:#} of the copy\n{}",
        facts.to_text()
    ));
}
