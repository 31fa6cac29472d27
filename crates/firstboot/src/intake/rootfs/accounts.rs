//! Users and groups: passwd(5), shadow(5), group(5), gshadow(5), home folders, sudoers(5).

use std::collections::BTreeMap;

use pinewrit_settings::{CheckedSettings, HashError, PEOPLE, StockUser, Sudo, User};
use pinewrit_volume::files::{Files, FilesError, Kind, Rights, join};

use super::RootError;
use super::writer::{Secrecy, State, Writer};

const PASSWD: &str = "/etc/passwd";
const SHADOW: &str = "/etc/shadow";
const GROUP: &str = "/etc/group";
const GSHADOW: &str = "/etc/gshadow";

/// The range of system group ids.
const SYSTEM_GROUPS: std::ops::RangeInclusive<u32> = 201..=999;
/// The most files of a home's skeleton to copy, and their largest size.
const MAX_SKELETON: usize = 256;
const MAX_SKELETON_FILE: u64 = 1 << 20;

/// One of the four files: lines of fields separated by colons, the first being a name.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Table {
    lines: Vec<Vec<String>>,
}

impl Table {
    fn of(text: &str) -> Self {
        let fields = |line: &str| line.split(':').map(str::to_owned).collect();
        Self {
            lines: text.lines().map(fields).collect(),
        }
    }

    fn text(&self) -> String {
        self.lines
            .iter()
            .map(|line| line.join(":") + "\n")
            .collect()
    }

    fn line(&mut self, name: &str) -> Option<&mut Vec<String>> {
        self.lines.iter_mut().find(|line| line[0] == name)
    }

    fn field(&self, name: &str, index: usize) -> Option<&str> {
        let line = self.lines.iter().find(|line| line[0] == name)?;
        line.get(index).map(String::as_str)
    }

    fn number(&self, name: &str, index: usize) -> Option<u32> {
        self.field(name, index)?.parse().ok()
    }

    fn has(&self, name: &str) -> bool {
        self.lines.iter().any(|line| line[0] == name)
    }

    fn has_number(&self, index: usize, number: u32) -> bool {
        let own = |line: &Vec<String>| line.get(index).and_then(|field| field.parse().ok());
        self.lines.iter().any(|line| own(line) == Some(number))
    }

    fn add(&mut self, fields: &[&str]) {
        self.lines
            .push(fields.iter().map(|field| (*field).to_owned()).collect());
    }

    fn remove(&mut self, name: &str) {
        self.lines.retain(|line| line[0] != name);
    }

    /// Changes the members of all groups, which are in the last field.
    fn change_members(&mut self, change: impl Fn(&str, &mut Vec<String>)) {
        for line in &mut self.lines {
            let name = line[0].clone();
            if let Some(last) = line.get_mut(3) {
                let split = last.split(',').filter(|name| !name.is_empty());
                let mut members: Vec<String> = split.map(str::to_owned).collect();
                change(&name, &mut members);
                *last = members.join(",");
            }
        }
    }
}

pub(super) struct Accounts {
    passwd: Table,
    shadow: Table,
    group: Table,
    gshadow: Option<Table>,
    /// Ids of removed accounts, whose files may still exist.
    former: BTreeMap<String, (u32, u32)>,
    /// Days since 1970, for new passwords.
    today: i64,
}

impl Accounts {
    pub(super) fn read(files: &Files<'_>) -> Result<Self, RootError> {
        let passwd = files.text(PASSWD)?.ok_or(RootError::NoAccounts)?;
        let passwd = Table::of(&passwd);
        let shadow = match files.text(SHADOW)? {
            Some(text) => Table::of(&text),
            None => Table { lines: Vec::new() },
        };
        let group = Table::of(&files.text(GROUP)?.unwrap_or_default());
        let gshadow = files.text(GSHADOW)?.map(|text| Table::of(&text));
        let former = State::read(files)?.unwrap_or_default().former;
        Ok(Self {
            former,
            passwd,
            shadow,
            group,
            gshadow,
            today: files.now().seconds / 86_400,
        })
    }

