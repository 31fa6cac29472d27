//! Secrets in places that no rule knows: found, listed, and left alone.

use pinewrit_volume::files::{Files, FilesError, Kind, walk};

use super::Suspect;

/// Where people and programs keep keys of their own.
const FOLDERS: [&str; 6] = ["/etc", "/root", "/home", "/opt", "/srv", "/var/lib"];
/// Larger files are no keys.
const MAX_KEY: u64 = 64 << 10;
/// Files that are listed; more than these nobody reads.
const MOST: usize = 50;

/// Files below a root that look like secrets of one unit.
pub(super) fn find(files: &Files<'_>, partition: Option<u32>) -> Result<Vec<Suspect>, FilesError> {
    let mut candidates = Vec::new();
    for folder in FOLDERS {
        let walked = walk(files, folder, usize::MAX, &mut |node| {
            if node.facts.kind == Kind::File
                && (1..=MAX_KEY).contains(&node.facts.size)
                && may_be_key(&node.path)
            {
                candidates.push(node.path);
            }
            true
        });
        match walked {
            Err(FilesError::NotFound(_)) => {}
            walked => walked?,
        }
    }
    let mut found = Vec::new();
    for path in candidates {
        let content = match files.read(&path, MAX_KEY) {
            Err(error) if error.is_unreadable() => continue,
            content => content?.unwrap_or_default(),
        };
        if let Some(why) = why(&path, &content).filter(|_| found.len() < MOST) {
            found.push(Suspect {
                partition,
                path,
                why,
            });
        }
    }
    Ok(found)
}

fn may_be_key(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    let (_, ending) = name.rsplit_once('.').unwrap_or((name, ""));
    name.starts_with("id_") && ending != "pub"
        || ["key", "pem", "p12", "pfx", "keytab", "psk"].contains(&ending)
        || path.starts_with("/etc/wireguard/")
        || path.starts_with("/etc/openvpn/")
        || name == "ipsec.secrets"
}

fn why(path: &str, content: &[u8]) -> Option<&'static str> {
    let has = |text: &str| {
        content
            .windows(text.len())
            .any(|part| part == text.as_bytes())
    };
    let (_, ending) = path.rsplit_once('.').unwrap_or((path, ""));
    match ending {
        "p12" | "pfx" => Some("a certificate with its key"),
        "keytab" => Some("keys of a service"),
        "psk" => Some("a shared key"),
        _ if has("PRIVATE KEY") => Some("a private key"),
        _ if has("PrivateKey") => Some("the private key of a tunnel"),
        _ if path.ends_with("ipsec.secrets") && has(":") => Some("keys of tunnels"),
        _ => None,
    }
}
