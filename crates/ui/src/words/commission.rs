//! Boards that were found, and what was compared on them, in words.

use comfy_table::presets::NOTHING;
use comfy_table::{Cell, Table};
use pinewrit_boot::commission::{Met, Point, Topic};
use pinewrit_boot::find::{FindError, Found, KeyVerdict, News, Way};
use pinewrit_boot::ssh::SshError;

use crate::text::printable;
use crate::{Exit, Message, style, units};

/// Longer values are cut, in characters.
const MAX_VALUE: usize = 52;

/// What a point is about.
pub fn topic(topic: Topic) -> &'static str {
    match topic {
        Topic::HostKey => "host key",
        Topic::HostName => "host name",
        Topic::User => "user",
        Topic::Keys => "SSH keys of",
        Topic::OtherAccounts => "other accounts",
        Topic::PasswordLogin => "SSH passwords",
        Topic::Address => "address of",
        Topic::Mtu => "MTU of",
        Topic::Route => "route",
        Topic::NameServers => "DNS of",
        Topic::WirelessCountry => "wireless country",
        Topic::WirelessNetwork => "wireless of",
        Topic::TimeZone => "time zone",
        Topic::Locale => "locale",
        Topic::Keyboard => "keyboard",
        Topic::Swap => "swap",
        Topic::Medium => "root is on",
        Topic::TableIdentifier => "disk identifier",
        Topic::FilesystemIdentifiers => "file systems",
        Topic::RootSize => "root size",
        Topic::System => "system",
        Topic::Kernel => "kernel",
        Topic::FailedUnits => "failed services",
        Topic::FirstStart => "first-boot work",
        Topic::Clock => "clock",
    }
}

/// The name of a point.
pub fn name(point: &Point) -> String {
    match &point.of {
        Some(of) => format!("{} {}", topic(point.point), printable(of)),
        None => topic(point.point).to_owned(),
    }
}

fn cut(text: &str) -> String {
    let text = printable(text);
    if text.chars().count() <= MAX_VALUE {
        return text;
    }
    let cut: String = text.chars().take(MAX_VALUE - 1).collect();
    format!("{cut}…")
}

/// The points, one a line: whether it is met, what it is, wanted, found.
pub fn points(points: &[Point]) -> String {
    let (good, bad, warning, dim) = (style::GOOD, style::ERROR, style::WARNING, style::DIM);
    let mut table = Table::new();
    table.load_style(NOTHING);
    let head = |text: &str| Cell::new(format!("{dim}{text}{dim:#}"));
    table.set_header([head(""), head(""), head("wanted"), head("found")]);
    for point in points {
        let mark = match point.met {
            Met::Yes => format!("{good}✓{good:#}"),
            Met::No => format!("{bad}✗{bad:#}"),
            Met::NotTold => format!("{warning}?{warning:#}"),
            Met::NotAsked => " ".to_owned(),
        };
        let wanted = point.wanted.as_deref().map_or(String::new(), cut);
        let found = match (&point.found, point.met) {
            (None, _) => format!("{dim}not told{dim:#}"),
            (Some(found), Met::No) => format!("{bad}{}{bad:#}", cut(found)),
            (Some(found), _) => cut(found),
        };
        table.add_row([mark, name(point), wanted, found]);
    }
    let lines = table.lines().map(|line| format!(" {}\n", line.trim_end()));
    lines.collect()
}

/// How a board was found.
fn way(way: Way) -> &'static str {
    match way {
        Way::MulticastDns => "mDNS",
        Way::Lease => "lease",
        Way::Neighbour => "neighbour",
        Way::Record => "its address",
        Way::HostKey => "its host key",
    }
}

/// The boards, one a line.
pub fn found(all: &[Found]) -> String {
    let (good, bad, strong, dim) = (style::GOOD, style::ERROR, style::STRONG, style::DIM);
    let mut table = Table::new();
    table.load_style(NOTHING);
    let heads = [
        "board",
        "address",
        "found by",
        "hardware",
        "host key",
        "SSH server",
    ];
    table.set_header(heads.map(|head| Cell::new(format!("{dim}{head}{dim:#}"))));
    for one in all {
        let addresses: Vec<String> = match one.answers_at {
            Some(address) => vec![match one.port {
                Some(port) if port != pinewrit_boot::ssh::PORT => {
                    std::net::SocketAddr::new(address, port).to_string()
                }
                _ => address.to_string(),
            }],
            None => one.addresses.iter().map(ToString::to_string).collect(),
        };
        let ways: Vec<&str> = one.by.iter().map(|one| way(*one)).collect();
        let (addresses, ways) = match one.is_there() {
            true => (addresses.join(" "), ways.join(", ")),
            false if ways.is_empty() => (format!("{bad}not found{bad:#}"), String::new()),
            // A lease, or a neighbour of an hour ago.
            false => (
                format!("{bad}not found{bad:#}, was {}", addresses.join(" ")),
                ways.join(", "),
            ),
        };
        let key = match (one.host_key, &one.fingerprint) {
            (KeyVerdict::Matches, _) => format!("{good}matches{good:#}"),
            (KeyVerdict::Differs, _) => format!("{bad}differs{bad:#}"),
            (KeyVerdict::Unknown, Some(_)) => "not recorded".to_owned(),
            (KeyVerdict::Unknown, None) => "-".to_owned(),
        };
        let or_dash = |text: Option<&String>| text.map_or("-".to_owned(), |text| cut(text));
        table.add_row([
            format!("{strong}{}{strong:#}", printable(&one.name)),
            addresses,
            ways,
            or_dash(one.hardware.as_ref()),
            key,
            or_dash(one.banner.as_ref()),
        ]);
    }
    let lines = table.lines().map(|line| format!(" {}\n", line.trim_end()));
    lines.collect()
}