    fn stock_user(&self, own: &[String]) -> Option<String> {
        first_person(&self.passwd, own)
    }

    fn free_number(&self, range: impl DoubleEndedIterator<Item = u32>) -> Option<u32> {
        let mut range = range;
        let is_former = |n: u32| {
            let mut all = self.former.values();
            all.any(|(uid, gid)| *uid == n || *gid == n)
        };
        range.find(|n| {
            !self.passwd.has_number(2, *n) && !self.group.has_number(2, *n) && !is_former(*n)
        })
    }

    /// A group's id; the group is created if it does not exist.
    fn group_number(&mut self, name: &str, wanted: Option<u32>) -> Result<u32, RootError> {
        if let Some(number) = self.group.number(name, 2) {
            return Ok(number);
        }
        let free = wanted.filter(|wanted| !self.group.has_number(2, *wanted));
        let number = match free {
            Some(number) => number,
            None => self
                .free_number(SYSTEM_GROUPS.rev())
                .ok_or(RootError::NoNumber)?,
        };
        self.group.add(&[name, "x", &number.to_string(), ""]);
        if let Some(gshadow) = &mut self.gshadow {
            gshadow.add(&[name, "!", "", ""]);
        }
        Ok(number)
    }

    /// Removes an account. Its id is not reused, because the new user would own its files.
    fn forget(&mut self, name: &str) {
        let numbers = (self.passwd.number(name, 2), self.passwd.number(name, 3));
        if let (Some(uid), Some(gid)) = numbers {
            self.former.insert(name.to_owned(), (uid, gid));
        }
        self.passwd.remove(name);
        self.shadow.remove(name);
        self.group.remove(name);
        let leave = |_: &str, members: &mut Vec<String>| members.retain(|member| member != name);
        self.group.change_members(leave);
        if let Some(gshadow) = &mut self.gshadow {
            gshadow.remove(name);
            gshadow.change_members(leave);
        }
    }

    fn rename(&mut self, old: &str, new: &str) {
        let tables = [&mut self.passwd, &mut self.shadow, &mut self.group];
        for table in tables.into_iter().chain(self.gshadow.as_mut()) {
            if let Some(line) = table.line(old) {
                new.clone_into(&mut line[0]);
            }
        }
        let follow = |_: &str, members: &mut Vec<String>| {
            for member in members.iter_mut().filter(|member| *member == old) {
                new.clone_into(member);
            }
        };
        self.group.change_members(follow);
        if let Some(gshadow) = &mut self.gshadow {
            gshadow.change_members(follow);
        }
    }

    /// No login is possible, neither with a password nor with a key: the account has expired.
    fn lock(&mut self, name: &str) {
        let today = self.today.to_string();
        if !self.shadow.has(name) {
            self.shadow
                .add(&[name, "!", &today, "0", "99999", "7", "", "", ""]);
        }
        if let Some(line) = self.shadow.line(name) {
            line.resize(9, String::new());
            if !line[1].starts_with('!') {
                line[1] = format!("!{}", line[1]);
            }
            "1".clone_into(&mut line[7]);
        }
    }

    fn is_locked(&self, name: &str) -> bool {
        self.shadow.field(name, 7) == Some("1")
    }

    fn unlock(&mut self, name: &str) {
        if let Some(line) = self.shadow.line(name).filter(|line| line.len() > 7) {
            if let Some(hash) = line[1].strip_prefix('!') {
                line[1] = hash.to_owned();
            }
            line[7].clear();
        }
    }

    /// Groups from the settings that the user is not yet in.
    fn groups_to_join(&self, user: &User) -> Vec<String> {
        let is_in = |group: &&String| {
            let members = self.group.field(group, 3).unwrap_or_default();
            members.split(',').any(|member| member == user.name)
        };
        user.groups
            .iter()
            .filter(|group| !is_in(group))
            .cloned()
            .collect()
    }

