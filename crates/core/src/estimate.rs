//! The sums of this job.

use std::net::{IpAddr, Ipv4Addr};

use ipnet::{IpNet, Ipv4Net};
use serde::Serialize;

use crate::settings::Remark;
use crate::settings::nets;

/// A range of addresses, both ends in it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Pool {
    /// The first.
    pub first: IpAddr,
    /// The last.
    pub last: IpAddr,
}

/// What is in a network.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct NetReport {
    /// The network with its prefix.
    pub network: String,
    /// The prefix as a mask.
    pub mask: String,
    /// The first address that a unit can have.
    pub first: String,
    /// The last one.
    pub last: String,
    /// The address that all units of it hear (IPv4).
    pub broadcast: Option<String>,
    /// Addresses that units can have; `None` for more than 2^64.
    pub usable: Option<u64>,
    /// Addresses of the pool, both ends counted.
    pub pool: Option<u64>,
    /// Addresses that are left beside the pool.
    pub beside_pool: Option<u64>,
    /// Which of the others share addresses with it.
    pub overlaps: Vec<String>,
    /// The next network of that size that shares none.
    pub next_free: Option<String>,
    /// What is wrong.
    pub mistakes: Vec<String>,
    /// What is legal, but has burnt people.
    pub warnings: Vec<Remark>,
}

/// Networks that are tried for the next free one.
const MAX_TRIES: usize = 4096;

/// Works a network out; `net` may be an address in it.
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
    let doubts = nets::doubts(net).into_iter().map(|doubt| Remark {
        line: 0,
        what: doubt.what,
        remedy: doubt.remedy,
    });
    report.warnings.extend(doubts);
    let odd = others.iter().filter(|other| {
        other.addr().is_ipv4() == own.addr().is_ipv4() && other.prefix_len() != own.prefix_len()
    });
    // A short one was told already.
    let is_told = report
        .warnings
        .iter()
        .any(|told| told.what.starts_with('/'));
    if !is_told && others.len() > 1 && odd.count() == others.len() {
        report.warnings.push(Remark {
            line: 0,
            what: format!(
                "/{} stands alone among the other prefixes",
                own.prefix_len()
            ),
            remedy: "check that it is no slip".to_owned(),
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
            mistake(format!("{end} is outside of {own}"));
        } else if number(end) < number(usable.0) || number(end) > number(usable.1) {
            mistake(format!("{end} is no address that a unit can have in {own}"));
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
    // What a person writes who means a number of addresses, and adds it to the first one.
    if let Some(size) = report.pool.filter(|size| size % 10 == 1 && *size > 10) {
        report.warnings.push(Remark {
            line: 0,
            what: format!("the pool has {size} addresses: both ends count"),
            remedy: format!("for {} of them it ends one earlier", size - 1),
        });
    }
}

/// The next network of the same size that shares no address with any of these.
fn next_free(own: &IpNet, others: &[IpNet]) -> Option<IpNet> {
    let IpNet::V4(v4) = own else {
        return None;
    };
    let step = 1u64 << (32 - v4.prefix_len());
    let mut start = u64::from(u32::from(v4.network()));
    for _ in 0..MAX_TRIES {
        start += step;
        let address = Ipv4Addr::from(u32::try_from(start).ok()?);
        let net = IpNet::V4(Ipv4Net::new(address, v4.prefix_len()).ok()?);
        if address.is_private() != v4.network().is_private() {
            return None;
        }
        if !others.iter().any(|other| nets::overlap(&net, other)) {
            return Some(net);
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

    #[test]
    fn the_next_free_network_is_beside_the_others() {
        let others = [
            "10.77.4.0/23".parse().unwrap(),
            "10.77.3.0/24".parse().unwrap(),
        ];
        let report = net("10.77.3.0/24".parse().unwrap(), None, &others);
        assert_eq!(report.overlaps, ["10.77.3.0/24"]);
        assert_eq!(report.next_free.as_deref(), Some("10.77.6.0/24"));
    }
}
