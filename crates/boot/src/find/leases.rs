//! Leases of DHCP servers, as their files have them.

use std::fs;
use std::io;
use std::net::IpAddr;
use std::path::{Path, PathBuf};

use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use serde_json::Value;

/// The largest file that is read, in bytes.
const MAX_FILE: u64 = 16 << 20;

/// An address that a server has given out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lease {
    /// The address.
    pub address: IpAddr,
    /// The name that the board gave.
    pub name: Option<String>,
    /// Its hardware address, in small letters with colons.
    pub hardware: Option<String>,
    /// When the board asked for it, in seconds since 1970; not every server notes that.
    pub asked: Option<i64>,
    /// When it ends, in seconds since 1970.
    pub ends: Option<i64>,
}

/// Why a file of leases cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum LeasesError {
    /// It cannot be read.
    #[error("{} cannot be read", .0.display())]
    Io(PathBuf, #[source] io::Error),
    /// It is of no known server.
    #[error("{} has no leases of a known server", .0.display())]
    Unknown(PathBuf),
}

/// Reads a server's file; its kind is recognised by its content.
///
/// # Errors
/// [`LeasesError`].
pub fn leases(path: &Path) -> Result<Vec<Lease>, LeasesError> {
    let failed = |error| LeasesError::Io(path.to_owned(), error);
    let size = fs::metadata(path).map_err(failed)?.len();
    if size > MAX_FILE {
        return Err(failed(io::Error::other("too large for a file of leases")));
    }
    let bytes = fs::read(path).map_err(failed)?;
    parse(&String::from_utf8_lossy(&bytes)).ok_or_else(|| LeasesError::Unknown(path.to_owned()))
}

fn parse(text: &str) -> Option<Vec<Lease>> {
    let start = text.trim_start();
    if start.starts_with('{') {
        return networkd(start);
    }
    if start.starts_with("address,") {
        return Some(kea(text));
    }
    // The one notes its version or the file's meaning first, in remarks.
    let is_isc = text
        .lines()
        .any(|line| line.starts_with("lease ") && line.trim_end().ends_with('{'));
    if is_isc
        || text
            .lines()
            .any(|line| line.starts_with("authoring-byte-order"))
    {
        return Some(isc(text));
    }
    let lines: Vec<&str> = text
        .lines()
        .filter(|line| !line.trim().is_empty())
        .collect();
    let found: Vec<Lease> = lines.iter().filter_map(|line| dnsmasq(line)).collect();
    // A server that has given out nothing has an empty file.
    (lines.is_empty() || !found.is_empty()).then_some(found)
}

/// `expiry hardware-address address name client-id` (dnsmasq(8), "--dhcp-leasefile").
fn dnsmasq(line: &str) -> Option<Lease> {
    let words: Vec<&str> = line.split_whitespace().collect();
    let ends: i64 = words.first()?.parse().ok()?;
    Some(Lease {
        address: words.get(2)?.parse().ok()?,
        name: name(words.get(3)?),
        hardware: hardware(words[1]),
        asked: None,
        // A lease without an end.
        ends: Some(ends).filter(|ends| *ends > 0),
    })
}

/// `lease ADDRESS { … }` (dhcpd.leases(5)); the last one for an address counts.
fn isc(text: &str) -> Vec<Lease> {
    let mut all: Vec<Lease> = Vec::new();
    let mut open: Option<Lease> = None;
    for line in text.lines().map(str::trim) {
        if let Some(rest) = line.strip_prefix("lease ") {
            let address = rest.trim_end_matches('{').trim().parse().ok();
            open = address.map(|address| Lease {
                address,
                name: None,
                hardware: None,
                asked: None,
                ends: None,
            });
        } else if line == "}" {
            if let Some(lease) = open.take() {
                all.retain(|one| one.address != lease.address);
                all.push(lease);
            }
        } else if let Some(lease) = &mut open {
            let line = line.trim_end_matches(';');
            if let Some(rest) = line.strip_prefix("hardware ethernet ") {
                lease.hardware = hardware(rest.trim());
            } else if let Some(rest) = line.strip_prefix("client-hostname ") {
                lease.name = name(rest.trim().trim_matches('"'));
            } else if let Some(rest) = line.strip_prefix("cltt ") {
                lease.asked = date(rest);
            } else if let Some(rest) = line.strip_prefix("starts ") {
                lease.asked = lease.asked.or_else(|| date(rest));
            } else if let Some(rest) = line.strip_prefix("ends ") {
                lease.ends = date(rest);
            }
        }
    }
    all
}