    /// Removes users from groups that an earlier run added them to.
    fn leave_groups(&mut self, joined: &BTreeMap<String, Vec<String>>) {
        for (name, groups) in joined {
            let leave = |group: &str, members: &mut Vec<String>| {
                if groups.iter().any(|joined| joined == group) {
                    members.retain(|member| member != name);
                }
            };
            self.group.change_members(leave);
            if let Some(gshadow) = &mut self.gshadow {
                gshadow.change_members(leave);
            }
        }
    }

    fn put_password(&mut self, user: &User) -> Result<(), HashError> {
        let name = &user.name;
        let existing = self.shadow.field(name, 1).map(str::to_owned);
        let hash = match &user.password {
            Some(password) => password.hashed(existing.as_deref())?,
            // A key allows login, a password never does.
            None => "!".to_owned(),
        };
        let today = self.today.to_string();
        match self.shadow.line(name) {
            Some(line) => {
                line.resize(9, String::new());
                if line[1] != hash {
                    line[1] = hash;
                    line[2] = today;
                }
                // Neither a forced password change nor an expiry date.
                line[7].clear();
                if line[2] == "0" {
                    line[2] = self.today.to_string();
                }
            }
            None => self
                .shadow
                .add(&[name, &hash, &today, "0", "99999", "7", "", "", ""]),
        }
        Ok(())
    }

    /// A returning user gets the old ids.
    fn numbers_for(&mut self, user: &User) -> Result<(u32, u32), RootError> {
        let former = self.former.remove(&user.name);
        let is_free = |accounts: &Self, uid: u32| !accounts.passwd.has_number(2, uid);
        let uid = match (user.uid, former) {
            (Some(uid), _) if is_free(self, uid) => uid,
            (Some(uid), _) => {
                return Err(RootError::UidInUse {
                    user: user.name.clone(),
                    uid,
                });
            }
            (None, Some((uid, _))) if is_free(self, uid) => uid,
            (None, _) => self.free_number(PEOPLE).ok_or(RootError::NoNumber)?,
        };
        let gid = former.map_or(uid, |(_, gid)| gid);
        Ok((uid, self.group_number(&user.name, Some(gid))?))
    }

    /// Creates or changes an account; returns its home, its ids, and whether it is new.
    fn put_user(&mut self, user: &User, shell: &str) -> Result<Home, RootError> {
        let name = &user.name;
        if !self.passwd.has(name) {
            let (uid, gid) = self.numbers_for(user)?;
            let (uid, gid) = (uid.to_string(), gid.to_string());
            let home = format!("/home/{name}");
            self.passwd.add(&[name, "x", &uid, &gid, "", &home, shell]);
        }
        if let (Some(wanted), Some(uid)) = (user.uid, self.passwd.number(name, 2))
            && wanted != uid
        {
            // Its files would have no owner.
            return Err(RootError::OtherUid {
                user: name.clone(),
                uid,
            });
        }
        if let Some(line) = self.passwd.line(name) {
            line.resize(7, String::new());
            "x".clone_into(&mut line[1]);
            if let Some(full_name) = &user.full_name {
                full_name.clone_into(&mut line[4]);
            }
            if let Some(shell) = &user.shell {
                shell.clone_into(&mut line[6]);
            }
        }
        self.put_password(user)?;
        for group in &user.groups {
            self.group_number(group, None)?;
        }
        let join = |group: &str, members: &mut Vec<String>| {
            let is_meant = user.groups.iter().any(|wanted| wanted == group);
            if is_meant && !members.contains(name) {
                members.push(name.clone());
            }
        };
        self.group.change_members(join);
        if let Some(gshadow) = &mut self.gshadow {
            gshadow.change_members(join);
        }
        let numbers = (
            self.passwd.number(name, 2).ok_or(RootError::NoAccounts)?,
            self.passwd.number(name, 3).ok_or(RootError::NoAccounts)?,
        );
        let path = self.passwd.field(name, 5).unwrap_or_default().to_owned();
        Ok(Home { path, numbers })
    }

