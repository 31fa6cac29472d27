//! `pinewrit commission HOST`

use std::net::IpAddr;
use std::time::{Duration, Instant};

use pinewrit_args::{CommissionArgs, WantedArgs};
use pinewrit_boot::commission::{Met, Point, Seen, WAIT, compare, script};
use pinewrit_boot::ssh::{Login, Session, SshError};
use pinewrit_core::Cancel;
use pinewrit_host::Readers;
use pinewrit_ledger::Kind;
use pinewrit_session::unit::{self, KnownUnit, Papers};
use pinewrit_session::{Context, clock, signals};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::{Event, Exit, Message, style, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::{Outcome, find};

/// How often a board that does not answer yet is asked again.
const AGAIN: Duration = Duration::from_secs(3);
/// The most points that the ledger names.
const MAX_NAMED: usize = 4;

/// A running board, compared with its settings.
#[derive(Serialize, JsonSchema)]
pub(crate) struct CommissionEvent<'a> {
    /// The command.
    command: &'static str,
    /// The unit.
    unit: &'a str,
    /// The board, as it was named.
    host: &'a str,
    /// Whether nothing differs.
    equal: bool,
    /// Everything that was compared.
    points: &'a [Point],
}

impl Event for CommissionEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["commission"];
}

pub(crate) fn run(cx: &Context, args: &CommissionArgs) -> Outcome {
    let name = args.unit.as_deref().unwrap_or(&args.host);
    let unit = unit::known(cx, name, papers(&args.wanted))?;
    if !unit.is_known() {
        let what = format!("nothing is known of {name}, so there is nothing to compare with");
        return Err(Message::new(Exit::Usage, what)
            .remedy("name its settings: --settings FILE, or --roster FILE")
            .remedy("--unit NAME says under which name the ledger has it"));
    }
    if let Some(key) = &args.wanted.key {
        unit::must_be_key(key)?;
    }
    let login = Login {
        port: args.port.or(unit.port()),
        key: args.wanted.key.clone(),
        user: args.wanted.user.clone().or(unit.user().map(str::to_owned)),
        ..unit.login(&args.host)
    };
    let cancel = signals::watch();
    let wait = Duration::from_secs(args.wait.unwrap_or(0));
    let session = reach(cx, &unit, login, wait, &cancel)?;
    let points = compare(&unit.wanted(), &session, clock::seconds());
    tell(cx, &unit, &args.host, &points)
}

pub(super) fn papers(args: &WantedArgs) -> Papers<'_> {
    Papers {
        settings: args.settings.as_deref(),
        roster: args.roster.as_deref(),
        receipt: args.receipt.as_deref(),
    }
}

