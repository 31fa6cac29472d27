//! What a start waits for before it counts as online: systemd's `network-online.target` and the service
//! behind it, which by itself waits two minutes for every interface and then fails the start.

use pinewrit_settings::{CheckedSettings, Wired, Wireless};

/// How long a start waits for a network that somebody asks for, in seconds.
pub(crate) const PATIENCE: u32 = 10;

/// Where the limit of systemd-networkd's service lies.
pub(crate) const WAIT_FILE: &str =
    "/etc/systemd/system/systemd-networkd-wait-online.service.d/10-pinewrit.conf";

/// Which interfaces a start waits for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Awaited {
    /// All that are not optional.
    Needed,
    /// Whichever is up first: the settings do not say which one there is.
    Any,
    /// None: all are optional.
    Nothing,
}

impl Awaited {
    /// Without wired settings the usual interface asks for addresses, whichever it is.
    pub(crate) fn by(settings: &CheckedSettings) -> Self {
        let usual = [Wired::default()];
        let wired = if settings.wired.is_empty() {
            &usual[..]
        } else {
            &settings.wired[..]
        };
        Self::of(wired, settings.wireless.as_ref())
    }

    pub(crate) fn of(wired: &[Wired], wireless: Option<&Wireless>) -> Self {
        let is_any = |wired: &Wired| wired.interface.is_none() && wired.mac.is_none();
        let has_needed = wired
            .iter()
            .any(|wired| !wired.is_optional && !wired.is_bare)
            || wireless.is_some_and(|wireless| !wireless.is_optional);
        match has_needed {
            false => Self::Nothing,
            true if wired.iter().any(is_any) => Self::Any,
            true => Self::Needed,
        }
    }

    /// The drop-in of systemd-networkd-wait-online.service(8) that bounds it. A unit without a cable is
    /// no fault, so its end is none either. `program` is where the image has it.
    pub(crate) fn limit(self, program: &str) -> String {
        let start = match self {
            Self::Nothing => "-/bin/true".to_owned(),
            Self::Any => format!("-{program} --any --timeout={PATIENCE}"),
            Self::Needed => format!("-{program} --timeout={PATIENCE}"),
        };
        format!("# Written by Pinewrit.\n[Service]\nExecStart=\nExecStart={start}\n")
    }
}

/// Where systemd-networkd's program for that may lie.
pub(crate) const WAIT_PROGRAMS: [&str; 2] = [
    "/usr/lib/systemd/systemd-networkd-wait-online",
    "/lib/systemd/systemd-networkd-wait-online",
];
