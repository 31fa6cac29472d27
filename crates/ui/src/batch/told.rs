//! What a batch tells, in words and as events.

use std::sync::Mutex;

use crate::{MediumName, Ui, style, units, words};
use pinewrit_batch::{BatchEvent, Finished, Refusal, Slot, Tally, Trouble, Watcher};
use pinewrit_core::Observer;
use pinewrit_ledger::{Begun, JobKey};
use pinewrit_roster::UnitMedium;

use super::events::{
    ClosingEvent, LedgerEvent, LeftAloneEvent, SpooledEvent, UnitDoneEvent, UnitFailedEvent,
    UnitStartedEvent, UnitsEvent, WaitingEvent,
};
use super::screen::BenchScreen;

/// As many units are named in a line.
const MAX_NAMED: usize = 6;

/// Tells the user and programs.
pub struct Told {
    ui: Ui,
    screen: BenchScreen,
    time: fn(i64) -> String,
    has_terminal: bool,
    failed: Mutex<Vec<(String, String)>>,
}

impl Told {
    /// Tells on this user interface, ringing if something has happened; times are told by `time`.
    pub fn new(ui: Ui, bell: bool, time: fn(i64) -> String) -> Self {
        let screen = BenchScreen::new(ui, bell);
        Self {
            ui,
            has_terminal: screen.is_drawn(),
            screen,
            time,
            failed: Mutex::default(),
        }
    }

    /// Whether there is a screen.
    pub fn is_drawn(&self) -> bool {
        self.has_terminal
    }

    /// Takes everything off the screen but the lines.
    pub fn close(&self) {
        self.screen.close();
    }

    /// Media that failed: tag and why.
    pub fn failed(&self) -> Vec<(String, String)> {
        self.failed
            .lock()
            .unwrap_or_else(|e| e.into_inner())
            .clone()
    }

    fn begun(&self, begun: &Begun) {
        if !begun.is_resumed {
            return;
        }
        let names = |keys: &[JobKey]| -> Vec<String> { keys.iter().map(words::job).collect() };
        let (added, outdated) = (names(&begun.added), names(&begun.outdated));
        let dropped = names(&begun.dropped);
        for (units, what, next) in [
            (&added, "new in the roster", ""),
            (
                &outdated,
                "done, but changed in the roster since",
                "; --again UNIT makes one anew",
            ),
            (&dropped, "not in the roster any more", ""),
        ] {
            if !units.is_empty() {
                self.screen
                    .line(&format!("note: {what}: {}{next}", listed(units)));
            }
        }
        self.ui.event(&UnitsEvent {
            added,
            outdated,
            dropped,
        });
    }

    fn waiting(&self, next: Option<&JobKey>, tally: Tally) {
        self.ui.event(&WaitingEvent {
            unit: next.map(|key| key.unit.as_str()),
            role: next
                .map(|key| key.role.as_str())
                .filter(|role| !role.is_empty()),
            done: tally.done,
            held: tally.held,
            open: tally.open,
            failed: tally.failed,
        });
        let (strong, dim) = (style::STRONG, style::DIM);
        let prompt = match next {
            Some(key) if key.role.is_empty() => format!(
                "insert a card for {strong}{}{strong:#} into any free reader",
                key.unit
            ),
            Some(key) => format!(
                "insert the {} medium of {strong}{}{strong:#} into any free reader",
                key.role, key.unit
            ),
            None if tally.held > 0 => "no more cards are needed unless one fails".to_owned(),
            None => "all units are made".to_owned(),
        };
        let failed = match tally.failed {
            0 => String::new(),
            failed => format!(" · {failed} failed"),
        };
        let counts = format!(
            "{} done · {} in work · {} left{failed}",
            tally.done, tally.held, tally.open
        );
        self.screen.next(&format!("{dim}{counts}{dim:#}"), &prompt);
    }

