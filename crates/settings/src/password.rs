//! Secrets: passwords and passphrases, their sources, and warnings about weak ones.

use ring::rand::{SecureRandom, SystemRandom};
use secrecy::{ExposeSecret, SecretString};
use sha_crypt::{PasswordHasher, PasswordVerifier, ShaCrypt};

use crate::document::{At, Document, Fields, Wrong};

/// Text that must not be shown, and is wiped from memory when dropped.
#[derive(Clone, Debug)]
pub struct Secret(SecretString);

impl Secret {
    /// Takes a secret.
    pub fn new(text: String) -> Self {
        Self(text.into())
    }

    /// The secret itself, to be used and not stored.
    pub fn reveal(&self) -> &str {
        self.0.expose_secret()
    }
}

impl PartialEq for Secret {
    fn eq(&self, other: &Self) -> bool {
        self.reveal() == other.reveal()
    }
}

impl Eq for Secret {}

/// Bytes of salt: 16 characters, the most that crypt(3) takes. It truncates a longer one, and then
/// no password matches.
const SALT_LEN: usize = 12;

/// A user's password.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Password {
    /// Already hashed, in crypt(5) form.
    Hash(Secret),
    /// In clear, hashed before it is written anywhere.
    Plain(Secret),
    /// To be asked for once everything else is checked; holds the line that requests it.
    Ask(usize),
}

impl Password {
    /// The password in crypt(5) form, SHA-512.
    ///
    /// A matching hash that is already on the medium is kept, so that configuring twice gives the
    /// same medium.
    ///
    /// # Errors
    /// The system gave no random numbers, or the user was never asked for the password.
    pub fn hashed(&self, existing: Option<&str>) -> Result<String, HashError> {
        match self {
            Self::Hash(hash) => Ok(hash.reveal().to_owned()),
            Self::Plain(plain) => {
                let crypt = ShaCrypt::default();
                let bytes = plain.reveal().as_bytes();
                let fits =
                    |hash: &&str| is_whole(hash) && crypt.verify_password(bytes, *hash).is_ok();
                if let Some(kept) = existing.filter(fits) {
                    return Ok(kept.to_owned());
                }
                let mut salt = [0; SALT_LEN];
                SystemRandom::new().fill(&mut salt).map_err(|_| HashError)?;
                let hash = crypt.hash_password_with_salt(bytes, &salt);
                hash.map(|hash| hash.as_str().to_owned())
                    .map_err(|_| HashError)
            }
            Self::Ask(_) => Err(HashError),
        }
    }
}

/// A password could not be hashed.
#[derive(Clone, Copy, Debug, thiserror::Error)]
#[error("a password could not be hashed")]
pub struct HashError;

/// The source of a secret: one of the keys `NAME-env`, `NAME-file`, `NAME-prompt`.
pub(crate) enum SecretField {
    Text(At<Secret>),
    Ask(usize),
}

/// Takes a secret from the environment, from a file or, later, from the user.
pub(crate) fn read_secret(
    document: &Document<'_>,
    fields: &Fields<'_, '_>,
    name: &str,
) -> Option<SecretField> {
    if let Some(variable) = fields.string(&format!("{name}-env")) {
        let found = document.secrets().variable(&variable.value);
        let secret = found.filter(|text| !text.is_empty()).ok_or_else(|| {
            Wrong::new(
                format!("the environment has no variable {}", variable.value),
                format!("set it first: read -rs {0}; export {0}", variable.value),
            )
        });
        return text(document, variable.line, secret);
    }
    if let Some(path) = fields.string(&format!("{name}-file")) {
        let secret = document
            .read_file(&path.value)
            .map(|content| content.trim_end_matches(['\r', '\n']).to_owned())
            .map_err(|error| {
                Wrong::new(
                    format!("{} cannot be read: {error}", path.value),
                    "paths are relative to the settings file",
                )
            });
        return text(document, path.line, secret);
    }
    let prompt = fields.boolean(&format!("{name}-prompt"))?;
    prompt.value.then_some(SecretField::Ask(prompt.line))
}

fn text(
    document: &Document<'_>,
    line: usize,
    secret: Result<String, Wrong>,
) -> Option<SecretField> {
    let value = Secret::new(document.accept(line, secret)?);
    Some(SecretField::Text(At { value, line }))
}

/// Asks the user for a secret.
pub(crate) fn ask(document: &Document<'_>, line: usize, what: &str) -> Option<Secret> {
    let answer = document.secrets().ask(what);
    let secret = match answer {
        Ok(Some(text)) if !text.is_empty() => Ok(Secret::new(text)),
        Ok(Some(_)) => Err(Wrong::new(format!("the {what} is empty"), "type one")),
        Ok(None) => Err(Wrong::new(
            format!("there is nobody to ask for the {what}"),
            "use the -env or -file form in scripts",
        )),
        Err(error) => Err(Wrong::new(
            format!("the {what} could not be read: {error}"),
            "try again on a terminal",
        )),
    };
    document.accept(line, secret)
}

