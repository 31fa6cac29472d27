//! `pinewrit find [HOST…]`

use std::collections::BTreeSet;
use std::time::Duration;

use pinewrit_args::FindArgs;
use pinewrit_boot::find::{FindRequest, Found, KeyVerdict, News, Target, find};
use pinewrit_boot::ssh::PORT;
use pinewrit_host::Readers;
use pinewrit_session::unit::{self, KnownUnit, Papers};
use pinewrit_session::{Context, clock, signals};
use pinewrit_ui::{Event, Exit, Message, style, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::Outcome;

/// How long somebody looks without `--wait`.
const GLANCE: Duration = Duration::from_secs(5);
/// A whole network takes longer: it is asked at so many addresses and ports in a second.
const A_SECOND: u64 = 80;

/// Something that has happened while boards are looked for.
#[derive(Serialize, JsonSchema)]
#[serde(transparent)]
pub(crate) struct NewsEvent<'a>(&'a News);

impl Event for NewsEvent<'_> {
    const EVENT: &'static str = "news";
}

/// The boards that were looked for.
#[derive(Serialize, JsonSchema)]
pub(crate) struct FindEvent<'a> {
    /// The command.
    command: &'static str,
    /// Each of them.
    boards: &'a [Found],
}

impl Event for FindEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["find"];
}

pub(crate) fn run(cx: &Context, args: &FindArgs) -> Outcome {
    let units = match args.hosts.is_empty() {
        true => unit::waiting(cx)?,
        false => {
            let known = |name: &String| unit::known(cx, name, Papers::default());
            args.hosts
                .iter()
                .map(known)
                .collect::<Result<Vec<KnownUnit>, _>>()?
        }
    };
    if units.is_empty() {
        return Err(Message::new(
            Exit::NotFound,
            "the ledger has no unit that waits for its board",
        )
        .remedy("name a board: pinewrit find HOST"));
    }
    let targets: Vec<Target> = units
        .iter()
        .map(|unit| Target {
            port: args.port.or(unit.port()),
            ..unit.target()
        })
        .collect();
    let ports: BTreeSet<u16> = targets
        .iter()
        .map(|target| target.port.unwrap_or(PORT))
        .collect();
    let doors = args.net.map_or(0, |net| {
        let hosts = 1_u64 << (net.max_prefix_len() - net.prefix_len()).min(12);
        hosts * ports.len() as u64
    });
    let wait = args.wait.map_or(GLANCE, Duration::from_secs);
    let request = FindRequest {
        targets,
        leases: args.leases.clone(),
        net: args.net,
        wait: wait.max(GLANCE + Duration::from_secs(doors / A_SECOND)),
        is_loopback: matches!(cx.readers, Readers::Rack(_)),
        is_one_enough: false,
        now: clock::seconds,
    };
    let ui = cx.ui;
    let mut tell = |news: &News| {
        ui.event(&NewsEvent(news));
        ui.say(format!("{}\n", words::commission::news(news)));
    };
    let cancel = signals::watch();
    let found = find(&request, &mut tell, &cancel);
    let found = found.map_err(|e| words::commission::find_error(&e))?;
    ui.event(&FindEvent {
        command: "find",
        boards: &found,
    });
    ui.result(words::commission::found(&found));
    if cancel.is_cancelled() {
        return Err(Message::new(Exit::Interrupted, "stopped"));
    }
    judge(&found, args)
}

fn judge(found: &[Found], args: &FindArgs) -> Outcome {
    let differs: Vec<&str> = found
        .iter()
        .filter(|one| one.host_key == KeyVerdict::Differs)
        .map(|one| one.name.as_str())
        .collect();
    if !differs.is_empty() {
        let what = match differs.as_slice() {
            [one] => format!("{one} has another host key than was put on its medium"),
            all => format!(
                "{} boards have other host keys than were put on their media",
                all.len()
            ),
        };
        return Err(Message::new(Exit::Differences, what)
            .fact("boards", differs.join(", "))
            .remedy("it is another board with this name, or its medium was made anew"));
    }
    let missing: Vec<&str> = found
        .iter()
        .filter(|one| !one.is_there())
        .map(|one| one.name.as_str())
        .collect();
    if missing.is_empty() {
        return Ok(());
    }
    let what = match (missing.as_slice(), found.len()) {
        ([one], _) => format!("{one} was not found"),
        (all, total) => format!("{} of {total} boards were not found", all.len()),
    };
    let message = Message::new(Exit::NotFound, what);
    let message = match found.len() {
        1 => message,
        _ => message.fact("missing", missing.join(", ")),
    };
    let message = match args.wait {
        None => message.remedy("--wait goes on until it is there; a first boot takes minutes"),
        Some(_) => message,
    };
    let message = match args.leases.is_empty() {
        true => message.remedy("--leases FILE, the DHCP server's list of leases"),
        false => message,
    };
    Err(message
        .remedy("--net CIDR looks for its host key in a network")
        .remedy("`pinewrit watch` shows its serial console"))
}

/// A board's address by the network, for a command that needs one.
pub(super) fn address(
    cx: &Context,
    (unit, host): (&KnownUnit, &str),
    wait: Duration,
) -> Result<Option<Found>, Message> {
    let known = unit.target();
    // By the name that was typed, and by the one that it should have.
    let name = host.strip_suffix(".local").unwrap_or(host);
    let typed = Target {
        name: name.split('.').next().unwrap_or(name).to_owned(),
        ..known.clone()
    };
    let targets = match typed.name.eq_ignore_ascii_case(&known.name) {
        true => vec![known],
        false => vec![typed, known],
    };
    let request = FindRequest {
        targets,
        leases: Vec::new(),
        net: None,
        wait: wait.max(GLANCE),
        is_loopback: matches!(cx.readers, Readers::Rack(_)),
        is_one_enough: true,
        now: clock::seconds,
    };
    let dim = style::DIM;
    let mut tell = |news: &News| {
        cx.ui
            .say(format!("{dim}{}{dim:#}\n", words::commission::news(news)));
    };
    let found = find(&request, &mut tell, &signals::watch());
    let found = found.map_err(|e| words::commission::find_error(&e))?;
    Ok(found.into_iter().find(Found::is_there))
}
