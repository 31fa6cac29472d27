//! Exit codes, which scripts rely on.

use std::process::ExitCode;

/// How a command ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Exit {
    /// It did what was requested.
    Done,
    /// A fault of the program.
    Internal,
    /// The arguments are wrong.
    Usage,
    /// It would do harm, or the user declined.
    Refused,
    /// The image, archive or server failed.
    Source,
    /// The medium failed.
    Medium,
    /// What was compared differs.
    Differences,
    /// A settings file, layout, roster, board or rack file has mistakes.
    Settings,
    /// What was looked for is not there.
    NotFound,
    /// Stopped by the user.
    Interrupted,
}

impl Exit {
    /// The number that the process ends with.
    pub fn code(self) -> u8 {
        match self {
            Self::Done => 0,
            Self::Internal => 1,
            Self::Usage => 2,
            Self::Refused => 3,
            Self::Source => 4,
            Self::Medium => 5,
            Self::Differences => 6,
            Self::Settings => 7,
            Self::NotFound => 8,
            Self::Interrupted => 130,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}
