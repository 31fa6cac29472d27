//! What a running board has answered.

use std::collections::HashMap;
use std::net::IpAddr;

use ipnet::IpNet;

use super::probe::MARK;

/// The most answers that are read, in bytes.
pub(crate) const MOST: usize = 1 << 20;
/// Signs of a disk's signature, the shortest identifier.
const SHORTEST_ID: usize = 8;
/// Bytes of a sector in the kernel's lists.
const SECTOR: u64 = 512;

/// The answers to the questions of [`super::script`]. What a board does not know is missing.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Seen {
    sections: HashMap<String, Vec<String>>,
}

/// An account.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Account {
    pub(crate) name: String,
    pub(crate) uid: u32,
    pub(crate) gid: u32,
    pub(crate) shell: String,
}

/// Whether an account has a password.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum PasswordState {
    /// None is accepted.
    Locked,
    /// It has one.
    Set,
    /// It needs none.
    Empty,
}

/// Where the root file system is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Root {
    /// The kernel's name of the partition.
    pub(crate) name: String,
    pub(crate) partition: Option<u32>,
    /// End of the partition, in bytes from the start of the medium.
    pub(crate) end: u64,
    /// Size of the partition, in bytes.
    pub(crate) size: u64,
    /// Size of the medium, in bytes.
    pub(crate) disk: Option<u64>,
    pub(crate) serial: Option<String>,
    /// Size of the file system as programs see it, in bytes.
    pub(crate) usable: Option<u64>,
}

impl Seen {
    /// Reads answers; what is no answer, such as a greeting, is left out.
    pub fn parse(text: &str) -> Self {
        let mut sections: HashMap<String, Vec<String>> = HashMap::new();
        let mut at = None;
        for line in text.lines() {
            let line = line.trim_end_matches('\r');
            if let Some(question) = line.strip_prefix(MARK) {
                sections.entry(question.to_owned()).or_default();
                at = Some(question);
            } else if let Some(lines) = at.and_then(|at| sections.get_mut(at)) {
                lines.push(line.to_owned());
            }
        }
        Self { sections }
    }

    /// Whether the board has answered to the end.
    pub fn is_whole(&self) -> bool {
        self.sections.contains_key("end")
    }

    /// Whether the board has said only that it is still at work.
    pub fn is_brief(&self) -> bool {
        self.sections.contains_key("at-work")
    }

    /// The board's clock, in seconds since 1970.
    pub fn clock(&self) -> Option<i64> {
        self.first("clock")?.parse().ok()
    }

    /// The system's name and version.
    pub fn system(&self) -> Option<String> {
        value(self.lines("system"), "PRETTY_NAME")
    }

    /// Kernel, version and architecture.
    pub fn kernel(&self) -> Option<&str> {
        self.first("kernel")
    }

    /// Whether work of the first start still goes on; `None` if the board does not tell.
    pub fn is_at_first_start(&self) -> Option<bool> {
        if self.is_brief() {
            return Some(true);
        }
        let service = self.word("first-start", "service");
        let cloud = self.word("first-start", "cloud-init");
        let state = self.first("units");
        if service.is_none() && cloud.is_none() && state.is_none() {
            return None;
        }
        Some(
            service.is_some_and(|line| line.contains("SubState=running"))
                || cloud
                    .is_some_and(|state| matches!(state, "running" | "not run" | "not started"))
                || state.is_some_and(|state| matches!(state, "starting" | "initializing")),
        )
    }

    pub(crate) fn lines(&self, question: &str) -> &[String] {
        self.sections.get(question).map_or(&[], Vec::as_slice)
    }

    /// The first line that is not empty.
    pub(crate) fn first(&self, question: &str) -> Option<&str> {
        let mut lines = self.lines(question).iter().map(|line| line.trim());
        lines.find(|line| !line.is_empty())
    }

    /// What stands behind a word at the start of a line.
    pub(crate) fn word(&self, question: &str, word: &str) -> Option<&str> {
        let mut lines = self.lines(question).iter();
        let found = lines.find_map(|line| line.strip_prefix(word)?.strip_prefix(' '))?;
        Some(found.trim()).filter(|found| !found.is_empty())
    }

