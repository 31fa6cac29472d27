//! `pinewrit media`

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use comfy_table::presets::NOTHING;
use comfy_table::{Cell, CellAlignment, Table};
use pinewrit_args::MediaArgs;
use pinewrit_core::inspect::{Inspection, inspect_medium};
use pinewrit_host::{Changes, Hold, MediumFacts, Verdict};
use pinewrit_ledger::KnownSpeed;
use pinewrit_ui::words::{self, inspection};
use pinewrit_ui::{Event, Exit, Message, style, units};
use schemars::JsonSchema;
use serde::Serialize;

use super::Outcome;
use super::write::unfinished_text;
use pinewrit_session::Context;
use pinewrit_session::signals;

/// The most characters of a maker's and model's names to show.
const MAX_NAME: usize = 28;
/// The most characters of a serial number to show.
const MAX_SERIAL: usize = 12;
/// How long to listen before checking for a request to stop.
const LISTEN_FOR: Duration = Duration::from_millis(500);
/// How often to check although nothing was heard.
const LOOK_ANYWAY: Duration = Duration::from_secs(3);

/// The connected media.
#[derive(Serialize, JsonSchema)]
pub(crate) struct MediaEvent {
    /// The command.
    command: &'static str,
    media: Vec<MediumEvent>,
}

impl Event for MediaEvent {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["media"];
}

/// A medium that was plugged in.
#[derive(Serialize, JsonSchema)]
#[serde(transparent)]
pub(crate) struct NewEvent(MediumEvent);

impl Event for NewEvent {
    const EVENT: &'static str = "new";
}

/// A medium that was pulled out.
#[derive(Serialize, JsonSchema)]
#[serde(transparent)]
pub(crate) struct GoneEvent(MediumEvent);

impl Event for GoneEvent {
    const EVENT: &'static str = "gone";
}

/// A medium in its reader.
#[derive(Serialize, JsonSchema)]
struct MediumEvent {
    /// Its tag.
    tag: Option<String>,
    /// Its device, or `rack:` and its reader.
    path: String,
    /// `ready`, `busy`, `unsure`, `locked` or `system`.
    verdict: &'static str,
    /// Why.
    reasons: Vec<String>,
    /// Bytes; 0 for an empty reader.
    size: u64,
    bus: &'static str,
    maker: Option<String>,
    model: Option<String>,
    serial: Option<String>,
    /// Whether the serial number is the medium's, and not its reader's.
    own_serial: bool,
    removable: bool,
    /// Where it is plugged in.
    port: String,
    /// Mount points.
    mounted: Vec<String>,
    /// Its content, as `inspect` shows it.
    content: Option<Inspection>,
}

impl MediumEvent {
    fn new(cx: &Context, medium: &MediumFacts) -> Self {
        let identity = &medium.identity;
        let points = medium.places.iter().flat_map(|place| &place.points);
        Self {
            tag: medium.tag.as_ref().map(ToString::to_string),
            path: medium.path.display().to_string(),
            verdict: medium.verdict.word(),
            reasons: words::reasons(&medium.verdict),
            size: identity.size,
            bus: identity.bus.word(),
            maker: identity.maker.clone(),
            model: identity.model.clone(),
            serial: identity.serial.clone(),
            own_serial: identity.is_own_serial,
            removable: identity.is_removable,
            port: identity.port.clone(),
            mounted: points.map(|point| point.display().to_string()).collect(),
            content: content(cx, medium),
        }
    }
}

/// The content of a medium, as far as this user may read it.
fn content(cx: &Context, medium: &MediumFacts) -> Option<Inspection> {
    if medium.identity.size == 0 {
        return None;
    }
    let opened = cx.readers.open_for_reading(&medium.path).ok()?;
    inspect_medium(&*opened.device).ok()
}

