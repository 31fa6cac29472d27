//! What the marks on a medium say about its size.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;

use crate::marks::{SECTOR, Session};

/// What a medium does with what lies past its real end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Beyond {
    /// It overwrites the start.
    Wraps,
    /// It takes it, and loses it.
    Loses,
    /// It answers with errors.
    Fails,
}

/// Whether a medium has the bytes that it claims.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "verdict")]
pub enum Capacity {
    /// All marks were where they belong.
    Real,
    /// It has fewer.
    Smaller {
        /// What it has, in bytes.
        real: u64,
        /// What is certain: everything up to here was there.
        proven: u64,
        /// What it does with the rest.
        beyond: Beyond,
    },
    /// It has them, except for some places.
    Bad(BadPlaces),
    /// It forgot what it had said was written when its power was cut.
    Forgets {
        /// How much of it, in bytes.
        bytes: u64,
    },
}

/// Places that do not keep what is written.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BadPlaces {
    /// Where the first is, in bytes.
    pub first: u64,
    /// How many of the places looked at.
    pub count: u64,
    /// What happens there.
    pub how: Option<Beyond>,
}

/// The most runs that are told apart: beyond them, a medium is bad enough.
const MOST_RUNS: usize = 100_000;

/// What was found in a sector.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Found {
    /// The mark that belongs there.
    Right,
    /// The mark of another place.
    Of(u64),
    /// Something else.
    Other,
    /// Neither reading nor writing succeeded.
    Error,
}

/// The sectors that have been looked at, in runs.
#[derive(Default)]
pub(crate) struct Look {
    /// Whether the runs that begin there are right, by their start in bytes.
    runs: BTreeMap<u64, Run>,
    /// The shortest distance between a sector and where its mark belongs.
    distance: Option<u64>,
}

#[derive(Clone, Copy)]
struct Run {
    end: u64,
    found: Kind,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Right,
    Lost,
    Error,
}

impl Look {
    /// Looks at sectors that were read at `offset`.
    pub(crate) fn at(&mut self, session: &Session, offset: u64, sectors: &[u8]) {
        let places = (offset..).step_by(SECTOR);
        for (place, sector) in places.zip(sectors.chunks(SECTOR)) {
            let found = match session.place_of(sector) {
                Some(of) if of == place => Found::Right,
                Some(of) => Found::Of(of),
                None => Found::Other,
            };
            self.note(place, found);
        }
    }

    /// Notes what was found at a place; later notes replace earlier ones of the same run.
    pub(crate) fn note(&mut self, place: u64, found: Found) {
        let kind = match found {
            Found::Right => Kind::Right,
            Found::Of(of) => {
                let far = of.abs_diff(place);
                self.distance = Some(self.distance.map_or(far, |least| least.min(far)));
                Kind::Lost
            }
            Found::Other => Kind::Lost,
            Found::Error => Kind::Error,
        };
        let end = place + SECTOR as u64;
        let are_many = self.runs.len() >= MOST_RUNS;
        if let Some((_, last)) = self.runs.range_mut(..place).next_back()
            && (last.end == place && last.found == kind || are_many)
        {
            last.end = end;
            if last.found == Kind::Right {
                last.found = kind;
            }
            return;
        }
        self.runs.insert(place, Run { end, found: kind });
    }

    /// Bytes that were looked at and are right.
    pub(crate) fn right(&self) -> u64 {
        let right = self.runs.iter().filter(|(_, run)| run.found == Kind::Right);
        right.map(|(start, run)| run.end - start).sum()
    }

    /// Between which two places the real end lies, if everything from some place on is bad: the end
    /// of what is right, and the start of what is not.
    pub(crate) fn edge(&self) -> Option<(u64, u64)> {
        let (_, last) = self.runs.last_key_value()?;
        if last.found == Kind::Right {
            return None;
        }
        let right = self.runs.iter().rev();
        let mut right = right.skip_while(|(_, run)| run.found != Kind::Right);
        let good = right.next().map_or(0, |(_, run)| run.end);
        let bad = self.runs.range(good..).next().map(|(start, _)| *start)?;
        Some((good, bad))
    }

    /// What it means for a medium that claims `size` bytes.
    pub(crate) fn verdict(&self, size: u64, proven: Option<u64>) -> Capacity {
        if let Some(real) = self.distance.filter(|&distance| distance < size) {
            return Capacity::Smaller {
                real,
                proven: real,
                beyond: Beyond::Wraps,
            };
        }
        if let Some((good, bad)) = self.edge() {
            let rest = self.runs.range(bad..);
            let mut rest = rest.map(|(_, run)| run.found);
            let fails = rest.all(|found| found == Kind::Error);
            return Capacity::Smaller {
                real: good,
                proven: proven.unwrap_or(good),
                beyond: if fails { Beyond::Fails } else { Beyond::Loses },
            };
        }
        let mut bad = self.runs.iter().filter(|(_, run)| run.found != Kind::Right);
        let Some((first, run)) = bad.next() else {
            return Capacity::Real;
        };
        Capacity::Bad(BadPlaces {
            first: *first,
            count: 1 + bad.count() as u64,
            how: Some(match run.found {
                Kind::Error => Beyond::Fails,
                _ => Beyond::Loses,
            }),
        })
    }
}
