//! Values of one unit that an earlier run of Pinewrit put on the medium: host name and addresses,
//! and what it remembers as done.

use pinewrit_volume::files::{Files, FilesError, MAX_TEXT, join};

use super::{Done, Taker};
use crate::intake::cloud_init::{META_DATA, NETWORK_CONFIG, USER_DATA};
use crate::intake::first_start::MARKS;
use crate::intake::rootfs::{STATE, State, digest};

const WHAT: &str = "unit's settings";

/// Takes back what belongs to one unit alone; users and everything else stay.
pub(super) fn earlier_settings(taker: &mut Taker<'_, '_>) -> Done {
    taker.remove_below(MARKS, "done at the first start")?;
    let Some(mut state) = State::read(taker.files)? else {
        return Ok(());
    };
    let before = state.clone();
    let is_of_unit = |path: &str| {
        ["/etc/hostname", "/etc/hosts"].contains(&path) || is_network(path) && !is_link(path)
    };
    let edited: Vec<String> = state
        .edits
        .keys()
        .filter(|path| is_of_unit(path))
        .cloned()
        .collect();
    for path in edited {
        let Some(text) = taker.files.text(&path)? else {
            continue;
        };
        if is_network(&path) && !has_fixed_address(&text) || taker.is_kept(&path) {
            continue;
        }
        let (text, is_missing) = match state.edits.get(&path) {
            Some(edits) => edits.taken_back(&text),
            None => continue,
        };
        if is_missing {
            taker.note(format!(
                "{path} was changed by hand: not all of the unit's settings go"
            ));
        }
        match text {
            Some(text) => taker.edit(&path, &text, WHAT)?,
            None => taker.remove(&path, WHAT)?,
        }
        state.edits.remove(&path);
    }
    let own: Vec<(String, String)> = state
        .files
        .iter()
        .filter(|(path, _)| is_network(path))
        .map(|(path, sum)| (path.clone(), sum.clone()))
        .collect();
    for (path, sum) in own {
        let Some(content) = taker.files.small(&path, MAX_TEXT)? else {
            continue;
        };
        if !has_fixed_address(&String::from_utf8_lossy(&content)) || taker.is_kept(&path) {
            continue;
        }
        if digest(&content) == sum {
            taker.remove(&path, WHAT)?;
            state.files.remove(&path);
        } else {
            taker.note(format!("{path} was changed by hand, and stays"));
        }
    }
    // Host keys go by a rule of their own.
    state.files.retain(|path, _| !path.contains("/ssh_host_"));
    if state != before {
        let json = serde_json::to_string_pretty(&state).unwrap_or_default();
        taker.files.rewrite(STATE, (json + "\n").as_bytes())?;
    }
    Ok(())
}

fn is_network(path: &str) -> bool {
    [
        "/etc/systemd/network/",
        "/etc/NetworkManager/system-connections/",
        "/etc/netplan/",
        "/etc/network/interfaces",
        "/etc/dhcpcd.conf",
    ]
    .iter()
    .any(|start| path.starts_with(start))
}

fn is_link(path: &str) -> bool {
    path.ends_with(".link")
}

/// Whether a network's settings name addresses, in the forms of the managers that intakes write for.
fn has_fixed_address(text: &str) -> bool {
    text.lines().any(|line| {
        let line = line.trim();
        [
            "Address=",
            "address1=",
            "address ",
            "addresses:",
            "static ip_address",
            "static ip6_address",
        ]
        .iter()
        .any(|start| line.starts_with(start))
    })
}

/// Where cloud-init's seeds lie.
const SEED_FOLDERS: [&str; 3] = [
    "",
    "/var/lib/cloud/seed/nocloud",
    "/var/lib/cloud/seed/nocloud-net",
];

/// Whether a file system holds a seed for cloud-init.
pub(super) fn has_seed(files: &Files<'_>) -> Result<bool, FilesError> {
    for folder in SEED_FOLDERS {
        if files.has_name(&join(folder, USER_DATA))? && files.has_name(&join(folder, META_DATA))? {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Takes host name, host keys and addresses out of seeds for cloud-init.
pub(super) fn seeds(taker: &mut Taker<'_, '_>) -> Done {
    for folder in SEED_FOLDERS {
        let path = |name: &str| format!("{folder}/{name}");
        if !taker.files.has_name(&path(USER_DATA))? || !taker.files.has_name(&path(META_DATA))? {
            continue;
        }
        let of_unit: [(&str, &[&str]); 2] = [
            (USER_DATA, &["hostname", "fqdn", "ssh_keys"]),
            (META_DATA, &["local-hostname"]),
        ];
        for (name, keys) in of_unit {
            let path = path(name);
            let Some(text) = taker.files.text(&path)? else {
                continue;
            };
            if let Some(text) = without_keys(&text, keys).filter(|_| !taker.is_kept(&path)) {
                taker.edit(&path, &text, WHAT)?;
            }
        }
        let network = path(NETWORK_CONFIG);
        let text = taker.files.text(&network)?.unwrap_or_default();
        if has_fixed_address(&text) {
            taker.remove(&network, WHAT)?;
        }
    }
    Ok(())
}

/// A YAML text without some of its outermost keys; `None` if it has none of them.
fn without_keys(text: &str, keys: &[&str]) -> Option<String> {
    let is_wanted = |line: &str| {
        let key = line.split(':').next().unwrap_or_default();
        line.contains(':') && keys.contains(&key.trim_matches(['"', '\'']))
    };
    let mut kept = String::new();
    let mut is_inside = false;
    let mut is_changed = false;
    for line in text.split_inclusive('\n') {
        let is_outermost = !line.starts_with([' ', '\t', '-', '\n', '\r']);
        if is_outermost {
            is_inside = is_wanted(line);
        }
        if is_inside {
            is_changed = true;
        } else {
            kept += line;
        }
    }
    is_changed.then_some(kept)
}

#[cfg(test)]
mod tests {
    use super::without_keys;

    #[test]
    fn outermost_keys_go_with_what_is_below_them() {
        let text = "#cloud-config\n\"hostname\": \"hut\"\nssh_keys:\n  ed25519: |\n    secret\n\nusers:\n- name: a\nfqdn: b\n";
        let left = without_keys(text, &["hostname", "fqdn", "ssh_keys"]);
        assert_eq!(left.as_deref(), Some("#cloud-config\nusers:\n- name: a\n"));
        assert_eq!(without_keys("users:\n- hostname: x\n", &["hostname"]), None);
    }
}
