//! What a board makes of its card: the answers that it would give to the questions of a commission.

use std::collections::{BTreeMap, BTreeSet};

use pinewrit_core::receipt::Identifiers;
use pinewrit_disk::{BlockDevice, DiskError, Window};
use pinewrit_table::PartitionTable;
use pinewrit_volume::files::{Files, FilesystemOf, filesystems, open_to_read};
use russh::keys::{PrivateKey, PublicKey};

use crate::{network, seed};

/// The largest text that is read, in bytes.
pub(crate) const MAX_TEXT: u64 = 1 << 20;
/// Bytes of a sector in the kernel's lists.
const SECTOR: u64 = 512;
/// So much of a file system is for files, in percent; the rest are its own structures.
const USABLE: u64 = 95;
/// Ids of people begin here.
const FIRST_PERSON: u32 = 1000;

/// What was read from a card.
#[derive(Debug, Default)]
pub(crate) struct Content {
    pub(crate) host_name: String,
    pub(crate) host_key: Option<PrivateKey>,
    pub(crate) has_ssh: bool,
    pub(crate) accepts_passwords: bool,
    pub(crate) port: Option<u16>,
    /// Who becomes root without a password.
    pub(crate) without_password: BTreeSet<String>,
    /// Whether the first start makes the root file system as large as the card.
    pub(crate) is_grown: bool,
    /// What the system calls itself.
    pub(crate) system: String,
    answers: BTreeMap<String, Vec<String>>,
    keys: BTreeMap<String, Vec<String>>,
}

impl Content {
    /// Reads a card; `None` if it has no root file system. `hardware` is the board's own address.
    pub(crate) fn read(
        device: &dyn BlockDevice,
        hardware: &str,
    ) -> Result<Option<Self>, DiskError> {
        let systems = filesystems(device)?;
        let mut content = Self {
            has_ssh: true,
            ..Self::default()
        };
        let mut root = None;
        for system in systems.iter().filter(|one| !one.facts.kind.is_fat()) {
            let window = Window::new(device, system.range);
            let Ok(files) = open_to_read(&window) else {
                continue;
            };
            if files.has("/etc/passwd").unwrap_or(false) {
                content.root_files(&files, hardware);
                root = Some(system);
                break;
            }
        }
        let Some(root) = root else { return Ok(None) };
        for system in &systems {
            let window = Window::new(device, system.range);
            // Labels are in capitals or small letters.
            let is_seed = system
                .facts
                .label
                .as_deref()
                .is_some_and(|label| label.eq_ignore_ascii_case("cidata"));
            let Ok(files) = open_to_read(&window) else {
                continue;
            };
            if is_seed && content.has_cloud_init() {
                seed::take(&files, &mut content, hardware);
            }
        }
        content.disk(device, root)?;
        content.set("hostname", vec![content.host_name.clone()]);
        content.say("units", "running".to_owned());
        Ok(Some(content))
    }

    /// The answers to questions, as `asker` may see them.
    pub(crate) fn answers(&self, questions: &[String], asker: &str, as_root: bool) -> String {
        let is_root = asker == "root" || as_root && self.without_password.contains(asker);
        let mut text = String::new();
        for question in questions {
            text += &format!("@@{question}\n");
            let lines = match question.strip_prefix("keys ") {
                Some(user) if user == asker || is_root => {
                    text += "read\n";
                    self.keys.get(user)
                }
                Some(_) => None,
                None if question == "shadow" && !is_root => None,
                None => self.answers.get(question),
            };
            for line in lines.into_iter().flatten() {
                text += line;
                text.push('\n');
            }
            if question == "clock" {
                text += &format!("{}\n", jiff::Timestamp::now().as_second());
            }
        }
        text
    }

    /// The keys that may log in as a user.
    pub(crate) fn logins(&self, user: &str) -> Vec<PublicKey> {
        let lines = self.keys.get(user).map_or(&[][..], Vec::as_slice);
        seed::public_keys(lines)
    }

    pub(crate) fn lines(&self, question: &str) -> &[String] {
        self.answers.get(question).map_or(&[], Vec::as_slice)
    }

    pub(crate) fn say(&mut self, question: &str, line: String) {
        self.answers
            .entry(question.to_owned())
            .or_default()
            .push(line);
    }

    pub(crate) fn set(&mut self, question: &str, lines: Vec<String>) {
        self.answers.insert(question.to_owned(), lines);
    }

    pub(crate) fn set_keys(&mut self, user: &str, lines: Vec<String>) {
        self.keys.insert(user.to_owned(), lines);
    }

