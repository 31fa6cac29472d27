//! The first boot of a board: what its console says, and how far it has come.
//!
//! ```
//! use pinewrit_boot::{Progress, Stage};
//!
//! let mut progress = Progress::default();
//! progress.take("[    0.000000] Linux version 6.1.0 (made up)");
//! assert_eq!(progress.stage(), Some(Stage::Kernel));
//! progress.take("larkfell-03 login: ");
//! assert_eq!(progress.stage(), Some(Stage::Login));
//! ```

pub mod commission;
pub mod find;
mod garbage;
mod lines;
mod port;
pub mod ssh;
mod stages;
pub mod trial;
mod watch;

pub use garbage::{Kind, look};
pub use lines::{Line, Lines};
pub use port::{Place, PortError, RATES, SerialConsole, ports};
pub use stages::{End, Progress, Stage};
pub use watch::{Console, Ended, Hint, Listener, Typing, WatchReport, WatchRequest, watch};