    fn done(&self, slot: &Slot, key: &JobKey, finished: &Finished<'_>) {
        self.ui.event(&UnitDoneEvent {
            medium: name_of(slot),
            unit: &key.unit,
            role: &key.role,
            record: finished.record,
            seconds: finished.took.as_secs_f64(),
            not_ejected: finished.not_ejected.as_deref(),
            unsent: finished.is_unsent,
        });
        let good = style::GOOD;
        let next = match &finished.not_ejected {
            None => "pull it and label it".to_owned(),
            Some(why) => format!("it could not be ejected: {why}"),
        };
        let sent = match finished.is_unsent {
            true => "; its record waits for the ledger",
            false => "",
        };
        self.screen.call(&format!(
            "{good}done{good:#}    {:<8} is {}, {}: {next}{sent}",
            slot.tag,
            words::job(key),
            units::time(finished.took)
        ));
    }

    fn failed_one(&self, slot: &Slot, key: &JobKey, why: &str) {
        self.unit_failed(slot, key, why);
        let error = style::ERROR;
        self.screen.call(&format!(
            "{error}failed{error:#}  {:<8} {why}; {} waits for another card",
            slot.tag,
            words::job(key)
        ));
        let mut failed = self.failed.lock().unwrap_or_else(|e| e.into_inner());
        failed.push((slot.tag.clone(), why.to_owned()));
    }

    fn unit_failed(&self, slot: &Slot, key: &JobKey, why: &str) {
        self.ui.event(&UnitFailedEvent {
            medium: name_of(slot),
            unit: &key.unit,
            role: &key.role,
            why,
        });
    }

    fn refused(&self, slot: &Slot, refusal: &Refusal) {
        let (because, unit) = match refusal {
            Refusal::Verdict(_) => ("verdict", None),
            Refusal::Mounted(_) => ("mounted", None),
            Refusal::Bad(..) => ("bad", None),
            Refusal::Made(key, _) => ("made", Some(key.unit.clone())),
            Refusal::Holds(_, unit) => ("holds", unit.clone()),
            Refusal::NoJob => ("no-job", None),
            Refusal::Unreadable(_) => ("unreadable", None),
        };
        let mut why = words::refusal(&slot.tag, refusal, &|time| (self.time)(time));
        if because == "holds" && !self.has_terminal {
            why = why.replace(
                &format!("type {} to overwrite it", slot.tag),
                "skipped; --over any overwrites it",
            );
        }
        self.ui.event(&LeftAloneEvent {
            medium: name_of(slot),
            because,
            why: why.clone(),
            unit,
        });
        let warning = style::WARNING;
        let word = match refusal {
            Refusal::Made(..) => "made   ",
            Refusal::Holds(..) if self.has_terminal => "asks   ",
            Refusal::NoJob => "waits  ",
            _ => "skipped",
        };
        let text = format!("{warning}{word}{warning:#} {:<8} {why}", slot.tag);
        match refusal {
            Refusal::NoJob => self.screen.line(&text),
            _ => self.screen.call(&text),
        }
    }
}

fn name_of(slot: &Slot) -> MediumName {
    MediumName {
        medium: slot.path.display().to_string(),
        tag: Some(slot.tag.clone()),
    }
}

fn listed(units: &[String]) -> String {
    let shown: Vec<&str> = units.iter().take(MAX_NAMED).map(String::as_str).collect();
    match units.len() - shown.len() {
        0 => shown.join(", "),
        more => format!("{} and {more} more", shown.join(", ")),
    }
}