/// `4 2026/11/26 10:00:00`, in UTC, or `epoch 1700000000`.
fn date(text: &str) -> Option<i64> {
    let words: Vec<&str> = text.split_whitespace().collect();
    match words.as_slice() {
        ["epoch", seconds, ..] => seconds.parse().ok(),
        [_, day, time] => {
            let text = format!("{} {time}", day.replace('/', "-"));
            let time: DateTime = text.parse().ok()?;
            Some(time.to_zoned(TimeZone::UTC).ok()?.timestamp().as_second())
        }
        _ => None,
    }
}

/// Rows under names (Kea's "memfile" with `persist`). Later rows replace earlier ones.
fn kea(text: &str) -> Vec<Lease> {
    let mut rows = csv::ReaderBuilder::new()
        .flexible(true)
        .from_reader(text.as_bytes());
    let head = rows.headers().cloned().unwrap_or_default();
    let column = |name: &str| head.iter().position(|one| one == name);
    let (addresses, hardwares) = (column("address"), column("hwaddr"));
    let (names, ends, lifetimes) = (
        column("hostname"),
        column("expire"),
        column("valid_lifetime"),
    );
    let mut all: Vec<Lease> = Vec::new();
    for fields in rows.records().flatten() {
        let field = |column: Option<usize>| column.and_then(|at| fields.get(at));
        let Some(address) = field(addresses).and_then(|text| text.parse().ok()) else {
            continue;
        };
        let ends = field(ends).and_then(|text| text.parse::<i64>().ok());
        let lifetime = field(lifetimes).and_then(|text| text.parse::<i64>().ok());
        all.retain(|one| one.address != address);
        // A lease that was given back has no time left.
        if lifetime == Some(0) {
            continue;
        }
        all.push(Lease {
            address,
            name: field(names).and_then(name),
            hardware: field(hardwares).and_then(hardware),
            asked: ends
                .zip(lifetime)
                .and_then(|(ends, lifetime)| ends.checked_sub(lifetime)),
            ends,
        });
    }
    all
}

/// The server of systemd-networkd: an object with `Leases`.
fn networkd(text: &str) -> Option<Vec<Lease>> {
    let read: Value = serde_json::from_str(text).ok()?;
    let leases = read.get("Leases")?.as_array()?;
    let lease = |one: &Value| {
        let bytes = |name: &str| -> Option<Vec<u8>> {
            let all = one.get(name)?.as_array()?.iter();
            all.map(|byte| byte.as_u64().and_then(|byte| u8::try_from(byte).ok()))
                .collect()
        };
        let address = match one.get("Address") {
            Some(Value::String(text)) => text.parse().ok()?,
            _ => IpAddr::from(<[u8; 4]>::try_from(bytes("Address")?).ok()?),
        };
        let hardware_bytes = bytes("HardwareAddress").or_else(|| {
            // Its kind, then an Ethernet address (RFC 2132, section 9.14).
            let id = bytes("ClientId")?;
            (id.len() == 7 && id[0] == 1).then(|| id[1..].to_vec())
        });
        let ends = one.get("ExpirationRealtimeUSec").and_then(Value::as_i64);
        Some(Lease {
            address,
            name: one.get("Hostname").and_then(Value::as_str).and_then(name),
            hardware: hardware_bytes.map(|bytes| colons(&bytes)),
            asked: None,
            ends: ends.map(|micros| micros / 1_000_000),
        })
    };
    Some(leases.iter().filter_map(lease).collect())
}

fn name(text: &str) -> Option<String> {
    let text = text.trim().trim_end_matches('.');
    let is_sign = |sign: char| sign.is_ascii_alphanumeric() || matches!(sign, '-' | '.' | '_');
    (!text.is_empty() && text.chars().all(is_sign)).then(|| text.to_ascii_lowercase())
}

