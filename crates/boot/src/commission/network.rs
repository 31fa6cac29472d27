//! Points of the network.

use ipnet::IpNet;
use pinewrit_settings::{CheckedSettings, Wired};

use super::{Met, Point, Seen, Topic};

pub(super) fn wired(settings: &CheckedSettings, seen: &Seen, points: &mut Vec<Point>) {
    for wired in &settings.wired {
        let name = wired.name();
        let interface = interface_of(wired, seen);
        if !wired.is_bare {
            points.push(address(wired, interface.as_deref(), seen));
        }
        let of = name.or(interface.clone()).unwrap_or_default();
        if let Some(mtu) = wired.mtu {
            let found = interface.as_deref().and_then(|name| mtu_of(name, seen));
            let is_met = found == Some(mtu);
            let found = found.map(|mtu| mtu.to_string());
            let point = Point::judged(Topic::Mtu, mtu.to_string(), found, is_met);
            points.push(point.of(of.clone()));
        }
        points.extend(routes(wired, seen));
        if !wired.dns.is_empty() {
            points.push(name_servers(wired, seen).of(of));
        }
    }
}

/// The name of the interface on the board.
fn interface_of(wired: &Wired, seen: &Seen) -> Option<String> {
    let all = seen.interfaces();
    let by_mac = wired.mac.and_then(|mac| {
        let mac = mac.to_string();
        let mut all = all.iter();
        let found = all.find(|(_, found)| found.eq_ignore_ascii_case(&mac))?;
        Some(match wired.vlan {
            Some(vlan) => format!("{}.{vlan}", found.0),
            None => found.0.to_owned(),
        })
    });
    wired.name().or(by_mac)
}

fn address(wired: &Wired, interface: Option<&str>, seen: &Seen) -> Point {
    let is_own = |net: &IpNet| !net.addr().is_loopback() && !is_link_local(net);
    let all = seen.addresses();
    let here = |name: &str| interface.is_none_or(|interface| interface == name);
    let on: Vec<IpNet> = all
        .iter()
        .filter(|(name, net)| here(name) && is_own(net))
        .map(|(_, net)| *net)
        .collect();
    let (wanted, is_met) = if wired.addresses.is_empty() {
        ("an address by DHCP".to_owned(), !on.is_empty())
    } else {
        // Addresses by other ways, such as router advertisements, do no harm.
        let is_met = wired.addresses.iter().all(|one| on.contains(one));
        (listed(&wired.addresses), is_met)
    };
    let found = match (all.is_empty(), on.is_empty(), interface) {
        (true, ..) => None,
        (_, false, _) => Some(listed(&on)),
        (_, _, Some(name)) if !seen.interfaces().iter().any(|(one, _)| *one == name) => {
            let others = seen.interfaces().into_iter().map(|(name, _)| name);
            let others: Vec<&str> = others.filter(|name| *name != "lo").collect();
            Some(format!("no {name}; there is {}", others.join(", ")))
        }
        _ => Some("none".to_owned()),
    };
    let of = interface.unwrap_or("any interface");
    Point::judged(Topic::Address, wanted, found, is_met).of(of)
}

fn is_link_local(net: &IpNet) -> bool {
    match net {
        IpNet::V4(net) => net.addr().is_link_local(),
        IpNet::V6(net) => net.addr().is_unicast_link_local(),
    }
}

fn listed(nets: &[IpNet]) -> String {
    let texts: Vec<String> = nets.iter().map(ToString::to_string).collect();
    texts.join(", ")
}

fn mtu_of(interface: &str, seen: &Seen) -> Option<u32> {
    let is_its = |line: &&String| {
        let name = line.split_whitespace().nth(1).unwrap_or("");
        name.trim_end_matches(':').split('@').next() == Some(interface)
    };
    let line = seen.lines("link").iter().find(is_its)?;
    let mut words = line.split_whitespace().skip_while(|word| *word != "mtu");
    words.nth(1)?.parse().ok()
}

