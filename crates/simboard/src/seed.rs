//! What cloud-init would make of a seed (its documentation, "NoCloud" and "Module reference").

use pinewrit_volume::files::Files;
use russh::keys::{PrivateKey, PublicKey};
use serde_json::Value;

use crate::content::{Content, MAX_TEXT};
use crate::network;

/// Takes a seed in, if this file system has one.
pub(crate) fn take(files: &Files<'_>, content: &mut Content, hardware: &str) -> bool {
    let read = |name: &str| -> Option<String> {
        let bytes = files.small(name, MAX_TEXT).ok()??;
        String::from_utf8(bytes).ok()
    };
    // Without its meta-data, or its first line, a seed is none.
    let (Some(text), Some(_)) = (read("/user-data"), read("/meta-data")) else {
        return false;
    };
    if text.lines().next() != Some("#cloud-config") {
        return false;
    }
    let Ok(data) = serde_saphyr::from_str::<Value>(&text) else {
        return false;
    };
    user_data(&data, content);
    content.forget_network();
    match read("/network-config").and_then(|text| serde_saphyr::from_str::<Value>(&text).ok()) {
        Some(config) => network::netplan(&config, content, hardware),
        // Without one, every wired interface asks for an address.
        None => network::networkd("[Network]\nDHCP=yes\n", content, hardware),
    }
    content.say("first-start", "cloud-init done".to_owned());
    content.is_grown = true;
    true
}

fn user_data(data: &Value, content: &mut Content) {
    let text = |path: &str| {
        data.pointer(path)
            .and_then(Value::as_str)
            .map(str::to_owned)
    };
    if let Some(name) = text("/hostname") {
        content.host_name = name;
    }
    if let Some(zone) = text("/timezone") {
        content.set("timezone", vec![format!("/usr/share/zoneinfo/{zone}")]);
    }
    if let Some(locale) = text("/locale") {
        content.set("locale", vec![format!("LANG={locale}")]);
    }
    if let Some(layout) = text("/keyboard/layout") {
        content.set("keyboard", vec![format!("XKBLAYOUT={layout}")]);
    }
    if let Some(key) = text("/ssh_keys/ed25519_private") {
        content.host_key = PrivateKey::from_openssh(key)
            .ok()
            .or(content.host_key.take());
    }
    if let Some(accepts) = data.get("ssh_pwauth").and_then(Value::as_bool) {
        content.accepts_passwords = accepts;
    }
    if let Some(size) = data.pointer("/swap/size").and_then(Value::as_u64) {
        content.add_swap("/swapfile", size);
    }
    for user in data
        .get("users")
        .and_then(Value::as_array)
        .into_iter()
        .flatten()
    {
        add_user(user, content);
    }
}

fn add_user(user: &Value, content: &mut Content) {
    let word = |key| user.get(key).and_then(Value::as_str);
    let Some(name) = word("name") else { return };
    let uid = user
        .get("uid")
        .and_then(Value::as_u64)
        .and_then(|uid| u32::try_from(uid).ok());
    content.add_account(name, uid, word("shell").unwrap_or("/bin/sh"));
    for group in user
        .get("groups")
        .and_then(Value::as_array)
        .into_iter()
        .flatten()
    {
        if let Some(group) = group.as_str() {
            content.add_to_group(name, group);
        }
    }
    let is_locked = user.get("lock_passwd").and_then(Value::as_bool) != Some(false);
    let state = match is_locked || word("hashed_passwd").is_none() {
        true => "locked",
        false => "set",
    };
    content.say("shadow", format!("{name} {state}"));
    if word("sudo").is_some_and(|sudo| sudo.contains("NOPASSWD")) {
        content.without_password.insert(name.to_owned());
    }
    let keys = user.get("ssh_authorized_keys").and_then(Value::as_array);
    let lines = keys.into_iter().flatten().filter_map(Value::as_str);
    content.set_keys(name, lines.map(str::to_owned).collect());
}

/// The keys of lines in `authorized_keys`.
pub(crate) fn public_keys(lines: &[String]) -> Vec<PublicKey> {
    lines
        .iter()
        .filter_map(|line| PublicKey::from_openssh(line).ok())
        .collect()
}