    fn write(&self, writer: &mut Writer<'_, '_>) -> Result<(), FilesError> {
        let shadow_group = self.group.number("shadow", 2).unwrap_or(0);
        let hidden = Rights::of(0o640, (0, shadow_group));
        let open = Rights::root(0o644);
        writer.state.former = self.former.clone();
        writer.lasting(PASSWD, open, &self.passwd.text(), Secrecy::Open)?;
        writer.lasting(SHADOW, hidden, &self.shadow.text(), Secrecy::Secret)?;
        writer.lasting(GROUP, open, &self.group.text(), Secrecy::Open)?;
        match &self.gshadow {
            Some(gshadow) => writer.lasting(GSHADOW, hidden, &gshadow.text(), Secrecy::Secret),
            None => Ok(()),
        }
    }

    /// Accounts that allow login with a password.
    pub(super) fn with_password(&self) -> Vec<String> {
        let opens = |line: &&Vec<String>| {
            let hash = line.get(1).map_or("", String::as_str);
            let has_expired = line.get(7).is_some_and(|day| day == "1");
            hash.len() > 3 && !hash.starts_with(['!', '*']) && !has_expired
        };
        let lines = self.shadow.lines.iter().filter(opens);
        lines.map(|line| line[0].clone()).collect()
    }

    /// Home folders of accounts that have not expired.
    pub(super) fn homes(&self) -> Vec<(String, String)> {
        let lines = self.passwd.lines.iter();
        let has_expired = |name: &str| self.shadow.field(name, 7) == Some("1");
        lines
            .filter(|line| !has_expired(&line[0]))
            .filter_map(|line| Some((line[0].clone(), line.get(5)?.clone())))
            .collect()
    }
}

/// The first ordinary account that is none of these.
fn first_person(passwd: &Table, own: &[String]) -> Option<String> {
    let people = passwd.lines.iter().filter(|line| {
        let uid = line.get(2).and_then(|uid| uid.parse().ok());
        uid.is_some_and(|uid: u32| PEOPLE.contains(&uid))
            && !own.contains(&line[0])
            && is_plain(&line[0])
    });
    let first = people.min_by_key(|line| line[2].parse().unwrap_or(u32::MAX));
    first.map(|line| line[0].clone())
}

/// Names come from the image, and are used in commands.
pub(super) fn is_plain(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '_')
        && name
            .bytes()
            .all(|b| b.is_ascii_alphanumeric() || b"._-".contains(&b))
}

/// An image's own user.
pub(crate) fn stock_user_of(files: &Files<'_>) -> Result<Option<String>, FilesError> {
    let Some(passwd) = files.text(PASSWD)? else {
        return Ok(None);
    };
    let old = State::read(files)?.unwrap_or_default();
    let own: Vec<String> = old.users.keys().cloned().collect();
    Ok(first_person(&Table::of(&passwd), &own))
}

struct Home {
    path: String,
    numbers: (u32, u32),
}

