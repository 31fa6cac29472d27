//! What is printed on media, and what it asks for (SD Physical Layer Specification: speed class,
//! UHS speed grade, video speed class, application performance class).

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::speed::SpeedReport;

/// Bytes a second of "1x": the speed of an audio disc.
const X: f64 = 150_000.0;
const MB: f64 = 1e6;

/// A rating as it is printed on a medium.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Rating {
    /// Speed class `C2` to `C10`: writing, in MB/s.
    Class(u32),
    /// UHS speed grade `U1` and `U3`: writing, in 10 MB/s.
    Grade(u32),
    /// Video speed class `V6` to `V90`: writing, in MB/s.
    Video(u32),
    /// Application performance class `A1` and `A2`: requests of 4 KiB, and 10 MB/s writing.
    Application(u32),
    /// `100x`: reading, in 150 kB/s.
    Times(u32),
}

/// A text that is no rating.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "{0:?} is no rating; those are C2, C4, C6, C10, U1, U3, V6, V10, V30, V60, V90, A1, A2, and such as 100x"
)]
pub struct RatingError(String);

impl FromStr for Rating {
    type Err = RatingError;

    fn from_str(text: &str) -> Result<Self, RatingError> {
        let wrong = || RatingError(text.to_owned());
        let lower = text.trim().to_ascii_lowercase();
        if let Some(times) = lower.strip_suffix('x') {
            let times = times.parse().ok().filter(|&times| times > 0);
            return times.map(Self::Times).ok_or_else(wrong);
        }
        let number = lower.get(1..).and_then(|number| number.parse().ok());
        match (lower.chars().next(), number) {
            (Some('c'), Some(class @ (2 | 4 | 6 | 10))) => Ok(Self::Class(class)),
            (Some('u'), Some(grade @ (1 | 3))) => Ok(Self::Grade(grade)),
            (Some('v'), Some(class @ (6 | 10 | 30 | 60 | 90))) => Ok(Self::Video(class)),
            (Some('a'), Some(class @ (1 | 2))) => Ok(Self::Application(class)),
            _ => Err(wrong()),
        }
    }
}

impl fmt::Display for Rating {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Class(class) => write!(f, "C{class}"),
            Self::Grade(grade) => write!(f, "U{grade}"),
            Self::Video(class) => write!(f, "V{class}"),
            Self::Application(class) => write!(f, "A{class}"),
            Self::Times(times) => write!(f, "{times}x"),
        }
    }
}

/// What a rating asks for, and what was measured.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Shortfall {
    /// The rating.
    pub rating: Rating,
    /// What it is about.
    pub of: Asked,
    /// What it asks for, in bytes or requests a second.
    pub asked: f64,
    /// What was measured; `None` if nothing was written.
    pub found: Option<f64>,
}

/// What a rating is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Asked {
    /// Reading one after the other, in bytes a second.
    Read,
    /// Writing one after the other, in bytes a second.
    Write,
    /// Requests of 4 KiB anywhere a second.
    ReadAnywhere,
    /// Requests of 4 KiB anywhere a second.
    WriteAnywhere,
}

impl Shortfall {
    /// Whether the medium keeps what the rating promises.
    pub fn is_kept(&self) -> Option<bool> {
        self.found.map(|found| found >= self.asked)
    }
}

/// Compares what was measured with a rating.
pub fn judge(rating: Rating, report: &SpeedReport) -> Vec<Shortfall> {
    let found = |asked: Asked| match asked {
        Asked::Read => Some(report.read.rate),
        Asked::Write => report.write.as_ref().map(|write| write.sustained),
        Asked::ReadAnywhere => Some(report.read_anywhere.per_second),
        Asked::WriteAnywhere => report.write_anywhere.map(|write| write.per_second),
    };
    let asked: Vec<(Asked, f64)> = match rating {
        Rating::Class(mb) | Rating::Video(mb) => vec![(Asked::Write, f64::from(mb) * MB)],
        Rating::Grade(tens) => vec![(Asked::Write, f64::from(tens) * 10.0 * MB)],
        Rating::Times(times) => vec![(Asked::Read, f64::from(times) * X)],
        Rating::Application(class) => {
            let (read, write) = match class {
                1 => (1500.0, 500.0),
                _ => (4000.0, 2000.0),
            };
            vec![
                (Asked::ReadAnywhere, read),
                (Asked::WriteAnywhere, write),
                (Asked::Write, 10.0 * MB),
            ]
        }
    };
    let each = asked.into_iter().map(|(of, asked)| Shortfall {
        rating,
        of,
        asked,
        found: found(of),
    });
    each.collect()
}