fn hardware(text: &str) -> Option<String> {
    let bytes: Option<Vec<u8>> = text
        .split([':', '-'])
        .map(|byte| u8::from_str_radix(byte, 16).ok())
        .collect();
    bytes
        .filter(|bytes| bytes.len() == 6)
        .map(|bytes| colons(&bytes))
}

pub(super) fn colons(bytes: &[u8]) -> String {
    let texts: Vec<String> = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    texts.join(":")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const DNSMASQ: &str = "1795772000 02:00:00:00:00:03 10.77.3.10 larkfell-03 01:02:00:00:00:00:03
1795772001 02:00:00:00:00:04 10.77.3.11 * *
";
    const ISC: &str = "# The format of this file is documented in the dhcpd.leases(5) manual page.
lease 10.77.3.10 {
  starts 4 2026/11/26 09:00:00;
  hardware ethernet 02:00:00:00:00:09;
}
lease 10.77.3.10 {
  starts 4 2026/11/26 09:33:20;
  ends 4 2026/11/26 10:33:20;
  cltt 4 2026/11/26 09:33:20;
  binding state active;
  hardware ethernet 02:00:00:00:00:03;
  client-hostname \"larkfell-03\";
}
lease 10.77.3.11 {
  starts epoch 1795685600;
  hardware ethernet 02:00:00:00:00:04;
}
";
    const KEA: &str =
        "address,hwaddr,client_id,valid_lifetime,expire,subnet_id,fqdn_fwd,fqdn_rev,hostname,state
10.77.3.9,02:00:00:00:00:09,,3600,1795689200,1,0,0,gone,0
10.77.3.10,02:00:00:00:00:03,01:02:00:00:00:00:03,3600,1795689200,1,0,0,larkfell-03.,0
10.77.3.9,02:00:00:00:00:09,,0,1795689200,1,0,0,gone,2
10.77.3.11,02:00:00:00:00:04,,3600,1795689200,1,0,0,,0
";
    const NETWORKD: &str = r#"{"BootID":"6a","Address":[10,77,3,1],"PrefixLength":24,"Leases":[
        {"ClientId":[1,2,0,0,0,0,3],"Address":[10,77,3,10],"Hostname":"larkfell-03",
         "HardwareAddressType":1,"HardwareAddressLength":6,"HardwareAddress":[2,0,0,0,0,3],
         "ExpirationUSec":1,"ExpirationRealtimeUSec":1795689200000000},
        {"ClientId":[1,2,0,0,0,0,4],"Address":"10.77.3.11"}]}"#;

    #[rstest]
    #[case::dnsmasq(DNSMASQ, None, Some(1_795_772_000))]
    #[case::isc(ISC, Some(1_795_685_600), Some(1_795_689_200))]
    #[case::kea(KEA, Some(1_795_685_600), Some(1_795_689_200))]
    #[case::networkd(NETWORKD, None, Some(1_795_689_200))]
    fn files_of_servers(#[case] text: &str, #[case] asked: Option<i64>, #[case] ends: Option<i64>) {
        let leases = parse(text).unwrap();
        let expected = Lease {
            address: "10.77.3.10".parse().unwrap(),
            name: Some("larkfell-03".to_owned()),
            hardware: Some("02:00:00:00:00:03".to_owned()),
            asked,
            ends,
        };
        assert_eq!(leases[0], expected);
        assert_eq!(leases.len(), 2);
        assert_eq!(leases[1].name, None);
        assert_eq!(leases[1].hardware.as_deref(), Some("02:00:00:00:00:04"));
    }

    #[test]
    fn other_texts() {
        assert_eq!(parse(""), Some(Vec::new()));
        assert_eq!(parse("a text about something else"), None);
        assert_eq!(parse("{\"a\": 1}"), None);
        assert_eq!(date("4 2026/13/26 09:00:00"), None);
        assert_eq!(date("6 1970/01/03 00:00:01"), Some(2 * 86_400 + 1));
        assert_eq!(date("2 2024/02/29 00:00:00"), Some(1_709_164_800));
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_read(text in "(lease |address,|\\{)?[ -~\n]{0,300}") {
            let _ = parse(&text);
        }
    }
}
