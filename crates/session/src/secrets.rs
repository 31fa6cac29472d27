//! Secrets from the environment, from files, and from the user at the terminal.

use std::io::{self, IsTerminal, Read};
use std::path::Path;

use pinewrit_disk::open_plain;
use pinewrit_settings::SecretSource;

/// The largest file with a key or a password.
const MAX_FILE: u64 = 1 << 20;

/// The usual sources of secrets.
pub struct UserSecrets;

impl SecretSource for UserSecrets {
    fn variable(&self, name: &str) -> Option<String> {
        std::env::var(name).ok()
    }

    fn file(&self, path: &Path) -> io::Result<String> {
        let mut text = String::new();
        let mut file = open_plain(path)?.take(MAX_FILE + 1);
        // Half a file would be worse than none.
        if file.read_to_string(&mut text)? as u64 > MAX_FILE {
            Err(io::Error::other(format!(
                "it has more than {MAX_FILE} bytes"
            )))
        } else {
            Ok(text)
        }
    }

    fn ask(&self, what: &str) -> io::Result<Option<String>> {
        if !io::stdin().is_terminal() {
            return Ok(None);
        }
        loop {
            let first = rpassword::prompt_password(format!("{what}: "))?;
            let again = rpassword::prompt_password("once more: ")?;
            if first == again {
                return Ok(Some(first));
            }
            rpassword::prompt_password("these differ; press Enter and type it twice again")?;
        }
    }
}
