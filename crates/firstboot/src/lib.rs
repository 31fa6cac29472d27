//! First boot: how an operating system takes in settings, and how they get onto a medium.
//!
//! Nothing is written while changes are gathered, and a medium that cannot take them says why:
//!
//! ```
//! use pinewrit_disk::MemoryDevice;
//! use pinewrit_ext4::Timestamp;
//! use pinewrit_firstboot::configure::prepare;
//! use pinewrit_settings::CheckedSettings;
//!
//! let settings = CheckedSettings {
//!     host_name: Some("larkfell-03".into()),
//!     ..CheckedSettings::default()
//! };
//! let now = Timestamp { seconds: 1_767_225_600, nanoseconds: 0 };
//! let empty = MemoryDevice::new(1 << 20);
//! assert!(prepare(&empty, &settings, now).is_err());
//! ```

pub mod as_new;
pub mod configure;
pub mod intake;