    pub(crate) fn accounts(&self) -> Vec<Account> {
        let account = |line: &String| {
            let fields: Vec<&str> = line.split(':').collect();
            Some(Account {
                name: (*fields.first()?).to_owned(),
                uid: fields.get(2)?.parse().ok()?,
                gid: fields.get(3)?.parse().ok()?,
                shell: (*fields.get(6)?).to_owned(),
            })
        };
        self.lines("passwd").iter().filter_map(account).collect()
    }

    /// The groups of an account, with that of its own.
    pub(crate) fn groups(&self, account: &Account) -> Vec<&str> {
        let group = |line: &'_ String| -> Option<bool> {
            let fields: Vec<&str> = line.split(':').collect();
            let mut members = fields.get(3)?.split(',');
            Some(
                members.any(|member| member == account.name)
                    || fields.get(2)?.parse() == Ok(account.gid),
            )
        };
        let of_it = self.lines("group").iter();
        of_it
            .filter(|line| group(line) == Some(true))
            .filter_map(|line| line.split(':').next())
            .collect()
    }

    pub(crate) fn password(&self, name: &str) -> Option<PasswordState> {
        let lines = self.lines("shadow").iter();
        let mut words = lines.filter_map(|line| line.split_once(' '));
        let (_, state) = words.find(|(of, _)| *of == name)?;
        match state.trim() {
            "locked" => Some(PasswordState::Locked),
            "set" => Some(PasswordState::Set),
            "empty" => Some(PasswordState::Empty),
            _ => None,
        }
    }

    /// The keys of a user; `None` if they could not be read.
    pub(crate) fn keys(&self, user: &str) -> Option<&[String]> {
        let lines = self.sections.get(&format!("keys {user}"))?;
        match lines.split_first() {
            Some((first, keys)) if first == "read" => Some(keys),
            _ => None,
        }
    }

    /// The addresses, each with its interface.
    pub(crate) fn addresses(&self) -> Vec<(&str, IpNet)> {
        let address = |line: &'_ String| -> Option<(usize, IpNet)> {
            let words: Vec<&str> = line.split_whitespace().collect();
            let at = words
                .iter()
                .position(|word| matches!(*word, "inet" | "inet6"))?;
            let net = words.get(at + 1)?.parse().ok();
            // A point-to-point interface has no length.
            let net = net.or_else(|| Some(words.get(at + 1)?.parse::<IpAddr>().ok()?.into()))?;
            Some((1, net))
        };
        let named = self.lines("address").iter().filter_map(|line| {
            let (word, net) = address(line)?;
            let name = line.split_whitespace().nth(word)?;
            Some((bare(name), net))
        });
        named.collect()
    }

    /// The interfaces with their hardware addresses.
    pub(crate) fn interfaces(&self) -> Vec<(&str, &str)> {
        let lines = self.lines("link").iter();
        let both = lines.filter_map(|line| {
            let words: Vec<&str> = line.split_whitespace().collect();
            let at = words.iter().position(|word| word.starts_with("link/"))?;
            Some((bare(words.get(1)?), *words.get(at + 1)?))
        });
        both.collect()
    }

    /// Name servers, by the texts of the resolver and by its own words.
    pub(crate) fn name_servers(&self) -> Vec<IpAddr> {
        let words = self
            .lines("dns")
            .iter()
            .flat_map(|line| line.split_whitespace());
        // systemd-resolved writes a port or a name behind the address.
        let found = words.filter_map(|word| word.split(['#', '%']).next()?.parse().ok());
        found.collect()
    }

    pub(crate) fn root(&self) -> Option<Root> {
        let number = |word| self.word("root", word)?.parse::<u64>().ok();
        let path = self.word("root", "path")?;
        let sectors = number("sectors")?;
        let start = number("start").unwrap_or(0);
        let used: Vec<&str> = self
            .word("root", "used")
            .map(|line| line.split_whitespace().collect())
            .unwrap_or_default();
        let kilobytes = used.get(1).and_then(|word| word.parse::<u64>().ok());
        Some(Root {
            name: path.rsplit('/').next().unwrap_or(path).to_owned(),
            partition: number("partition").and_then(|number| u32::try_from(number).ok()),
            end: start.saturating_add(sectors).saturating_mul(SECTOR),
            size: sectors.saturating_mul(SECTOR),
            disk: number("disk").map(|sectors| sectors.saturating_mul(SECTOR)),
            serial: self.word("root", "serial").map(str::to_owned),
            usable: kilobytes.map(|kilobytes| kilobytes.saturating_mul(1024)),
        })
    }

    /// Everything that looks like an identifier of a disk or a file system, in small letters.
    pub(crate) fn identifiers(&self, question: &str) -> Vec<String> {
        let words = self.lines(question).iter();
        let words = words.flat_map(|line| line.split(['"', '=', ' ', ':']));
        let words = words.map(|word| word.trim().to_ascii_lowercase());
        words.filter(|word| word.len() >= SHORTEST_ID).collect()
    }

    /// The value of a variable in texts for shells.
    pub(crate) fn variable(&self, question: &str, name: &str) -> Option<String> {
        value(self.lines(question), name)
    }
}