impl Watcher for Told {
    fn event(&self, event: &BatchEvent<'_>) {
        match event {
            BatchEvent::Begun(begun) => self.begun(begun),
            BatchEvent::Spooled(image, made) => {
                let why = made.as_ref().err().map(|error| words::why_no_spool(error));
                self.ui.event(&SpooledEvent {
                    image,
                    bytes: made.as_ref().ok().copied(),
                    why: why.clone(),
                });
                match (made, why) {
                    (Ok(bytes), _) if self.ui.verbose => {
                        let size = units::size(*bytes);
                        self.screen
                            .line(&format!("note: {image} is unpacked, {size} in use"));
                    }
                    (Err(pinewrit_batch::NoSpool::Plain), _) | (Ok(_), _) => {}
                    (_, Some(why)) => self
                        .screen
                        .line(&format!("note: each card unpacks {image} by itself: {why}")),
                    (Err(_), None) => {}
                }
            }
            BatchEvent::Waiting(next, tally) => self.waiting(*next, *tally),
            BatchEvent::Started(slot, key, medium) => self.started(slot, key, medium),
            BatchEvent::Done(slot, key, finished) => self.done(slot, key, finished),
            BatchEvent::Failed(slot, key, why) => self.failed_one(slot, key, why),
            BatchEvent::Lost(slot, key) => {
                let why = "another station makes it by now";
                self.unit_failed(slot, key, why);
                let (warning, unit) = (style::WARNING, words::job(key));
                self.screen.call(&format!(
                    "{warning}lost{warning:#}    {:<8} {unit}: {why}; this card has no table and can \
                     be used again",
                    slot.tag
                ));
            }
            BatchEvent::Twice(slot, key) => {
                let why = "another station makes it too: the ledger could not be reached in time";
                self.unit_failed(slot, key, why);
                let (error, unit) = (style::ERROR, words::job(key));
                self.screen.call(&format!(
                    "{error}twice{error:#}   {:<8} {unit}: {why}; keep one of the two cards",
                    slot.tag
                ));
            }
            BatchEvent::Refused(slot, refusal) => self.refused(slot, refusal),
            BatchEvent::Ledger(reached) => {
                let why = reached.err();
                self.ui.event(&LedgerEvent {
                    reached: why.is_none(),
                    why,
                });
                self.screen.call(&match why {
                    Some(why) => format!(
                        "note: the ledger cannot be reached ({why}); no new cards until it answers"
                    ),
                    None => "note: the ledger answers again".to_owned(),
                });
            }
            BatchEvent::Unsent(kept, lost) => {
                if *kept > 0 {
                    let count = units::counted(*kept as u64, "record");
                    self.screen.line(&format!(
                        "note: {count} kept here; pinewrit ledger sync sends them"
                    ));
                }
                if !lost.is_empty() {
                    self.screen.call(&format!(
                        "note: verified, but recorded nowhere, and will be made again: {}",
                        listed(lost)
                    ));
                }
            }
            BatchEvent::Closing(running) => {
                let running = *running;
                self.ui.event(&ClosingEvent { running });
                self.screen.line(&match running {
                    0 => "stopping".to_owned(),
                    _ => format!(
                        "no new cards; {running} in work are finished first (^C once more stops them)"
                    ),
                });
            }
        }
    }

    fn observer(&self, slot: &Slot, key: &JobKey) -> Box<dyn Observer + Send + '_> {
        Box::new(self.screen.row(&words::job(key), &slot.tag))
    }

    fn describe(&self, image: &str, medium: &str, trouble: &Trouble) -> String {
        let message = words::trouble(image, medium, trouble);
        let facts = message.rows();
        let what = message.what();
        let what = what.strip_prefix(medium).map_or(what, str::trim_start);
        let found = facts
            .iter()
            .find(|(name, _)| matches!(name.as_str(), "found" | "system" | "where"));
        match found {
            Some((_, fact)) => format!("{what} ({fact})"),
            None => what.to_owned(),
        }
    }
}

impl Told {
    fn started(&self, slot: &Slot, key: &JobKey, medium: &UnitMedium) {
        self.ui.event(&UnitStartedEvent {
            medium: name_of(slot),
            unit: &key.unit,
            role: &key.role,
        });
        if !self.has_terminal {
            let size = units::size(slot.size);
            let (unit, content) = (words::job(key), &medium.content);
            self.screen.line(&format!(
                "begins  {:<8} {size}, as {unit}: {content}",
                slot.tag
            ));
        }
    }
}