fn routes(wired: &Wired, seen: &Seen) -> Vec<Point> {
    let lines = seen.lines("route");
    let point = |route: pinewrit_settings::RouteTo| {
        let is_default = route.to.prefix_len() == 0;
        let to = match is_default {
            true => "default".to_owned(),
            false => route.to.to_string(),
        };
        let via = |line: &String| -> Option<(String, String)> {
            let mut words = line.split_whitespace();
            let target = words.next()?.to_owned();
            let via = words.skip_while(|word| *word != "via").nth(1)?.to_owned();
            Some((target, via))
        };
        let same_family = |via: &str| via.contains(':') == route.via.is_ipv6();
        let found: Vec<String> = lines
            .iter()
            .filter_map(via)
            .filter(|(target, via)| *target == to && same_family(via))
            .map(|(_, via)| via)
            .collect();
        let is_met = found.iter().any(|via| via.parse() == Ok(route.via));
        let found = match (lines.is_empty(), found.is_empty()) {
            (true, _) => None,
            (_, true) => Some("none".to_owned()),
            _ => Some(format!("via {}", found.join(", "))),
        };
        let wanted = format!("via {}", route.via);
        Point::judged(Topic::Route, wanted, found, is_met).of(to)
    };
    wired.all_routes().into_iter().map(point).collect()
}

fn name_servers(wired: &Wired, seen: &Seen) -> Point {
    let found = seen.name_servers();
    let is_met = wired.dns.iter().all(|one| found.contains(one));
    let texts = |all: &[std::net::IpAddr]| {
        let texts: Vec<String> = all.iter().map(ToString::to_string).collect();
        texts.join(", ")
    };
    let told = (!seen.lines("dns").is_empty()).then(|| match found.is_empty() {
        true => "none".to_owned(),
        false => texts(&found),
    });
    Point::judged(Topic::NameServers, texts(&wired.dns), told, is_met)
}

pub(super) fn wireless(settings: &CheckedSettings, seen: &Seen, points: &mut Vec<Point>) {
    let Some(wireless) = &settings.wireless else {
        return;
    };
    let lines = seen.lines("wireless");
    let after = |word: &str| {
        let mut lines = lines.iter().map(|line| line.trim());
        lines.find_map(|line| Some(line.strip_prefix(word)?.trim().to_owned()))
    };
    let country = after("country ").and_then(|rest| Some(rest.get(..2)?.to_owned()));
    let is_met = country.as_ref() == Some(&wireless.country);
    let wanted = wireless.country.clone();
    points.push(Point::judged(
        Topic::WirelessCountry,
        wanted,
        country,
        is_met,
    ));
    let names: Vec<&str> = wireless
        .networks
        .iter()
        .map(|one| one.ssid.as_str())
        .collect();
    let joined = after("SSID:").map(|name| unescaped(&name));
    let is_met = joined.as_deref().is_some_and(|name| names.contains(&name));
    let found = match (lines.is_empty(), joined) {
        (true, _) => None,
        (_, Some(name)) => Some(name),
        (_, None) => Some("none".to_owned()),
    };
    let mut point = Point::judged(Topic::WirelessNetwork, names.join(" or "), found, is_met);
    // A cable is enough for it.
    if wireless.is_optional && point.met == Met::No && point.found.as_deref() == Some("none") {
        point.met = Met::NotTold;
    }
    points.push(point.of(wireless.interface.clone()));
}

/// A network's name as `iw` writes it: bytes that are no plain signs as `\xc3`.
fn unescaped(name: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = name;
    while let Some(sign) = rest.chars().next() {
        let escaped = rest.strip_prefix("\\x").and_then(|digits| {
            let byte = u8::from_str_radix(digits.get(..2)?, 16).ok()?;
            Some((byte, &digits[2..]))
        });
        match escaped {
            Some((byte, after)) => {
                bytes.push(byte);
                rest = after;
            }
            None => {
                let len = sign.len_utf8();
                bytes.extend(&rest.as_bytes()[..len]);
                rest = &rest[len..];
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_networks() {
        assert_eq!(unescaped("H\\xc3\\xbctte 3"), "Hütte 3");
        assert_eq!(unescaped("a\\xzz"), "a\\xzz");
    }
}