/// Creates the users of the settings, and handles the image's own one.
pub(super) fn apply(
    writer: &mut Writer<'_, '_>,
    settings: &CheckedSettings,
) -> Result<Accounts, RootError> {
    let mut accounts = Accounts::read(writer.files)?;
    let before = writer.old.clone().unwrap_or_default();
    writer.state.former = before.former.clone();
    let wanted: Vec<String> = settings
        .users
        .iter()
        .map(|user| user.name.clone())
        .collect();
    accounts.leave_groups(&before.groups);
    for user in settings.users.iter().filter(|user| !user.groups.is_empty()) {
        let groups = accounts.groups_to_join(user);
        writer.state.groups.insert(user.name.clone(), groups);
    }
    if let Some(stock) = before
        .locked
        .as_ref()
        .filter(|_| settings.stock_user.is_none())
    {
        accounts.unlock(stock);
        writer.note(format!("{stock} from the image is no longer locked"));
    }
    for name in before.users.keys().filter(|name| !wanted.contains(name)) {
        accounts.forget(name);
        writer.note(format!(
            "user {name} of an earlier run was removed; its files stay"
        ));
    }
    let own: Vec<String> = wanted.iter().chain(before.users.keys()).cloned().collect();
    match (settings.stock_user, accounts.stock_user(&own)) {
        (Some(StockUser::Lock), Some(stock)) => {
            let was_open = !accounts.is_locked(&stock) || before.locked.as_ref() == Some(&stock);
            accounts.lock(&stock);
            writer.state.locked = was_open.then(|| stock.clone());
            writer.note(format!("login is disabled for {stock} from the image"));
        }
        (Some(StockUser::Rename), Some(stock)) => {
            let new = wanted.first().map_or(stock.as_str(), String::as_str);
            if !accounts.passwd.has(new) {
                accounts.rename(&stock, new);
                writer.note(format!("{stock} from the image is now {new}"));
            }
        }
        (Some(_), None) => writer.note("the image has no stock user"),
        (None, _) => {}
    }
    let shell = if writer.has("/bin/bash")? {
        "/bin/bash"
    } else {
        "/bin/sh"
    };
    let mut homes = Vec::new();
    for user in &settings.users {
        homes.push(accounts.put_user(user, shell)?);
        if let Some(shell) = &user.shell
            && !writer.has(shell)?
        {
            let name = &user.name;
            writer.note(format!(
                "{name} has the shell {shell}, which the image does not have"
            ));
        }
    }
    let had_any = !before.users.is_empty() || before.locked.is_some();
    if !settings.users.is_empty() || settings.stock_user.is_some() || had_any {
        accounts.write(writer)?;
    }
    for (user, home) in settings.users.iter().zip(&homes) {
        make_home(writer, home)?;
        put_keys(writer, user, home)?;
        put_sudo(writer, user)?;
    }
    Ok(accounts)
}

/// Creates a home folder from the skeleton, unless it exists.
fn make_home(writer: &mut Writer<'_, '_>, home: &Home) -> Result<(), FilesError> {
    if home.path.is_empty() || writer.files.has(&home.path)? {
        return Ok(());
    }
    writer.folder(&home.path, Rights::of(0o700, home.numbers))?;
    let mut nodes = Vec::new();
    if writer.files.has("/etc/skel")? {
        pinewrit_volume::files::walk(writer.files, "/etc/skel", 8, &mut |node| {
            nodes.push(node);
            nodes.len() < MAX_SKELETON
        })?;
    }
    for node in nodes {
        let path = format!("{}{}", home.path, &node.path["/etc/skel".len()..]);
        let rights = Rights::of(node.facts.mode.unwrap_or(0o644), home.numbers);
        match node.facts.kind {
            Kind::Folder => writer.files.make_folders(&path, rights)?,
            Kind::File if node.facts.size <= MAX_SKELETON_FILE => {
                let content = writer.files.read(&node.path, MAX_SKELETON_FILE)?;
                writer
                    .files
                    .put(&path, rights, &content.unwrap_or_default())?;
            }
            Kind::Link => {
                let target = node.facts.target.unwrap_or_default();
                writer.files.link(&path, &target)?;
            }
            _ => {}
        }
    }
    Ok(())
}

