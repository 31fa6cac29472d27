//! What a start waits for before it counts as online: systemd's `network-online.target` and the
//! service behind it, which by default waits two minutes for every interface and then fails.

use pinewrit_settings::{CheckedSettings, Wired, Wireless};

/// How long a start waits for a requested network, in seconds.
pub(crate) const PATIENCE: u32 = 10;

/// The path of the drop-in that limits systemd-networkd's service.
pub(crate) const WAIT_FILE: &str =
    "/etc/systemd/system/systemd-networkd-wait-online.service.d/10-pinewrit.conf";

/// Which interfaces a start waits for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Awaited {
    /// All except optional ones.
    Needed,
    /// Whichever is up first: the settings do not say which one exists.
    Any,
    /// None: all are optional.
    Nothing,
}

impl Awaited {
    /// Without wired settings, the usual interface uses DHCP, whichever it is.
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

    /// The drop-in that limits systemd-networkd-wait-online.service(8). A unit without a cable is
    /// not a fault, so reaching the limit is not one either. `program` is its path in the image.
    pub(crate) fn limit(self, program: &str) -> String {
        let start = match self {
            Self::Nothing => "-/bin/true".to_owned(),
            Self::Any => format!("-{program} --any --timeout={PATIENCE}"),
            Self::Needed => format!("-{program} --timeout={PATIENCE}"),
        };
        format!("# Written by Pinewrit.\n[Service]\nExecStart=\nExecStart={start}\n")
    }
}

/// The possible paths of systemd-networkd's program for that.
pub(crate) const WAIT_PROGRAMS: [&str; 2] = [
    "/usr/lib/systemd/systemd-networkd-wait-online",
    "/lib/systemd/systemd-networkd-wait-online",
];
