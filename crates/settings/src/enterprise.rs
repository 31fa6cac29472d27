//! Wireless networks that authenticate each unit (IEEE 802.1X): with an account and password, or
//! with a certificate.

use super::password::{self, Secret, SecretField};
use super::regional::quoted;
use crate::document::{At, Document, Fields, Wrong};

/// How a unit and the network's server authenticate each other.
#[derive(Clone, PartialEq, Eq)]
pub struct Enterprise {
    /// How the unit authenticates.
    pub method: EapMethod,
    /// The name of its account.
    pub identity: String,
    /// The name sent in clear, if different.
    pub anonymous_identity: Option<String>,
    /// The name in the server's certificate, or its ending.
    pub server_name: Option<String>,
    /// Certificates of the authorities for the server's certificate, in PEM (RFC 7468).
    pub authority: Option<String>,
}

/// A method of the Extensible Authentication Protocol.
#[derive(Clone, PartialEq, Eq)]
pub enum EapMethod {
    /// PEAP with MSCHAPv2 inside: a password.
    Peap(AccountPassword),
    /// EAP-TLS (RFC 5216): a certificate with its key.
    Tls {
        /// The unit's certificate, in PEM.
        certificate: String,
        /// Its private key, in PEM.
        key: Secret,
        /// The passphrase of the key.
        key_password: Option<Secret>,
    },
}

/// A password, or the line that requests a prompt for it.
#[derive(Clone, PartialEq, Eq)]
pub enum AccountPassword {
    /// It is known.
    Known(Secret),
    /// To be asked for once everything else is checked.
    Ask(usize),
}

impl AccountPassword {
    /// The password; empty until the user has been asked.
    pub fn reveal(&self) -> &str {
        match self {
            Self::Known(secret) => secret.reveal(),
            Self::Ask(_) => "",
        }
    }
}

pub(crate) fn read(document: &Document<'_>, fields: &Fields<'_, '_>) -> Option<Enterprise> {
    for (key, remedy) in [
        (
            "eap",
            "eap = \"peap\" with a password, or \"tls\" with a certificate",
        ),
        ("identity", "identity = \"larkfell-03\""),
    ] {
        let missing = format!("an enterprise network without `{key}`");
        fields.must_have(key, missing, remedy);
    }
    if !fields.has("ca-file") {
        document.warn(
            fields.line(),
            "without ca-file anybody can impersonate this network and steal the account",
            "ca-file = \"larkfell-ca.pem\", from the network's operator",
        );
    }
    let is_tls = fields.checked("eap", |text| match text {
        "tls" => Ok(true),
        "peap" => Ok(false),
        _ => {
            let what = format!("{} is not an authentication method", quoted(text));
            Err(Wrong::new(what, "\"peap\" or \"tls\""))
        }
    });
    let identity = fields.checked("identity", plain);
    let anonymous_identity = fields.checked("anonymous-identity", plain);
    let server_name = fields.checked("server-name", super::extras::time_server);
    let authority = pem(document, fields, "ca-file", "CERTIFICATE");
    let method = if is_tls? {
        read_tls(document, fields)
    } else {
        read_peap(document, fields)
    };
    Some(Enterprise {
        method: method?,
        identity: identity?,
        anonymous_identity,
        server_name,
        authority,
    })
}

fn refuse(document: &Document<'_>, fields: &Fields<'_, '_>, keys: &[&str], remedy: &str) {
    if let Some(key) = keys.iter().find(|key| fields.has(key)) {
        let what = format!("`{key}` belongs to the other authentication method");
        document.mistake(fields.line(), what, remedy);
    }
}

fn read_peap(document: &Document<'_>, fields: &Fields<'_, '_>) -> Option<EapMethod> {
    let others = [
        "certificate-file",
        "key-file",
        "key-password-env",
        "key-password-file",
    ];
    refuse(document, fields, &others, "eap = \"tls\", or omit it");
    let keys = ["password-env", "password-file", "password-prompt"];
    if !keys.iter().any(|key| fields.has(key)) {
        let what = "an account without a password";
        document.mistake(
            fields.line(),
            what,
            "add password-env, password-file or password-prompt",
        );
    }
    let password = password::read_secret(document, fields, "password")?;
    Some(EapMethod::Peap(match password {
        SecretField::Ask(line) => AccountPassword::Ask(line),
        SecretField::Text(at) => {
            let checked = plain(at.value.reveal());
            document.accept(at.line, checked)?;
            AccountPassword::Known(at.value)
        }
    }))
}

fn read_tls(document: &Document<'_>, fields: &Fields<'_, '_>) -> Option<EapMethod> {
    let others = ["password-env", "password-file", "password-prompt"];
    refuse(document, fields, &others, "eap = \"peap\", or omit it");
    for key in ["certificate-file", "key-file"] {
        let missing = format!("EAP-TLS without `{key}`");
        fields.must_have(key, missing, format!("{key} = \"larkfell-03.pem\""));
    }
    let certificate = pem(document, fields, "certificate-file", "CERTIFICATE");
    let key = pem(document, fields, "key-file", "PRIVATE KEY");
    let key_password = match password::read_secret(document, fields, "key-password") {
        Some(SecretField::Text(At { value, .. })) => Some(value),
        _ => None,
    };
    let key = key?;
    if key.contains("ENCRYPTED") && key_password.is_none() {
        let what = "the key is encrypted, and its password is missing";
        document.mistake(
            fields.line(),
            what,
            "add key-password-env or key-password-file",
        );
    }
    Some(EapMethod::Tls {
        certificate: certificate?,
        key: Secret::new(key),
        key_password,
    })
}

/// Asks for the password of an account.
pub(crate) fn ask_password(document: &Document<'_>, account: &mut Enterprise, ssid: &str) {
    let EapMethod::Peap(AccountPassword::Ask(line)) = account.method else {
        return;
    };
    let what = format!(
        "password of {} in the network {}",
        quoted(&account.identity),
        quoted(ssid)
    );
    if let Some(secret) = password::ask(document, line, &what) {
        account.method = EapMethod::Peap(AccountPassword::Known(secret));
    }
}

/// One line, as all network managers take it.
fn plain(text: &str) -> Result<String, Wrong> {
    if !text.is_empty() && !text.chars().any(char::is_control) {
        Ok(text.to_owned())
    } else {
        Err(Wrong::new(
            "this is empty, or contains control characters",
            "one line of text",
        ))
    }
}

/// A PEM file that contains something of this kind.
fn pem(document: &Document<'_>, fields: &Fields<'_, '_>, key: &str, kind: &str) -> Option<String> {
    let path = fields.string(key)?;
    let content = document.read_file(&path.value).map_err(|error| {
        let what = format!("{} cannot be read: {error}", path.value);
        Wrong::new(what, "paths are relative to the settings file")
    });
    let content = document.accept(path.line, content)?;
    let is_begin = |line: &str| {
        line.starts_with("-----BEGIN ") && line.trim_end().ends_with(&format!("{kind}-----"))
    };
    let is_whole = content.lines().any(is_begin) && content.contains("-----END ");
    let checked = if is_whole {
        Ok(content)
    } else {
        Err(Wrong::new(
            format!("{} contains no {}", path.value, kind.to_lowercase()),
            format!("a file in PEM, which begins with -----BEGIN {kind}-----"),
        ))
    };
    document.accept(path.line, checked)
}
