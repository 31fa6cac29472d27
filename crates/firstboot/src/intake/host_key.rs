//! SSH host keys made before the first start.

use ring::rand::{SecureRandom, SystemRandom};
use ring::signature::{Ed25519KeyPair, KeyPair};
use schemars::JsonSchema;
use serde::Serialize;
use ssh_key::private::{Ed25519Keypair, Ed25519PrivateKey, KeypairData};
use ssh_key::public::Ed25519PublicKey;
use ssh_key::{HashAlg, LineEnding, PrivateKey, PublicKey};
use zeroize::Zeroizing;

use pinewrit_settings::CheckedSettings;

/// A host key known before the first start.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct HostKey {
    /// Its fingerprint: SHA-256, as ssh shows it.
    pub fingerprint: String,
    /// A line for a client's `known_hosts`.
    pub known_hosts: String,
    /// It is new, not from an earlier run.
    pub is_new: bool,
}

/// A new Ed25519 key pair in OpenSSH's forms: private, public.
pub(crate) fn make_host_key(comment: &str) -> Option<(Zeroizing<String>, String)> {
    let mut seed = Zeroizing::new([0u8; 32]);
    SystemRandom::new().fill(&mut *seed).ok()?;
    let pair = Ed25519KeyPair::from_seed_unchecked(&*seed).ok()?;
    let public: [u8; 32] = pair.public_key().as_ref().try_into().ok()?;
    let pair = Ed25519Keypair {
        public: Ed25519PublicKey(public),
        private: Ed25519PrivateKey::from_bytes(&seed),
    };
    let key = PrivateKey::new(KeypairData::Ed25519(pair), comment).ok()?;
    let public = key.public_key().to_openssh().ok()?;
    Some((key.to_openssh(LineEnding::LF).ok()?, public))
}

/// The origin of a host key.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum KeyOrigin {
    /// It is new.
    New,
    /// It is from an earlier run.
    #[default]
    Kept,
}

/// What a client needs to recognise the unit.
pub(crate) fn described(
    public: &str,
    settings: &CheckedSettings,
    origin: KeyOrigin,
) -> Option<HostKey> {
    let key = PublicKey::from_openssh(public.trim()).ok()?;
    let bare: Vec<&str> = public.split_whitespace().take(2).collect();
    let port = settings.ssh_port.filter(|port| *port != 22);
    let mut names: Vec<String> = settings.host_name.iter().cloned().collect();
    // Its name in multicast DNS: RFC 6762, section 3.
    let alone = settings.host_name.iter().filter(|name| !name.contains('.'));
    names.extend(alone.map(|name| format!("{name}.local")));
    let fixed = settings.wired.iter().flat_map(|wired| &wired.addresses);
    names.extend(fixed.map(|net| net.addr().to_string()));
    let named = |name: String| match port {
        Some(port) => format!("[{name}]:{port}"),
        None => name,
    };
    let names: Vec<String> = names.into_iter().map(named).collect();
    Some(HostKey {
        fingerprint: key.fingerprint(HashAlg::Sha256).to_string(),
        known_hosts: if names.is_empty() {
            format!("* {}", bare.join(" "))
        } else {
            format!("{} {}", names.join(","), bare.join(" "))
        },
        is_new: origin == KeyOrigin::New,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_that_is_made_is_read_again() {
        let (private, public) = make_host_key("root@larkfell-03").unwrap();
        let key = PrivateKey::from_openssh(private.as_str()).unwrap();
        assert_eq!(key.public_key().to_openssh().unwrap(), public);
        let settings = CheckedSettings {
            host_name: Some("larkfell-03".into()),
            ssh_port: Some(2222),
            ..CheckedSettings::default()
        };
        let found = described(&public, &settings, KeyOrigin::New).unwrap();
        assert!(found.fingerprint.starts_with("SHA256:"));
        assert!(
            found
                .known_hosts
                .starts_with("[larkfell-03]:2222,[larkfell-03.local]:2222 ssh-ed25519 AAAA")
        );
    }
}