    pub(crate) fn forget_network(&mut self) {
        for question in ["link", "address", "route", "dns", "wireless"] {
            self.answers.remove(question);
        }
    }

    pub(crate) fn add_account(&mut self, name: &str, uid: Option<u32>, shell: &str) {
        let is_its = |line: &String| line.split(':').next() == Some(name);
        if self.lines("passwd").iter().any(is_its) {
            return;
        }
        let ids = self
            .lines("passwd")
            .iter()
            .filter_map(|line| line.split(':').nth(2)?.parse::<u32>().ok());
        let next = ids.filter(|id| (FIRST_PERSON..60_000).contains(id)).max();
        let uid = uid.unwrap_or(next.map_or(FIRST_PERSON, |id| id + 1));
        self.say(
            "passwd",
            format!("{name}:x:{uid}:{uid}::/home/{name}:{shell}"),
        );
        self.say("group", format!("{name}:x:{uid}:"));
    }

    pub(crate) fn add_to_group(&mut self, user: &str, group: &str) {
        let groups = self.answers.entry("group".to_owned()).or_default();
        let named = groups
            .iter_mut()
            .find(|line| line.split(':').next() == Some(group));
        match named {
            Some(line) if line.ends_with(':') => line.push_str(user),
            Some(line) => *line += &format!(",{user}"),
            None => groups.push(format!("{group}:x:900:{user}")),
        }
    }

    pub(crate) fn add_swap(&mut self, name: &str, size: u64) {
        if self.lines("swap").is_empty() {
            self.say("swap", "Filename Type Size Used Priority".to_owned());
        }
        // The first page is its header.
        self.say(
            "swap",
            format!("{name} file {} 0 -2", (size / 1024).saturating_sub(4)),
        );
    }

    fn has_cloud_init(&self) -> bool {
        self.answers.contains_key("cloud-init")
    }

    fn root_files(&mut self, files: &Files<'_>, hardware: &str) {
        let lines = |path: &str| -> Vec<String> {
            let text = text(files, path).unwrap_or_default();
            text.lines().map(str::to_owned).collect()
        };
        let name = lines("/etc/hostname").into_iter().next();
        self.host_name = name.map_or("localhost".to_owned(), |name| name.trim().to_owned());
        self.set("passwd", lines("/etc/passwd"));
        self.set("group", lines("/etc/group"));
        self.set(
            "shadow",
            lines("/etc/shadow")
                .iter()
                .filter_map(|line| password_state(line))
                .collect(),
        );
        for account in lines("/etc/passwd") {
            let fields: Vec<&str> = account.split(':').collect();
            let (Some(name), Some(home)) = (fields.first(), fields.get(5)) else {
                continue;
            };
            self.set_keys(name, lines(&format!("{home}/.ssh/authorized_keys")));
        }
        for name in files
            .names("/etc/sudoers.d")
            .ok()
            .flatten()
            .unwrap_or_default()
        {
            for line in lines(&format!("/etc/sudoers.d/{name}")) {
                if let Some(user) = line
                    .split_whitespace()
                    .next()
                    .filter(|_| line.contains("NOPASSWD"))
                {
                    self.without_password.insert(user.to_owned());
                }
            }
        }
        if let Some(zone) = files
            .facts("/etc/localtime")
            .ok()
            .flatten()
            .and_then(|facts| facts.target)
        {
            self.set("timezone", vec![zone]);
        } else {
            self.set("timezone", lines("/etc/timezone"));
        }
        for path in ["/etc/locale.conf", "/etc/default/locale"] {
            lines(path)
                .into_iter()
                .for_each(|line| self.say("locale", line));
        }
        for path in ["/etc/default/keyboard", "/etc/vconsole.conf"] {
            lines(path)
                .into_iter()
                .for_each(|line| self.say("keyboard", line));
        }
        let system = lines("/etc/os-release");
        let pretty = system
            .iter()
            .find_map(|line| line.strip_prefix("PRETTY_NAME="));
        self.system = pretty.unwrap_or("a system").trim_matches('"').to_owned();
        self.set("system", system);
        self.set("kernel", vec!["Linux 6.1.0-stand-in".to_owned()]);
        if files.has("/etc/cloud/cloud.cfg").unwrap_or(false) {
            self.set("cloud-init", Vec::new());
        }
        self.services(files);
        self.networks(files, hardware);
        for line in lines("/etc/fstab") {
            let words: Vec<&str> = line.split_whitespace().collect();
            if let [file, _, "swap", ..] = words.as_slice()
                && let Ok(Some(size)) = files.size_of(file)
            {
                self.add_swap(file, size);
            }
        }
    }