/// Logs in and asks; waits for a board that is not up yet, and until its first-boot work is over.
fn reach(
    cx: &Context,
    unit: &KnownUnit,
    login: Login,
    wait: Duration,
    cancel: &Cancel,
) -> Result<Session, Message> {
    let end = Instant::now() + wait;
    let wanted = unit.wanted();
    let has_sudo = wanted.has_sudo(login.user.as_deref());
    let is_rack = matches!(cx.readers, Readers::Rack(_));
    let mut login = login;
    if is_rack {
        let named: Option<IpAddr> = login.host.parse().ok();
        login.address = named.filter(IpAddr::is_loopback);
    }
    let mut is_told = false;
    let ask = |login: &Login| {
        let _waiting = Waiting::new(&cx.ui, format!("asking {}", login.host));
        let left = end.saturating_duration_since(Instant::now());
        let questions = script(&wanted.users(), has_sudo, WAIT.min(left));
        login.run(&questions, cancel)
    };
    loop {
        // Boards of a rack are in this computer only: a real one of that name is not asked.
        let mut asked = match login.address {
            None if is_rack => Err(SshError::NoName {
                host: login.host.clone(),
            }),
            _ => ask(&login),
        };
        if let Err(SshError::NoName { .. }) = &asked
            && login.address.is_none()
            && find_it(cx, unit, &mut login, end)?
        {
            asked = ask(&login);
        }
        if cancel.is_cancelled() {
            return Err(Message::new(Exit::Interrupted, "stopped"));
        }
        let is_late = Instant::now() >= end;
        match asked {
            Ok(session) => {
                let seen = Seen::parse(&session.output);
                if !seen.is_whole() {
                    let what = format!("{} has no shell that answers", login.host);
                    return Err(Message::new(Exit::Internal, what)
                        .fact("said", words::commission::first_line(&session.output))
                        .remedy(
                            "a shell like that of POSIX is needed, and a login without a menu",
                        ));
                }
                let is_final = seen.is_at_first_start() != Some(true) || is_late;
                if is_final && !seen.is_brief() {
                    return Ok(session);
                }
                if !is_told {
                    is_told = true;
                    cx.ui
                        .say(format!("{} is still at its first-boot work\n", login.host));
                }
            }
            Err(SshError::NoAnswer { .. } | SshError::NoName { .. } | SshError::Other { .. })
                if !is_late => {}
            Err(error) => return Err(words::commission::ssh_error(&error)),
        }
        let again = Instant::now() + AGAIN;
        while Instant::now() < again.min(end.max(Instant::now())) {
            if cancel.is_cancelled() {
                return Err(Message::new(Exit::Interrupted, "stopped"));
            }
            std::thread::sleep(Duration::from_millis(50));
        }
    }
}

/// Looks for the board in the network; its address and port go into the login.
fn find_it(
    cx: &Context,
    unit: &KnownUnit,
    login: &mut Login,
    end: Instant,
) -> Result<bool, Message> {
    let wait = end.saturating_duration_since(Instant::now());
    let Some(found) = find::address(cx, (unit, &login.host), wait)? else {
        return Ok(false);
    };
    login.address = found
        .answers_at
        .or_else(|| found.addresses.iter().next().copied());
    login.port = found.port.or(login.port);
    Ok(login.address.is_some())
}

/// Says what was found, and records it.
fn tell(cx: &Context, unit: &KnownUnit, host: &str, points: &[Point]) -> Outcome {
    let differing: Vec<&Point> = points.iter().filter(|point| point.met == Met::No).collect();
    cx.ui.event(&CommissionEvent {
        command: "commission",
        unit: &unit.name,
        host,
        equal: differing.is_empty(),
        points,
    });
    let count = words::commission::count(points);
    record(cx, unit, &differing, &count);
    let table = words::commission::points(points);
    if differing.is_empty() {
        let good = style::GOOD;
        let name = &unit.name;
        cx.ui.result(format!(
            "{good}commissioned:{good:#} {name} is as it should be in {count}\n{table}"
        ));
        if unit.settings.is_none() {
            cx.ui.say(
                "note: compared without its settings; name them with --settings or --roster\n",
            );
        }
        return Ok(());
    }
    cx.ui.result(table);
    let what = format!("{} differs in {} of {count}", unit.name, differing.len());
    let message = words::commission::differences(Message::new(Exit::Differences, what), points);
    Err(message.remedy("write its medium again, or change the settings to what it should be"))
}

fn record(cx: &Context, unit: &KnownUnit, differing: &[&Point], count: &str) {
    let named: Vec<String> = differing
        .iter()
        .take(MAX_NAMED)
        .map(|point| words::commission::name(point))
        .collect();
    let (kind, remark) = match differing.is_empty() {
        true => (
            Kind::Commission,
            format!("{count} compared on the running board"),
        ),
        false => (
            Kind::Verify,
            format!(
                "{} points differ on the running board: {}",
                differing.len(),
                named.join(", ")
            ),
        ),
    };
    if let Some(entry) = unit.entry(kind, remark) {
        cx.record(entry, None);
    }
}