pub(crate) fn run(cx: &Context, args: &MediaArgs) -> Outcome {
    let media = survey(cx)?;
    let (shown, hidden): (Vec<_>, Vec<_>) = media
        .into_iter()
        .partition(|medium| args.all || is_of_use(medium));
    cx.ui.event(&MediaEvent {
        command: "media",
        media: shown
            .iter()
            .map(|medium| MediumEvent::new(cx, medium))
            .collect(),
    });
    cx.ui.result(text(cx, &shown, hidden.len()));
    if args.watch { watch(cx) } else { Ok(()) }
}

fn survey(cx: &Context) -> Result<Vec<MediumFacts>, Message> {
    cx.readers.media().map_err(|error| {
        Message::new(Exit::Medium, "the computer's media cannot be listed")
            .fact("system", error.to_string())
            .remedy("is /proc mounted?")
    })
}

/// Media that are never written and empty readers are only shown on request.
fn is_of_use(medium: &MediumFacts) -> bool {
    !matches!(medium.verdict, Verdict::System(_)) && medium.identity.size > 0
}

fn text(cx: &Context, media: &[MediumFacts], hidden: usize) -> String {
    let dim = style::DIM;
    let mut table = Table::new();
    table.load_style(NOTHING);
    let heads = [
        "tag",
        "verdict",
        "size",
        "bus",
        "vendor and model",
        "serial",
        "path",
    ];
    table.set_header(heads.map(|head| Cell::new(format!("{dim}{head}{dim:#}"))));
    for medium in media {
        table.add_row(row(medium));
    }
    if let Some(column) = table.column_mut(2) {
        column.set_cell_alignment(CellAlignment::Right);
    }
    // The header, then a line for each medium, with remarks below.
    let speeds = match cx.has_ledger_here() {
        true => cx.known_speeds(&media.iter().collect::<Vec<_>>()),
        false => vec![None; media.len()],
    };
    let details = media.iter().zip(&speeds).map(|(medium, speed)| {
        let content = content(cx, medium);
        details(cx, medium, (content.as_ref(), speed.as_ref()))
    });
    let below = std::iter::once(Vec::new()).chain(details);
    let mut text = String::new();
    if !media.is_empty() {
        for (line, details) in table.lines().zip(below) {
            text += &format!(" {}\n", line.trim_end());
            for detail in details {
                text += &format!("        {dim}{detail}{dim:#}\n");
            }
        }
    }
    text += &match (media.len(), hidden) {
        (0, 0) => "no medium is connected\n".to_owned(),
        (0, hidden) => {
            format!("no writable medium is connected; {hidden} more (--all)\n")
        }
        (_, 0) => String::new(),
        (_, hidden) => {
            format!("\n{dim}{hidden} more not shown (--all){dim:#}\n")
        }
    };
    text
}

fn row(medium: &MediumFacts) -> Vec<Cell> {
    let identity = &medium.identity;
    let tag = medium
        .tag
        .as_ref()
        .map_or("-".to_owned(), ToString::to_string);
    let words = [&identity.maker, &identity.model];
    let words: Vec<&str> = words.into_iter().flatten().map(String::as_str).collect();
    let name: String = words.join(" ").chars().take(MAX_NAME).collect();
    let color = style::verdict(&medium.verdict);
    let strong = style::STRONG;
    vec![
        Cell::new(format!("{strong}{tag}{strong:#}")),
        Cell::new(match identity.size {
            0 => "-".to_owned(),
            _ => format!("{color}{}{color:#}", medium.verdict.word()),
        }),
        Cell::new(match identity.size {
            0 => "-".to_owned(),
            size => units::size(size),
        }),
        Cell::new(identity.bus.to_string()),
        Cell::new(if name.is_empty() {
            "-".to_owned()
        } else {
            name
        }),
        Cell::new(shortened(identity.serial.as_deref().unwrap_or("-"))),
        Cell::new(medium.path.display().to_string()),
    ]
}