/// An interface's name without what `ip` adds.
fn bare(name: &str) -> &str {
    let name = name.trim_end_matches(':');
    name.split('@').next().unwrap_or(name)
}

/// The value of `NAME=value` or `NAME="value"`; the first that is not empty.
fn value(lines: &[String], name: &str) -> Option<String> {
    let mut found = lines.iter().filter_map(|line| {
        let value = line.trim().strip_prefix(name)?.strip_prefix('=')?;
        Some(value.trim().trim_matches(['"', '\'']).to_owned())
    });
    found.find(|value| !value.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    const ANSWERS: &str = "Welcome to the hut
@@hostname
larkfell-03
@@passwd
root:x:0:0:root:/root:/bin/bash
warden:x:1000:1000:Larkfell hut warden,,,:/home/warden:/bin/bash
@@group
sudo:x:27:other,warden
warden:x:1000:
games:x:60:
@@shadow
root locked
@@keys warden
read
ssh-ed25519 AAAA warden
@@keys hilda
@@link
2: eth0: <BROADCAST,UP> mtu 1500 qdisc state UP\\    link/ether 02:00:00:00:00:03 brd ff:ff:ff:ff:ff:ff
@@address
1: lo    inet 127.0.0.1/8 scope host lo\\       valid_lft forever
2: eth0    inet 10.77.3.10/24 brd 10.77.3.255 scope global eth0
3: eth0.20@eth0    inet6 fd00:77::3/64 scope global
@@dns
nameserver 127.0.0.53
Link 2 (eth0): 10.77.0.53 fd00::53#dns.example
@@root
path ../../devices/platform/mmc/mmcblk0/mmcblk0p2
partition 2
start 133120
sectors 15000000
disk 15269888
serial 0x7c01
used /dev/root 7300000 1 2 3% /
@@end
";

    #[test]
    fn answers_of_a_board() {
        let seen = Seen::parse(ANSWERS);
        assert!(seen.is_whole());
        assert_eq!(seen.first("hostname"), Some("larkfell-03"));
        let warden = &seen.accounts()[1];
        assert_eq!(seen.groups(warden), ["sudo", "warden"]);
        assert_eq!(seen.password("root"), Some(PasswordState::Locked));
        assert_eq!(seen.password("warden"), None);
        assert_eq!(seen.keys("warden").map(<[String]>::len), Some(1));
        assert_eq!(seen.keys("hilda"), None);
        assert_eq!(seen.interfaces(), [("eth0", "02:00:00:00:00:03")]);
        let addresses = seen.addresses();
        assert_eq!(addresses[1], ("eth0", "10.77.3.10/24".parse().unwrap()));
        assert_eq!(addresses[2].0, "eth0.20");
        assert!(seen.name_servers().contains(&"fd00::53".parse().unwrap()));
        let root = seen.root().unwrap();
        assert_eq!((root.name.as_str(), root.partition), ("mmcblk0p2", Some(2)));
        assert_eq!(root.end, (133_120 + 15_000_000) * 512);
        assert_eq!(seen.is_at_first_start(), None);
        let at_work = Seen::parse("@@at-work\n@@end\n");
        assert!(at_work.is_whole() && at_work.is_brief());
        assert_eq!(at_work.is_at_first_start(), Some(true));
    }

    proptest::proptest! {
        #[test]
        fn any_answer_is_read(text in "(@@)?[ -~\n]{0,200}", section in "[a-z-]{1,12}") {
            let seen = Seen::parse(&format!("@@{section}\n{text}"));
            let _ = (seen.accounts(), seen.addresses(), seen.root(), seen.identifiers(&section));
            let _ = (seen.interfaces(), seen.name_servers(), seen.clock(), seen.system());
        }
    }
}
