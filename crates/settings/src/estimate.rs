//! The sums of this job.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use ipnet::IpNet;
use schemars::JsonSchema;
use serde::Serialize;

use crate::Remark;
use crate::nets;

/// A range of addresses, including both ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Pool {
    /// The first.
    pub first: IpAddr,
    /// The last.
    pub last: IpAddr,
}

/// What is in a network.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct NetReport {
    /// The network with its prefix.
    pub network: String,
    /// The prefix as a netmask.
    pub mask: String,
    /// The first address that a unit can have.
    pub first: String,
    /// The last one.
    pub last: String,
    /// The broadcast address (IPv4).
    pub broadcast: Option<String>,
    /// Addresses that units can have; `None` for more than 2^64.
    pub usable: Option<u64>,
    /// Addresses of the pool, both ends counted.
    pub pool: Option<u64>,
    /// Addresses left outside the pool.
    pub beside_pool: Option<u64>,
    /// The other networks that overlap with it.
    pub overlaps: Vec<String>,
    /// The next network of that size without overlaps.
    pub next_free: Option<String>,
    /// What is wrong.
    pub mistakes: Vec<String>,
    /// What is valid, but has caused trouble.
    pub warnings: Vec<Remark>,
}

/// How many networks to try in search of a free one.
const MAX_TRIES: usize = 4096;

/// Describes a network; `net` may be an address in it.
pub fn net(net: IpNet, pool: Option<Pool>, others: &[IpNet]) -> NetReport {
    let own = net.trunc();
    let (first, last) = usable(&own);
    let count = count(first, last);
    let mut report = NetReport {
        network: own.to_string(),
        mask: own.netmask().to_string(),
        first: first.to_string(),
        last: last.to_string(),
        broadcast: match own {
            IpNet::V4(v4) if v4.prefix_len() < 31 => Some(v4.broadcast().to_string()),
            _ => None,
        },
        usable: count,
        pool: None,
        beside_pool: None,
        overlaps: others
            .iter()
            .filter(|other| nets::overlap(&own, other))
            .map(|other| other.trunc().to_string())
            .collect(),
        next_free: next_free(&own, others).map(|net| net.to_string()),
        mistakes: Vec::new(),
        warnings: Vec::new(),
    };
    if net.addr() != own.addr()
        && let IpNet::V4(v4) = net
        && v4.prefix_len() < 31
        && v4.addr() == v4.broadcast()
    {
        let what = format!("{} is the broadcast address of {own}", net.addr());
        report.mistakes.push(what);
    }
    if let Some(pool) = pool {
        judge_pool(&own, pool, (first, last), &mut report);
    }
    let doubts = nets::doubts(net, others).into_iter().map(|doubt| Remark {
        line: 0,
        what: doubt.what,
        remedy: doubt.remedy,
    });
    report.warnings.extend(doubts);
    let odd = others.iter().filter(|other| {
        other.addr().is_ipv4() == own.addr().is_ipv4() && other.prefix_len() != own.prefix_len()
    });
    // A short prefix has already been reported.
    let is_told = report
        .warnings
        .iter()
        .any(|told| told.what.starts_with('/'));
    if !is_told && others.len() > 1 && odd.count() == others.len() {
        report.warnings.push(Remark {
            line: 0,
            what: format!("/{} differs from the other prefixes", own.prefix_len()),
            remedy: "check it for a typo".to_owned(),
        });
    }
    report
}

/// The first and the last address that units can have. RFC 3021: a /31 has two.
fn usable(net: &IpNet) -> (IpAddr, IpAddr) {
    match net {
        IpNet::V4(v4) if v4.prefix_len() < 31 => (
            IpAddr::V4(Ipv4Addr::from(u32::from(v4.network()) + 1)),
            IpAddr::V4(Ipv4Addr::from(u32::from(v4.broadcast()) - 1)),
        ),
        net => (net.network(), net.broadcast()),
    }
}

fn number(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(v4) => u128::from(u32::from(v4)),
        IpAddr::V6(v6) => u128::from(v6),
    }
}

fn count(first: IpAddr, last: IpAddr) -> Option<u64> {
    let span = number(last).checked_sub(number(first))?;
    u64::try_from(span).ok()?.checked_add(1)
}

fn judge_pool(own: &IpNet, pool: Pool, usable: (IpAddr, IpAddr), report: &mut NetReport) {
    let mut mistake = |what: String| report.mistakes.push(what);
    for end in [pool.first, pool.last] {
        if !own.contains(&end) {
            mistake(format!("{end} is outside {own}"));
        } else if number(end) < number(usable.0) || number(end) > number(usable.1) {
            mistake(format!("{end} is not a usable address in {own}"));
        }
    }
    if number(pool.first) > number(pool.last) {
        mistake(format!(
            "the pool's end {} is before its start {}",
            pool.last, pool.first
        ));
        return;
    }
    report.pool = count(pool.first, pool.last);
    report.beside_pool = report
        .usable
        .zip(report.pool)
        .and_then(|(all, pool)| all.checked_sub(pool));
    // The end that people write when they add the number of addresses to the first one.
    if let Some(size) = report.pool.filter(|size| size % 10 == 1 && *size > 10) {
        report.warnings.push(Remark {
            line: 0,
            what: format!("the pool has {size} addresses, both ends included"),
            remedy: format!("for {} addresses, end it one earlier", size - 1),
        });
    }
}