/// A medium's content, why it is not ready, and how reliable its tag is.
fn details(
    cx: &Context,
    medium: &MediumFacts,
    (content, speed): (Option<&Inspection>, Option<&KnownSpeed>),
) -> Vec<String> {
    let identity = &medium.identity;
    if identity.size == 0 {
        return vec!["no medium in it".to_owned()];
    }
    let mut lines = words::reasons(&medium.verdict);
    let tag = medium.tag.as_ref().map(ToString::to_string);
    // A medium with a table has been finished since, by somebody.
    let is_blank = content.is_none_or(Inspection::is_unknown);
    if let Some(note) = tag
        .filter(|_| is_blank)
        .and_then(|tag| cx.folders.state_if_any()?.note(&tag))
    {
        lines.push(unfinished_text(&note));
    }
    lines.push(match content {
        Some(found) => inspection::summary(found),
        None => "not readable by this user".to_owned(),
    });
    lines.extend(speed.map(words::measure::known_speed));
    if medium.has_twin {
        lines.push(
            "another medium reports the same identity; this tag is tied to its port".to_owned(),
        );
    } else if !identity.is_own_serial {
        lines.push(format!(
            "the tag stands for reader, slot and size: USB readers hide their cards{}",
            identifier(content)
        ));
    }
    lines
}

/// The end of a long serial number, where numbers differ.
fn shortened(serial: &str) -> String {
    let count = serial.chars().count();
    if count > MAX_SERIAL {
        format!(
            "…{}",
            serial
                .chars()
                .skip(count + 1 - MAX_SERIAL)
                .collect::<String>()
        )
    } else {
        serial.to_owned()
    }
}

/// What distinguishes two cards in the same reader.
fn identifier(content: Option<&Inspection>) -> String {
    let scheme = content.and_then(|found| found.scheme.as_ref());
    scheme.map_or(String::new(), |scheme| {
        format!("; disk identifier {}", scheme.id)
    })
}

/// Shows media as they come and go, until stopped.
fn watch(cx: &Context) -> Outcome {
    let mut cx = Context {
        folders: cx.folders.clone(),
        ledger: cx.ledger.clone(),
        ..Context::new(cx.ui, cx.readers.clone())
    };
    let cancel = signals::watch();
    cx.ui.say("watching for media; ^C ends\n");
    let mut changes = Changes::of(&cx.readers);
    let mut known = survey(&cx)?;
    let mut looked = Instant::now();
    while !cancel.is_cancelled() {
        let heard = changes.wait(LISTEN_FOR);
        // Readers that the kernel does not poll announce nothing.
        let due = !changes.hears_the_kernel() || looked.elapsed() >= LOOK_ANYWAY;
        if !heard && !due {
            continue;
        }
        cx.readers.refresh();
        let now = survey(&cx)?;
        looked = Instant::now();
        let keys = |media: &[MediumFacts]| -> BTreeSet<String> { media.iter().map(key).collect() };
        let (before, after) = (keys(&known), keys(&now));
        for medium in known.iter().filter(|medium| !after.contains(&key(medium))) {
            tell(&cx, "gone", medium);
        }
        for medium in now.iter().filter(|medium| !before.contains(&key(medium))) {
            tell(&cx, "new", medium);
        }
        known = now;
    }
    Ok(())
}

fn key(medium: &MediumFacts) -> String {
    let tag = medium
        .tag
        .as_ref()
        .map_or(String::new(), ToString::to_string);
    let mounted = match &medium.verdict {
        Verdict::Busy(holds) => holds.iter().any(Hold::is_mount),
        _ => false,
    };
    format!("{}|{tag}|{mounted}", medium.name)
}

fn tell(cx: &Context, what: &'static str, medium: &MediumFacts) {
    if medium.identity.size == 0 {
        return;
    }
    let event = MediumEvent::new(cx, medium);
    match what {
        "new" => cx.ui.event(&NewEvent(event)),
        _ => cx.ui.event(&GoneEvent(event)),
    }
    let tag = medium
        .tag
        .as_ref()
        .map_or(String::new(), ToString::to_string);
    let (good, dim) = (style::GOOD, style::DIM);
    let color = if what == "new" { good } else { dim };
    let words = pinewrit_session::medium::describe(medium);
    let verdict = medium.verdict.word();
    cx.ui.result(format!(
        "{color}{what:<5}{color:#} {tag:<8} {verdict:<7} {words}\n"
    ));
}
