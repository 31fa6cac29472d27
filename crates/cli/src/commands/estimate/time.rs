//! `pinewrit estimate time`

use std::io::Read;
use std::path::Path;
use std::time::{Duration, Instant};

use pinewrit_args::{CardSpeed, EstimateAction};
use pinewrit_core::write::{WritePlan, WriteRequest};
use pinewrit_host::usb_carries;
use pinewrit_image::{ChecksumKind, ExpectedChecksum, ImageSource};
use pinewrit_measure::{Link, Part, TimeEstimate};
use pinewrit_session::measure::{self, Pace};
use pinewrit_session::source::{self, Keep};
use pinewrit_session::{Context, clock, medium};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::words::measure::rate;
use pinewrit_ui::{Event, Exit, Message, style, units, words};
use schemars::JsonSchema;
use serde::Serialize;

use crate::commands::Outcome;
use crate::commands::write::TOOL;

/// How long unpacking is tried.
const TRY: Duration = Duration::from_millis(1500);
/// How much is hashed to see how fast that is, in bytes.
const HASHED: usize = 32 << 20;

/// How long a write will take.
#[derive(Serialize, JsonSchema)]
pub(crate) struct TimeEvent<'a> {
    /// The command.
    command: &'static str,
    /// The image, as given.
    image: String,
    /// The medium, as given.
    to: String,
    #[serde(flatten)]
    estimate: &'a TimeEstimate,
}

impl Event for TimeEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["estimate time"];
}

/// A medium, and how fast it is.
struct Target {
    name: String,
    size: u64,
    pace: Pace,
}

pub(super) fn run(cx: &Context, action: &EstimateAction) -> Outcome {
    let EstimateAction::Time {
        image,
        options,
        to,
        card,
        reader,
        no_verify,
    } = action
    else {
        return Ok(());
    };
    let mut target = match (card, to) {
        (Some(card), _) => given(*card),
        (None, Some(path)) => known(cx, path)?,
        (None, None) => return Ok(()),
    };
    if let Some(limit) = reader.and_then(usb_carries) {
        let (pace, limit) = (&mut target.pace, limit as f64);
        (pace.write, pace.read) = (pace.write.min(limit), pace.read.min(limit));
    }
    let named = source::open_named(cx, image, options, Keep::No)?;
    let source = &named.source;
    let name = source.name();
    let request = WriteRequest::new(TOOL, clock::seconds);
    let plan = WritePlan::new(source.clone(), Vec::new(), request);
    let plan = plan.map_err(|e| words::plan_error(&name, &e))?;
    let waiting = Waiting::new(&cx.ui, format!("trying how fast {name} is unpacked"));
    let (unpacked, unpack_rate) = tried(source)?;
    drop(waiting);
    let used = unpacked.saturating_sub(plan.expected_free());
    if target.size < unpacked {
        let what = format!("{name} does not fit on {}", target.name);
        let message = Message::new(Exit::Differences, what)
            .fact("image", units::exact(unpacked))
            .fact("medium", units::exact(target.size));
        return Err(message.remedy(format!("pinewrit estimate fit {}", image)));
    }
    let checksum = named.checksum(None)?;
    let mut links = Vec::new();
    links.extend(hashing(source, checksum.as_ref()));
    links.push(Link::new(Part::Unpack, unpacked, unpack_rate));
    links.extend(target.pace.links(used, !no_verify));
    let estimate = TimeEstimate::of(links);
    cx.ui.event(&TimeEvent {
        command: "estimate time",
        image: image.to_string(),
        to: target.name.clone(),
        estimate: &estimate,
    });
    cx.ui.result(text(&name, &target, &estimate));
    Ok(())
}

fn given(card: CardSpeed) -> Target {
    let how = match card.read {
        Some(_) => "as given",
        None => "as given; reading is taken to be as fast",
    };
    Target {
        name: format!("a medium of {}", units::size(card.size)),
        size: card.size,
        pace: Pace {
            write: card.write as f64,
            read: card.read.unwrap_or(card.write) as f64,
            how: how.to_owned(),
        },
    }
}