    fn services(&mut self, files: &Files<'_>) {
        let key = text(files, "/etc/ssh/ssh_host_ed25519_key");
        self.host_key = key.and_then(|key| PrivateKey::from_openssh(key).ok());
        let mut config = text(files, "/etc/ssh/sshd_config").unwrap_or_default();
        for name in files
            .names("/etc/ssh/sshd_config.d")
            .ok()
            .flatten()
            .unwrap_or_default()
        {
            // The first value counts, and these are read first.
            let more = text(files, &format!("/etc/ssh/sshd_config.d/{name}")).unwrap_or_default();
            config = format!("{more}\n{config}");
        }
        let word = |key: &str| {
            let lines = config.lines().map(str::trim);
            let mut pairs = lines.filter_map(|line| line.split_once(char::is_whitespace));
            let found = pairs.find(|(name, _)| name.eq_ignore_ascii_case(key));
            found.map(|(_, value)| value.trim().to_ascii_lowercase())
        };
        self.accepts_passwords = word("PasswordAuthentication").as_deref() != Some("no");
        self.port = word("Port").and_then(|port| port.parse().ok());
        let masked = ["ssh", "sshd"].iter().any(|name| {
            let path = format!("/etc/systemd/system/{name}.service");
            let facts = files.facts(&path).ok().flatten();
            facts.and_then(|facts| facts.target).as_deref() == Some("/dev/null")
        });
        self.has_ssh = !masked;
        if files
            .has("/etc/systemd/system/pinewrit-first-start.service")
            .unwrap_or(false)
        {
            let state = "service ActiveState=active SubState=exited Result=success";
            self.say("first-start", state.to_owned());
            self.say("first-start", "failed 0".to_owned());
        }
    }

    fn networks(&mut self, files: &Files<'_>, hardware: &str) {
        let names = |folder: &str| files.names(folder).ok().flatten().unwrap_or_default();
        for name in names("/etc/systemd/network") {
            if let Some(text) = text(files, &format!("/etc/systemd/network/{name}"))
                && name.ends_with(".network")
            {
                network::networkd(&text, self, hardware);
            }
        }
        for name in names("/etc/netplan") {
            let text = text(files, &format!("/etc/netplan/{name}")).unwrap_or_default();
            if let Ok(read) = serde_saphyr::from_str(&text) {
                network::netplan(&read, self, hardware);
            }
        }
        for name in names("/etc/wpa_supplicant") {
            let text = text(files, &format!("/etc/wpa_supplicant/{name}")).unwrap_or_default();
            network::wpa(&text, self);
        }
    }

    fn disk(&mut self, device: &dyn BlockDevice, root: &FilesystemOf) -> Result<(), DiskError> {
        let size = device.size();
        let table = PartitionTable::read(device)?;
        let end = if self.is_grown { size } else { root.range.end };
        let sectors = (end - root.range.start) / SECTOR;
        let usable = if self.is_grown {
            end - root.range.start
        } else {
            root.facts.size.unwrap_or(0)
        };
        let number = root
            .partition
            .map(|number| number.to_string())
            .unwrap_or_default();
        self.set(
            "root",
            vec![
                format!("path ../../devices/platform/stand-in/mmcblk0/mmcblk0p{number}"),
                format!("partition {number}"),
                format!("start {}", root.range.start / SECTOR),
                format!("sectors {sectors}"),
                format!("disk {}", size / SECTOR),
                format!("used /dev/root {} 0 0 0% /", usable / 1024 * USABLE / 100),
            ],
        );
        let ids = Identifiers::of(device);
        self.set(
            "table-identifiers",
            ids.table
                .iter()
                .map(|id| id.trim_start_matches("0x").to_owned())
                .collect(),
        );
        for partition in table.iter().flat_map(|table| &table.partitions) {
            let id = table
                .as_ref()
                .and_then(|table| table.scheme.partuuid(partition));
            id.into_iter()
                .for_each(|id| self.say("table-identifiers", id));
        }
        self.set(
            "identifiers",
            ids.filesystems.into_iter().map(|(_, id)| id).collect(),
        );
        Ok(())
    }
}

fn text(files: &Files<'_>, path: &str) -> Option<String> {
    let bytes = files.small(path, MAX_TEXT).ok()??;
    Some(String::from_utf8_lossy(&bytes).into_owned())
}

/// The state of a password in a line of shadow(5).
fn password_state(line: &str) -> Option<String> {
    let mut fields = line.split(':');
    let (name, password) = (fields.next()?, fields.next()?);
    let state = match password.chars().next() {
        None => "empty",
        Some('!' | '*') => "locked",
        Some(_) => "set",
    };
    Some(format!("{name} {state}"))
}
