//! Reading a settings file for a command.

use std::path::Path;

use pinewrit_core::settings::{self, CheckedSettings, Remark};
use serde::Serialize;

use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::secrets::UserSecrets;
use crate::ui::{Ui, style};

/// A settings file larger than this was not written by anybody.
const MAX_FILE: u64 = 1 << 20;

#[derive(Serialize)]
struct WarningEvent<'a> {
    event: &'static str,
    file: &'a str,
    #[serde(flatten)]
    warning: &'a Remark,
}

/// Reads and checks a settings file; warnings are said at once.
pub(crate) fn read(ui: &Ui, path: &Path) -> Result<CheckedSettings, Message> {
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
    let settings = settings::check(&text, folder, &UserSecrets)
        .map_err(|mistakes| explain::mistakes(&name, &mistakes))?;
    for warning in &settings.warnings {
        ui.event(&WarningEvent {
            event: "warning",
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

/// The settings in a few words: `host name larkfell-03, user warden`.
pub(crate) fn brief(settings: &CheckedSettings) -> String {
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
    if let Some(wired) = &settings.wired {
        let addresses: Vec<_> = wired.addresses.iter().map(ToString::to_string).collect();
        parts.push(match addresses.len() {
            0 => "DHCP".to_owned(),
            _ => addresses.join(", "),
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