/// A medium of which something is known.
fn known(cx: &Context, path: &Path) -> Result<Target, Message> {
    let chosen = medium::find(cx, path, false)?;
    let name = chosen.name();
    let facts = chosen.facts.as_ref();
    let pace = facts.and_then(|facts| measure::paces(cx, &[facts]).pop()?);
    match (facts, pace) {
        (Some(facts), Some(pace)) => Ok(Target {
            size: facts.identity.size,
            name,
            pace,
        }),
        _ => Err(Message::new(
            Exit::Usage,
            format!("nothing is known of how fast {name} is"),
        )
        .remedy(format!("pinewrit measure {name} --speed"))
        .remedy("or --card 16GB@20MB/s, as it is printed on such a medium")),
    }
}

/// The unpacked size, as far as it shows, and how many bytes a second are unpacked.
fn tried(source: &ImageSource) -> Result<(u64, f64), Message> {
    let failed = |e| words::stream_error(&source.name(), &pinewrit_image::StreamError::from_io(e));
    let began = Instant::now();
    let mut stream = source.stream().map_err(failed)?;
    let mut buffer = vec![0; 1 << 20];
    let mut done = 0;
    let mut is_all = false;
    while began.elapsed() < TRY {
        match stream.read(&mut buffer).map_err(failed)? {
            0 => {
                is_all = true;
                break;
            }
            read => done += read as u64,
        }
    }
    let rate = done as f64 / began.elapsed().as_secs_f64().max(1e-6);
    let size = source.unpacked_size();
    let unpacked = match size.exact() {
        Some(size) => size,
        None if is_all => done,
        None => size.at_least().max(done),
    };
    Ok((unpacked, rate))
}

/// A checksum is compared before the first byte, if the image is here.
fn hashing(source: &ImageSource, expected: Option<&ExpectedChecksum>) -> Option<Link> {
    let packed = source.packed_size()?;
    let kind: ChecksumKind = expected?.checksum.kind;
    if source.fetch_stats().is_some() {
        return None;
    }
    let began = Instant::now();
    let mut hasher = kind.hasher();
    hasher.update(&vec![0; HASHED]);
    hasher.finish();
    let rate = HASHED as f64 / began.elapsed().as_secs_f64().max(1e-6);
    Some(Link::new(Part::Hash, packed, rate))
}

fn text(image: &str, target: &Target, estimate: &TimeEstimate) -> String {
    let strong = style::STRONG;
    let time = |seconds: f64| units::time(Duration::from_secs_f64(seconds));
    let mut facts = FactList::default();
    for link in &estimate.links {
        let (name, what) = match link.part {
            Part::Hash => ("hash", ", before the first byte".to_owned()),
            Part::Unpack => ("unpack", ", tried just now".to_owned()),
            Part::Write => ("write", format!(" ({})", target.pace.how)),
            Part::ReadBack => ("read back", String::new()),
        };
        let bytes = units::size(link.bytes);
        let in_use = match link.part {
            Part::Write => " in use",
            _ => "",
        };
        let (took, rate) = (time(link.seconds), rate(link.rate));
        let text = format!("{took}: {bytes}{in_use} at {rate}{what}");
        facts.add(name, text);
    }
    let saved = estimate.seconds - estimate.without_it;
    let what = match estimate.slowest {
        Part::Unpack => "unpacking; another wrapping, or a faster computer or network",
        _ => "writing; a faster medium or reader",
    };
    facts.add(
        "slowest",
        format!("{what} would save up to {}", time(saved)),
    );
    format!(
        "{strong}{image}{strong:#} onto {}: about {}\n{}",
        target.name,
        time(estimate.seconds),
        facts.to_text()
    )
}