/// The ranges for private networks: RFC 1918, section 3.
const PRIVATE: [&str; 3] = ["10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16"];
/// RFC 4193, section 3.1: one site's share of the unique local addresses.
const SITE: u8 = 48;

/// The next network of the same size without overlaps: after it in its own range, otherwise in
/// another private one.
fn next_free(own: &IpNet, others: &[IpNet]) -> Option<IpNet> {
    let ranges: Vec<IpNet> = match own {
        IpNet::V4(_) => PRIVATE
            .iter()
            .filter_map(|text| text.parse().ok())
            .collect(),
        IpNet::V6(v6) if v6.prefix_len() > SITE => {
            let site = IpNet::new(own.addr(), SITE).ok();
            site.map(|site| site.trunc()).into_iter().collect()
        }
        IpNet::V6(_) => Vec::new(),
    };
    let taken = others.iter().chain([own]).copied();
    // Networks that every home uses do not stay free for long.
    let taken: Vec<IpNet> = taken.chain(nets::of_homes()).collect();
    let behind = ranges.iter().find(|range| range.contains(own));
    let behind = behind.and_then(|range| free_in(range, own, own.broadcast(), &taken));
    behind.or_else(|| {
        let mut all = ranges.iter();
        all.find_map(|range| free_in(range, own, range.network(), &taken))
    })
}

/// The first network in `range` as large as `own`, from `start` on, without overlaps.
fn free_in(range: &IpNet, own: &IpNet, start: IpAddr, taken: &[IpNet]) -> Option<IpNet> {
    let step = 1u128 << (own.max_prefix_len() - own.prefix_len());
    let mut start = number(start).checked_next_multiple_of(step)?;
    for _ in 0..MAX_TRIES {
        let address = match own {
            IpNet::V4(_) => IpAddr::V4(Ipv4Addr::from(u32::try_from(start).ok()?)),
            IpNet::V6(_) => IpAddr::V6(Ipv6Addr::from(start)),
        };
        let net = IpNet::new(address, own.prefix_len()).ok()?;
        if !range.contains(&net) {
            return None;
        }
        match taken.iter().find(|taken| nets::overlap(&net, taken)) {
            None => return Some(net),
            Some(taken) => {
                let behind = number(taken.broadcast())
                    .max(number(net.broadcast()))
                    .checked_add(1)?;
                start = behind.checked_next_multiple_of(step)?;
            }
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn of(text: &str) -> NetReport {
        net(text.parse().unwrap(), None, &[])
    }

    #[rstest]
    #[case("10.77.3.10/24", "10.77.3.1", "10.77.3.254", Some(254))]
    #[case("10.77.3.10/25", "10.77.3.1", "10.77.3.126", Some(126))]
    #[case("10.77.3.4/31", "10.77.3.4", "10.77.3.5", Some(2))]
    #[case("10.77.3.4/32", "10.77.3.4", "10.77.3.4", Some(1))]
    #[case("0.0.0.0/0", "0.0.0.1", "255.255.255.254", Some((1 << 32) - 2))]
    #[case("fd00:77::/64", "fd00:77::", "fd00:77::ffff:ffff:ffff:ffff", None)]
    fn usable_addresses(
        #[case] text: &str,
        #[case] first: &str,
        #[case] last: &str,
        #[case] usable: Option<u64>,
    ) {
        let report = of(text);
        assert_eq!((report.first.as_str(), report.last.as_str()), (first, last));
        assert_eq!(report.usable, usable);
    }

    #[test]
    fn pools_count_both_ends() {
        let pool = Pool {
            first: "10.77.3.100".parse().unwrap(),
            last: "10.77.3.150".parse().unwrap(),
        };
        let report = net("10.77.3.0/24".parse().unwrap(), Some(pool), &[]);
        assert_eq!((report.pool, report.beside_pool), (Some(51), Some(203)));
        assert!(report.warnings[0].what.contains("both ends"));
        let outside = Pool {
            last: "10.77.4.1".parse().unwrap(),
            ..pool
        };
        let report = net("10.77.3.0/24".parse().unwrap(), Some(outside), &[]);
        assert_eq!(report.mistakes.len(), 1);
    }

    #[rstest]
    #[case::beside("10.77.3.0/24", &["10.77.4.0/23", "10.77.3.0/24"], Some("10.77.6.0/24"))]
    #[case::another_range("192.168.1.0/25", &["192.168.0.0/16"], Some("10.0.2.0/25"))]
    #[case::of_a_home("192.168.1.0/25", &["10.77.3.0/24"], Some("192.168.3.0/25"))]
    #[case::round("192.168.255.0/24", &[], Some("10.0.2.0/24"))]
    #[case::public("203.0.113.0/24", &[], Some("10.0.2.0/24"))]
    #[case::large("10.0.0.0/8", &[], None)]
    #[case::ipv6("fd00:77:3::/64", &["fd00:77:3:1::/64"], Some("fd00:77:3:2::/64"))]
    #[case::all("0.0.0.0/0", &[], None)]
    fn the_next_free_network(
        #[case] own: &str,
        #[case] others: &[&str],
        #[case] expected: Option<&str>,
    ) {
        let others: Vec<IpNet> = others.iter().map(|other| other.parse().unwrap()).collect();
        let report = net(own.parse().unwrap(), None, &others);
        assert_eq!(report.next_free.as_deref(), expected);
    }
}