/// What has happened while boards are looked for.
pub fn news(news: &News) -> String {
    match news {
        News::Asked { name, seconds } => {
            let name = printable(name);
            match seconds {
                ..0 => format!("{name} asked for an address"),
                0..600 => format!("{name} asked for an address {seconds} s ago"),
                _ => format!("{name} asked for an address {} min ago", seconds / 60),
            }
        }
        News::NoSsh { name, address } => {
            format!(
                "{} is at {address}; its SSH server does not answer yet",
                printable(name)
            )
        }
        News::Answers { name, address } => format!("{} answers at {address}", printable(name)),
    }
}

/// Why nobody can be looked for.
pub fn find_error(error: &FindError) -> Message {
    let message = Message::new(Exit::Usage, error.to_string());
    match error {
        FindError::Leases(_) => message
            .fact("system", crate::words::error_chain(error))
            .remedy("leases of dnsmasq, ISC dhcpd, Kea (CSV) and systemd-networkd are read"),
        FindError::NotPrivate(_) => {
            message.remedy("only private networks are looked through: 10.0.0.0/8, 192.168.0.0/16 …")
        }
        FindError::TooLarge { net, bits } => {
            let least = net.max_prefix_len() - u8::try_from(*bits).unwrap_or(0);
            message.remedy(format!(
                "name a part of it: {}/{least}, or smaller",
                net.network()
            ))
        }
    }
}

/// A login that failed.
pub fn ssh_error(error: &SshError) -> Message {
    let exit = match error {
        SshError::OtherHostKey { .. } => Exit::Differences,
        SshError::NoName { .. } | SshError::NoAnswer { .. } => Exit::NotFound,
        SshError::Refused { .. } => Exit::Differences,
        SshError::HostKeyUnknown { .. } | SshError::Key { .. } => Exit::Usage,
        SshError::Other { .. } => Exit::Internal,
    };
    let message = Message::new(exit, printable(&error.to_string()));
    match error {
        SshError::NoName { host } => message
            .remedy(format!("pinewrit find {} --wait", printable(host)))
            .remedy("or name its address"),
        SshError::NoAnswer { .. } => message
            .remedy("--wait goes on until it answers")
            .remedy("`pinewrit watch` shows its serial console"),
        SshError::OtherHostKey { wanted, found, .. } => message
            .fact("recorded", wanted.clone())
            .fact("found", found.clone().unwrap_or_else(|| "of another kind".to_owned()))
            .remedy("this is another board, or its medium was made anew: `pinewrit ledger show` has its records"),
        SshError::HostKeyUnknown { host, found } => message
            .fact("found", found.clone().unwrap_or_else(|| "none".to_owned()))
            .remedy("name its settings' receipt with --receipt, so that the key is known")
            .remedy(format!("or log in once and compare the fingerprint: ssh {}", printable(host))),
        SshError::Refused { methods, .. } => message
            .fact("offered", methods.join(", "))
            .remedy("--user NAME and --key FILE, or add the key to the agent: ssh-add FILE"),
        SshError::Key { .. } => message.remedy("the file with the private key, not the one that ends in .pub"),
        SshError::Other { .. } => message,
    }
}

/// The points that differ, as facts of a message.
pub fn differences(message: Message, points: &[Point]) -> Message {
    points
        .iter()
        .filter(|point| point.met == Met::No)
        .fold(message, |message, point| {
            let wanted = point.wanted.as_deref().unwrap_or("-");
            let found = point.found.as_deref().unwrap_or("-");
            let what = format!("{} instead of {}", printable(found), printable(wanted));
            message.fact(name(point), what)
        })
}

/// How many points are met: `all 18 points`.
pub fn count(points: &[Point]) -> String {
    let judged = points
        .iter()
        .filter(|point| matches!(point.met, Met::Yes | Met::No))
        .count();
    let not_told = points
        .iter()
        .filter(|point| point.met == Met::NotTold)
        .count();
    let judged = units::counted(judged as u64, "point");
    match not_told {
        0 => judged,
        count => format!("{judged} ({count} not told)"),
    }
}

/// The first line of what somebody said.
pub fn first_line(text: &str) -> String {
    let line = text.lines().find(|line| !line.trim().is_empty());
    line.map_or("nothing".to_owned(), cut)
}
