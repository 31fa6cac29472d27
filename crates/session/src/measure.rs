//! What a measurement has left: marks on a medium if it was cut off, and how fast the medium is.

use std::path::PathBuf;

use pinewrit_disk::BlockDevice;
use pinewrit_host::MediumFacts;
use pinewrit_measure::{Link, Part, Recovery, TimeEstimate, recover};
use pinewrit_ui::{Message, style, units, words};

use crate::Context;

/// How many are kept for one medium's name: several cards take turns in a reader.
const MOST: u32 = 8;

fn places(cx: &Context, key: &str) -> Vec<PathBuf> {
    let Some(state) = cx.folders.state_if_any() else {
        return Vec::new();
    };
    (1..=MOST).map(|nth| state.kept(key, nth)).collect()
}

/// Puts back what was on the medium before, and determines where the next measurement keeps it.
pub fn settle(
    cx: &Context,
    (name, key): (&str, &str),
    device: &dyn BlockDevice,
) -> Result<Option<PathBuf>, Message> {
    let mut free = None;
    let mut last = None;
    for path in places(cx, key) {
        let recovered = recover(&path, device);
        match recovered.map_err(|e| words::measure::measure_error(name, &e))? {
            Recovery::Nothing => {}
            Recovery::Elsewhere => {
                last = Some(path);
                continue;
            }
            Recovery::PutBack(bytes) => {
                let (style, bytes) = (style::WARNING, units::size(bytes));
                cx.ui.say(format!(
                    "{style}note:{style:#} {name} was being measured when that was interrupted: {bytes} were put \
                     back; it is as it was before\n"
                ));
            }
        }
        free.get_or_insert(path);
    }
    if free.is_none()
        && let Some(path) = &last
    {
        // The last one was abandoned.
        let _ = std::fs::remove_file(path);
    }
    Ok(free.or(last))
}

/// Warns that a medium that is only read has marks on it.
pub fn tell_interrupted(cx: &Context, (name, key): (&str, &str)) {
    if places(cx, key).iter().any(|path| path.exists()) {
        let style = style::WARNING;
        cx.ui.say(format!(
            "{style}note:{style:#} a measurement of {name} was interrupted; the next command that changes it \
             puts back what was there\n"
        ));
    }
}

/// How fast a medium will be in its reader, in bytes a second.
pub struct Pace {
    /// Writing.
    pub write: f64,
    /// Reading.
    pub read: f64,
    /// How that is known, in words.
    pub how: String,
}

impl Pace {
    /// The links that end at the medium.
    pub fn links(&self, bytes: u64, reads_back: bool) -> Vec<Link> {
        let mut links = vec![Link::new(Part::Write, bytes, self.write)];
        if reads_back {
            links.push(Link::new(Part::ReadBack, bytes, self.read));
        }
        links
    }

    /// What writing so many bytes takes as far as the medium decides, in seconds and in words.
    pub fn expected(&self, bytes: u64, reads_back: bool) -> (f64, String) {
        let seconds = TimeEstimate::of(self.links(bytes, reads_back)).seconds;
        (
            seconds,
            words::measure::expected(seconds, self.write, &self.how),
        )
    }
}

/// What is known of each medium; its bus may be slower. If only writing or reading is known, the other
/// is taken to be as fast.
pub fn paces(cx: &Context, media: &[&MediumFacts]) -> Vec<Option<Pace>> {
    let known = cx.known_speeds(media).into_iter().zip(media);
    let paces = known.map(|(known, facts)| {
        let known = known?;
        let either = known.write.or(known.read)?;
        let (bus, limit) = facts
            .identity
            .carries()
            .unwrap_or((String::new(), u64::MAX));
        let (write, read) = (known.write.unwrap_or(either), known.read.unwrap_or(either));
        let how = words::measure::how_known(known.source);
        let bus = match write > limit || read > limit {
            true => format!(", and no more than {bus} gives"),
            false => String::new(),
        };
        Some(Pace {
            write: write.min(limit) as f64,
            read: read.min(limit) as f64,
            how: format!("{how}{bus}"),
        })
    });
    paces.collect()
}
