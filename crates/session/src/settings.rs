//! Reading a settings file for a command.

use std::path::{Path, PathBuf};

use pinewrit_firstboot::configure::{ConfigureReport, IntakeWish};
use pinewrit_firstboot::intake::custom::CustomIntake;
use pinewrit_settings::{CheckedSettings, Remark, SecretSource};
use pinewrit_ui::{Answer, Event, Exit, Message, Ui, style, words};
use schemars::JsonSchema;
use serde::Serialize;

use crate::Outcome;
use crate::secrets::UserSecrets;

/// A settings file larger than this was not written by a person.
const MAX_FILE: u64 = 1 << 20;

/// What is valid in a settings file, but has caused trouble.
#[derive(Serialize, JsonSchema)]
pub struct WarningEvent<'a> {
    file: &'a str,
    #[serde(flatten)]
    warning: &'a Remark,
}

impl Event for WarningEvent<'_> {
    const EVENT: &'static str = "warning";
}

/// Reads and checks a settings file; warnings are shown at once. `intake` is the requested one.
pub fn read(ui: &Ui, path: &Path, intake: Option<&str>) -> Result<CheckedSettings, Message> {
    let wish = intake.map(wish).transpose()?;
    let mut settings = load(path, &UserSecrets)?;
    settings.intake = wish;
    let name = path.display().to_string();
    for warning in &settings.warnings {
        ui.event(&WarningEvent {
            file: &name,
            warning,
        });
        let style = style::WARNING;
        ui.say(format!(
            "{style}warning:{style:#} {name} line {}: {}\n            → {}\n",
            warning.line, warning.what, warning.remedy
        ));
    }
    Ok(settings)
}

/// Reads and checks a settings file, with secrets from this source.
pub(crate) fn load(path: &Path, secrets: &dyn SecretSource) -> Result<CheckedSettings, Message> {
    let failed = |found: String| {
        let what = format!("the settings file {} cannot be read", path.display());
        Message::new(Exit::Settings, what).fact("system", found)
    };
    let size = std::fs::metadata(path)
        .map_err(|e| failed(e.to_string()))?
        .len();
    if size > MAX_FILE {
        return Err(failed(format!(
            "{size} bytes are too many for a settings file"
        )));
    }
    let text = std::fs::read_to_string(path).map_err(|e| failed(e.to_string()))?;
    let folder = path.parent().unwrap_or(Path::new(""));
    let name = path.display().to_string();
    pinewrit_settings::check(&text, folder, secrets)
        .map_err(|mistakes| words::mistakes(&name, &mistakes))
}

/// The requested intake: a word, a file, or the name of one in the user's folder.
pub fn wish(text: &str) -> Result<IntakeWish, Message> {
    match text {
        "cloud-init" => return Ok(IntakeWish::CloudInit),
        "rootfs" => return Ok(IntakeWish::Root),
        _ => {}
    }
    let mut path = PathBuf::from(text);
    if !path.exists() && !text.contains('/') {
        let own = intakes().map(|folder| folder.join(format!("{text}.toml")));
        path = own.filter(|own| own.exists()).unwrap_or(path);
    }
    if !path.exists() {
        let message = Message::new(Exit::Usage, format!("there is no intake {text}"));
        let message = message.remedy("cloud-init, rootfs, or a file that describes one");
        return Err(match intakes() {
            Some(folder) => message.remedy(format!("a name of one in {}", folder.display())),
            None => message,
        });
    }
    let unusable = |found: String| {
        let what = format!("the intake {} cannot be used", path.display());
        Message::new(Exit::Settings, what)
            .fact("found", found.trim().to_owned())
            .remedy("docs/formats.md describes intakes; demo/intakes has examples")
    };
    let text = std::fs::read_to_string(&path).map_err(|e| unusable(e.to_string()))?;
    CustomIntake::parse(&text).map_err(|e| unusable(e.to_string()))?;
    Ok(IntakeWish::Described(text))
}

/// Where users keep their own intakes (XDG Base Directory Specification).
fn intakes() -> Option<PathBuf> {
    let variable = |name| std::env::var_os(name).map(PathBuf::from);
    let base = variable("XDG_CONFIG_HOME").filter(|base| base.is_absolute());
    let base = base.or_else(|| Some(variable("HOME")?.join(".config")))?;
    Some(base.join("pinewrit/intakes"))
}

/// Asks before making a board that allows no login.
pub fn must_have_way_in(ui: &Ui, report: &ConfigureReport, yes: bool) -> Outcome {
    if report.has_way_in != Some(false) {
        return Ok(());
    }
    let refused = |what: &str| {
        Message::new(Exit::Settings, what)
            .fact("state", "nothing was changed")
            .remedy("[[users]] with a name and ssh-keys, or a password and password-login = true")
    };
    let what = "nobody could log in: no account has a password or a key";
    if yes {
        return Err(refused(what));
    }
    match ui.ask("Nobody could log in: no account has a password or a key. Continue?") {
        Answer::Yes => Ok(()),
        Answer::No => Err(refused("nobody could log in, so nothing was done")),
        Answer::NobodyToAsk => Err(refused(what)),
    }
}

/// BLAKE3 of the settings as a receipt tells them, without secrets.
pub fn digest(settings: &CheckedSettings) -> String {
    blake3::hash(brief(settings).as_bytes())
        .to_hex()
        .to_string()
}

/// The settings in brief: `host name larkfell-03, user warden`.
pub fn brief(settings: &CheckedSettings) -> String {
    let mut parts = Vec::new();
    if let Some(name) = &settings.host_name {
        parts.push(format!("host name {name}"));
    }
    let users: Vec<_> = settings.users.iter().map(|u| u.name.as_str()).collect();
    match users.len() {
        0 => {}
        1 => parts.push(format!("user {}", users[0])),
        _ => parts.push(format!("users {}", users.join(", "))),
    }
    for wired in &settings.wired {
        let addresses: Vec<_> = wired.addresses.iter().map(ToString::to_string).collect();
        let vlan = wired
            .vlan
            .map_or(String::new(), |vlan| format!(" on VLAN {vlan}"));
        parts.push(match addresses.len() {
            0 => format!("DHCP{vlan}"),
            _ => format!("{}{vlan}", addresses.join(", ")),
        });
    }
    if let Some(wireless) = &settings.wireless {
        let noun = match wireless.networks.len() {
            1 => "network",
            _ => "networks",
        };
        parts.push(format!("{} wireless {noun}", wireless.networks.len()));
    }
    match parts.len() {
        0 => "nothing".to_owned(),
        _ => parts.join(", "),
    }
}