/// Warns about a password that is short, common, or easy to guess from the other settings.
pub(crate) fn warn_if_weak(document: &Document<'_>, line: usize, user: &str, password: &Secret) {
    let text = password.reveal();
    let length = text.chars().count();
    let guesses = zxcvbn::zxcvbn(text, &[user]);
    let what = if length < 8 {
        format!("the password of {user} has only {length} characters")
    } else if guesses.score() < zxcvbn::Score::Two {
        format!("the password of {user} is in common password lists, or close to one")
    } else {
        return;
    };
    document.warn(
        line,
        what,
        "use twelve or more characters that nobody else uses",
    );
}

/// A hash in crypt(5) form: `$id$…`, of a kind that current systems accept.
pub(crate) fn password_hash(text: &str) -> Result<Secret, Wrong> {
    const KINDS: &[&str] = &["$6$", "$5$", "$y$", "$gy$", "$7$", "$2b$", "$2y$"];
    let known = KINDS.iter().any(|kind| text.starts_with(kind));
    let printable = text.bytes().all(|b| b.is_ascii_graphic() && b != b':');
    if known && printable && text.len() > 20 {
        return if is_whole(text) {
            Ok(Secret::new(text.to_owned()))
        } else {
            Err(Wrong::new(
                "this password hash is incomplete, so no password would ever match",
                "copy all of it, as `openssl passwd -6` or mkpasswd prints it",
            ))
        };
    }
    // Not shown: it may well be the password itself.
    Err(Wrong::new(
        "password-hash is not a password hash",
        "it begins with $6$ or $y$; for a plain password use password-env, -file or -prompt",
    ))
}

/// Whether a SHA-crypt hash has all of its parts, and no more salt than crypt(3) takes. Other kinds
/// are not examined. Source: "Unix crypt using SHA-256 and SHA-512", Ulrich Drepper.
fn is_whole(hash: &str) -> bool {
    let (digest_len, rest) = match (hash.strip_prefix("$5$"), hash.strip_prefix("$6$")) {
        (Some(rest), _) => (43, rest),
        (_, Some(rest)) => (86, rest),
        _ => return true,
    };
    let rest = match rest.split_once('$') {
        Some((rounds, rest)) if rounds.starts_with("rounds=") => rest,
        _ => rest,
    };
    let is_ours = |b: u8| b.is_ascii_alphanumeric() || b == b'.' || b == b'/';
    rest.split_once('$').is_some_and(|(salt, digest)| {
        salt.len() <= 16 && digest.len() == digest_len && digest.bytes().all(is_ours)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const WORDS: &str = "made up sample words";

    /// The example of SHA-crypt's own specification.
    #[rstest]
    #[case(
        "$6$saltstring$svn8UoSVapNtMuq1ukKS4tPQd8iKwSMHWjl/O817G3uBnIFNjnQJuesI68u4OTLiBFdcbYEdFCoEOfaS35inz1",
        true
    )]
    #[case(
        "$6$saltstring$svn8UoSVapNtMuq1ukKS4tPQd8iKwSMHWjl/O817G3uBnIFNjnQJuesI68u4OTLiBFdcbYEdFCoEOfaS35inz",
        false
    )]
    #[case(
        "$6$rounds=5000$VzFhdLJbqE8sPdg18A/t61$3s1JYotvqEnVg09f6SQ.1tjBCPy/LbYn3pSL7p2tEoCzWkZq/6HD7pEAc3Wa2ByFydzucSTS2fwjFAqS0Jf.v0",
        false
    )]
    #[case("$5$saltstring$5B8vYYiY.CVt1RlTTf8KbXBH3hsxY/GNooZaBBGWEc5", true)]
    #[case("$y$j9T$looked-at-by-nobody$x", true)]
    fn hashes_with_all_of_their_parts(#[case] hash: &str, #[case] whole: bool) {
        assert_eq!(is_whole(hash), whole);
    }

    #[test]
    fn a_hash_that_no_system_takes_is_not_kept() {
        let password = Password::Plain(Secret::new(WORDS.into()));
        let long = ShaCrypt::default()
            .hash_password_with_salt(WORDS.as_bytes(), &[7; 16])
            .unwrap();
        let hash = password.hashed(Some(long.as_str())).unwrap();
        assert!(is_whole(&hash) && hash != long.as_str());
        assert_eq!(password.hashed(Some(&hash)).unwrap(), hash);
    }
}
