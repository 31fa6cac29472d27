//! Exit codes, which scripts rely on.

use std::process::ExitCode;

/// How a command ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    Done,
    Internal,
    Usage,
    Refused,
    Source,
    Medium,
    Differences,
    Settings,
    Interrupted,
}

impl Exit {
    pub(crate) fn code(self) -> u8 {
        match self {
            Self::Done => 0,
            Self::Internal => 1,
            Self::Usage => 2,
            Self::Refused => 3,
            Self::Source => 4,
            Self::Medium => 5,
            Self::Differences => 6,
            Self::Settings => 7,
            Self::Interrupted => 130,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}