/// `authorized_keys`, which only its user may be able to read.
fn put_keys(writer: &mut Writer<'_, '_>, user: &User, home: &Home) -> Result<(), FilesError> {
    let before = writer
        .old
        .as_ref()
        .and_then(|old| old.users.get(&user.name));
    let before = before.cloned().unwrap_or_default();
    writer
        .state
        .users
        .insert(user.name.clone(), user.ssh_keys.clone());
    let folder = join(&home.path, ".ssh");
    let path = join(&folder, "authorized_keys");
    let there = writer.text(&path)?.unwrap_or_default();
    // Keys from an earlier run are removed; keys added by others stay.
    let others = there
        .lines()
        .filter(|line| !before.iter().any(|key| key == line))
        .filter(|line| !user.ssh_keys.iter().any(|key| key == line));
    let lines: Vec<&str> = others
        .chain(user.ssh_keys.iter().map(String::as_str))
        .collect();
    if lines.is_empty() && there.is_empty() {
        return Ok(());
    }
    writer.folder(&folder, Rights::of(0o700, home.numbers))?;
    let text: String = lines.iter().map(|line| format!("{line}\n")).collect();
    let rights = Rights::of(0o600, home.numbers);
    if writer.files.has_name(&path)? {
        writer.files.set_rights(&path, rights)?;
    }
    writer.lasting(&path, rights, &text, Secrecy::Open)
}

/// Files in `sudoers.d` with a dot in their names are ignored.
fn put_sudo(writer: &mut Writer<'_, '_>, user: &User) -> Result<(), FilesError> {
    let rule = match user.sudo {
        Sudo::No => return Ok(()),
        Sudo::WithPassword => "ALL=(ALL:ALL) ALL",
        Sudo::WithoutPassword => "ALL=(ALL:ALL) NOPASSWD: ALL",
    };
    if !writer.has("/usr/bin/sudo")? {
        let name = &user.name;
        writer.note(format!(
            "the image has no sudo, so {name} cannot become root with it"
        ));
    }
    let path = format!("/etc/sudoers.d/90-{}", user.name.replace('.', "_"));
    writer.folder("/etc/sudoers.d", Rights::root(0o750))?;
    let text = format!("{} {rule}\n", user.name);
    writer.file(&path, Rights::root(0o440), &text, Secrecy::Open)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn accounts() -> Accounts {
        Accounts {
            passwd: Table::of("root:x:0:0::/root:/bin/sh\nhut:x:1000:1000::/home/hut:/bin/sh\n"),
            shadow: Table::of("root:*:1::::::\nhut:$6$a$b:1:0:99999:7:::\n"),
            group: Table::of("root:x:0:\naudio:x:29:hut,other\nhut:x:1000:\n"),
            gshadow: Some(Table::of("root:*::\naudio:*::hut,other\nhut:!::\n")),
            former: BTreeMap::new(),
            today: 20_000,
        }
    }

    #[test]
    fn renaming_follows_everywhere() {
        let mut accounts = accounts();
        accounts.rename("hut", "warden");
        assert_eq!(accounts.passwd.field("warden", 5), Some("/home/hut"));
        assert_eq!(accounts.group.field("audio", 3), Some("warden,other"));
        let gshadow = accounts.gshadow.as_ref().unwrap();
        assert_eq!(gshadow.field("audio", 3), Some("warden,other"));
        assert!(accounts.shadow.has("warden") && !accounts.shadow.has("hut"));
    }

    #[test]
    fn locking_shuts_passwords_and_keys_out() {
        let mut accounts = accounts();
        assert_eq!(accounts.with_password(), ["hut"]);
        accounts.lock("hut");
        assert_eq!(accounts.shadow.field("hut", 1), Some("!$6$a$b"));
        assert_eq!(accounts.shadow.field("hut", 7), Some("1"));
        assert!(accounts.with_password().is_empty());
        assert_eq!(accounts.homes().len(), 1);
    }

    #[test]
    fn numbers_in_use_are_passed_over() {
        let mut accounts = accounts();
        assert_eq!(accounts.free_number(PEOPLE), Some(1001));
        assert_eq!(accounts.group_number("gpio", None).unwrap(), 999);
        assert_eq!(accounts.group_number("gpio", None).unwrap(), 999);
        assert_eq!(accounts.group_number("audio", None).unwrap(), 29);
    }
}
