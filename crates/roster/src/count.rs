//! Addresses that are counted up within their network.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use ipnet::IpNet;

/// Why there is no such address.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Exhausted {
    /// How many addresses there are from the first on.
    pub(crate) room: u128,
}

/// The address that is `steps` behind `first`, with the same prefix. Network and broadcast
/// addresses of IPv4 are no unit's.
pub(crate) fn counted(first: &IpNet, steps: u64) -> Result<IpNet, Exhausted> {
    let last = match first {
        // RFC 3021: in a /31, both are hosts.
        IpNet::V4(net) if net.prefix_len() < 31 => IpAddr::V4(net.broadcast()),
        net => net.broadcast(),
    };
    let has_broadcast = matches!(first, IpNet::V4(net) if net.prefix_len() < 31);
    let end = number(last) - u128::from(has_broadcast);
    let begin = number(first.addr());
    let room = end.checked_sub(begin).map_or(0, |room| room + 1);
    if u128::from(steps) >= room {
        return Err(Exhausted { room });
    }
    let address = of_number(begin + u128::from(steps), first.addr().is_ipv4());
    IpNet::new(address, first.prefix_len()).map_err(|_| Exhausted { room })
}

fn number(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(address) => u128::from(u32::from(address)),
        IpAddr::V6(address) => u128::from(address),
    }
}

fn of_number(number: u128, is_v4: bool) -> IpAddr {
    match u32::try_from(number) {
        Ok(number) if is_v4 => IpAddr::V4(Ipv4Addr::from(number)),
        _ => IpAddr::V6(Ipv6Addr::from(number)),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("10.77.0.21/24", 11, Ok("10.77.0.32/24"))]
    #[case("10.77.0.21/24", 233, Ok("10.77.0.254/24"))]
    #[case("10.77.0.21/24", 234, Err(234))]
    #[case("10.77.0.250/16", 10, Ok("10.77.1.4/16"))]
    #[case("192.0.2.0/31", 1, Ok("192.0.2.1/31"))]
    #[case("192.0.2.255/24", 0, Err(0))]
    #[case("2001:db8::fffe/64", 2, Ok("2001:db8::1:0/64"))]
    #[case("::ffff:fffe/96", 1, Ok("::ffff:ffff/96"))]
    fn addresses_stay_in_their_network(
        #[case] first: &str,
        #[case] steps: u64,
        #[case] wanted: Result<&str, u128>,
    ) {
        let found = counted(&first.parse().unwrap(), steps);
        let wanted = wanted.map(|net| net.parse::<IpNet>().unwrap());
        assert_eq!(found, wanted.map_err(|room| Exhausted { room }));
    }
}
