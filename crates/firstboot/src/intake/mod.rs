//! How operating systems take in first-boot settings. One module for each way.

mod certificates;
mod change;
pub mod cloud_init;
pub mod custom;
mod facts;
pub(crate) mod first_start;
mod found;
pub(crate) mod host_key;
mod networks;
pub(crate) mod online;
pub mod rootfs;

pub use change::{ChangeKind, FileChange};
pub use facts::SettingsFacts;
pub use found::find_settings;
pub use host_key::HostKey;
