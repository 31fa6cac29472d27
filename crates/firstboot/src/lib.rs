//! First-boot settings: what a settings file may say, how an operating system takes it in, and how
//! it gets onto a medium.
//!
//! Settings are checked, and their mistakes come all at once:
//!
//! ```
//! use pinewrit_firstboot::settings::{SecretSource, check};
//! use std::{io, path::Path};
//!
//! struct NoSecrets;
//! impl SecretSource for NoSecrets {
//!     fn variable(&self, _: &str) -> Option<String> {
//!         None
//!     }
//!     fn file(&self, _: &Path) -> io::Result<String> {
//!         Err(io::ErrorKind::NotFound.into())
//!     }
//!     fn ask(&self, _: &str) -> io::Result<Option<String>> {
//!         Ok(None)
//!     }
//! }
//!
//! let text = "hostname = \"larkfell 3\"\ntimezone = \"Europe/Wien\"\n";
//! let mistakes = check(text, Path::new(""), &NoSecrets).err().map_or(Vec::new(), |all| all.0);
//! assert_eq!(mistakes.iter().map(|one| one.line).collect::<Vec<_>>(), [1, 2]);
//! ```

pub mod configure;
pub mod document;
pub mod intake;
pub mod settings;
