//! Facts about networks: overlaps, and addresses that have caused trouble.

use std::net::{IpAddr, Ipv4Addr};

use ipnet::{IpNet, Ipv4Net};

use crate::document::Wrong;

/// The default networks of home routers.
const HOME: [(Ipv4Addr, u8); 7] = [
    (Ipv4Addr::new(192, 168, 0, 0), 24),
    (Ipv4Addr::new(192, 168, 1, 0), 24),
    (Ipv4Addr::new(192, 168, 2, 0), 24),
    (Ipv4Addr::new(192, 168, 8, 0), 24),
    (Ipv4Addr::new(192, 168, 178, 0), 24),
    (Ipv4Addr::new(10, 0, 0, 0), 24),
    (Ipv4Addr::new(10, 0, 1, 0), 24),
];

/// Whether two networks share addresses.
pub fn overlap(a: &IpNet, b: &IpNet) -> bool {
    a.contains(&b.network()) || b.contains(&a.network())
}

/// Whether it is link-local (RFC 3927, RFC 4291).
pub fn is_link_local(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(address) => address.is_link_local(),
        IpAddr::V6(address) => address.segments()[0] & 0xffc0 == 0xfe80,
    }
}

/// The default networks of home routers.
pub fn of_homes() -> impl Iterator<Item = IpNet> {
    let nets = HOME.iter();
    nets.filter_map(|(net, prefix)| Ipv4Net::new(*net, *prefix).ok().map(IpNet::V4))
}

/// A network that homes do not use, and that shares no address with `taken`.
fn another(taken: &[IpNet]) -> Option<IpNet> {
    (3..=255).find_map(|third| {
        let net = Ipv4Net::new(Ipv4Addr::new(10, 77, third, 0), 24).ok()?;
        let net = IpNet::V4(net);
        (!taken.iter().any(|taken| overlap(taken, &net))).then_some(net)
    })
}

/// What is valid, but has caused trouble. What is advised shares no address with `taken`.
pub fn doubts(net: IpNet, taken: &[IpNet]) -> Vec<Wrong> {
    let mut doubts = Vec::new();
    let IpNet::V4(v4) = net else {
        return doubts;
    };
    if let Some(home) = of_homes().find(|home| overlap(home, &net)) {
        let other = another(taken).map_or(String::new(), |other| format!(", such as {other}"));
        doubts.push(Wrong::new(
            format!("{home} is the default of many home routers"),
            format!("a VPN from such a home cannot reach it: choose another network{other}"),
        ));
    }
    if !v4.addr().is_private() && !v4.addr().is_link_local() && !is_for_documents(v4.addr()) {
        let shared = v4.addr().octets()[0] == 100 && v4.addr().octets()[1] & 0xc0 == 64;
        if !shared {
            doubts.push(Wrong::new(
                format!("{} is not a private address", v4.addr()),
                "10.0.0.0/8, 172.16.0.0/12 or 192.168.0.0/16, unless it was assigned to you",
            ));
        }
    }
    if (25..=29).contains(&v4.prefix_len()) {
        let hosts = (1u64 << (32 - v4.prefix_len())) - 2;
        doubts.push(Wrong::new(
            format!("/{} has room for only {hosts} units", v4.prefix_len()),
            "check whether you meant /24",
        ));
    }
    doubts
}

/// RFC 5737.
fn is_for_documents(address: Ipv4Addr) -> bool {
    matches!(
        address.octets(),
        [192, 0, 2, _] | [198, 51, 100, _] | [203, 0, 113, _]
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("192.168.1.7/24", 1)]
    #[case("192.168.0.0/16", 1)]
    #[case("10.77.3.10/24", 0)]
    #[case("10.77.3.10/25", 1)]
    #[case("8.8.8.8/24", 1)]
    #[case("198.51.100.7/24", 0)]
    #[case("fd00::1/64", 0)]
    fn what_has_burnt_people(#[case] net: &str, #[case] count: usize) {
        assert_eq!(doubts(net.parse().unwrap(), &[]).len(), count);
    }
}
