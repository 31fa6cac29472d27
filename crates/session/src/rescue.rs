//! Copying media that cannot be read in every place: `--rescue FILE` of `clone` and `save`.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use pinewrit_args::RescueArgs;
use pinewrit_core::copy::{CopyView, ViewRequest};
use pinewrit_disk::BlockDevice;
use pinewrit_host::{Readers, Tag};
use pinewrit_image::Location;
use pinewrit_rescue::{Limits, Means, Rescue, RescueReport, Watcher, rescued_view};
use pinewrit_ui::progress::{ProgressView, Screen};
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::{Event, Exit, Message, Ui, style, units, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::medium::{self, Chosen};
use crate::Context;
use crate::Outcome;
use crate::{clock, signals};

/// A medium that is gone while it is being read, or has come back.
#[derive(Serialize, JsonSchema)]
pub struct AwayEvent {
    /// Whether it is gone, or has come back.
    is_away: bool,
}

impl Event for AwayEvent {
    const EVENT: &'static str = "away";
}

/// What could be read of a medium.
#[derive(Serialize, JsonSchema)]
pub struct RescueEvent<'a> {
    /// The medium, as it is called.
    source: &'a str,
    #[serde(flatten)]
    report: &'a RescueReport,
}

impl Event for RescueEvent<'_> {
    const EVENT: &'static str = "rescue";
}

struct Teller {
    ui: Ui,
    name: String,
}

impl Watcher for Teller {
    fn gone(&self, is_gone: bool) {
        self.ui.event(&AwayEvent { is_away: is_gone });
        let name = &self.name;
        self.ui.warn(if is_gone {
            format!(
                "{name} is gone: plug it in again, this reader or another; ^C keeps what was read\n"
            )
        } else {
            format!("{name} is back\n")
        });
    }
}

/// What is packed, or on a server, is not a medium.
pub fn only_media(location: &Location) -> Message {
    Message::new(Exit::Usage, format!("{location} is not a medium"))
        .remedy("without --rescue: it is copied as it is")
}

/// Opens a medium wherever it is now: by its tag, or where it was.
fn again(readers: &mut Readers, tag: Option<&Tag>, path: &Path) -> Option<Arc<dyn BlockDevice>> {
    readers.refresh();
    let media = tag.and_then(|_| readers.media().ok()).unwrap_or_default();
    let found = media.into_iter().find(|one| one.tag.as_ref() == tag);
    let place = match (tag, found) {
        (None, _) => path.to_owned(),
        (Some(_), found) => found?.path,
    };
    let medium = readers.open_for_reading(&place).ok()?;
    Some(Arc::from(medium.device))
}

/// Begins a rescue, or goes on with an earlier one.
pub fn begin(
    cx: &Context,
    chosen: &Chosen,
    device: Arc<dyn BlockDevice>,
    (place, args): (&Path, &RescueArgs),
) -> Result<Arc<Rescue>, Message> {
    let own = cx.readers.footing(place);
    let name = chosen.name();
    if cx.readers.footing(&chosen.path).meets(&own) {
        let what = format!("{} is on the medium that is rescued", place.display());
        return Err(Message::new(Exit::Refused, what).remedy("a name in a folder on another disk"));
    }
    let words = match &chosen.facts {
        Some(facts) => medium::describe(facts),
        None => chosen.path.display().to_string(),
    };
    let readers = std::sync::Mutex::new(cx.readers.clone());
    let (tag, path) = (chosen.tag().cloned(), chosen.path.clone());
    let means = Means {
        reopen: Box::new(move || {
            let mut readers = readers.lock().ok()?;
            again(&mut readers, tag.as_ref(), &path)
        }),
        wait: Duration::from_secs(args.wait),
        cancel: signals::watch(),
        watcher: Box::new(Teller { ui: cx.ui, name }),
    };
    let rescue = Rescue::open(device, place, &words, means);
    let rescue = rescue.map_err(|error| words::kept_error(&error))?;
    for other in &args.merge {
        let taken = rescue.take_from(other).map_err(|e| words::kept_error(&e))?;
        let (taken, other) = (units::size(taken), other.display());
        cx.ui.say(format!("{taken} taken from {other}\n"));
    }
    Ok(Arc::new(rescue))
}

/// Reads what can be read, and works out the copy.
pub fn view(
    ui: &Ui,
    (name, command): (&str, &'static str),
    rescue: &Arc<Rescue>,
    request: &ViewRequest,
    args: &RescueArgs,
) -> Result<(CopyView, RescueReport), Message> {
    let limits = Limits {
        pass: Duration::from_secs(args.pass_minutes.saturating_mul(60)),
    };
    let screen = Screen::on_stderr();
    let progress = ProgressView::on(&screen, *ui, None, false);
    let found = rescued_view(rescue, request, (&limits, &progress), clock::timestamp());
    drop(progress);
    let (view, report) = found.map_err(|e| words::rescue_error(name, command, &e))?;
    ui.event(&RescueEvent {
        source: name,
        report: &report,
    });
    let mut facts = FactList::default();
    words::rescued(&report, &mut facts);
    let strong = style::STRONG;
    ui.say(format!(
        "{strong}rescued{strong:#} {name}\n{}",
        facts.to_text()
    ));
    Ok((view, report))
}

/// The last word on a copy of a medium that could not be read in every place.
pub fn end(what: &str, report: Option<&RescueReport>, args: &RescueArgs) -> Outcome {
    match (report, &args.rescue) {
        (Some(report), Some(file)) if !report.is_whole() => {
            Err(words::not_whole(what, &file.display().to_string(), report))
        }
        _ => Ok(()),
    }
}
